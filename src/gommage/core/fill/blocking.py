"""What of a frame may never be taken for the background."""

from __future__ import annotations

from functools import lru_cache

from gommage.core.cover import MatteAt, matte_on
from gommage.core.document import Shot, is_within

__all__ = ["blocked_on"]


@lru_cache(maxsize=4096)
def blocked_on(shot: Shot, frame: int) -> tuple[MatteAt, ...]:
    """Return what does not show the background on a frame: what fixes cover and what they hold out."""
    found: list[MatteAt] = []
    for fix in shot.fixes:
        if fix.is_on and is_within(fix.frames, frame):
            found.extend(matte_on(shot, matte, frame) for matte in (fix.cover, fix.hold_outs) if matte.parts)
    return tuple(dict.fromkeys(found))
