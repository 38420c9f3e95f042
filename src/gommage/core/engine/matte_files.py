"""Mattes to files, and mattes from files laid against a shot."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover.files import Numbering, channels_in, matte_picture, numbering, open_matte
from gommage.core.document import Fix, FrameRange, Matte, Shot
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.render import refuse_sources
from gommage.core.picture import Picture
from gommage.core.picture.writing import STILL_FORMATS, write_still
from gommage.errors import RenderError

__all__ = ["FoundMatte", "MatteTarget", "find_matte", "write_mattes"]

Check = Callable[[], None]
SMALL = (96, 54)
"""Width and height of the pictures that are compared to find how frames are numbered."""
MOST_COMPARED = 48


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class FoundMatte:
    """A matte's file as it lies against a shot: its path as it is kept, its channels, its numbering."""

    path: str
    channels: tuple[str, ...]
    numbering: Numbering


def find_matte(engine: Engine, shot: Shot, path: str, check: Check = _never) -> FoundMatte:
    """Find out what a matte's file is, and how its frames are numbered.

    Raises
    ------
    FootageError
        If it cannot be read.
    """
    opened = open_matte(path, check)
    channels, own, its = channels_in(opened), shot.footage.frames, opened.footage.frames
    if len(its) in (1, len(own)):
        return FoundMatte(opened.footage.path, channels, numbering(own, its, {}, {}))

    def of_plate(frame: int) -> Picture:
        return np.cbrt(np.maximum(engine.plate(shot.footage, frame, check).mean(axis=2), 0))

    def of_matte(frame: int) -> Picture:
        size = opened.footage.width, opened.footage.height
        return matte_picture(opened, channels[0] if "A" in channels else "L", frame, size, check)

    motions = [_motion(frames, look, check) for frames, look in ((own, of_plate), (its, of_matte))]
    return FoundMatte(opened.footage.path, channels, numbering(own, its, *motions))


def _motion(frames: FrameRange, look: Callable[[int], Picture], check: Check) -> dict[int, NDArray[np.float32]]:
    """Return by how much small pictures differ from those of the frame before, for frames of a range."""
    found, before = {}, None
    for frame in range(frames.first, min(frames.last, frames.first + MOST_COMPARED) + 1):
        check()
        small = cv2.GaussianBlur(cv2.resize(look(frame), SMALL, interpolation=cv2.INTER_AREA), (0, 0), 1.0)
        if before is not None:
            found[frame] = np.abs(small - before)
        before = small
    return found


@dataclass(frozen=True, slots=True)
class MatteTarget:
    """Where mattes are written: a folder, the name of the files before their number, and their kind.

    `kind` is one of `gommage.core.picture.writing.STILL_FORMATS`.
    """

    folder: Path
    name: str
    kind: str = "exr-half"


def write_mattes(
    engine: Engine, shot: Shot, target: MatteTarget, frames: FrameRange | Collection[int], fix: Fix | None = None,
    part_ids: tuple[str, ...] = (), progress: Callable[[float], None] = lambda share: None, check: Check = _never,
) -> list[Path]:  # fmt: skip
    """Write a matte as numbered pictures, with its softness: of a fix, of some of its parts, or of all fixes together.

    Parameters
    ----------
    fix : Fix, optional
        All fixes of the shot if left out.
    part_ids : tuple of str
        Parts of the fix's cover and hold-outs alone; none for its whole matte, strokes with it, hold-outs taken away.

    Returns
    -------
    list of Path
        What was written, in the order of the frames.

    Raises
    ------
    RenderError
        If it cannot be written.
    """
    form = STILL_FORMATS[target.kind]
    try:
        target.folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise RenderError(f"{target.folder} could not be made: {error.strerror}.") from error
    written, plates = [], engine.plates(shot.footage)
    for count, frame in enumerate(frames, 1):
        check()
        if part_ids and fix is not None:
            parts = tuple(part for part in (*fix.cover.parts, *fix.hold_outs.parts) if part.id in part_ids)
            pixels = engine.matte(shot, Matte(parts=parts), frame)
        else:
            pixels = engine.laid_matte(shot, frame, fix.id if fix is not None else "")
        path = target.folder / f"{target.name}.{frame:04d}{form.suffix}"
        refuse_sources(path, shot, Path(plates.file_of(frame)))
        write_still(path, _stored(pixels, form.dtype), bits=form.bits)
        written.append(path)
        progress(count / len(frames))
    return written


def _stored(pixels: Picture, dtype: str) -> NDArray[np.generic]:
    kind = np.dtype(dtype)
    values = pixels if kind.kind == "f" else pixels * np.iinfo(kind).max + 0.5
    return np.repeat(values.astype(kind)[..., None], 3, axis=2)
