"""Pictures out: stills by OpenImageIO, movies by PyAV. Each file is whole or not there."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from gommage.core.disk import WholeFile, reason, write_whole
from gommage.errors import RenderError

FORMATS = {".mov": "mov", ".mp4": "mp4", ".mkv": "matroska"}

__all__ = ["STILL_FORMATS", "MovieWriter", "StillFormat", "write_still"]

_OWN = (
    "oiio:",
    "openexr:",
    "tiff:",
    "png:",
    "dpx:",
    "jpeg:",
    "compression",
    "Orientation",
    "ImageDescription",
)


@dataclass(frozen=True, slots=True)
class StillFormat:
    """A kind of still file.

    Attributes
    ----------
    suffix : str
        With the dot.
    dtype : str
        Pixel type handed to the writer: uint8, uint16, float16 or float32.
    bits : int
        Bits a channel in the file.
    label : str
        For people.
    """

    suffix: str
    dtype: str
    bits: int
    label: str

    @property
    def is_linear(self) -> bool:
        """Whether such files hold scene-linear colour when the plate's own encoding is not kept."""
        return self.dtype.startswith("float")


STILL_FORMATS: dict[str, StillFormat] = {
    "exr-half": StillFormat(".exr", "float16", 16, "EXR, half float"),
    "exr-float": StillFormat(".exr", "float32", 32, "EXR, float"),
    "tiff-16": StillFormat(".tif", "uint16", 16, "TIFF, 16 bit"),
    "tiff-8": StillFormat(".tif", "uint8", 8, "TIFF, 8 bit"),
    "png-16": StillFormat(".png", "uint16", 16, "PNG, 16 bit"),
    "png-8": StillFormat(".png", "uint8", 8, "PNG, 8 bit"),
    "dpx-10": StillFormat(".dpx", "uint16", 10, "DPX, 10 bit"),
    "dpx-16": StillFormat(".dpx", "uint16", 16, "DPX, 16 bit"),
}


def write_still(
    path: Path,
    pixels: NDArray[np.generic],
    *,
    bits: int,
    alpha: NDArray[np.generic] | None = None,
    attributes: dict[str, Any] | None = None,
    compression: str = "zip",
    is_straight: bool = False,
) -> None:
    """Write one picture; the kind of file follows the suffix.

    Parameters
    ----------
    path : Path
        Its folder must exist. A file of that name is replaced only when the new one is whole.
    pixels : (H, W, 3) uint8, uint16, float16 or float32
        In the file's colour space, written as they are.
    bits : int
        Bits a channel, where fewer than the type holds (10 for DPX).
    alpha : (H, W), optional
        A fourth channel.
    attributes : dict, optional
        Metadata to carry over; what describes another file's own storage is left out.

    compression : str
        Of float EXR, by OpenImageIO's names.
    is_straight : bool
        Whether the pixels are whole, not times their alpha.

    Raises
    ------
    RenderError
        If it cannot be written: no space, no permission, no such format.
    """
    if alpha is not None:
        pixels = np.dstack([pixels, alpha.astype(pixels.dtype)])
    height, width, channels = pixels.shape
    kind = {"uint8": "uint8", "uint16": "uint16", "float16": "half", "float32": "float"}[pixels.dtype.name]
    spec = oiio.ImageSpec(width, height, channels, kind)
    for name, value in (attributes or {}).items():
        if not name.startswith(_OWN):
            _set_attribute(spec, name, value)
    if kind in {"half", "float"}:
        spec.attribute("compression", compression)
    if is_straight:
        spec.attribute("oiio:UnassociatedAlpha", 1)
    if bits < pixels.dtype.itemsize * 8:
        spec.attribute("oiio:BitsPerSample", bits)
    try:
        write_whole(path, _encoded(path, spec, np.ascontiguousarray(pixels)))
    except OSError as error:
        raise RenderError(f"{path.name} could not be written: {reason(error, path.parent)}.") from error


def _set_attribute(spec: oiio.ImageSpec, name: str, value: Any) -> None:
    """Set one attribute, with the type that a bare tuple or array would lose; what has no type is left out."""
    if isinstance(value, str | int | float):
        spec.attribute(name, value)
        return
    numbers = tuple(np.asarray(value).ravel().tolist()) if isinstance(value, tuple | list | np.ndarray) else ()
    if not numbers or not all(isinstance(number, int | float) for number in numbers):
        return
    special = {"smpte:TimeCode": "timecode", "smpte:KeyCode": "keycode", "FramesPerSecond": "rational"}
    kind = "int" if all(isinstance(number, int) for number in numbers) else "float"
    shape = "matrix" if kind == "float" and len(numbers) == 16 else f"{kind}[{len(numbers)}]"
    spec.attribute(name, special.get(name, shape), numbers)


def _encoded(path: Path, spec: oiio.ImageSpec, pixels: NDArray[np.generic]) -> bytes:
    """Return the picture as the file will hold it.

    It is encoded in memory: codecs notice a full disk late or not at all, and then say that all is well.
    """
    output = oiio.ImageOutput.create(path.suffix.lstrip("."))
    if output is None:
        raise RenderError(f"{path.name} could not be written: {path.suffix} is not a format Gommage writes.")
    with open(os.memfd_create(path.suffix.lstrip(".")), "rb") as memory:
        name = f"/proc/self/fd/{memory.fileno()}"
        whole = output.open(name, spec) and output.write_image(pixels)
        words = output.geterror()
        whole = output.close() and whole
        del output  # files of panoramas are whole only once their writer is gone
        data = memory.read()
    if not whole or not data:
        words = (words.strip().splitlines() or ["the writer gave no reason"])[0][:140]
        raise RenderError(f"{path.name} could not be written: {words}.")
    return data


class MovieWriter:
    """Write a movie frame by frame; it takes its name only when it is whole.

    Parameters
    ----------
    path : Path
        ``.mov`` (ProRes 4444, 10 bit), ``.mp4`` (H.264, for looking at) or ``.mkv`` (FFV1, lossless 16 bit).
    size_wh : tuple of int
    rate : Fraction

    Raises
    ------
    RenderError
        If the file cannot be made.
    """

    CODECS = {
        ".mov": ("prores_ks", "yuv444p10le", {"profile": "4444"}),
        ".mp4": ("libx264", "yuv420p", {"crf": "14"}),
        ".mkv": ("ffv1", "gbrp16le", {"level": "3"}),
    }

    def __init__(self, path: Path, size_wh: tuple[int, int], rate: Fraction) -> None:
        if path.suffix not in self.CODECS:
            raise RenderError(f"{path.name}: movies are written as {', '.join(self.CODECS)}.")
        codec, pixel_format, options = self.CODECS[path.suffix]
        self._path = path
        if pixel_format == "yuv420p" and (size_wh[0] % 2 or size_wh[1] % 2):
            raise RenderError(
                f"{path.name}: H.264 needs an even width and height, the shot is {size_wh[0]} x {size_wh[1]}."
            )
        with self._said():
            self._whole = WholeFile(path)
        try:
            with self._said():
                # the decoder's library writes through the open file, so that what fails is known
                self._container = av.open(self._whole.file, "w", format=FORMATS[path.suffix])
                self._stream: Any = self._container.add_stream(codec, rate=rate, options=options)
                self._stream.width, self._stream.height = size_wh
                self._stream.pix_fmt = pixel_format
        except RenderError:
            self._whole.drop()
            raise

    def add(self, pixels: NDArray[np.uint16]) -> None:
        """Add one frame, (H, W, 3) uint16 in the movie's colour space."""
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(pixels), format="rgb48le")
        with self._said():
            for packet in self._stream.encode(frame):
                self._container.mux(packet)

    def finish(self) -> None:
        """Write what is held back and give the movie its name."""
        with self._said():
            for packet in self._stream.encode():
                self._container.mux(packet)
            self._container.close()
            self._whole.keep()

    def discard(self) -> None:
        """Throw away what was written so far."""
        with contextlib.suppress(av.FFmpegError, OSError, ValueError):
            self._container.close()
        self._whole.drop()

    @contextlib.contextmanager
    def _said(self) -> Iterator[None]:
        """Turn what the library or the system says into a sentence."""
        try:
            yield
        except (av.FFmpegError, OSError, ValueError) as error:
            words = reason(error, self._path.parent) if isinstance(error, OSError) else str(error)
            raise RenderError(f"{self._path.name} could not be written: {words}.") from error
