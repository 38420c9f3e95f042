"""The pen's hand: jitter taken out of its way, and a simulated pen for those who have none, and for tests. No Qt."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from gommage.core.geometry import Points, lengths_along

__all__ = ["FLATTEST_DEG", "PenPoint", "SimulatedPen", "Steadied", "read_points", "simulated", "write_points"]

JITTER_PX = 1.2
"""How far a hand trembles, in pixels of the screen."""
FLATTEST_DEG = 60.0
"""As flat as a pen is held."""
SLOW_PX_S, FAST_PX_S = 80.0, 2200.0
LIGHTEST, HEAVIEST = 0.35, 1.0
SETTLES_S = 0.03
"""A hand does not change its pressure faster."""
LANDS_S = 0.04


class Steadied:
    """The way of a pen without its jitter: never further from the pen than `JITTER_PX`, so that nothing lags.

    What moves less than the hand trembles is held back, what moves much further goes through as it is: each point is
    drawn towards the pen by ``d / (d + JITTER_PX)`` of the distance d. What is left behind is below JITTER_PX however
    fast the pen is. It is the first-order filter with a cutoff that grows with speed of G. Casiez, N. Roussel,
    D. Vogel, 1 Euro Filter, CHI 2012, with the distance itself in place of the speed, so that it needs no clock.
    """

    def __init__(self, begun: Points) -> None:
        self._at = np.asarray(begun, float)

    def move(self, to: Points) -> Points:
        """Return where the steadied pen is when the pen is at a place (2,)."""
        way = np.asarray(to, float) - self._at
        far = float(np.hypot(*way))
        self._at = self._at + way * (far / (far + JITTER_PX))
        return self._at


class SimulatedPen:
    """Pressure as a hand would give it that draws at a speed: slow is heavy, fast is light, and it lands lightly."""

    def __init__(self) -> None:
        self._last: tuple[float, float, float] | None = None
        self._begun_s = 0.0
        self._pressure = LIGHTEST

    def press(self, x: float, y: float, at_s: float) -> float:
        """Set the pen down; returns its pressure, 0 to 1."""
        self._last, self._begun_s, self._pressure = (x, y, at_s), at_s, LIGHTEST
        return self._pressure

    def move(self, x: float, y: float, at_s: float) -> float:
        """Move it to a place in the viewport at a time; returns its pressure, 0 to 1."""
        if self._last is None:
            return self.press(x, y, at_s)
        last_x, last_y, last_s = self._last
        passed = max(at_s - last_s, 1e-3)
        speed = float(np.hypot(x - last_x, y - last_y)) / passed
        light = np.clip(np.log(max(speed, 1.0) / SLOW_PX_S) / np.log(FAST_PX_S / SLOW_PX_S), 0, 1)
        wanted = HEAVIEST + (LIGHTEST - HEAVIEST) * float(light)
        landed = min((at_s - self._begun_s) / LANDS_S, 1.0)
        share = 1 - np.exp(-passed / SETTLES_S)
        self._pressure += (wanted * landed + LIGHTEST * (1 - landed) - self._pressure) * float(share)
        self._last = x, y, at_s
        return self._pressure


@dataclass(frozen=True, slots=True)
class PenPoint:
    """A moment of a pen.

    Attributes
    ----------
    at_s : float
        Since the pen was set down.
    x, y : float
        In pixels of the frame.
    pressure : float
        0 to 1.
    tilt_x_deg, tilt_y_deg : float
    """

    at_s: float
    x: float
    y: float
    pressure: float = 1.0
    tilt_x_deg: float = 0.0
    tilt_y_deg: float = 0.0


def simulated(points: Points, px_per_s: float = 300.0, steps_px: float = 3.0) -> tuple[PenPoint, ...]:
    """Return a stroke of a simulated pen along points (N, 2) of a frame, at an even speed."""
    places = np.asarray(points, float)
    along = lengths_along(places)
    at = np.append(np.arange(0.0, along[-1], steps_px), along[-1])
    pen = SimulatedPen()
    found: list[PenPoint] = []
    for way in at:
        x, y = (float(np.interp(way, along, places[:, axis])) for axis in range(2))
        time = float(way / px_per_s)
        pressure = pen.press(x, y, time) if not found else pen.move(x, y, time)
        found.append(PenPoint(time, x, y, pressure))
    return tuple(found)


def write_points(path: Path, strokes: Iterable[tuple[PenPoint, ...]]) -> None:
    """Write recorded strokes of a pen as JSON."""
    path.write_text(json.dumps([[asdict(point) for point in stroke] for stroke in strokes], indent=1))


def read_points(path: Path) -> tuple[tuple[PenPoint, ...], ...]:
    """Return recorded strokes of a pen.

    Raises
    ------
    ValueError
        If the file is none of recorded strokes.
    """
    try:
        return tuple(tuple(PenPoint(**point) for point in stroke) for stroke in json.loads(path.read_text()))
    except (TypeError, KeyError, json.JSONDecodeError) as error:
        raise ValueError(f"{path.name} holds no strokes of a pen: {error}") from error
