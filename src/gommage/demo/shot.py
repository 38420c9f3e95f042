"""Shot 1 of the paper theatre, filmed: camera, lens, shutter, lantern and grain, with everything known."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import Camera, Mapping, Points, Window, around, fitted, from_matrix, then
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.core.picture.writing import write_still
from gommage.demo.filming import (
    FilmedShot,
    Filming,
    filmed,
    finer,
    grain_sigma,
    lay_over,
    maker,
    moments,
    save_frame,
    through_lens,
    with_grain,
)
from gommage.demo.scene import LABEL_CORNERS, OPENING, SHEET, backdrop, label, proscenium, village

__all__ = ["FIRST_FRAME", "FRAMES", "DemoShot", "demo_at", "grain_sigma", "make_demo"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 1280, 720, 72, 1001
FOCAL_PX = 1500.0
SHUTTER_SAMPLES = 5
SHEET_WIDTH_UNITS = 5.2
VERSION = 2
"""Raised when the drawing changes, so that an old shot in the cache is drawn anew."""
SEED = 7
"""Of the grain."""


@dataclass(frozen=True, slots=True)
class Sheet:
    """A painted sheet and where it stands: distance, turn about its vertical middle, width."""

    paint: Callable[[], Picture]
    distance: float
    turn_deg: float
    units: float


BEHIND = (
    Sheet(backdrop, 9.0, 0.0, SHEET_WIDTH_UNITS * 1.75),
    Sheet(village, 6.6, -2.0, SHEET_WIDTH_UNITS * 1.3),
)
FRONT = Sheet(proscenium, 5.0, 7.0, SHEET_WIDTH_UNITS)


@lru_cache(maxsize=4)
def _painted(sheet: Sheet) -> Picture:
    return finer(sheet.paint())


@lru_cache(maxsize=1)
def _label() -> tuple[Picture, Mapping]:
    picture, sheet_from_label = label()
    return finer(picture), sheet_from_label


def _camera(time: float) -> Camera:
    """Return the camera at a time, counted in frames from the first."""
    s = time / (FRAMES - 1)
    ease = s * s * (3 - 2 * s)
    shake = np.array(
        [
            np.sin(time * 0.71 + 0.4) * 0.55 + np.sin(time * 1.93) * 0.25,
            np.sin(time * 0.83 + 2.0) * 0.5 + np.sin(time * 2.21 + 1.0) * 0.22,
            np.sin(time * 0.37 + 1.3) * 0.5,
        ]
    )
    position = np.array([-0.36 + 0.56 * ease, -0.05 + 0.06 * np.sin(s * 3), -0.12 + 0.40 * ease])
    yaw = np.deg2rad(-2.4 + 3.4 * ease + 0.055 * shake[0])
    pitch = np.deg2rad(0.35 * np.sin(s * 4) + 0.055 * shake[1])
    roll = np.deg2rad(-0.5 + 1.1 * s + 0.07 * shake[2])
    return Camera(FOCAL_PX, (WIDTH / 2, HEIGHT / 2), yaw, pitch, roll, position)


def _frame_from_sheet(sheet: Sheet, time: float) -> Mapping:
    """Return the mapping from a sheet's pixels to the frame's at a time."""
    scale = sheet.units / SHEET[0]
    turn = np.deg2rad(sheet.turn_deg)
    across = np.array([np.cos(turn), 0, np.sin(turn)]) * scale
    down = np.array([0, scale, 0])
    corner = np.array([0, 0, sheet.distance]) - across * SHEET[0] / 2 - down * SHEET[1] / 2
    return _camera(time).sees_plane(corner, across, down)


def _lantern(time: float) -> NDArray[np.float32]:
    """Return the light (3,) at a time: it dims by a quarter and turns warmer, with a slight flicker."""
    s = time / (FRAMES - 1)
    flicker = 1 + 0.004 * np.sin(time * 2.3) + 0.003 * np.sin(time * 5.1 + 1)
    return (np.array([1 - 0.21 * s, 1 - 0.25 * s, 1 - 0.33 * s]) * flicker).astype(np.float32)


def _passed(sheet: Sheet, frame: int) -> Mapping:
    """Return the mapping from a sheet to a frame, in the middle of what it passes while the shutter is open."""
    corners = Window.of(*SHEET).corners
    places = [_frame_from_sheet(sheet, moment)(corners) for moment in moments(frame - FIRST_FRAME, SHUTTER_SAMPLES)]
    return from_matrix(fitted(corners, np.mean(places, axis=0)))


def _exposed(time: float) -> tuple[Picture, Picture, Picture]:
    """Return the clean frame, the frame with the label, and the label's matte, before grain."""
    full = Window.of(WIDTH, HEIGHT)
    clean = np.zeros((HEIGHT, WIDTH, 3), np.float32)
    label_seen = label_window(time)
    sticker, sheet_from_label = _label()
    added = np.zeros((label_seen.height, label_seen.width, 3), np.float32)
    matte = np.zeros((HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        picture = np.zeros_like(clean)
        opening = around(_frame_from_sheet(FRONT, moment)(OPENING), 4) & full
        for sheet in BEHIND:
            lay_over(picture[opening.slices], filmed(_painted(sheet), _frame_from_sheet(sheet, moment), opening))
        lay_over(picture, filmed(_painted(FRONT), _frame_from_sheet(FRONT, moment), full))
        layer = filmed(sticker, then(sheet_from_label, _frame_from_sheet(FRONT, moment)), label_seen)
        added += layer[..., :3] - picture[label_seen.slices] * layer[..., 3:]
        clean += picture
        matte[label_seen.slices] += layer[..., 3]
    dirty = clean.copy()
    dirty[label_seen.slices] += added
    light = (_lantern(time) * _vignette() / SHUTTER_SAMPLES).astype(np.float32)
    return (
        through_lens((clean * light).astype(np.float32)),
        through_lens((dirty * light).astype(np.float32)),
        through_lens((matte / SHUTTER_SAMPLES).astype(np.float32)),
    )


def label_window(time: float) -> Window:
    """Return a window around the label at a time, with room for its shadow and the lens."""
    corners = _frame_from_sheet(FRONT, time)(LABEL_CORNERS)
    return around(corners, 28) & Window.of(WIDTH, HEIGHT)


@lru_cache(maxsize=1)
def _vignette() -> Picture:
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    radius = ((x - WIDTH * 0.52) / WIDTH) ** 2 + ((y - HEIGHT * 0.45) / HEIGHT) ** 2
    return (1.38 - 0.74 * radius)[..., None]


@dataclass(frozen=True, slots=True)
class DemoShot(FilmedShot):
    """Where shot 1 is on disk, and the truth about it. Adds ``matte/``."""

    filming = Filming("theatre", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def matte(self, frame: int) -> Picture:
        """Return the label's matte (H, W)."""
        return read_picture(self.folder / "matte" / f"matte.{frame}.png", SCENE_LINEAR)[..., 0]

    @staticmethod
    def motion(frame: int, home_frame: int) -> Mapping:
        """Return the proscenium's true motion, home to frame."""
        return then(DemoShot.sheet_to_frame(home_frame).inverse(), DemoShot.sheet_to_frame(frame))

    @staticmethod
    def village_motion(frame: int, home_frame: int) -> Mapping:
        """Return the village's true motion, home to frame; it stands behind the proscenium."""
        return then(_passed(BEHIND[1], home_frame).inverse(), _passed(BEHIND[1], frame))

    @staticmethod
    def sheet_to_frame(frame: int) -> Mapping:
        """Return the true mapping from the proscenium's sheet to a frame."""
        return _passed(FRONT, frame)

    @staticmethod
    def label_corners(frame: int) -> Points:
        """Return the label's true corners (4, 2) on a frame."""
        return DemoShot.sheet_to_frame(frame)(LABEL_CORNERS)

    @staticmethod
    def column_corners(frame: int) -> Points:
        """Return the corners (4, 2) of the column that carries the label, where it is well drawn."""
        corners = np.array([[290, 340], [500, 340], [500, 790], [290, 790.0]])
        return DemoShot.sheet_to_frame(frame)(corners)


def _draw(folder: Path, frame: int) -> int:
    clean, dirty, matte = _exposed(frame - FIRST_FRAME)
    save_frame(folder, frame, "theatre", plate=with_grain(dirty, (SEED, frame)), clean=clean)
    grey = np.repeat((np.clip(matte, 0, 1) * 65535 + 0.5).astype(np.uint16)[..., None], 3, axis=2)
    write_still(folder / "matte" / f"matte.{frame}.png", grey, bits=16)
    return frame


def demo_at(root: Path) -> DemoShot:
    """Return the demo shot that is, or is being, drawn into a folder."""
    return DemoShot(root / f"theatre-{VERSION}")


make_demo = maker(demo_at, VERSION, _draw, ("plate", "clean", "matte"))
"""Draws it, see `filming.maker`."""
