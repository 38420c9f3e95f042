"""Footage of numbered pictures, read by OpenImageIO."""

from __future__ import annotations

import os
import re
from array import array
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from gommage.core.document import Footage
from gommage.core.document.soundness import LARGEST_SIDE, MOST_FRAMES
from gommage.core.picture.raw import Check, RawFrame, believed, refuse_too_large, refuse_what_is_no_file
from gommage.errors import FootageError, FrameMissingError

__all__ = ["STILL_SUFFIXES", "Sequence", "StillPlates", "first_still", "read_still", "sequence_of"]

STILL_SUFFIXES = {".exr", ".dpx", ".cin", ".tif", ".tiff", ".png", ".jpg", ".jpeg"}
STRAIGHT_NAME = "oiio:UnassociatedAlpha"
LINES_A_STRIP, STRIP_VALUES = 64, 6_000_000
"""Pictures are read in strips of whole compressed blocks, each of some milliseconds."""
PREVIEW_VALUES = 150_000_000
"""Larger pictures are not read to find out whether they can be."""
LARGEST_GAP = 1000
"""Numbers that are further apart are of different things: a take and a date."""
LOOK_EVERY = 4096
_NUMBERED = re.compile(r"^(.*?)(?<![0-9])([0-9]{1,9})(\.[A-Za-z0-9]+)$", re.DOTALL)
"""A number of more digits is no frame's: a date with a time."""


# -- which files ------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Sequence:
    """The files of a sequence.

    Attributes
    ----------
    pattern : str
        Path with one run of ``#`` for the number, or the path itself of a still without a number.
    frames : (N,) int64
        The numbers there are, rising.
    left_out : int
        How many files have the same name but numbers far away.
    """

    pattern: str
    frames: NDArray[np.int64]
    left_out: int = 0

    def file_of(self, frame: int) -> Path:
        """Return the path of a frame's file."""
        return Path(re.sub(r"#+", lambda run: str(frame).zfill(len(run.group())), self.pattern))


def first_still(folder: Path, check: Check) -> Path:
    """Return the first picture of a folder.

    Raises
    ------
    FootageError
        If there is none.
    """
    with believed(folder):
        names = (name for name in _names(folder, check) if os.path.splitext(name)[1].lower() in STILL_SUFFIXES)
        first = min(names, default=None)
    if first is None:
        raise FootageError(f"{folder} holds no pictures that can be read.", str(folder))
    return folder / first


def _names(folder: Path, check: Check) -> Iterator[str]:
    with os.scandir(folder) as entries:
        for count, entry in enumerate(entries):
            if count % LOOK_EVERY == 0:
                check()
            if "#" not in entry.name and entry.is_file():
                yield entry.name


def sequence_of(path: Path, check: Check) -> Sequence:
    """Return the sequence that a still belongs to.

    Raises
    ------
    FootageError
        If there are more frames than a shot can have.
    """
    match = _NUMBERED.match(path.name)
    if "#" in str(path):
        raise FootageError(f"{path} has a # in its name, which stands for frame numbers here; rename it.", str(path))
    if match is None:
        return Sequence(str(path), np.array([1]))
    prefix, digits, suffix = match.groups()
    numbers, lengths = array("q"), array("b")
    with believed(path):
        for name in _names(path.parent, check):
            found = _NUMBERED.match(name) if name.startswith(prefix) else None
            if found is not None and found[1] == prefix and found[3].lower() == suffix.lower():
                numbers.append(int(found[2]))
                lengths.append(len(found[2]))
    width = _width(digits, np.array(lengths), np.array(numbers))
    fits = np.array(lengths) == np.maximum(_digits_of(np.array(numbers)), width)
    frames = np.unique(np.append(np.array(numbers)[fits], int(digits)))
    near = _near(frames, int(digits))
    if near[-1] - near[0] >= MOST_FRAMES:
        raise FootageError(f"{path.name} is one of more than {MOST_FRAMES} frames, too many for a shot.", str(path))
    return Sequence(str(path.with_name(f"{prefix}{'#' * width}{suffix}")), near, len(frames) - len(near))


def _digits_of(numbers: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.searchsorted(10 ** np.arange(1, 10), numbers, side="right") + 1


def _width(digits: str, lengths: NDArray[Any], numbers: NDArray[np.int64]) -> int:
    """Return to how many digits numbers are filled up with zeros, so that one's own digits come out."""
    if digits.startswith("0"):
        return len(digits)
    filled = lengths[(lengths > _digits_of(numbers)) & (lengths == len(digits))]
    if len(filled):
        return len(digits)
    plain = lengths[lengths == _digits_of(numbers)]
    return int(min(plain.min(initial=len(digits)), len(digits)))


def _near(frames: NDArray[np.int64], number: int) -> NDArray[np.int64]:
    """Return the numbers of the run without large gaps that a number is in."""
    runs = np.split(frames, np.flatnonzero(np.diff(frames) > LARGEST_GAP) + 1)
    return next(run for run in runs if run[0] <= number <= run[-1])


# -- one file ---------------------------------------------------------------------------------------------------


def read_still(path: Path, check: Check = lambda: None, told: Any = lambda share: None) -> RawFrame:
    """Read one picture, in strips so that it can be called off.

    Parameters
    ----------
    path : Path
    check : callable
        Raises `Cancelled` to stop.
    told : callable
        Called with how much was read, 0 to 1.

    Raises
    ------
    FootageError
        If it cannot be read.
    """
    refuse_what_is_no_file(path)
    with believed(path):
        source = oiio.ImageInput.open(str(path), _straight())
        if source is None:
            raise FootageError(f"{path.name} could not be read as a picture ({_tidy(oiio.geterror())}).", str(path))
        try:
            spec = source.spec()
            colour, alpha = _chosen(spec, path)
            stored = _read_pixels(source, spec, (*colour, *alpha), path, check, told)
        finally:
            source.close()
        attributes = _attributes(spec)
        bits = int(attributes.get("oiio:BitsPerSample", stored.dtype.itemsize * 8))
        first = min((*colour, *alpha))
        wanted = [index - first for index in colour]
        is_as_stored = wanted == list(range(wanted[0], wanted[0] + 3))  # then nothing need be copied
        pixels = stored[..., wanted[0] : wanted[0] + 3] if is_as_stored else stored[..., wanted]
        return RawFrame(
            np.ascontiguousarray(pixels),
            stored[..., alpha[0] - first].copy() if alpha else None,
            attributes,
            bits,
            is_straight=bool(attributes.get(STRAIGHT_NAME)),
        )


def _straight() -> Any:
    """Return the wish that colours are read as the file holds them, not times their alpha."""
    wish = oiio.ImageSpec()
    wish.attribute(STRAIGHT_NAME, 1)
    return wish


def check_still(path: Path, check: Check) -> tuple[RawFrame, tuple[int, int]]:
    """Return a picture and its width and height, to find out what it is; of a very large one a black pixel alone.

    Raises
    ------
    FootageError
        If it cannot be read.
    """
    refuse_what_is_no_file(path)
    with believed(path):
        source = oiio.ImageInput.open(str(path))
        spec = source.spec() if source is not None else None
        if source is not None and spec is not None and spec.width * spec.height * spec.nchannels > PREVIEW_VALUES:
            source.close()
            _, alpha = _chosen(spec, path)
            attributes, black = _attributes(spec), np.zeros((1, 1, 3), _type_of(spec, path))
            bits = int(attributes.get("oiio:BitsPerSample", black.dtype.itemsize * 8))
            return RawFrame(black, black[..., 0] if alpha else None, attributes, bits), (spec.width, spec.height)
    raw = read_still(path, check)
    return raw, (raw.pixels.shape[1], raw.pixels.shape[0])


def _chosen(spec: Any, path: Path) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Return which channels are red, green and blue (grey thrice), and which is alpha if there is one."""
    if not (0 < spec.width <= LARGEST_SIDE and 0 < spec.height <= LARGEST_SIDE) or spec.depth > 1 or spec.deep:
        raise FootageError(f"{path.name} claims to be {spec.width} x {spec.height}; it is damaged.", str(path))
    names = [name.rsplit(".", 1)[-1].upper() for name in spec.channelnames]
    if not 0 < spec.nchannels == len(names):
        raise FootageError(f"{path.name} has no channels that can be read.", str(path))
    alpha = (spec.alpha_channel,) if 0 <= spec.alpha_channel < spec.nchannels else ()
    if {"R", "G", "B"} <= set(names):
        return tuple(names.index(letter) for letter in "RGB"), alpha
    return ((0, 1, 2) if spec.nchannels >= 3 and not alpha else (0, 0, 0)), alpha


def _type_of(spec: Any, path: Path) -> np.dtype[Any]:
    kinds = {"uint8": "uint8", "uint16": "uint16", "half": "float16", "float": "float32", "double": "float32"}
    kind = kinds.get(str(spec.format))
    if kind is None:
        raise FootageError(f"{path.name} stores {spec.format} pixels, which Gommage does not read.", str(path))
    return np.dtype(kind)


def _read_pixels(
    source: Any, spec: Any, channels: tuple[int, ...], path: Path, check: Check, told: Any
) -> NDArray[np.generic]:
    """Return the channels from the first to the last that is wanted, (H, W, C)."""
    dtype, first, last = _type_of(spec, path), min(channels), max(channels) + 1
    values = spec.width * (last - first)
    refuse_too_large(path, spec.height * values * dtype.itemsize + spec.width * spec.height * 12)
    out = np.empty((spec.height, spec.width, last - first), dtype)
    lines = spec.tile_height if spec.tile_width else LINES_A_STRIP
    strip = max(lines, STRIP_VALUES // max(values, 1) // lines * lines)
    for top in range(0, spec.height, strip):
        check()
        bottom = min(top + strip, spec.height)
        low, high = spec.y + top, spec.y + bottom
        if spec.height <= strip:
            read = source.read_image(0, 0, first, last, oiio.UNKNOWN)
        elif spec.tile_width:
            right = spec.x + spec.width
            read = source.read_tiles(spec.x, right, low, high, 0, 1, first, last, oiio.UNKNOWN)
        else:
            read = source.read_scanlines(0, 0, low, high, 0, first, last, oiio.UNKNOWN)
        if read is None:
            raise FootageError(f"{path.name} is cut off or damaged ({_tidy(source.geterror())}).", str(path))
        out[top:bottom] = np.asarray(read).reshape(bottom - top, spec.width, last - first)
        told(bottom / spec.height)
    return out


def _attributes(spec: Any) -> dict[str, Any]:
    """Return a file's metadata; what is no text is left out."""
    found = {}
    for index in range(len(spec.extra_attribs)):
        try:
            item = spec.extra_attribs[index]
            found[str(item.name)] = item.value
        except (UnicodeError, ValueError, TypeError, RuntimeError):
            continue
    return found


def _tidy(message: str) -> str:
    """Return the first line of a library's message, without paths."""
    line = (message.strip().splitlines() or ["no reason given"])[0]
    line = re.sub(r'"?/[^"\s:]*"?:?\s*', "", line).strip(" .:")
    return line[:140] or "no reason given"


class StillPlates:
    """Frames in numbered files."""

    def __init__(self, footage: Footage) -> None:
        self._footage = footage
        self._shares: dict[int, float] = {}
        folder = Path(footage.path).parent
        if not folder.is_dir():
            raise FootageError(f"{footage.path} is not there. Was it moved or renamed?", footage.path)

    def file_of(self, frame: int) -> str:
        """Return the path of a frame's file."""
        return str(Sequence(self._footage.path, np.empty(0, np.int64)).file_of(frame))

    def share_read(self, frame: int) -> float | None:
        """Return how much of a frame has been read; see `Plates`."""
        return self._shares.get(frame)

    def read(self, frame: int, check: Check = lambda: None) -> RawFrame:
        """Return a frame as stored; see `Plates`."""
        path = Path(self.file_of(frame))
        if frame not in self._footage.frames or not (path.is_file() or path.exists()):
            raise FrameMissingError(f"Frame {frame} is missing: {path.name} is not there.", str(path), frame)

        def told(share: float) -> None:
            self._shares[frame] = share

        try:
            raw = read_still(path, check, told)
        finally:
            self._shares.pop(frame, None)
        height, width = raw.pixels.shape[:2]
        if (width, height) != (self._footage.width, self._footage.height):
            raise FootageError(
                f"Frame {frame} is {width} x {height}, the shot is {self._footage.width} x {self._footage.height}: "
                f"{path.name} does not belong here.",
                str(path),
            )
        return raw
