"""Light that was found over frames, and as numbers by hand."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec.structs import replace

from gommage.core.document import Ease, Frames, Key, Keyed, Keys, LightMatch, value_at

__all__ = ["Stops", "by_hand"]

Stops = tuple[float, float, float]
"""How much brighter red, green and blue are made, in stops."""
KEPT_STOPS = 0.01
"""A key stays where the line between its neighbours is off by more than this."""


def by_hand(found: Mapping[int, Stops], before: LightMatch, since: int | None = None) -> LightMatch:
    """Return the light that was found over frames as keyed exposure, temperature and tint, to be changed by hand.

    Keys are on as few frames as keep to what was found within a hundredth of a stop.

    Parameters
    ----------
    found : mapping of int to Stops
        By frame.
    before : LightMatch
        What was set by hand on top stays: exposure is added to what it was.
    since : int, optional
        From which frame on it is by hand; until there it is found as before. None: on all frames.

    Raises
    ------
    ValueError
        If nothing was found there.
    """
    frames = sorted(frame for frame in found if since is None or frame >= since)
    if not frames:
        raise ValueError(f"no light was found from frame {since} on")
    stops = np.array([found[frame] for frame in frames])
    red, green, blue = stops.T
    exposure = (red + blue) / 2
    on_top = np.array([value_at(before.exposure_stops, frame) for frame in frames])
    new = {"exposure_stops": exposure + on_top, "temperature": (red - blue) / 2, "tint": exposure - green}
    keyed = {name: _keyed(frames, values) for name, values in new.items()}
    if since is None:
        return replace(before, is_measured=False, by_hand=(), **keyed)
    keyed = {name: _after(getattr(before, name), curve, since) for name, curve in keyed.items()}
    return replace(before, by_hand=(Frames(first=since),), **keyed)


def _after(before: Keyed, curve: Keyed, since: int) -> Keyed:
    """Return a number that is as it was until a frame, and follows a curve from there on."""
    kept = tuple(key for key in before.keys if key.frame < since - 1) if isinstance(before, Keys) else ()
    last = Key(frame=since - 1, value=value_at(before, since - 1), ease=Ease.STRAIGHT)
    new = curve.keys if isinstance(curve, Keys) else (Key(frame=since, value=curve, ease=Ease.STRAIGHT),)
    return Keys(keys=(*kept, last, *new))


def _keyed(frames: list[int], values: np.ndarray) -> Keyed:
    """Return a curve by as few keys as tell it: D. Douglas and T. Peucker's way, on frames."""
    kept = {0, len(frames) - 1}
    spans = [(0, len(frames) - 1)]
    while spans:
        first, last = spans.pop()
        if last - first < 2:
            continue
        at = np.arange(first, last + 1)
        line = np.interp(np.array(frames)[at], [frames[first], frames[last]], [values[first], values[last]])
        off = np.abs(values[at] - line)
        worst = int(np.argmax(off))
        if off[worst] > KEPT_STOPS:
            kept.add(first + worst)
            spans += [(first, first + worst), (first + worst, last)]
    keys = tuple(Key(frame=frames[one], value=float(values[one]), ease=Ease.STRAIGHT) for one in sorted(kept))
    changes = max(key.value for key in keys) - min(key.value for key in keys) > KEPT_STOPS
    return Keys(keys=keys) if changes else keys[0].value
