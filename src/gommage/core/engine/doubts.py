"""What may be wrong with a fix's mattes, in words, before anything is rendered."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np

from gommage.core.cover import MatteAt, matte_on, matte_pixels, reach_of
from gommage.core.document import (
    Combine,
    Drawn,
    Fix,
    Matte,
    MattePart,
    ScenePlane,
    Shot,
    Surface,
    is_within,
    mappings_of,
    outline_at,
    placement,
    value_at,
)
from gommage.core.geometry import Window

__all__ = ["Doubt", "doubts_of"]

MOST_FRAMES = 9
"""On so many frames of the shot, evenly spread, mattes are looked at."""
SMALL_PX = 96
"""So large a matte is drawn to compare two."""
SAME = 0.985
"""Parts that have so much of both in common are the same."""
SHUTTER = 0.5
"""Share of a frame for which a shutter is open as a rule."""
BLUR_TO_SPEAK_OF_PX = 3.0

Doubt = tuple[str, int | None]
"""A sentence, and the frame to look at if there is one."""


def doubts_of(shot: Shot, fix: Fix) -> Iterator[Doubt]:
    """Yield what may be wrong with the cover and the hold-outs of a fix, the worst first.

    Parameters
    ----------
    shot : Shot
    fix : Fix
        One of the shot's.
    """
    yield from _beyond_area(shot, fix)
    for matte, what in ((fix.cover, "cover"), (fix.hold_outs, "hold-outs")):
        for number, part in enumerate(matte.parts, 1):
            yield from _time(fix, part, _name(part, number))
        yield from _cancelled(shot, fix, matte, what)
    yield from _idle_hold_outs(shot, fix)
    yield from _lost_lines(fix)
    yield from _tight(shot, fix)


def _lost_lines(fix: Fix) -> Iterator[Doubt]:
    """Say where a line that was followed was not found: frames between measured keys that have none."""
    for number, part in enumerate(fix.cover.parts, 1):
        if not isinstance(part.source, Drawn) or part.source.shape.is_closed:
            continue
        keys = part.source.shape.keys
        pairs = [(one.frame + 1, two.frame - 1) for one, two in pairwise(keys) if one.is_measured and two.is_measured]
        gaps = [(first, last) for first, last in pairs if first <= last]
        if gaps:
            first, last = gaps[0]
            frames = f"frame {first}" if first == last else f"frames {first} to {last}"
            more = f", and on {len(gaps) - 1} more stretches" if len(gaps) > 1 else ""
            yield f"{_name(part, number)} was not found on {frames}{more}: look there, and key it by hand.", first


def _name(part: MattePart, number: int) -> str:
    own = part.source.shape.name if isinstance(part.source, Drawn) else ""
    return own or f"Shape {number}"


def _frames(shot: Shot, fix: Fix, matte: Matte) -> list[int]:
    """Return the frames on which mattes are looked at: some of the shot, and those of keys and switches."""
    whole = shot.footage.frames
    found = set(np.linspace(whole.first, whole.last, min(MOST_FRAMES, len(whole))).astype(int).tolist())
    for part in matte.parts:
        found |= {one for frames in part.frames for one in (frames.first, frames.last) if one is not None}
        if isinstance(part.source, Drawn):
            found |= {key.frame for key in part.source.shape.keys[:MOST_FRAMES]}
    return sorted(one for one in found if one in whole and is_within(fix.frames, one))


def _beyond_area(shot: Shot, fix: Fix) -> Iterator[Doubt]:
    for _, drawn in fix.cover.drawn:
        if drawn.surface_id:
            surface = shot.surface(drawn.surface_id)
            if isinstance(surface.how, ScenePlane):
                yield from _over_the_horizon(shot, fix, drawn, surface)
                continue
            area, line = surface.outline, outline_at(drawn.shape, drawn.shape.keys[0].frame)
            if (line.min(axis=0) < area.min(axis=0) - 1).any() or (line.max(axis=0) > area.max(axis=0) + 1).any():
                words = f"The cover reaches beyond the area of {surface.name}; what was not followed may not fit there."
                yield words, None
                return


def _over_the_horizon(shot: Shot, fix: Fix, drawn: Drawn, surface: Surface) -> Iterator[Doubt]:
    """Say where a cover reaches over what of a plane lies before the camera: there it would be cut."""
    placed = placement(shot, surface)
    for frame in _frames(shot, fix, fix.cover):
        mapping = placed.mapping(frame) if placed is not None else None
        if mapping is not None and not np.isfinite(mapping(outline_at(drawn.shape, frame))).all():
            yield f"The cover reaches over the horizon of {surface.name} on frame {frame}: it is cut there.", frame
            return


def _time(fix: Fix, part: MattePart, name: str) -> Iterator[Doubt]:
    if part.frames and fix.frames:
        starts = [one.first if one.first is not None else one.last for one in (*part.frames, *fix.frames)]
        meets = any(is_within(part.frames, at) and is_within(fix.frames, at) for at in starts if at is not None)
        if not meets:
            yield f"{name} exists on frames alone on which the fix does not live.", None
    if part.frames and isinstance(part.source, Drawn):
        off = [key.frame for key in part.source.shape.keys if not is_within(part.frames, key.frame)]
        if off and len(part.source.shape.keys) > 1:
            yield f"{name} has a key on frame {off[0]}, where it is off.", off[0]


def _small(shot: Shot, matte: MatteAt) -> tuple[Window, float]:
    near = reach_of(matte, shot.footage.bounds)
    scale = min(SMALL_PX / max(near.width, near.height, 1), 1.0)
    return near.scaled(scale), scale


def _cancelled(shot: Shot, fix: Fix, matte: Matte, what: str) -> Iterator[Doubt]:
    """Yield parts that take away all that stands before them."""
    if not all(isinstance(part.source, Drawn) for part in matte.parts):
        return  # files are not read to find out
    takers = [number for number, part in enumerate(matte.parts) if part.combine is not Combine.ADD and part.is_on]
    frames = _frames(shot, fix, matte)
    for number in takers:
        before, upto = (Matte(parts=matte.parts[:end]) for end in (number, number + 1))
        seen = [frame for frame in frames if not reach_of(matte_on(shot, before, frame), shot.footage.bounds).is_empty]
        if not seen:
            words = "takes away from" if matte.parts[number].combine is Combine.SUBTRACT else "keeps within it"
            yield f"{_name(matte.parts[number], number + 1)} {words} nothing: no part stands before it.", None
            continue
        left = 0.0
        for frame in seen:
            one, other = matte_on(shot, before, frame), matte_on(shot, upto, frame)
            window, scale = _small(shot, one)
            whole = float(matte_pixels(one, window, scale).sum())
            left = max(left, float(matte_pixels(other, window, scale).sum()) / max(whole, 1e-6))
        if left < 1 - SAME:
            name = _name(matte.parts[number], number + 1)
            yield f"{name} takes away all that the {what} had before it; they cancel each other.", seen[0]


def _idle_hold_outs(shot: Shot, fix: Fix) -> Iterator[Doubt]:
    """Yield hold-outs that come near the cover on none of the frames that are looked at."""
    if not fix.cover.parts:
        return
    bounds = shot.footage.bounds
    frames = sorted({*_frames(shot, fix, fix.cover), *_frames(shot, fix, fix.hold_outs)})
    covers = {frame: reach_of(matte_on(shot, fix.cover, frame), bounds) for frame in frames}
    for number, part in enumerate(fix.hold_outs.parts, 1):
        if not part.is_on or part.combine is not Combine.ADD or part.is_inverted:
            continue
        alone = Matte(parts=(part,))
        reached = (reach_of(matte_on(shot, alone, frame), bounds) & covers[frame] for frame in frames)
        if all(one.is_empty for one in reached):
            yield f"The hold-out {_name(part, number)} hides nothing: it never comes near the cover.", None


def _tight(shot: Shot, fix: Fix) -> Iterator[Doubt]:
    """Yield covers whose edge is tighter than what they ride on moves while the shutter is open."""
    mapping_of, worst = mappings_of(shot), (0.0, 0.0, 0)
    for part, drawn in fix.cover.drawn:
        if not drawn.surface_id or not part.is_on:
            continue
        for frame in _frames(shot, fix, Matte(parts=(part,))):
            here, after = mapping_of(drawn.surface_id, frame), mapping_of(drawn.surface_id, frame + 1)
            if here is None or after is None:
                continue
            points = drawn.shape.points_at(frame)
            by = np.hypot(*(after(points) - here(points)).T)
            blur = float(np.nanmax(by, initial=0.0)) * SHUTTER / 2
            soft = [one.softness for one in (fix.cover, part)]
            edge = sum(value_at(one.outwards_px, frame) for one in soft)
            edge += value_at(fix.cover.grow_px, frame) + value_at(part.grow_px, frame)
            is_blurred = any(value_at(one.shutter_deg, frame) > 0 for one in soft)
            if not is_blurred and blur - edge > worst[0] - worst[1]:
                worst = blur, edge, frame
    blur, edge, frame = worst
    if blur > BLUR_TO_SPEAK_OF_PX and blur > edge:
        yield (
            f"On frame {frame} it moves so fast that its blur may reach {blur:.0f} px beyond the line; the edge is "
            f"soft over {edge:.0f} px. Set the shutter, or soften it.",
            frame,
        )
