"""Shot 7 of the paper theatre: strings across a puppet's face, its glasses and the sky, while the camera drifts."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import Camera, Mapping, Points, Window, then
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.demo.crosses import PUPPET_SIZE, SKY_SIZE, puppet_head, sky_sheet
from gommage.demo.filming import (
    FilmedShot,
    Filming,
    filmed,
    finer,
    lay_over,
    maker,
    moments,
    save_frame,
    through_lens,
    with_grain,
)

__all__ = ["STRINGS", "StringsShot", "make_strings", "string_line", "strings_at"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 60, 1001
FOCAL_PX, SHUTTER_SAMPLES, VERSION, SEED = 1100.0, 3, 1, 47
STRINGS = ((300.0, 372.0, 2.4), (452.0, 470.0, 1.8), (640.0, 560.0, 2.4))
"""Where each crosses the upper border and the lower one, and how wide it is, in pixels of the first frame."""
SKY, PUPPET = (SKY_SIZE, 10.4, (0.0, 0.1, 9.0)), (PUPPET_SIZE, 2.5, (-0.05, 0.1, 5.4))
"""Sheets: their size in pixels, how wide they are, where their middle is."""
STRING_LEVEL = np.array([0.035, 0.03, 0.028], np.float32)


def _camera(time: float) -> Camera:
    s = time / (FRAMES - 1)
    yaw, pitch = np.deg2rad(-0.9 + 1.9 * s), np.deg2rad(0.3 * np.sin(3 * s))
    position = np.array([-0.12 + 0.24 * s, 0.03 * np.sin(2.2 * s), 0.1 * s])
    return Camera(FOCAL_PX, (WIDTH / 2, HEIGHT / 2), yaw, pitch, np.deg2rad(0.15 * np.sin(time * 0.13)), position)


def _sees(time: float, size: tuple[int, int], units: float, middle: tuple[float, float, float]) -> Mapping:
    across, down = np.array([units / size[0], 0, 0]), np.array([0, units / size[0], 0])
    corner = np.array(middle) - across * size[0] / 2 - down * size[1] / 2
    return _camera(time).sees_plane(corner, across, down)


@lru_cache(maxsize=1)
def _sheets() -> tuple[Picture, Picture]:
    return finer(sky_sheet()), finer(puppet_head())


def string_line(index: int, frame: float) -> Points:
    """Return where a string is on a frame, from the top down: (N, 2). It sways a little, and bends."""
    above, below, _ = STRINGS[index]
    time = frame - FIRST_FRAME
    y = np.linspace(-8, HEIGHT + 8, 60)
    u = np.clip(y / HEIGHT, -0.05, 1.05)
    sway = 7 * np.sin(0.13 * time + 1.7 * index) * u + 2.5 * np.sin(0.31 * time + index)
    bow = (9 + 2 * np.sin(0.21 * time)) * (1 if index % 2 else -1) * 4 * u * (1 - u)
    return np.column_stack([above + (below - above) * u - 0.9 * time + sway + bow, y])


def _strings(time: float) -> Picture:
    """Return how far strings cover each pixel: (H, W)."""
    fine, out = 4, np.zeros((HEIGHT, WIDTH), np.float32)
    for index, (_, _, wide) in enumerate(STRINGS):
        mask = np.zeros((HEIGHT * fine, WIDTH * fine), np.uint8)
        at = np.round((string_line(index, FIRST_FRAME + time) * fine - 0.5) * 16).astype(np.int32)
        cv2.polylines(mask, [at], False, 255, round(wide * fine), cv2.LINE_AA, 4)
        covered = cv2.resize(mask, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
        np.maximum(out, covered, out=out)
    return out


def _exposed(time: float) -> tuple[Picture, Picture, Picture]:
    """Return the clean frame, the frame with strings, and how far these cover it, before grain."""
    full = Window.of(WIDTH, HEIGHT)
    sky, head = _sheets()
    clean, dirty = (np.zeros((HEIGHT, WIDTH, 3), np.float32) for _ in range(2))
    soft = np.zeros((HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        picture = np.ascontiguousarray(filmed(sky, _sees(moment, *SKY), full)[..., :3])
        lay_over(picture, filmed(head, _sees(moment, *PUPPET), full))
        covered = _strings(moment)
        clean += picture / SHUTTER_SAMPLES
        dirty += (picture + (STRING_LEVEL - picture) * covered[..., None]) / SHUTTER_SAMPLES
        soft += covered / SHUTTER_SAMPLES
    return through_lens(clean), through_lens(dirty), cv2.GaussianBlur(soft, (0, 0), 0.75)


@dataclass(frozen=True, slots=True)
class StringsShot(FilmedShot):
    """Where shot 7 is on disk, and the truth about it. Adds ``strings/``."""

    filming = Filming("strings", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def matte(self, frame: int) -> Picture:
        """Return how far strings cover a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "strings" / f"strings.{frame}.exr", SCENE_LINEAR)[..., 0]

    @staticmethod
    def planes(frame: int, other: int) -> list[tuple[Mapping, Picture | None]]:
        """Return the true motions of sky and head to another frame, and where the head is seen."""
        here, there = frame - FIRST_FRAME, other - FIRST_FRAME
        sky, head = (
            then(_sees(here, size, units, middle).inverse(), _sees(there, size, units, middle))
            for size, units, middle in (SKY, PUPPET)
        )
        seen = np.ascontiguousarray(filmed(_sheets()[1], _sees(here, *PUPPET), Window.of(WIDTH, HEIGHT))[..., 3])
        return [(sky, None), (head, seen)]


def _draw(folder: Path, frame: int) -> int:
    clean, dirty, covered = _exposed(frame - FIRST_FRAME)
    save_frame(folder, frame, "strings", plate=with_grain(dirty, (SEED, frame)), clean=clean, strings=covered)
    return frame


def strings_at(root: Path) -> StringsShot:
    """Return shot 7 as it is, or is being, drawn into a folder."""
    return StringsShot(root / f"strings-{VERSION}")


make_strings = maker(strings_at, VERSION, _draw, ("plate", "clean", "strings"))
"""Draws it, see `filming.maker`."""
