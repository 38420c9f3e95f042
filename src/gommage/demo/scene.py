"""The stage of shot 1: two backdrops and a proscenium with columns, and a price label on one of them."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Mapping, composed, shift, turning
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise

__all__ = [
    "LABEL_CENTRE",
    "LABEL_CORNERS",
    "LABEL_SIZE",
    "LABEL_TURN",
    "OPENING",
    "SHAFT_REPEAT",
    "SHEET",
    "backdrop",
    "label",
    "proscenium",
    "village",
]

SHEET = (2000, 1200)
"""Width and height of each painted sheet in its own pixels."""

LABEL_SIZE = (140, 96)
LABEL_CENTRE = np.array([392.0, 564.0])
LABEL_TURN = np.deg2rad(-7.0)
SHAFT_REPEAT = 68
"""The columns are papered with a print that repeats after so many sheet pixels downwards: one repeat above or
below the label stands exactly what the label hides, so that a repair can be judged by the pixel."""
_SHAFT = slice(414, 720)
_COLUMNS = (300, 1516)
_COLUMN_WIDTH = 190
_SEAM = 14
Floats = NDArray[np.float32]


def _label_corners() -> NDArray[np.float64]:
    half = np.array(LABEL_SIZE) / 2
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * half
    turn = np.array([[np.cos(LABEL_TURN), -np.sin(LABEL_TURN)], [np.sin(LABEL_TURN), np.cos(LABEL_TURN)]])
    return corners @ turn.T + LABEL_CENTRE


LABEL_CORNERS = _label_corners()
"""(4, 2): the label's corners on the proscenium sheet."""


def _arc(centre: tuple[float, float], radii: tuple[float, float], start: float, end: float) -> NDArray[np.float64]:
    angle = np.deg2rad(np.linspace(start, end, 60))
    return np.column_stack([centre[0] + radii[0] * np.cos(angle), centre[1] + radii[1] * np.sin(angle)])


def backdrop() -> Floats:
    """Return the far backdrop: a night sky with a moon, stars and hills. RGBA (H, W, 4)."""
    sheet = Canvas(SHEET, "3c5a7d", seed=11)
    width, height = SHEET
    ramp = np.linspace(0, 1, height, dtype=np.float32)[:, None, None]
    sheet.colour[:] = linear("22375e") * (1 - ramp) + linear("c98f74") * ramp**1.6
    sheet.shade(1 + 0.09 * smooth_noise(SHEET, 130, sheet.rng) + 0.04 * smooth_noise(SHEET, 31, sheet.rng))
    for x, y, radius in zip(
        sheet.rng.uniform(100, 1900, 70),
        sheet.rng.uniform(60, 620, 70),
        sheet.rng.uniform(1.6, 4.6, 70),
        strict=True,
    ):
        sheet.fill(_arc((x, y), (radius, radius), 0, 360), "f4e6bd", 0.85)
    sheet.wash(_arc((1240, 330), (118, 118), 0, 360), "f3e2ae")
    sheet.wash(_arc((1215, 300), (34, 26), 0, 360), "dcc68d", 0.5)
    sheet.wash(_arc((1280, 372), (22, 19), 0, 360), "dcc68d", 0.5)
    sheet.ink(_arc((1240, 330), (118, 118), 0, 360), 2.5, strength=0.5)
    for base, rise, colour, seed in ((760, 120, "56698b", 1), (850, 90, "47597a", 2), (950, 80, "33465f", 3)):
        x = np.linspace(0, width, 80)
        rng = np.random.default_rng(seed)
        ridge = base - rise * sum(
            np.sin(x / w + rng.uniform(0, 6)) * s for w, s in ((310, 0.6), (140, 0.3), (63, 0.12))
        )
        hill = np.vstack([np.column_stack([x, ridge]), [[width, height], [0, height]]])
        sheet.wash(hill, colour)
        sheet.ink(hill[:80], 2.5, strength=0.55)
        for start in range(20, width, 45):
            y = float(np.interp(start, x, ridge))
            sheet.ink([(start, y + 24), (start + 22, y + 52)], 2, strength=0.25)
    return sheet.finish(paper_grain(SHEET, sheet.rng, 0.05))


def village() -> Floats:
    """Return the near backdrop: paper houses and trees, cut out along their roofs. RGBA (H, W, 4)."""
    sheet = Canvas(SHEET, "7d5a46", seed=12)
    width, height = SHEET
    roofs: list[tuple[float, float]] = [(0.0, 930.0)]
    houses = [
        (60, 250, 700),
        (320, 190, 780),
        (520, 230, 640),
        (780, 150, 800),
        (960, 240, 720),
        (1230, 180, 790),
    ]
    houses += [(1430, 260, 660), (1720, 220, 750)]
    for x, wide, top in houses:
        roofs += [
            (x - 12, 900),
            (x - 12, top + 80),
            (x + wide / 2, top),
            (x + wide + 12, top + 80),
            (x + wide + 12, 910),
        ]
    roofs += [(width, 930)]
    outline = np.array([*roofs, (width, height), (0, height)])
    walls = ("c49a6c", "a8614a", "b9a47a", "8b6d84", "c07f52", "a79770", "b0584a", "8a8a74")
    for (x, wide, top), colour in zip(houses, walls, strict=True):
        sheet.wash([(x, top + 80), (x + wide, top + 80), (x + wide, 1060), (x, 1060)], colour)
        sheet.wash([(x - 12, top + 84), (x + wide / 2, top), (x + wide + 12, top + 84)], "6e3a34")
        sheet.ink([(x - 12, top + 84), (x + wide / 2, top), (x + wide + 12, top + 84), (x - 12, top + 84)], 3)
        sheet.ink([(x, top + 84), (x, 1060)], 3)
        sheet.ink([(x + wide, top + 84), (x + wide, 1060)], 3)
        for row in range(2):
            for side in (0.2, 0.6):
                left, upper = x + wide * side, float(top + 120 + row * 105)
                window = np.array([(0, 0), (38, 0), (38, 54), (0, 54)]) + (left, upper)
                sheet.wash(window, "f2c766" if (row + int(side * 10) + x // 10) % 3 else "4a4a5c")
                sheet.ink(window, 2.5, closed=True)
                sheet.ink([(left + 19, upper), (left + 19, upper + 54)], 2)
        for line in range(5):
            y = top + 30 + line * 12
            reach = (y - top) / 84 * (wide / 2)
            sheet.ink([(x + wide / 2 - reach, y), (x + wide / 2 + reach, y)], 1.6, strength=0.4)
    ground = [(0, 1000), (700, 1030), (1300, 1010), (width, 1040), (width, height), (0, height)]
    sheet.wash(ground, "6d7a4c")
    for x in range(15, width, 26):
        root = 1045 + 40 * float(sheet.rng.random())
        sheet.ink([(x, root), (x + 6, root - 22)], 2.2, "2f3a20", 0.6)
    sheet.alpha = sheet.mask(outline)
    edge = np.clip(cv2.GaussianBlur(1 - sheet.alpha, (0, 0), 2.0) * 1.4, 0, 1) * sheet.alpha
    sheet.colour += (linear("e6d2ae") - sheet.colour) * edge[..., None]
    return sheet.finish(paper_grain(SHEET, sheet.rng, 0.055))


def _opening() -> NDArray[np.float64]:
    arch = _arc((1000, 470), (452, 270), 180, 360)
    return np.vstack([arch, [(1452, 1010), (548, 1010)]])


OPENING = _opening()
"""The outline of the hole in the proscenium, on its sheet."""


def proscenium() -> Floats:
    """Return the stage front without the label: arch, columns, valance, footlights. RGBA (H, W, 4)."""
    sheet = Canvas(SHEET, "7a2f2b", seed=13)
    width, height = SHEET
    sheet.wash([(0, 0), (width, 0), (width, height), (0, height)], "8a3630", 0.6)
    _diamonds(sheet)
    for left in _COLUMNS:
        _column(sheet, left)
        _repeat_downwards(sheet.colour, left)
    opening = OPENING
    for grow, colour in ((62, "c99a45"), (44, "e0bd6c"), (30, "9a6a2c")):
        sheet.wash((opening - (1000, 740)) * (1 + grow / 470) + (1000, 740), colour)
    for grow in (62, 44, 30, 14):
        sheet.ink((opening - (1000, 740)) * (1 + grow / 470) + (1000, 740), 3, closed=True)
    for angle in np.linspace(184, 356, 27):
        spot = _arc((1000, 470), (452 + 50, 270 + 44), angle, angle)[0]
        sheet.fill(_arc((float(spot[0]), float(spot[1])), (8, 8), 0, 360), "7c2a25")
        sheet.ink(_arc((float(spot[0]), float(spot[1])), (8, 8), 0, 360), 1.8)
    _stage_lip(sheet)
    _cartouche(sheet)
    sheet.cut(opening)
    grain = paper_grain(SHEET, sheet.rng, 0.06)
    for left in _COLUMNS:
        _repeat_downwards(grain, left)
    return sheet.finish(grain)


def _repeat_downwards(sheet: Floats, left: int) -> None:
    """Paper a column's shaft, in place, with its own first rows again and again; their ends are blended."""
    columns = slice(left - 4, left + _COLUMN_WIDTH + 4)
    top = _SHAFT.start
    strip = sheet[top : top + SHAFT_REPEAT, columns].copy()
    fade = np.linspace(0, 1, _SEAM, dtype=np.float32).reshape(-1, *(1,) * (sheet.ndim - 1))
    after = sheet[top + SHAFT_REPEAT : top + SHAFT_REPEAT + _SEAM, columns]
    strip[:_SEAM] = after * (1 - fade) + strip[:_SEAM] * fade
    rows = (np.arange(_SHAFT.start, _SHAFT.stop) - top) % SHAFT_REPEAT
    sheet[_SHAFT, columns] = strip[rows]


def _diamonds(sheet: Canvas) -> None:
    """Stencil rows of small diamonds, none quite like its neighbour."""
    for row, y in enumerate(range(40, 1040, 74)):
        for x in range(36 + 37 * (row % 2), SHEET[0], 74):
            w, h = sheet.rng.uniform(11, 15), sheet.rng.uniform(15, 20)
            shape = [(x - w, y), (x, y - h), (x + w, y), (x, y + h)]
            sheet.fill(shape, "a5523c", 0.8)
            sheet.ink(shape, 1.6, strength=0.5, closed=True)


def _column(sheet: Canvas, left: int) -> None:
    """Paint a fluted column of 190 px with a capital, a base and two ornament bands."""
    top, bottom, wide = 190, 1010, _COLUMN_WIDTH
    sheet.wash([(left, top), (left + wide, top), (left + wide, bottom), (left, bottom)], "cdb892")
    across = np.linspace(-1, 1, wide, dtype=np.float32)
    rows, columns = slice(top, bottom), slice(left, left + wide)
    sheet.colour[rows, columns] *= (1.06 - 0.42 * across**2 + 0.10 * across)[None, :, None]
    for flute in np.linspace(0.1, 0.9, 9):
        x = left + wide * flute
        sheet.ink([(x, top + 44), (x + 1, 330)], 2.4, "5a4431", 0.55)
        sheet.ink([(x, 412), (x, 724)], 2.4, "5a4431", 0.55)
        sheet.ink([(x, 800), (x + 1, bottom - 46)], 2.4, "5a4431", 0.55)
        for _ in range(16):
            y = sheet.rng.uniform(top + 50, bottom - 70)
            sheet.ink([(x + 3, y), (x + 9, y + sheet.rng.uniform(8, 26))], 1.4, "5a4431", 0.4, wobble=0.6)
    for band in (330, 720):
        sheet.wash(
            [(left - 6, band), (left + wide + 6, band), (left + wide + 6, band + 84), (left - 6, band + 84)],
            "6f7f63",
        )
        sheet.ink([(left - 6, band), (left + wide + 6, band)], 3)
        sheet.ink([(left - 6, band + 84), (left + wide + 6, band + 84)], 3)
        for step in range(5):
            _rosette(sheet, left + 22 + step * 37, band + 42)
    for y, grow, deep in (
        (top - 40, 26, 44),
        (top + 4, 14, 34),
        (bottom - 40, 14, 30),
        (bottom - 10, 28, 46),
    ):
        block = [
            (left - grow, y),
            (left + wide + grow, y),
            (left + wide + grow, y + deep),
            (left - grow, y + deep),
        ]
        sheet.wash(block, "d8b25c")
        sheet.ink(block, 3, closed=True)
        for x in range(left - grow + 10, left + wide + grow, 17):
            sheet.ink([(x, y + 8), (x + 3, y + deep - 8)], 1.8, strength=0.5)
    sheet.ink([(left, top), (left, bottom)], 3.5)
    sheet.ink([(left + wide, top), (left + wide, bottom)], 3.5)


def _rosette(sheet: Canvas, x: float, y: float) -> None:
    for turn in np.arange(0, 360, 60) + float(sheet.rng.uniform(0, 50)):
        angle = np.deg2rad(turn)
        petal = _arc((x + 9 * np.cos(angle), y + 9 * np.sin(angle)), (7, 5), 0, 360)
        sheet.fill(petal, "e2c98d", 0.9)
        sheet.ink(petal, 1.3, strength=0.55, wobble=0.4)
    sheet.fill(_arc((x, y), (5, 5), 0, 360), "8f3b30")


def _stage_lip(sheet: Canvas) -> None:
    width, height = SHEET
    sheet.wash([(0, 1040), (width, 1040), (width, height), (0, height)], "5d3b28")
    for y in (1040, 1096):
        sheet.ink([(0, y), (width, y)], 4)
    for x in range(30, width, 118):
        shell = _arc((x + 40, 1098), (42, 46), 180, 360)
        sheet.wash(shell, "dba94a")
        sheet.ink(shell, 2.6, closed=True)
        for angle in (210, 240, 270, 300, 330):
            sheet.ink([(x + 40, 1098), tuple(_arc((x + 40, 1098), (40, 44), angle, angle)[0])], 1.6, strength=0.6)
    for x in range(0, width, 64):
        sheet.ink([(x, 1100), (x + 5, height)], 2, strength=0.5)


def _cartouche(sheet: Canvas) -> None:
    plaque = _arc((1000, 118), (205, 62), 0, 360)
    sheet.wash(plaque, "e9d7a4")
    sheet.ink(plaque, 4, closed=True)
    sheet.ink((plaque - (1000, 118)) * (0.93, 0.84) + (1000, 118), 2, closed=True)
    sheet.text("THEATRE", (880, 134), 1.75, 3, "4a231d")


def label() -> tuple[Floats, Mapping]:
    """Return the price label, RGBA (H, W, 4), and the mapping from its pixels to the proscenium sheet."""
    wide, high = LABEL_SIZE
    margin = 14
    sheet = Canvas((wide + 2 * margin, high + 2 * margin), "f3ead0", seed=14)
    body = np.array([(0, 0), (wide, 0), (wide, high), (0, high)], float) + margin
    sheet.wash(body, "f2d64a", 0.95)
    sheet.wash(
        [(margin, margin), (margin + wide, margin), (margin + wide, margin + 26), (margin, margin + 25)],
        "c23b2e",
    )
    sheet.text("PAPER & Co", (margin + 15, margin + 19), 0.56, 1, "fff4dd")
    sheet.text("3.50", (margin + 24, margin + 66), 1.25, 3, "1f1a18")
    for x, thick in zip(range(14, 124, 6), (2, 1, 3, 1, 2, 2, 1, 3, 1, 1, 2, 3, 1, 2, 1, 3, 2, 1, 2), strict=False):
        sheet.ink([(margin + x, margin + 74), (margin + x, margin + 91)], thick, wobble=0.1)
    sheet.ink(body, 1.6, closed=True, strength=0.5, wobble=0.4)
    mask = sheet.mask(body)
    shadow = 0.38 * cv2.GaussianBlur(np.roll(mask, (5, 4), (0, 1)), (0, 0), 3.5) * (1 - mask)
    rgba = sheet.finish(paper_grain(sheet.size_wh, sheet.rng, 0.02))
    rgba *= mask[..., None]
    rgba[..., 3] = np.maximum(mask, shadow)
    to_centre = shift(-(margin + wide / 2), -(margin + high / 2))
    return rgba, composed(to_centre, turning(LABEL_TURN), shift(*LABEL_CENTRE))
