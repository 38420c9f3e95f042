"""The records of a project. Frozen, hashable, without cycles: a project is a value.

Coordinates are continuous, x right, y down, the first pixel covers [0, 1) x [0, 1). What is drawn on a
surface is stored in pixels of the surface's home frame; strokes on a clean plate in pixels of that plate.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from enum import StrEnum
from fractions import Fraction
from itertools import pairwise
from typing import Self, TypeVar

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from gommage.core.document.arrays import Array

__all__ = [
    "NOT_SEEN",
    "SCHEMA_VERSION",
    "Aim",
    "Area",
    "ByHand",
    "Channel",
    "CleanPlate",
    "CleanPlateFill",
    "Cover",
    "Fix",
    "Footage",
    "Frames",
    "How",
    "Match",
    "MotionModel",
    "Pin",
    "PlaneFollow",
    "PointsFollow",
    "Project",
    "Record",
    "Shape",
    "ShapeKey",
    "Shot",
    "Source",
    "Spot",
    "SpotPath",
    "Still",
    "Stroke",
    "Surface",
    "Tool",
    "Track",
    "new_id",
]

SCHEMA_VERSION = 2


def new_id() -> str:
    """Return a short random name for a record."""
    return secrets.token_hex(4)


class Record(Struct, frozen=True, kw_only=True, cache_hash=True, forbid_unknown_fields=True):
    """Base of all records: frozen, compared by content, hashed once."""


class Frames(Record, frozen=True):
    """A range of frames, both ends included."""

    first: int
    last: int

    def __post_init__(self) -> None:
        if self.last < self.first:
            raise ValueError(f"frames run from {self.first} to {self.last}; the last must not come first")

    def __contains__(self, frame: int) -> bool:
        return self.first <= frame <= self.last

    def __len__(self) -> int:
        return self.last - self.first + 1

    def __iter__(self) -> Iterator[int]:
        return iter(range(self.first, self.last + 1))


class Footage(Record, frozen=True):
    """Where a shot's plate comes from and how its files are to be understood.

    Attributes
    ----------
    path : str
        A movie's path, or a numbered sequence's pattern with one run of ``#`` for the number
        (``label.####.exr``). Absolute, or relative to the project's folder.
    frames : Frames
        First and last frame number, as in the file names (a movie counts from 1).
    missing : tuple of int
        Frames between first and last that have no file.
    width, height : int
        Pixels.
    rate : tuple of int
        Frames per second as numerator and denominator.
    pixel_aspect : float
        Width of a pixel over its height.
    colour_space : str
        Name of the files' colour space in the colour configuration.
    keep_alpha : bool
        Whether the files' alpha is carried to rendered pictures; otherwise it is ignored.
    """

    path: str
    frames: Frames
    width: int
    height: int
    missing: tuple[int, ...] = ()
    rate: tuple[int, int] = (24, 1)
    pixel_aspect: float = 1.0
    colour_space: str = "scene-linear"
    keep_alpha: bool = False
    is_movie: bool = False

    @property
    def frames_per_second(self) -> Fraction:
        """The rate as one exact number."""
        return Fraction(*self.rate)


class ShapeKey(Record, frozen=True):
    """A shape's vertices on one frame: (N, 2) in home-frame pixels of the surface it rides on."""

    frame: int
    points: Array

    def __post_init__(self) -> None:
        if self.points.values.ndim != 2 or self.points.values.shape[1] != 2 or len(self.points) < 3:
            raise ValueError(f"a shape needs at least 3 points (x, y), got {self.points.values.shape}")
        if not np.isfinite(self.points.values).all():
            raise ValueError("a shape's points must be finite numbers")


class Shape(Record, frozen=True):
    """A closed shape. Between keys its vertices move linearly; before and after they rest."""

    id: str
    keys: tuple[ShapeKey, ...]
    is_smooth: bool = False

    def __post_init__(self) -> None:
        if not self.keys:
            raise ValueError("a shape needs at least one key")
        if len({len(key.points) for key in self.keys}) > 1:
            raise ValueError("all keys of a shape need the same number of vertices")
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError(f"keys must be in the order of their frames, got {frames}")

    def points_at(self, frame: int) -> NDArray[np.float64]:
        """Return the vertices on a frame: (N, 2) float64, home-frame pixels."""
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0].points.values
        for before, after in pairwise(keys):
            if frame < after.frame:
                share = (frame - before.frame) / (after.frame - before.frame)
                return before.points.values * (1 - share) + after.points.values * share
        return keys[-1].points.values


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
    """Where a surface is on every frame of an unbroken range.

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
        count = len(self.certainty)
        shapes = self.home_to_frame.values.shape, self.corner_slip_px.values.shape, len(self.reasons)
        if shapes != ((count, 3, 3), (count, 4), count) or count < 1:
            raise ValueError(f"a track needs a matrix, four slips, a certainty and a reason a frame, got {shapes}")
        if not (np.isfinite(self.home_to_frame.values).all() and np.isfinite(self.corner_slip_px.values).all()):
            raise ValueError("a track's matrices and slips must be finite numbers")

    @property
    def frames(self) -> Frames:
        """The frames that were followed."""
        return Frames(first=self.first_frame, last=self.first_frame + len(self.certainty) - 1)

    @property
    def slip_px(self) -> NDArray[np.float64]:
        """The expected error of the corners together, (N,) in pixels."""
        return np.sqrt((self.corner_slip_px.values**2).mean(axis=1))

    def is_placed(self, frame: int) -> bool:
        """Return whether the surface is known to be somewhere on a frame."""
        return frame in self.frames and self.reasons[frame - self.first_frame] != NOT_SEEN

    def matrix(self, frame: int) -> NDArray[np.float64]:
        """Return home_to_frame of a frame: (3, 3) float64.

        Raises
        ------
        ValueError
            If the frame was not followed.
        """
        if frame not in self.frames:
            raise ValueError(f"frame {frame} was not followed ({self.frames.first}–{self.frames.last} were)")
        matrix: NDArray[np.float64] = self.home_to_frame.values[frame - self.first_frame]
        return matrix

    def part(self, frames: Frames) -> Self:
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


NOT_SEEN = "not seen"
"""The reason of frames between a loss and the place where a surface was found again: nothing lies there."""


class Area(Record, frozen=True):
    """A closed shape that says where to look, or where not to.

    Attributes
    ----------
    stays_put : bool
        False: it rides on the surface, its points are home-frame pixels. True: it stays in the picture, its points
        are pixels of the frame, and what passes through it is followed.
    """

    shape: Shape
    stays_put: bool = False


class PlaneFollow(Record, frozen=True, tag="plane"):
    """A flat piece, followed as a whole by what is inside its areas.

    Attributes
    ----------
    areas, keep_outs : tuple of Area
        What is looked at, and what of it is left out (a keep-out that rides inside an area is a hole in it).
    leaves_out_front : bool
        Whether covers of fixes and areas of surfaces that are listed in front are left out too.
    """

    areas: tuple[Area, ...]
    keep_outs: tuple[Area, ...] = ()
    leaves_out_front: bool = True
    motion: MotionModel = MotionModel.PERSPECTIVE
    channel: Channel = Channel.BEST

    def __post_init__(self) -> None:
        if not self.areas:
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


class ByHand(Record, frozen=True, tag="by hand"):
    """Four corners (4, 2) on the home frame, keyed by pins on others."""

    corners: Array


How = PlaneFollow | PointsFollow | Still | ByHand


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
        shapes = self.home.values.shape, self.placed.values.shape
        if shapes[0] != shapes[1] or shapes[0] not in ((1, 2), (2, 2), (3, 2), (4, 2)):
            raise ValueError(f"a pin holds one to four points and their places, got {shapes}")
        if not (np.isfinite(self.home.values).all() and np.isfinite(self.placed.values).all()):
            raise ValueError("a pin's points must be finite numbers")


class Surface(Record, frozen=True):
    """Something in the shot that moves as one.

    Attributes
    ----------
    rides_on : str
        Id of the surface that its motion is relative to; empty: the picture.
    track : Track or None
        What was measured, relative to what it rides on and without pins; where the surface is after both is
        `gommage.core.document.placement`.
    pins : tuple of Pin
        In the order of their frames.
    """

    id: str
    name: str
    home_frame: int
    how: How
    rides_on: str = ""
    track: Track | None = None
    pins: tuple[Pin, ...] = ()

    def __post_init__(self) -> None:
        frames = [pin.frame for pin in self.pins]
        if frames != sorted(set(frames)):
            raise ValueError(f"pins must be in the order of their frames, got {frames}")

    @property
    def outline(self) -> NDArray[np.float64]:
        """What is seen of it on its home frame: (N, 2) home-frame pixels."""
        match self.how:
            case PlaneFollow(areas=areas):
                return areas[0].shape.points_at(self.home_frame)
            case PointsFollow(spots=spots):
                return _box(np.array([(spot.x, spot.y) for spot in spots]), SPOT_MARGIN_PX)
            case Still(corners=corners) | ByHand(corners=corners):
                return corners.values

    @property
    def corners(self) -> NDArray[np.float64]:
        """Its four corners on the home frame, (4, 2): the outline's own, or those of the box around it."""
        outline = self.outline
        return outline if len(outline) == 4 else _box(outline)


SPOT_MARGIN_PX = 16.0
"""A surface of points is taken to reach this far beyond them."""


def _box(points: NDArray[np.float64], margin: float = 0.0) -> NDArray[np.float64]:
    (left, top), (right, bottom) = points.min(axis=0) - margin, points.max(axis=0) + margin
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]])


class Tool(StrEnum):
    """The brushes."""

    CLONE = "clone"
    HEAL = "heal"
    RESTORE = "restore"


class Source(Record, frozen=True):
    """Where a stroke takes its pixels: so many pixels to the right and down from where it lays them."""

    dx: float = 0.0
    dy: float = 0.0


class Stroke(Record, frozen=True):
    """One movement of a brush.

    Attributes
    ----------
    points : Array
        (N, 3): x, y in the plate's pixels, pressure 0 to 1.
    size_px : float
        Diameter at full pressure.
    softness : float
        0: sharp rim, 1: falls off from the centre.
    opacity : float
        0 to 1.
    """

    id: str
    tool: Tool
    points: Array
    size_px: float
    softness: float = 0.5
    opacity: float = 1.0
    source: Source = Source()

    def __post_init__(self) -> None:
        values = self.points.values
        if values.ndim != 2 or values.shape[1] != 3 or not len(values) or not np.isfinite(values).all():
            raise ValueError(f"a stroke needs finite points (x, y, pressure), got an array {values.shape}")
        if not (self.size_px > 0 and 0 <= self.softness <= 1 and 0 <= self.opacity <= 1):
            raise ValueError(
                f"a stroke needs a size above 0 and softness and opacity from 0 to 1, "
                f"got {self.size_px}, {self.softness}, {self.opacity}"
            )


class CleanPlate(Record, frozen=True):
    """A still picture of a surface without the thing.

    Attributes
    ----------
    home_frame : int
        The frame in whose pixels the plate is painted.
    picture : str
        Path of a picture to begin with, of the plate's size; empty: the shot's own frame.
    strokes : tuple of Stroke
        What was painted on it, first to last.
    """

    id: str
    name: str
    surface_id: str
    home_frame: int
    picture: str = ""
    strokes: tuple[Stroke, ...] = ()


class Cover(Record, frozen=True):
    """Where a fix replaces the picture: inside its shapes, and fading over a soft edge outside them."""

    shapes: tuple[Shape, ...] = ()
    softness_px: float = 6.0
    grow_px: float = 0.0


class CleanPlateFill(Record, frozen=True, tag="clean plates"):
    """Carry clean plates along the surface, each strongest near its home frame."""

    plate_ids: tuple[str, ...] = ()


class Match(Record, frozen=True):
    """How new pixels are fitted in.

    Attributes
    ----------
    is_light_matched : bool
        Whether brightness and colour follow the pixels around the cover, frame by frame.
    light_stops : float
        A brightening by hand on top, in stops.
    grain : float
        Share of the shot's measured grain that is put on; 1 is as in the plate, 0 leaves the still as it is.
    is_grain_laid : bool
        False shows the still freed of its grain with none put on, to judge it by.
    """

    is_light_matched: bool = True
    light_stops: float = 0.0
    grain: float = 1.0
    is_grain_laid: bool = True


class Fix(Record, frozen=True):
    """One thing that is removed."""

    id: str
    name: str
    surface_id: str
    cover: Cover = Cover()
    fill: CleanPlateFill = CleanPlateFill()
    match: Match = Match()
    frames: Frames | None = None
    is_on: bool = True


class Shot(Record, frozen=True):
    """One piece of moving picture with everything that is done to it. Fixes run from back to front."""

    id: str
    name: str
    footage: Footage
    surfaces: tuple[Surface, ...] = ()
    clean_plates: tuple[CleanPlate, ...] = ()
    fixes: tuple[Fix, ...] = ()

    def surface(self, surface_id: str) -> Surface:
        """Return the surface of that id (`KeyError` if there is none)."""
        return _by_id(self.surfaces, surface_id)

    def clean_plate(self, plate_id: str) -> CleanPlate:
        """Return the clean plate of that id (`KeyError` if there is none)."""
        return _by_id(self.clean_plates, plate_id)

    def fix(self, fix_id: str) -> Fix:
        """Return the fix of that id (`KeyError` if there is none)."""
        return _by_id(self.fixes, fix_id)


class Project(Record, frozen=True):
    """What is saved."""

    version: int = SCHEMA_VERSION
    shots: tuple[Shot, ...] = ()

    def shot(self, shot_id: str) -> Shot:
        """Return the shot of that id (`KeyError` if there is none)."""
        return _by_id(self.shots, shot_id)

    @classmethod
    def of(cls, *shots: Shot) -> Self:
        """Return a project of these shots."""
        return cls(shots=shots)


_Item = TypeVar("_Item", Surface, CleanPlate, Fix, Shot)


def _by_id(items: tuple[_Item, ...], wanted: str) -> _Item:
    for item in items:
        if item.id == wanted:
            return item
    raise KeyError(wanted)
