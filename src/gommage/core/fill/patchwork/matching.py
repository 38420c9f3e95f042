"""Fields of matches between patches, improved in pieces, so that it can be called off."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["improve", "tell_errors"]

Check = Callable[[], None]
AT_ONCE = 8192
"""So many patches are done between two questions whether to go on: less than 50 ms."""


def tell_errors(
    features: Picture, places: NDArray[np.int32], is_source: NDArray[np.bool_], matches: NDArray[np.int32],
    errors: Picture, seed: int, check: Check,
) -> None:  # fmt: skip
    """Tell how unlike patches are to their matches, in place; those that have none get one by chance.

    See `kernels.matched` for the arrays.
    """
    from gommage.core.fill.patchwork.kernels import compared  # compiled code is loaded late

    sources = np.argwhere(is_source).astype(np.int32)
    for first in range(0, len(places), AT_ONCE):
        check()
        last = min(first + AT_ONCE, len(places))
        compared(features, places, sources, is_source, matches, errors, first, last, seed)


def improve(
    features: Picture, places: NDArray[np.int32], is_source: NDArray[np.bool_], matches: NDArray[np.int32],
    errors: Picture, passes: int, seed: int, check: Check, least_off: int = 0,
) -> None:  # fmt: skip
    """Improve matches in place, to and fro so many times."""
    from gommage.core.fill.patchwork.kernels import matched  # compiled code is loaded late

    tell_errors(features, places, is_source, matches, errors, seed, check)
    for turn in range(passes):
        step = 1 if turn % 2 == 0 else -1
        for first in range(0, len(places), AT_ONCE):
            check()
            last = min(first + AT_ONCE, len(places))
            matched(features, places, is_source, matches, errors, step, first, last, least_off, seed + turn)
