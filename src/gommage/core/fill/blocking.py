"""What of a frame may never be taken for the background."""

from __future__ import annotations

from functools import lru_cache

from gommage.core.cover import MatteAt, matte_on
from gommage.core.document import Fix, PlaneFollow, Shot, is_within

__all__ = ["blocked_on", "middle_frame", "not_around"]


@lru_cache(maxsize=4096)
def blocked_on(shot: Shot, frame: int) -> tuple[MatteAt, ...]:
    """Return what does not show the background on a frame: what fixes cover and what they hold out."""
    found: list[MatteAt] = []
    for fix in shot.fixes:
        if fix.is_on and is_within(fix.frames, frame):
            found.extend(matte_on(shot, matte, frame) for matte in (fix.cover, fix.hold_outs) if matte.parts)
    return tuple(dict.fromkeys(found))


@lru_cache(maxsize=8192)
def not_around(shot: Shot, fix: Fix, frame: int) -> tuple[MatteAt, ...]:
    """Return what around a cover on a frame is no surroundings of it: what is in front, what other fixes cover."""
    own = matte_on(shot, fix.cover, frame)
    found = [one for one in blocked_on(shot, frame) if one != own]
    surface = shot.surface(fix.surface_id) if fix.surface_id else None
    if surface is not None and isinstance(surface.how, PlaneFollow) and surface.how.keep_outs.parts:
        found.append(matte_on(shot, surface.how.keep_outs, frame))
    return tuple(found)


@lru_cache(maxsize=1024)
def middle_frame(shot: Shot, fix: Fix) -> int:
    """Return the frame in the middle of those on which a fix exists: what is found once for a shot is found there."""
    footage = shot.footage
    frames = [one for one in footage.frames if one not in footage.missing and is_within(fix.frames, one)]
    return frames[len(frames) // 2] if frames else footage.frames.first
