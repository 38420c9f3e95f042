"""Fills: recipes for new pixels. One record a kind; `gommage.core.fill` has the recipe of each that is known yet."""

from __future__ import annotations

from enum import StrEnum

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.footage import Footage
from gommage.core.document.records.painting import Blend, FrameOffset, SourceTime
from gommage.core.document.records.shapes import Matte
from gommage.core.document.records.times import Frames, Keyed

__all__ = [
    "Borrow",
    "ClosedFrom",
    "DonorSide",
    "Donors",
    "Fill",
    "Painted",
    "Place",
    "Placed",
    "Plates",
    "Rim",
    "Span",
    "Stretch",
    "Texture",
]

STEADIED_BY = 2
SPAN_REACH_PX = 0.5
"""So far off the rim of a line, as wide as it shows, nothing of it is left."""


class Plates(Record, frozen=True, tag="clean plates"):
    """Clean plates carried along the surface, each strongest near its home frame."""

    plate_ids: tuple[str, ...] = ()


class DonorSide(StrEnum):
    """On which side of the frame that is filled its donors lie."""

    BOTH = "both"
    BEFORE = "before"
    AFTER = "after"


class Donors(Record, frozen=True, tag="donor frames"):
    """Background seen on other frames, brought along the surfaces behind the thing.

    Attributes
    ----------
    surface_ids : tuple of str
        Back to front: the backmost is everywhere, those in front of it within their extents. None: each piece of the
        cover is looked for by itself on the nearest frames, by what is around it; for damage of a frame or two.
    frames : tuple of Frames
        That may be taken from; none: all.
    side : DonorSide
    step : int
        Every so many frames, counted from the one that is filled.
    reach_px : float
        How far the motion that the surfaces leave unexplained may be.
    rest_plate_ids : tuple of str
        Clean plates that fill what no frame shows.
    """

    surface_ids: tuple[str, ...] = ()
    frames: tuple[Frames, ...] = ()
    side: DonorSide = DonorSide.BOTH
    step: int = 1
    reach_px: float = 1.0
    rest_plate_ids: tuple[str, ...] = ()


class Painted(Record, frozen=True, tag="strokes"):
    """Nothing but what lies below: the fix is its touch-up strokes."""


class Place(Record, frozen=True):
    """Where something is borrowed from.

    Attributes
    ----------
    part_id : str
        The part of the cover that it holds for; empty: all that have no place of their own.
    dx, dy : Keyed
        So many pixels to the right and down from where it is laid; along the surface in home-frame pixels.
    turn_deg, scale : Keyed
        The source turned about the middle of what is covered, and made larger.
    is_mirrored : bool
        Left to right.
    time : SourceTime
        On which frame.
    runs_along : bool
        Whether it moves with the surface, and another frame is brought into register by it.
    """

    part_id: str = ""
    dx: Keyed = 0.0
    dy: Keyed = 0.0
    turn_deg: Keyed = 0.0
    scale: Keyed = 1.0
    is_mirrored: bool = False
    time: SourceTime = FrameOffset()
    runs_along: bool = True


class Borrow(Record, frozen=True, tag="borrow"):
    """The same shot from beside or from another frame.

    Attributes
    ----------
    places : tuple of Place
        One a part at most, and one for all others.
    is_lit : bool
        Whether each piece is brought to the light around it.
    """

    places: tuple[Place, ...] = (Place(),)
    is_lit: bool = True

    def place_of(self, part_id: str) -> Place:
        """Return where a part is borrowed from."""
        own = next((one for one in self.places if one.part_id == part_id), None)
        return own or next((one for one in self.places if not one.part_id), Place())


class ClosedFrom(StrEnum):
    """From which side of a line it is closed; left and right as one goes along it."""

    BOTH = "both"
    LEFT = "left"
    RIGHT = "right"


class Stretch(Record, frozen=True):
    """A piece of a line that is closed in a way of its own.

    Attributes
    ----------
    part_id : str
        Of the cover, whose line it is.
    first, last : float
        Where on the line, by shares of its length.
    width_px, softness_px : float or None
        How wide the line is there, and how soft its rim; None: as it is.
    left_px, right_px : float
        How far off the line's rim pixels are taken, on either side.
    closed_from : ClosedFrom
    """

    part_id: str
    first: float
    last: float
    width_px: float | None = None
    softness_px: float | None = None
    left_px: float = SPAN_REACH_PX
    right_px: float = SPAN_REACH_PX
    closed_from: ClosedFrom = ClosedFrom.BOTH

    def __post_init__(self) -> None:
        if not 0 <= self.first < self.last <= 1:
            raise ValueError(f"a stretch lies between shares of its line, got {self.first} to {self.last}")
        if min(self.width_px or 0, self.softness_px or 0, self.left_px, self.right_px) < 0:
            raise ValueError("a stretch's width, softness and reach cannot be below 0")


class Span(Record, frozen=True, tag="span"):
    """The open lines of the cover, each closed from its sides.

    Attributes
    ----------
    left_px, right_px : Keyed
        How far off a line's rim pixels are taken, on either side.
    closed_from : ClosedFrom
    stretches : tuple of Stretch
        Where it is otherwise; later ones on top.
    """

    left_px: Keyed = SPAN_REACH_PX
    right_px: Keyed = SPAN_REACH_PX
    closed_from: ClosedFrom = ClosedFrom.BOTH
    stretches: tuple[Stretch, ...] = ()


class Rim(Record, frozen=True, tag="rim"):
    """Surroundings grown inwards; `evenness` is found by itself where it is None.

    On a followed surface what they show on `steadied_by` frames before and after counts as well.
    """

    evenness: float | None = None
    steadied_by: int = STEADIED_BY


class Texture(Record, frozen=True, tag="texture"):
    """What is covered in a still, closed with matching pieces of the same picture.

    Attributes
    ----------
    home_frame : int or None
        The frame that is the still; None: that of the surface, or the one in the middle.
    guides : Matte
        Lines that must go through, open.
    take_from : Matte
        Where pieces may be taken from; if it begins with a part that subtracts, everywhere else. Empty: everywhere.
    proposal : int
        0 is what fits best by itself, each other number something else.
    is_square_on : bool
        Whether it is done on the surface without perspective, so that pieces keep their size on it.
    is_draft : bool
        Whether pieces are found at a fraction of the size alone, for a first look.
    """

    home_frame: int | None = None
    guides: Matte = Matte()
    take_from: Matte = Matte()
    proposal: int = 0
    is_square_on: bool = True
    is_draft: bool = False

    @property
    def mattes(self) -> tuple[Matte, ...]:
        """Its mattes."""
        return self.guides, self.take_from


class Placed(Record, frozen=True, tag="picture"):
    """A picture laid on the surface: from files, or a frame of the shot itself.

    Attributes
    ----------
    footage : Footage or None
        Its files; None: the shot.
    corners : Array
        (4, 2), from the top left on clockwise: where its corners are laid, in home-frame pixels of the surface, or on
        the frame if it does not run along. Of the shot, where those of the home frame are laid: a frame of it lies in
        register as long as they are the home frame's own.
    time : SourceTime
        Which of its frames is laid.
    runs_along : bool
        Whether it moves with the surface.
    blend : Blend
        How it meets what lies below, in linear light.
    is_of_shot : bool
        Whether it shows the shot, changed or not: then its light and sharpness are measured by what is around the
        cover, and it has the shot's grain already.
    subject : Matte
        What of it is laid, by scribbles in its own pixels; empty: all of it.
    outline_id : str
        The part of the cover that is its outline, and comes along until it is reshaped.
    """

    corners: Array
    footage: Footage | None = None
    time: SourceTime = FrameOffset()
    runs_along: bool = True
    blend: Blend = Blend.OVER
    is_of_shot: bool = False
    subject: Matte = Matte()
    outline_id: str = ""

    def __post_init__(self) -> None:
        as_arrays(self, "corners")

    @property
    def mattes(self) -> tuple[Matte, ...]:
        """Its mattes."""
        return (self.subject,)


Fill = Plates | Donors | Painted | Borrow | Span | Rim | Texture | Placed
