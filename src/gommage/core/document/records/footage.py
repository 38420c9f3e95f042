"""Where the pictures of a shot, or of a fill, come from."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from msgspec.structs import replace

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.times import FrameRange
from gommage.core.geometry import FlatView, Window

__all__ = ["SCENE_LINEAR", "Footage", "TurnedView"]

SCENE_LINEAR = "Linear Rec.709 (sRGB)"
"""The working colour space, by its name in the built-in colour configuration."""


class TurnedView(Record, frozen=True):
    """How a flat view looks at a panorama: footage with it is that view of the panorama in the files.

    Attributes
    ----------
    panorama_width, panorama_height : int
        Pixels of the files' pictures.
    turn : Array
        (3, 3) from the panorama's directions (x right, y down, z its middle) to those of the view.
    focal_px : float
        In pixels of the view.
    first_frame : int
        Frame of the first of `camera_turns`.
    camera_turns : Array or None
        (N, 3, 3) how the panoramic camera turned: from directions as they lie on the home frame to those on each frame,
        so that the view stays on the same part of the scene. None: it stands still.
    """

    panorama_width: int
    panorama_height: int
    turn: Array
    focal_px: float
    first_frame: int = 0
    camera_turns: Array | None = None

    def __post_init__(self) -> None:
        as_arrays(self, "turn", *(("camera_turns",) if self.camera_turns is not None else ()))
        turns = np.zeros((1, 3, 3)) if self.camera_turns is None else self.camera_turns.values
        if self.turn.values.shape != (3, 3) or turns.shape[1:] != (3, 3) or not len(turns):
            raise ValueError(f"a turned view needs turns (3, 3), got {self.turn.values.shape} and {turns.shape}")

    def view_from_panorama(self, frame: int, size_wh: tuple[int, int]) -> FlatView:
        """Return where pixels of the panorama lie in the view, of so many pixels, on a frame."""
        turn = self.turn.values
        if self.camera_turns is not None:
            row = min(max(frame - self.first_frame, 0), len(self.camera_turns) - 1)
            turn = turn @ self.camera_turns.values[row].T
        middle = size_wh[0] / 2, size_wh[1] / 2
        return FlatView((self.panorama_width, self.panorama_height), turn, self.focal_px, middle)


class Footage(Record, frozen=True):
    """Where a shot's plate comes from and how its files are to be understood.

    Attributes
    ----------
    path : str
        A movie's path, or a numbered sequence's pattern with one run of ``#`` for the number
        (``label.####.exr``). Absolute, or relative to the project's folder.
    frames : FrameRange
        First and last frame number, as in the file names (a movie counts from 1).
    missing : tuple of int
        Frames between first and last that have no file.
    width, height : int
        Pixels.
    rate : tuple of int
        Frames per second as numerator and denominator.
    pixel_aspect : float
        Width of a pixel over its height.
    colour_space : str
        Name of the files' colour space in the colour configuration.
    keep_alpha : bool
        Whether the files' alpha is carried to rendered pictures; otherwise it is ignored.
    is_panorama : bool
        Whether it shows all directions, by longitude across and latitude down (equirectangular).
    turned : TurnedView or None
        How the files' panorama is looked at; None: the pictures are those of the files.
    stamp : str
        Tells one state of files that are painted elsewhere from another; empty: they stay as they are.
    """

    path: str
    frames: FrameRange
    width: int
    height: int
    missing: tuple[int, ...] = ()
    rate: tuple[int, int] = (24, 1)
    pixel_aspect: float = 1.0
    colour_space: str = SCENE_LINEAR
    keep_alpha: bool = False
    is_movie: bool = False
    is_panorama: bool = False
    turned: TurnedView | None = None
    stamp: str = ""

    @property
    def frames_per_second(self) -> Fraction:
        """The rate as one exact number."""
        return Fraction(*self.rate)

    @property
    def of_files(self) -> Footage:
        """The footage as its files hold it: of a turned view, the panorama."""
        if self.turned is None:
            return self
        width, height = self.turned.panorama_width, self.turned.panorama_height
        return replace(self, width=width, height=height, is_panorama=True, turned=None)

    @property
    def bounds(self) -> Window:
        """The window of a whole frame."""
        return Window.of(self.width, self.height)
