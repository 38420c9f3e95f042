"""The walk over frames that every follow shares.

Where it begins, what carries the surface, how a place becomes a track's row.
"""

from __future__ import annotations

import numpy as np

from gommage.core.document import Surface
from gommage.core.follow.steps import Surroundings
from gommage.core.geometry import Mapping, Matrix
from gommage.errors import FollowError

__all__ = ["Walk"]


class Walk:
    """Places in the picture, pins and carrier included, and rows of the track, without both.

    Parameters
    ----------
    surface : Surface
    rest : Surroundings
        What is known of the rest of the shot.
    """

    def __init__(self, surface: Surface, rest: Surroundings) -> None:
        self._surface, self._rest = surface, rest
        self._correction: Matrix = np.eye(3)

    def placed(self, frame: int) -> Matrix:
        """Return where the surface is taken to be on a frame now; at home where nothing is known."""
        placed = self._rest.placed
        mapping = placed.mapping(frame) if placed is not None else None
        return np.eye(3) if mapping is None else _matrix(mapping)

    def _measured(self, frame: int) -> Matrix:
        measured = self._rest.measured
        mapping = measured.mapping(frame) if measured is not None else None
        return self.placed(frame) if mapping is None else _matrix(mapping)

    def begin(self, frame: int) -> Matrix:
        """Begin on a frame and return where the surface is; from here on rows are without its pins' correction."""
        last = self.placed(frame)
        self._correction = np.linalg.inv(self._measured(frame)) @ last
        return last

    def passed_pin(self, frame: int, found: Matrix) -> Matrix:
        """Return where the surface belongs on a pinned frame; from there on its pin is what corrects."""
        pinned = self.placed(frame)
        self._correction = np.linalg.inv(found @ np.linalg.inv(self._correction)) @ pinned
        return pinned

    def carried(self, frame: int) -> Matrix | None:
        """Return the motion of what the surface rides on, home to frame; None where that is not known."""
        mapping = self._rest.carried(frame)
        return None if mapping is None else _matrix(mapping)

    def carried_between(self, previous: int, frame: int) -> tuple[Matrix, Matrix]:
        """Return the carrier's motions on two frames; at rest where either is not known."""
        then, now = self.carried(previous), self.carried(frame)
        return (np.eye(3), np.eye(3)) if now is None or then is None else (then, now)

    @property
    def correction(self) -> Matrix:
        """What pins do here: rows are without it."""
        return self._correction

    def row(self, frame: int, home_to_frame: Matrix, correction: Matrix | None = None) -> Matrix:
        """Return a place on a frame as the track's row: relative to the carrier, without pins."""
        carried = self.carried(frame)
        matrix = home_to_frame @ np.linalg.inv(self._correction if correction is None else correction)
        matrix = matrix if carried is None else np.linalg.inv(carried) @ matrix
        return matrix / matrix[2, 2]


def _matrix(mapping: Mapping) -> Matrix:
    if mapping.matrix is None:
        raise FollowError("A flat surface can be followed on flat ones only.")
    return mapping.matrix
