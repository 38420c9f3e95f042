"""What no frame of shot 6 shows, painted on a merged plate, and merged plates themselves: jobs and a judge."""

from __future__ import annotations

import time
from dataclasses import dataclass

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    Donors,
    Merged,
    Painting,
    Project,
    Source,
    Stroke,
    Tool,
    edits,
)
from gommage.core.engine import Engine, found_sources
from gommage.core.fill import canvas_key, merged_window
from gommage.core.geometry import Window
from gommage.core.picture import Picture, luminance, resample
from gommage.demo.fills import SOFT_PX
from gommage.demo.moth import MothShot
from gommage.demo.other_ways import JudgedShot

__all__ = ["MergedFigures", "RestFigures", "merged_figures", "moth_rest_painted", "rest_figures", "rest_markdown"]

Mask = NDArray[np.bool_]
WALL_BESIDE, WIDER_PX, FINDS_PX = (45.0, -1.0), 8.0, 16.0
"""From where the wall's stroke takes, between the windows; how much wider than what they mend brushes are; and the size
by which the window's source is looked for.
"""
WINDOW_SHARE = 0.55
"""So much of the rest's height, from above, is window."""


def _with_merged(project: Project, surface_id: str) -> tuple[Project, CleanPlate]:
    """Return a project with a merged plate of a surface."""
    shot = project.shots[0]
    home = shot.surface(surface_id).home_frame
    window = merged_window(shot, surface_id, home)
    assert window is not None
    place = None if window == shot.footage.bounds else (window.left, window.top, window.right, window.bottom)
    plate = CleanPlate(id=f"{surface_id}-merged", name="Merged", surface_id=surface_id, home_frame=home, base=Merged(),
                       window=place)  # fmt: skip
    return edits.add_clean_plate(project, shot.id, plate), plate


def moth_rest_painted(engine: Engine, project: Project) -> Project:
    """Return the project of shot 6 with what no frame shows, where the rod is clamped, painted by two strokes."""
    project, plate = _with_merged(project, "town")
    shot = project.shots[0]
    (fix,) = shot.fixes
    rest = _rest(engine, project, plate.home_frame)
    _, _, boxes, _ = cv2.connectedComponentsWithStats(rest.view(np.uint8))
    left, top, width, height, _ = boxes[1 + int(boxes[1:, 4].argmax())].tolist()
    edge, middle = top + WINDOW_SHARE * height, left + width / 2
    above = found_sources(engine, shot, plate.id, plate.home_frame, (middle, top + FINDS_PX / 2), FINDS_PX)[0]
    strokes = tuple(
        Stroke(id=tool.value, points=Array([[middle, y, 1.0] for y in np.linspace(first, last, 8)]),
               brush=Brush(tool=tool, size_px=width + WIDER_PX), source=Source(dx=dx, dy=dy))
        for tool, first, last, (dx, dy) in (
            (Tool.HEAL, edge, top + height - width / 3, WALL_BESIDE),
            (Tool.CLONE, top, edge - width / 3, (float(above.dx), float(above.dy))),
        )
    )  # fmt: skip
    project = edits.change_clean_plate(project, shot.id, plate.id, painting=Painting(strokes=strokes))
    assert isinstance(fix.fill, Donors)
    return edits.change_fix(project, shot.id, fix.id, fill=replace(fix.fill, rest_plate_ids=(plate.id,)))


def _rest(engine: Engine, project: Project, frame: int) -> Mask:
    """Return what no other frame shows of what the fix hides on a frame, (H, W)."""
    shot = project.shots[0]
    seen = engine.elsewhere(shot, shot.fixes[0], frame, 1.0)
    found: Mask = np.zeros((shot.footage.height, shot.footage.width), bool)
    if seen is not None:
        found[seen.window.slices] = seen.hole & (seen.count == 0)
    return found


@dataclass(frozen=True, slots=True)
class RestFigures:
    """What was painted, on frames one after the other.

    Attributes
    ----------
    seam : float
        Slopes along its edge, root mean square, over those of the untouched picture there.
    light_percent : float
        By how much its brightness changes, against that of the clean shot at the same place, on the worst frame.
    living_grain : float
        Variance of what is fine in the change from frame to frame along the surface, over that of the clean shot.
    """

    seam: float
    light_percent: float
    living_grain: float


def rest_figures(engine: Engine, project: Project, demo: MothShot, frames: range) -> RestFigures:
    """Return how good what was painted looks on some frames."""
    shot = project.shots[0]
    home = shot.surface("town").home_frame
    core = cv2.erode(_rest(engine, project, home).view(np.uint8), np.ones((9, 9), np.uint8)).astype(np.float32)
    slopes, true_slopes, lights, lively, true_lively = [], [], [], [], []
    for frame in frames:
        rest = _rest(engine, project, frame)
        result, truth = engine.result(shot, frame), demo.clean(frame)
        edge = cv2.morphologyEx(rest.view(np.uint8), cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)).view(bool)
        slopes.append(_slopes(result)[edge])
        true_slopes.append(_slopes(truth)[edge])
        there = resample(core, demo.near_motion(frame, home), Window.of(rest.shape[1], rest.shape[0])).pixels > 0.99
        there &= rest
        bare = demo.clean(frame, grain=False)
        lights.append(np.log(result[there].mean(axis=0) / bare[there].mean(axis=0)))
        if frame + 1 in frames:
            one, other = _changes(engine, project, demo, frame, rest, result, truth)
            lively.append(one)
            true_lively.append(other)
    off = np.abs(np.array(lights) - np.median(lights, axis=0)).max()
    return RestFigures(
        float(np.sqrt(np.concatenate(slopes).mean() / np.concatenate(true_slopes).mean())),
        100 * float(off),
        float(np.concatenate(lively).mean() / np.concatenate(true_lively).mean()),
    )


def _slopes(picture: Picture) -> Picture:
    """Return squared slopes of luma, grain smoothed away as seams are told."""
    soft = cv2.GaussianBlur(luminance(np.ascontiguousarray(picture, np.float32)), (0, 0), 1.0)
    return np.asarray(cv2.Scharr(soft, cv2.CV_32F, 1, 0) ** 2 + cv2.Scharr(soft, cv2.CV_32F, 0, 1) ** 2)


def _changes(
    engine: Engine, project: Project, demo: MothShot, frame: int, rest: Mask, result: Picture, truth: Picture
) -> tuple[Picture, Picture]:
    """Return what is fine in the change to the next frame, squared, of the result and of the clean shot."""
    motion, window = demo.near_motion(frame, frame + 1), Window.of(rest.shape[1], rest.shape[0])
    there = resample(_rest(engine, project, frame + 1).astype(np.float32), motion, window).pixels > 0.99
    where = cv2.erode((rest & there).view(np.uint8), np.ones((3, 3), np.uint8)).view(bool)
    found = []
    for before, after in ((result, engine.result(project.shots[0], frame + 1)), (truth, demo.clean(frame + 1))):
        brought = resample(after, motion, window).pixels
        change = brought * (before[where].mean(axis=0) / brought[where].mean(axis=0)) - before
        found.append(((change - cv2.GaussianBlur(change, (0, 0), SOFT_PX))[where] ** 2).ravel())
    return found[0], found[1]


@dataclass(frozen=True, slots=True)
class MergedFigures:
    """A merged plate against the clean home frame without grain: everywhere and in the cover, in dB, and its time."""

    psnr_db: float
    in_cover_db: float
    seconds: float
    frames: int
    size: tuple[int, int]


def merged_figures(engine: Engine, project: Project, surface_id: str, demo: JudgedShot) -> MergedFigures:
    """Return how good a merged plate of a surface is, and how long it took."""
    project, plate = _with_merged(project, surface_id)
    shot = project.shots[0]
    begin = time.perf_counter()
    engine.merge(shot, plate)
    seconds = time.perf_counter() - begin
    key = canvas_key(shot, plate)
    pixels, known = engine.pictures.merged(key)
    inside = shot.footage.bounds.within(key.window)
    off = pixels[inside] - demo.clean(plate.home_frame, grain=False)
    seen, cover = known[inside], engine.laid_matte(shot, plate.home_frame) > 0.5
    psnr, in_cover = (float(-10 * np.log10((off[where] ** 2).mean())) for where in (seen, seen & cover))
    return MergedFigures(psnr, in_cover, seconds, len(key.merged), (key.window.width, key.window.height))


def rest_markdown(rest: RestFigures, merged: MergedFigures) -> str:
    """Return both as a table."""
    return "\n".join(
        (
            "| what | measured | wanted |",
            "|---|---|---|",
            f"| what no frame of the moth shows, painted by a heal and a clone stroke on a merged plate: slopes along "
            f"its edge, over the untouched picture's | {rest.seam:.2f} | 1.2 |",
            f"| its light on the worst frame | {rest.light_percent:.2f} % | 1 % |",
            f"| its living grain | {rest.living_grain:.2f} | 0.9 to 1.1 |",
            f"| merged plate of the passer-by's town, {merged.frames} frames, {merged.size[0]} x {merged.size[1]}, "
            f"against the clean one without grain; in the cover | {merged.psnr_db:.1f} dB; "
            f"{merged.in_cover_db:.1f} dB, {merged.seconds:.1f} s | 40.7 dB |",
        )
    )
