"""The job of shot 1, done by a script: follow the column, cover the label, paint a clean plate, match."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    Fix,
    Matte,
    Painting,
    PlaneFollow,
    Plates,
    Project,
    Shape,
    Shot,
    Softness,
    Source,
    Stroke,
    Surface,
    edits,
)
from gommage.core.engine import Engine, followed
from gommage.core.geometry import Points
from gommage.demo.scene import LABEL_CENTRE, LABEL_SIZE, LABEL_TURN, SHAFT_REPEAT
from gommage.demo.shot import DemoShot

__all__ = ["HOME_FRAME", "cleaned", "demo_project", "recorded_strokes"]

HOME_FRAME = 1030
STROKE_WIDTH = 18.0
COVER_MARGIN = 8.0
MARGIN = 18.0
"""Sheet pixels painted beyond the label."""


def demo_project(demo: DemoShot) -> Project:
    """Return a project with the untouched demo shot."""
    return Project.of(Shot(id="theatre", name="Paper theatre, label", footage=demo.footage))


def column_area(demo: DemoShot) -> Shape:
    """Return the area to follow, as an artist draws it on the home frame."""
    return Shape.of("area", HOME_FRAME, demo.column_corners(HOME_FRAME))


def label_cover(demo: DemoShot) -> Shape:
    """Return the cover round the label, somewhat larger than it."""
    corners = demo.label_corners(HOME_FRAME)
    middle = corners.mean(axis=0)
    grown = corners + COVER_MARGIN * np.sign(corners - middle)
    return Shape.of("cover", HOME_FRAME, grown)


def recorded_strokes(demo: DemoShot) -> tuple[Stroke, ...]:
    """Return the strokes that paint the label out of the home frame.

    Straight strokes down the column, each with a source of its own one repeat of the printed paper above (for the
    upper half) or below (for the lower).
    """
    frame_from_sheet = demo.sheet_to_frame(HOME_FRAME)
    reach = LABEL_SIZE[0] / 2 + MARGIN
    half = LABEL_SIZE[1] / 2 + MARGIN
    strokes = []
    for side, repeat in (("above", -SHAFT_REPEAT), ("below", SHAFT_REPEAT)):
        for index, across in enumerate(np.arange(-reach, reach + 1, STROKE_WIDTH * 0.6)):
            middle = LABEL_CENTRE + (across, across * np.tan(LABEL_TURN))
            path = np.array([middle, middle + (0, np.sign(repeat) * half)])
            here: Points = frame_from_sheet(path)
            there = frame_from_sheet(path + (0, repeat))
            dx, dy = (there - here).mean(axis=0)
            strokes.append(
                Stroke(
                    id=f"{side}-{index:02d}",
                    points=Array(np.column_stack([here, [1.0, 1.0]])),
                    brush=Brush(size_px=STROKE_WIDTH, softness=0.4),
                    source=Source(dx=float(dx), dy=float(dy)),
                )
            )
    return tuple(strokes)


def follow_column(
    engine: Engine, project: Project, demo: DemoShot, check: Callable[[], None] = lambda: None
) -> Project:
    """Return the project with the column followed through the shot."""
    shot = project.shots[0]
    how = PlaneFollow(areas=Matte.of(column_area(demo), surface_id="column"))
    surface = Surface(id="column", name="Column", home_frame=HOME_FRAME, how=how)
    project = edits.add_surface(project, shot.id, surface)
    return followed(engine, project, shot.id, surface.id, check=check)


def cleaned(engine: Engine, demo: DemoShot) -> Project:
    """Return the project of shot 1 with the whole job done."""
    project = follow_column(engine, demo_project(demo), demo)
    shot_id = project.shots[0].id
    plate = CleanPlate(
        id="plate",
        name="Column without label",
        surface_id="column",
        home_frame=HOME_FRAME,
        painting=Painting(strokes=recorded_strokes(demo)),
    )
    project = edits.add_clean_plate(project, shot_id, plate)
    fix = Fix(
        id="1abe1",
        name="Price label",
        surface_id="column",
        cover=Matte.of(label_cover(demo), surface_id="column", softness=Softness(outwards_px=6.0)),
        fill=Plates(plate_ids=(plate.id,)),
    )
    return edits.add_fix(project, shot_id, fix)
