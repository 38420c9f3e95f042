"""Arrays as compiled loops take them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

__all__ = ["plain"]


def plain(array: Any, dtype: DTypeLike | None = None) -> NDArray[Any]:
    """Return an array in one piece, row by row, that may be written to; a copy where it is none.

    A loop is compiled for each kind of array that it is given, for seconds each time: parts of others, and what is
    read-only, are kinds of their own.
    """
    return np.require(array, dtype, ["C", "W"])
