"""Clean plates: still pictures of a surface without the thing."""

from __future__ import annotations

from gommage.core.document.records.base import Record
from gommage.core.document.records.fills import Texture
from gommage.core.document.records.painting import Painting
from gommage.core.document.records.shapes import Matte
from gommage.core.document.records.times import Frames

__all__ = ["CleanPlate", "FromFrame", "FromPicture", "Merged", "PlateBase"]


class FromFrame(Record, frozen=True, tag="frame"):
    """The shot's own frame: the home frame."""


class FromPicture(Record, frozen=True, tag="picture"):
    """A picture on disk.

    Attributes
    ----------
    path : str
    colour_space : str
        Empty: guessed from the file.
    is_watched : bool
        Whether it is read again when it was saved elsewhere.
    stamp : str
        Which state of the file this is, as far as it is watched: another one is another picture.
    """

    path: str
    colour_space: str = ""
    is_watched: bool = False
    stamp: str = ""


class Merged(Record, frozen=True, tag="merged"):
    """Many frames of the shot, brought along the surface and put together."""

    frames: tuple[Frames, ...] = ()
    left_out: Matte = Matte()


PlateBase = FromFrame | FromPicture | Merged


class CleanPlate(Record, frozen=True):
    """A still picture of a surface without the thing.

    Attributes
    ----------
    home_frame : int
        The frame in whose pixels the plate is painted.
    window : tuple of int or None
        Left, top, right, bottom in home-frame pixels, perhaps larger than the picture; None: the picture's.
    scale : float
        Plate pixels a home-frame pixel.
    base : PlateBase
        What it began with.
    rest : Texture or None
        How what its base does not show is closed; None: it is left for paint.
    painting : Painting
        What was painted on it.
    """

    id: str
    name: str
    surface_id: str
    home_frame: int
    window: tuple[int, int, int, int] | None = None
    scale: float = 1.0
    base: PlateBase = FromFrame()
    rest: Texture | None = None
    painting: Painting = Painting()
