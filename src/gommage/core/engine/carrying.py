"""Scribbles carried over a whole shot."""

from __future__ import annotations

from collections.abc import Callable

from gommage.core.cover import ScribbledAt
from gommage.core.document import Scribbled, Shot
from gommage.core.engine.evaluate import Engine

__all__ = ["carried_over"]


def carried_over(
    engine: Engine, shot: Shot, source: Scribbled, progress: Callable[[float], None] = lambda share: None,
    check: Callable[[], None] = lambda: None,
) -> dict[int, float]:  # fmt: skip
    """Carry scribbles over all frames, so that they are in the cache, and return how far they drifted on each.

    Returns
    -------
    dict of int to float
        For frames: in how much of the edge, 0 to 1, carrying and what the frame shows disagreed; 0 on marked frames.
        Empty if no frame has scribbles of both kinds.
    """
    anchors = {frame for frame in {mark.frame for mark in source.marks}
               if {mark.is_inside for mark in source.marks if mark.frame == frame} == {True, False}}  # fmt: skip
    if not anchors:
        return {}
    frames = [frame for frame in shot.footage.frames if frame not in shot.footage.missing]
    in_order = sorted(
        frames, key=lambda frame: min(abs(frame - anchor) for anchor in anchors)
    )  # each from its neighbour
    found = {}
    for count, frame in enumerate(in_order, 1):
        at = ScribbledAt(marks=source.marks, frame=frame)
        found[frame] = engine.pictures.scribbles.drift(shot.footage, at, check)
        progress(count / len(in_order))
    return found
