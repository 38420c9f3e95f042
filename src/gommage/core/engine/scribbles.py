"""Mattes from scribbles over a shot: cut where they are, carried from frame to frame elsewhere, each kept."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from itertools import groupby

import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import ScribbledAt
from gommage.core.cover.scribbles import Mark, carried, corrected, cut
from gommage.core.document import Footage, ScribbleMark
from gommage.core.engine.cache import Cache
from gommage.core.picture import Picture

__all__ = ["Scribbles"]

Check = Callable[[], None]
PictureOfFrame = Callable[[Footage, int, Check], Picture]


@dataclass(frozen=True, slots=True)
class _Step:
    """A matte on its way: bytes (H, W), and how far what the frame shows had moved its edge."""

    matte: NDArray[np.uint8]
    drift: float


class Scribbles:
    """Evaluates scribbles, given what reads the plate."""

    def __init__(self, cache: Cache, plate: PictureOfFrame) -> None:
        self._cache, self._plate = cache, plate

    def matte(self, footage: Footage, at: ScribbledAt, check: Check) -> Picture:
        """Return what scribbles say of a frame: (H, W) float32.

        Nothing where they are of one kind alone, or the way to the frame leads over one that is missing.
        """
        step = self._step(footage, at, check)
        if step is None:
            return np.zeros((footage.height, footage.width), np.float32)
        return step.matte.astype(np.float32) / np.float32(255)

    def drift(self, footage: Footage, at: ScribbledAt, check: Check) -> float:
        """Return in how much of its edge, 0 to 1, carrying and cutting disagreed on the way to a frame; 0 if marked."""
        step = self._step(footage, at, check)
        return 0.0 if step is None else step.drift

    def _step(self, footage: Footage, at: ScribbledAt, check: Check) -> _Step | None:
        by_frame = {frame: tuple(marks) for frame, marks in groupby(_sorted(at.marks), lambda mark: mark.frame)}
        anchors = [frame for frame, marks in by_frame.items() if {mark.is_inside for mark in marks} == {True, False}]
        if not anchors:
            return None
        anchor = min(anchors, key=lambda frame: (abs(frame - at.frame), frame))
        way = 1 if at.frame >= anchor else -1
        frames = range(anchor, at.frame + way, way)
        if any(frame in footage.missing for frame in frames):
            return None
        names = [_name(footage, by_frame, anchor, frame) for frame in frames]
        begun = next((k for k in range(len(frames) - 1, -1, -1) if names[k] in self._cache), 0)
        found: _Step | None = None
        for name, frame in list(zip(names, frames, strict=True))[begun:]:
            before, marks = found, by_frame.get(frame, ())

            def make(
                before: _Step | None = before, frame: int = frame, marks: tuple[ScribbleMark, ...] = marks
            ) -> _Step:
                return self._made(footage, frame, frame - way, before, marks, check)

            found = self._cache.get_or_make(name, make, check)
        return found

    def _made(
        self, footage: Footage, frame: int, came_from: int, before: _Step | None, marks: tuple[ScribbleMark, ...],
        check: Check,
    ) -> _Step:  # fmt: skip
        picture = self._plate(footage, frame, check)
        drawn = [Mark(mark.points.values, mark.is_inside) for mark in marks]
        if before is None:
            return _Step(_bytes(cut(picture, drawn, check)), 0.0)
        held = before.matte.astype(np.float32) / np.float32(255)
        moved = carried(self._plate(footage, came_from, check), held, picture, check)
        pixels = corrected(picture, moved.pixels, drawn, check) if drawn else moved.pixels
        return _Step(_bytes(pixels), 0.0 if drawn else moved.drift)


def _sorted(marks: tuple[ScribbleMark, ...]) -> list[ScribbleMark]:
    return sorted(marks, key=lambda mark: mark.frame)  # those of one frame stay in the order of the hand


def _name(footage: Footage, by_frame: dict[int, tuple[ScribbleMark, ...]], anchor: int, frame: int) -> Hashable:
    """Return all that a step depends on: the marks that its way passes."""
    low, high = min(anchor, frame), max(anchor, frame)
    passed = tuple((at, marks) for at, marks in by_frame.items() if low <= at <= high)
    return "scribbled", footage, passed, anchor, frame


def _bytes(matte: Picture) -> NDArray[np.uint8]:
    return np.asarray(np.round(matte * 255), np.uint8)
