"""A lens: focal length, and how straight lines are bent; and motions of what is seen through one."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.geometry.mappings import Mapping
from gommage.core.geometry.plain import plain
from gommage.core.geometry.windows import Matrix, Points

__all__ = ["Lens", "ThroughLens"]


class Lens(Struct, frozen=True, forbid_unknown_fields=True):
    """A lens with two radial terms (D. C. Brown, "Close-range camera calibration", 1971).

    A point at distance r from the middle, counted in focal lengths, is seen at ``r (1 + first r^2 + second r^4)``.

    Attributes
    ----------
    focal_px : float
    middle_x, middle_y : float
        The principal point, in pixels.
    first, second : float
        Below 0 at the rim: barrel; above: pincushion.
    """

    focal_px: float
    middle_x: float
    middle_y: float
    first: float = 0.0
    second: float = 0.0

    @property
    def is_straight(self) -> bool:
        """Whether straight lines stay straight."""
        return self.first == 0.0 and self.second == 0.0

    @property
    def numbers(self) -> tuple[float, float, float, float, float]:
        """Focal length, middle, terms."""
        return self.focal_px, self.middle_x, self.middle_y, self.first, self.second

    @property
    def inner(self) -> Matrix:
        """From directions (x, y, 1) to straight pixels, (3, 3)."""
        return np.array([[self.focal_px, 0, self.middle_x], [0, self.focal_px, self.middle_y], [0, 0, 1.0]])

    def straightened(self, points: Points) -> NDArray[np.float64]:
        """Return where points (..., 2) of the picture would be through a lens that bends nothing."""
        return self._passed(points, straight=True, bend=False)

    def bent(self, points: Points) -> NDArray[np.float64]:
        """Return where straight pixels (..., 2) are in the picture."""
        return self._passed(points, straight=False, bend=True)

    def _passed(
        self, points: Points, *, straight: bool, bend: bool, motion: Matrix | None = None
    ) -> NDArray[np.float64]:
        from gommage.core.geometry.kernels import through_lens  # compiled: loaded late

        points = np.asarray(points, np.float64)
        flat = plain(points.reshape(-1, 2))
        out = np.empty(flat.shape)
        own = np.eye(3) if motion is None else plain(motion, np.float64)
        is_bending = not self.is_straight
        through_lens(flat, np.array(self.numbers), straight and is_bending, own, bend and is_bending, out)
        passed: NDArray[np.float64] = out.reshape(points.shape)
        return passed

    def moved(self, motion: Matrix, points: Points) -> NDArray[np.float64]:
        """Return points (..., 2) of the picture moved by a motion (3, 3) of straight pixels."""
        return self._passed(points, straight=True, bend=True, motion=motion)

    def scaled(self, factor: float) -> Lens:
        """Return the lens of a picture that is larger or smaller."""
        return replace(
            self, focal_px=self.focal_px * factor, middle_x=self.middle_x * factor, middle_y=self.middle_y * factor
        )


class ThroughLens(Mapping):
    """A motion of straight pixels, of what is seen through one lens before and after.

    Parameters
    ----------
    lens : Lens
    motion : (3, 3) float64
        Its sign counts: points whose third number becomes 0 or less lie nowhere (behind the camera).
    """

    __slots__ = ("_key", "_lens", "_motion")

    def __init__(self, lens: Lens, motion: Matrix) -> None:
        own = np.array(motion, np.float64)
        if own.shape != (3, 3) or not np.isfinite(own).all():
            raise ValueError(f"a mapping needs a finite matrix (3, 3), got {own.shape}: {own.tolist()}")
        own /= np.abs(own).max()
        own += 0.0
        own.setflags(write=False)
        self._lens, self._motion = lens, own
        self._key = ("lens", lens.numbers, own.tobytes())

    @property
    def key(self) -> Hashable:
        return self._key

    @property
    def matrix(self) -> None:
        return None

    def __call__(self, points: Points) -> Points:
        return self._lens.moved(self._motion, points)

    def inverse(self) -> ThroughLens:
        """Return the way back.

        Raises
        ------
        ValueError
            If the motion folds the plane into a line or a point.
        """
        try:
            return ThroughLens(self._lens, np.linalg.inv(self._motion))
        except np.linalg.LinAlgError as error:
            raise ValueError(f"this mapping has no way back: {self._motion.tolist()}") from error

    def followed_by(self, other: Mapping) -> Mapping | None:
        """Return both through the one lens, without its bend between them."""
        if isinstance(other, ThroughLens) and other._lens == self._lens:
            return ThroughLens(self._lens, other._motion @ self._motion)
        return None
