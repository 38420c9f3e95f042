"""A span on one frame: its lines, and what closes them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt
from gommage.core.cover.parts import LineAt
from gommage.core.document import ClosedFrom, Drawn, Fix, Footage, Shot, Span, value_at
from gommage.core.document.records import Record
from gommage.core.fill.blocking import not_around
from gommage.core.fill.holes import hidden_by
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.fill.spans.covers import cover_on
from gommage.core.geometry import Points, Window, around, evenly, lengths_along, plain
from gommage.core.paint import CanvasKey
from gommage.core.picture import encoded

__all__ = ["SpanAt", "fill_span", "span_at"]

Check = Callable[[], None]
Values = NDArray[np.float64]
BLUR_PX = 0.3
"""So far off a line's rim it still shows; no side is taken from there, of this line or another."""
OUTWARDS_PX, FARTHER_PX, MOST_SLANT = 5, 12, 1.8
PRIOR, SMOOTHNESS = 3.0, 0.3
WAYS = {ClosedFrom.BOTH: 0, ClosedFrom.LEFT: 1, ClosedFrom.RIGHT: 2}


class StretchAt(Record, frozen=True):
    """How a piece of a line is closed, by shares of its length."""

    first: float
    last: float
    left_px: float
    right_px: float
    closed_from: ClosedFrom


class SpanLineAt(Record, frozen=True):
    """A line on one frame, half its width and how far it is closed beyond that, in pixels, and its stretches."""

    line: LineAt
    half_px: float
    beyond_px: float
    stretches: tuple[StretchAt, ...]


class SpanAt(Record, frozen=True):
    """A span on one frame: everything that its pixels depend on.

    Attributes
    ----------
    footage : Footage
    frame : int
    lines : tuple of SpanLineAt
    cores : MatteAt
        All its lines as far as they show, from where nothing is taken.
    others : tuple of MatteAt
        What else is nothing that may be taken: what is in front, what other fixes cover.
    """

    footage: Footage
    frame: int
    lines: tuple[SpanLineAt, ...]
    cores: MatteAt
    others: tuple[MatteAt, ...]

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: no clean plate."""
        return ()

    @property
    def as_shot(self) -> SpanAt:
        """The same without paint."""
        return self


def span_at(fill: Span, shot: Shot, fix: Fix, frame: int) -> SpanAt | None:
    """Return what a span depends on on a frame; None if it has no line there."""
    lines, cores = [], []
    for part in fix.cover.parts:
        if isinstance(part.source, Drawn) and part.source.shape.is_closed:  # soon told, of hundreds of specks
            continue
        for found in cover_on(shot, fix, replace(fix.cover, parts=(part,)), frame).parts:
            if not isinstance(found.source, LineAt) or found.source.is_closed or len(found.source.points.values) < 2:
                continue
            whole = StretchAt(first=0.0, last=1.0, left_px=value_at(fill.left_px, frame),
                              right_px=value_at(fill.right_px, frame), closed_from=fill.closed_from)  # fmt: skip
            own = (
                StretchAt(first=one.first, last=one.last, left_px=one.left_px, right_px=one.right_px,
                          closed_from=one.closed_from)
                for one in fill.stretches if one.part_id == part.id
            )  # fmt: skip
            beyond = found.outwards_px + float(found.source.softest[1])
            lines.append(SpanLineAt(line=found.source, half_px=max(found.grow_px, 0.0), beyond_px=beyond,
                                    stretches=(whole, *own)))  # fmt: skip
            core = replace(found, grow_px=found.grow_px + BLUR_PX, inwards_px=0.0, outwards_px=0.0)
            cores.append(replace(core, source=_without_softness(found.source)))
    if not lines:
        return None
    return SpanAt(footage=shot.footage, frame=frame, lines=tuple(lines), cores=MatteAt(parts=tuple(cores)),
                  others=not_around(shot, fix, frame))  # fmt: skip


def _without_softness(line: LineAt) -> LineAt:
    """Return a line as wide as it is, with a hard edge."""
    if line.soft is None:
        return line
    own = line.soft.values.copy()
    own[:, 1] = 0
    return replace(line, soft=type(line.soft)(own))


# -- pixels -------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Plan:
    """A line in pixels of the frame at a scale, a pixel apart, and how it is closed there: see `kernels.bridged`; in a
    window of it that holds all that may be read, and where what is behind is known in it.
    """

    window: Window
    known: NDArray[np.bool_]
    points: Points
    normals: Points
    reach: Values
    left: Values
    right: Values
    ways: NDArray[np.int8]
    slants: Values


def fill_span(at: SpanAt, scene: Scene, window: Window, check: Check = lambda: None) -> Filled:
    """Close lines from both sides, along slants that lead through what lies there, cross-faded.

    Parameters
    ----------
    at : SpanAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale. A pixel is the same in every window.
    check : callable
        Called for each line.
    """
    from gommage.core.fill.spans.kernels import bridged  # compiled code is loaded late

    pixels = scene.plate(at.footage, at.frame, window).copy()
    shape = window.height, window.width
    valid, fresh = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    for line in at.lines:
        check()
        key = ("span", at.footage, at.frame, line, at.cores, at.others)
        plan: _Plan = scene.kept(key, lambda line=line: _plan(at, line, scene))  # type: ignore[misc]
        if (plan.window & window).is_empty:
            continue
        picture, corner = scene.plate(at.footage, at.frame, plan.window), (plan.window.left, plan.window.top)
        bridged(
            plain(picture), plan.known, plan.points - corner, plan.normals, plan.reach, plan.left, plan.right,
            plan.ways, plan.slants, window.left - corner[0], window.top - corner[1], pixels, valid, fresh,
        )  # fmt: skip
    return Filled((Layer(pixels, valid),), fresh_grain=fresh, shown=valid)


def _known(at: SpanAt, scene: Scene, window: Window) -> NDArray[np.bool_]:
    """Return where the frame shows what is behind."""
    return ~hidden_by(at.others, at.footage, scene, window) & (scene.matte(at.footage, at.cores, window) < 0.5)


def _plan(at: SpanAt, line: SpanLineAt, scene: Scene) -> _Plan:
    """Return how a line is closed: along which slants, from the whole of it."""
    from gommage.core.fill.spans.kernels import slanted  # compiled code is loaded late
    from gommage.core.picture.kernels import banded

    scale = scene.scale
    points, own = _even(line.line, scale)
    ahead = np.gradient(points, axis=0)
    ahead /= np.maximum(np.hypot(*ahead.T), 1e-9)[:, None]
    normals = np.column_stack([ahead[:, 1], -ahead[:, 0]])
    share = np.linspace(0, 1, len(points))
    left, right, ways = (np.empty(len(points)) for _ in range(3))
    for one in line.stretches:
        inside = (share >= one.first) & (share <= one.last)
        left[inside], right[inside], ways[inside] = one.left_px, one.right_px, WAYS[one.closed_from]
    half = (line.half_px + own) * scale
    least = BLUR_PX * scale + 0.2
    left, right = half + np.maximum(left * scale, least), half + np.maximum(right * scale, least)
    rows = int(np.ceil(max(left.max(), right.max()))) + OUTWARDS_PX + 1
    reach = half + line.beyond_px * scale + 1
    farthest = (max(left.max(), right.max()) + FARTHER_PX) * (1 + MOST_SLANT)  # where sides may be read
    window = around(points, np.ceil(max(farthest, reach.max())) + 4) & at.footage.bounds.scaled(scale)
    known, slants = np.zeros((0, 0), bool), np.zeros(len(points))
    if not window.is_empty:
        picture, known = scene.plate(at.footage, at.frame, window), _known(at, scene, window)
        band, shown = banded(plain(picture), known, points - (window.left, window.top), normals, rows)
        slants = slanted(encoded(band), shown, left, right, PRIOR, SMOOTHNESS)
    return _Plan(window, known, points, normals, reach, left, right, ways.astype(np.int8), slants)


def _even(line: LineAt, scale: float) -> tuple[Points, Values]:
    """Return points (S, 2) a pixel apart along a line, in pixels of a scale, and half its own width there (S,)."""
    points = line.points.values * scale
    at = lengths_along(points)
    count = max(int(np.ceil(at[-1])) + 1, 3)
    along = np.linspace(0, at[-1], count)
    own = np.zeros(count) if line.soft is None else np.interp(along, at, line.soft.values[:, 0])
    return evenly(points, count), own
