"""What is told of a stroke on the shot: where it is not laid, and where what stays in front hides it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.cover import matte_on
from gommage.core.document import Fix, FrameOffset, Shot, Stroke, is_within, mappings_of
from gommage.core.engine.evaluate import Engine
from gommage.core.geometry import Points, Window, around
from gommage.core.paint import TOOLS
from gommage.core.picture import Picture

__all__ = ["told_of_stroke"]

MOST_LOOKED_AT = 24
"""On so many of a stroke's frames, spread evenly, it is compared with what is held out."""
COVERED = 0.5
PATH_STEPS = 40


def told_of_stroke(
    engine: Engine, shot: Shot, fix: Fix, stroke: Stroke, check: Callable[[], None] = lambda: None
) -> str:
    """Return sentences about the frames on which a stroke is hidden or cannot be laid; empty if there are none.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    fix : Fix
        Whose stroke it is.
    stroke : Stroke
    check : callable
    """
    frames = [frame for frame in shot.footage.frames if is_within(stroke.frames, frame)]
    mapping = mappings_of(shot)
    unplaced = [frame for frame in frames if mapping(stroke.surface_id, frame) is None]
    told = []
    if unplaced:
        told.append(f"not laid on {_words(unplaced)}: {shot.surface(stroke.surface_id).name} is not followed there")
    away = stroke.source.time.frames if isinstance(stroke.source.time, FrameOffset) else 0
    if away and TOOLS[stroke.brush.tool].takes_source:
        beyond = [frame for frame in frames if frame + away not in shot.footage.frames]
        if beyond:
            told.append(f"not laid on {_words(beyond)}: there is no frame {away:+d} from there")
    hidden = _hidden(engine, shot, fix, stroke, [frame for frame in frames if frame not in unplaced], check)
    if hidden:
        told.append(f"behind what is held out on {_words(hidden)}")
    return f"The stroke is {'; '.join(told)}." if told else ""


def _hidden(
    engine: Engine, shot: Shot, fix: Fix, stroke: Stroke, frames: list[int], check: Callable[[], None]
) -> list[int]:
    """Return those of the frames looked at on which a stroke runs under what its fix holds out."""
    if not fix.hold_outs.parts or not frames:
        return []
    chosen = sorted({frames[round(place)] for place in np.linspace(0, len(frames) - 1, MOST_LOOKED_AT)})
    mapping, found = mappings_of(shot), []
    points = stroke.points.values[:, :2]
    points = points[np.unique(np.linspace(0, len(points) - 1, PATH_STEPS).round().astype(int))]
    for frame in chosen:
        check()
        to_frame = mapping(stroke.surface_id, frame)
        assert to_frame is not None
        places = to_frame(points)
        if not np.isfinite(places).all():
            continue
        window = around(places, 1) & shot.footage.bounds
        if window.is_empty:
            continue
        matte = engine.pictures.matte(shot.footage, matte_on(shot, fix.hold_outs, frame), window, 1.0, check)
        if _touches(matte, places, window):
            found.append(frame)
    return found


def _touches(matte: Picture, places: Points, window: Window) -> bool:
    """Return whether a matte (h, w) of a window is full somewhere along the middle of a stroke."""
    x = np.floor(places[:, 0]).astype(int) - window.left
    y = np.floor(places[:, 1]).astype(int) - window.top
    inside = (x >= 0) & (y >= 0) & (x < matte.shape[1]) & (y < matte.shape[0])
    return bool((matte[y[inside], x[inside]] > COVERED).any())


def _words(frames: list[int]) -> str:
    """Return frames in words: one, or so many from one to another."""
    return f"{frames[0]}" if len(frames) == 1 else f"{len(frames)} frames from {frames[0]} to {frames[-1]}"
