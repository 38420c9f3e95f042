"""Close a hole in a still with pieces of the same picture."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.fill.patchwork.matching import improve, tell_errors
from gommage.core.fill.patchwork.offsets import offsets_by_statistics
from gommage.core.fill.patchwork.pyramids import HALF, Level, pyramid_of
from gommage.core.fill.patchwork.surroundings import like_surroundings
from gommage.core.geometry import Points
from gommage.core.picture import Picture

__all__ = ["Closed", "closed"]

Check = Callable[[], None]
Told = Callable[[float], object]
Mask = NDArray[np.bool_]
Offsets = NDArray[np.int32]
THICKNESS_PX, MOST_CUT_PX = 16, 4500
"""Holes are no thicker than this at the coarsest level; the first cut is made where they have no more pixels."""
ROUNDS = (0, 2, 5, 10, 14)
"""How often patches are matched and put together, from the finest level to the coarser ones."""
FIRST_PASSES, PASSES = 4, 2
UNLIKE_QUANTILE = 0.75
DEEPER = 1.15
"""By so much less a patch counts for each pixel that it lies deeper in the hole."""
DEEPEST_PX, TINY = 250.0, 1e-9
"""Deeper than that all patches count alike: smaller numbers would be none."""
AROUND_PX = 24
"""So wide a ring says how lively what is closed should be."""
CHOSEN_AT = 2
"""The two starts are compared at a size so many times halved."""


@dataclass(frozen=True, slots=True)
class Closed:
    """How a hole is closed.

    Attributes
    ----------
    offsets : (h, w, 2) int32
        For each pixel of the hole by how many rows and columns away that lies which is taken, of the finest level that
        was closed; 0 elsewhere.
    level : int
        How many times that was halved.
    unlike : float
        By how much patches of the hole differ from those that they are matched with, root mean square a value.
    """

    offsets: Offsets
    level: int
    unlike: float


@dataclass(slots=True)
class _State:
    """What is known while a hole is closed at a level: the picture so far, and matches."""

    picture: Picture
    matches: Offsets
    errors: Picture


def closed(
    picture: Picture, hole: Mask, is_taken: Mask, guides: Sequence[Points] = (), proposal: int = 0,
    finest: int = 0, check: Check = lambda: None, told: Told = lambda share: None,
) -> Closed:  # fmt: skip
    """Return how a hole is closed with pieces of the same picture.

    Two starts are tried, offsets that are common in the picture put together by a labelling, and a smooth field; from
    there patches are matched and voted, coarse to fine.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Encoded, so that a step is as visible in the dark as in the light; what is in the hole is not looked at.
    hole : (h, w) bool
    is_taken : (h, w) bool
        What may be taken from; what is in the hole may not.
    guides : sequence of (N, 2)
        Lines, x y, that must go through.
    proposal : int
        0: the start that leaves patches more alike; 1: the other one; more: with other chances.
    finest : int
        So many halvings away from full size it ends; for a first look.
    check : callable
        Called between passes; raises `Cancelled` to stop.
    told : callable
        Called with how far it is, 0 to 1.

    Raises
    ------
    ValueError
        If there is nothing that may be taken.

    References
    ----------
    Y. Wexler, E. Shechtman, M. Irani, Space-time completion of video, PAMI 29 (2007), doi:10.1109/TPAMI.2007.60:
    matching and voting. K. He, J. Sun, Statistics of patch offsets for image completion, ECCV 2012,
    doi:10.1007/978-3-642-33709-3_2: the first start. A. Newson et al., Video inpainting of complex scenes, SIAM
    J. Imaging Sciences 7 (2014), doi:10.1137/140954933: the pyramid by the hole's thickness.
    """
    levels = pyramid_of(picture, hole, like_surroundings(picture, hole, is_taken & ~hole), guides, THICKNESS_PX)
    if not levels[0].is_source.any():
        raise ValueError("nothing may be taken from")
    while not levels[-1].is_source.any():
        levels.pop()
    finest = min(finest, len(levels) - 1)
    cut_at = next((number for number, one in enumerate(levels) if one.hole.sum() <= MOST_CUT_PX), len(levels) - 1)
    cut_at = max(cut_at, finest)
    chosen_at = min(max(CHOSEN_AT, finest), cut_at)
    seed = proposal // 2
    shares = _shares(levels, finest)

    def told_at(level: int) -> None:
        told(float(sum(shares[level + 1 :])))

    def from_offsets() -> _State | None:
        state = _from_offsets(levels[cut_at], seed, check)
        return None if state is None else _run(levels, cut_at, chosen_at, state, seed, check, lambda level: None)

    def from_field() -> _State:
        state = _from_field(levels[-1])
        return _run(levels, len(levels) - 1, chosen_at, state, seed, check, lambda level: None)

    with ThreadPoolExecutor(1, "start") as beside:  # what is compiled lets go of the interpreter
        other = beside.submit(from_field)
        first = from_offsets()
        states = [state for state in (first, other.result()) if state is not None]
    unlike = [_unlike(levels[chosen_at], state) * _dullness(levels[chosen_at], state) for state in states]
    order = np.argsort(unlike, kind="stable")
    state = states[int(order[proposal % len(states)])]
    told_at(chosen_at)
    if chosen_at > finest:
        finer = _refined(levels, chosen_at - 1, state, check)
        state = _run(levels, chosen_at - 1, finest, finer, seed, check, told_at)
    return Closed(_best(levels[finest], state), finest, _unlike(levels[finest], state))


def _shares(levels: list[Level], finest: int) -> list[float]:
    """Return how much of the work each level is, 0 of those that are finer than asked for."""
    work = [0.0 if number < finest else level.places.shape[0] * (2.0 + _rounds(number, len(levels)))
            for number, level in enumerate(levels)]  # fmt: skip
    return [one / sum(work) for one in work]


def _rounds(level: int, count: int) -> int:
    return ROUNDS[min(level, len(ROUNDS) - 1)] if count > 1 else ROUNDS[-1]


# -- starts -------------------------------------------------------------------------------------------------


def _from_offsets(level: Level, seed: int, check: Check) -> _State | None:
    """Begin with offsets that are common in the picture; None if none leads anywhere."""
    offsets = offsets_by_statistics(level, seed, check)
    if offsets is None:
        return None
    rows, columns = np.nonzero(level.hole)
    taken = level.picture.copy()
    there = offsets[rows, columns]
    taken[rows, columns] = level.picture[rows + there[:, 0], columns + there[:, 1]]
    height, width = level.hole.shape
    matches, errors = np.zeros((height, width, 2), np.int32), np.full((height, width), -1, np.float32)
    y, x = level.places.T
    nearest = _nearest(level.hole)  # patches around the hole have the offset of the pixel of it that is nearest
    near = offsets[nearest[0][y, x], nearest[1][y, x]]
    there = np.clip(np.stack([y, x], axis=1) + near, 0, (height - 1, width - 1))
    allowed = level.is_source[there[:, 0], there[:, 1]]
    matches[y, x] = there
    errors[y[allowed], x[allowed]] = 0
    return _State(taken, matches, errors)


def _nearest(hole: Mask) -> NDArray[np.intp]:
    """Return row and column of the pixel of the hole that is nearest to each: (2, h, w)."""
    from scipy.ndimage import distance_transform_edt

    found = distance_transform_edt(~hole, return_distances=False, return_indices=True)
    return np.asarray(found, np.intp)


def _from_field(level: Level) -> _State:
    """Begin with what is around the hole, grown inwards."""
    from gommage.core.paint.membrane import membrane  # compiled code is loaded late

    field = np.dstack([level.picture, np.ones(level.hole.shape, np.float32)])
    membrane(field, level.hole.copy())
    height, width = level.hole.shape
    taken = np.where(level.hole[..., None], field[..., :3], level.picture).astype(np.float32)
    return _State(taken, np.zeros((height, width, 2), np.int32), np.full((height, width), -1, np.float32))


# -- matching and voting ------------------------------------------------------------------------------------


def _run(
    levels: list[Level], first: int, last: int, state: _State, seed: int, check: Check, told_at: Callable[[int], None]
) -> _State:
    """Match and vote from one level down to a finer one."""
    for number in range(first, last - 1, -1):
        if number != first:
            state = _refined(levels, number, state, check)
        level = levels[number]
        for turn in range(_rounds(number, len(levels))):
            check()
            _match(level, state, FIRST_PASSES if turn == 0 else PASSES, seed + turn, check)
            state.picture = _vote(level, state)
        check()
        _match(level, state, PASSES, seed, check)
        told_at(number)
    return state


def _match(level: Level, state: _State, passes: int, seed: int, check: Check) -> None:
    features = level.features_of(state.picture)
    improve(features, level.places, level.is_source, state.matches, state.errors, passes, seed, check)


def _vote(level: Level, state: _State) -> Picture:
    from gommage.core.fill.patchwork.kernels import voted  # compiled code is loaded late

    voted_picture: Picture = voted(state.picture, level.hole, level.places, state.matches, _weights(level, state))
    return voted_picture


def _weights(level: Level, state: _State) -> Picture:
    """Return what each patch counts: the more, the more it is like its match and the nearer it is to what is known."""
    y, x = level.places.T
    errors = state.errors[y, x]
    scale = max(float(np.quantile(errors, UNLIKE_QUANTILE)), 1e-6)
    weights = np.zeros(level.hole.shape, np.float32)
    weights[y, x] = np.maximum(np.exp(-errors / scale), 1e-6) * DEEPER ** -np.minimum(level.depth[y, x], DEEPEST_PX)
    return weights


def _refined(levels: list[Level], number: int, state: _State, check: Check) -> _State:
    """Return what is known at a level from what is known at the next coarser one."""
    from gommage.core.fill.patchwork.kernels import refined  # compiled code is loaded late

    level = levels[number]
    height, width = level.hole.shape
    matches, errors = np.zeros((height, width, 2), np.int32), np.full((height, width), -1, np.float32)
    refined(level.places, level.is_source, state.matches, state.errors, matches, errors)
    blank = cv2.resize(state.picture[HALF:-HALF, HALF:-HALF], (width - 2 * HALF, height - 2 * HALF),
                       interpolation=cv2.INTER_LINEAR)  # fmt: skip
    blank = cv2.copyMakeBorder(blank, HALF, HALF, HALF, HALF, cv2.BORDER_REPLICATE)
    finer = _State(np.where(level.hole[..., None], blank, level.picture), matches, errors)
    tell_errors(level.features_of(finer.picture), level.places, level.is_source, matches, errors, number, check)
    finer.picture = _vote(level, finer)
    return finer


def _best(level: Level, state: _State) -> Offsets:
    """Return for each pixel the offset of its best patch, without the margin."""
    from gommage.core.fill.patchwork.kernels import best_offsets  # compiled code is loaded late

    costs = np.log(np.maximum(state.errors, TINY)) + np.log(DEEPER) * level.depth  # as logarithms: holes may be deep
    offsets: Offsets = best_offsets(level.hole, level.places, state.matches, costs.astype(np.float32))
    return offsets[HALF:-HALF, HALF:-HALF]


def _dullness(level: Level, state: _State) -> float:
    """Return by how much what was closed is calmer, or livelier, than what may be taken: 1 where it is neither.

    A hole that is closed with the calmest pieces alone agrees with itself best, and is a bare patch.
    """
    known, hole = level.is_source, level.hole
    slopes = [cv2.Sobel(state.picture, cv2.CV_32F, *way, ksize=3) for way in ((1, 0), (0, 1))]
    strength = np.sqrt(sum((one**2).sum(axis=2) for one in slopes))
    inner = cv2.erode(hole.astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool)
    near = cv2.dilate(hole.astype(np.uint8), np.ones((2 * AROUND_PX + 1,) * 2, np.uint8)).astype(bool) & known
    if not inner.any() or not near.any():
        return 1.0
    ratio = (float(strength[inner].mean()) + TINY) / (float(strength[near].mean()) + TINY)
    return 1.0 + abs(float(np.log(ratio)))


def _unlike(level: Level, state: _State) -> float:
    y, x = level.places.T
    return float(np.sqrt(state.errors[y, x].mean() / ((2 * HALF + 1) ** 2 * 3)))
