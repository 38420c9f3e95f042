"""Mattes from files: a channel of numbered pictures or of a movie, and how their numbers lie against the shot's."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Footage, FrameRange
from gommage.core.picture import Picture, Plates, RawFrame, open_plates, probe
from gommage.errors import FootageError

__all__ = ["CHANNELS", "Numbering", "OpenedMatte", "channels_in", "matte_picture", "numbering", "open_matte"]

CHANNELS = ("A", "R", "G", "B", "L")
"""Alpha, red, green, blue, and what is seen of the three together."""
SHAPE_TOLERANCE = 0.01
"""So much the proportions of a matte may differ from the shot's."""
SURE = 0.25
"""So much better than any other a numbering has to fit for it to be taken without being asked for."""
Check = Callable[[], None]


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class OpenedMatte:
    """The file, or the files, of a matte."""

    footage: Footage
    plates: Plates
    has_alpha: bool


def open_matte(path: str, check: Check = _never) -> OpenedMatte:
    """Open the file of a matte.

    Parameters
    ----------
    path : str
        A movie, a still, any file of a numbered sequence, or its pattern with ``#`` for the digits.

    Raises
    ------
    FootageError
        If there is nothing that could be read.
    """
    place = Path(path)
    if "#" in place.name:
        digits = re.compile(re.sub(r"(?:\\#)+", r"\\d+", re.escape(place.name)))
        there = sorted(one for one in _listed(place.parent) if digits.fullmatch(one.name))
        if not there:
            raise FootageError(f"{place.name} is not there. Was the matte moved or renamed?", path)
        place = there[0]
    found = probe(place, check)
    return OpenedMatte(found.footage, open_plates(found.footage, check), found.has_alpha)


def _listed(folder: Path) -> list[Path]:
    try:
        return list(folder.iterdir())
    except OSError:
        return []


def channels_in(opened: OpenedMatte) -> tuple[str, ...]:
    """Return the channels that can be used of a matte's file."""
    return CHANNELS if opened.has_alpha else CHANNELS[1:]


def matte_picture(
    opened: OpenedMatte, channel: str, frame: int, size_wh: tuple[int, int], check: Check = _never
) -> Picture:
    """Return a channel as a matte, (H, W) float32 from 0 to 1, as large as the shot; 0 beyond the file's frames.

    A single still is the same on all frames.

    Raises
    ------
    FootageError
        If it cannot be read, has no such channel, or is of other proportions than the shot.
    """
    import cv2

    footage, name = opened.footage, Path(opened.footage.path).name
    wide, high = size_wh
    if abs(footage.width / footage.height / (wide / high) - 1) > SHAPE_TOLERANCE:
        words = f"{name} is {footage.width} x {footage.height}; the shot is {wide} x {high} and of other proportions."
        raise FootageError(words, footage.path)
    if len(footage.frames) == 1 and "#" not in name:
        frame = footage.frames.first
    if frame not in footage.frames:
        return np.zeros((high, wide), np.float32)
    pixels = _channel(opened.plates.read(frame, check), channel, name)
    if pixels.shape != (high, wide):
        shrinks = pixels.shape[0] > high
        pixels = cv2.resize(pixels, size_wh, interpolation=cv2.INTER_AREA if shrinks else cv2.INTER_LINEAR)
    return pixels


def _channel(raw: RawFrame, channel: str, name: str) -> Picture:
    if channel == "A":
        if raw.alpha is None:
            raise FootageError(f"{name} has no alpha; choose another channel of it.", name)
        chosen = raw.alpha
    elif channel in ("R", "G", "B"):
        chosen = raw.pixels[..., "RGB".index(channel)]
    else:
        chosen = raw.pixels.mean(axis=2)
    whole = {"uint8": 255.0, "uint16": 65535.0}.get(raw.pixels.dtype.name, 1.0)
    out = np.asarray(chosen, np.float32) / np.float32(whole)
    return np.clip(np.nan_to_num(out, nan=0.0), 0, 1)


# -- numbers ------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Numbering:
    """How a file's frame numbers lie against a shot's: the file's is the shot's plus an offset.

    `is_sure` is false where it should be set by eye; `why` says how it was found.
    """

    offset: int
    is_sure: bool
    why: str


def numbering(
    shot: FrameRange, file: FrameRange, plate_motion: Mapping[int, NDArray[np.float32]],
    matte_motion: Mapping[int, NDArray[np.float32]],
) -> Numbering:  # fmt: skip
    """Return how a matte's frames lie against a shot's.

    Equal numbers are taken as they are, equal counts laid one on the other. Else the offset is taken at which the
    matte changes where and when the picture does.

    Parameters
    ----------
    shot, file : FrameRange
    plate_motion, matte_motion : mapping of int to (h, w) float32
        For frames, by how much small pictures differ from those of the frame before; see `motion_of`.
    """
    if len(file) == 1:
        return Numbering(0, is_sure=True, why="one picture for all frames")
    if (file.first, file.last) == (shot.first, shot.last):
        return Numbering(0, is_sure=True, why="the numbers are the same")
    if len(file) == len(shot):
        return Numbering(file.first - shot.first, is_sure=True, why="as many frames as the shot")
    scores = {}
    for offset in range(file.first - shot.last + 1, file.last - shot.first):
        pairs = [(plate_motion[at], matte_motion[at + offset]) for at in plate_motion if at + offset in matte_motion]
        if len(pairs) >= max(min(len(plate_motion), len(matte_motion)) // 2, 2):
            scores[offset] = float(np.mean([_alike(one, other) for one, other in pairs]))
    plain = file.first - shot.first if not (file.first in shot or file.last in shot) else 0
    if not scores:
        return Numbering(plain, is_sure=False, why="too few frames in common to compare")
    best = max(scores, key=lambda one: scores[one])
    others = max((score for offset, score in scores.items() if offset != best), default=0.0)
    is_sure = scores[best] > 0.1 and scores[best] > others * (1 + SURE)
    return Numbering(best, is_sure, f"it changes where the picture does ({scores[best]:.2f}, next {others:.2f})")


def _alike(one: NDArray[np.float32], other: NDArray[np.float32]) -> float:
    a, b = one - one.mean(), other - other.mean()
    power = float((a * a).sum() * (b * b).sum())
    return float((a * b).sum()) / np.sqrt(power) if power > 1e-12 else 0.0
