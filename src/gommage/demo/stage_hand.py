"""Shot 4 of the paper theatre, a stage hand: the camera is locked off; an arm crosses with its shadow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import IDENTITY, Mapping, Points, Window, composed, scaling, shift, turning
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
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise

__all__ = ["FIRST_FRAME", "FRAMES", "StageHandShot", "arm_line", "backdrop", "make_stage_hand"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 32, 1001
SHUTTER_SAMPLES = 9
VERSION = 1
ARM_SIZE, ELBOW = (260, 640), np.array([130.0, 60.0])
SHADOW_PX, SHADOW_SOFT_PX, SHADOW_DEEP = (34.0, 20.0), 7.0, 0.42
SEED = 57
ARM = np.array([
    (62, -40), (198, -40), (184, 300), (176, 396), (196, 440), (218, 470), (214, 486), (190, 478), (176, 472),
    (172, 520), (166, 566), (156, 572), (150, 530), (144, 580), (134, 588), (128, 534), (120, 578), (110, 578),
    (108, 528), (100, 556), (91, 552), (92, 500), (86, 440), (88, 396), (74, 300),
], float)  # fmt: skip
"""The outline of sleeve and hand, (N, 2) on its sheet."""
CUFF_Y = 396.0


def backdrop() -> Picture:
    """Return the painted town behind the stage, (h, w, 4)."""
    size = WIDTH, HEIGHT
    sheet = Canvas(size, "d9c49a", seed=SEED)
    ramp = np.linspace(0, 1, HEIGHT, dtype=np.float32)[:, None, None]
    sheet.colour[:] = linear("7fa6b8") * (1 - ramp) + linear("e6d3a4") * ramp
    sheet.shade(1 + 0.08 * smooth_noise(size, 120, sheet.rng) + 0.04 * smooth_noise(size, 26, sheet.rng))
    colours = ("b5654a", "8f7a4e", "6f8a72", "a98a5c", "875a6a", "c08a52")
    left = -20.0
    while left < WIDTH:
        wide, top = sheet.rng.uniform(70, 130), sheet.rng.uniform(170, 300)
        wall = [(left, top), (left + wide, top), (left + wide, 470), (left, 470)]
        sheet.wash(wall, colours[int(sheet.rng.integers(len(colours)))])
        sheet.wash(
            [(left - 8, top), (left + wide / 2, top - sheet.rng.uniform(30, 70)), (left + wide + 8, top)], "6d3b32"
        )
        for x in np.arange(left + 16, left + wide - 16, 30):
            for y in np.arange(top + 22, 440, 46):
                pane = [(x, y), (x + 14, y), (x + 14, y + 22), (x, y + 22)]
                sheet.fill(pane, "f2dc93" if sheet.rng.random() < 0.4 else "41505c", 0.9)
                sheet.ink(pane, 1.4, strength=0.6, closed=True)
        sheet.ink(wall, 2, strength=0.7, closed=True)
        left += wide
    sheet.wash([(0, 462), (WIDTH, 452), (WIDTH, HEIGHT), (0, HEIGHT)], "94755a")
    for _ in range(160):
        x, y = sheet.rng.uniform(0, WIDTH), sheet.rng.uniform(474, HEIGHT)
        sheet.ink([(x, y), (x + sheet.rng.uniform(12, 30), y + 2)], 1.6, "4c3a2c", 0.4)
    return sheet.finish(paper_grain(size, sheet.rng, 0.06))


def _arm() -> Picture:
    sheet = Canvas(ARM_SIZE, "2d3038", seed=SEED + 1)
    sheet.wash(np.vstack([ARM[ARM[:, 1] >= CUFF_Y], [(88, CUFF_Y), (176, CUFF_Y)]]), "d9a077", 1.0)
    sheet.fill(ARM[(ARM[:, 1] >= CUFF_Y)], "d9a077", 0.9)
    for y in range(20, 380, 44):
        sheet.ink([(80, y), (120, y + 16), (176, y + 6)], 2.2, "14161a", 0.5)
    sheet.ink([(86, CUFF_Y), (178, CUFF_Y)], 5, "e9e2d0", 0.9)
    for x in (114, 131, 147):
        sheet.ink([(x, 508), (x, 540)], 1.8, "7a4a30", 0.6)
    sheet.ink(ARM, 2.4, closed=True, wobble=0.5)
    sheet.alpha = sheet.mask(ARM)
    return sheet.finish(paper_grain(ARM_SIZE, sheet.rng, 0.05))


@lru_cache(maxsize=4)
def _painted(paint: Callable[[], Picture]) -> Picture:
    return finer(paint())


def _of_arm(time: float) -> Mapping:
    """Return where the arm's sheet is: it is let down from above at the left, and walks to the right."""
    s = time / (FRAMES - 1)
    turn = 0.16 * np.sin(2.2 * np.pi * s) - 0.05
    place = np.array([190 + 590 * s, -70 + 14 * np.sin(time * 0.5)])
    return composed(shift(*-ELBOW), scaling(0.86), turning(turn), shift(*place))


def arm_line(frame: int) -> Points:
    """Return the middle line of the arm on a frame, from above the picture to the finger tips: (N, 2)."""
    down = np.linspace(80, 586, 24)
    return _of_arm(frame - FIRST_FRAME)(np.column_stack([np.full(24, 132.0), down]))


def _filmed(time: float) -> tuple[Picture, Picture, Picture]:
    """Return the clean frame, the frame with the arm, and how far arm or shadow cover it."""
    full = Window.of(WIDTH, HEIGHT)
    town = np.ascontiguousarray(filmed(_painted(backdrop), IDENTITY, full)[..., :3])
    light = np.float32(1 + 0.006 * np.sin(time * 2.1) + 0.004 * np.sin(time * 4.7 + 1))
    dirty, covered = np.zeros_like(town), np.zeros((HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        arm = filmed(_painted(_arm), _of_arm(moment), full)
        shadow = filmed(_painted(_arm), composed(_of_arm(moment), shift(*SHADOW_PX)), full)[..., 3]
        dark = np.float32(SHADOW_DEEP) * cv2.GaussianBlur(shadow, (0, 0), SHADOW_SOFT_PX)
        seen = town * (1 - dark)[..., None]
        lay_over(seen, arm)
        dirty += seen
        covered += np.maximum(arm[..., 3], dark)
    return (
        through_lens(town * light),
        through_lens(dirty / SHUTTER_SAMPLES * light),
        through_lens(covered / SHUTTER_SAMPLES),
    )


@dataclass(frozen=True, slots=True)
class StageHandShot(FilmedShot):
    """Where shot 4 is on disk, and the truth about it. Adds ``arm/``."""

    filming = Filming("hand", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def covered(self, frame: int) -> Picture:
        """Return how far the arm or its shadow covers a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "arm" / f"arm.{frame}.exr", SCENE_LINEAR)[..., 0]


def _draw(folder: Path, frame: int) -> int:
    clean, dirty, covered = _filmed(frame - FIRST_FRAME)
    save_frame(folder, frame, "hand", plate=with_grain(dirty, (SEED, frame)), clean=clean, arm=covered)
    return frame


def stage_hand_at(root: Path) -> StageHandShot:
    """Return shot 4 as it is, or is being, drawn into a folder."""
    return StageHandShot(root / f"stage-hand-{VERSION}")


make_stage_hand = maker(stage_hand_at, VERSION, _draw, ("plate", "clean", "arm"))
"""Draws it, see `filming.maker`."""
