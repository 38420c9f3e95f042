"""Footage in: what is there, and its frames.

`probe` looks at what the user pointed to and reports; `open_plates` gives the frames of footage that a project
knows. Stills are read by OpenImageIO, movies by PyAV.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import fileseq
import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from gommage.core.document import Footage, FrameRange
from gommage.core.picture.colour import CAMERA_VIDEO, decode, guess_colour_space
from gommage.core.picture.pixels import Picture
from gommage.errors import FootageError, FrameMissingError

__all__ = ["FootageReport", "Plates", "RawFrame", "open_plates", "probe", "read_linear", "read_picture"]

HASH_A_DIGIT: Any = fileseq.constants.PAD_STYLE_HASH1
STILL_SUFFIXES = {".exr", ".dpx", ".cin", ".tif", ".tiff", ".png", ".jpg", ".jpeg"}
LARGEST_SIDE = 32768  # more than any camera; a header that claims more is damaged or hostile
LINES_A_STRIP, STRIP_VALUES = 64, 6_000_000
"""Pictures are read in strips of whole compressed blocks, each of some milliseconds."""
_NUMBERED = re.compile(r"^(.*?)(\d+)(\.[A-Za-z0-9]+)$")


@dataclass(frozen=True, slots=True)
class RawFrame:
    """A frame as its file holds it.

    Attributes
    ----------
    pixels : (H, W, 3) uint8, uint16, float16 or float32
        In the file's own colour space.
    alpha : (H, W) of the same type, or None
    attributes : dict
        The file's metadata, by OpenImageIO's names.
    bits : int
        Bits a channel that the file holds (10 for most DPX, though `pixels` are uint16).
    """

    pixels: NDArray[np.generic]
    alpha: NDArray[np.generic] | None
    attributes: dict[str, Any]
    bits: int


@dataclass(frozen=True, slots=True)
class FootageReport:
    """What was found where the user pointed: footage with guesses filled in, and words about it."""

    footage: Footage
    has_alpha: bool
    pixel_type: str
    notes: tuple[str, ...] = field(default=())


class Plates(Protocol):
    """Frames of one footage. May be called from any thread."""

    def read(self, frame: int, check: Callable[[], None] = lambda: None) -> RawFrame:
        """Return a frame as stored; `FrameMissingError` for a gap, `FootageError` if it cannot be read."""
        ...

    def file_of(self, frame: int) -> str:
        """Return the path that holds a frame."""
        ...


def probe(path: Path) -> FootageReport:
    """Find out what footage a file, or the folder of a sequence, is.

    Parameters
    ----------
    path : Path
        A movie, any file of a numbered sequence, a single still, or a folder with one sequence in it.

    Raises
    ------
    FootageError
        With one sentence: not there, no pictures, not readable.
    """
    if not path.exists():
        raise FootageError(f"{path} is not there. Was it moved or renamed?", str(path))
    if path.is_dir():
        path = _first_still(path)
    if path.suffix.lower() in STILL_SUFFIXES:
        return _probe_stills(path)
    return _probe_movie(path)


def open_plates(footage: Footage) -> Plates:
    """Return the frames of footage.

    Raises
    ------
    FootageError
        If the movie or the folder is not there.
    """
    return MoviePlates(footage) if footage.is_movie else StillPlates(footage)


def read_linear(raw: RawFrame, colour_space: str) -> Picture:
    """Return a raw frame's colour as scene-linear float32 (H, W, 3), damaged values (NaN) as black."""
    linear = decode(raw.pixels, colour_space)
    if raw.pixels.dtype.kind == "f" and not np.isfinite(linear).all():
        linear = np.nan_to_num(linear, nan=0.0, posinf=65504.0, neginf=-65504.0)
    return linear


def read_picture(path: Path, colour_space: str = "") -> Picture:
    """Read one still as scene-linear (H, W, 3) float32; its colour space is guessed if none is given.

    Raises
    ------
    FootageError
        If it is not a readable picture.
    """
    raw = _read_still(path)
    is_float = raw.pixels.dtype.kind == "f"
    guess = guess_colour_space(path.suffix, is_float=is_float, transfer=_transfer(raw.attributes))
    return read_linear(raw, colour_space or guess)


# -- stills -------------------------------------------------------------------------------------------------


def _first_still(folder: Path) -> Path:
    files = sorted(file for file in folder.iterdir() if file.suffix.lower() in STILL_SUFFIXES)
    if not files:
        raise FootageError(f"{folder} holds no pictures that can be read.", str(folder))
    return files[0]


def _sequence(path: Path) -> tuple[str, dict[int, Path]]:
    """Return the pattern of the sequence that a still belongs to, and its files by frame number."""
    match = _NUMBERED.match(path.name)
    if match is None:
        return str(path), {1: path}
    prefix, digits, suffix = match.groups()
    files: dict[int, Path] = {}
    for sequence in fileseq.findSequencesOnDisk(str(path.parent), pad_style=HASH_A_DIGIT):
        frames = sequence.frameSet()
        if frames and sequence.basename() == prefix and sequence.extension().lower() == suffix.lower():
            files |= {int(frame): Path(sequence.frame(frame)) for frame in frames}
    files = {frame: file for frame, file in files.items() if file.is_file()} or {int(digits): path}
    width = len(digits) if digits.startswith("0") else min(len(str(number)) for number in files)
    return str(path.with_name(f"{prefix}{'#' * width}{suffix}")), files


def _probe_stills(path: Path) -> FootageReport:
    pattern, files = _sequence(path.absolute())
    frames = FrameRange(first=min(files), last=max(files))
    missing = tuple(sorted(set(frames) - set(files)))
    raw, notes, readable = _first_readable(files, path)
    height, width = raw.pixels.shape[:2]
    if missing:
        notes.append(f"{_counted(len(missing), 'frame')} missing: {_ranges(missing)}. They are shown as gaps.")
    attributes = raw.attributes
    rate: Any = attributes.get("FramesPerSecond", (24, 1))
    if not (isinstance(rate, tuple) and len(rate) == 2 and rate[0] > 0 and rate[1] > 0):
        rate = (24, 1)
    is_float = raw.pixels.dtype.kind == "f"
    footage = Footage(
        path=pattern,
        frames=frames,
        missing=missing,
        width=width,
        height=height,
        rate=(round(float(rate[0])), round(float(rate[1]))),
        pixel_aspect=_sane_aspect(attributes.get("PixelAspectRatio", 1.0)),
        colour_space=guess_colour_space(readable.suffix, is_float=is_float, transfer=_transfer(attributes)),
    )
    kind = "float" if is_float else "integer"
    return FootageReport(footage, raw.alpha is not None, f"{raw.bits}-bit {kind}", tuple(notes))


def _first_readable(files: dict[int, Path], asked: Path) -> tuple[RawFrame, list[str], Path]:
    """Return the first frame that can be read, so that one damaged file does not stop the import."""
    notes: list[str] = []
    first_error: FootageError | None = None
    for _, file in sorted(files.items()):
        try:
            return _read_still(file), notes, file
        except FootageError as error:
            first_error = first_error or error
            notes.append(str(error))
            if len(notes) == 3:
                break
    raise first_error or FootageError(f"{asked} could not be read.", str(asked))


def _transfer(attributes: dict[str, Any]) -> str:
    return str(attributes.get("dpx:Transfer", ""))


def _sane_aspect(value: object) -> float:
    aspect = float(value) if isinstance(value, int | float) else 1.0
    return aspect if 0.1 < aspect < 10 else 1.0


def _counted(count: int, thing: str) -> str:
    return f"{count} {thing} is" if count == 1 else f"{count} {thing}s are"


def _ranges(frames: tuple[int, ...]) -> str:
    """Return frame numbers as short text: 1003, 1010–1014."""
    words = fileseq.framesToFrameRange(frames).replace("-", "–").split(",")
    return ", ".join(words[:6]) + (" …" if len(words) > 6 else "")


def _read_still(path: Path, check: Callable[[], None] = lambda: None) -> RawFrame:
    name = path.name
    source = oiio.ImageInput.open(str(path))
    if source is None:
        reason = _tidy(oiio.geterror())
        raise FootageError(f"{name} could not be read as a picture ({reason}).", str(path))
    try:
        spec = source.spec()
        if not (0 < spec.width <= LARGEST_SIDE and 0 < spec.height <= LARGEST_SIDE) or spec.depth > 1:
            raise FootageError(f"{name} claims to be {spec.width} x {spec.height}; it is damaged.", str(path))
        pixels = _read_pixels(source, spec, check)
        if pixels is None:
            raise FootageError(f"{name} is cut off or damaged ({_tidy(source.geterror())}).", str(path))
    finally:
        source.close()
    attributes: dict[str, Any] = {item.name: item.value for item in spec.extra_attribs}
    pixels, alpha = _colour_and_alpha(np.asarray(pixels), spec, path)
    bits = int(attributes.get("oiio:BitsPerSample", pixels.dtype.itemsize * 8))
    return RawFrame(pixels, alpha, attributes, bits)


def _read_pixels(source: Any, spec: Any, check: Callable[[], None]) -> NDArray[np.generic] | None:
    """Return a picture's pixels, read in strips so that reading can be called off; None if it cannot be read."""
    strip = max(LINES_A_STRIP, STRIP_VALUES // max(spec.width * spec.nchannels, 1) // LINES_A_STRIP * LINES_A_STRIP)
    if spec.tile_width or spec.height <= strip:
        return source.read_image(0, 0, 0, spec.nchannels, oiio.UNKNOWN)
    strips = []
    for top in range(spec.y, spec.y + spec.height, strip):
        check()
        bottom = min(top + strip, spec.y + spec.height)
        read = source.read_scanlines(0, 0, top, bottom, 0, 0, spec.nchannels, oiio.UNKNOWN)
        if read is None:
            return None
        strips.append(np.asarray(read).reshape(bottom - top, spec.width, spec.nchannels))
    return np.concatenate(strips)


def _colour_and_alpha(
    pixels: NDArray[np.generic], spec: oiio.ImageSpec, path: Path
) -> tuple[NDArray[np.generic], NDArray[np.generic] | None]:
    if pixels.ndim == 2:
        pixels = pixels[:, :, None]
    if pixels.dtype not in (np.uint8, np.uint16, np.float16, np.float32):
        if pixels.dtype.kind == "f":
            pixels = pixels.astype(np.float32)
        else:
            raise FootageError(f"{path.name} stores {pixels.dtype} pixels, which Gommage does not read.", str(path))
    names = [name.rsplit(".", 1)[-1].upper() for name in spec.channelnames]
    alpha = pixels[:, :, spec.alpha_channel] if 0 <= spec.alpha_channel < pixels.shape[2] else None
    if {"R", "G", "B"} <= set(names):
        order = [names.index(letter) for letter in "RGB"]
        colour = pixels if order == [0, 1, 2] and pixels.shape[2] == 3 else pixels[:, :, order]
    elif pixels.shape[2] >= 3 and alpha is None:
        colour = pixels[:, :, :3]
    else:
        colour = np.repeat(pixels[:, :, :1], 3, axis=2)  # grey
    return np.ascontiguousarray(colour), alpha


def _tidy(message: str) -> str:
    """Return the first line of a library's message, without paths."""
    line = (message.strip().splitlines() or ["no reason given"])[0]
    line = re.sub(r'"?/[^"\s:]*"?:?\s*', "", line).strip(" .:")
    return line[:140] or "no reason given"


class StillPlates:
    """Frames in numbered files."""

    def __init__(self, footage: Footage) -> None:
        self._footage = footage
        folder = Path(footage.path).parent
        if not folder.is_dir():
            raise FootageError(f"{footage.path} is not there. Was it moved or renamed?", footage.path)

    def file_of(self, frame: int) -> str:
        """Return the path of a frame's file."""
        return re.sub(r"#+", lambda run: str(frame).zfill(len(run.group())), self._footage.path)

    def read(self, frame: int, check: Callable[[], None] = lambda: None) -> RawFrame:
        """Return a frame as stored; see `Plates`."""
        path = Path(self.file_of(frame))
        if frame not in self._footage.frames or not path.is_file():
            raise FrameMissingError(f"Frame {frame} is missing: {path.name} is not there.", str(path), frame)
        raw = _read_still(path, check)
        height, width = raw.pixels.shape[:2]
        if (width, height) != (self._footage.width, self._footage.height):
            raise FootageError(
                f"Frame {frame} is {width} x {height}, the shot is {self._footage.width} x {self._footage.height}: "
                f"{path.name} does not belong here.",
                str(path),
            )
        return raw


# -- movies -------------------------------------------------------------------------------------------------


def _probe_movie(path: Path) -> FootageReport:
    with _opened(path) as container:
        stream = container.streams.video[0]
        times = _frame_times(container)
        context = stream.codec_context
        width, height = context.width, context.height
        if not times or not (0 < width <= LARGEST_SIDE and 0 < height <= LARGEST_SIDE):
            raise FootageError(f"{path.name} holds no video frames.", str(path))
        rate = stream.average_rate or stream.guessed_rate or Fraction(24)
        aspect = float(stream.sample_aspect_ratio or 1)
        alpha = (context.pix_fmt or "").startswith(("yuva", "rgba", "bgra", "gbrap"))
        bits = context.format.components[0].bits if context.format else 8
    footage = Footage(
        path=str(path.absolute()),
        frames=FrameRange(first=1, last=len(times)),
        width=width,
        height=height,
        rate=(rate.numerator, rate.denominator),
        pixel_aspect=_sane_aspect(aspect),
        colour_space=CAMERA_VIDEO,
        is_movie=True,
    )
    return FootageReport(footage, alpha, f"{bits}-bit video")


def _opened(path: Path) -> Any:
    try:
        container = av.open(str(path))
    except (av.FFmpegError, OSError, ValueError) as error:
        raise FootageError(f"{path.name} is neither a picture nor a movie that can be read.", str(path)) from error
    if not container.streams.video:
        container.close()
        raise FootageError(f"{path.name} has no video in it.", str(path))
    return container


def _frame_times(container: Any) -> list[int]:
    """Return the presentation times of all frames, in order, without decoding."""
    times = []
    try:
        for packet in container.demux(video=0):
            if packet.pts is not None and packet.size:
                times.append(packet.pts)
    except (av.FFmpegError, OSError):
        pass  # the file is cut off: what came before is good
    return sorted(set(times))


class MoviePlates:
    """Frames of a movie, numbered from 1. One decoder, guarded by a lock; forward reads need no seek."""

    def __init__(self, footage: Footage) -> None:
        self._path = Path(footage.path)
        if not self._path.is_file():
            raise FootageError(f"{footage.path} is not there. Was it moved or renamed?", footage.path)
        self._lock = threading.Lock()
        with _opened(self._path) as container:
            self._times = _frame_times(container)
        self._container = _opened(self._path)
        self._frames: Any = None
        self._next = -1

    def file_of(self, frame: int) -> str:
        """Return the movie's path."""
        return str(self._path)

    def read(self, frame: int, check: Callable[[], None] = lambda: None) -> RawFrame:
        """Return a frame, decoded to 16-bit RGB; see `Plates`."""
        if not 1 <= frame <= len(self._times):
            raise FrameMissingError(
                f"Frame {frame} is missing: {self._path.name} ends at {len(self._times)}.",
                str(self._path),
                frame,
            )
        with self._lock:
            decoded = self._decode(frame, check)
        pixels = decoded.to_ndarray(format="rgb48le")
        return RawFrame(np.ascontiguousarray(pixels), None, {}, 8)

    def _decode(self, frame: int, check: Callable[[], None]) -> Any:
        wanted = self._times[frame - 1]
        stream = self._container.streams.video[0]
        try:
            if self._frames is None or not 0 <= frame - self._next <= 12:
                self._container.seek(wanted, stream=stream, backward=True)
                self._frames = self._container.decode(stream)
            for decoded in self._frames:
                check()
                if decoded.pts is not None and decoded.pts >= wanted:
                    self._next = frame + 1
                    return decoded
        except (av.FFmpegError, OSError) as error:
            self._frames = None
            raise FootageError(f"Frame {frame} of {self._path.name} is damaged.", str(self._path)) from error
        self._frames = None
        raise FootageError(f"Frame {frame} of {self._path.name} could not be decoded.", str(self._path))
