"""Solve a shot's camera, lay planes into its scene, polish them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import (
    Array,
    FrameRange,
    PlaneFollow,
    Project,
    ScenePlane,
    Shot,
    SolvedCamera,
    Surface,
    edits,
    mappings_of,
)
from gommage.core.engine.evaluate import Engine
from gommage.core.fill.blocking import blocked_on
from gommage.core.follow.masks import Mask, polygon_mask
from gommage.core.follow.scene import (
    Piece,
    PlaneToPolish,
    Tracks,
    fitted_plane,
    found_pieces,
    inverse_depths,
    polished,
    solved,
    tracked,
)
from gommage.core.geometry import Lens, Points, Window
from gommage.errors import FollowError

__all__ = [
    "Solved",
    "camera_solved",
    "find_pieces",
    "laid_plane",
    "picked_plane",
    "plane_of_points",
    "polish_planes",
    "solve_camera",
    "told_of_camera",
]

Check = Callable[[], None]
Told = Callable[[str, float], object]
THERE = 1 / 16
NEAR_FRAMES = 12
"""Points that were tracked so near a frame are taken to be seen on it."""
TRACKING_SHARE = 0.35
"""Of the whole solve."""
GOOD_PX, BAD_PX, WORSE = 0.3, 1.0, 4.0
"""A median below the first is quiet, one above the second is bad; a frame is told of that is so many medians off."""
LONG_LENS, WIDE_LENS = 1.6, 0.7
"""Focal lengths in widths of the picture."""
SLIGHT_BEND_PX = 1.0
"""A lens that bends the corners by no more is called straight."""
FEW_PX = 6.0
"""Where near things shift by no more than that against far ones, distances are unsure."""


@dataclass(frozen=True, slots=True)
class Solved:
    """A camera, and the scene planes of the shot as they lie in its scene, by their surfaces' ids."""

    camera: SolvedCamera
    planes: dict[str, ScenePlane]

    def edit(self, project: Project, shot_id: str) -> Project:
        """Return a project with both."""
        return edits.set_camera(project, shot_id, self.camera, self.planes)


def solve_camera(
    engine: Engine,
    shot: Shot,
    frames: FrameRange | None = None,
    lens: Lens | None = None,
    told: Told = lambda words, share: None,
    check: Check = lambda: None,
) -> Solved:
    """Return the camera of a shot, solved from what stands still in the picture.

    Covers, what is held out, keep-outs and surfaces that move by themselves are not looked at; what else moves is voted
    out.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    frames : FrameRange, optional
        The whole shot if left out.
    lens : Lens, optional
        Where it is known, of this shot's picture size.
    told : callable
        Told the stage and the share that is done.
    check : callable
        Raises to stop.

    Raises
    ------
    FollowError
        If it cannot be solved, in words.
    """
    tracks = _tracks(engine, shot, frames or shot.footage.frames, told, check)
    camera = solved(
        tracks, lens, lambda words, share: told(words, TRACKING_SHARE + (1 - TRACKING_SHARE) * share), check
    )
    if shot.camera is not None:
        camera = replace(camera, ground_id=shot.camera.ground_id)
    planes = {}
    for surface in shot.surfaces:
        if isinstance(surface.how, ScenePlane):
            planes[surface.id] = laid_plane(camera, surface.home_frame, surface.how.outline.values, surface.name)
    told("Solved", 1.0)
    return Solved(camera, planes)


def camera_solved(engine: Engine, project: Project, shot_id: str, frames: FrameRange | None = None) -> Project:
    """Return the project with a shot's camera solved; see `solve_camera`."""
    return solve_camera(engine, project.shot(shot_id), frames).edit(project, shot_id)


def _tracks(engine: Engine, shot: Shot, frames: FrameRange, told: Told, check: Check) -> Tracks:
    """Return features tracked over the shot; they are kept while there is room."""
    footage = shot.footage
    ways = tuple(_hidden_mattes(shot, frame) for frame in frames)
    moving = tuple(one for one in shot.surfaces if one.moves_by_itself)
    key = ("tracks", footage, frames, ways, moving)

    def made() -> Tracks:
        return tracked(
            lambda frame: None if frame in footage.missing else engine.plate(footage, frame, check), frames,
            lambda frame: _hidden(engine, shot, frame, check),
            lambda share: told("Tracking features", TRACKING_SHARE * share), check,
        )  # fmt: skip

    found: Tracks = engine.cache.get_or_make(key, made, check)
    return found


def _hidden_mattes(shot: Shot, frame: int) -> tuple[MatteAt, ...]:
    """Return what is not looked at on a frame: covers, what is held out, keep-outs."""
    keep_outs = [
        matte_on(shot, surface.how.keep_outs, frame)
        for surface in shot.surfaces
        if isinstance(surface.how, PlaneFollow) and surface.how.keep_outs.parts
    ]
    return (*blocked_on(shot, frame), *keep_outs)


def _hidden(engine: Engine, shot: Shot, frame: int, check: Check) -> Mask | None:
    """Return where a frame is not looked at, (H, W) uint8 above 0, or None where all of it is."""
    bounds = shot.footage.bounds
    mattes = _hidden_mattes(shot, frame)
    placed = mappings_of(shot)
    lines = [there(one.outline) for one in shot.surfaces if one.moves_by_itself
             and (there := placed(one.id, frame)) is not None]  # fmt: skip
    if not mattes and not lines:
        return None
    mask = polygon_mask(lines, bounds) if lines else np.zeros((bounds.height, bounds.width), np.uint8)
    for matte in mattes:
        near = reach_of(matte, bounds) & bounds
        if not near.is_empty:
            covered = engine.pictures.matte(shot.footage, matte, near, 1.0, check) > THERE
            mask[near.slices] |= covered.astype(np.uint8)
    return mask


def find_pieces(
    engine: Engine, shot: Shot, frame: int, thing: Points | None = None, check: Check = lambda: None
) -> tuple[Piece, ...]:
    """Return the flat pieces around a thing (N, 2) on a frame, or over the picture, the best first.

    See `gommage.core.follow.scene.found_pieces`; what is covered or held out is not looked at.
    """
    footage = shot.footage
    return found_pieces(
        lambda at: engine.plate(footage, at, check), footage.frames, frame, thing,
        lambda at: _hidden(engine, shot, at, check), check, footage.missing,
    )  # fmt: skip


# -- planes ---------------------------------------------------------------------------------------------------


def laid_plane(camera: SolvedCamera, home_frame: int, outline: Points, name: str = "The plane") -> ScenePlane:
    """Return the scene plane through the solved points inside an outline (N, 2), home-frame pixels.

    Raises
    ------
    FollowError
        If the camera is not solved there, or there are too few points in it.
    """
    if not camera.is_solved(home_frame):
        raise FollowError(f"{name} is drawn on frame {home_frame}, where the camera is not solved.")
    places, which = camera.seen_points(home_frame, NEAR_FRAMES)
    line = np.ascontiguousarray(outline, np.float32)
    inside = np.array([cv2.pointPolygonTest(line, (float(x), float(y)), False) >= 0 for x, y in places], np.bool_)
    return plane_of_points(camera, home_frame, which[inside], outline)


def picked_plane(camera: SolvedCamera, home_frame: int, vertices: Points, reach_px: float) -> ScenePlane | None:
    """Return the scene plane through the solved points that vertices (N, 2) lie at, None unless each lies at one."""
    places, which = camera.seen_points(home_frame, NEAR_FRAMES)
    if not len(places):
        return None
    off = np.linalg.norm(places[None] - vertices[:, None], axis=-1)
    nearest = off.argmin(axis=1)
    chosen = np.unique(which[nearest])
    if (off.min(axis=1) > reach_px).any() or len(chosen) < len(vertices):
        return None
    return plane_of_points(camera, home_frame, chosen, vertices)


def plane_of_points(
    camera: SolvedCamera, home_frame: int, which: NDArray[np.intp], outline: Points | None = None
) -> ScenePlane:
    """Return the scene plane through some of a camera's points; its outline is theirs if none is given."""
    if camera.is_nodal:
        if outline is None:
            outline = _around(camera, home_frame, which)
        return ScenePlane(outline=Array(outline), plane=Array(np.zeros(3)), unsure=Array(np.zeros((3, 3))))
    directions, inverse = inverse_depths(*camera.pose(home_frame), camera.points.values[which])
    unsure = camera.point_error_px.values[which] / _ways_seen(camera, which)
    fitted = fitted_plane(directions, inverse, unsure)
    return ScenePlane(
        outline=Array(_around(camera, home_frame, which) if outline is None else outline),
        plane=Array(fitted.plane),
        unsure=Array(fitted.covariance),
    )


def _ways_seen(camera: SolvedCamera, which: NDArray[np.intp]) -> NDArray[np.float64]:
    """Return how far the camera moved while each point was seen: by so much surer is how far it is."""
    turns, moves = camera.turns.values, camera.moves.values
    places = -np.einsum("nji,nj->ni", turns, moves)
    rows = (camera.seen_on.values[which] - camera.first_frame).astype(np.intp)
    way = np.linalg.norm(places[rows[:, 1]] - places[rows[:, 0]], axis=1)
    return np.maximum(way, 1e-3 * max(float(way.max(initial=0.0)), 1e-9))


def _around(camera: SolvedCamera, frame: int, which: NDArray[np.intp]) -> Points:
    """Return the outline (N, 2) around points as a frame sees them."""
    places, own = camera.seen_points(frame, NEAR_FRAMES)
    hull = cv2.convexHull(places[np.isin(own, which)].astype(np.float32)).reshape(-1, 2).astype(np.float64)
    if len(hull) < 3:
        raise FollowError("A plane needs at least three solved points that lie beside each other on this frame.")
    return hull


def polish_planes(
    engine: Engine,
    shot: Shot,
    surface_ids: Sequence[str] = (),
    told: Told = lambda words, share: None,
    check: Check = lambda: None,
) -> tuple[Solved, float, float]:
    """Return camera and scene planes polished on the pictures, and by how much planes were, and are, off: px.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    surface_ids : sequence of str
        The planes whose texture is looked at; all if none is named.
    told, check : callable

    Raises
    ------
    FollowError
        If there is nothing to polish, or nothing became better.
    """
    camera = shot.camera
    every = [one for one in shot.surfaces if isinstance(one.how, ScenePlane)]
    chosen = [one for one in every if not surface_ids or one.id in surface_ids]
    if camera is None or not chosen:
        raise FollowError("There is no scene plane to polish.")
    if camera.is_nodal:
        raise FollowError("The camera only turns: all there is lies infinitely far, and nothing is left to polish.")
    tracks = _tracks(engine, shot, camera.frames, told, check)
    planes = [_to_polish(one) for one in chosen]
    better = polished(
        lambda frame: engine.plate(shot.footage, frame, check), tracks, camera, planes,
        lambda frame: _hidden(engine, shot, frame, check),
        lambda share: told("Polishing", TRACKING_SHARE + (1 - TRACKING_SHARE) * share), check,
    )  # fmt: skip
    if not better.is_better:
        raise FollowError(f"Nothing to polish: planes lie within {better.before_px:.2f} px of their texture already.")
    fresh = replace(better.camera, ground_id=camera.ground_id)
    of_id = {
        one.id: ScenePlane(outline=one.how.outline, plane=Array(fitted.plane), unsure=Array(fitted.covariance))
        for one, fitted in zip(chosen, better.planes, strict=True)
        if isinstance(one.how, ScenePlane)
    }
    for one in every:
        if one.id not in of_id and isinstance(one.how, ScenePlane):
            of_id[one.id] = laid_plane(fresh, one.home_frame, one.how.outline.values, one.name)
    return Solved(fresh, of_id), better.before_px, better.after_px


def _to_polish(surface: Surface) -> PlaneToPolish:
    assert isinstance(surface.how, ScenePlane)
    return PlaneToPolish(surface.home_frame, surface.how.outline.values, surface.how.plane.values)


# -- words ----------------------------------------------------------------------------------------------------


def told_of_camera(camera: SolvedCamera, bounds: Window) -> tuple[str, ...]:
    """Return what is to be said of a solved camera, line by line: how good it is, the lens, what to do if it is bad."""
    unsolved = len(camera.frames) - len(camera.solved_errors)
    kind = "turns about itself" if camera.is_nodal else "moves"
    lines = [
        f"The camera {kind}: off by {camera.median_px:.2f} px, {camera.worst_px:.2f} px on {camera.worst_frame}",
        _told_of_lens(camera, bounds),
        f"{len(camera.points)} points stand still, {camera.moving} were left out",
    ]
    if unsolved:
        lines.append(f"{unsolved} frames could not be solved: too little to see on them")
    if camera.median_px > BAD_PX:
        lines.append("This is bad. Cover what moves by itself, or give the lens if it is known.")
    elif camera.worst_px > max(WORSE * camera.median_px, GOOD_PX):
        lines.append(f"Frame {camera.worst_frame} is worse than the others: something moves there, or it is blurred.")
    if not camera.is_nodal and _parallax_px(camera) < FEW_PX:
        lines.append("Things hardly shift behind each other: distances are unsure. Follow areas instead.")
    return tuple(lines)


def _parallax_px(camera: SolvedCamera) -> float:
    """Return by how much near points shift against far ones over the shot, px."""
    places = -np.einsum("nji,nj->ni", camera.turns.values, camera.moves.values)
    way = float(np.linalg.norm(np.ptp(places, axis=0)))
    near, far = np.quantile(np.maximum(camera.points.values[:, 3], 0.0), (0.9, 0.1))
    return float(camera.lens.focal_px * way * (near - far))


def _told_of_lens(camera: SolvedCamera, bounds: Window) -> str:
    lens = camera.lens
    share = lens.focal_px / bounds.width
    angle = 2 * np.rad2deg(np.arctan(0.5 / share))
    kind = "a long lens" if share > LONG_LENS else "a wide lens" if share < WIDE_LENS else "a normal lens"
    corner = np.array([[0.5, 0.5]])
    bend = float(np.linalg.norm(lens.straightened(corner) - corner))
    inward = "barrel" if lens.first < 0 else "pincushion"
    bent = f"{inward}, {bend:.0f} px in the corners" if bend > SLIGHT_BEND_PX else "straight"
    given = ", given" if camera.is_lens_given else ""
    return f"{kind.capitalize()}{given}: {angle:.0f}° across, focal length {lens.focal_px:.0f} px, {bent}"
