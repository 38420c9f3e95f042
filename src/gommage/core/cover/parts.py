"""A matte as it is on one frame: its parts where their surfaces are, with numbers in place of curves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Array,
    Combine,
    Drawn,
    FromFile,
    Matte,
    MattePart,
    Scribbled,
    ScribbleMark,
    Shape,
    Shared,
    Shot,
    VertexKind,
    is_within,
    mappings_of,
    value_at,
)
from gommage.core.document.outlines import (
    LINE_TOLERANCE_PX,
    MOST_PIECES,
    normals,
    on_line,
    sampled,
    softness_along,
)
from gommage.core.document.records import Record
from gommage.core.geometry import IDENTITY, Mapping, Points

__all__ = [
    "PART_KINDS",
    "LineAt",
    "MappingOf",
    "MatteAt",
    "PartAt",
    "PictureAt",
    "ScribbledAt",
    "SharedOf",
    "carried",
    "matte_at",
    "matte_on",
]

MappingOf = Callable[[str, int], Mapping | None]
"""Gives, for a surface's id and a frame, where its home pixels are there; None where the surface is not."""
SharedOf = Callable[[str], Matte]
"""Gives the shared matte of an id."""
BENT_PIECES = 16
"""A straight side is drawn with so many pieces where what it rides on is no plane."""
FULL_TURN_DEG = 360.0
CARRIED_DECIMALS = 4


class LineAt(Record, frozen=True, tag="line"):
    """A drawn line on one frame, in pixels of the frame.

    Attributes
    ----------
    points : Array
        (M, 2).
    soft : Array or None
        (M, 2): how soft it is at each point, inwards and outwards, on top of the part's softness.
    is_closed : bool
    passed : (Array, Array) or None
        Where the points are as the shutter opens and as it closes, (M, 2) each; None without motion.
    """

    points: Array
    soft: Array | None = None
    is_closed: bool = True
    passed: tuple[Array, Array] | None = None

    @property
    def places(self) -> Points:
        """All places of its points while the shutter is open, in a row: (K, 2)."""
        return np.vstack([one.values for one in (self.points, *(self.passed or ()))])

    @property
    def softest(self) -> NDArray[np.float64]:
        """The largest softness of its points, inwards and outwards: (2,)."""
        return np.zeros(2) if self.soft is None else self.soft.values.max(axis=0)


class PictureAt(Record, frozen=True, tag="picture"):
    """A channel of a picture on disk, by the number of its own frame."""

    path: str
    channel: str
    frame: int


class ScribbledAt(Record, frozen=True, tag="scribbled"):
    """What scribbles say of a frame, on which they are or to which their matte is carried."""

    marks: tuple[ScribbleMark, ...]
    frame: int


class PartAt(Record, frozen=True):
    """A part on one frame; `grow_px`, `inwards_px`, `outwards_px` in pixels of the frame."""

    source: LineAt | PictureAt | ScribbledAt | MatteAt
    combine: Combine
    is_inverted: bool
    grow_px: float
    inwards_px: float
    outwards_px: float


class MatteAt(Record, frozen=True, tag="matte"):
    """A matte on one frame: everything that its pixels depend on."""

    parts: tuple[PartAt, ...]

    @property
    def outlines(self) -> list[Points]:
        """The outlines of the parts that add, (M, 2) each."""
        adding = [part for part in self.parts if part.combine is Combine.ADD and not part.is_inverted]
        own = [part.source.points.values for part in adding if isinstance(part.source, LineAt)]
        return own + [line for part in adding if isinstance(part.source, MatteAt) for line in part.source.outlines]


def carried(matte: MatteAt, mapping: Mapping) -> MatteAt:
    """Return a matte with the lines of its parts where a mapping takes them, to a ten thousandth of a pixel; equal ones
    are one and the same.
    """

    def there(points: Array) -> Array:
        return Array(np.round(mapping(points.values), CARRIED_DECIMALS))

    def of(part: PartAt) -> PartAt:
        line = part.source
        if not isinstance(line, LineAt):
            return part
        passed = None if line.passed is None else (there(line.passed[0]), there(line.passed[1]))
        return replace(part, source=replace(line, points=there(line.points), passed=passed))

    return _the_one(MatteAt(parts=tuple(of(part) for part in matte.parts)))


@lru_cache(maxsize=1024)
def _the_one(matte: MatteAt) -> MatteAt:
    """Return the first of all equal mattes, so that what is kept of them is found by identity."""
    return matte


@dataclass(frozen=True, slots=True)
class Asked:
    """What is asked of a part: on which frame, of which shot's surfaces, and how long the shutter is open."""

    frame: int
    mapping_of: MappingOf
    shared_of: SharedOf | None
    shutter: float


def _drawn(part: MattePart, asked: Asked) -> LineAt | None:
    assert isinstance(part.source, Drawn)
    shape, surface_id = part.source.shape, part.source.surface_id
    here = asked.mapping_of(surface_id, asked.frame)
    if here is None:
        return None
    around = (asked.frame - 1, asked.frame + 1) if asked.shutter > 0 else ()
    beside = tuple(asked.mapping_of(surface_id, frame) for frame in around)
    return _line(shape, asked.frame if len(shape.keys) > 1 else shape.keys[0].frame, here, beside, asked.shutter)


@lru_cache(maxsize=8192)
def _line(shape: Shape, frame: int, here: Mapping, beside: tuple[Mapping | None, ...], shutter: float) -> LineAt | None:
    """Return a shape's line on a frame, given where its surface is there, and on the frames before and after."""
    home, where = _sampled(shape, here, frame)
    moved = home if here is IDENTITY else here(home)
    soft = _softness(shape, here, frame, home, where)
    passed = _passed(shape, frame, where, moved, beside, shutter) if beside else None
    lines = (moved, *(passed or ()))
    seen = np.isfinite(sum(line[:, 0] + line[:, 1] for line in lines))  # points behind the camera are left out
    if not seen.all():
        if seen.sum() < (3 if shape.is_closed else 2):
            return None
        lines, soft = tuple(line[seen] for line in lines), None if soft is None else soft[seen]
    return LineAt(
        points=Array(lines[0]),
        soft=None if soft is None else Array(soft),
        is_closed=shape.is_closed,
        passed=(Array(lines[1]), Array(lines[2])) if passed is not None else None,
    )


def _sampled(shape: Shape, mapping: Mapping, frame: int) -> tuple[Points, NDArray[np.float64]]:
    """Return points on a shape's line, before they are moved, and where on it they are.

    The curve itself is carried, not its handles: its pieces are short enough to stay near it once they are moved.
    """
    vertices, scale = shape.vertices_at(frame), 1.0
    if mapping is not IDENTITY:
        own = vertices[:, :2]
        with np.errstate(divide="ignore", invalid="ignore"):
            grows = np.hypot(*np.diff(mapping(own), axis=0).T) / np.hypot(*np.diff(own, axis=0).T)
        scale = float(np.clip(np.max(grows, where=np.isfinite(grows), initial=1e-2), 1e-2, 1e2))
    least = 1 if mapping.matrix is not None else BENT_PIECES
    tolerance, closed = LINE_TOLERANCE_PX / scale, shape.is_closed
    from gommage.core.cover.kernels import flattened  # compiled: loaded late

    if not (closed and flattened.signatures):  # what is not compiled yet is not waited for: this is asked by hands too
        return sampled(vertices, shape.kinds, is_closed=closed, tolerance_px=tolerance, least=least)
    return flattened(vertices.copy(), _codes(shape.kinds), tolerance, least, MOST_PIECES)  # read-only ones compile anew


@lru_cache(maxsize=4096)
def _codes(kinds: tuple[VertexKind, ...]) -> NDArray[np.int8]:
    """Return the kinds of vertices as compiled code knows them, (N,)."""
    from gommage.core.cover.kernels import HANDLES, SMOOTH

    codes = {VertexKind.CORNER: 0, VertexKind.SMOOTH: SMOOTH, VertexKind.HANDLES: HANDLES}
    return np.array([codes[kind] for kind in kinds], np.int8)


def _softness(
    shape: Shape, mapping: Mapping, frame: int, home: Points, where: NDArray[np.float64]
) -> NDArray[np.float64] | None:
    """Return the vertices' own softness along the line in pixels of the frame, (M, 2), or None where there is none."""
    vertices = shape.vertices_at(frame)
    if not vertices[:, 6:].any():
        return None
    soft = np.maximum(softness_along(vertices, where, is_closed=shape.is_closed), 0)
    out = normals(home, is_closed=shape.is_closed)
    at = mapping(home)
    reach = [np.hypot(*(mapping(home + sign * soft[:, [k]] * out) - at).T) for k, sign in ((0, -1), (1, 1))]
    return np.nan_to_num(np.column_stack(reach), nan=0.0)


def _passed(
    shape: Shape, frame: int, where: NDArray[np.float64], here: Points, beside: tuple[Mapping | None, ...],
    shutter: float,
) -> tuple[Points, Points] | None:  # fmt: skip
    """Return where the line's points are as the shutter opens and closes: on the parabola through three frames."""

    def at(frame: int, mapping: Mapping | None) -> Any:
        if mapping is None:
            return None
        return mapping(on_line(shape.vertices_at(frame), shape.kinds, where, is_closed=shape.is_closed))

    before, after = at(frame - 1, beside[0]), at(frame + 1, beside[1])
    if before is None and after is None:
        return None
    if before is None:
        before = 2 * here - after
    elif after is None:
        after = 2 * here - before
    speed, bend = (after - before) / 2, (after + before) / 2 - here
    opened, closed = (here + time * speed + time * time * bend for time in (-shutter / 2, shutter / 2))
    if np.nanmax(np.abs(np.concatenate([opened - here, closed - here])), initial=0.0) < LINE_TOLERANCE_PX:
        return None
    return opened, closed


def _from_file(part: MattePart, asked: Asked) -> PictureAt | None:
    source = part.source
    assert isinstance(source, FromFile)
    return PictureAt(path=source.path, channel=source.channel, frame=asked.frame + source.frame_offset)


def _scribbled(part: MattePart, asked: Asked) -> ScribbledAt | None:
    assert isinstance(part.source, Scribbled)
    return ScribbledAt(marks=part.source.marks, frame=asked.frame) if part.source.marks else None


def _shared(part: MattePart, asked: Asked) -> MatteAt | None:
    assert isinstance(part.source, Shared)
    if asked.shared_of is None:
        return None
    return matte_at(asked.shared_of(part.source.matte_id), asked.frame, asked.mapping_of, asked.shared_of)


Source = LineAt | PictureAt | ScribbledAt | MatteAt
PART_KINDS: dict[type, Callable[[MattePart, Asked], Source | None]] = {
    Drawn: _drawn,
    FromFile: _from_file,
    Scribbled: _scribbled,
    Shared: _shared,
}
"""By the record of its source: what gives a part's source on a frame, or None where it is not there."""


def matte_on(shot: Shot, matte: Matte, frame: int) -> MatteAt:
    """Return a matte of a shot as it is on a frame."""
    return matte_at(matte, frame, mappings_of(shot), lambda matte_id: shot.matte(matte_id).matte)


def matte_at(matte: Matte, frame: int, mapping_of: MappingOf, shared_of: SharedOf | None = None) -> MatteAt:
    """Return a matte as it is on a frame; parts that do not exist there are left out.

    Parameters
    ----------
    matte : Matte
    frame : int
    mapping_of : callable
        From a surface's home pixels to a frame's; for the empty id the identity.
    shared_of : callable, optional
        Gives shared mattes; without it parts that are shared are left out.
    """
    found = []
    for part in matte.parts:
        if not part.is_on or not is_within(part.frames, frame):
            continue
        shutter = value_at(matte.softness.shutter_deg, frame) + value_at(part.softness.shutter_deg, frame)
        asked = Asked(frame, mapping_of, shared_of, min(max(shutter / FULL_TURN_DEG, 0.0), 1.0))
        source = PART_KINDS[type(part.source)](part, asked)
        if source is not None:
            found.append(_part_at(matte, part, frame, source))
    return _the_one(MatteAt(parts=tuple(found)))


def _part_at(matte: Matte, part: MattePart, frame: int, source: Source) -> PartAt:
    return PartAt(
        source=source,
        combine=part.combine,
        is_inverted=part.is_inverted,
        grow_px=value_at(matte.grow_px, frame) + value_at(part.grow_px, frame),
        inwards_px=value_at(matte.softness.inwards_px, frame) + value_at(part.softness.inwards_px, frame),
        outwards_px=value_at(matte.softness.outwards_px, frame) + value_at(part.softness.outwards_px, frame),
    )
