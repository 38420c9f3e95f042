"""The cover of a span: lines that are wider, narrower or softer over stretches."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec.structs import replace

from gommage.core.cover import MatteAt, PartAt, matte_on
from gommage.core.cover.parts import LineAt
from gommage.core.document import Array, Fix, Matte, Shot, Span, Stretch
from gommage.core.geometry import lengths_along

__all__ = ["cover_on"]

STEP_PX, RAMP_PX = 2.0, 5.0
"""A line is told at places so far apart; widths go over into one another over so many pixels."""


@lru_cache(maxsize=4096)
def cover_on(shot: Shot, fix: Fix, matte: Matte, frame: int) -> MatteAt:
    """Return the cover of a fix on a frame, given as its match makes it: with the stretches of its lines."""
    if not isinstance(fix.fill, Span) or not any(_changes(one) for one in fix.fill.stretches):
        return matte_on(shot, matte, frame)
    found: list[PartAt] = []
    for part in matte.parts:
        own = tuple(one for one in fix.fill.stretches if one.part_id == part.id and _changes(one))
        parts = matte_on(shot, replace(matte, parts=(part,)), frame).parts
        found += [_stretched(one, own) for one in parts] if own else parts
    return MatteAt(parts=tuple(found))


def _changes(one: Stretch) -> bool:
    return one.width_px is not None or one.softness_px is not None


def _stretched(part: PartAt, stretches: tuple[Stretch, ...]) -> PartAt:
    line = part.source
    if not isinstance(line, LineAt) or line.is_closed:
        return part
    points = line.points.values
    at = lengths_along(points)
    along = np.linspace(0, at[-1], max(int(at[-1] / STEP_PX), 8))
    soft = np.zeros((len(points), 2)) if line.soft is None else line.soft.values
    own = np.column_stack([np.interp(along, at, soft[:, k]) for k in range(2)])
    for one in stretches:
        first, last = one.first * at[-1], one.last * at[-1]
        share = np.clip(np.minimum(along - first, last - along) / RAMP_PX + 1, 0, 1)
        for column, wanted in (
            (0, None if one.width_px is None else one.width_px / 2 - part.grow_px),
            (1, None if one.softness_px is None else one.softness_px - part.outwards_px),
        ):
            if wanted is not None:
                own[:, column] += share * (wanted - own[:, column])

    def even(values: Array) -> Array:
        return Array(np.column_stack([np.interp(along, at, values.values[:, k]) for k in range(2)]))

    passed = None if line.passed is None else (even(line.passed[0]), even(line.passed[1]))
    whole = LineAt(points=even(line.points), soft=Array(own), is_closed=False, passed=passed)
    return replace(part, source=whole)
