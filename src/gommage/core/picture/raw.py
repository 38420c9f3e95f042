"""A frame as its file holds it, and what every reader of files asks before it believes one."""

from __future__ import annotations

import contextlib
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import av
import numpy as np
from numpy.typing import NDArray

from gommage.core.disk import reason
from gommage.errors import FootageError

__all__ = ["Plates", "RawFrame", "believed", "refuse_too_large", "refuse_what_is_no_file", "sane_aspect", "sane_rate"]

Check = Callable[[], None]
PLAIN_RATE = (24, 1)
FASTEST = 1000
SHARE_OF_MEMORY = 0.8


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
    is_straight : bool
        Whether colours are stored whole, not times their alpha.
    """

    pixels: NDArray[np.generic]
    alpha: NDArray[np.generic] | None
    attributes: dict[str, Any]
    bits: int
    is_straight: bool = False


class Plates(Protocol):
    """Frames of one footage. May be called from any thread."""

    def read(self, frame: int, check: Check = lambda: None) -> RawFrame:
        """Return a frame as stored; `FrameMissingError` for a gap, `FootageError` if it cannot be read."""
        ...

    def file_of(self, frame: int) -> str:
        """Return the path that holds a frame."""
        ...

    def share_read(self, frame: int) -> float | None:
        """Return how much of a frame has been read, 0 to 1; None while it is not being read."""
        ...


def refuse_what_is_no_file(path: Path) -> None:
    """Refuse what cannot be opened without waiting: pipes, devices, what is not there, names that are not text.

    Raises
    ------
    FootageError
    """
    try:
        str(path).encode()
        mode = path.stat().st_mode
    except UnicodeEncodeError as error:
        words = "has a name that is not UTF-8 text, or lies in a folder that has; rename it"
        raise FootageError(f"{_legible(path.name)} {words}.", _legible(str(path))) from error
    except FileNotFoundError as error:
        raise FootageError(f"{path} is not there. Was it moved or renamed?", str(path)) from error
    except (OSError, ValueError) as error:
        words = reason(error, path.parent) if isinstance(error, OSError) else "its name cannot be used"
        raise FootageError(f"{_legible(path.name)} could not be opened: {words}.", str(path)) from error
    if not stat.S_ISREG(mode):
        raise FootageError(f"{path.name} is a pipe or a device, not a file.", str(path))


def _legible(name: str) -> str:
    return name.encode(errors="replace").decode()


def refuse_too_large(path: Path, needed_bytes: float) -> None:
    """Refuse a picture that there is no memory for, before the system has to end somebody.

    Raises
    ------
    FootageError
    """
    free = _free_memory()
    if needed_bytes > SHARE_OF_MEMORY * free:
        raise FootageError(
            f"{path.name} needs {needed_bytes / 2**30:.1f} GB of memory, and {free / 2**30:.1f} GB are free.", str(path)
        )


def _free_memory() -> float:
    with contextlib.suppress(OSError, ValueError, IndexError), open("/proc/meminfo", encoding="ascii") as lines:
        for line in lines:
            if line.startswith("MemAvailable:"):
                return float(line.split()[1]) * 1024
    return float("inf")


@contextlib.contextmanager
def believed(path: Path) -> Iterator[None]:
    """Turn whatever a library says about a damaged file into one sentence.

    Raises
    ------
    FootageError
    """
    try:
        yield
    except (av.FFmpegError, UnicodeError) as error:
        raise FootageError(f"{path.name} is damaged, or of a kind that cannot be read.", str(path)) from error
    except MemoryError as error:
        raise FootageError(f"There is not enough memory to read {path.name}.", str(path)) from error
    except OSError as error:
        raise FootageError(f"{path.name} could not be read: {reason(error, path.parent)}.", str(path)) from error
    except (ValueError, TypeError, AttributeError, LookupError, ArithmeticError, RuntimeError) as error:
        raise FootageError(f"{path.name} is damaged, or of a kind that cannot be read.", str(path)) from error


def sane_aspect(value: object) -> float:
    """Return the width of a pixel over its height as a file says it; 1 if that cannot be."""
    aspect = float(value) if isinstance(value, int | float) else 1.0
    return aspect if 0.1 < aspect < 10 else 1.0


def sane_rate(value: object) -> tuple[int, int]:
    """Return frames per second as a file says them, as numerator and denominator; 24 if that cannot be."""
    if not (isinstance(value, tuple) and len(value) == 2 and all(isinstance(one, int | float) for one in value)):
        return PLAIN_RATE
    above, below = value
    if not (0 < above <= 100_000 and 0 < below <= 100_000 and above / below <= FASTEST):
        return PLAIN_RATE
    whole = max(round(above), 1), max(round(below), 1)
    return whole if whole[0] / whole[1] <= FASTEST else PLAIN_RATE
