"""What lies around a cover on the frames beside, brought along its surface: what grows in from there trembles less."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import Fix, Footage, FrameRange, Shot, mappings_of
from gommage.core.document.records import Record
from gommage.core.fill.blocking import not_around
from gommage.core.fill.holes import hidden_by
from gommage.core.fill.scene import Scene
from gommage.core.geometry import Mapping, Points, Window, around, composed, growth, scaling, shift, then
from gommage.errors import FootageError

__all__ = ["BesideAt", "Means", "Rims", "SteadyAt", "at_scale", "steady_at", "steps_of", "told"]

Check = Callable[[], None]
Mask = NDArray[np.bool_]
Values = NDArray[np.float64]
FARTHER, LEAST_APART, NEAR_PX = 8, 4, 64
"""On so many frames of a shot, the same for all, that is looked for which something in front hides; what lies farther
off than that hides nothing."""
APART_PX, MOST_GROWN = 64, 2.0
"""Pixels fixed to a surface lie so many away from those of the home frame, or twice as many and so on: the same at all
scales."""
SEEN = 0.85
"""A cell is seen where so much of it is: the mean of a smaller share of it would be that of another place."""
LEAST_SEEN, MOST_SEEN = 0.1, 0.75
"""By fewer shared cells light is not told; by more of them it is told by a plane instead of a mean."""


class BesideAt(Record, frozen=True):
    """A frame on which rims are looked at: what takes their pixels there, and what hides the surface.

    `is_near` tells that it steadies; of one farther away that alone is taken which is hidden on all nearer ones.
    """

    frame: int
    mapping: Mapping
    blocked: tuple[MatteAt, ...]
    is_near: bool = True


class SteadyAt(Record, frozen=True):
    """What steadies a fill from the rim on a frame.

    Attributes
    ----------
    fixed : Mapping or None
        What takes pixels that are fixed to what all of the cover rides on to those of the frame. They are those of the
        home frame, moved by so much that they lie near those of the frame: rims are divided into cells there, and so
        alike on all frames, and do not tremble as they move over pixels. None where parts ride on different things, or
        the surface is seen much smaller or larger: rims lie in the pixels of the frame.
    beside : tuple of BesideAt
        The frames beside it, and, where anything may be in front, some farther ones; the nearest first.
    """

    fixed: Mapping | None
    beside: tuple[BesideAt, ...]


def steady_at(shot: Shot, fix: Fix, frame: int, reach: int) -> SteadyAt | None:
    """Return what steadies a fill by so many frames before and after; None if it rides on nothing there."""
    riding = [drawn.surface_id for _, drawn in fix.cover.drawn]
    surface_id = fix.surface_id or next((one for one in riding if one), "")
    mapping_of = mappings_of(shot)
    here = mapping_of(surface_id, frame) if surface_id and reach else None
    if here is None:
        return None
    all_ride = len(riding) == len(fix.cover.parts) and all(one == surface_id for one in riding)
    middle = shot.surface(surface_id).outline.mean(axis=0)
    is_fixed = all_ride and 1 / MOST_GROWN < growth(here, middle) < MOST_GROWN
    by = APART_PX * np.round((here(middle[None])[0] - middle) / APART_PX) if is_fixed else None
    to_home = here.inverse() if by is None else shift(-by[0], -by[1])
    near = [frame + sign * by for by in range(1, reach + 1) for sign in (-1, 1)]
    farther = [one for one in _spread(shot.footage.frames) if one not in (frame, *near)]
    if not _is_anything_near(shot, fix, frame):
        farther = []
    found = []
    for other in (*near, *sorted(farther, key=lambda one: abs(one - frame))):
        there = mapping_of(surface_id, other) if other in shot.footage.frames else None
        if there is None or other in shot.footage.missing:
            continue
        blocked = (() if all_ride else (matte_on(shot, fix.cover, other),)) + not_around(shot, fix, other)
        found.append(BesideAt(frame=other, mapping=then(to_home, there), blocked=blocked, is_near=other in near))
    return SteadyAt(fixed=then(to_home, here) if is_fixed else None, beside=tuple(found))


def _is_anything_near(shot: Shot, fix: Fix, frame: int) -> bool:
    """Return whether anything on a frame may hide surroundings of a cover."""
    bounds = shot.footage.bounds
    around_it = reach_of(matte_on(shot, fix.cover, frame), bounds).grown(NEAR_PX)
    return any(not (reach_of(one, bounds) & around_it).is_empty for one in not_around(shot, fix, frame))


def _spread(frames: FrameRange) -> list[int]:
    """Return frames spread over a shot, the first and the last among them."""
    count = min(FARTHER, max(len(frames) // LEAST_APART, 2))
    return sorted({int(one) for one in np.linspace(frames.first, frames.last, count).round()})


@dataclass(frozen=True, slots=True)
class Means:
    """Means of cells on a frame, (C, 3), and which are seen there, (C,)."""

    values: Values
    seen: Mask


@dataclass(frozen=True, slots=True)
class Rims:
    """What is around pieces of a cover, in cells, all put after one another.

    `windows` are where they lie, in pixels of their own that mappings take to those of frames; `pixels` (P, 3) their
    rows and columns there and their cells, of each from `starts` on; `points` (C, 2) are where cells are, `counts` (C,)
    how many pixels they have, of each rim from `cells` on. The `key` tells these from others.
    """

    key: Hashable
    windows: list[Window]
    pixels: NDArray[np.int32]
    starts: NDArray[np.intp]
    points: Points
    counts: Values
    cells: NDArray[np.intp]

    @classmethod
    def of(
        cls, key: Hashable, windows: list[Window], pixels: list[NDArray[np.int32]], points: list[Points],
        counts: list[Values],
    ) -> Rims:  # fmt: skip
        """Return rims, the cells of each counted from 0 in its pixels."""
        cells = np.cumsum([0, *map(len, counts)])
        starts, rows = np.cumsum([0, *map(len, pixels)]), np.concatenate(pixels)
        rows[:, 2] += np.repeat(cells[:-1], np.diff(starts)).astype(np.int32)
        return cls(key, windows, rows, starts, np.concatenate(points), np.concatenate(counts), cells)

    def seen_on(self, at: BesideAt, footage: Footage, scene: Scene, wanted: Mask) -> Means:
        """Return what those that are wanted (N,) show on a frame; kept, for the frames beside it."""
        key = "rims seen", self.key, footage, at.frame, at.mapping, at.blocked, wanted.tobytes()
        found: Means = scene.kept(key, lambda: self._seen_on(at, footage, scene, wanted))
        return found

    def _seen_on(self, at: BesideAt, footage: Footage, scene: Scene, wanted: Mask) -> Means:
        from gommage.core.fill.thin_plates import means_of_cells  # compiled code is loaded late

        steps = steps_of(self.windows, at_scale(at.mapping, scene.scale))
        wanted = wanted & np.isfinite(steps).all(axis=(1, 2))
        bounds = footage.bounds.scaled(scene.scale)
        hidden: Mask = np.zeros((bounds.height, bounds.width) if at.blocked else (0, 0), bool)
        for index in np.flatnonzero(wanted) if at.blocked else ():
            corners = Window.of(self.windows[index].width, self.windows[index].height).corners
            window = around(corners @ steps[index, :, :2].T + steps[index, :, 2], 2) & bounds
            if not window.is_empty:
                hidden[window.slices] |= hidden_by(at.blocked, footage, scene, window)
        values, count = np.empty((len(self.counts), 3)), np.empty(len(self.counts))
        picture = scene.plate(footage, at.frame, bounds)
        means_of_cells(picture, hidden, self.pixels, self.starts, steps, wanted, values, count)
        return Means(values, count >= SEEN * self.counts)


def at_scale(mapping: Mapping, scale: float) -> Mapping:
    """Return a mapping of pixels as one of those of a scale."""
    return mapping if scale == 1 else composed(scaling(1 / scale), mapping, scaling(scale))


def steps_of(windows: list[Window], mapping: Mapping) -> Values:
    """Return how windows lie somewhere, (N, 2, 3), as far as shifts, turns and shears say: they are small."""
    there = mapping(np.vstack([one.corners[[0, 1, 3]] for one in windows])).reshape(-1, 3, 2)
    size = np.array([(one.width, one.height) for one in windows], np.float64)
    ahead, below = (there[:, 1] - there[:, 0]) / size[:, :1], (there[:, 2] - there[:, 0]) / size[:, 1:]
    return np.stack([ahead, below, there[:, 0]], axis=2)


def told(
    rims: Rims, own: BesideAt, beside: Sequence[BesideAt], footage: Footage, scene: Scene, check: Check
) -> Means:  # fmt: skip
    """Return the means of cells of rims under the light of their own frame, and which of them any frame tells.

    Those of near frames are counted in, of farther ones those that are hidden on all others.
    """
    from gommage.core.fill.thin_plates import put_under_light  # compiled code is loaded late

    all_of_them = np.ones(len(rims.windows), bool)
    here = rims.seen_on(own, footage, scene, all_of_them)
    total, count = np.where(here.seen[:, None], here.values, 0), here.seen.astype(np.float64)
    for one in beside:
        check()
        wanted = all_of_them if one.is_near else np.add.reduceat(count == 0, rims.cells[:-1]) > 0
        if not wanted.any():
            continue
        try:
            means = rims.seen_on(one, footage, scene, wanted)
        except FootageError:  # it says so itself when one goes there
            continue
        values, seen = means.values.copy(), means.seen.copy()
        put_under_light(rims.points, here.values, here.seen, values, seen, rims.cells, LEAST_SEEN, MOST_SEEN)
        taken = seen if one.is_near else seen & (count == 0)
        total[taken] += values[taken]
        count[taken] += 1
    return Means(total / np.maximum(count, 1)[:, None], count > 0)
