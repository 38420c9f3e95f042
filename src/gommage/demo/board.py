"""The crosses of shot 2 on a plain painted board instead of a clouded sky: what a rim can tell, it tells here."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from gommage.core.picture import Picture
from gommage.demo.crosses import FOLDERS, SKY_SIZE, CrossesShot, draw_crosses
from gommage.demo.filming import Filming, maker
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise

__all__ = ["BoardShot", "board_sheet", "make_board"]

VERSION = 1
TOOTH = 0.01
"""Of the board, as a share of its brightness: a little less than the film's grain."""


def board_sheet() -> Picture:
    """Return the board, (h, w, 4): one colour into another, and shades of 150 px."""
    sheet = Canvas(SKY_SIZE, "6fa3c4", seed=31)
    ramp = np.linspace(0, 1, SKY_SIZE[1], dtype=np.float32)[:, None, None]
    sheet.colour[:] = linear("4f86b4") * (1 - ramp) + linear("d9cfae") * ramp
    sheet.shade(1 + 0.10 * smooth_noise(SKY_SIZE, 150, sheet.rng))
    return sheet.finish(paper_grain(SKY_SIZE, sheet.rng, TOOTH))


@dataclass(frozen=True, slots=True)
class BoardShot(CrossesShot):
    """Where it is on disk, and the truth about it; a part of shot 2's frames."""

    filming = Filming("crosses", 1920, 1080, 1046, 24, 8)


def _at(root: Path) -> BoardShot:
    return BoardShot(root / f"board-{VERSION}")


def _draw(folder: Path, frame: int) -> int:
    return draw_crosses(folder, frame, board_sheet)


make_board = maker(_at, VERSION, _draw, FOLDERS)
"""Draws it, see `filming.maker`."""
