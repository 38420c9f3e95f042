"""Clean plates out to a picture editor, and back: EXR files that know where they belong."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from gommage.core.document import CleanPlate, FromPicture, Shot
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.render import refuse_sources
from gommage.core.fill import canvas_key
from gommage.core.geometry import Window
from gommage.core.picture import Picture, picture_of
from gommage.core.picture.pixels import as_halves
from gommage.core.picture.stills import read_still
from gommage.core.picture.writing import write_still
from gommage.errors import FootageError

__all__ = ["FoundPlate", "find_plate", "stamp_of", "write_plate"]

Check = Callable[[], None]
HOME, SURFACE, SURFACE_NAME, WINDOW = (f"gommage:{name}" for name in ("homeFrame", "surface", "surfaceName", "window"))
SMALL = (96, 54)
MOST_COMPARED, CLEARLY_ALIKE = 64, 0.9


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class FoundPlate:
    """Where a picture belongs in a shot.

    Attributes
    ----------
    path : str
    home_frame : int
    surface_id : str
        Empty if it does not say, or its surface is not there any more.
    window : tuple of int or None
        In pixels of the home frame; None: the picture's.
    is_told : bool
        Whether the file says so itself; else the frame is a proposal.
    why : str
        What the frame was told by, in words.
    stamp : str
        Which state of the file was looked at.
    scale : float
        How many of its pixels are one of the home frame.
    """

    path: str
    home_frame: int
    surface_id: str
    window: tuple[int, int, int, int] | None
    is_told: bool
    why: str
    stamp: str
    scale: float = 1.0


def write_plate(engine: Engine, shot: Shot, plate: CleanPlate, path: Path, check: Check = _never) -> None:
    """Write a clean plate with its strokes as half-float EXR, scene-linear, that says where it belongs.

    What no frame shows of a merged plate has an alpha of 0.

    Raises
    ------
    RenderError
        If it cannot be written, or would overwrite what the shot is made of.
    """
    own = Path(plate.base.path) if isinstance(plate.base, FromPicture) else None
    if own is None or not (path.exists() and own.exists() and path.samefile(own)):
        refuse_sources(path, shot)
    key = canvas_key(shot, plate)
    canvas = engine.pictures.canvas(key, check)
    known = engine.pictures.known_of(key, canvas.bounds, check=check)
    surface = shot.surface(plate.surface_id).name if plate.surface_id else ""
    window = Window(*plate.window) if plate.window is not None else shot.footage.bounds
    attributes = {
        HOME: plate.home_frame, SURFACE: plate.surface_id, SURFACE_NAME: surface,
        WINDOW: f"{window.left} {window.top} {window.right} {window.bottom}",
        "colorInteropID": "lin_rec709_scene",
    }  # fmt: skip
    check()
    write_still(path, as_halves(canvas.whole()), bits=16, alpha=known, attributes=attributes)


def stamp_of(path: Path) -> str:
    """Return what tells one state of a file from another; empty if it is not there."""
    try:
        found = path.stat()
    except OSError:
        return ""
    return f"{found.st_mtime_ns:x}-{found.st_size:x}"


def find_plate(engine: Engine, shot: Shot, path: Path, check: Check = _never) -> FoundPlate:
    """Find out where a picture belongs: by what it says itself, else by its name, else by what it shows.

    Raises
    ------
    FootageError
        If it cannot be read, or is of another size than it says or the shot has.
    """
    stamp = stamp_of(path)
    raw = read_still(path, check)
    size = raw.pixels.shape[1], raw.pixels.shape[0]
    frames = shot.footage.frames
    window, scale = _window_told(raw.attributes.get(WINDOW), size)
    if window is None and size != (shot.footage.width, shot.footage.height):
        raise FootageError(
            f"{path.name} is {size[0]} x {size[1]}, the shot is {shot.footage.width} x {shot.footage.height}.",
            str(path),
        )
    told = raw.attributes.get(HOME)
    if isinstance(told, int) and told in frames:
        ids, names = {one.id for one in shot.surfaces}, {one.name: one.id for one in shot.surfaces}
        surface_id = str(raw.attributes.get(SURFACE, ""))
        if surface_id not in ids:
            surface_id = names.get(str(raw.attributes.get(SURFACE_NAME, "")), "")
        is_whole = window is None or window == shot.footage.bounds
        place = None if is_whole or window is None else (window.left, window.top, window.right, window.bottom)
        return FoundPlate(str(path), told, surface_id, place, True, "as it says itself", stamp, scale)
    named = [int(digits) for digits in re.findall(r"\d+", path.stem) if int(digits) in frames]
    if named:
        return FoundPlate(str(path), named[-1], "", None, False, "as its name says", stamp)
    frame, likeness = _most_alike(engine, shot, picture_of(raw, path, "", check), check)
    why = "it looks like that frame" if likeness > CLEARLY_ALIKE else "no frame looks much like it"
    return FoundPlate(str(path), frame, "", None, False, why, stamp)


def _window_told(words: object, size: tuple[int, int]) -> tuple[Window | None, float]:
    """Return the window of the home frame that a picture says it is of, and how many of its pixels are one of that."""
    numbers = [int(one) for one in re.findall(r"-?\d+", words)] if isinstance(words, str) else []
    window = Window(*numbers) if len(numbers) == 4 else Window(0, 0, 0, 0)
    if window.is_empty:
        return None, 1.0
    scale = size[0] / window.width
    whole = window.scaled(scale)
    return (window, scale) if (whole.width, whole.height) == size else (None, 1.0)


def _most_alike(engine: Engine, shot: Shot, picture: Picture, check: Check) -> tuple[int, float]:
    """Return the frame that a picture looks most like, and how much so, up to 1."""
    frames = [one for one in shot.footage.frames if one not in shot.footage.missing]
    step = -(-len(frames) // MOST_COMPARED)
    mine = _small(picture)
    best = max((float((mine * _small(_plate(engine, shot, one, check))).mean()), one) for one in frames[::step])
    near = [one for one in frames if abs(one - best[1]) < step]
    return max((float((mine * _small(_plate(engine, shot, one, check))).mean()), one) for one in near)[::-1]


def _plate(engine: Engine, shot: Shot, frame: int, check: Check) -> Picture:
    check()
    return engine.plate(shot.footage, frame, check)


def _small(picture: Picture) -> Picture:
    """Return a small grey picture of mean 0 and deviation 1."""
    grey = cv2.resize(np.cbrt(np.maximum(picture.mean(axis=2), 0)), SMALL, interpolation=cv2.INTER_AREA)
    return np.asarray((grey - grey.mean()) / max(float(grey.std()), 1e-6))
