"""Light that was found over frames, and as numbers by hand."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from gommage.core.document import Ease, Key, Keyed, Keys, LightMatch

__all__ = ["Stops", "by_hand"]

Stops = tuple[float, float, float]
"""How much brighter red, green and blue are made, in stops."""
KEPT_STOPS = 0.01
"""A key stays where the line between its neighbours is off by more than this."""


def by_hand(found: Mapping[int, Stops], before: LightMatch) -> LightMatch:
    """Return the light that was found over frames as keyed exposure, temperature and tint, to be changed by hand.

    Keys are on as few frames as keep to what was found within a hundredth of a stop.

    Parameters
    ----------
    found : mapping of int to Stops
        By frame.
    before : LightMatch
        What was set by hand on top stays: exposure is added to what it was if that did not change over frames.
    """
    frames = sorted(found)
    stops = np.array([found[frame] for frame in frames])
    red, green, blue = stops.T
    temperature = (red - blue) / 2
    exposure = (red + blue) / 2
    tint = exposure - green
    on_top = before.exposure_stops if isinstance(before.exposure_stops, int | float) else 0.0
    return LightMatch(
        is_measured=False,
        exposure_stops=_keyed(frames, exposure + on_top),
        temperature=_keyed(frames, temperature),
        tint=_keyed(frames, tint),
        contrast=before.contrast, saturation=before.saturation, lift=before.lift, gain=before.gain,
    )  # fmt: skip


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
