"""Shot 6 of the paper theatre, a moth on a rod: it flies before two backdrops at different depths; the camera dollies
and the lantern flickers. A part of it once more, where the rod's shadow falls on the sky.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import Mapping, Points, Window, composed, scaling, shift, turning
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
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
from gommage.demo.painting import Canvas, paper_grain
from gommage.demo.scene import SHEET, backdrop, village

__all__ = [
    "FIRST_FRAME",
    "FRAMES",
    "SHADOW_FIRST",
    "SHADOW_FRAMES",
    "SKY",
    "TOWN",
    "MothShot",
    "RodShadowShot",
    "make_moth",
    "make_rod_shadow",
    "moth_at",
    "moth_sheet",
    "rod_shadow_at",
]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 60, 1001
SHUTTER_SAMPLES = 7
VERSION, SEED = 2, 67
FOOT = np.array([1010.0, 1015.0])
"""Where the rod is clamped to the near backdrop, on its sheet."""
ROD_PX, SWING = 9.0, 0.62
MOTH_SIZE = (150, 120)
SHADOW_FIRST, SHADOW_FRAMES = 1009, 13
SHADOW_PX, SHADOW_DEEP, SHADOW_SOFT_PX = np.array([-120.0, 10.0]), 0.55, 2.0
"""Where the rod's shadow falls, beside it; how much light it takes; how soft it is."""
SKY = np.array([[60, 40], [900, 40], [900, 190], [60, 190]], float)
TOWN = np.array([[60, 330], [900, 330], [900, 470], [60, 470]], float)
"""What is followed of the far and of the near backdrop, on the frame in the middle."""


def moth_sheet() -> Picture:
    """Return the moth on paper, premultiplied (H, W, 4)."""
    sheet = Canvas(MOTH_SIZE, "e8d9b0", seed=SEED)
    wings = [
        np.array([(72, 62), (40, 12), (8, 18), (20, 56), (44, 72)], float),
        np.array([(78, 62), (110, 12), (142, 18), (130, 56), (106, 72)], float),
        np.array([(72, 66), (46, 78), (40, 110), (66, 104)], float),
        np.array([(78, 66), (104, 78), (110, 110), (84, 104)], float),
    ]
    for wing, colour in zip(wings, ("c7a86b", "c7a86b", "b08a58", "b08a58"), strict=True):
        sheet.wash(wing, colour, 1.0)
        middle = wing.mean(axis=0)
        sheet.ink((wing - middle) * 0.6 + middle, 2, "5a3f26", 0.7, closed=True)
        sheet.ink(wing, 2.2, closed=True)
    body = np.array([(71, 40), (79, 40), (82, 70), (77, 100), (73, 100), (68, 70)], float)
    sheet.fill(body, "4a3a2c")
    sheet.alpha = np.maximum.reduce([sheet.mask(one) for one in (*wings, body)])
    return sheet.finish(paper_grain(MOTH_SIZE, sheet.rng, 0.05))


@lru_cache(maxsize=8)
def _painted(paint: Callable[[], Picture]) -> Picture:
    return finer(paint())


def _of_sheet(time: float, depth: float) -> Mapping:
    """Return where a backdrop is: a camera that dollies to the right and a little nearer, at a depth."""
    s = time / (FRAMES - 1)
    ease = s * s * (3 - 2 * s)
    near = 0.56 * (1 + 0.10 * ease / depth)
    across = (70 - 140 * ease) / depth + 0.5 * np.sin(time * 0.9)
    up = 4 * np.sin(time * 0.13) / depth
    middle = np.array(SHEET) / 2 + (0, 110)
    turn = np.deg2rad(0.3 * np.sin(time * 0.11))
    return composed(shift(*-middle), scaling(near), turning(turn), shift(WIDTH / 2 + across, HEIGHT / 2 + up))


def _of_far(time: float) -> Mapping:
    return _of_sheet(time, 2.2)


def _of_near(time: float) -> Mapping:
    return _of_sheet(time, 1.0)


def _rod(time: float) -> tuple[Points, float]:
    """Return foot and tip of the rod (2, 2) on a frame, and how it leans, in radians."""
    lean = SWING * np.sin(time * 0.155 - 0.6) + 0.05 * np.sin(time * 0.71)
    foot = _of_near(time)(FOOT[None])[0]
    length = 330 + 14 * np.sin(time * 0.37)
    return np.array([foot, foot + length * np.array([np.sin(lean), -np.cos(lean)])]), float(lean)


def _strip(line: Points, width: float) -> NDArray[np.float64]:
    along = (line[1] - line[0]) / np.hypot(*(line[1] - line[0]))
    across = np.array([-along[1], along[0]]) * width / 2
    return np.array([line[0] - across, line[0] + across, line[1] + across, line[1] - across])


def _rod_seen(time: float) -> Picture:
    """Return the rod, premultiplied (H, W, 4): wood, lighter on one side."""
    line, _ = _rod(time)
    out: Picture = np.zeros((HEIGHT, WIDTH, 4), np.float32)
    for width, shade in ((ROD_PX, 0.10), (ROD_PX * 0.5, 0.16)):
        mask = np.zeros((HEIGHT, WIDTH), np.uint8)
        corners = np.round(_strip(line, width) * 16 - 8).astype(np.int32)
        cv2.fillConvexPoly(mask, corners, 255, cv2.LINE_AA, 4)
        layer = mask.astype(np.float32)[..., None] / 255 * np.array([shade * 1.3, shade, shade * 0.7, 1.0], np.float32)
        out = out * (1 - layer[..., 3:]) + layer
    return out


def _lantern(time: float) -> Picture:
    """Return the light over the frame (H, W, 3): it flickers, and its middle wanders."""
    flicker = 1 + 0.05 * np.sin(time * 0.83) + 0.035 * np.sin(time * 2.17 + 1) + 0.02 * np.sin(time * 3.9)
    x = np.linspace(-1, 1, WIDTH, dtype=np.float32)[None, :]
    y = np.linspace(-1, 1, HEIGHT, dtype=np.float32)[:, None]
    slope = 1 + 0.10 * np.float32(np.sin(time * 0.29)) * x - 0.06 * np.float32(np.cos(time * 0.41)) * y
    colour = np.array([1.0, 0.99 - 0.02 * np.sin(time * 0.83), 0.96 - 0.05 * np.sin(time * 0.83)], np.float32)
    return np.asarray(slope[..., None] * np.float32(flicker) * colour)


def _shaded(time: float) -> Picture:
    """Return how much of the light the rod's shadow leaves on the far backdrop, (H, W)."""
    mask = np.zeros((HEIGHT, WIDTH), np.uint8)
    cv2.fillConvexPoly(mask, np.round((shadow_line(time)[1]) * 16 - 8).astype(np.int32), 255, cv2.LINE_AA, 4)
    soft = cv2.GaussianBlur(mask.astype(np.float32) / np.float32(255), (0, 0), SHADOW_SOFT_PX)
    return np.float32(1) - np.float32(SHADOW_DEEP) * soft


def shadow_line(time: float) -> tuple[Points, Points]:
    """Return the middle of the rod's shadow (2, 2), foot and tip, at a time, and its corners (4, 2)."""
    line = _rod(time)[0] + SHADOW_PX
    return line, _strip(line, ROD_PX)


def _exposed(time: float, *, has_shadow: bool = False) -> tuple[Picture, Picture, Picture, Picture]:
    """Return the clean frame, the frame with moth and rod, how far these cover it, and where the near backdrop is."""
    full = Window.of(WIDTH, HEIGHT)
    clean, dirty = np.zeros((2, HEIGHT, WIDTH, 3), np.float32)
    covered, near = np.zeros((2, HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        picture = np.ascontiguousarray(filmed(_painted(backdrop), _of_far(moment), full)[..., :3])
        if has_shadow:
            picture *= _shaded(moment)[..., None]
        front = filmed(_painted(village), _of_near(moment), full)
        lay_over(picture, front)
        clean += picture
        near += front[..., 3]
        line, lean = _rod(moment)
        rod = _rod_seen(moment)
        flutter = composed(shift(-75, -66), scaling(1.0), turning(lean * 0.6 + 0.12 * np.sin(moment * 1.3)),
                           shift(*line[1]))  # fmt: skip
        moth = filmed(_painted(moth_sheet), flutter, full)
        lay_over(picture, rod)
        lay_over(picture, moth)
        dirty += picture
        covered += np.maximum(rod[..., 3], moth[..., 3])
    light = _lantern(time) / np.float32(SHUTTER_SAMPLES)
    return (
        through_lens(clean * light), through_lens(dirty * light), through_lens(covered / SHUTTER_SAMPLES),
        near / SHUTTER_SAMPLES,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class MothShot(FilmedShot):
    """Where shot 6 is on disk, and the truth about it. Adds ``rod/`` and ``near/``."""

    filming = Filming("moth", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def covered(self, frame: int) -> Picture:
        """Return how far moth and rod cover a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "rod" / f"rod.{frame}.exr", SCENE_LINEAR)[..., 0]

    def near(self, frame: int) -> Picture:
        """Return where the near backdrop is on a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "near" / f"near.{frame}.exr", SCENE_LINEAR)[..., 0]

    def planes(self, frame: int, other: int) -> tuple[tuple[Mapping, Picture | None], ...]:
        """Return the surfaces behind, back to front: the true motion to another frame, and where each is seen."""
        t, u = frame - FIRST_FRAME, other - FIRST_FRAME
        return (
            (composed(_of_far(t).inverse(), _of_far(u)), None),
            (composed(_of_near(t).inverse(), _of_near(u)), self.near(frame)),
        )

    @staticmethod
    def near_motion(frame: int, other: int) -> Mapping:
        """Return the true motion of the near backdrop between two frames."""
        return composed(_of_near(frame - FIRST_FRAME).inverse(), _of_near(other - FIRST_FRAME))

    @staticmethod
    def rod_outline(frame: int) -> Points:
        """Return an outline (4, 2) around the rod on a frame, as drawn generously by hand."""
        line, _ = _rod(frame - FIRST_FRAME)
        along = (line[1] - line[0]) / np.hypot(*(line[1] - line[0]))
        return _strip(np.array([line[0] - 10 * along, line[1]]), ROD_PX + 16)

    @staticmethod
    def moth_outline(frame: int) -> Points:
        """Return an outline (12, 2) around the moth on a frame."""
        line, _ = _rod(frame - FIRST_FRAME)
        angle = np.linspace(0, 2 * np.pi, 12, endpoint=False)
        return line[1] + (0, 0) + 92 * np.column_stack([np.cos(angle), np.sin(angle)])

    @staticmethod
    def village_outline(frame: int) -> Points:
        """Return the roof line of the near backdrop as a closed outline (N, 2) on a frame, as drawn by hand."""
        alpha = village()[..., 3]
        outlines, _ = cv2.findContours((alpha > 0.5).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
        longest = max(outlines, key=len)[:, 0].astype(float) + 0.5
        drawn = cv2.approxPolyDP(longest.astype(np.float32)[:, None], 1.2, closed=True)[:, 0].astype(float)
        return _of_near(frame - FIRST_FRAME)(drawn)


def _draw(folder: Path, frame: int) -> int:
    clean, dirty, covered, near = _exposed(frame - FIRST_FRAME)
    save_frame(folder, frame, "moth", plate=with_grain(dirty, (SEED, frame)), clean=clean, rod=covered, near=near)
    return frame


def moth_at(root: Path) -> MothShot:
    """Return shot 6 as it is, or is being, drawn into a folder."""
    return MothShot(root / f"moth-{VERSION}")


make_moth = maker(moth_at, VERSION, _draw, ("plate", "clean", "rod", "near"))
"""Draws it, see `filming.maker`."""


# -- the rod's shadow ---------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class RodShadowShot(FilmedShot):
    """Where the shot with the rod's shadow is on disk, and the truth: moth and rod as they are, without the shadow."""

    filming = Filming("shadow", WIDTH, HEIGHT, SHADOW_FIRST, SHADOW_FRAMES, SEED + 1)

    def shaded(self, frame: int) -> Picture:
        """Return how much light the shadow takes where it is seen on a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "shade" / f"shade.{frame}.exr", SCENE_LINEAR)[..., 0]

    @staticmethod
    def line(frame: int) -> Points:
        """Return the middle of the shadow on a frame, (2, 2): foot and tip."""
        return shadow_line(frame - FIRST_FRAME)[0]


def _draw_shadow(folder: Path, frame: int) -> int:
    time = frame - FIRST_FRAME
    clean = _exposed(time)[1]
    dirty = _exposed(time, has_shadow=True)[1]
    taken = np.clip(1 - dirty.mean(axis=2) / np.maximum(clean.mean(axis=2), np.float32(1e-6)), 0, 1)
    save_frame(folder, frame, "shadow", plate=with_grain(dirty, (SEED + 1, frame)), clean=clean, shade=taken)
    return frame


def rod_shadow_at(root: Path) -> RodShadowShot:
    """Return the shot with the rod's shadow as it is, or is being, drawn into a folder."""
    return RodShadowShot(root / f"rod-shadow-{VERSION}")


make_rod_shadow = maker(rod_shadow_at, VERSION, _draw_shadow, ("plate", "clean", "shade"))
"""Draws it, see `filming.maker`."""
