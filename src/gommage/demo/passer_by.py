"""Shot 5 of the paper theatre, a passer-by: a stage hand walks through a handheld shot; the exposure drifts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import (
    Mapping,
    Matrix,
    Points,
    Window,
    composed,
    from_matrix,
    scaling,
    shift,
    then,
    turning,
)
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

__all__ = ["FIRST_FRAME", "FRAMES", "WALL", "PasserByShot", "make_passer_by", "passer_by_at", "walker_parts"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 48, 1001
SHUTTER_SAMPLES = 9
VERSION, SEED = 2, 61
WALKER_SIZE, HIP = (240, 470), np.array([120.0, 280.0])
COAT = np.array([(84, 96), (156, 96), (178, 200), (172, 300), (68, 300), (62, 200)], float)
LEG = np.array([(98, 270), (142, 270), (138, 380), (134, 446), (158, 456), (156, 466), (108, 466), (106, 380)], float)
ARM = np.array([(104, 108), (134, 108), (138, 210), (132, 262), (110, 262), (106, 200)], float)
WALL = np.array([[40, 40], [WIDTH - 40, 40], [WIDTH - 40, 400], [40, 400]], float)
"""What is followed, on the frame in the middle."""


def _town() -> Picture:
    """Return the town as one painted sheet, (h, w, 4)."""
    sheet = np.ascontiguousarray(backdrop()[..., :3])
    lay_over(sheet, np.ascontiguousarray(village()))
    return np.dstack([sheet, np.ones(sheet.shape[:2], np.float32)])


def _sheet(outline: NDArray[np.float64], colour: str, line: str, seed: int) -> Picture:
    sheet = Canvas(WALKER_SIZE, colour, seed=seed)
    for y in range(40, WALKER_SIZE[1], 34):
        sheet.ink([(outline[:, 0].min(), y), (outline[:, 0].max(), y + 14)], 2, line, 0.5)
    sheet.ink(outline, 2.4, closed=True, wobble=0.5)
    sheet.alpha = sheet.mask(outline)
    return sheet.finish(paper_grain(WALKER_SIZE, sheet.rng, 0.05))


def _body() -> Picture:
    """Return coat, head and hat, (h, w, 4)."""
    angle = np.linspace(0, 2 * np.pi, 40)
    head = np.column_stack([120 + 30 * np.cos(angle), 62 + 36 * np.sin(angle)])
    hat = np.array([(76, 44), (164, 44), (160, 34), (146, 34), (142, 6), (98, 6), (94, 34), (80, 34)], float)
    sheet = Canvas(WALKER_SIZE, "4b5a3a", seed=SEED)
    sheet.wash(COAT, "5c6b45", 1.0)
    for y in (130, 170, 210, 250):
        sheet.ink([(70, y), (170, y + 8)], 2.2, "2b331f", 0.5)
    sheet.fill(head, "d9a077")
    sheet.ink(head, 2, closed=True)
    sheet.fill(hat, "33302e")
    sheet.ink(hat, 2, closed=True)
    sheet.ink(COAT, 2.6, closed=True)
    sheet.alpha = np.maximum.reduce([sheet.mask(COAT), sheet.mask(head), sheet.mask(hat)])
    return sheet.finish(paper_grain(WALKER_SIZE, sheet.rng, 0.05))


def _leg() -> Picture:
    return _sheet(LEG, "3a3f4c", "1c1f26", SEED + 1)


def _arm() -> Picture:
    return _sheet(ARM, "55643f", "2b331f", SEED + 2)


@lru_cache(maxsize=8)
def _painted(paint: Callable[[], Picture]) -> Picture:
    return finer(paint())


def _of_town(time: float) -> Mapping:
    """Return where the town's sheet is: a camera in a hand."""
    shake = np.array([
        9 * np.sin(time * 0.31 + 0.4) + 3.2 * np.sin(time * 1.13) + 1.1 * np.sin(time * 2.3 + 1),
        6 * np.sin(time * 0.27 + 2.0) + 2.6 * np.sin(time * 0.97 + 1.0) + 0.9 * np.sin(time * 2.05),
    ])  # fmt: skip
    turn = np.deg2rad(0.5 * np.sin(time * 0.21) + 0.16 * np.sin(time * 1.01 + 2))
    near = 0.58 * (1 + 0.02 * np.sin(time * 0.09))
    tilt = 6e-6 * np.sin(time * 0.17)
    bend = from_matrix(np.array([[1, 0, 0], [0, 1, 0], [tilt, 0.6 * tilt, 1.0]]))
    middle = np.array(SHEET) / 2 + (-60, 118)
    return composed(shift(*-middle), scaling(near), turning(turn), bend, shift(WIDTH / 2, HEIGHT / 2), shift(*shake))


def _of_walker(time: float) -> tuple[Mapping, float]:
    """Return where the walker's sheet is, and the swing of the step in radians."""
    s = (time + 4) / (FRAMES + 7)
    place = np.array([-90 + 1130 * s, 272 + 5 * abs(np.sin(time * 0.42))])
    walk = composed(shift(*-HIP), scaling(0.92), turning(0.02 * np.sin(time * 0.42)), shift(*place))
    return walk, 0.5 * float(np.sin(time * 0.42))


def walker_parts(swing_rad: float) -> tuple[tuple[Callable[[], Picture], Matrix], ...]:
    """Return the walker's parts, back to front: what paints each, and where it lies on the walker's sheet, (3, 3)."""
    shoulder, hip = (120, 112), (120, 280)
    return (
        (_arm, _swung(shoulder, swing_rad)), (_leg, _swung(hip, -swing_rad)),
        (_leg, _swung(hip, swing_rad)), (_body, np.eye(3)), (_arm, _swung(shoulder, -swing_rad)),
    )  # fmt: skip


def _swung(about: tuple[float, float], turn: float) -> Matrix:
    matrix = composed(shift(-about[0], -about[1]), turning(turn), shift(*about)).matrix
    assert matrix is not None
    return matrix


def _light(time: float) -> NDArray[np.float32]:
    """Return the exposure (3,) at a time: it drifts by two thirds of a stop, and the colour a little with it."""
    s = time / (FRAMES - 1)
    stops = 0.33 * np.sin(2.6 * s * np.pi) + 0.2 * s
    return (2.0 ** (stops * np.array([1.0, 0.97, 0.9]))).astype(np.float32)


def _exposed(time: float) -> tuple[Picture, Picture, Picture]:
    """Return the clean frame, the frame with the walker, and how far he covers it."""
    full = Window.of(WIDTH, HEIGHT)
    clean, dirty = np.zeros((2, HEIGHT, WIDTH, 3), np.float32)
    covered = np.zeros((HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        town = np.ascontiguousarray(filmed(_painted(_town), _of_town(moment), full)[..., :3])
        clean += town
        walk, swing = _of_walker(moment)
        seen, alpha = town.copy(), np.zeros((HEIGHT, WIDTH), np.float32)
        for paint, in_sheet in walker_parts(swing):
            layer = filmed(_painted(paint), then(from_matrix(in_sheet), walk), full)
            lay_over(seen, layer)
            alpha = np.maximum(alpha, layer[..., 3])
        dirty += seen
        covered += alpha
    light = _light(time) / SHUTTER_SAMPLES
    return through_lens(clean * light), through_lens(dirty * light), through_lens(covered / SHUTTER_SAMPLES)


@dataclass(frozen=True, slots=True)
class PasserByShot(FilmedShot):
    """Where shot 5 is on disk, and the truth about it. Adds ``walker/``."""

    filming = Filming("passer", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def covered(self, frame: int) -> Picture:
        """Return how far the walker covers a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "walker" / f"walker.{frame}.exr", SCENE_LINEAR)[..., 0]

    @staticmethod
    def planes(frame: int, other: int) -> tuple[tuple[Mapping, None], ...]:
        """Return the surfaces behind, back to front: the true motion to another frame, and where each is seen."""
        return ((composed(_of_town(frame - FIRST_FRAME).inverse(), _of_town(other - FIRST_FRAME)), None),)

    @staticmethod
    def outline(frame: int) -> Points:
        """Return an outline (8, 2) around the walker on a frame, as drawn generously by hand."""
        walk, _ = _of_walker(frame - FIRST_FRAME)
        drawn = np.array([(62, -12), (178, -12), (200, 90), (210, 280), (236, 476), (4, 476), (30, 280), (40, 90.0)])
        return walk(drawn)


def _draw(folder: Path, frame: int) -> int:
    clean, dirty, covered = _exposed(frame - FIRST_FRAME)
    save_frame(folder, frame, "passer", plate=with_grain(dirty, (SEED, frame)), clean=clean, walker=covered)
    return frame


def passer_by_at(root: Path) -> PasserByShot:
    """Return shot 5 as it is, or is being, drawn into a folder."""
    return PasserByShot(root / f"passer-by-{VERSION}")


make_passer_by = maker(passer_by_at, VERSION, _draw, ("plate", "clean", "walker"))
"""Draws it, see `filming.maker`."""
