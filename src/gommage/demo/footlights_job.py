"""The job of shots 10 and 11, done by a script, and how true the repaired panorama is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Array,
    Borrow,
    Fix,
    Matte,
    MattePart,
    Place,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Still,
    Surface,
    Texture,
    edits,
)
from gommage.core.document.records import Drawn
from gommage.core.engine import Engine, panorama_view, sphere_followed
from gommage.core.geometry import Points, Window
from gommage.core.picture.panoramas import flat_view
from gommage.demo.filming import with_grain
from gommage.demo.footlights import EYE, HALF, TILES, FootlightsShot

__all__ = [
    "WAYS",
    "PanoramaFigures",
    "borrowed_away",
    "judged_panorama",
    "panorama_markdown",
    "tile_px",
    "tripod_outlines",
    "tripod_view",
    "turn_words",
]

HOME = 1008
FOV_DEG = 112.0
SOFTNESS = Softness(outwards_px=4.0)
THERE, GROWN_PX = 0.012, 9
"""A hand draws round what takes so much light, and some pixels more."""
JUDGED = range(1003, 1015, 3)


@dataclass(frozen=True, slots=True)
class PanoramaFigures:
    """A repaired panorama where it was covered, against the oracle's, and how many pixels elsewhere changed."""

    name: str
    psnr_db: float
    oracle_db: float
    changed_outside: int


def tripod_view(engine: Engine, demo: FootlightsShot) -> tuple[Project, str]:
    """Return the project of a panorama with a flat view straight down, and that view's id."""
    shot = Shot(id="theatre", name="Paper theatre, footlights", footage=demo.footage)
    project = Project.of(shot)
    if demo.is_turned:
        project = sphere_followed(engine, project, shot.id, HOME)
        sphere = project.shots[0].sphere
        assert sphere is not None
        level = replace(sphere, level=Array(demo.turn(HOME).T))  # as a hand levels it, by the carpet
        project = edits.set_sphere(project, shot.id, level)
    view = panorama_view(project.shots[0], demo.footage.width / 2, demo.footage.height, FOV_DEG, "Down")
    project = edits.add_view(project, shot.id, view)
    side = view.footage.width
    corners = Array(Window.of(side, side).corners)
    surface = Surface(id="floor", name="Floor", home_frame=HOME, how=Still(corners=corners))
    return edits.add_surface(project, view.id, surface), view.id


def tripod_outlines(project: Project, view_id: str, demo: FootlightsShot) -> tuple[Points, ...]:
    """Return outlines (N, 2) around tripod and shadow in the flat view, as drawn generously by hand."""
    footage = project.shot(view_id).footage
    assert footage.turned is not None
    covered = np.repeat(demo.covered(HOME)[..., None], 3, axis=2)
    view = footage.turned.view_from_panorama(HOME, (footage.width, footage.height))
    seen = flat_view(covered, view, footage.bounds)[..., 0] > THERE
    grown = cv2.dilate(seen.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * GROWN_PX + 1,) * 2))
    lines, _ = cv2.findContours(grown, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    drawn = [cv2.approxPolyDP(line, 2.5, closed=True)[:, 0].astype(np.float64) for line in lines]
    return tuple(line for line in drawn if len(line) >= 3)


def tile_px(project: Project, view_id: str) -> float:
    """Return after how many pixels of the view straight down the carpet repeats."""
    turned = project.shot(view_id).footage.turned
    assert turned is not None
    return 2 * HALF / TILES / EYE * turned.focal_px


def _shape(project: Project, view_id: str, name: str, line: Points) -> Shape:
    """Return an outline as a shape; where the view rides on the stage, keyed as the tripod turns in it."""
    footage = project.shot(view_id).footage
    turned = footage.turned
    assert turned is not None
    shape = Shape.of(name, HOME, line)
    if turned.camera_turns is None:
        return shape
    size = footage.width, footage.height
    in_panorama = turned.view_from_panorama(HOME, size).inverse()(line)  # there it stays: it turns with the camera
    keys = [ShapeKey.of(frame, turned.view_from_panorama(frame, size)(in_panorama)) for frame in footage.frames]
    return replace(shape, keys=tuple(keys))


def _covered(project: Project, view_id: str, demo: FootlightsShot, fix: Fix) -> Project:
    parts = [
        MattePart(id=f"part-{number}", source=Drawn(shape=_shape(project, view_id, f"part-{number}", line)))
        for number, line in enumerate(tripod_outlines(project, view_id, demo))
    ]
    return edits.add_fix(project, view_id, _with_cover(fix, Matte(parts=tuple(parts), softness=SOFTNESS)))


def _with_cover(fix: Fix, cover: Matte) -> Fix:
    return Fix(id=fix.id, name=fix.name, surface_id=fix.surface_id, cover=cover, fill=fix.fill)


def textured_away(project: Project, view_id: str, demo: FootlightsShot) -> Project:
    """Return the project with tripod and shadow closed with the carpet around them."""
    fill = Texture(home_frame=HOME, is_square_on=False)
    return _covered(project, view_id, demo, Fix(id="tripod", name="Tripod", surface_id="floor", fill=fill))


def borrowed_away(project: Project, view_id: str, demo: FootlightsShot) -> Project:
    """Return the project with tripod and shadow cloned from the carpet beside them, some whole tiles away."""
    tile = tile_px(project, view_id)
    shot = project.shot(view_id)
    shapes = [_shape(project, view_id, "drawn", line) for line in tripod_outlines(project, view_id, demo)]
    frames = shot.footage.frames if demo.is_turned else (HOME,)
    outlines = tuple(shape.points_at(frame) for shape in shapes for frame in frames)
    pieces = _pieces(outlines, shot.footage.width, tile)
    parts, places = [], []
    for number, (line, dx, dy) in enumerate(pieces):
        part = MattePart(id=f"part-{number}", source=Drawn(shape=Shape.of(f"part-{number}", HOME, line)))
        parts.append(part)
        places.append(Place(part_id=part.id, dx=dx, dy=dy))
    cover = Matte(parts=tuple(parts), softness=SOFTNESS)
    fix = Fix(id="tripod", name="Tripod", surface_id="floor", cover=cover, fill=Borrow(places=tuple(places)))
    return edits.add_fix(project, view_id, fix)


def _pieces(outlines: tuple[Points, ...], side: int, tile: float) -> list[tuple[Points, float, float]]:
    """Return tiles of what is covered, and from how far each is taken: the nearest whole tiles that are free."""
    covered = np.zeros((side, side), np.uint8)
    for line in outlines:
        cv2.fillPoly(covered, [np.round(line).astype(np.int32)], 1)
    steps = [(i, j) for i in range(-5, 6) for j in range(-5, 6) if i or j]
    found = []
    step = tile / 2
    middle = side / 2
    count = int(side / step) + 2
    for row in range(-count // 2, count // 2 + 1):
        for column in range(-count // 2, count // 2 + 1):
            left, top = middle + column * step, middle + row * step
            box = Window(int(left), int(top), int(left + step) + 1, int(top + step) + 1) & Window.of(side, side)
            if box.is_empty or not covered[box.slices].any():
                continue
            for i, j in sorted(steps, key=lambda one: one[0] ** 2 + one[1] ** 2):
                away = box.grown(8).shifted(round(i * tile), round(j * tile))
                if away & Window.of(side, side) == away and not covered[away.slices].any():
                    corners = np.array([[left, top], [left + step, top], [left + step, top + step], [left, top + step]])
                    found.append((corners, i * tile, j * tile))
                    break
    return found


# -- the judge ----------------------------------------------------------------------------------------------


def judged_panorama(
    engine: Engine, project: Project, demo: FootlightsShot, name: str, seed: int = 9
) -> PanoramaFigures:
    """Return how true a repaired panorama is where it was covered, beside the oracle that knows all but the grain."""
    shot = project.shots[0]
    errors, oracle, changed = [], [], 0
    for frame in (one for one in JUDGED if one in demo.numbers):
        alpha = engine.laid_matte(shot, frame)
        result, plate = engine.result(shot, frame), engine.plate(shot.footage, frame)
        truth, drawn = demo.clean(frame), with_grain(demo.clean(frame, grain=False), (seed, frame))
        inside = alpha > 0.5
        errors.append(((result - truth)[inside] ** 2).ravel())
        oracle.append(((drawn - truth)[inside] ** 2).ravel())
        changed += int((result != plate).any(axis=2)[alpha == 0].sum())
    return PanoramaFigures(name, _db(errors), _db(oracle), changed)


def _db(errors: list[NDArray[Any]]) -> float:
    return float(-10 * np.log10(np.concatenate(errors).mean()))


WAYS: dict[str, Callable[[Project, str, FootlightsShot], Project]] = {
    "clone": borrowed_away, "texture": textured_away
}  # fmt: skip


def turn_words(project: Project, demo: FootlightsShot) -> str:
    """Return how true the turn is that was followed, in words; empty where the camera is taken to stand."""
    sphere = project.shots[0].sphere
    if sphere is None or sphere.turns is None:
        return ""
    off = []
    for frame in demo.numbers:
        true = demo.turn(frame) @ demo.turn(HOME).T
        angle = np.arccos(np.clip((np.trace(true.T @ sphere.turn(frame)) - 1) / 2, -1, 1))
        off.append(float(angle) * demo.footage.width / (2 * np.pi))
    return f"The turn is followed to {np.mean(off):.3f} px of the panorama, {np.max(off):.3f} px on the worst frame."


def panorama_markdown(figures: list[PanoramaFigures]) -> str:
    """Return figures as a table."""
    lines = ["| way | PSNR in the cover | oracle | pixels changed outside |", "|---|---|---|---|"]
    lines += [
        f"| {one.name} | {one.psnr_db:.2f} dB | {one.oracle_db:.2f} dB | {one.changed_outside} |" for one in figures
    ]
    return "\n".join(lines)
