"""Find dirt and scratches over a shot, and marks of one look."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import matte_on, reach_of
from gommage.core.cover.dirt import DirtFrame, dirt_frame, dirt_on, seen_luma
from gommage.core.cover.found import Found
from gommage.core.cover.marks import LOOKS, Example, Look, marks_on
from gommage.core.document import (
    Drawn,
    Fix,
    Footage,
    FrameRange,
    Frames,
    MattePart,
    Shape,
    ShapeKey,
    Shot,
    VertexKind,
    mappings_of,
    new_id,
    outline_at,
)
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.lines import follow_line, snapped_line
from gommage.core.geometry import Mapping, Points, around, scaling, then, turning
from gommage.core.picture import Picture
from gommage.errors import EditError, FollowError, FootageError

__all__ = ["found_dirt", "found_marks", "found_scratches", "part_of"]

Check = Callable[[], None]
Told = Callable[[float], object]
LEAST_DIRT = 4.0
"""Below so many spreads nothing is listed."""
AHEAD = 2
SCRATCH_EVERY, SCRATCH_CLEAR, SCRATCH_APART_PX = 4, 9.0, 14
"""Every so many frames it is asked whether a column stands out so clearly; so far a scratch wanders between."""
ROWS_IN_ONE = 4
"""Scratches are upright: so many rows are looked at as one."""
CLEAR_MARK = 0.6
MARGIN_SHARE, MARK_FRAMES, MARK_NEAR, SURE = 0.35, 9, 0.6, 0.85
"""An example is looked at with so much around it; marks of a surface on so many frames; two within so much of its size
are one; where one lies is told by those frames on which it is nearly as much alike as it ever is."""


def _plate(engine: Engine, footage: Footage, frame: int, check: Check) -> Picture | None:
    if frame not in footage.frames or frame in footage.missing:
        return None
    try:
        return engine.plate(footage, frame, check)
    except FootageError:
        return None  # it says so itself when one goes there


def found_dirt(
    engine: Engine, shot: Shot, frames: FrameRange | None = None, check: Check = lambda: None,
    told: Told = lambda share: None,
) -> tuple[Found, ...]:  # fmt: skip
    """Return dust and hairs that are on one frame alone, by frame.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    frames : FrameRange, optional
        The whole shot if left out.
    check : callable
    told : callable
        Called with how far it is, 0 to 1.
    """
    whole, footage = frames or shot.footage.frames, shot.footage
    numbers = list(whole)
    found: list[Found] = []
    with ThreadPoolExecutor(AHEAD, "dirt") as pool:  # what is compiled lets go of the interpreter

        def one(frame: int) -> list[Found]:
            check()
            here = kept(frame)
            if here is None:
                return []
            before, after = kept(frame - 1), kept(frame + 1)
            if before is None or after is None:  # on one side alone two frames tell as much
                before, after = (after, kept(frame + 2)) if before is None else (before, kept(frame - 2))
            pieces = dirt_on(before, here, after, LEAST_DIRT)
            return [Found(((frame, outline),), score, words) for outline, score, words in pieces]

        def kept(frame: int) -> DirtFrame | None:
            def make() -> tuple[DirtFrame | None]:
                plate = _plate(engine, footage, frame, check)
                return (None if plate is None else dirt_frame(plate),)

            found: DirtFrame | None = engine.cache.get_or_make(("dirt", footage, frame), make, check)[0]
            return found

        for number, items in enumerate(pool.map(one, numbers), 1):
            check()
            found += items
            told(number / len(numbers))
    return tuple(found)


def found_scratches(
    engine: Engine, shot: Shot, frames: FrameRange | None = None, check: Check = lambda: None
) -> tuple[Found, ...]:
    """Return scratches that run on over frames at the same place of the film: upright lines, each followed, keyed on
    each frame on which they are, in pixels of the frame.
    """
    whole = frames or shot.footage.frames
    seen: list[tuple[int, float]] = []
    for frame in range(whole.first, whole.last + 1, SCRATCH_EVERY):
        check()
        plate = _plate(engine, shot.footage, frame, check)
        if plate is not None:
            seen += [(frame, x) for x in _upright(seen_luma(plate))]
    found = []
    for run in _runs(seen):
        check()
        part = _followed_scratch(engine, shot, run, whole, check)
        if part is not None and isinstance(part.source, Drawn):
            keys = tuple((key.frame, key.points) for key in part.source.shape.keys)
            found.append(Found(keys, SCRATCH_CLEAR, "scratch", part=part))
    return tuple(found)


def _upright(luma: Picture) -> list[float]:
    """Return columns in which an upright line stands out over the whole height."""
    found: list[float] = []
    luma = cv2.resize(luma, (luma.shape[1], -(-luma.shape[0] // ROWS_IN_ONE)), interpolation=cv2.INTER_AREA)
    for sign in (1.0, -1.0):
        values = sign * luma
        left, right = np.roll(values, 4, axis=1), np.roll(values, -4, axis=1)
        inner = cv2.blur(values, (3, 1))
        response = inner - np.maximum(cv2.blur(left, (3, 1)), cv2.blur(right, (3, 1)))
        spread = 1.4826 * float(np.median(np.abs(response))) + 1e-6
        profile = np.clip(response, -2 * spread, 2 * spread).mean(axis=0)
        profile[:8] = profile[-8:] = profile.min()
        middle = float(np.median(profile))
        clear = (profile - middle) / (1.4826 * float(np.median(np.abs(profile - middle))) + 1e-9)
        peaks = np.flatnonzero((clear > SCRATCH_CLEAR) & (profile > 0.5 * spread))
        for x in peaks:
            if clear[x] == clear[max(x - 6, 0) : x + 7].max():
                found.append(float(x) + 0.5)
    return found


def _runs(seen: list[tuple[int, float]]) -> list[list[tuple[int, float]]]:
    """Return what is seen at nearly the same column on several frames in a row."""
    runs: list[list[tuple[int, float]]] = []
    for frame, x in seen:
        for run in runs:
            if frame - run[-1][0] <= 2 * SCRATCH_EVERY and abs(x - run[-1][1]) < SCRATCH_APART_PX:
                run.append((frame, x))
                break
        else:
            runs.append([(frame, x)])
    return [run for run in runs if len(run) > 1]


def _followed_scratch(
    engine: Engine, shot: Shot, run: list[tuple[int, float]], whole: FrameRange, check: Check
) -> MattePart | None:
    frame, x = run[len(run) // 2]
    ends = np.array([[x, 2.0], [x, shot.footage.height - 2.0]])
    shape = Shape(id=new_id(), name="Scratch", keys=(ShapeKey.of(frame, ends),), kinds=(VertexKind.SMOOTH,) * 2,
                  is_closed=False)  # fmt: skip
    part = MattePart(id=shape.id, source=Drawn(shape=shape))
    try:
        part = snapped_line(engine, shot, part, frame, check)
    except (EditError, FollowError):
        return None
    assert isinstance(part.source, Drawn)
    steps = follow_line(engine, shot, part, frame, frames=whole, check=check)
    first, last = run[0][0] - SCRATCH_EVERY, run[-1][0] + SCRATCH_EVERY
    keys = {step.frame: step.key for step in steps if step.key is not None and first < step.frame < last}
    if not keys:
        return None
    ordered = tuple(keys[one] for one in sorted(keys))
    line = replace(part.source.shape, keys=ordered, kinds=(VertexKind.SMOOTH,) * len(part.source.shape.kinds))
    lives = (Frames(first=ordered[0].frame, last=ordered[-1].frame),)
    return replace(part, source=replace(part.source, shape=line), frames=lives)


# -- marks --------------------------------------------------------------------------------------------------


def found_marks(
    engine: Engine, shot: Shot, fix: Fix, part: MattePart, frame: int, check: Check = lambda: None,
    told: Told = lambda share: None,
) -> tuple[Found, ...]:  # fmt: skip
    """Return everything that looks like what a part of a cover is drawn around, the example left aside.

    On a followed surface they are looked for on some frames and hold for all; without one on every frame, and linked.

    Raises
    ------
    EditError
        If the example is not drawn, or not seen on the frame.
    """
    if not isinstance(part.source, Drawn) or not part.source.shape.is_closed:
        raise EditError("Draw round one of the marks first; that is the example.")
    surface_id = part.source.surface_id
    mapping_of = mappings_of(shot)
    here = mapping_of(surface_id, frame)
    cover = matte_on(shot, replace(fix.cover, parts=(part,)), frame)
    reach = reach_of(cover, shot.footage.bounds)
    if here is None or reach.is_empty:
        raise EditError(f"The example is not seen on frame {frame}.")
    outline = here(outline_at(part.source.shape, frame))
    box = around(outline)
    margin = round(MARGIN_SHARE * max(box.width, box.height))
    picture = engine.plate(shot.footage, frame, check)
    wide = box.grown(margin) & shot.footage.bounds
    example = Example(np.ascontiguousarray(picture[wide.slices]), outline - (wide.left, wide.top))
    middle = np.array([(box.left + box.right) / 2, (box.top + box.bottom) / 2])
    frames = _looked_at(shot, surface_id, frame)

    def on(other: int, looks: Sequence[Look]) -> tuple[list[_Seen], set[Look]]:
        check()
        there = mapping_of(surface_id, other)
        plate = _plate(engine, shot.footage, other, check) if there is not None else None
        if plate is None or there is None:
            return [], set()
        marks, back = marks_on(plate, example, looks), there.inverse()
        lines = [(back(np.array([x, y]) + _as_seen(look)(outline - middle)), alike) for x, y, look, alike in marks]
        clear = {look for _, _, look, alike in marks if alike > CLEAR_MARK}
        return [(other, line, alike) for line, alike in lines if np.isfinite(line).all()], clear

    seen, clear = on(frame, LOOKS)  # the example's own frame first
    looks: Sequence[Look] = LOOKS if surface_id else [one for one in LOOKS if one in clear] or LOOKS
    others = [other for other in frames if other != frame]
    with ThreadPoolExecutor(AHEAD, "marks") as pool:
        for number, (more, _) in enumerate(pool.map(lambda other: on(other, looks), others), 2):
            check()
            seen += more
            told(number / len(frames))
    own = here.inverse()(outline)
    size = float(np.hypot(*np.ptp(own, axis=0)))
    return _gathered(seen, own if surface_id else None, frame, size, surface_id)


_Seen = tuple[int, Points, float]


def _as_seen(look: Look) -> Mapping:
    """Return what makes an example's outline, about its middle, that of a mark in a look."""
    larger, turn_deg = look
    return then(turning(np.deg2rad(turn_deg)), scaling(larger))


def _looked_at(shot: Shot, surface_id: str, frame: int) -> list[int]:
    frames = [one for one in shot.footage.frames if one not in shot.footage.missing]
    if not surface_id:
        return frames
    spread = np.linspace(0, len(frames) - 1, min(MARK_FRAMES, len(frames))).round().astype(int)
    return sorted({frame, *(frames[one] for one in spread)})


def _gathered(seen: list[_Seen], own: Points | None, frame: int, size: float, surface_id: str) -> tuple[Found, ...]:
    """Return what is seen at one place, on several frames, as one; what lies on the example is that itself."""
    groups: list[list[_Seen]] = []
    reach = MARK_NEAR * size
    for one in sorted(seen, key=lambda item: item[0]):
        at = one[1].mean(axis=0)
        if own is not None and np.hypot(*(at - own.mean(axis=0))) < reach:
            continue
        near = [
            group for group in groups
            if np.hypot(*(_expected(group, one[0], bool(surface_id)) - at)) < reach and group[-1][0] != one[0]
        ]  # fmt: skip
        if near:
            nearest = min(near, key=lambda group: float(np.hypot(*(group[-1][1].mean(axis=0) - at))))
            nearest.append(one)
        else:
            groups.append([one])
    found = []
    for group in groups:
        alike = float(np.max([one[2] for one in group]))
        if surface_id:
            best = max(group, key=lambda one: one[2])
            sure = [
                one for one in group if one[2] >= SURE * alike
            ]  # where it is hidden, something near it looks like it
            middle = np.median([one[1].mean(axis=0) for one in sure], axis=0)
            line = best[1] - best[1].mean(axis=0) + middle
            found.append(Found(((best[0], line),), 100 * alike, "mark", surface_id, is_lasting=True))
        else:
            keys = tuple((one[0], one[1]) for one in group)
            found.append(Found(keys, 100 * alike * min(len(group) / 3, 1.0), "mark"))
    return tuple(sorted(found, key=lambda one: -one.score))


def _expected(group: list[_Seen], frame: int, is_still: bool) -> NDArray[np.float64]:
    """Return where the next of a group would be."""
    last = group[-1][1].mean(axis=0)
    if is_still or len(group) < 2:
        return np.asarray(last)
    before, gap = group[-2], group[-1][0] - group[-2][0]
    return np.asarray(last + (last - before[1].mean(axis=0)) / gap * (frame - group[-1][0]))


def part_of(found: Found) -> MattePart:
    """Return what was found as a part of a cover."""
    if found.part is not None:
        return found.part
    keys = tuple(ShapeKey(frame=frame, vertices=ShapeKey.of(frame, line).vertices, is_measured=True)
                 for frame, line in found.keys)  # fmt: skip
    count = min(len(line) for _, line in found.keys)
    assert all(len(line) == count for _, line in found.keys)
    shape = Shape(id=new_id(), name=f"{found.words} {found.frame}".capitalize(), keys=keys,
                  kinds=(VertexKind.CORNER,) * count)  # fmt: skip
    lives = () if found.is_lasting else (Frames(first=found.keys[0][0], last=found.keys[-1][0]),)
    return MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=found.surface_id), frames=lives)
