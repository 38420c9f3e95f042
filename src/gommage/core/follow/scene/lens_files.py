"""Lenses as files, to solve other shots with."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np

from gommage.core.disk import read_file, reason, write_whole
from gommage.core.geometry import Lens
from gommage.errors import FollowError

__all__ = ["read_lens", "write_lens"]

FORMAT = "gommage-lens"
LARGEST_BYTES = 65536


class _LensFile(msgspec.Struct, frozen=True):
    """A lens, with the size of the pictures that it was solved for."""

    format: str
    lens: Lens
    width: int
    height: int


def write_lens(path: Path, lens: Lens, size_wh: tuple[int, int]) -> None:
    """Write a lens as JSON, with the size of the pictures that it is of.

    Raises
    ------
    FollowError
        If the file cannot be written.
    """
    held = _LensFile(FORMAT, lens, *size_wh)
    try:
        write_whole(path, msgspec.json.format(msgspec.json.encode(held), indent=2))
    except OSError as error:
        raise FollowError(f"{path.name} could not be written: {reason(error, path)}.") from error


def read_lens(path: Path, width: int) -> Lens:
    """Return the lens of a file, for pictures so many pixels wide.

    Raises
    ------
    FollowError
        If the file cannot be read, or holds no lens.
    """
    try:
        held = msgspec.json.decode(read_file(path, LARGEST_BYTES), type=_LensFile)
    except OSError as error:
        raise FollowError(f"{path.name} could not be read: {reason(error, path)}.") from error
    except msgspec.MsgspecError as error:
        raise FollowError(f"{path.name} holds no lens that Gommage wrote.") from error
    if held.format != FORMAT or held.width < 1 or held.lens.focal_px < 1 or not np.isfinite(held.lens.numbers).all():
        raise FollowError(f"{path.name} holds no lens that Gommage wrote.")
    return held.lens.scaled(width / held.width)
