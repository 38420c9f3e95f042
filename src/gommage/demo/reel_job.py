"""The job of shot 3, done by a script: dust and hairs cured from the frame before, a scratch by two strokes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.document import (
    Array,
    Brush,
    Fix,
    FrameOffset,
    Frames,
    Group,
    Matte,
    Painted,
    Painting,
    PinnedFrame,
    PlaneFollow,
    Project,
    Shape,
    Shot,
    Source,
    Stroke,
    Surface,
    Tool,
    edits,
)
from gommage.core.engine import Engine, followed
from gommage.core.engine.inputs import mappings_of
from gommage.core.geometry import Points
from gommage.demo.reel import DUST, HAIRS, SCRATCH, ReelShot, scratch_line

__all__ = ["HOME", "cured"]

HOME = 1030
AREA = [[180, 110], [760, 110], [760, 430], [180, 430]]
AWAY = -2
CLEAN = 1003
"""A frame before the scratch begins."""


def cured(engine: Engine, demo: ReelShot, check: Callable[[], None] = lambda: None) -> Project:
    """Return the project of shot 3 with its sky followed and all its damage painted away.

    Parameters
    ----------
    engine : Engine
    demo : ReelShot
        Drawn.
    check : callable
    """
    project = Project.of(Shot(id="reel", name="Paper theatre, old reel", footage=demo.footage))
    areas = Matte.of(Shape.of("area", HOME, AREA), surface_id="sky")
    sky = Surface(id="sky", name="Sky", home_frame=HOME, how=PlaneFollow(areas=areas))
    project = followed(engine, edits.add_surface(project, "reel", sky), "reel", "sky", check=check)
    strokes, groups = _strokes(project.shots[0])
    fix = Fix(
        id="dirt", name="Dirt", surface_id="sky", fill=Painted(), touch_up=Painting(strokes=strokes, groups=groups)
    )
    return edits.add_fix(project, "reel", fix)


def _strokes(shot: Shot) -> tuple[tuple[Stroke, ...], tuple[Group, ...]]:
    from_frame = {frame: mappings_of(shot)("sky", frame) for frame in shot.footage.frames}

    def on_frame(name: str, group_id: str, frame: int, places: Points, size_px: float) -> Stroke:
        mapping = from_frame[frame]
        assert mapping is not None
        points = mapping.inverse()(places)
        return Stroke(
            id=name, points=Array(np.column_stack([points, np.ones(len(points))])), surface_id="sky",
            brush=Brush(tool=Tool.HEAL, size_px=size_px, softness=0.3), source=Source(time=FrameOffset(frames=AWAY)),
            frames=(Frames(first=frame, last=frame),), group_id=group_id,
        )  # fmt: skip

    found = [
        on_frame(f"dust-{index}", "dust", one.frame, np.array([[one.x, one.y]]), 4 * one.radius_px + 6)
        for index, one in enumerate(DUST)
    ]
    found += [
        on_frame(f"hair-{index}", "hairs", one.frame, np.array(one.points), 12.0) for index, one in enumerate(HAIRS)
    ]
    line = scratch_line(HOME)
    line = np.vstack([line[0] - (0, 14), line, line[-1] + (0, 14)])
    points = Array(np.column_stack([line, np.ones(len(line))]))
    brush = Brush(tool=Tool.HEAL, size_px=22.0, softness=0.3)
    life = (Frames(first=SCRATCH.first, last=SCRATCH.last),)
    for name, source in (("beside", Source(dx=34.0)), ("before", Source(time=PinnedFrame(frame=CLEAN)))):
        found.append(
            Stroke(id=f"scratch-{name}", points=points, brush=brush, source=source, frames=life, group_id="scratch")
        )
    groups = tuple(Group(id=name, name=name.capitalize()) for name in ("dust", "hairs", "scratch"))
    return tuple(found), groups
