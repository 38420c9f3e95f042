"""How a solve begins: a camera that turns about itself, and one that moves, from a few frames each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.follow.scene.bundle import Observations, Scene, adjusted, resected, triangulated
from gommage.core.geometry import Lens

__all__ = [
    "LEAST_ON_FRAME",
    "LEAST_TRACKS",
    "ROUGH_PX",
    "FINE_PX",
    "Begun",
    "best",
    "moving_camera",
    "rays_of",
    "turn_between",
    "turning_camera",
]

Floats = NDArray[np.float64]
ROUGH_PX, FINE_PX = 1.5, 0.5
LEAST_TRACKS = 40
LEAST_ON_FRAME = 12
FINELY = 200
"""Steps at most, in which the best of several beginnings is adjusted."""


@dataclass(frozen=True, slots=True)
class Begun:
    """How a solve may begin.

    Attributes
    ----------
    scene : Scene
    seen : Observations
        That it is adjusted to.
    held : int
        The camera that the others are counted from.
    """

    scene: Scene
    seen: Observations
    held: int = 0

    @property
    def spread_px(self) -> float:
        """What 90 % of the observations keep to."""
        off = np.hypot(*np.nan_to_num(self.scene.off(self.seen), nan=1e3).T)
        return float(np.quantile(off, 0.9))


def best(
    found: list[Begun], free: tuple[bool, bool, bool], width: float, *, turns_only: bool, check: Callable[[], None]
) -> Begun | None:
    """Return the best of several beginnings, finely adjusted; None if there is none."""
    if not found:
        return None
    one = min(found, key=lambda begun: begun.spread_px)
    scene, _ = adjusted(one.scene, one.seen, width, scale_px=FINE_PX, free_lens=free, turns_only=turns_only,
                        held=one.held, most=FINELY, check=check)  # fmt: skip
    return replace(one, scene=scene)


def rays_of(lens: Lens, places: Floats) -> Floats:
    """Return the directions of length 1 (..., 3) in which a lens sees places (..., 2)."""
    flat = (lens.straightened(places) - (lens.middle_x, lens.middle_y)) / lens.focal_px
    ray = np.concatenate([flat, np.ones((*flat.shape[:-1], 1))], axis=-1)
    return ray / np.linalg.norm(ray, axis=-1, keepdims=True)


# -- a camera that turns ------------------------------------------------------------------------------------


def turning_camera(
    places: Floats, lens: Lens, free: tuple[bool, bool, bool], width: float, check: Callable[[], None]
) -> Begun | None:
    """Chain turns between neighbours, then adjust turns, directions and lens."""
    rays = rays_of(lens, places)
    turns = [np.eye(3)]
    for index in range(1, places.shape[1]):
        both = np.isfinite(rays[:, index - 1, 0]) & np.isfinite(rays[:, index, 0])
        turns.append(turn_between(rays[both, index - 1], rays[both, index]) @ turns[-1])
    all_turns = np.stack(turns)
    around = np.einsum("cji,pcj->pci", all_turns, np.nan_to_num(rays)).sum(axis=1)
    length = np.linalg.norm(around, axis=1)
    kept = np.nonzero(length > 0.5)[0]
    points = np.column_stack([around[kept] / length[kept, None], np.zeros(len(kept))])
    seen = Observations.of(places[kept])
    scene = Scene(all_turns, np.zeros((len(turns), 3)), lens, points)
    for scale, most, loose in ((ROUGH_PX * 3, 25, (free[0], False, False)), (ROUGH_PX, 40, free)):
        scene, _ = adjusted(
            scene, seen, width, scale_px=scale, free_lens=loose, turns_only=True, most=most, check=check
        )
    return Begun(scene, seen)


def turn_between(one: Floats, other: Floats) -> Floats:
    """Return the turn that takes rays to others, robustly (W. Kabsch, 1976, weighted anew some times)."""
    if len(one) < 3:
        return np.eye(3)
    weights = np.ones(len(one))
    turn = np.eye(3)
    for _ in range(8):
        left, _, right = np.linalg.svd((one * weights[:, None]).T @ other)
        turn = right.T @ np.diag([1, 1, np.sign(np.linalg.det(right.T @ left.T))]) @ left.T
        off = np.linalg.norm(one @ turn.T - other, axis=1)
        weights = 1 / (1 + (off / max(float(np.median(off)) * 1.5, 1e-6)) ** 2)
    return turn


# -- a camera that moves ------------------------------------------------------------------------------------


def moving_camera(
    places: Floats, lens: Lens, free: tuple[bool, bool, bool], width: float, check: Callable[[], None]
) -> Begun | None:
    """Begin with two frames that show most of how things shift behind each other, lay the others in, adjust all."""
    pair = _best_pair(places)
    if pair is None:
        return None
    first, second = pair
    straight = lens.straightened(places)
    both = np.isfinite(places[:, first, 0]) & np.isfinite(places[:, second, 0])
    inner = lens.inner
    essential, _ = cv2.findEssentialMat(
        straight[both, first], straight[both, second], inner, cv2.USAC_MAGSAC, 0.9999, 1.0
    )
    if essential is None or essential.shape != (3, 3):
        return None
    _, turn, move, _ = cv2.recoverPose(essential, straight[both, first], straight[both, second], inner)
    cameras: dict[int, tuple[Floats, Floats]] = {first: (np.eye(3), np.zeros(3)), second: (turn, move[:, 0])}
    left = [index for index in range(places.shape[1]) if index not in cameras]
    while left:
        check()
        known = sorted(cameras)
        points, good = triangulated(np.stack([cameras[i][0] for i in known]), np.stack([cameras[i][1] for i in known]),
                                    lens, places[:, known])  # fmt: skip
        counts = [int((good & np.isfinite(places[:, index, 0])).sum()) for index in left]
        index = left.pop(int(np.argmax(counts)))
        if max(counts) < LEAST_ON_FRAME:
            return None
        near = min(known, key=lambda one: abs(one - index))
        use = good & np.isfinite(places[:, index, 0])
        cameras[index] = resected(*cameras[near], lens, points[use], places[use, index], scale_px=4.0)
        if len(cameras) in (3, 5, 8):
            cameras, lens = _among(places, cameras, lens, free, width, check)
    rows = sorted(cameras)
    turns, moves = np.stack([cameras[i][0] for i in rows]), np.stack([cameras[i][1] for i in rows])
    points, good = triangulated(turns, moves, lens, places)
    kept = np.nonzero(good)[0]
    if len(kept) < LEAST_TRACKS:
        return None
    seen = Observations.of(places[kept])
    scene = Scene(turns, moves, lens, points[kept])
    for scale, most, loose in ((ROUGH_PX * 3, 30, (free[0], False, False)), (ROUGH_PX, 40, free)):
        scene, _ = adjusted(scene, seen, width, scale_px=scale, free_lens=loose, held=first, most=most, check=check)
    return Begun(scene, seen, first)


def _among(
    places: Floats,
    cameras: dict[int, tuple[Floats, Floats]],
    lens: Lens,
    free: tuple[bool, bool, bool],
    width: float,
    check: Callable[[], None],
) -> tuple[dict[int, tuple[Floats, Floats]], Lens]:
    """Adjust the cameras that are known so far, so that errors do not add up."""
    rows = sorted(cameras)
    turns, moves = np.stack([cameras[i][0] for i in rows]), np.stack([cameras[i][1] for i in rows])
    points, good = triangulated(turns, moves, lens, places[:, rows])
    seen = Observations.of(places[good][:, rows])
    scene, _ = adjusted(Scene(turns, moves, lens, points[good]), seen, width, scale_px=ROUGH_PX * 2,
                        free_lens=(free[0] and len(rows) > 4, False, False), most=20, check=check)  # fmt: skip
    size = np.linalg.norm(scene.moves, axis=1).max()
    moves = scene.moves / (size if size > 0 else 1.0)
    return {index: (scene.turns[i], moves[i]) for i, index in enumerate(rows)}, scene.lens


def _best_pair(places: Floats) -> tuple[int, int] | None:
    """Return the two frames whose common features agree least with one motion of a plane."""
    count = places.shape[1]
    best, found = 0.0, None
    for one in range(count):
        for other in range(one + 1, count):
            both = np.isfinite(places[:, one, 0]) & np.isfinite(places[:, other, 0])
            if both.sum() < LEAST_TRACKS:
                continue
            source, target = places[both, one], places[both, other]
            matrix, _ = cv2.findHomography(source, target, cv2.LMEDS)
            if matrix is None:
                continue
            moved = np.column_stack([source, np.ones(len(source))]) @ matrix.T
            off = np.hypot(*(moved[:, :2] / moved[:, 2:] - target).T)
            tells = float(np.quantile(off, 0.7)) * np.sqrt(both.sum())
            if tells > best:
                best, found = tells, (one, other)
    return found
