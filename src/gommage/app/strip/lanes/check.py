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
DARK, BRIGHT = 0x42, 0xF0


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
        for left, width, figure in scale.cells(first, values, "high"):
            share = min(figure / FULL_PERCENT, 1.0)
            level = round(DARK + share * (BRIGHT - DARK))
            tall = 4 + (box.height() - 4) * share
            painter.fillRect(QRectF(left, box.bottom() - tall, width, tall), QColor(level, level, level))
