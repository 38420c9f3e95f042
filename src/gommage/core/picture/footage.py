"""Footage in: what is there, and its frames.

`probe` looks at what the user pointed to and reports; `open_plates` gives the frames of footage that a project
knows. Stills are read by OpenImageIO, movies by PyAV.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from msgspec.structs import replace as replace_record
from numpy.typing import NDArray

from gommage.core.document import Footage, FrameRange
from gommage.core.picture.colour import CAMERA_VIDEO, decode, guess_colour_space
from gommage.core.picture.movies import ALPHA_FORMATS, MoviePlates, frame_times, opened_movie, rate_of
from gommage.core.picture.pixels import Picture
from gommage.core.picture.raw import Check, Plates, RawFrame, believed, refuse_what_is_no_file, sane_aspect, sane_rate
from gommage.core.picture.stills import (
    STILL_SUFFIXES,
    Sequence,
    StillPlates,
    check_still,
    first_still,
    read_still,
    sequence_of,
)
from gommage.errors import FootageError

__all__ = [
    "FootageReport",
    "Plates",
    "RawFrame",
    "alpha_of",
    "associated",
    "open_plates",
    "picture_of",
    "probe",
    "read_linear",
    "read_picture",
]

DAMAGED_AT_MOST = 3
"""So many frames may be damaged at the start of a sequence that is otherwise good."""
RANGES_SHOWN = 6
BLOCK_VALUES = 12_000_000
"""A picture is made linear in blocks of rows, each of some ten milliseconds."""


@dataclass(frozen=True, slots=True)
class FootageReport:
    """What was found where the user pointed: footage with guesses filled in, and words about it."""

    footage: Footage
    has_alpha: bool
    pixel_type: str
    notes: tuple[str, ...] = field(default=())


def probe(path: Path, check: Check = lambda: None) -> FootageReport:
    """Find out what footage a file, or the folder of a sequence, is.

    Parameters
    ----------
    path : Path
        A movie, any file of a numbered sequence, a single still, or a folder with one sequence in it.
    check : callable
        Raises `Cancelled` to stop.

    Raises
    ------
    FootageError
        With one sentence: not there, no pictures, not readable.
    """
    try:
        is_folder = path.is_dir()
    except OSError:
        is_folder = False
    if is_folder:
        path = first_still(path, check)
    refuse_what_is_no_file(path)
    if not str(path).isprintable():
        raise FootageError(f"{path.name} has letters in its name that cannot be shown; rename it.", str(path))
    if path.suffix.lower() in STILL_SUFFIXES:
        return _probe_stills(path.absolute(), check)
    return _probe_movie(path.absolute(), check)


def open_plates(footage: Footage, check: Check = lambda: None) -> Plates:
    """Return the frames of footage.

    Raises
    ------
    FootageError
        If the movie or the folder is not there.
    """
    return MoviePlates(footage, check) if footage.is_movie else StillPlates(footage)


def read_linear(raw: RawFrame, colour_space: str, check: Check = lambda: None) -> Picture:
    """Return a raw frame's colour as scene-linear float32 (H, W, 3), damaged values (NaN) as black."""
    height, width = raw.pixels.shape[:2]
    lines = max(BLOCK_VALUES // max(width, 1), 1)
    if height <= lines:
        return _linear(raw.pixels, colour_space)
    out = np.empty((height, width, 3), np.float32)
    for top in range(0, height, lines):
        check()
        out[top : top + lines] = _linear(raw.pixels[top : top + lines], colour_space)
    return out


def _linear(pixels: NDArray[np.generic], colour_space: str) -> Picture:
    linear = decode(pixels, colour_space)
    if pixels.dtype.kind == "f":
        with np.errstate(over="ignore", invalid="ignore"):
            is_whole = np.isfinite(linear.sum())  # only if all are; a sum that overflows is looked at once more
        if not is_whole:
            linear = np.nan_to_num(linear, nan=0.0, posinf=65504.0, neginf=-65504.0)
    return linear


def read_picture(path: Path, colour_space: str = "", check: Check = lambda: None) -> Picture:
    """Read one still as scene-linear (H, W, 3) float32; its colour space is guessed if none is given.

    Raises
    ------
    FootageError
        If it is not a readable picture.
    """
    return picture_of(read_still(path, check), path, colour_space, check)


def _full(stored: NDArray[Any]) -> float:
    """Return what stands for 1 in a file."""
    return 1.0 if stored.dtype.kind == "f" else float(np.iinfo(stored.dtype).max)


def alpha_of(raw: RawFrame) -> Picture | None:
    """Return a raw frame's alpha (H, W), 0 to 1; None if it has none, or is nowhere below 1."""
    if raw.alpha is None:
        return None
    alpha = np.clip(np.nan_to_num(raw.alpha.astype(np.float32) / np.float32(_full(raw.alpha))), 0, 1)
    return None if (alpha == 1).all() else alpha


def associated(raw: RawFrame, colour_space: str, check: Check = lambda: None) -> tuple[Picture, Picture | None]:
    """Return a raw frame as scene-linear colours times its alpha, (H, W, 3), and that alpha (H, W), 0 to 1.

    The alpha is None if it has none, or is nowhere below 1.
    """
    alpha = alpha_of(raw)
    if alpha is None:
        return read_linear(raw, colour_space, check), None
    if raw.pixels.dtype.kind == "f" and not raw.is_straight:
        return read_linear(raw, colour_space, check), alpha
    if not raw.is_straight:  # stored as shares of what was encoded
        full = _full(raw.pixels)
        whole = np.minimum(raw.pixels / np.maximum(alpha, 1 / full)[..., None], full).astype(raw.pixels.dtype)
        raw = replace(raw, pixels=whole)
    return read_linear(raw, colour_space, check) * alpha[..., None], alpha


def picture_of(raw: RawFrame, path: Path, colour_space: str = "", check: Check = lambda: None) -> Picture:
    """Return a still that was read as scene-linear (H, W, 3) float32; see `read_picture`."""
    is_float = raw.pixels.dtype.kind == "f"
    guess = guess_colour_space(path.suffix, is_float=is_float, transfer=_transfer(raw.attributes))
    return read_linear(raw, colour_space or guess, check)


def is_panorama(attributes: dict[str, Any], width: int, height: int) -> bool:
    """Return whether a picture says that it shows all directions, by longitude and latitude, and can.

    By the environment map of EXR files, or the projection of photo spheres' XMP.
    """
    said = str(attributes.get("textureformat", "")).lower().startswith("latlong")
    told = any(
        str(value).lower() == "equirectangular"
        for name, value in attributes.items()
        if name.lower().endswith("projectiontype")
    )
    return width == 2 * height and (said or told)


def _transfer(attributes: dict[str, Any]) -> str:
    return str(attributes.get("dpx:Transfer", ""))


# -- stills -----------------------------------------------------------------------------------------------------


def _probe_stills(path: Path, check: Check) -> FootageReport:
    sequence = sequence_of(path, check)
    found = sequence.frames
    frames = FrameRange(first=int(found[0]), last=int(found[-1]))
    missing = np.setdiff1d(np.arange(frames.first, frames.last + 1), found, assume_unique=True)
    raw, (width, height), notes, readable = _first_readable(sequence, path, check)
    if len(missing):
        notes.append(f"{_counted(len(missing), 'frame')} missing: {_ranges(missing)}. They are shown as gaps.")
    if sequence.left_out:
        notes.append(f"{_counted(sequence.left_out, 'file')} left out: the numbers are far from these frames.")
    attributes, is_float = raw.attributes, raw.pixels.dtype.kind == "f"
    footage = Footage(
        path=sequence.pattern,
        frames=frames,
        missing=tuple(missing.tolist()),
        width=width,
        height=height,
        rate=sane_rate(attributes.get("FramesPerSecond")),
        pixel_aspect=sane_aspect(attributes.get("PixelAspectRatio", 1.0)),
        colour_space=guess_colour_space(readable.suffix, is_float=is_float, transfer=_transfer(attributes)),
    )
    footage = replace_record(footage, is_panorama=is_panorama(attributes, width, height))
    kind = "float" if is_float else "integer"
    return FootageReport(footage, raw.alpha is not None, f"{raw.bits}-bit {kind}", tuple(notes))


def _first_readable(sequence: Sequence, asked: Path, check: Check) -> tuple[RawFrame, tuple[int, int], list[str], Path]:
    """Return the first frame that can be read, so that one damaged file does not stop the import."""
    notes: list[str] = []
    first_error = FootageError(f"{asked} could not be read.", str(asked))
    for frame in sequence.frames[:DAMAGED_AT_MOST].tolist():
        file = sequence.file_of(frame)
        try:
            return *check_still(file, check), notes, file
        except FootageError as error:
            first_error = error if not notes else first_error
            notes.append(str(error))
    raise first_error


def _counted(count: int, thing: str) -> str:
    return f"{count} {thing} is" if count == 1 else f"{count} {thing}s are"


def _ranges(frames: NDArray[np.int64]) -> str:
    """Return frame numbers as short text: 1003, 1010–1014."""
    runs = np.split(frames, np.flatnonzero(np.diff(frames) > 1)[:RANGES_SHOWN] + 1)
    words = [str(run[0]) if len(run) == 1 else f"{run[0]}–{run[-1]}" for run in runs[:RANGES_SHOWN]]
    return ", ".join(words) + (" …" if len(runs) > RANGES_SHOWN else "")


# -- movies -----------------------------------------------------------------------------------------------------


def _probe_movie(path: Path, check: Check) -> FootageReport:
    with opened_movie(path) as container, believed(path):
        stream = container.streams.video[0]
        times = frame_times(container, path, check)
        context = stream.codec_context
        if not times:
            raise FootageError(f"{path.name} holds no video frames.", str(path))
        alpha = (context.pix_fmt or "").startswith(ALPHA_FORMATS)
        bits = context.format.components[0].bits if context.format else 8
        footage = Footage(
            path=str(path),
            frames=FrameRange(first=1, last=len(times)),
            width=context.width,
            height=context.height,
            rate=sane_rate(rate_of(stream)),
            pixel_aspect=sane_aspect(float(stream.sample_aspect_ratio or 1)),
            colour_space=CAMERA_VIDEO,
            is_movie=True,
        )
    return FootageReport(footage, alpha, f"{bits}-bit video")
