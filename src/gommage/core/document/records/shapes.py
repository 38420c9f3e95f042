"""Shapes, and mattes made of parts: covers, hold-outs, areas, keep-outs and extents are all the same record."""

from __future__ import annotations

from enum import StrEnum
from functools import lru_cache
from itertools import pairwise
from typing import Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.times import Ease, Frames, Keyed
from gommage.core.geometry import monotone_cubic

__all__ = [
    "Combine",
    "Drawn",
    "FromFile",
    "Matte",
    "MattePart",
    "PartSource",
    "ScribbleMark",
    "Scribbled",
    "Shape",
    "ShapeKey",
    "Shared",
    "SharedMatte",
    "Softness",
    "VertexKind",
]

COLUMNS = 8
"""Of a vertex: x, y, handle in (x, y), handle out (x, y), softness inwards, outwards; handles count from the vertex."""


class VertexKind(StrEnum):
    """How a curve goes through a vertex."""

    CORNER = "corner"
    SMOOTH = "smooth"
    HANDLES = "handles"


class ShapeKey(Record, frozen=True):
    """A shape's vertices on one frame.

    Attributes
    ----------
    vertices : Array
        (N, 8) in pixels of what the shape rides on: x, y, handle in, handle out, softness inwards and outwards.
        Handles are counted from their vertex. An open line has no inside: there softness inwards is half the width
        within which it is full.
    is_measured : bool
        Whether it was found rather than set by hand.
    """

    frame: int
    vertices: Array
    is_measured: bool = False

    def __post_init__(self) -> None:
        as_arrays(self, "vertices")
        values = self.vertices.values
        if values.ndim != 2 or values.shape[1] != COLUMNS or len(values) < 2:
            raise ValueError(f"a shape needs at least 2 vertices of {COLUMNS} numbers, got {values.shape}")
        if not np.isfinite(values).all():
            raise ValueError("a shape's vertices must be finite numbers")

    @classmethod
    def of(cls, frame: int, points: ArrayLike) -> Self:
        """Return the key of plain points (N, 2), without handles or softness of their own."""
        plain = np.asarray(points, np.float64)
        return cls(frame=frame, vertices=Array(np.hstack([plain, np.zeros((len(plain), COLUMNS - 2))])))

    @property
    def points(self) -> NDArray[np.float64]:
        """The vertices alone, (N, 2)."""
        return self.vertices.values[:, :2]

    def moved_to(self, points: ArrayLike) -> ShapeKey:
        """Return the key with its vertices at other points (N, 2); handles and softness stay as they are."""
        values = self.vertices.values.copy()
        values[:, :2] = points
        return ShapeKey(frame=self.frame, vertices=Array(values), is_measured=self.is_measured)


class Shape(Record, frozen=True):
    """A drawn line, closed as a rule.

    Attributes
    ----------
    kinds : tuple of VertexKind
        One a vertex, the same on all keys.
    ease : Ease
        How vertices go from key to key; before the first and after the last they rest.
    is_locked : bool
        Whether hands leave it alone.
    """

    id: str
    keys: tuple[ShapeKey, ...]
    kinds: tuple[VertexKind, ...]
    name: str = ""
    colour: str = ""
    is_closed: bool = True
    ease: Ease = Ease.STRAIGHT
    is_locked: bool = False

    def __post_init__(self) -> None:
        if not self.keys:
            raise ValueError("a shape needs at least one key")
        if {len(key.vertices) for key in self.keys} != {len(self.kinds)}:
            raise ValueError("all keys of a shape need the same number of vertices, and each vertex a kind")
        if self.is_closed and len(self.kinds) < 3:
            raise ValueError(f"a closed shape needs at least 3 vertices, got {len(self.kinds)}")
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError(f"keys must be in the order of their frames, got {frames}")

    @classmethod
    def of(
        cls, shape_id: str, frame: int, points: ArrayLike, kind: VertexKind = VertexKind.CORNER, name: str = ""
    ) -> Self:
        """Return a closed shape through points (N, 2), keyed on one frame."""
        key = ShapeKey.of(frame, points)
        return cls(id=shape_id, keys=(key,), kinds=(kind,) * len(key.vertices), name=name)

    def vertices_at(self, frame: float) -> NDArray[np.float64]:
        """Return the vertices on a frame, or between two: (N, 8) float64; see `ShapeKey`.

        Smooth ways are monotone from key to key: nothing swings beyond its keys.
        """
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0].vertices.values
        if frame >= keys[-1].frame:
            return keys[-1].vertices.values
        if self.ease is Ease.SMOOTH:
            return _smoothly(self._frames, self._stack, float(frame))
        before, after = next(pair for pair in pairwise(keys) if frame < pair[1].frame)
        share = 0.0 if self.ease is Ease.HELD else (frame - before.frame) / (after.frame - before.frame)
        return before.vertices.values * (1 - share) + after.vertices.values * share

    @property
    def _frames(self) -> tuple[int, ...]:
        return tuple(key.frame for key in self.keys)

    @property
    def _stack(self) -> tuple[Array, ...]:
        return tuple(key.vertices for key in self.keys)

    def points_at(self, frame: float) -> NDArray[np.float64]:
        """Return the vertices' places on a frame: (N, 2) float64."""
        return self.vertices_at(frame)[:, :2]

    def key_at(self, frame: int) -> ShapeKey | None:
        """Return the key on a frame, if there is one."""
        return next((key for key in self.keys if key.frame == frame), None)


@lru_cache(maxsize=1024)
def _smoothly(frames: tuple[int, ...], stack: tuple[Array, ...], frame: float) -> NDArray[np.float64]:
    """Return vertices between keys; of many keys those around alone tell."""
    here = next(index for index in range(1, len(frames)) if frame < frames[index])
    near = slice(max(here - 3, 0), here + 3)
    values = np.stack([one.values for one in stack[near]])
    found: NDArray[np.float64] = monotone_cubic(np.array(frames[near], np.float64), values, np.array([frame]))[0]
    found.setflags(write=False)
    return found


class Softness(Record, frozen=True):
    """How an edge fades.

    Attributes
    ----------
    inwards_px, outwards_px : Keyed
        Inside and outside the line, in pixels of the frame.
    shutter_deg : Keyed
        For how much of a frame the shutter is open, 360 for all of it: so far the matte is blurred along its motion.
    """

    inwards_px: Keyed = 0.0
    outwards_px: Keyed = 0.0
    shutter_deg: Keyed = 0.0


class Drawn(Record, frozen=True, tag="drawn"):
    """A shape; it rides on a surface, or with no surface stays in the pixels of the frame."""

    shape: Shape
    surface_id: str = ""


class FromFile(Record, frozen=True, tag="file"):
    """A channel of pictures on disk; the file's frame number is the shot's plus an offset."""

    path: str
    channel: str = "A"
    frame_offset: int = 0


class ScribbleMark(Record, frozen=True):
    """A scribble on one frame, (N, 2) pixels of the frame: inside the thing, or outside it."""

    frame: int
    points: Array
    is_inside: bool = True

    def __post_init__(self) -> None:
        as_arrays(self, "points")


class Scribbled(Record, frozen=True, tag="scribbled"):
    """What scribbles on some frames say is inside and outside."""

    marks: tuple[ScribbleMark, ...]


class Shared(Record, frozen=True, tag="shared"):
    """A matte of the shot that serves several."""

    matte_id: str


PartSource = Drawn | FromFile | Scribbled | Shared


class Combine(StrEnum):
    """What a part does to what stands before it in the list."""

    ADD = "add"
    SUBTRACT = "subtract"
    INTERSECT = "intersect"


class MattePart(Record, frozen=True):
    """One part of a matte. `frames` says on which it exists; none: on all."""

    id: str
    source: PartSource
    combine: Combine = Combine.ADD
    is_inverted: bool = False
    grow_px: Keyed = 0.0
    softness: Softness = Softness()
    frames: tuple[Frames, ...] = ()
    is_on: bool = True


class Matte(Record, frozen=True):
    """Parts in reading order; growth and softness of the whole come on top of the parts' own."""

    parts: tuple[MattePart, ...] = ()
    grow_px: Keyed = 0.0
    softness: Softness = Softness()

    @classmethod
    def of(cls, *shapes: Shape, surface_id: str = "", softness: Softness | None = None) -> Self:
        """Return the union of shapes that ride on one surface; each part has its shape's id."""
        parts = tuple(MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=surface_id)) for shape in shapes)
        return cls(parts=parts, softness=softness or Softness())

    @property
    def drawn(self) -> tuple[tuple[MattePart, Drawn], ...]:
        """The drawn parts, with what was drawn."""
        return tuple((part, part.source) for part in self.parts if isinstance(part.source, Drawn))

    @property
    def shapes(self) -> tuple[Shape, ...]:
        """The shapes of the drawn parts."""
        return tuple(drawn.shape for _, drawn in self.drawn)


class SharedMatte(Record, frozen=True):
    """A matte with a name, for several fixes and follows."""

    id: str
    name: str
    matte: Matte = Matte()
