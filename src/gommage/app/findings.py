"""What was found out about a shot beside the interface, as long as it holds: figures, drift, what is seen elsewhere."""

from __future__ import annotations

from collections.abc import Hashable

from gommage.core.check import FrameMeasures
from gommage.core.document import Shot
from gommage.core.match import Stops

__all__ = ["Findings", "donors_key", "measured_key"]


class Findings:
    """Answers by what they depend on: what changed meanwhile is not found again, what was taken back is."""

    def __init__(self) -> None:
        self._measures: dict[Hashable, tuple[FrameMeasures, ...]] = {}
        self._drifts: dict[Hashable, dict[int, float]] = {}
        self._seen: dict[Hashable, dict[int, float]] = {}
        self._lights: dict[Hashable, dict[int, Stops]] = {}

    def clear(self) -> None:
        """Forget what belongs to the project that was left."""
        for answers in (self._measures, self._drifts, self._seen, self._lights):
            answers.clear()

    def measures(self, shot: Shot | None, fix_id: str) -> tuple[FrameMeasures, ...]:
        """Return the figures of a fix as it is, empty if it was not measured since it changed."""
        if shot is None or not _has(shot, fix_id):
            return ()
        return self._measures.get(measured_key(shot, fix_id), ())

    def keep_measures(self, key: Hashable, figures: tuple[FrameMeasures, ...]) -> None:
        """Keep the figures that were measured for a `measured_key`."""
        self._measures[key] = figures

    def drift(self, key: Hashable) -> dict[int, float]:
        """Return how far carrying drifted on each frame, for footage and scribbles; empty if they were not carried."""
        return self._drifts.get(key, {})

    def keep_drift(self, key: Hashable, drifts: dict[int, float]) -> None:
        """Keep how far carrying drifted, for footage and scribbles."""
        self._drifts[key] = drifts

    def seen(self, shot: Shot | None, fix_id: str) -> dict[int, float]:
        """Return how much of a fix's cover donors show on each frame, empty if that was not looked at as it is."""
        return self._seen.get(donors_key(shot, fix_id), {}) if shot is not None and _has(shot, fix_id) else {}

    def keep_seen(self, key: Hashable, seen: dict[int, float]) -> None:
        """Keep how much is seen, for a `donors_key`."""
        self._seen[key] = seen

    def knows_seen(self, key: Hashable) -> bool:
        """Whether it was looked how much is seen, for a `donors_key`."""
        return key in self._seen

    def lights(self, shot: Shot | None, fix_id: str) -> dict[int, Stops] | None:
        """Return the light that was found over the shot; None if it was not looked for as the fix is."""
        return self._lights.get(measured_key(shot, fix_id)) if shot is not None and _has(shot, fix_id) else None

    def keep_lights(self, key: Hashable, found: dict[int, Stops]) -> None:
        """Keep the light that was found, for a `measured_key`."""
        self._lights[key] = found


def _has(shot: Shot, fix_id: str) -> bool:
    return any(fix.id == fix_id for fix in shot.fixes)


def measured_key(shot: Shot, fix_id: str) -> Hashable:
    """Return what a fix's figures depend on: the fix, what it rides on and what lies below, and their pictures."""
    fix = shot.fix(fix_id)
    index = shot.fixes.index(fix)
    return (fix_id, shot.footage, shot.surfaces, shot.clean_plates, shot.fixes[: index + 1])


def donors_key(shot: Shot, fix_id: str) -> Hashable:
    """Return what a fix's donors depend on: its own cover and fill, the surfaces, and what else is covered."""
    fix = shot.fix(fix_id)
    covered = tuple((one.cover, one.hold_outs, one.frames, one.is_on) for one in shot.fixes)
    return (fix_id, fix.fill, fix.frames, shot.footage, shot.surfaces, covered)
