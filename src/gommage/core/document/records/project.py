"""Projects, shots and their footage."""

from __future__ import annotations

from fractions import Fraction
from typing import Self

from gommage.core.document.records.base import Record, by_id
from gommage.core.document.records.fixes import Fix
from gommage.core.document.records.plates import CleanPlate
from gommage.core.document.records.shapes import MattePart, Shared, SharedMatte
from gommage.core.document.records.surfaces import Surface
from gommage.core.document.records.times import FrameRange
from gommage.core.geometry import Window

__all__ = ["SCENE_LINEAR", "SCHEMA_VERSION", "Footage", "Project", "Shot"]

SCHEMA_VERSION = 3
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

    @property
    def frames_per_second(self) -> Fraction:
        """The rate as one exact number."""
        return Fraction(*self.rate)

    @property
    def bounds(self) -> Window:
        """The window of a whole frame."""
        return Window.of(self.width, self.height)


class Shot(Record, frozen=True):
    """One piece of moving picture with everything that is done to it. Surfaces and fixes run from back to front."""

    id: str
    name: str
    footage: Footage
    surfaces: tuple[Surface, ...] = ()
    clean_plates: tuple[CleanPlate, ...] = ()
    mattes: tuple[SharedMatte, ...] = ()
    fixes: tuple[Fix, ...] = ()

    def surface(self, surface_id: str) -> Surface:
        """Return the surface of that id (`KeyError` if there is none)."""
        return by_id(self.surfaces, surface_id)

    def clean_plate(self, plate_id: str) -> CleanPlate:
        """Return the clean plate of that id (`KeyError` if there is none)."""
        return by_id(self.clean_plates, plate_id)

    def matte(self, matte_id: str) -> SharedMatte:
        """Return the shared matte of that id (`KeyError` if there is none)."""
        return by_id(self.mattes, matte_id)

    def unfolded(self, parts: tuple[MattePart, ...]) -> tuple[MattePart, ...]:
        """Return parts of a matte, those that are shared mattes followed by what these are made of."""
        found: list[MattePart] = []
        for part in parts:
            found.append(part)
            if isinstance(part.source, Shared):
                found += self.matte(part.source.matte_id).matte.parts
        return tuple(found)

    def fix(self, fix_id: str) -> Fix:
        """Return the fix of that id (`KeyError` if there is none)."""
        return by_id(self.fixes, fix_id)


class Project(Record, frozen=True):
    """What is saved: shots, in the order of the reel."""

    version: int = SCHEMA_VERSION
    shots: tuple[Shot, ...] = ()

    def shot(self, shot_id: str) -> Shot:
        """Return the shot of that id (`KeyError` if there is none)."""
        return by_id(self.shots, shot_id)

    @classmethod
    def of(cls, *shots: Shot) -> Self:
        """Return a project of these shots."""
        return cls(shots=shots)
