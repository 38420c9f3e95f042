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
    "SCHEMA_VERSION",
    "CleanPlate",
    "CleanPlateFill",
    "Cover",
    "Fix",
    "Footage",
    "Frames",
    "Match",
    "MotionModel",
    "Project",
    "Record",
    "Shape",
    "ShapeKey",
    "Shot",
    "Source",
    "Stroke",
    "Surface",
    "Tool",
    "Track",
    "new_id",
]

SCHEMA_VERSION = 1


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
    """How much a plane may move."""

    SHIFT = "shift"
    SIMILARITY = "similarity"
    AFFINE = "affine"
    PERSPECTIVE = "perspective"


class Track(Record, frozen=True):
    """Where a surface is on every frame of an unbroken range.

    Attributes
    ----------
    first_frame : int
        Frame of the first row of the arrays.
    home_to_frame : Array
        (N, 3, 3) float64: takes home-frame pixels to pixels of the frame.
    slip_px : Array
        (N,) expected error of the area's corners, in pixels.
    certainty : Array
        (N,) 0 to 1: how well the picture agrees with the home frame.
    before, after : str
        Why the follow went no further towards the start and the end, in words; empty at the shot's ends.
    """

    first_frame: int
    home_to_frame: Array
    slip_px: Array
    certainty: Array
    before: str = ""
    after: str = ""

    def __post_init__(self) -> None:
        count = len(self.slip_px)
        if self.home_to_frame.values.shape != (count, 3, 3) or len(self.certainty) != count or count < 1:
            raise ValueError(
                f"a track needs one matrix, slip and certainty a frame, got {self.home_to_frame.values.shape}, "
                f"{count} and {len(self.certainty)}"
            )
        if not np.isfinite(self.home_to_frame.values).all():
            raise ValueError("a track's matrices must be finite numbers")

    @property
    def frames(self) -> Frames:
        """The frames that were followed."""
        return Frames(first=self.first_frame, last=self.first_frame + len(self.slip_px) - 1)

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


class Surface(Record, frozen=True, tag="plane"):
    """A plane of the shot, followed as a whole by what is inside its area."""

    id: str
    name: str
    home_frame: int
    area: Shape
    motion: MotionModel = MotionModel.PERSPECTIVE
    track: Track | None = None


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
