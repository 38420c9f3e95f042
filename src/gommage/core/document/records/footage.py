"""Where the pictures of a shot, or of a fill, come from."""

from __future__ import annotations

from fractions import Fraction

from gommage.core.document.records.base import Record
from gommage.core.document.records.times import FrameRange
from gommage.core.geometry import Window

__all__ = ["SCENE_LINEAR", "Footage"]

SCENE_LINEAR = "Linear Rec.709 (sRGB)"
"""The working colour space, by its name in the built-in colour configuration."""


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
    stamp: str = ""

    @property
    def frames_per_second(self) -> Fraction:
        """The rate as one exact number."""
        return Fraction(*self.rate)

    @property
    def bounds(self) -> Window:
        """The window of a whole frame."""
        return Window.of(self.width, self.height)
