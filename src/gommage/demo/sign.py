"""Shot 8 of the paper theatre: a sign on a painted brick wall in perspective, that is never lifted."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Camera, Mapping, Points, Window, then
from gommage.core.picture import Picture
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
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise

__all__ = ["SIGN", "WALL", "SignShot", "make_sign", "sign_at"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 36, 1001
FOCAL_PX, SHUTTER_SAMPLES, VERSION, SEED = 1000.0, 3, 1, 53
WALL_SIZE, WALL_UNITS, MIDDLE_X = (2300, 1000), 11.5, 900.0
BRICK, JOINT_PX = (96, 34), 4.0
SIGN = np.array([[760, 430], [980, 430], [980, 570], [760, 570]], float)
"""(4, 2): the sign's corners on the wall's sheet."""
WALL = np.array([[420, 200], [1400, 200], [1400, 820], [420, 820]], float)
"""(4, 2): a rectangle of the wall that is seen on all frames."""
Floats = NDArray[np.float32]


def _wall() -> Floats:
    """Return the wall: bricks, each of a tone of its own, brushed mortar, washes over all. RGBA (H, W, 4)."""
    rng = np.random.default_rng(SEED)
    wide, high = WALL_SIZE
    y, x = np.mgrid[:high, :wide].astype(np.float32)
    wobble = smooth_noise(WALL_SIZE, 30.0, rng)
    y = y + 1.2 * wobble
    row = np.floor(y / BRICK[1]).astype(int)
    x = x + np.where(row % 2 == 1, BRICK[0] / 2, 0)
    column = np.floor(x / BRICK[0]).astype(int)
    shade = rng.normal(0, 0.13, (row.max() + 2, column.max() + 2))[np.maximum(row, 0), column]
    edge = np.minimum(np.minimum(y % BRICK[1], BRICK[1] - y % BRICK[1]),
                      np.minimum(x % BRICK[0], BRICK[0] - x % BRICK[0]))  # fmt: skip
    joint = np.clip((JOINT_PX / 2 + 0.7 * wobble - edge) + 0.5, 0, 1)[..., None]
    brick, mortar = linear("a5543c"), linear("c9bca6")
    wall = brick * (1 + shade)[..., None] * (1 - joint) + mortar * joint
    wall = (
        wall * (1 + 0.08 * smooth_noise(WALL_SIZE, 120.0, rng))[..., None] * paper_grain(WALL_SIZE, rng, 0.1)[..., None]
    )
    return np.dstack([wall, np.ones((high, wide))]).astype(np.float32)


def _sign() -> Floats:
    """Return the sign alone on the wall's sheet."""
    sheet = Canvas(WALL_SIZE, "1f5f58", seed=61)
    sheet.alpha[:] = 0
    sheet.fill(SIGN, "1f5f58")
    sheet.ink(SIGN + np.array([[6, 6], [-6, 6], [-6, -6], [6, -6]]), 3, "e8dcc0", closed=True)
    sheet.text("PAPER", (790, 500), 1.7, 4, "e8dcc0")
    sheet.text("& Co", (826, 552), 1.4, 4, "e8dcc0")
    mask = np.zeros((WALL_SIZE[1], WALL_SIZE[0]), np.float32)
    cv2.fillPoly(mask, [SIGN.astype(np.int32)], 1.0, cv2.LINE_AA)
    sheet.alpha = mask
    return sheet.finish(paper_grain(WALL_SIZE, sheet.rng, 0.04))


@lru_cache(maxsize=1)
def _sheets() -> tuple[Picture, Picture]:
    return finer(_wall()), finer(_sign())


def _of_wall(time: float) -> Mapping:
    s = time / (FRAMES - 1)
    place = np.array([-0.25 + 0.5 * s, 0.04 * np.sin(2 * s), 0.25 * s])
    yaw, pitch = np.deg2rad(1.5 - 2.2 * s), np.deg2rad(0.4 * np.sin(3 * s))
    camera = Camera(FOCAL_PX, (WIDTH / 2, HEIGHT / 2), yaw, pitch, np.deg2rad(0.2 * np.sin(time * 0.17)), place)
    turn = np.deg2rad(34)
    across = np.array([np.cos(turn), 0, np.sin(turn)]) * WALL_UNITS / WALL_SIZE[0]
    down = np.array([0, 1.0, 0]) * WALL_UNITS / WALL_SIZE[0]
    middle = np.array([0.0, 0.0, 6.2])
    return camera.sees_plane(middle - across * MIDDLE_X - down * WALL_SIZE[1] / 2, across, down)


@dataclass(frozen=True, slots=True)
class SignShot(FilmedShot):
    """Where shot 8 is on disk, and the truth about it."""

    filming = Filming("sign", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    @staticmethod
    def planes(frame: int, other: int) -> list[tuple[Mapping, Picture | None]]:
        """Return the true motion of the wall to another frame."""
        return [(then(_of_wall(frame - FIRST_FRAME).inverse(), _of_wall(other - FIRST_FRAME)), None)]

    @staticmethod
    def seen(points: Points, frame: int) -> Points:
        """Return where points of the wall's sheet are on a frame."""
        return _of_wall(frame - FIRST_FRAME)(points)


def _draw(folder: Path, frame: int) -> int:
    full = Window.of(WIDTH, HEIGHT)
    wall, sign = _sheets()
    clean, dirty = (np.zeros((HEIGHT, WIDTH, 3), np.float32) for _ in range(2))
    for moment in moments(frame - FIRST_FRAME, SHUTTER_SAMPLES):
        picture = np.ascontiguousarray(filmed(wall, _of_wall(moment), full)[..., :3])
        clean += picture / SHUTTER_SAMPLES
        lay_over(picture, filmed(sign, _of_wall(moment), full))
        dirty += picture / SHUTTER_SAMPLES
    save_frame(folder, frame, "sign", plate=with_grain(through_lens(dirty), (SEED, frame)), clean=through_lens(clean))
    return frame


def sign_at(root: Path) -> SignShot:
    """Return shot 8 as it is, or is being, drawn into a folder."""
    return SignShot(root / f"sign-{VERSION}")


make_sign = maker(sign_at, VERSION, _draw, ("plate", "clean"))
"""Draws it, see `filming.maker`."""
