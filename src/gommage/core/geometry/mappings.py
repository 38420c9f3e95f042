"""The mapping: where a point of one thing lies in another.

Home to frame, frame to view, plate to frame: everything that moves points or pixels is a `Mapping`. A flat piece has a
matrix, which is the fast way; anything else (a panoramic view, a lens, uneven ground) is a field. Code that uses a
mapping never asks which.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable
from functools import reduce

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry.windows import Matrix, Points, Window, apply_matrix, translation

__all__ = [
    "IDENTITY",
    "FieldMapping",
    "Mapping",
    "MatrixMapping",
    "composed",
    "from_matrix",
    "growth",
    "scaling",
    "shift",
    "spanning",
    "then",
    "turning",
]

EPSILON_PX = 0.25
"""Step of the differences that a field's growth is taken from."""


class Mapping(ABC):
    """Takes points of one thing to another. Immutable; compared and hashed by `key`."""

    __slots__ = ()

    @property
    @abstractmethod
    def key(self) -> Hashable:
        """All that the mapping depends on, for caches."""

    @property
    @abstractmethod
    def matrix(self) -> Matrix | None:
        """The mapping as one matrix (3, 3) float64, or None where no matrix does it."""

    @abstractmethod
    def __call__(self, points: Points) -> Points:
        """Return points (..., 2) moved, float64; NaN for a point that lies nowhere there (behind the camera)."""

    @abstractmethod
    def inverse(self) -> Mapping:
        """Return the way back."""

    @property
    def enlargement(self) -> float | None:
        """By how much it enlarges lengths, where that is one number for all of it; None where it is not."""
        return None

    @property
    def wraps(self) -> bool:
        """Whether it leads from or to a picture that goes on at its other side."""
        return False

    def followed_by(self, other: Mapping) -> Mapping | None:
        """Return one mapping of the same kind that does this and then another, or None where there is none."""
        return None

    def field(self, window: Window) -> NDArray[np.float64]:
        """Return where each pixel's centre of a window lies: (h, w, 2) float64."""
        x = np.arange(window.left, window.right) + 0.5
        y = np.arange(window.top, window.bottom) + 0.5
        found: NDArray[np.float64] = np.asarray(self(np.stack(np.meshgrid(x, y), axis=-1)), np.float64)
        return found

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Mapping) and self.key == other.key)

    def __hash__(self) -> int:
        return hash(self.key)


class MatrixMapping(Mapping):
    """A mapping by a matrix, scaled so that its last number is 1 where that can be."""

    __slots__ = ("_key", "_matrix")

    def __init__(self, matrix: Matrix) -> None:
        own = np.array(matrix, np.float64)
        if own.shape != (3, 3) or not np.isfinite(own).all():
            raise ValueError(f"a mapping needs a finite matrix (3, 3), got {own.shape}: {own.tolist()}")
        own /= own[2, 2] if own[2, 2] else 1.0
        own += 0.0  # no negative zeros: equal matrices must have equal keys
        own.setflags(write=False)
        self._matrix = own
        self._key = own.tobytes()

    @property
    def key(self) -> Hashable:
        return self._key

    @property
    def matrix(self) -> Matrix:
        return self._matrix

    def __call__(self, points: Points) -> Points:
        return apply_matrix(self._matrix, points)

    def followed_by(self, other: Mapping) -> Mapping | None:
        """Return the product of both."""
        return None if other.matrix is None else MatrixMapping(other.matrix @ self._matrix)

    def inverse(self) -> MatrixMapping:
        """Return the way back.

        Raises
        ------
        ValueError
            If the matrix folds the plane into a line or a point.
        """
        try:
            return MatrixMapping(np.linalg.inv(self._matrix))
        except np.linalg.LinAlgError as error:
            raise ValueError(f"this mapping has no way back: {self._matrix.tolist()}") from error

    def __repr__(self) -> str:
        return f"MatrixMapping({self._matrix.tolist()})"


class FieldMapping(Mapping):
    """A mapping by functions there and back.

    Parameters
    ----------
    key : hashable
        All that the functions depend on.
    forward, backward : callable
        Each takes points (..., 2) and returns as many.
    """

    __slots__ = ("_backward", "_forward", "_key", "_wraps")

    def __init__(
        self,
        key: Hashable,
        forward: Callable[[Points], Points],
        backward: Callable[[Points], Points],
        *,
        wraps: bool = False,
    ) -> None:
        self._key, self._forward, self._backward, self._wraps = key, forward, backward, wraps

    @property
    def wraps(self) -> bool:
        """Whether one of the steps leads from or to a picture that goes on at its other side."""
        return self._wraps

    @property
    def key(self) -> Hashable:
        return self._key

    @property
    def matrix(self) -> None:
        return None

    def __call__(self, points: Points) -> Points:
        return self._forward(np.asarray(points, np.float64))

    def inverse(self) -> FieldMapping:
        """Return the way back."""
        return FieldMapping(("back", self._key), self._backward, self._forward, wraps=self._wraps)


def from_matrix(matrix: Matrix) -> Mapping:
    """Return the mapping of a matrix (3, 3)."""
    return MatrixMapping(matrix)


IDENTITY: Mapping = MatrixMapping(np.eye(3))


def shift(dx: float, dy: float) -> Mapping:
    """Return the mapping that moves by (dx, dy) pixels."""
    return MatrixMapping(translation(dx, dy))


def turning(angle_rad: float) -> Mapping:
    """Return the mapping that turns about the origin, from x towards y."""
    cos, sin = np.cos(angle_rad), np.sin(angle_rad)
    return MatrixMapping(np.array([[cos, -sin, 0.0], [sin, cos, 0.0], [0.0, 0.0, 1.0]]))


def scaling(across: float, down: float | None = None) -> Mapping:
    """Return the mapping that multiplies both coordinates, by the same factor if only one is given."""
    return MatrixMapping(np.diag([across, across if down is None else down, 1.0]))


def then(first: Mapping, second: Mapping) -> Mapping:
    """Return one mapping that does the first and then the second.

    Matrices are multiplied; anything else becomes one field, so that pixels that go through it are sampled once.
    """
    if first is IDENTITY:
        return second
    if second is IDENTITY:
        return first
    if (together := first.followed_by(second)) is not None:
        return together
    back = first.inverse(), second.inverse()
    return FieldMapping(
        ("then", first.key, second.key),
        lambda points: second(first(points)),
        lambda points: back[0](back[1](points)),
        wraps=first.wraps or second.wraps,
    )


def composed(*steps: Mapping) -> Mapping:
    """Return one mapping that does all the steps, in the order in which they are given."""
    return reduce(then, steps, IDENTITY)


def growth(mapping: Mapping, at: Points) -> float:
    """Return by how much a mapping enlarges lengths around a point (2,): the root of its derivative's determinant.

    NaN where the point lies nowhere.
    """
    if mapping.enlargement is not None:
        return mapping.enlargement
    x, y = np.asarray(at, np.float64)
    around = np.array([[x - EPSILON_PX, y], [x + EPSILON_PX, y], [x, y - EPSILON_PX], [x, y + EPSILON_PX]])
    moved = mapping(around)
    (a, b), (c, d) = (moved[1] - moved[0]) / (2 * EPSILON_PX), (moved[3] - moved[2]) / (2 * EPSILON_PX)
    return float(np.sqrt(abs(a * d - b * c)))


def spanning(mapping: Mapping, window: Window, steps: int = 8) -> Points:
    """Return where a grid over a window, rim included, lies: (N, 2), to find what a mapping can reach."""
    x = np.linspace(window.left, window.right, steps + 1)
    y = np.linspace(window.top, window.bottom, steps + 1)
    return mapping(np.stack(np.meshgrid(x, y), axis=-1)).reshape(-1, 2)
