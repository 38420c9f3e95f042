"""Strokes on the shot: a frame with many of them, cold, after the last one changed, after the first one changed."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from benchmarks.shots import FIRST, shot_on_disk
from gommage.core.document import (
    Array,
    Brush,
    Fix,
    FrameOffset,
    Painted,
    Painting,
    Project,
    Shot,
    Source,
    Stroke,
    Tool,
    edits,
)
from gommage.core.engine import Engine

COUNT, POINTS = 500, 24
TOOLS = tuple(Tool)


def mixed_strokes(width: int, height: int, count: int = COUNT, seed: int = 4) -> tuple[Stroke, ...]:
    """Return strokes of all tools, some 150 px long, 12 to 50 px wide, all over the picture."""
    rng = np.random.default_rng(seed)
    found = []
    for number in range(count):
        start = rng.uniform((160, 160), (width - 160, height - 160))
        angle = rng.uniform(0, 2 * np.pi) + np.cumsum(rng.normal(0, 0.12, POINTS))
        way = np.cumsum(np.column_stack([np.cos(angle), np.sin(angle)]) * 6.5, axis=0)
        points = np.column_stack([start + way, rng.uniform(0.5, 1, POINTS)])
        brush = Brush(tool=TOOLS[number % len(TOOLS)], size_px=float(rng.uniform(12, 50)), softness=0.5)
        time_of = FrameOffset(frames=1 if number % 7 == 0 else 0)
        source = Source(dx=float(rng.integers(-60, 60)), dy=float(rng.integers(-60, 60)), time=time_of)
        found.append(Stroke(id=f"s{number}", points=Array(points), brush=brush, source=source))
    return tuple(found)


def painted_shot(folder: Path, width: int, height: int, strokes: tuple[Stroke, ...]) -> Project:
    """Return a project whose one fix is strokes on the shot."""
    project = shot_on_disk(folder, width, height, 2, 0, 0)
    fix = Fix(id="paint", name="Paint", fill=Painted(), touch_up=Painting(strokes=strokes))
    return edits.add_fix(project, project.shots[0].id, fix)


def touch_up_seconds(folder: Path, width: int, height: int) -> tuple[float, float, float]:
    """Return how long a frame takes: cold, with the last stroke changed, with the first one changed."""
    project = painted_shot(folder, width, height, mixed_strokes(width, height))
    shot, engine = project.shots[0], Engine()
    for frame in (FIRST, FIRST + 1):
        engine.plate(shot.footage, frame)
    engine.result(replace(shot, fixes=(_changed(shot, 3, 1.01),)), FIRST)  # code is compiled and loaded
    cold = float(np.median([_timed(Engine(), shot, warm=(FIRST, FIRST + 1)) for _ in range(3)]))
    engine = Engine()
    _timed(engine, shot, warm=(FIRST, FIRST + 1))
    lasts = [_timed(engine, replace(shot, fixes=(_changed(shot, -1, 1 + 0.05 * one),))) for one in range(1, 6)]
    firsts = [_timed(engine, replace(shot, fixes=(_changed(shot, 0, 1 + 0.05 * one),))) for one in range(1, 4)]
    return cold, float(np.median(lasts)), float(np.median(firsts))


def _changed(shot: Shot, index: int, by: float) -> Fix:
    """Return the shot's fix with one stroke wider."""
    fix = shot.fixes[0]
    strokes = list(fix.touch_up.strokes)
    brush = strokes[index].brush
    strokes[index] = replace(strokes[index], brush=replace(brush, size_px=brush.size_px * by))
    return replace(fix, touch_up=Painting(strokes=tuple(strokes)))


def _timed(engine: Engine, shot: Shot, warm: tuple[int, ...] = ()) -> float:
    for frame in warm:
        engine.plate(shot.footage, frame)
    begin = time.perf_counter()
    engine.result(shot, FIRST)
    return time.perf_counter() - begin
