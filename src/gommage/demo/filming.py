"""Filming painted sheets: what a camera sees of them, grain, lens, and drawing many frames at once."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from typing import Any, ClassVar, TypeVar

import cv2
import numpy as np
from filelock import FileLock, Timeout
from numba import njit
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR, Footage, FrameRange
from gommage.core.geometry import Mapping, Matrix, Window, shift, then
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.core.picture.writing import write_still

__all__ = [
    "FINER",
    "FilmedShot",
    "Filming",
    "SHUTTER",
    "draw_frames",
    "filmed",
    "finer",
    "grain_sigma",
    "lay_over",
    "maker",
    "moments",
    "through_lens",
    "with_grain",
    "save_frame",
]

ASK_EVERY_S = 0.03
DONE = "done.json"
"""Notes which frames of a shot are drawn."""
SHUTTER = 0.5
LENS_SIGMA_PX = 0.75
GRAIN_SIGMA_PX = 0.55
GRAIN_FLOOR = np.array([0.0022, 0.0020, 0.0028], np.float32)
GRAIN_SLOPE = np.array([0.00016, 0.00013, 0.00022], np.float32)
FINER = 2


def moments(time: float, samples: int) -> NDArray[np.float64]:
    """Return the times at which a frame is exposed."""
    return time + (np.arange(samples) - (samples - 1) / 2) / samples * SHUTTER


def save_frame(
    folder: Path, frame: int, name: str, attributes: dict[str, Any] | None = None, **pictures: Picture
) -> None:
    """Write pictures of a frame, each into a folder of its own, in half float; the ``plate`` is named after the shot.

    Plates and clean pictures are not compressed, since they are read again and again; mattes are.
    """
    for kind, pixels in pictures.items():
        path = folder / kind / f"{name if kind == 'plate' else kind}.{frame}.exr"
        colours = np.repeat(pixels[..., None], 3, axis=2) if pixels.ndim == 2 else pixels
        own = {"FramesPerSecond": (24, 1)} | (attributes or {}) if kind == "plate" else None
        compression = "none" if kind in ("plate", "clean") else "zip:1"
        write_still(path, colours.astype(np.float16), bits=16, compression=compression, attributes=own)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def lay_over(below: Picture, rgba: Picture) -> None:
    """Composite premultiplied colour over a picture, in place."""
    for row in range(below.shape[0]):
        for column in range(below.shape[1]):
            keep = np.float32(1) - rgba[row, column, 3]
            for c in range(3):
                below[row, column, c] = below[row, column, c] * keep + rgba[row, column, c]


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _film(rgba: Picture, to_sheet: Matrix, out: Picture) -> None:
    """Set each pixel of a window (h, w, 4) to the sheet (H, W, 4) where it sees it, between four of its pixels."""
    height, width = rgba.shape[:2]
    for row in range(out.shape[0]):
        y = row + 0.5
        for column in range(out.shape[1]):
            x = column + 0.5
            w = to_sheet[2, 0] * x + to_sheet[2, 1] * y + to_sheet[2, 2]
            u = (to_sheet[0, 0] * x + to_sheet[0, 1] * y + to_sheet[0, 2]) / w - 0.5
            v = (to_sheet[1, 0] * x + to_sheet[1, 1] * y + to_sheet[1, 2]) / w - 0.5
            if not (w > 0 and 0 <= u < width - 1 and 0 <= v < height - 1):
                continue
            i, j = int(u), int(v)
            s, t = np.float32(u - i), np.float32(v - j)
            one = np.float32(1)
            for c in range(4):
                above = rgba[j, i, c] * (one - s) + rgba[j, i + 1, c] * s
                below = rgba[j + 1, i, c] * (one - s) + rgba[j + 1, i + 1, c] * s
                out[row, column, c] = above * (one - t) + below * t


def filmed(rgba: Picture, frame_from_sheet: Mapping, window: Window) -> Picture:
    """Return a finely drawn sheet as a window sees it: (h, w, 4).

    Not by OpenCV's warp, which rounds places to 1/32 px: that alone would move the truth by 0.02 px.
    """
    to_sheet = then(frame_from_sheet, shift(-window.left, -window.top)).inverse().matrix
    assert to_sheet is not None
    out = np.zeros((window.height, window.width, 4), np.float32)
    _film(rgba, np.diag([FINER, FINER, 1.0]) @ to_sheet, out)
    return out


def finer(rgba: Picture) -> Picture:
    """Return a sheet drawn more finely: what lies straight between its pixels is then as good as smooth."""
    return cv2.resize(rgba, None, fx=FINER, fy=FINER, interpolation=cv2.INTER_CUBIC)


def through_lens(picture: Picture) -> Picture:
    """Return a picture as soft as the lens makes it."""
    return cv2.GaussianBlur(picture, (0, 0), LENS_SIGMA_PX)


def grain_sigma(level: Picture) -> Picture:
    """Return the deviation of the shots' grain at scene-linear levels (..., 3)."""
    return np.sqrt(GRAIN_FLOOR**2 + GRAIN_SLOPE * np.maximum(level, 0))


def with_grain(picture: Picture, seed: tuple[int, int]) -> Picture:
    """Return a picture (H, W, 3) with the grain of a seed."""
    white = np.random.default_rng(seed).standard_normal(picture.shape, dtype=np.float32)
    soft = cv2.GaussianBlur(white, (0, 0), GRAIN_SIGMA_PX)
    return picture + soft / soft.std() * grain_sigma(picture)


@dataclass(frozen=True, slots=True)
class Filming:
    """How a shot is filmed.

    Attributes
    ----------
    name : str
        Of its numbered pictures.
    width, height, first_frame, frames : int
    seed : int
        Of its grain.
    """

    name: str
    width: int
    height: int
    first_frame: int
    frames: int
    seed: int

    @property
    def numbers(self) -> range:
        """The numbers of its frames."""
        return range(self.first_frame, self.first_frame + self.frames)


@dataclass(frozen=True, slots=True)
class FilmedShot:
    """Where a shot is on disk, and the truth about it.

    Attributes
    ----------
    folder : Path
        Holds ``plate/``, ``clean/`` (without grain) and what the shot adds.
    part : range or None
        Its frames, where it is made of a part of those that were filmed; others between them are missing.
    """

    folder: Path
    part: range | None = None
    filming: ClassVar[Filming]

    @property
    def numbers(self) -> range:
        """The numbers of its frames."""
        return self.filming.numbers if self.part is None else self.part

    @property
    def plate_path(self) -> Path:
        """The first picture of the plate, to open as footage."""
        return self.folder / "plate" / f"{self.filming.name}.{self.numbers[0]}.exr"

    @property
    def footage(self) -> Footage:
        """The plate as footage of a project."""
        numbers = self.numbers
        return Footage(
            path=str(self.folder / "plate" / f"{self.filming.name}.####.exr"),
            frames=FrameRange(first=numbers[0], last=numbers[-1]),
            missing=tuple(sorted({*range(numbers[0], numbers[-1])} - {*numbers})),
            width=self.filming.width,
            height=self.filming.height,
            colour_space=SCENE_LINEAR,
        )

    def clean(self, frame: int, *, grain: bool = True) -> Picture:
        """Return the shot as it would be without what has to go; with the very grain of the plate, or with none."""
        picture = read_picture(self.folder / "clean" / f"clean.{frame}.exr", SCENE_LINEAR)
        return with_grain(picture, (self.filming.seed, frame)) if grain else picture


Shot = TypeVar("Shot", bound=FilmedShot)


def _one_thread() -> None:
    cv2.setNumThreads(1)


def draw_frames(
    folder: Path,
    frames: range,
    version: int,
    draw: Callable[[Path, int], int],
    folders: tuple[str, ...],
    progress: Callable[[float], None] = lambda share: None,
    check: Callable[[], None] = lambda: None,
    processes: int = 2,
) -> None:
    """Draw frames of a shot into a folder, those that are not there already.

    Who else draws the same shot, in whichever process, waits, and then finds what was drawn.

    Parameters
    ----------
    folder : Path
    frames : range
    version : int
        Noted beside the pictures.
    draw : callable
        Draws one frame into the folder. A function of a module: it is done in other processes.
    folders : tuple of str
        What it writes to.
    progress : callable
        Called with the share that is done, 0 to 1.
    check : callable
        Called between frames, and while another draws; may raise `Cancelled`.
    processes : int
        Frames drawn at once; 0 draws in this process.

    Raises
    ------
    RenderError, OSError
        If the folder cannot be written.
    """
    for name in folders:
        (folder / name).mkdir(parents=True, exist_ok=True)
    with _alone_in(folder, check):
        drawn = _drawn(folder)
        wanted = [frame for frame in frames if frame not in drawn]
        for count, frame in enumerate(_each_drawn(partial(draw, folder), wanted, check, processes), 1):
            drawn.add(frame)
            (folder / DONE).write_text(json.dumps({"version": version, "drawn": sorted(drawn)}))
            progress(count / len(wanted))
    progress(1.0)


@contextmanager
def _alone_in(folder: Path, check: Callable[[], None]) -> Iterator[None]:
    """Hold a folder for this process alone; its end, however it comes, lets it go."""
    lock = FileLock(folder / "drawing.lock")
    while True:
        check()
        try:
            lock.acquire(timeout=ASK_EVERY_S)
        except Timeout:
            continue
        break
    try:
        yield
    finally:
        lock.release()


def _drawn(folder: Path) -> set[int]:
    """Return which frames are noted as drawn; none where the note was cut off, or is of another kind."""
    try:
        return set(json.loads((folder / DONE).read_text())["drawn"])
    except (FileNotFoundError, ValueError, KeyError):
        return set()


def _each_drawn(
    draw: Callable[[int], int], frames: list[int], check: Callable[[], None], processes: int
) -> Iterator[int]:
    """Draw frames, and give the number of each as it is there."""
    if not processes:
        for frame in frames:
            check()
            yield draw(frame)
    elif frames:
        with get_context("spawn").Pool(processes, _one_thread) as pool:  # left early, it ends its processes at once
            for one in [pool.apply_async(draw, (frame,)) for frame in frames]:
                while not one.ready():
                    check()
                    one.wait(ASK_EVERY_S)
                yield one.get()


def maker(
    at: Callable[[Path], Shot], version: int, draw: Callable[[Path, int], int], folders: tuple[str, ...]
) -> Callable[..., Shot]:
    """Return what draws a shot into a folder of the user's cache, unless it is there; see `draw_frames`.

    What is returned takes the folder, and `progress`, `check` and `processes` of `draw_frames`, and gives the shot.
    With `part`, a range of frames, the shot has those alone.
    """

    def make(
        root: Path,
        progress: Callable[[float], None] = lambda share: None,
        check: Callable[[], None] = lambda: None,
        processes: int = 2,
        part: range | None = None,
    ) -> Shot:
        shot = replace(at(root), part=part)
        draw_frames(shot.folder, shot.numbers, version, draw, folders, progress, check, processes)
        return shot

    return make
