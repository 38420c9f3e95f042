"""Cameras, a lens and points adjusted together until what is seen agrees."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from gommage.core.geometry import Lens, axis_turn

__all__ = ["Observations", "Scene", "adjusted", "resected", "triangulated"]

Floats = NDArray[np.float64]
Integers = NDArray[np.int64]
MOST_FOCAL, LEAST_FOCAL = 12.0, 0.25
"""In widths of the picture."""
TERM_DEVIATION = 0.25
"""How strong lenses' radial terms are, as far as pictures do not tell."""
FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-3, 1e-12, 1e8
NEAR_RAY = 1e-9
THREADS = 2


@dataclass(frozen=True, slots=True)
class Observations:
    """What was seen: (M,) which camera, (M,) which point, sorted by point, (M, 2) where, (M,) its weight."""

    camera_of: Integers
    point_of: Integers
    places: Floats
    weights: Floats

    @classmethod
    def of(cls, places: Floats, weights: Floats | None = None) -> Observations:
        """Return those of places (P, C, 2), NaN where a point is not seen; weights (P,) of the points."""
        point_of, camera_of = np.nonzero(np.isfinite(places[..., 0]))
        own = np.ones(len(places)) if weights is None else weights
        there, weight = np.ascontiguousarray(places[point_of, camera_of]), np.ascontiguousarray(own[point_of])
        return cls(camera_of.astype(np.int64), point_of.astype(np.int64), there, weight)

    def starts(self, count: int) -> Integers:
        """Return where each point's observations begin, (count + 1,)."""
        return np.searchsorted(self.point_of, np.arange(count + 1)).astype(np.int64)


@dataclass(frozen=True, slots=True)
class Scene:
    """Cameras, their lens, and points.

    Attributes
    ----------
    turns : (C, 3, 3), moves : (C, 3) float64
        From the scene to each camera: ``turn @ (x, y, z) + w move``.
    lens : Lens
    points : (P, 4) float64
        A direction of length 1 and an inverse distance, from the scene's origin: 0 is infinitely far.
    """

    turns: Floats
    moves: Floats
    lens: Lens
    points: Floats

    def off(self, seen: Observations) -> Floats:
        """Return by how much each observation is off, (M, 2) pixels; NaN behind the camera."""
        from gommage.core.follow.scene.kernels import residuals  # compiled: loaded late

        out = np.empty((len(seen.places), 2))
        residuals(self.turns, self.moves, np.array(self.lens.numbers), self.points, seen.camera_of, seen.point_of,
                  seen.places, out)  # fmt: skip
        return out


def _across(points: Floats) -> Floats:
    """Return two directions (P, 2, 3) across each point's."""
    ray = points[:, :3]
    least = np.eye(3)[np.abs(ray).argmin(axis=1)]
    one = np.cross(ray, least)
    one /= np.linalg.norm(one, axis=1, keepdims=True)
    return np.ascontiguousarray(np.stack([one, np.cross(ray, one)], axis=1))


def adjusted(
    scene: Scene,
    seen: Observations,
    width: float,
    *,
    scale_px: float = 0.5,
    free_lens: tuple[bool, bool, bool] = (True, True, True),
    turns_only: bool = False,
    held: int = 0,
    most: int = 100,
    tolerance: float = 1e-8,
    check: Callable[[], None] = lambda: None,
) -> tuple[Scene, float]:
    """Return a scene that fits what was seen, and its robust cost (Cauchy's, square pixels).

    Parameters
    ----------
    scene : Scene
        To begin from.
    seen : Observations
    width : float
        Of the picture: focal lengths are held within some of them.
    scale_px : float
        What is off by more is believed less and less.
    free_lens : tuple of bool
        Whether focal length, first and second term are adjusted.
    turns_only : bool
        The camera turns about itself: it does not move, and points are infinitely far.
    held : int
        The camera that the others are counted from.
    most, tolerance : int, float
        It ends after so many steps, or where three in a row gain less than this share of the cost. The valley of focal
        length and distortion is flat: anything larger ends in it too early.
    check : callable
        Called between steps.

    References
    ----------
    B. Triggs et al., Bundle Adjustment: A Modern Synthesis, 2000, doi:10.1007/3-540-44480-7_21.
    """
    step = _Step(seen, len(scene.turns), len(scene.points), scale_px, turns_only)
    free = np.ones(6 * len(scene.turns) + 3, np.bool_)
    free[6 * held : 6 * held + 6] = False
    free[-3:] = free_lens
    if turns_only:
        for camera in range(len(scene.turns)):
            free[6 * camera + 3 : 6 * camera + 6] = False
    cost, damping, idle = step.cost(scene), FIRST_DAMPING, 0
    for _ in range(most):
        check()
        fresh = step.taken(scene, damping, free, width)
        gained = np.inf if fresh is None else cost - (fresh_cost := step.cost(fresh))
        if fresh is None or not gained > 0:
            damping = max(damping, 1e-9) * 6
            if damping > MOST_DAMPING:
                break
            continue
        scene, damping = fresh, max(damping / 4, LEAST_DAMPING)
        idle = idle + 1 if gained < tolerance * cost else 0
        cost = fresh_cost
        if idle >= 3:
            break
    return scene, cost


class _Step:
    """One step of Levenberg's and Marquardt's way."""

    def __init__(self, seen: Observations, cameras: int, points: int, scale_px: float, turns_only: bool) -> None:
        self._seen, self._scale, self._turns_only = seen, scale_px, turns_only
        self._starts = seen.starts(points)
        size = 6 * cameras + 3
        self._reduced = np.empty((THREADS, size, size))
        self._right, self._diagonal = np.empty((THREADS, size)), np.empty((THREADS, size))
        work = np.cumsum(np.diff(self._starts) ** 2)
        bounds = [int(np.searchsorted(work, work[-1] * part / THREADS)) if points else 0 for part in range(1, THREADS)]
        self._parts = list(pairwise([0, *bounds, points]))
        self._inverses, self._pulls = np.empty((points, 3, 3)), np.empty((points, 3))
        self._links = np.empty((len(seen.places) + points, 3, 6))

    def cost(self, scene: Scene) -> float:
        from gommage.core.follow.scene.kernels import costs  # compiled: loaded late

        terms = (scene.lens.first / TERM_DEVIATION) ** 2 + (scene.lens.second / TERM_DEVIATION) ** 2
        return float(costs(scene.off(self._seen), self._seen.weights, self._scale)) + terms

    def taken(self, scene: Scene, damping: float, free: NDArray[np.bool_], width: float) -> Scene | None:
        """Return the scene one step on, or None where that cannot be."""
        from gommage.core.follow.scene.kernels import normal_equations  # compiled: loaded late

        across = _across(scene.points)
        seen = self._seen

        def of_some(part: int) -> None:
            for array in (self._reduced, self._right, self._diagonal):
                array[part] = 0.0
            normal_equations(
                scene.turns, scene.moves, np.array(scene.lens.numbers), scene.points, across, seen.camera_of,
                self._starts, seen.places, seen.weights, *self._parts[part], self._scale, damping, self._turns_only,
                self._reduced[part], self._right[part], self._diagonal[part], self._inverses, self._pulls, self._links,
            )  # fmt: skip

        with ThreadPoolExecutor(THREADS) as pool:
            list(pool.map(of_some, range(THREADS)))
        reduced, right = self._reduced.sum(axis=0), self._right.sum(axis=0)
        reduced = np.triu(reduced) + np.triu(reduced, 1).T
        size = len(free)
        for at, value in ((size - 2, scene.lens.first), (size - 1, scene.lens.second)):
            reduced[at, at] += 1 / TERM_DEVIATION**2
            right[at] -= value / TERM_DEVIATION**2
        index = np.arange(size)
        reduced[index, index] += damping * self._diagonal.sum(axis=0) + 1e-9
        by = np.zeros(size)
        try:
            by[free] = cho_solve(cho_factor(reduced[np.ix_(free, free)]), right[free])
        except (LinAlgError, ValueError):  # not positive, or not finite
            return None
        return self._moved(scene, by, across, width) if np.isfinite(by).all() else None

    def _moved(self, scene: Scene, by: Floats, across: Floats, width: float) -> Scene | None:
        seen, cameras = self._seen, by[:-3].reshape(-1, 6)
        pulls = self._pulls.copy()
        count = len(seen.places)
        np.subtract.at(pulls, seen.point_of, np.einsum("mij,mj->mi", self._links[:count], cameras[seen.camera_of]))
        pulls -= self._links[count:, :, :3] @ by[-3:]
        own = np.einsum("pij,pj->pi", self._inverses, pulls)
        if self._turns_only:
            own[:, 2] = 0.0
        ray = scene.points[:, :3] + np.einsum("pwi,pw->pi", across, np.clip(own[:, :2], -0.5, 0.5))
        ray /= np.linalg.norm(ray, axis=1, keepdims=True)
        points = np.column_stack([ray, scene.points[:, 3] + own[:, 2]])
        focal = scene.lens.focal_px * float(np.exp(np.clip(by[-3], -0.5, 0.5)))
        if not LEAST_FOCAL * width <= focal <= MOST_FOCAL * width:
            return None
        lens = replace(
            scene.lens, focal_px=focal, first=scene.lens.first + float(by[-2]), second=scene.lens.second + float(by[-1])
        )
        turns = np.ascontiguousarray(axis_turn(cameras[:, :3]) @ scene.turns)
        return Scene(turns, scene.moves + cameras[:, 3:], lens, np.ascontiguousarray(points))


def resected(
    turn: Floats,
    move: Floats,
    lens: Lens,
    points: Floats,
    places: Floats,
    *,
    scale_px: float = 0.5,
    turns_only: bool = False,
    most: int = 60,
) -> tuple[Floats, Floats]:
    """Return one camera's turn (3, 3) and move (3,) among points (P, 4) that are known and seen at places (P, 2)."""
    from gommage.core.follow.scene.kernels import resect_normal  # compiled: loaded late

    numbers = np.array(lens.numbers)
    normal, right = np.empty((6, 6)), np.empty(6)
    fresh_normal, fresh_right = np.empty((6, 6)), np.empty(6)
    points, places = np.ascontiguousarray(points), np.ascontiguousarray(places)
    cost = resect_normal(turn, move, numbers, points, places, scale_px, turns_only, normal, right)
    damping = FIRST_DAMPING
    size = 3 if turns_only else 6
    for _ in range(most):
        damped = normal[:size, :size] + np.diag(damping * normal.diagonal()[:size] + 1e-12)
        by = np.zeros(6)
        by[:size] = np.linalg.solve(damped, right[:size])
        there = np.ascontiguousarray(axis_turn(by[None, :3])[0] @ turn), move + by[3:]
        fresh = resect_normal(*there, numbers, points, places, scale_px, turns_only, fresh_normal, fresh_right)
        if fresh < cost:
            gained = cost - fresh
            (turn, move), cost, damping = there, fresh, max(damping / 5, LEAST_DAMPING)
            normal, fresh_normal = fresh_normal, normal
            right, fresh_right = fresh_right, right
            if gained < 1e-9 * cost:
                break
        else:
            damping = damping * 8
            if damping > MOST_DAMPING:
                break
    return turn, move


def triangulated(turns: Floats, moves: Floats, lens: Lens, places: Floats) -> tuple[Floats, NDArray[np.bool_]]:
    """Return the points (P, 4) that are seen at places (P, C, 2), NaN where they are not, and which of them are known.

    Each is the homogeneous point nearest to all its rays; those behind a camera, or seen by one alone, are not known.
    """
    rays = (lens.straightened(places) - (lens.middle_x, lens.middle_y)) / lens.focal_px
    seen = np.isfinite(rays[..., 0])
    rows = np.nan_to_num(rays)
    frames = np.concatenate([turns, moves[..., None]], axis=2)
    lines = np.concatenate([
        rows[..., 0, None] * frames[None, :, 2] - frames[None, :, 0],
        rows[..., 1, None] * frames[None, :, 2] - frames[None, :, 1],
    ], axis=1) * np.tile(seen, 2)[..., None]  # fmt: skip
    normal = np.einsum("pki,pkj->pij", lines, lines)
    spread = max(float(np.abs(moves).max()), NEAR_RAY)
    scale = np.array([1.0, 1.0, 1.0, 1 / spread])
    point = np.linalg.eigh(normal * scale[:, None] * scale)[1][..., 0] * scale
    length = np.linalg.norm(point[:, :3], axis=1, keepdims=True)
    point = point / np.maximum(length, NEAR_RAY)
    depth = np.einsum("ci,pi->pc", frames[:, 2], point)
    behind = np.where(seen, depth < 0, False).sum(axis=1)
    point[behind * 2 > seen.sum(axis=1)] *= -1
    depth = np.einsum("ci,pi->pc", frames[:, 2], point)
    known = (length[:, 0] > NEAR_RAY) & (np.where(seen, depth, 1.0) > NEAR_RAY).all(axis=1) & (seen.sum(axis=1) >= 2)
    return np.ascontiguousarray(point), known
