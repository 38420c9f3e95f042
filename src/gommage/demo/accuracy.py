"""Judge the hearts against the demo's truth. Every figure here is measured when it is asked for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import PointsFollow, Project, Shot, Spot, Surface, edits, placement
from gommage.core.engine import Engine, followed
from gommage.core.follow import detect_spots
from gommage.core.geometry import Window, around, composed, shift
from gommage.core.match import add_grain
from gommage.core.picture import Filter, Picture, luminance, resample
from gommage.demo.job import HOME_FRAME, cleaned, demo_project
from gommage.demo.shot import DemoShot

__all__ = [
    "FollowFigures",
    "PointFigures",
    "RepairFigures",
    "follow_figures",
    "judge",
    "markdown",
    "point_figures",
    "repair_figures",
]

VILLAGE_HOME = 1036
VILLAGE = np.array([[280, 470], [900, 470], [900, 660], [280, 660]], float)
"""Where spots are looked for on the village."""
STEP = 3
"""Frames between those that are judged for PSNR; flicker needs, and takes, all."""


@dataclass(frozen=True, slots=True)
class FollowFigures:
    """Corner errors of the followed column against the true motion, in pixels, and what was said of them.

    Attributes
    ----------
    within_one, within_two : float
        Share of corners, over all frames, whose error is within one and two of their slips. Of errors as large as is
        said, 63 of a hundred are within one and 98 within two.
    """

    frames: int
    mean_px: float
    worst_px: float
    slip_over_error: float
    within_one: float
    within_two: float


@dataclass(frozen=True, slots=True)
class PointFigures:
    """Errors of spots on the village, found by themselves and followed, against the true motion, in pixels."""

    spots: int
    frames: int
    mean_px: float
    worst_px: float
    slip_px: float


@dataclass(frozen=True, slots=True)
class RepairFigures:
    """The repair inside the cover against the clean shot.

    Attributes
    ----------
    psnr_db, oracle_db : float
        Of the result, and of an oracle that knows the clean picture and puts grain of its own on it, against the clean
        shot with its grain (peak 1, linear light).
    bare_psnr_db, bare_oracle_db : float
        The same before grain is put on either.
    changed_outside : int
        Pixels outside the cover that differ from the plate.
    flicker, true_flicker : float
        Mean change from frame to frame of the region held still, averaged over 8 px, in per cent: result, truth.
    grain_ratio : float
        Fine detail's deviation inside the cover, result over clean shot.
    """

    psnr_db: float
    oracle_db: float
    bare_psnr_db: float
    bare_oracle_db: float
    changed_outside: int
    flicker: float
    true_flicker: float
    grain_ratio: float


def follow_figures(shot: Shot, demo: DemoShot) -> FollowFigures:
    """Return how well the column was followed."""
    placed = placement(shot, shot.surface("column"))
    assert placed is not None
    corners = demo.column_corners(HOME_FRAME)
    errors, shares = [], []
    for frame, slips in zip(placed.frames, placed.corner_slip_px, strict=True):
        off = np.hypot(*(placed.home_to_frame(frame)(corners) - demo.motion(frame, HOME_FRAME)(corners)).T)
        errors.append(float(off.mean()))
        if frame != HOME_FRAME:
            shares.extend(off / slips)
    away = placed.slip_px > 0
    rms = float(np.sqrt((np.array(errors)[away] ** 2).mean()))
    slip = float(np.sqrt((placed.slip_px[away] ** 2).mean()))
    within = [float((np.array(shares) < limit).mean()) for limit in (1, 2)]
    return FollowFigures(len(errors), float(np.mean(errors)), float(np.max(errors)), slip / rms, *within)


def point_figures(engine: Engine, demo: DemoShot) -> PointFigures:
    """Find spots on the village, follow them, and return how well that went."""
    places = detect_spots(engine.plate(demo.footage, VILLAGE_HOME), VILLAGE, 6)
    spots = tuple(Spot(id=str(index), x=float(x), y=float(y)) for index, (x, y) in enumerate(places))
    surface = Surface(id="village", name="Village", home_frame=VILLAGE_HOME, how=PointsFollow(spots=spots))
    project = edits.add_surface(demo_project(demo), "theatre", surface)
    shot = followed(engine, project, "theatre", "village").shots[0]
    placed = placement(shot, shot.surface("village"))
    assert placed is not None
    errors = []
    for frame in placed.frames:
        true = demo.village_motion(frame, VILLAGE_HOME)(places)
        errors.append(np.hypot(*(placed.home_to_frame(frame)(places) - true).T).mean())
    return PointFigures(
        len(places), len(placed.frames), float(np.mean(errors)), float(np.max(errors)), float(placed.slip_px.mean())
    )


def _psnr(one: NDArray[np.floating], other: NDArray[np.floating]) -> float:
    return float(-10 * np.log10(np.mean((one - other) ** 2)))


def repair_figures(engine: Engine, project: Project, demo: DemoShot) -> RepairFigures:
    """Return how good the repair is."""
    shot = project.shots[0]
    fix = shot.fixes[0]
    grain = engine.grain(shot, shot.surface(fix.surface_id))
    assert grain is not None
    bare = _without_new_grain(engine, project)
    pairs: dict[str, list[NDArray[np.float32]]] = {name: [] for name in ("truth", "result", "oracle", "clean", "bare")}
    changed = 0
    ratios = []
    for frame in list(shot.footage.frames)[::STEP]:
        patch = engine.patch(shot, fix, frame)
        assert patch is not None
        inside = patch.alpha > 0.5
        result = engine.result(shot, frame)
        plate = engine.plate(shot.footage, frame)
        outside = np.ones(result.shape[:2], bool)
        outside[patch.window.slices] = patch.alpha <= 0
        changed += int((result[outside] != plate[outside]).any(axis=-1).sum())
        clean = demo.clean(frame, grain=False)[patch.window.slices]
        truth = demo.clean(frame)[patch.window.slices]
        oracle = add_grain(clean, grain, (99, frame))
        bare_result = engine.result(bare, frame)[patch.window.slices]
        result = result[patch.window.slices]
        for name, picture in (
            ("truth", truth), ("result", result), ("oracle", oracle), ("clean", clean), ("bare", bare_result),
        ):  # fmt: skip
            pairs[name].append(picture[inside])
        ratios.append(_fine(result, inside) / _fine(truth, inside))
    joined = {name: np.concatenate(parts) for name, parts in pairs.items()}
    return RepairFigures(
        psnr_db=_psnr(joined["result"], joined["truth"]),
        oracle_db=_psnr(joined["oracle"], joined["truth"]),
        bare_psnr_db=_psnr(joined["bare"], joined["truth"]),
        bare_oracle_db=_psnr(joined["clean"], joined["truth"]),
        changed_outside=changed,
        flicker=_flicker(engine, shot, lambda frame: engine.result(shot, frame)),
        true_flicker=_flicker(engine, shot, demo.clean),
        grain_ratio=float(np.mean(ratios)),
    )


def _without_new_grain(engine: Engine, project: Project) -> Shot:
    """Return the shot with the very same fill, freed of grain, and none put on."""
    shot = project.shots[0]
    fix = shot.fixes[0]
    grain = replace(fix.match.grain, is_laid=False)
    return edits.change_match(project, shot.id, fix.id, grain=grain).shots[0]


def _fine(picture: Picture, inside: NDArray[np.bool_]) -> float:
    light = luminance(np.ascontiguousarray(picture))
    fine = light[:, 1:] - light[:, :-1]
    return float(fine[inside[:, 1:]].std())


def _flicker(engine: Engine, shot: Shot, picture_of) -> float:  # type: ignore[no-untyped-def]  # noqa: ANN001
    """Return the mean change between neighbouring frames of the held-still region in 8 px cells, in per cent."""
    fix = shot.fixes[0]
    placed = placement(shot, shot.surface(fix.surface_id))
    assert placed is not None
    region = around(fix.cover.shapes[0].keys[0].points, -12)
    cells = max(region.width // 8, 1), max(region.height // 8, 1)
    held = Window.of(cells[0] * 8, cells[1] * 8)
    before = None
    changes = []
    for frame in placed.frames:
        frame_from_held = composed(shift(region.left, region.top), placed.home_to_frame(frame))
        light = resample(luminance(picture_of(frame)), frame_from_held, held, filter=Filter.LOOK).pixels
        mean = light.reshape(cells[1], 8, cells[0], 8).mean(axis=(1, 3))
        if before is not None:
            changes.append(np.abs(mean - before).mean() / mean.mean())
        before = mean
    return 100 * float(np.mean(changes))


def judge(demo: DemoShot, engine: Engine | None = None) -> tuple[FollowFigures, PointFigures, RepairFigures]:
    """Do the job of the demo shot and measure it."""
    engine = engine or Engine()
    project = cleaned(engine, demo)
    shot = project.shots[0]
    return follow_figures(shot, demo), point_figures(engine, demo), repair_figures(engine, project, demo)


def markdown(follow: FollowFigures, points: PointFigures, repair: RepairFigures) -> str:
    """Return the figures as the table that stands in docs/accuracy.md."""
    rows = [
        ("Follow: mean corner error", f"{follow.mean_px:.3f} px", "0.15 px at most"),
        ("Follow: worst frame", f"{follow.worst_px:.3f} px", "0.5 px at most"),
        ("Follow: frames followed", f"{follow.frames}", "72"),
        ("Follow: slip said / error found", f"{follow.slip_over_error:.2f}", "1"),
        ("Follow: corners within 1 slip", f"{follow.within_one:.0%}", "63 %"),
        ("Follow: corners within 2 slips", f"{follow.within_two:.0%}", "98 %"),
        ("Points: spots found on the village, frames", f"{points.spots}, {points.frames}", "72 frames"),
        ("Points: mean error at the spots", f"{points.mean_px:.3f} px", "0.15 px at most"),
        ("Points: worst frame", f"{points.worst_px:.3f} px", "0.5 px at most"),
        ("Points: slip said at the box's corners", f"{points.slip_px:.3f} px", ""),
        ("Repair: PSNR inside the cover", f"{repair.psnr_db:.2f} dB", "oracle - 3 dB at least"),
        ("Oracle with grain of its own", f"{repair.oracle_db:.2f} dB", ""),
        ("Repair before grain is put on", f"{repair.bare_psnr_db:.2f} dB", "oracle - 3 dB at least"),
        ("Oracle without grain", f"{repair.bare_oracle_db:.2f} dB", ""),
        ("Pixels changed outside the cover", f"{repair.changed_outside}", "0"),
        ("Flicker, repair", f"{repair.flicker:.3f} %", "1.3 x the truth's at most"),
        ("Flicker, truth", f"{repair.true_flicker:.3f} %", ""),
        ("Fine detail, repair over truth", f"{repair.grain_ratio:.2f}", "1"),
    ]
    lines = ["| what | measured | wanted |", "|---|---|---|", *(f"| {a} | {b} | {c} |" for a, b, c in rows)]
    return "\n".join(lines)
