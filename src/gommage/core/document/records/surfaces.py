"""Surfaces: how they are followed, what was measured, what was corrected."""

from __future__ import annotations

from enum import StrEnum
from typing import Self

import numpy as np
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.shapes import Matte
from gommage.core.document.records.times import FrameRange
from gommage.core.geometry import Mapping, box_of, from_matrix, is_quad

__all__ = [
    "NOT_SEEN",
    "Aim",
    "ByHand",
    "Channel",
    "How",
    "MotionModel",
    "Pin",
    "PlaneFollow",
    "PointsFollow",
    "ScenePlane",
    "Spot",
    "SpotPath",
    "Still",
    "Surface",
    "Track",
]

NOT_SEEN = "not seen"
"""The reason of frames between a loss and the place where a surface was found again: nothing lies there."""
SPOT_MARGIN_PX = 16.0
"""A surface of points is taken to reach this far beyond them."""


class MotionModel(StrEnum):
    """How much a surface may move, from the least to the most."""

    SHIFT = "shift"
    SHIFT_SCALE = "shift and scale"
    SHIFT_TURN = "shift and turn"
    SIMILARITY = "similarity"
    AFFINE = "affine"
    PERSPECTIVE = "perspective"


class Channel(StrEnum):
    """What of the picture a follow looks at; `BEST` is chosen from the data."""

    BEST = "best"
    LUMINANCE = "luminance"
    RED = "red"
    GREEN = "green"
    BLUE = "blue"


class Track(Record, frozen=True):
    """What was measured of a surface on every frame of an unbroken range.

    Attributes
    ----------
    first_frame : int
        Frame of the first row of the arrays.
    home_to_frame : Array
        (N, 3, 3) float64: takes home-frame pixels to pixels of the frame.
    corner_slip_px : Array
        (N, 4) expected error of each of the surface's corners, in pixels.
    certainty : Array
        (N,) 0 to 1: how well the picture agrees with the home frame.
    reasons : tuple of str
        For each frame, why it may be off, in words; empty where there is nothing to say.
    before, after : str
        Why the follow went no further towards the start and the end, in words; empty at the shot's ends.
    """

    first_frame: int
    home_to_frame: Array
    corner_slip_px: Array
    certainty: Array
    reasons: tuple[str, ...]
    before: str = ""
    after: str = ""

    def __post_init__(self) -> None:
        as_arrays(self, "home_to_frame", "corner_slip_px", "certainty")
        count = len(self.certainty)
        shapes = self.home_to_frame.values.shape, self.corner_slip_px.values.shape, len(self.reasons)
        if shapes != ((count, 3, 3), (count, 4), count) or count < 1:
            raise ValueError(f"a track needs a matrix, four slips, a certainty and a reason a frame, got {shapes}")
        if not (np.isfinite(self.home_to_frame.values).all() and np.isfinite(self.corner_slip_px.values).all()):
            raise ValueError("a track's matrices and slips must be finite numbers")

    @property
    def frames(self) -> FrameRange:
        """The frames that were followed."""
        return FrameRange(first=self.first_frame, last=self.first_frame + len(self.certainty) - 1)

    def row(self, frame: int) -> NDArray[np.float64]:
        """Return the measured motion (3, 3) of a frame.

        Raises
        ------
        ValueError
            If the frame was not followed, or the surface was not seen on it.
        """
        if frame not in self.frames:
            raise ValueError(f"frame {frame} was not followed ({self.frames.first}–{self.frames.last} were)")
        if self.reasons[frame - self.first_frame] == NOT_SEEN:
            raise ValueError(f"the surface was not seen on frame {frame}")
        found: NDArray[np.float64] = self.home_to_frame.values[frame - self.first_frame]
        return found

    def mapping(self, frame: int) -> Mapping:
        """Return the measured motion of a frame as a mapping; see `row`."""
        return from_matrix(self.row(frame))

    def part(self, frames: FrameRange) -> Self:
        """Return the track of some of its frames; ends that were cut have no reason."""
        own = self.frames
        low, high = frames.first - own.first, frames.last - own.first + 1
        if low < 0 or high > len(self.certainty):
            raise ValueError(f"frames {frames.first}–{frames.last} are not within {own.first}–{own.last}")
        return type(self)(
            first_frame=frames.first,
            home_to_frame=Array(self.home_to_frame.values[low:high]),
            corner_slip_px=Array(self.corner_slip_px.values[low:high]),
            certainty=Array(self.certainty.values[low:high]),
            reasons=self.reasons[low:high],
            before=self.before if low == 0 else "",
            after=self.after if high == len(self.certainty) else "",
        )


class PlaneFollow(Record, frozen=True, tag="plane"):
    """A flat piece, followed as a whole by what is inside its areas.

    Attributes
    ----------
    areas, keep_outs : Matte
        What is looked at, and what of it is left out. A part that rides on the surface itself moves along; one
        without a surface stays where it is in the picture, and what passes through it is followed.
    leaves_out_front : bool
        Whether covers of fixes and areas of surfaces that are listed in front are left out too.
    """

    areas: Matte
    keep_outs: Matte = Matte()
    leaves_out_front: bool = True
    motion: MotionModel = MotionModel.PERSPECTIVE
    channel: Channel = Channel.BEST

    def __post_init__(self) -> None:
        if not self.areas.drawn:
            raise ValueError("a plane needs at least one area")


class Aim(Record, frozen=True):
    """From which frame on a spot is followed by another feature, and what is added to that one's position.

    Attributes
    ----------
    x, y : float
        The feature, in pixels of the frame.
    dx, dy : float
        From the feature to the spot.
    """

    frame: int
    x: float
    y: float
    dx: float = 0.0
    dy: float = 0.0


class SpotPath(Record, frozen=True):
    """Where a spot was found: (N, 2) frame pixels and (N,) certainty, 0 where it is hidden."""

    first_frame: int
    positions: Array
    certainty: Array

    def __post_init__(self) -> None:
        as_arrays(self, "positions", "certainty")
        if self.positions.values.shape != (len(self.certainty), 2) or not np.isfinite(self.positions.values).all():
            raise ValueError(f"a spot's path needs a finite position a frame, got {self.positions.values.shape}")


class Spot(Record, frozen=True):
    """A small feature that is followed.

    Attributes
    ----------
    x, y : float
        Where it is on the home frame, in pixels.
    pattern_px, search_px : float
        Side of the square that is compared, and how far around the expected place it is looked for; 0: chosen from
        the texture and the motion.
    """

    id: str
    x: float
    y: float
    pattern_px: float = 0.0
    search_px: float = 0.0
    aims: tuple[Aim, ...] = ()
    path: SpotPath | None = None


class PointsFollow(Record, frozen=True, tag="points"):
    """One, two, three, four or more spots; the surface moves as they do together.

    Attributes
    ----------
    motion : MotionModel or None
        None: what the number of spots allows.
    is_refreshed : bool
        Whether a pattern is taken anew when it does not look as it did any more; otherwise the first one is kept.
    """

    spots: tuple[Spot, ...]
    motion: MotionModel | None = None
    is_refreshed: bool = True

    def __post_init__(self) -> None:
        if not self.spots:
            raise ValueError("a surface of points needs at least one spot")


class Still(Record, frozen=True, tag="still"):
    """A camera that stands: the surface never moves. `corners` (4, 2) say which part of the picture it is."""

    corners: Array

    def __post_init__(self) -> None:
        as_arrays(self, "corners")


class ByHand(Record, frozen=True, tag="by hand"):
    """Four corners (4, 2) on the home frame, keyed by pins on others."""

    corners: Array

    def __post_init__(self) -> None:
        as_arrays(self, "corners")


class ScenePlane(Record, frozen=True, tag="scene plane"):
    """A plane of the scene that the shot's camera was solved in; it moves as the camera says.

    Attributes
    ----------
    outline : Array
        (N, 2) what of it is known, home-frame pixels.
    plane : Array
        (3,) inverse depth before the camera of the home frame, linear in the direction (x, y, 1) there: the plane is
        where ``1 / z = plane @ (x, y, 1)``.
    unsure : Array
        (3, 3) covariance of these numbers.
    """

    outline: Array
    plane: Array
    unsure: Array

    def __post_init__(self) -> None:
        as_arrays(self, "outline", "plane", "unsure")
        shapes = self.plane.values.shape, self.unsure.values.shape, self.outline.values.shape[1:]
        if shapes != ((3,), (3, 3), (2,)) or len(self.outline.values) < 3:
            raise ValueError(f"a scene plane needs an outline, three numbers and their covariance, got {shapes}")


How = PlaneFollow | PointsFollow | Still | ByHand | ScenePlane


class Pin(Record, frozen=True):
    """A correction by hand: points of the surface and where they belong on one frame.

    Attributes
    ----------
    home, placed : Array
        (K, 2) home-frame pixels, and (K, 2) pixels of the frame; one point shifts, two also turn and scale, three
        also shear, four also give perspective.
    """

    frame: int
    home: Array
    placed: Array

    def __post_init__(self) -> None:
        as_arrays(self, "home", "placed")
        shapes = self.home.values.shape, self.placed.values.shape
        if shapes[0] != shapes[1] or shapes[0] not in ((1, 2), (2, 2), (3, 2), (4, 2)):
            raise ValueError(f"a pin holds one to four points and their places, got {shapes}")
        if not (np.isfinite(self.home.values).all() and np.isfinite(self.placed.values).all()):
            raise ValueError("a pin's points must be finite numbers")


class Surface(Record, frozen=True):
    """Something in the shot that moves as one.

    Attributes
    ----------
    extent : Matte
        The part of the picture that belongs to it, where several lie behind one thing; without parts: all.
    rides_on : str
        Id of the surface that its motion is relative to; empty: the picture.
    track : Track or None
        What was measured, relative to what it rides on and without pins; where the surface is after both is
        `gommage.core.document.placement`.
    pins : tuple of Pin
        In the order of their frames.
    moves_by_itself : bool
        Whether it is no part of the set: where the camera is solved, it is not looked at.
    """

    id: str
    name: str
    home_frame: int
    how: How
    extent: Matte = Matte()
    rides_on: str = ""
    track: Track | None = None
    pins: tuple[Pin, ...] = ()
    moves_by_itself: bool = False

    def __post_init__(self) -> None:
        frames = [pin.frame for pin in self.pins]
        if frames != sorted(set(frames)):
            raise ValueError(f"pins must be in the order of their frames, got {frames}")

    @property
    def outline(self) -> NDArray[np.float64]:
        """What is seen of it on its home frame: (N, 2) home-frame pixels."""
        match self.how:
            case PlaneFollow(areas=areas):
                return areas.shapes[0].points_at(self.home_frame)
            case PointsFollow(spots=spots):
                return box_of(np.array([(spot.x, spot.y) for spot in spots]), SPOT_MARGIN_PX)
            case Still(corners=corners) | ByHand(corners=corners):
                return corners.values
            case ScenePlane(outline=outline):
                return outline.values

    @property
    def corners(self) -> NDArray[np.float64]:
        """Its four corners on the home frame, (4, 2): the outline's own if they span a plane, or those of its box."""
        outline = self.outline
        return outline if len(outline) == 4 and is_quad(outline) else box_of(outline)
