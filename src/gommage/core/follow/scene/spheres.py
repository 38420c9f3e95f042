"""How a panoramic camera turned, from features of the whole sphere."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gommage.core.follow.scene.beginnings import turn_between
from gommage.core.follow.scene.tracks import Tracks
from gommage.core.geometry import directions_of
from gommage.errors import FollowError

__all__ = ["turned_camera"]

Floats = NDArray[np.float64]
LEAST_SHARED, ROUNDS = 12, 3
STILL_PX = 0.05
"""A camera that turns by less, in pixels of the panorama, stands still."""


def turned_camera(
    tracks: Tracks, home: int, size_wh: tuple[int, int], check: Callable[[], None] = lambda: None
) -> tuple[Floats, Floats]:
    """Return turns (N, 3, 3) from directions as they lie on the home row to those of each, and errors (N,) px.

    What moves by itself, or with the camera, is voted out.

    Raises
    ------
    FollowError
        If frames share too few features with those before them.
    """
    rays = directions_of(tracks.places, size_wh)
    seen, count = tracks.seen, tracks.places.shape[1]
    turns = np.tile(np.eye(3), (count, 1, 1))
    world = np.full((len(rays), 3), np.nan)
    world[seen[:, home]] = rays[seen[:, home], home]
    for way in (range(home + 1, count), range(home - 1, -1, -1)):
        for row in way:
            check()
            if not seen[:, row].any():  # no picture: it goes on as it was
                turns[row] = turns[row - way.step]
                continue
            both = seen[:, row] & np.isfinite(world[:, 0])
            if both.sum() < LEAST_SHARED:
                frame = tracks.first_frame + row
                raise FollowError(f"Frame {frame} shows too little of what was seen before to tell how it is turned.")
            turns[row] = turn_between(world[both], rays[both, row])
            fresh = seen[:, row] & ~np.isfinite(world[:, 0])
            world[fresh] = rays[fresh, row] @ turns[row]
    for _ in range(ROUNDS):
        back = np.einsum("nji,pnj->pni", turns, np.nan_to_num(rays))
        world = _middles(back, seen)
        for row in range(count):
            if row != home and seen[:, row].any():
                both = seen[:, row] & np.isfinite(world[:, 0])
                turns[row] = turn_between(world[both], rays[both, row])
    off = np.linalg.norm(np.einsum("nij,pj->pni", turns, world) - rays, axis=2) * size_wh[0] / (2 * np.pi)
    known = np.where(seen, off, np.nan)[:, seen.any(axis=0)]
    errors = np.zeros(count)
    errors[seen.any(axis=0)] = np.nanmedian(known, axis=0)
    return turns, errors


def _middles(back: Floats, seen: NDArray[np.bool_]) -> Floats:
    """Return the median of each feature's directions (P, N, 3) over the rows that see it, of length 1: (P, 3)."""
    known = np.where(seen[..., None], back, np.nan)
    counts = seen.sum(axis=1)
    out = np.full((len(back), 3), np.nan)
    out[counts > 0] = np.nanmedian(known[counts > 0], axis=1)
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-9)
