"""Motions that neighbouring features share: the planes that a picture falls into."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import combinations

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from gommage.core.geometry import Matrix

__all__ = ["LEAST_POINTS", "SharedMotion", "shared_motions"]

Floats = NDArray[np.float64]
LEAST_POINTS, LEAST_SHARE = 18, 0.05
NEIGHBOURS, FARTHER, TRIALS = 12, (12, 30, 80), 480
"""How many neighbours say what a point should be; among how many nearest ones four are drawn."""
LEAST_TOLERANCE_PX, MOST_TOLERANCE_PX, TOLERANCE_SHARE = 0.35, 0.8, 0.4
MOST_PIECES = 6
REACHES, LEFT_SHARE = (1.0, 0.5), 0.2
"""Over what share of the frames models are looked for; again if so many points follow none."""
MERGED_SHARE = 0.9
SEED = 5


@dataclass(frozen=True, slots=True)
class SharedMotion:
    """A motion for each of some rows, (S, 3, 3) pixels of the small pictures, and which points follow it."""

    motions: Floats
    members: NDArray[np.bool_]
    rows: tuple[int, ...] = ()


# -- models -------------------------------------------------------------------------------------------------


def shared_motions(places: Floats, home: int, rows: Sequence[int], check: Callable[[], None]) -> list[SharedMotion]:
    """Return models over all sampled frames; what follows none of them is looked at over fewer frames around home.

    A lens bends what a large plane does over a long way; over a short one it hardly does.
    """
    free, found = np.ones(len(places), np.bool_), list[SharedMotion]()
    for share in REACHES:
        reach = share * max(abs(row - home) for row in rows)
        near = [number for number, row in enumerate(rows) if abs(row - home) <= reach]
        if len(near) < 2 or free.sum() < max(LEAST_POINTS, LEFT_SHARE * len(places)):
            continue
        part = places[free][:, [0, *(number + 1 for number in near)]]
        which = np.nonzero(free)[0]
        for model in _models(part, _tolerance(part), check):
            members = np.zeros(len(places), np.bool_)
            members[which[model.members]] = True
            found.append(SharedMotion(model.motions, members, tuple(rows[number] for number in near)))
            free &= ~members
    return found


def _errors(motions: Floats, places: Floats) -> Floats:
    """Return by how much points (P, 1 + S, 2) leave motions (..., S, 3, 3): (..., P), the median over the frames."""
    home = np.column_stack([places[:, 0], np.ones(len(places))]).astype(np.float32)
    wanted = np.swapaxes(places[:, 1:], 0, 1).astype(np.float32)
    there = home @ np.swapaxes(motions, -1, -2).astype(np.float32)
    with np.errstate(divide="ignore", invalid="ignore"):
        off = there[..., :2] / there[..., 2:] - wanted
    distance = np.sort(np.nan_to_num(np.hypot(off[..., 0], off[..., 1]), nan=np.inf), axis=-2)
    middle = (np.maximum(np.isfinite(wanted[..., 0]).sum(axis=0), 1) - 1) // 2
    found: Floats = np.take_along_axis(distance, middle.reshape((1,) * (distance.ndim - 1) + (-1,)), axis=-2)[..., 0, :]
    return found.astype(np.float64)


def _fitted(places: Floats, members: NDArray[np.bool_]) -> Floats | None:
    """Return the motions of some points to each sampled frame, (S, 3, 3); None where a frame has too few of them."""
    out = []
    for row in range(1, places.shape[1]):
        use = members & np.isfinite(places[:, row, 0])
        if use.sum() < 6:
            return None
        matrix, _ = cv2.findHomography(places[use, 0], places[use, row], cv2.RANSAC, 1.0)
        if matrix is None:
            return None
        out.append(matrix)
    return np.stack(out)


def _tolerance(places: Floats) -> float:
    """Return how far a point may be off its plane: a part of what one motion for all of them leaves."""
    one = _fitted(places, np.ones(len(places), np.bool_))
    if one is None:
        return MOST_TOLERANCE_PX
    off = float(np.quantile(_errors(one, places), 0.8))
    return float(np.clip(TOLERANCE_SHARE * off, LEAST_TOLERANCE_PX, MOST_TOLERANCE_PX))


def _models(places: Floats, tolerance: float, check: Callable[[], None]) -> list[SharedMotion]:
    """Return motions that many neighbouring points share, the largest first; each point belongs to one at most."""
    rng = np.random.default_rng(SEED)
    tree = cKDTree(places[:, 0])
    far = np.asarray(tree.query(places[:, 0], k=min(max(FARTHER), len(places)))[1], np.intp)
    near = far[:, :NEIGHBOURS]
    free = np.ones(len(places), np.bool_)
    least = max(LEAST_POINTS, round(LEAST_SHARE * len(places)))
    found: list[SharedMotion] = []
    while free.sum() >= least and len(found) < MOST_PIECES:
        check()
        model = _largest(places, free, near, far, tolerance, rng)
        if model is None or model.members.sum() < least:
            break
        found.append(model)
        free &= ~model.members
    found = _merged(places, found, tolerance)
    return _competed(places, found, near, tolerance, least)


def _largest(
    places: Floats,
    free: NDArray[np.bool_],
    near: NDArray[np.intp],
    far: NDArray[np.intp],
    tolerance: float,
    rng: np.random.Generator,
) -> SharedMotion | None:
    """Return the motion that most neighbouring points share, None where there is none."""
    whole = np.nonzero(free & np.isfinite(places[..., 0]).all(axis=1))[0]
    motions: list[list[Matrix]] = []
    is_whole = np.zeros(len(places), np.bool_)
    is_whole[whole] = True
    for start in rng.choice(whole, min(TRIALS, 4 * len(whole)), replace=True) if len(whole) >= 4 else ():
        reach = FARTHER[len(motions) % len(FARTHER)]
        others = far[start][:reach]
        others = others[is_whole[others] & (others != start)]
        if len(others) < 3:
            continue
        four = np.array([start, *rng.choice(others, 3, replace=False)])
        source = places[four, 0].astype(np.float32)
        if cv2.contourArea(cv2.convexHull(source)) < 40:
            continue
        motions.append([cv2.getPerspectiveTransform(source, places[four, row].astype(np.float32))
                        for row in range(1, places.shape[1])])  # fmt: skip
    if not motions:
        return None
    errors = _errors(np.array(motions), places)
    inliers = (errors < tolerance) & free
    votes = (inliers * inliers[:, near].mean(axis=2)).sum(axis=1)
    members = inliers[int(votes.argmax())]
    fitted: Floats | None = None
    for _ in range(4):
        again = _fitted(places, members)
        if again is None:
            break
        fitted = again
        grown = (_errors(fitted, places) < tolerance) & free
        if (grown == members).all():
            break
        members = grown
    return None if fitted is None else SharedMotion(fitted, members)


def _merged(places: Floats, models: list[SharedMotion], tolerance: float) -> list[SharedMotion]:
    """Return models of which no two are served by one motion."""
    models = list(models)
    again = True
    while again:
        again = False
        for one, other in combinations(range(len(models)), 2):
            both = models[one].members | models[other].members
            fitted = _fitted(places, both)
            if fitted is None:
                continue
            off = _errors(fitted, places) < tolerance
            small = min((models[one], models[other]), key=lambda model: model.members.sum()).members
            if off[both].mean() > MERGED_SHARE and off[small].mean() > MERGED_SHARE:
                models[one] = SharedMotion(fitted, both)
                del models[other]
                again = True
                break
    return models


def _competed(
    places: Floats, models: list[SharedMotion], near: NDArray[np.intp], tolerance: float, least: int
) -> list[SharedMotion]:
    """Return models after each point went to the one that serves it and its neighbours best."""
    if not models:
        return []
    for _ in range(3):
        errors = np.stack([_errors(model.motions, places) for model in models])
        around = np.minimum(errors, 3 * tolerance)[:, near].mean(axis=2)
        best = (errors + around).argmin(axis=0)
        fresh = []
        for number, model in enumerate(models):
            members = (best == number) & (errors[number] < 1.5 * tolerance)
            fitted = _fitted(places, members) if members.sum() >= least else None
            if fitted is not None:
                fresh.append(SharedMotion(fitted, members))
            elif model.members.sum() >= least and members.sum() >= least:
                fresh.append(model)
        models = fresh
    return sorted(models, key=lambda model: -int(model.members.sum()))
