"""Fills: recipes for new pixels. One record a kind; `gommage.core.fill` has the recipe of each that is known yet."""

from __future__ import annotations

from enum import StrEnum

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.painting import Blend, Source
from gommage.core.document.records.shapes import Shape
from gommage.core.document.records.times import Frames, Keyed

__all__ = ["Borrow", "DonorSide", "Donors", "Fill", "Painted", "Placed", "Plates", "Rim", "Span", "Stretch", "Texture"]


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


class Borrow(Record, frozen=True, tag="borrow"):
    """The same shot from beside or from another frame."""

    source: Source = Source()


class Stretch(Record, frozen=True):
    """A piece of a span's line, by shares of its length, with settings of its own."""

    first: float
    last: float
    width_px: float
    reach_px: float


class Span(Record, frozen=True, tag="span"):
    """A line with a width: the gap is closed from both sides."""

    line: Shape
    surface_id: str = ""
    width_px: Keyed = 4.0
    reach_px: Keyed = 8.0
    stretches: tuple[Stretch, ...] = ()


class Rim(Record, frozen=True, tag="rim"):
    """Surroundings grown inwards; `evenness` is found by itself where it is None."""

    evenness: float | None = None


class Texture(Record, frozen=True, tag="texture"):
    """A hole in a still closed with matching patches of the same picture; lines that must go through guide it."""

    guides: tuple[Shape, ...] = ()
    proposal: int = 0


class Placed(Record, frozen=True, tag="picture"):
    """A picture from elsewhere, its corners (4, 2) laid on the surface in home-frame pixels."""

    path: str
    corners: Array
    colour_space: str = ""
    blend: Blend = Blend.OVER

    def __post_init__(self) -> None:
        as_arrays(self, "corners")


Fill = Plates | Donors | Painted | Borrow | Span | Rim | Texture | Placed
