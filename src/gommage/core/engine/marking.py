"""Find marks of one look: crosses, dots, tape."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MappingOf, matte_on, reach_of
from gommage.core.cover.found import Found
from gommage.core.cover.marks import LINE_SIDE_PX, LOOKS, Example, Look, marks_by_lines, marks_on
from gommage.core.document import Combine, Drawn, Fix, MattePart, Shot, mappings_of, outline_at
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.hunting import AHEAD, plate_if_there
from gommage.core.geometry import Mapping, Points, Window, around, scaling, shift, then, turning
from gommage.core.picture import Filter, Picture, resample
from gommage.errors import EditError

__all__ = ["found_marks"]

Check = Callable[[], None]
Told = Callable[[float], object]
CLEAR_MARK = 0.6
CLEAR_EXAMPLE, SURE_CLEAR, SURE_SCORE, MOST_SHEET_PX = 12.0, 3.1, 60.0, 6_000_000
"""An example has lines enough if it is so clear itself; what is so clear is as sure as that score says. Larger sheets
are not made."""
MOST_EXAMPLES = 4
"""Of a cover that was drawn by hand; the one in hand is the first of them."""
HELD_OUT = 0.1
"""What is held out by more is not of the surface."""
MARGIN_SHARE, MARK_FRAMES, MARK_NEAR, SURE = 0.35, 9, 0.6, 0.85
"""An example is looked at with so much around it; marks of a surface on so many frames; two within so much of its size
are one; where one lies is told by those frames on which it is nearly as much alike as it ever is."""


def found_marks(
    engine: Engine, shot: Shot, fix: Fix, part: MattePart, frame: int, check: Check = lambda: None,
    told: Told = lambda share: None,
) -> tuple[Found, ...]:  # fmt: skip
    """Return everything that looks like what a part of a cover is drawn around, or another that was drawn by hand on
    the same surface; what is covered by these parts is left aside.

    On a followed surface they are looked for on a sheet of it, or on some frames, and hold for all; without one on
    every frame, and linked.

    Raises
    ------
    EditError
        If the example is not drawn, or not seen on the frame.
    """
    if not isinstance(part.source, Drawn) or not part.source.shape.is_closed:
        raise EditError("Draw round one of the marks first; that is the example.")
    surface_id = part.source.surface_id
    others = [one for one in fix.cover.parts if one.id != part.id and _is_example(one, surface_id)]
    examples = (part, *others[: MOST_EXAMPLES - 1]) if surface_id else (part,)
    found = list[Found]()
    for number, example in enumerate(examples):

        def told_of_all(share: float, number: int = number) -> None:
            told((number + share) / len(examples))

        found += _like(engine, shot, fix, example, frame, check, told_of_all)
    if len(examples) == 1:
        return tuple(found)
    covered = [outline_at(one.source.shape, frame) for one in fix.cover.parts if isinstance(one.source, Drawn)]
    kept = list[Found]()
    for one in sorted(found, key=lambda one: -one.score):  # of what looks like two examples that which it is most like
        line = one.keys[0][1]
        if not any(_is_on(line, other) for other in (*covered, *(before.keys[0][1] for before in kept))):
            kept.append(one)
    return tuple(kept)


def _is_example(part: MattePart, surface_id: str) -> bool:
    """Return whether a part was drawn by hand round something on a surface."""
    drawn = part.source if isinstance(part.source, Drawn) else None
    if drawn is None or drawn.surface_id != surface_id or not drawn.shape.is_closed or part.combine is not Combine.ADD:
        return False
    return not any(key.is_measured for key in drawn.shape.keys)


def _is_on(line: Points, other: Points) -> bool:
    """Return whether two outlines lie on one thing."""
    apart = float(np.hypot(*(line.mean(axis=0) - other.mean(axis=0))))
    return apart < MARK_NEAR * max(float(np.ptp(other, axis=0).max()), 1.0)


def _like(
    engine: Engine, shot: Shot, fix: Fix, part: MattePart, frame: int, check: Check, told: Told
) -> tuple[Found, ...]:  # fmt: skip
    """Return everything that looks like what one part of a cover is drawn around, the example left aside."""
    assert isinstance(part.source, Drawn)
    surface_id = part.source.surface_id
    mapping_of = mappings_of(shot)
    here = mapping_of(surface_id, frame)
    by_lines = _by_lines(engine, shot, fix, part, frame, check, told) if surface_id and here is not None else None
    if by_lines is not None:
        return by_lines
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
        plate = plate_if_there(engine, shot.footage, other, check) if there is not None else None
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


def _by_lines(
    engine: Engine, shot: Shot, fix: Fix, part: MattePart, frame: int, check: Check, told: Told
) -> tuple[Found, ...] | None:  # fmt: skip
    """Return the marks of a followed surface whose lines go together with those of an example; None if the example has
    too few of them.

    They are looked for on one sheet of the surface, the median of frames spread over the shot: it has no grain, nothing
    of what is held out of the fix, and little else of what passes in front.
    """
    assert isinstance(part.source, Drawn)
    surface_id, mapping_of = part.source.surface_id, mappings_of(shot)
    own = outline_at(part.source.shape, frame)
    size, longest = (float(one) for one in np.sort(np.ptp(own, axis=0)))
    frames = [one for one in _looked_at(shot, surface_id, frame) if mapping_of(surface_id, one) is not None]
    corners = np.vstack([_home(mapping_of, surface_id, one)(shot.footage.bounds.corners) for one in frames])
    if size <= 0 or not np.isfinite(corners).all():
        return None
    scale, corner = min(LINE_SIDE_PX / size, 1.0), corners.min(axis=0)
    width, height = np.ceil((corners.max(axis=0) - corner) * scale).astype(int).tolist()
    if width * height > MOST_SHEET_PX:
        return None
    to_sheet = then(shift(-corner[0], -corner[1]), scaling(scale))
    found_sheet = _sheet(engine, shot, fix, surface_id, frames, to_sheet, Window.of(width, height), check, told)
    if found_sheet is None:
        return None
    sheet, known = found_sheet
    line = to_sheet(own)
    wide = around(line, max(round(MARGIN_SHARE * scale * longest), 2)) & Window.of(width, height)
    example = Example(np.ascontiguousarray(sheet[wide.slices]), line - (wide.left, wide.top))
    places = marks_by_lines(sheet, known, example, np.array([wide.left, wide.top]), check)
    middle = line.mean(axis=0)
    near = [np.hypot(*(there.mean(axis=0) - middle)) < MARK_NEAR * scale * longest for there, _ in places]
    if not any(is_near and clear >= CLEAR_EXAMPLE for is_near, (_, clear) in zip(near, places, strict=True)):
        return None
    found = []
    for is_near, (there, clear) in zip(near, places, strict=True):
        if not is_near:  # that would be the example itself
            home = to_sheet.inverse()(there)
            on = _seen_first(shot, surface_id, frame, frames, home)
            score = min(SURE_SCORE * max(clear / SURE_CLEAR, 0.0) ** 0.5, 100.0)
            found.append(Found(((on, home),), score, "mark", surface_id, is_lasting=True))
    return tuple(found)


def _home(mapping_of: MappingOf, surface_id: str, frame: int) -> Mapping:
    there = mapping_of(surface_id, frame)
    assert there is not None
    return there.inverse()


def _sheet(
    engine: Engine, shot: Shot, fix: Fix, surface_id: str, frames: list[int], to_sheet: Mapping, window: Window,
    check: Check, told: Told,
) -> tuple[Picture, NDArray[np.bool_]] | None:  # fmt: skip
    """Return the median of frames as the surface lies still, (h, w, 3), what is held out of the fix left aside, and
    where any shows it, (h, w); None if there is no frame that can be read.
    """
    layers: list[Picture] = []
    for number, frame in enumerate(frames, 1):
        check()
        plate, there = plate_if_there(engine, shot.footage, frame, check), mappings_of(shot)(surface_id, frame)
        if plate is not None and there is not None:
            onto = then(to_sheet.inverse(), there)
            seen = resample(plate, onto, window, filter=Filter.LOOK)
            shows = seen.inside > 0
            if fix.hold_outs.parts:
                held = engine.matte(shot, fix.hold_outs, frame)
                shows &= resample(held, onto, window, filter=Filter.LOOK).pixels < HELD_OUT
            layers.append(np.where(shows[..., None], seen.pixels, np.float32(np.inf)))
        told(0.5 * number / len(frames))
    if not layers:
        return None
    stack = np.sort(np.stack(layers), axis=0)  # what is not seen comes last
    count = np.isfinite(stack[..., 0]).sum(axis=0)
    middle = np.maximum(count - 1, 0) // 2
    sheet = np.take_along_axis(stack, np.repeat(middle[None, ..., None], 3, axis=3), axis=0)[0]
    return np.where(count[..., None] > 0, sheet, np.float32(0)), count > 0


def _seen_first(shot: Shot, surface_id: str, frame: int, frames: list[int], home: Points) -> int:
    """Return a frame on which something on a surface is in the picture: the one in hand, if it can be."""
    mapping_of, bounds = mappings_of(shot), shot.footage.bounds
    for one in (frame, *frames):
        there = mapping_of(surface_id, one)
        middle = there(home).mean(axis=0) if there is not None else np.full(2, np.nan)
        if bounds.left <= middle[0] < bounds.right and bounds.top <= middle[1] < bounds.bottom:
            return one
    return frame


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
