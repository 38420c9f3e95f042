"""Compiled: small systems of equations whose matrix is symmetric. Imported late.

By plain loops: each use of NumPy's in compiled code takes a second or more to compile.
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["lower_root", "solve"]


@njit(cache=True, nogil=True)
def lower_root(matrix, root):  # type: ignore[no-untyped-def]
    """Set the lower root (Cholesky) of a symmetric matrix; returns whether it is positive."""
    size = matrix.shape[0]
    for i in range(size):
        for j in range(size):
            root[i, j] = 0.0
    for i in range(size):
        for j in range(i + 1):
            rest = matrix[i, j]
            for k in range(j):
                rest -= root[i, k] * root[j, k]
            if i == j:
                if not rest > 0:
                    return False
                root[i, i] = np.sqrt(rest)
            else:
                root[i, j] = rest / root[j, j]
    return True


@njit(cache=True, nogil=True)
def solve(root, right, column):  # type: ignore[no-untyped-def]
    """Solve in place for one column of `right`, given the lower root of the matrix."""
    size = root.shape[0]
    for i in range(size):
        for k in range(i):
            right[i, column] -= root[i, k] * right[k, column]
        right[i, column] /= root[i, i]
    for i in range(size - 1, -1, -1):
        for k in range(i + 1, size):
            right[i, column] -= root[k, i] * right[k, column]
        right[i, column] /= root[i, i]
