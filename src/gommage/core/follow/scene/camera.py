"""Solve a camera: how it was turned, and where it was, on every frame, from features that were tracked."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import Array, SolvedCamera
from gommage.core.document.records import UNSOLVED
from gommage.core.follow.scene.beginnings import (
    FINE_PX,
    LEAST_ON_FRAME,
    LEAST_TRACKS,
    Begun,
    best,
    moving_camera,
    rays_of,
    turning_camera,
)
from gommage.core.follow.scene.bundle import Observations, Scene, adjusted, resected, triangulated
from gommage.core.follow.scene.tracks import Tracks
from gommage.core.geometry import Lens
from gommage.errors import FollowError

__all__ = ["WithMore", "key_rows", "solved", "with_cameras"]

Floats = NDArray[np.float64]
KEYS_APART, LEAST_KEYS, MOST_KEYS = 0.025, 8, 14
"""Key frames are so far apart, in widths of the picture, closer until there are enough of them."""
FOCALS = (0.75, 1.05, 1.5)
"""Where the focal length begins, in widths."""
NODAL_WITHIN = 1.6
"""A camera that turns about itself is believed where its residuals are at most so many times the other's."""
FINER_BY = 3.0
"""By no more does a camera that turns fit better once it is adjusted finely."""
FINAL_CAMERAS = 20
KEY_POINTS = 800
ALL_CAMERAS, ALL_POINTS = 130, 900
"""Shots of at most so many frames are adjusted as a whole in the end, with so many points."""
MOVING_PX, LATE_PX = 3.0, 1.5
"""A feature that is off by more, and by more than some medians of all, moves by itself: at first, and in the end."""
STILL_PX = 0.75
"""A camera whose picture moves less than this stands still."""
BAD_PX = 1.0
LEAST_ANGLE_RAD = np.deg2rad(0.15)
"""Between rays: a point seen by less than this from all sides is as good as infinitely far."""


def key_rows(tracks: Tracks) -> list[int]:
    """Return the rows of frames to begin with: some way apart, closer until there are enough."""
    count, width = tracks.places.shape[1], tracks.size_wh[0]
    for part in (1.0, 0.7, 0.5, 0.35, 0.25, 0.17, 0.1, 0.06, 0.03):
        rows = [0]
        for row in range(1, count):
            moved = tracks.moved_px(rows[-1], row)
            far = row - rows[-1] >= max(count // LEAST_KEYS, 1)  # a camera that comes back moved all the same
            if far or not moved < KEYS_APART * part * width:  # also where hardly anything is left of what was seen
                rows.append(row)
        if rows[-1] != count - 1:
            rows.append(count - 1)
        if len(rows) >= min(LEAST_KEYS, count):
            break
    if len(rows) > MOST_KEYS:
        rows = [rows[round(i)] for i in np.linspace(0, len(rows) - 1, MOST_KEYS)]
    return rows


def solved(
    tracks: Tracks,
    lens: Lens | None = None,
    progress: Callable[[str, float], object] = lambda words, share: None,
    check: Callable[[], None] = lambda: None,
) -> SolvedCamera:
    """Return the camera of a shot.

    Parameters
    ----------
    tracks : Tracks
    lens : Lens, optional
        Where it is known; found otherwise.
    progress : callable
        Told the stage in words, and the share of the whole.
    check : callable
        Called between stages; raises to stop.

    Raises
    ------
    FollowError
        If there is a cut, too little texture, a camera that stands still, or nothing that fits.
    """
    _refuse(tracks)
    progress("Choosing frames to begin with", 0.0)
    rows = key_rows(tracks)
    places = tracks.places[_spread_out(tracks, np.ones(len(tracks.places), np.bool_), rows, KEY_POINTS)][:, rows]
    starts = [lens] if lens is not None else [_plain(tracks, share) for share in FOCALS]
    free = (lens is None,) * 3
    width = float(tracks.size_wh[0])
    turning = partial(turning_camera, places, free=free, width=width, check=check)
    turned = _begun(turning, starts, "A camera that turns", 0.02, progress)
    shifting = partial(moving_camera, places, free=free, width=width, check=check)
    moved = _begun(shifting, starts, "A camera that moves", 0.15, progress)
    moving = best(moved, free, width, turns_only=False, check=check)
    most_px = np.inf if moving is None else FINER_BY * NODAL_WITHIN * moving.spread_px
    nodal = best([one for one in turned if one.spread_px < most_px], free, width, turns_only=True, check=check)
    if nodal is None and moving is None:
        raise FollowError("No camera fits what was tracked. Cover what moves by itself, or solve fewer frames.")
    is_nodal = moving is None or (nodal is not None and nodal.spread_px <= NODAL_WITHIN * moving.spread_px)
    begun = nodal if is_nodal else moving
    assert begun is not None
    progress("Adjusting frames between", 0.55)
    camera = _finished(tracks, rows, begun, free, is_nodal, progress, check)
    return replace(camera, is_lens_given=lens is not None)


def _refuse(tracks: Tracks) -> None:
    if tracks.cuts:
        raise FollowError(f"There is a cut at frame {tracks.cuts[0]}. Solve up to it, or from it on.")
    if len(tracks.places) < LEAST_TRACKS:
        raise FollowError("There is too little texture to solve a camera from: hardly anything could be tracked.")
    moved = [tracks.moved_px(0, row) for row in range(1, tracks.places.shape[1])]
    if np.nanmax([0.0, *moved]) < STILL_PX:
        raise FollowError("The camera stands still here. Use a still surface; there is nothing to solve.")


def _plain(tracks: Tracks, share: float) -> Lens:
    width, height = tracks.size_wh
    return Lens(share * width, width / 2, height / 2)


def _begun(
    begin: Callable[[Lens], Begun | None],
    starts: list[Lens],
    words: str,
    share: float,
    progress: Callable[[str, float], object],
) -> list[Begun]:
    """Return the beginnings from several lenses that came to something."""
    found = []
    for index, lens in enumerate(starts):
        progress(f"{words}, focal length {lens.focal_px:.0f} px", share + index * (0.04 if share < 0.1 else 0.13))
        begun = begin(lens)
        if begun is not None:
            found.append(begun)
    return found


# -- all frames ---------------------------------------------------------------------------------------------


def _finished(
    tracks: Tracks,
    rows: list[int],
    begun: Begun,
    free: tuple[bool, bool, bool],
    is_nodal: bool,
    progress: Callable[[str, float], object],
    check: Callable[[], None],
) -> SolvedCamera:
    """Lay all frames in, leave out what moves by itself, and adjust once more."""
    width, count = float(tracks.size_wh[0]), tracks.places.shape[1]
    scene = begun.scene
    turns, moves = _laid_in(tracks, rows, scene, is_nodal, check)
    points, good = _all_points(tracks.places, turns, moves, scene.lens, is_nodal)
    error = _point_errors(tracks.places, turns, moves, scene.lens, points)
    good &= error < _believed_px(error[good], MOVING_PX)
    some = sorted({round(i) for i in np.linspace(0, count - 1, min(FINAL_CAMERAS, count))})
    every = list(range(count)) if count <= ALL_CAMERAS else sorted({*some, *rows})
    for chosen, most, share in ((some, 60, 0.62), (every, 15, 0.75)):
        progress("Adjusting frames over the shot" if chosen is some else "Adjusting all frames", share)
        own = _spread_out(tracks, good, chosen, ALL_POINTS)
        seen = Observations.of(tracks.places[own][:, chosen])
        held = len(chosen) // 2
        start = _about(Scene(turns[chosen], moves[chosen], scene.lens, points[own]), held)
        scene, _ = adjusted(start, seen, width, scale_px=FINE_PX, free_lens=free, turns_only=is_nodal, held=held,
                            most=most, check=check)  # fmt: skip
        turns, moves = _laid_in(tracks, chosen, scene, is_nodal, check, own)
        points, good = _all_points(tracks.places, turns, moves, scene.lens, is_nodal)
        error = _point_errors(tracks.places, turns, moves, scene.lens, points)
        good &= error < _believed_px(error[good], LATE_PX)
    progress("Looking at what came of it", 0.97)
    return _told(tracks, turns, moves, scene.lens, points, good, error, is_nodal)


def _about(scene: Scene, held: int) -> Scene:
    """Return a scene counted from one of its cameras, in sizes of its own."""
    turn, move = scene.turns[held], scene.moves[held]
    turns = scene.turns @ turn.T
    moves = scene.moves - turns @ move
    spots = scene.points[:, :3] @ turn.T + scene.points[:, 3:] * move
    length = np.linalg.norm(spots, axis=1, keepdims=True)
    size = max(float(np.linalg.norm(moves, axis=1).max()), 1e-12)
    if size < 1e-9:
        size = 1.0
    return Scene(np.ascontiguousarray(turns), moves / size, scene.lens,
                 np.column_stack([spots / length, scene.points[:, 3:] / length * size]))  # fmt: skip


def _laid_in(
    tracks: Tracks,
    rows: list[int],
    scene: Scene,
    is_nodal: bool,
    check: Callable[[], None],
    own: NDArray[np.int64] | None = None,
) -> tuple[Floats, Floats]:
    """Return the cameras of all frames, (N, 3, 3) and (N, 3): those between are found among the points."""
    count = tracks.places.shape[1]
    turns, moves = np.tile(np.eye(3), (count, 1, 1)), np.zeros((count, 3))
    turns[rows], moves[rows] = scene.turns, scene.moves
    if len(rows) == count:
        return turns, moves
    points, good = _all_points(tracks.places[:, rows], scene.turns, scene.moves, scene.lens, is_nodal)
    error = _point_errors(tracks.places[:, rows], scene.turns, scene.moves, scene.lens, points)
    good &= error < _believed_px(error[good], MOVING_PX)
    known = set(rows)
    for row in sorted(set(range(count)) - known, key=lambda row: min(abs(row - one) for one in rows)):
        check()
        use = good & np.isfinite(tracks.places[:, row, 0])
        near = min(known, key=lambda one: abs(one - row))
        turns[row], moves[row] = turns[near], moves[near]
        if use.sum() >= LEAST_ON_FRAME:
            turns[row], moves[row] = resected(
                turns[near], moves[near], scene.lens, points[use], tracks.places[use, row], turns_only=is_nodal
            )
            known.add(row)
    return turns, moves


def _all_points(
    places: Floats, turns: Floats, moves: Floats, lens: Lens, is_nodal: bool
) -> tuple[Floats, NDArray[np.bool_]]:
    if not is_nodal:
        return triangulated(turns, moves, lens, places)
    rays = np.nan_to_num(rays_of(lens, places))
    around = np.einsum("cji,pcj->pi", turns, rays)
    length = np.linalg.norm(around, axis=1, keepdims=True)
    points = np.column_stack([around / np.maximum(length, 1e-9), np.zeros(len(places))])
    return points, (np.isfinite(places[..., 0]).sum(axis=1) >= 2) & (length[:, 0] > 0.5)


def _off(places: Floats, turns: Floats, moves: Floats, lens: Lens, points: Floats) -> Floats:
    """Return by how much each point is off on each frame, (P, N) px; NaN where it is not seen."""
    seen = Observations.of(places)
    off = np.hypot(*np.nan_to_num(Scene(turns, moves, lens, points).off(seen), nan=1e3).T)
    out = np.full(places.shape[:2], np.nan)
    out[seen.point_of, seen.camera_of] = off
    return out


def _point_errors(places: Floats, turns: Floats, moves: Floats, lens: Lens, points: Floats) -> Floats:
    """Return the root mean square by which each point is off, (P,) px; infinite where it is never seen."""
    off = _off(places, turns, moves, lens, points)
    counts = np.isfinite(off).sum(axis=1)
    total = np.nansum(off**2, axis=1)
    return np.where(counts > 0, np.sqrt(total / np.maximum(counts, 1)), np.inf)


def _spread_out(tracks: Tracks, good: NDArray[np.bool_], rows: list[int], most: int) -> NDArray[np.int64]:
    """Return the tracks that are adjusted by: long ones first, in every part of the picture, on every frame."""
    seen = tracks.seen[:, rows]
    length = np.where(good, seen.sum(axis=1), 0)
    order = np.argsort(-length, kind="stable")
    order = order[length[order] >= 2]
    side = tracks.size_wh[0] / 12
    held: dict[tuple[int, int, int], int] = {}
    chosen, rest = list[int](), list[int]()
    step = max(len(rows) // 12, 1)
    each = max(most // 150, 2)
    for track in order:
        on = np.nonzero(seen[track])[0]
        cells = {(int(row) // step, *(tracks.places[track, rows[row]] // side).astype(int)) for row in on[::step]}
        (rest if all(held.get(cell, 0) >= each for cell in cells) else chosen).append(int(track))
        if chosen and chosen[-1] == track:
            for cell in cells:
                held[cell] = held.get(cell, 0) + 1
        if len(chosen) >= most:
            break
    return np.array(sorted([*chosen, *rest[: max(most - len(chosen), 0)]]), np.int64)


def _told(
    tracks: Tracks,
    turns: Floats,
    moves: Floats,
    lens: Lens,
    points: Floats,
    good: NDArray[np.bool_],
    error: Floats,
    is_nodal: bool,
) -> SolvedCamera:
    """Return the solve, its errors, and which frames could not be solved."""
    own = np.nonzero(good)[0]
    off = _off(tracks.places[own], turns, moves, lens, points[own])
    counts = np.isfinite(off).sum(axis=0)
    frame_error = np.full(len(turns), UNSOLVED)
    for row in np.nonzero(counts >= LEAST_ON_FRAME)[0]:
        frame_error[row] = np.nanmedian(off[:, row])
    rows = np.isfinite(tracks.places[own, :, 0])
    first, last = rows.argmax(axis=1), rows.shape[1] - 1 - rows[:, ::-1].argmax(axis=1)
    enough = tracks.seen.sum(axis=1) >= 2
    return SolvedCamera(
        first_frame=tracks.first_frame,
        turns=Array(turns),
        moves=Array(moves),
        lens=lens,
        points=Array(points[own]),
        point_error_px=Array(error[own]),
        seen_on=Array(np.column_stack([first, last]) + tracks.first_frame),
        frame_error_px=Array(frame_error),
        is_nodal=is_nodal,
        moving=int((enough & ~good).sum()),
    )


@dataclass(frozen=True, slots=True)
class WithMore:
    """A camera that was adjusted together with more points, and these: (K, 4)."""

    camera: SolvedCamera
    extra: Floats


def with_cameras(
    tracks: Tracks,
    camera: SolvedCamera,
    places: Floats,
    weights: Floats,
    check: Callable[[], None] = lambda: None,
) -> WithMore:
    """Return a camera adjusted to more points, seen at places (K, N, 2) that are surer than features: weights (K,).

    A lens that was given stays as it is.
    """
    turns, moves, lens, is_nodal = camera.turns.values, camera.moves.values, camera.lens, camera.is_nodal
    count, width = len(turns), float(tracks.size_wh[0])
    rows = list(range(count)) if count <= ALL_CAMERAS else sorted(
        {*(int(row) for row in np.nonzero(np.isfinite(places).any(axis=(0, 2)))[0]), 0, count - 1}
    )  # fmt: skip
    features, good = _all_points(tracks.places, turns, moves, lens, is_nodal)
    error = _point_errors(tracks.places, turns, moves, lens, features)
    good &= error < _believed_px(error[good], LATE_PX)
    own = _spread_out(tracks, good, rows, ALL_POINTS)
    more, known = _all_points(places, turns, moves, lens, is_nodal)
    all_places = np.concatenate([tracks.places[own][:, rows], np.where(known[:, None, None], places, np.nan)[:, rows]])
    seen = Observations.of(all_places, np.concatenate([np.ones(len(own)), weights]))
    held = len(rows) // 2
    scene = _about(Scene(turns[rows], moves[rows], lens, np.concatenate([features[own], more])), held)
    scene, _ = adjusted(scene, seen, width, scale_px=FINE_PX, free_lens=(not camera.is_lens_given,) * 3,
                        turns_only=is_nodal, held=held, most=25, check=check)  # fmt: skip
    turns, moves = _laid_in(tracks, rows, scene, is_nodal, check)
    features, good_now = _all_points(tracks.places, turns, moves, scene.lens, is_nodal)
    error = _point_errors(tracks.places, turns, moves, scene.lens, features)
    told = _told(tracks, turns, moves, scene.lens, features, good & good_now, error, is_nodal)
    return WithMore(replace(told, is_lens_given=camera.is_lens_given), scene.points[len(own) :])


def _believed_px(errors: Floats, least: float) -> float:
    """Return the error below which features are believed to stand still, among those of all."""
    return max(least, 4 * float(np.nanmedian(errors))) if len(errors) else least
