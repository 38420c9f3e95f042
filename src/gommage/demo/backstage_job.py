"""The job of shot 9, done by a script, and how true the solve, its planes and the repair are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    CleanPlate,
    Fix,
    Matte,
    Plates,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Surface,
    edits,
    placement,
)
from gommage.core.document.records import FromPicture
from gommage.core.engine import Engine, camera_solved, laid_plane, polish_planes, told_of_camera
from gommage.core.geometry import Mapping, Points
from gommage.core.picture import Picture
from gommage.core.picture.writing import write_still
from gommage.demo.backstage import CRATES, HEIGHT, LENS, PIECES, WIDTH, BackstageShot, motion_between
from gommage.demo.fills import FillFigures, fill_figures
from gommage.demo.filming import with_grain

__all__ = ["AREAS", "HOME", "SceneFigures", "backstage_begun", "crates_filled", "judged_scene", "scene_markdown"]

HOME = 1050
AREAS = {
    "floor": [(30, 400), (930, 400), (930, 530), (30, 530)],
    "wall": [(300, 20), (650, 20), (650, 200), (300, 200)],
    "wood": [(20, 20), (240, 20), (240, 240), (20, 240)],
    "parlour": [(720, 20), (950, 20), (950, 290), (720, 280)],
}
"""What is drawn round on the home frame, as a hand does it: the floor's with both crates on it."""
KEY_EVERY, GROWN_PX = 8, 9.0
SOFTNESS = Softness(outwards_px=4.0)
EVERY = 3
GRID = 7
JUDGED = range(1030, 1044)


@dataclass(frozen=True, slots=True)
class SceneFigures:
    """How true a solve is: (mean, worst frame's mean) of each plane's error in px, before and after the polish."""

    words: tuple[str, ...]
    median_px: float
    focal_off_percent: float
    before: dict[str, tuple[float, float]]
    after: dict[str, tuple[float, float]]
    slip_px: dict[str, float]


def backstage_begun(engine: Engine, demo: BackstageShot) -> Project:
    """Return the project of shot 9 with its camera solved, and planes laid through what is drawn round."""
    project = Project.of(Shot(id="theatre", name="Paper theatre, backstage", footage=demo.footage))
    project = camera_solved(engine, project, "theatre")
    camera = project.shots[0].camera
    assert camera is not None
    for name, area in AREAS.items():
        plane = laid_plane(camera, HOME, np.array(area, float), name.capitalize())
        project = edits.add_surface(
            project, "theatre", Surface(id=name, name=name.capitalize(), home_frame=HOME, how=plane)
        )
    return edits.set_ground(project, "theatre", "floor")


def _grown(points: Points) -> Points:
    away = points - points.mean(axis=0)
    return points + away * (GROWN_PX / np.hypot(*away.T)[:, None])


def _cover(shot: Shot, demo: BackstageShot, index: int) -> Matte:
    """Return an outline around a crate that rides on the floor, keyed every few frames, as a hand does it."""
    frames, floor = demo.numbers, placement(shot, shot.surface("floor"))
    assert floor is not None
    keys = []
    for frame in sorted({*frames[::KEY_EVERY], frames[-1]}):
        outline = _grown(demo.crate_outline(index, frame))
        around = outline - outline.mean(axis=0)
        angles = np.arctan2(around[:, 1], around[:, 0])
        order = np.argsort(angles)
        wanted = np.linspace(-np.pi, np.pi, 16, endpoint=False)
        reach = np.interp(wanted, angles[order], np.hypot(*around.T)[order], period=2 * np.pi)
        ring = outline.mean(axis=0) + _cast(around[order], wanted, reach)
        keys.append(ShapeKey.of(frame, floor.home_to_frame(frame).inverse()(ring)))
    shape = Shape.of(f"crate-{index}", keys[0].frame, keys[0].points)
    return Matte.of(replace(shape, keys=tuple(keys)), surface_id="floor", softness=SOFTNESS)


def _cast(outline: Points, wanted: NDArray[np.float64], reach: NDArray[np.float64]) -> Points:
    """Return where rays at some angles leave a convex outline about the origin, (K, 2)."""
    out = np.column_stack([np.cos(wanted), np.sin(wanted)]) * reach[:, None]
    nxt = np.roll(outline, -1, axis=0)
    for row, angle in enumerate(wanted):
        ray = np.array([np.cos(angle), np.sin(angle)])
        side = nxt - outline
        cross = ray[0] * side[:, 1] - ray[1] * side[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            along = (outline[:, 0] * side[:, 1] - outline[:, 1] * side[:, 0]) / cross
            share = (outline[:, 0] * ray[1] - outline[:, 1] * ray[0]) / cross
        hit = (share >= -1e-9) & (share <= 1 + 1e-9) & (along > 0)
        if hit.any():
            out[row] = ray * along[hit].max()
    return out


def crates_filled(project: Project, demo: BackstageShot, folder: Path) -> Project:
    """Return the project with both crates covered, each by one clean plate that was painted elsewhere."""
    path = folder / f"floor.{HOME}.exr"
    write_still(path, with_grain(demo.clean(HOME, grain=False), (demo.filming.seed, HOME)).astype(np.float16), bits=16)
    for index in range(len(CRATES)):
        plate = CleanPlate(id=f"plate-{index}", name=f"Floor {index + 1}", surface_id="floor", home_frame=HOME,
                           base=FromPicture(path=str(path)))  # fmt: skip
        project = edits.add_clean_plate(project, "theatre", plate)
        cover = _cover(project.shots[0], demo, index)
        fix = Fix(id=f"crate-{index}", name=f"Crate {index + 1}", surface_id="floor", cover=cover,
                  fill=Plates(plate_ids=(plate.id,)))  # fmt: skip
        project = edits.add_fix(project, "theatre", fix)
    return project


# -- the judge ----------------------------------------------------------------------------------------------


def plane_errors(shot: Shot, demo: BackstageShot) -> dict[str, tuple[float, float]]:
    """Return by how much each plane of a shot is off over its outline: the mean of all frames, and of the worst, px."""
    found = {}
    for name in AREAS:
        surface = shot.surface(name)
        low, high = surface.outline.min(axis=0), surface.outline.max(axis=0)
        grid = np.stack(np.meshgrid(*(np.linspace(a, b, GRID) for a, b in zip(low, high, strict=True))), axis=-1)
        points = grid.reshape(-1, 2)
        placed = placement(shot, surface)
        assert placed is not None
        means = []
        for frame in demo.numbers[::EVERY]:
            true = demo.moved(name, points, frame, surface.home_frame)
            inside = (true > 0).all(axis=1) & (true < (WIDTH, HEIGHT)).all(axis=1)
            if inside.any():
                off = placed.home_to_frame(frame)(points) - true
                means.append(float(np.hypot(*off[inside].T).mean()))
        found[name] = float(np.mean(means)), float(np.max(means))
    return found


def judged_scene(engine: Engine, demo: BackstageShot) -> tuple[Project, SceneFigures]:
    """Return the project with its planes polished, and how true it is."""
    project = backstage_begun(engine, demo)
    before = plane_errors(project.shots[0], demo)
    better, _, _ = polish_planes(engine, project.shots[0])
    project = better.edit(project, "theatre")
    shot, camera = project.shots[0], better.camera
    slips = {}
    for name in AREAS:
        placed = placement(shot, shot.surface(name))
        assert placed is not None
        slips[name] = float(placed.slip_px.mean())
    focal = 100 * abs(camera.lens.focal_px / LENS.focal_px - 1)
    figures = SceneFigures(told_of_camera(camera, shot.footage.bounds), camera.median_px, focal, before,
                           plane_errors(shot, demo), slips)  # fmt: skip
    return project, figures


class JudgedCrate:
    """Shot 9 as the judge of fills asks for it."""

    def __init__(self, demo: BackstageShot) -> None:
        self._demo = demo
        self.footage = demo.footage

    def clean(self, frame: int, *, grain: bool = True) -> Picture:
        """Return the clean frame."""
        return self._demo.clean(frame, grain=grain)

    def planes(self, frame: int, other: int) -> Sequence[tuple[Mapping, Picture | None]]:
        """Return the floor's true motion to another frame."""
        return ((motion_between(PIECES["floor"], frame, other), None),)


def judged_crates(engine: Engine, project: Project, demo: BackstageShot, seed: int = 9) -> dict[str, list[FillFigures]]:
    """Return of each crate's fix the figures of its oracle and of the repair."""
    shot = project.shots[0]
    found = {}
    for fix in shot.fixes:

        def alpha_of(frame: int, fix: Fix = fix) -> Picture:
            return engine.laid_matte(shot, frame, fix.id)

        def oracle(frame: int, fix: Fix = fix) -> Picture:
            alpha = alpha_of(frame, fix)[..., None]
            drawn = with_grain(demo.clean(frame, grain=False), (seed, frame))
            return np.asarray(engine.plate(shot.footage, frame) * (1 - alpha) + drawn * alpha)

        def inside(frame: int, fix: Fix = fix) -> NDArray[np.bool_]:
            return np.asarray(alpha_of(frame, fix) > 0.5)

        ways = {"oracle": oracle, "Gommage": lambda frame: engine.result(shot, frame)}
        found[fix.name] = [fill_figures(name, JudgedCrate(demo), JUDGED, inside, way) for name, way in ways.items()]
    return found


def scene_markdown(figures: SceneFigures) -> str:
    """Return a solve's figures as a table."""
    lines = [f"{line}." for line in figures.words]
    lines += [
        "", f"The focal length is {figures.focal_off_percent:.2f} % off.", "",
        "| plane | error before the polish | after it, mean over frames | the worst frame | slip it tells |",
        "|---|---|---|---|---|",
    ]  # fmt: skip
    for name in AREAS:
        before, (after, worst) = figures.before[name][0], figures.after[name]
        lines.append(f"| {name} | {before:.3f} px | {after:.3f} px | {worst:.3f} px | {figures.slip_px[name]:.3f} px |")
    return "\n".join(lines)
