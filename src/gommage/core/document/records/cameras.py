"""The camera of a shot, as it was solved from the picture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.times import FrameRange
from gommage.core.geometry import Lens

__all__ = ["UNSOLVED", "SolvedCamera"]

UNSOLVED = -1.0
"""The error of frames that could not be solved."""


class SolvedCamera(Record, frozen=True):
    """How a camera was turned and where it was on every frame of a range, its lens, and points of the scene.

    Attributes
    ----------
    first_frame : int
        Frame of the first row of the arrays.
    turns, moves : Array
        (N, 3, 3) and (N, 3) float64: a point (x, y, z) of the scene lies at ``turn @ (x, y, z) + move`` before the
        camera, x right, y down, z into the picture. The scene's unit is the solve's own.
    lens : Lens
    is_lens_given : bool
        Whether the lens was known beforehand.
    points : Array
        (P, 4) float64: a direction of length 1 and an inverse distance, from the scene's origin; 0 is infinitely far.
    point_error_px : Array
        (P,) by how much each point is off where it was tracked.
    seen_on : Array
        (P, 2) the first and the last frame on which each was tracked.
    frame_error_px : Array
        (N,) median by which points are off on each frame; `UNSOLVED` where it could not be solved.
    is_nodal : bool
        Whether the camera only turns: then all points are infinitely far.
    moving : int
        How many tracked features move by themselves and were left out.
    ground_id : str
        The scene plane that is the ground; empty: none is.
    """

    first_frame: int
    turns: Array
    moves: Array
    lens: Lens
    points: Array
    point_error_px: Array
    seen_on: Array
    frame_error_px: Array
    is_lens_given: bool = False
    is_nodal: bool = False
    moving: int = 0
    ground_id: str = ""

    def __post_init__(self) -> None:
        as_arrays(self, "turns", "moves", "points", "point_error_px", "seen_on", "frame_error_px")
        count, points = len(self.frame_error_px), len(self.point_error_px)
        shapes = [getattr(self, name).values.shape for name in ("turns", "moves", "points", "seen_on")]
        if count < 1 or shapes != [(count, 3, 3), (count, 3), (points, 4), (points, 2)]:
            raise ValueError(f"a solved camera needs a turn and a move a frame, and whole points, got {shapes}")

    @property
    def frames(self) -> FrameRange:
        """The frames that were looked at."""
        return FrameRange(first=self.first_frame, last=self.first_frame + len(self.frame_error_px) - 1)

    def is_solved(self, frame: int) -> bool:
        """Return whether it is known on a frame."""
        return frame in self.frames and bool(self.frame_error_px.values[frame - self.first_frame] >= 0)

    def pose(self, frame: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return its turn (3, 3) and move (3,) on a frame."""
        row = frame - self.first_frame
        return self.turns.values[row], self.moves.values[row]

    @property
    def solved_errors(self) -> NDArray[np.float64]:
        """The errors of the frames that were solved, px."""
        errors = self.frame_error_px.values
        return errors[errors >= 0]

    @property
    def median_px(self) -> float:
        """The median of its frames' errors."""
        return float(np.median(self.solved_errors)) if len(self.solved_errors) else 0.0

    @property
    def worst_frame(self) -> int:
        """The frame of the largest error."""
        return self.first_frame + int(np.argmax(self.frame_error_px.values))

    @property
    def worst_px(self) -> float:
        """The largest of its frames' errors."""
        return float(self.frame_error_px.values.max())

    def seen_points(self, frame: int, within: int = 0) -> tuple[NDArray[np.float64], NDArray[np.intp]]:
        """Return where points are on a frame, (K, 2) pixels, and which they are.

        Those that were tracked on it, or so many frames before or after it.
        """
        if not self.is_solved(frame):
            return np.zeros((0, 2)), np.zeros(0, np.intp)
        first, last = self.seen_on.values.T
        own = np.nonzero((first - within <= frame) & (frame <= last + within))[0]
        turn, move = self.pose(frame)
        points = self.points.values[own]
        there = points[:, :3] @ turn.T + points[:, 3:] * move
        ahead = there[:, 2] > 1e-9
        flat = there[ahead, :2] / there[ahead, 2:] * self.lens.focal_px + (self.lens.middle_x, self.lens.middle_y)
        return self.lens.bent(flat), own[ahead]
