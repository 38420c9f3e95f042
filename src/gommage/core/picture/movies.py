"""Footage that is a movie, read by PyAV."""

from __future__ import annotations

import threading
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from gommage.core.document import Footage
from gommage.core.document.soundness import LARGEST_SIDE, MOST_FRAMES
from gommage.core.picture.raw import Check, RawFrame, believed, refuse_too_large, refuse_what_is_no_file
from gommage.errors import FootageError, FrameMissingError

__all__ = ["MoviePlates", "frame_times", "opened_movie", "rate_of"]

CONTAINERS = (
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mxf,mpegts,mpeg,mpegvideo,asf,flv,ogg,dv,gxf,nut,ivf,m4v,h264,hevc,"
    "mjpeg,yuv4mpegpipe"
)
"""Files that hold their pictures themselves. Playlists, which make the decoder open what they name, are not in it."""
LOOK_EVERY = 256
ALPHA_FORMATS = ("yuva", "rgba", "bgra", "argb", "abgr", "gbrap", "ya")
BYTES_A_PIXEL = 6 + 12 + 8
"""Of a decoded frame: as 16-bit colour, as the working picture, as the decoder holds it."""


def opened_movie(path: Path) -> Any:
    """Open a movie that has video of a codec that is known.

    Raises
    ------
    FootageError
        If it is none.
    """
    refuse_what_is_no_file(path)
    try:
        options = {"format_whitelist": CONTAINERS, "protocol_whitelist": "file"}
        container = av.open(f"file:{path.absolute()}", options=options)
    except (av.FFmpegError, OSError, ValueError) as error:
        raise FootageError(f"{path.name} is neither a picture nor a movie that can be read.", str(path)) from error
    try:
        with believed(path):
            _refuse_what_cannot_be_shown(container, path)
    except FootageError:
        container.close()
        raise
    return container


def _refuse_what_cannot_be_shown(container: Any, path: Path) -> None:
    if not container.streams.video:
        raise FootageError(f"{path.name} has no video in it.", str(path))
    context = container.streams.video[0].codec_context
    if context is None:
        raise FootageError(f"{path.name} has video of a codec that is not known here.", str(path))
    if not (0 < context.width <= LARGEST_SIDE and 0 < context.height <= LARGEST_SIDE):
        raise FootageError(f"{path.name} holds no video frames.", str(path))
    refuse_too_large(path, context.width * context.height * BYTES_A_PIXEL)


def frame_times(container: Any, path: Path, check: Check = lambda: None) -> list[int]:
    """Return the presentation times of all frames, in order, without decoding.

    Raises
    ------
    FootageError
        If there are more than a shot can have.
    """
    times: set[int] = set()
    try:
        for count, packet in enumerate(container.demux(video=0)):
            if count % LOOK_EVERY == 0:
                check()
            if packet.pts is not None and packet.size:
                times.add(packet.pts)
            if len(times) > MOST_FRAMES:
                raise FootageError(f"{path.name} has more than {MOST_FRAMES} frames, too many for a shot.", str(path))
    except (av.FFmpegError, OSError, ValueError):
        pass  # the file is cut off: what came before is good
    return sorted(times)


def rate_of(stream: Any) -> tuple[int, int]:
    """Return frames per second as a movie says them."""
    rate = Fraction(stream.average_rate or stream.guessed_rate or 24).limit_denominator(100_000)
    return rate.numerator, rate.denominator


class MoviePlates:
    """Frames of a movie, numbered from 1. One decoder, guarded by a lock; forward reads need no seek."""

    def __init__(self, footage: Footage, check: Check = lambda: None) -> None:
        self._path, self._footage = Path(footage.path), footage
        self._lock = threading.Lock()
        with opened_movie(self._path) as container:
            self._times = frame_times(container, self._path, check)
        self._container = opened_movie(self._path)
        self._frames: Any = None
        self._next = -1

    def file_of(self, frame: int) -> str:
        """Return the movie's path."""
        return str(self._path)

    def share_read(self, frame: int) -> float | None:
        """Return nothing: frames of movies are not that large."""
        return None

    def read(self, frame: int, check: Check = lambda: None) -> RawFrame:
        """Return a frame, decoded to 16-bit RGB; see `Plates`."""
        if not 1 <= frame <= len(self._times):
            raise FrameMissingError(
                f"Frame {frame} is missing: {self._path.name} ends at {len(self._times)}.",
                str(self._path),
                frame,
            )
        with self._lock:
            decoded = self._decode(frame, check)
        with believed(self._path):
            has_alpha = self._footage.keep_alpha and decoded.format.name.startswith(ALPHA_FORMATS)
            stored = decoded.to_ndarray(format="rgba64le" if has_alpha else "rgb48le")
            pixels = np.ascontiguousarray(stored[..., :3])
        height, width = pixels.shape[:2]
        if (width, height) != (self._footage.width, self._footage.height):
            raise FootageError(
                f"Frame {frame} of {self._path.name} is {width} x {height}, the shot is "
                f"{self._footage.width} x {self._footage.height}.",
                str(self._path),
            )
        return RawFrame(pixels, stored[..., 3].copy() if has_alpha else None, {}, 8, is_straight=has_alpha)

    def _decode(self, frame: int, check: Check) -> Any:
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
        except (av.FFmpegError, OSError, ValueError) as error:
            self._frames = None
            raise FootageError(f"Frame {frame} of {self._path.name} is damaged.", str(self._path)) from error
        self._frames = None
        raise FootageError(f"Frame {frame} of {self._path.name} could not be decoded.", str(self._path))
