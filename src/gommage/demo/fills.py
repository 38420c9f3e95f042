"""The jobs of shots 5 and 6, done by a script, and a judge of what is filled: beside an oracle, and other ways."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Donors,
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
    edits,
)
from gommage.core.document.edits import Slot
from gommage.core.document.records import Drawn
from gommage.core.engine import Engine, followed
from gommage.core.geometry import Mapping, Points, Window
from gommage.core.picture import Picture, luminance, resample
from gommage.demo.filming import with_grain
from gommage.demo.moth import SKY, TOWN, MothShot, make_moth
from gommage.demo.other_ways import JudgedShot, other_ways
from gommage.demo.passer_by import WALL, PasserByShot, make_passer_by

__all__ = [
    "JOBS",
    "FillFigures",
    "fill_figures",
    "fill_markdown",
    "steps_across",
    "judged_fill",
    "moth_filled",
    "passer_by_filled",
]

KEY_EVERY = 4
GROWN_PX = 5.0
SOFTNESS = Softness(outwards_px=4.0)
SOFT_PX = 2.0
"""What is coarser than this is flicker, what is finer is grain."""


# -- the jobs -----------------------------------------------------------------------------------------------


def _with_surface(
    engine: Engine, project: Project, surface_id: str, area: Points, home: int, in_front: bool = True
) -> Project:
    shot = project.shots[0]
    areas = Matte.of(Shape.of(f"area-{surface_id}", home, area), surface_id=surface_id)
    how = PlaneFollow(areas=areas, leaves_out_front=in_front)
    surface = Surface(id=surface_id, name=surface_id.capitalize(), home_frame=home, how=how)
    return followed(engine, edits.add_surface(project, shot.id, surface), shot.id, surface_id)


def _outline(name: str, frames: range, outline: Callable[[int], Points]) -> Shape:
    """Return a shape keyed every few frames, as a hand does it, grown by some pixels."""
    keys = sorted({*frames[::KEY_EVERY], frames[-1]})
    shape = Shape.of(name, keys[0], _grown(outline(keys[0])))
    return replace(shape, keys=tuple(ShapeKey.of(frame, _grown(outline(frame))) for frame in keys))


def _grown(points: Points) -> Points:
    middle = points.mean(axis=0)
    away = points - middle
    return middle + away * (1 + GROWN_PX / np.hypot(*away.T)[:, None])


def passer_by_filled(engine: Engine, demo: PasserByShot) -> Project:
    """Return the project of shot 5: the wall followed, the walker under a keyed cover, filled from other frames."""
    frames = demo.numbers
    project = Project.of(Shot(id="theatre", name="Paper theatre, passer-by", footage=demo.footage))
    project = _with_surface(engine, project, "wall", WALL, frames[len(frames) // 2])
    cover = Matte.of(_outline("walker", frames, demo.outline), softness=SOFTNESS)
    fix = Fix(id="passer", name="Passer-by", cover=cover, fill=Donors(surface_ids=("wall",)))
    return edits.add_fix(project, "theatre", fix)


def moth_filled(engine: Engine, demo: MothShot) -> Project:
    """Return the project of shot 6: both backdrops followed, the near one's extent drawn, moth and rod filled."""
    frames = demo.numbers
    home = frames[len(frames) // 2]
    project = Project.of(Shot(id="theatre", name="Paper theatre, moth on a rod", footage=demo.footage))
    for surface_id, area in (("sky", SKY), ("town", TOWN)):
        project = _with_surface(engine, project, surface_id, area, home)
    extent = MattePart(id="roofs", source=Drawn(shape=Shape.of("roofs", home, demo.village_outline(home)),
                                                surface_id="town"))  # fmt: skip
    project = edits.add_part(project, "theatre", "town", Slot.EXTENT, extent)
    cover = Matte.of(
        _outline("rod", frames, demo.rod_outline), _outline("moth", frames, demo.moth_outline), softness=SOFTNESS
    )
    fix = Fix(id="moth", name="Moth on a rod", cover=cover, fill=Donors(surface_ids=("sky", "town")))
    return edits.add_fix(project, "theatre", fix)


# -- the judge ----------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class FillFigures:
    """A fill inside the cover, over the frames that were looked at.

    Attributes
    ----------
    psnr_db : float
        Against the clean shot with its own grain, peak 1, linear light.
    flicker_percent : float
        Change from frame to frame along the true motion, coarser than `SOFT_PX`, of the picture's level.
    seam_percent : float
        How far the step across the cover's edge is off the true one, root mean square, of the picture's level.
    living_grain : float
        Variance of what is finer in that change, over that of the clean shot with its grain.
    """

    name: str
    psnr_db: float
    flicker_percent: float
    seam_percent: float
    living_grain: float


def fill_figures(
    name: str, demo: JudgedShot, frames: range, inside_of: Callable[[int], NDArray[np.bool_]],
    picture_of: Callable[[int], Picture],
) -> FillFigures:  # fmt: skip
    """Return how good a fill is on some frames that follow each other.

    Parameters
    ----------
    name : str
    demo : JudgedShot
    frames : range
    inside_of : callable
        From a frame to where it is judged, (H, W) bool: the cover, as far as any frame shows what it hides.
    picture_of : callable
        From a frame to the result, (H, W, 3).
    """
    errors, flickers, seams, lively, true_lively = [], [], [], [], []
    for frame in frames:
        inside, result = inside_of(frame), picture_of(frame)
        truth = demo.clean(frame)
        errors.append(((result - truth)[inside] ** 2).ravel())
        bare = demo.clean(frame, grain=False)
        off = luminance((result - bare).astype(np.float32)) / max(float(luminance(bare)[inside].mean()), 1e-4)
        seams.append(steps_across(cv2.GaussianBlur(off, (0, 0), 1.0), inside))
        if frame + 1 not in frames:
            continue
        after, true_after = picture_of(frame + 1), demo.clean(frame + 1)
        inner = cv2.erode(inside.view(np.uint8), np.ones((5, 5), np.uint8)).view(bool)
        for number, (motion, seen) in enumerate(demo.planes(frame, frame + 1)):
            where = inner & _seen(demo.planes(frame, frame + 1), number, seen, inner.shape)
            window = Window.of(inner.shape[1], inner.shape[0])
            there = resample(inside_of(frame + 1).astype(np.float32), motion, window)
            where &= (there.pixels > 0.99) & (there.inside > 0)
            if where.sum() < 50:
                continue
            light = _light_between(demo, frame, motion, window, where)
            change = resample(after, motion, window).pixels * light - result
            true_change = resample(true_after, motion, window).pixels * light - truth
            level = max(float(truth[where].mean()), 1e-4)
            coarse = cv2.GaussianBlur(change, (0, 0), SOFT_PX)
            flickers.append((coarse[where] / level) ** 2)
            lively.append((change - coarse)[where].ravel() ** 2)
            true_lively.append((true_change - cv2.GaussianBlur(true_change, (0, 0), SOFT_PX))[where].ravel() ** 2)
    return FillFigures(
        name,
        float(-10 * np.log10(np.concatenate(errors).mean())),
        100 * float(np.sqrt(np.concatenate(flickers).mean())),
        100 * float(np.sqrt(np.concatenate(seams).mean())),
        float(np.concatenate(lively).mean() / np.concatenate(true_lively).mean()),
    )


def _seen(
    planes: Sequence[tuple[Mapping, Picture | None]], number: int, seen: Picture | None, shape: tuple[int, ...]
) -> NDArray[np.bool_]:
    """Return where a surface is seen and none of those in front of it is."""
    found = np.ones(shape, bool) if seen is None else seen > 0.99
    for _, in_front in planes[number + 1 :]:
        if in_front is not None:
            found &= in_front < 0.01
    return found


def _light_between(
    demo: JudgedShot, frame: int, motion: Mapping, window: Window, where: NDArray[np.bool_]
) -> NDArray[np.float32]:
    """Return the true light of a frame over that of the next, so that exposure is no flicker."""
    here = demo.clean(frame, grain=False)[where].mean(axis=0)
    there = resample(demo.clean(frame + 1, grain=False), motion, window).pixels[where].mean(axis=0)
    return (here / np.maximum(there, 1e-6)).astype(np.float32)


def steps_across(off: Picture, inside: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Return the squared slopes of what a result is off, along the edge of the cover."""
    mask = inside.view(np.uint8)
    kernel = np.ones((3, 3), np.uint8)
    edge = (cv2.dilate(mask, kernel) - cv2.erode(mask, kernel)).view(bool)
    across, down = (cv2.Scharr(off, cv2.CV_32F, *way) / 32 for way in ((1, 0), (0, 1)))
    return np.asarray((across**2 + down**2)[edge])


def judged_fill(
    engine: Engine, project: Project, demo: JudgedShot, frames: range, others: bool = True, grain_seed: int = 9
) -> list[FillFigures]:
    """Return the figures of a job, of its oracle, and of simpler ways."""
    shot = project.shots[0]
    (fix,) = shot.fixes

    def alpha_of(frame: int) -> Picture:
        return engine.laid_matte(shot, frame, fix.id)

    def inside_of(frame: int) -> NDArray[np.bool_]:
        inside = alpha_of(frame) > 0.5
        seen = engine.elsewhere(shot, fix, frame, 1.0)
        if seen is not None:
            rest = np.zeros(inside.shape, np.uint8)
            rest[seen.window.slices] = seen.hole & (seen.count == 0)
            inside &= ~cv2.dilate(rest, np.ones((7, 7), np.uint8)).view(bool)
        return np.asarray(inside)

    def oracle(frame: int) -> Picture:
        alpha = alpha_of(frame)[..., None]
        drawn = with_grain(demo.clean(frame, grain=False), (grain_seed, frame))
        return np.asarray(engine.plate(shot.footage, frame) * (1 - alpha) + drawn * alpha)

    ways: dict[str, Callable[[int], Picture]] = {
        "oracle: clean, with grain of its own": oracle,
        "Gommage": lambda frame: engine.result(shot, frame),
    }
    if others:
        ways |= other_ways(demo, range(shot.footage.frames.first, shot.footage.frames.last + 1), alpha_of,
                             lambda frame: engine.plate(shot.footage, frame))  # fmt: skip
    judged_on = lru_cache(maxsize=len(frames))(inside_of)
    return [fill_figures(name, demo, frames, judged_on, lru_cache(maxsize=2)(way)) for name, way in ways.items()]


@dataclass(frozen=True, slots=True)
class Job:
    """A shot's job, and the frames that it is judged on: those on which the thing is in the middle of the picture."""

    make: Callable[..., Any]
    fill: Callable[[Engine, Any], Project]
    frames: range


JOBS = {
    "passer-by": Job(make_passer_by, passer_by_filled, range(1016, 1030)),
    "moth on a rod": Job(make_moth, moth_filled, range(1020, 1034)),
}


def fill_markdown(figures: list[FillFigures]) -> str:
    """Return figures as a table; flicker and seam as multiples of the oracle's too."""
    oracle = figures[0]
    lines = ["| way | PSNR in the cover | flicker | seam | living grain |", "|---|---|---|---|---|"]
    lines += [
        f"| {one.name} | {one.psnr_db:.2f} dB | {one.flicker_percent:.2f} % "
        f"({one.flicker_percent / oracle.flicker_percent:.2f}) | {one.seam_percent:.2f} % "
        f"({one.seam_percent / oracle.seam_percent:.2f}) | {one.living_grain:.2f} |"
        for one in figures
    ]
    return "\n".join(lines)
