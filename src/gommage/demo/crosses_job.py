"""The job of shot 2, done by a script: what passes in front is followed and held out of the cover of a cross."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.cover.freehand import fitted_line
from gommage.core.document import (
    Array,
    Drawn,
    Ease,
    Fix,
    Matte,
    MattePart,
    PlaneFollow,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Surface,
    VertexKind,
    edits,
)
from gommage.core.document.edits.shapes import moved_vertices
from gommage.core.engine import Engine, followed, mappings_of, proposed_key
from gommage.core.geometry import Points
from gommage.demo.crosses import BRIM_CROSS, FIRST_FRAME, FRAMES, CrossesShot

__all__ = ["HOME", "held_out"]

HOME = 1051
KEY_EVERY = 10
REACH_PX = 14.0
SOFTNESS = Softness(inwards_px=1.5, outwards_px=1.5, shutter_deg=180)
NAMES = {"head": ("Head",), "hair": ("Hair left", "Hair right"), "lantern": ("Lantern",)}


def held_out(engine: Engine, demo: CrossesShot, check: Callable[[], None] = lambda: None) -> Project:
    """Return the project of shot 2 with a cross covered, and head, hair and lantern held out of it.

    Parameters
    ----------
    engine : Engine
    demo : CrossesShot
        Drawn.
    check : callable
    """
    project = Project.of(Shot(id="crosses", name="Paper theatre, crosses", footage=demo.footage))
    sky = np.array([[1150, 20], [1400, 20], [1400, 1000], [1150, 1000.0]])
    (head,), (lantern,) = demo.outlines("head", HOME), demo.outlines("lantern", HOME)
    body = lantern[lantern[:, 1] > lantern[:, 1].max() - 230]
    for name, area in (("Sky", sky), ("Puppet", _shrunk(head, 0.94)), ("Lantern", _shrunk(body, 0.9))):
        surface_id = name.lower()
        areas = Matte.of(Shape.of(f"area-{surface_id}", HOME, area[:: max(len(area) // 24, 1)]), surface_id=surface_id)
        surface = Surface(id=surface_id, name=name, home_frame=HOME, how=PlaneFollow(areas=areas))
        project = followed(engine, edits.add_surface(project, "crosses", surface), "crosses", surface_id, check=check)
    cross = _part("Cross", _shrunk(demo.outlines("crosses", HOME)[BRIM_CROSS], 1.3), "sky", project)
    carriers = {"head": "puppet", "hair": "puppet", "lantern": "lantern"}
    held = tuple(
        _part(name, outline, carriers[thing], project)
        for thing, names in NAMES.items()
        for name, outline in zip(names, demo.outlines(thing, HOME), strict=True)
    )
    fix = Fix(
        id="cross", name="Cross at the brim", surface_id="sky",
        cover=Matte(parts=(cross,), softness=Softness(outwards_px=2.0)), hold_outs=Matte(parts=held, softness=SOFTNESS),
    )  # fmt: skip
    return _with_keys(engine, edits.add_fix(project, "crosses", fix), check)


def _shrunk(outline: Points, share: float) -> Points:
    middle = (outline.min(axis=0) + outline.max(axis=0)) / 2
    return middle + (outline - middle) * share


def _part(name: str, outline: Points, surface_id: str, project: Project) -> MattePart:
    """Return a part with few points through an outline on the home frame, riding on a surface."""
    vertices, kinds = fitted_line(outline, 0.3)
    there = mappings_of(project.shots[0])(surface_id, HOME)
    assert there is not None
    vertices = moved_vertices(vertices, kinds, there.inverse(), is_closed=True)
    keys = (ShapeKey(frame=HOME, vertices=Array(vertices)),)
    part_id = name.lower().replace(" ", "-")
    shape = Shape(id=part_id, name=name, keys=keys, kinds=kinds, ease=Ease.SMOOTH)
    assert VertexKind.HANDLES in kinds
    return MattePart(id=part_id, source=Drawn(shape=shape, surface_id=surface_id))


def _with_keys(engine: Engine, project: Project, check: Callable[[], None]) -> Project:
    """Return the project with the hair keyed every so many frames, from the home frame outwards."""
    last = FIRST_FRAME + FRAMES - 1
    frames = (*range(HOME + KEY_EVERY, last + 1, KEY_EVERY), *range(HOME - KEY_EVERY, FIRST_FRAME - 1, -KEY_EVERY))
    for frame in frames:
        for part in project.shots[0].fix("cross").hold_outs.parts[1:3]:
            vertices, _ = proposed_key(engine, project.shots[0], part, frame, REACH_PX, check)
            key = ShapeKey(frame=frame, vertices=Array(vertices), is_measured=True)
            project = edits.set_shape_key(project, "crosses", part.id, key)
    return project
