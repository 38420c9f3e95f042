"""Measurements, by lightness: dark is fine, light is worth a look."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["CheckLane"]

FULL_PERCENT = 5.0
DARK, BRIGHT, SHADES = 0x42, 0xF0, 16


class CheckLane(Lane):
    """The worst figure of each frame."""

    name = "check"
    steps = (Step.CHECK, Step.MATCH)

    def is_there(self, data: StripData) -> bool:
        return bool(data.figures) or super().is_there(data)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        if not data.figures:
            return
        first, last = min(data.figures), max(data.figures)
        values = np.array([data.figures.get(frame, np.nan) for frame in range(first, last + 1)])
        cells = scale.cells(first, values, "high")
        shares = np.minimum(cells.values / FULL_PERCENT, 1.0)
        tall, steps = 4 + (box.height() - 4) * shares, np.round(shares * SHADES)
        for step in np.unique(steps):
            level = round(DARK + step / SHADES * (BRIGHT - DARK))
            cells.draw_bars(painter, box, tall, steps == step, QColor(level, level, level))
