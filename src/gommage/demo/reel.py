"""Shot 3 of the paper theatre, an old reel: a camera moves over the sky; dust, hairs on single frames, a scratch."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from gommage.core.document import SCENE_LINEAR, FrameRange
from gommage.core.geometry import Camera, Mapping, Points, Window, then
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.demo.crosses import SKY_SIZE, sky_sheet
from gommage.demo.filming import (
    FilmedShot,
    Filming,
    filmed,
    finer,
    maker,
    moments,
    save_frame,
    through_lens,
    with_grain,
)

__all__ = ["DUST", "HAIRS", "SCRATCH", "Dust", "FilmHair", "ReelShot", "make_reel"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 60, 1001
FOCAL_PX, UNITS, AWAY = 1100.0, 9.0, 9.0
SHUTTER_SAMPLES = 3
VERSION = 1
SCRATCH = FrameRange(first=1012, last=1051)
SCRATCH_WIDE_PX = 2.2
DUST_LEVEL, HAIR_LEVEL, SCRATCH_LEVEL = 0.012, 0.02, 0.9
SEED = 31


@dataclass(frozen=True, slots=True)
class Dust:
    """A speck on one frame."""

    frame: int
    x: float
    y: float
    radius_px: float


@dataclass(frozen=True, slots=True)
class FilmHair:
    """A hair on one frame: points (N, 2)."""

    frame: int
    points: tuple[tuple[float, float], ...]


def _dust() -> tuple[Dust, ...]:
    rng = np.random.default_rng(SEED)
    frames = rng.choice(np.arange(FIRST_FRAME + 3, FIRST_FRAME + FRAMES - 3), 14, replace=False)
    return tuple(
        Dust(int(frame), float(rng.uniform(120, WIDTH - 120)), float(rng.uniform(80, HEIGHT - 80)),
             float(rng.uniform(3.5, 11)))
        for frame in sorted(frames)
    )  # fmt: skip


def _hairs() -> tuple[FilmHair, ...]:
    rng = np.random.default_rng(SEED + 1)
    found = []
    for frame in (1006, 1021, 1033, 1044, 1055):
        x, y, angle = rng.uniform(200, WIDTH - 260), rng.uniform(150, HEIGHT - 150), rng.uniform(0, np.pi)
        points = []
        for _ in range(28):
            points.append((float(x), float(y)))
            angle += rng.normal(0, 0.16)
            x, y = x + 4 * np.cos(angle), y + 4 * np.sin(angle)
        found.append(FilmHair(frame, tuple(points)))
    return tuple(found)


DUST, HAIRS = _dust(), _hairs()


def scratch_line(frame: int) -> Points:
    """Return the scratch on a frame, from the top down: (N, 2)."""
    y = np.linspace(-4, HEIGHT + 4, 40)
    time = frame - SCRATCH.first
    x = 596 + 2.0 * np.sin(time * 0.5) + 1.2 * np.sin(y / 60 + time * 1.3)
    return np.column_stack([x, y])


def _camera(time: float) -> Camera:
    s = time / (FRAMES - 1)
    yaw, pitch = np.deg2rad(-3.6 + 7.0 * s), np.deg2rad(0.8 * np.sin(3.1 * s))
    position = np.array([-0.3 + 0.5 * s, 0.08 * np.sin(2 * s), 0.5 * s])
    return Camera(FOCAL_PX, (WIDTH / 2, HEIGHT / 2), yaw, pitch, np.deg2rad(0.4 * np.sin(time * 0.11)), position)


def _of_sky(time: float) -> Mapping:
    across = np.array([UNITS / SKY_SIZE[0], 0, 0])
    down = np.array([0, UNITS / SKY_SIZE[0], 0])
    corner = np.array([-UNITS / 2, -UNITS * SKY_SIZE[1] / SKY_SIZE[0] / 2, AWAY])
    return _camera(time).sees_plane(corner, across, down)


@lru_cache(maxsize=1)
def _painted() -> Picture:
    return finer(sky_sheet())


def _clean(time: float) -> Picture:
    full, total = Window.of(WIDTH, HEIGHT), np.zeros((HEIGHT, WIDTH, 3), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        total += filmed(_painted(), _of_sky(moment), full)[..., :3]
    flicker = np.float32(1 + 0.02 * np.sin(time * 1.7) + 0.015 * np.sin(time * 4.3 + 1))
    return through_lens(total / SHUTTER_SAMPLES * flicker)


def _drawn(lines: list[tuple[Points, float]]) -> Picture:
    """Return the share of each pixel that is under lines (points, width), (H, W)."""
    fine = 4
    mask = np.zeros((HEIGHT * fine, WIDTH * fine), np.uint8)
    for points, wide in lines:
        at = np.round(points * fine).astype(np.int32)
        cv2.polylines(mask, [at], isClosed=False, color=255, thickness=max(round(wide * fine), 1), lineType=cv2.LINE_AA)
    return cv2.resize(mask, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA).astype(np.float32) / 255


def _damage(frame: int) -> list[tuple[Picture, float]]:
    """Return the damage of a frame: how far it covers the picture, (H, W), and how bright it is."""
    specks = []
    for dust in DUST:
        if dust.frame == frame:
            rng = np.random.default_rng((SEED, frame))
            angle = np.linspace(0, 2 * np.pi, 24)
            radius = dust.radius_px * (1 + 0.25 * np.sin(2 * angle + rng.uniform(0, 6)) + 0.1 * rng.normal(size=24))
            outline = np.column_stack([dust.x + radius * np.cos(angle), dust.y + radius * np.sin(angle)])
            specks += [(outline, 1.0), *((_drawn_in(dust, share, outline), 2.5) for share in np.arange(0.0, 1.0, 0.12))]
    found = [(_drawn(specks), DUST_LEVEL)] if specks else []
    hairs = [(np.array(hair.points), 1.8) for hair in HAIRS if hair.frame == frame]
    if hairs:
        found.append((_drawn(hairs), HAIR_LEVEL))
    if frame in SCRATCH:
        found.append((0.85 * _drawn([(scratch_line(frame), SCRATCH_WIDE_PX)]), SCRATCH_LEVEL))
    return [(cv2.GaussianBlur(mask, (0, 0), 0.6), level) for mask, level in found]


def _drawn_in(dust: Dust, share: float, outline: Points) -> Points:
    """Return a speck's outline drawn in towards its middle by a share, to fill it."""
    middle = np.array([dust.x, dust.y])
    return middle + (outline - middle) * share


@dataclass(frozen=True, slots=True)
class ReelShot(FilmedShot):
    """Where shot 3 is on disk, and the truth about it. Adds ``damage/``."""

    filming = Filming("reel", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def damage(self, frame: int) -> Picture:
        """Return how far damage covers a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "damage" / f"damage.{frame}.exr", SCENE_LINEAR)[..., 0]

    @staticmethod
    def motion(frame: int, home: int) -> Mapping:
        """Return the true motion of the sky from one frame to another."""
        return then(_of_sky(home - FIRST_FRAME).inverse(), _of_sky(frame - FIRST_FRAME))

    def planes(self, frame: int, other: int) -> list[tuple[Mapping, Picture | None]]:
        """Return the true motion of the sky to another frame."""
        return [(self.motion(other, frame), None)]


def _draw(folder: Path, frame: int) -> int:
    clean = _clean(frame - FIRST_FRAME)
    plate, covered = with_grain(clean, (SEED, frame)), np.zeros((HEIGHT, WIDTH), np.float32)
    for mask, level in _damage(frame):
        plate += (np.float32(level) - plate) * mask[..., None]
        covered = np.maximum(covered, mask)
    save_frame(folder, frame, "reel", plate=plate, clean=clean, damage=covered)
    return frame


def reel_at(root: Path) -> ReelShot:
    """Return shot 3 as it is, or is being, drawn into a folder."""
    return ReelShot(root / f"reel-{VERSION}")


make_reel = maker(reel_at, VERSION, _draw, ("plate", "clean", "damage"))
"""Draws it, see `filming.maker`."""
