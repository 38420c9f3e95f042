"""A cover that crosses a wall under a moving camera, filled from donor frames: frames a second."""

from __future__ import annotations

import time
from pathlib import Path

from msgspec.structs import replace

from benchmarks.shots import FIRST, rectangle, shot_on_disk
from gommage.core.document import Array, Donors, Matte, Shot, Softness
from gommage.core.document.records import Drawn, ShapeKey
from gommage.core.engine import Engine

__all__ = ["crossing_shot", "seconds_a_frame"]


def crossing_shot(folder: Path, width: int, height: int, count: int, files: int | None = None) -> Shot:
    """Return a shot on disk whose cover of 400 x 300 px goes across in as many frames as it has; see `shot_on_disk`."""
    (shot,) = shot_on_disk(folder, width, height, count, 1, 0, files).shots
    first, last = rectangle(200, height / 2 - 150, 400, 300), rectangle(width - 600, height / 2 - 150, 400, 300)
    keys = (first.keys[0], ShapeKey(frame=FIRST + count - 1, vertices=Array(last.keys[0].vertices.values)))
    shape = replace(first, keys=keys)
    cover = Matte.of(shape, softness=Softness(outwards_px=6.0))
    assert isinstance(cover.parts[0].source, Drawn)
    (fix,) = shot.fixes
    return replace(shot, fixes=(replace(fix, cover=cover, fill=Donors(surface_ids=("wall",))),))


def seconds_a_frame(engine: Engine, shot: Shot, frames: range) -> tuple[float, float]:
    """Return the seconds of the first frame, nothing read yet, and the mean of the others."""
    times = []
    for frame in frames:
        begin = time.perf_counter()
        engine.result(shot, frame)
        times.append(time.perf_counter() - begin)
    return times[0], sum(times[1:]) / (len(times) - 1)
