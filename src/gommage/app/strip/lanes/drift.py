"""Scribbles of the part in hand, and how far their matte drifted while it was carried."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen

from gommage.app.look.theme import theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale

__all__ = ["DRIFT_TO_LOOK_AT", "DriftLane"]

DRIFT_TO_LOOK_AT = 0.12
"""Share of the edge that moved by more than carrying told: worth another scribble."""
FULL = 0.3


class DriftLane(Lane):
    """Light is worth a look; a scribbled frame is a stroke."""

    name = "scribbles"

    def is_there(self, data: StripData) -> bool:
        return bool(data.scribbled)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        colours = theme()
        if data.drift:
            first, last = min(data.drift), max(data.drift)
            values = np.array([data.drift.get(frame, np.nan) for frame in range(first, last + 1)])
            cells = scale.cells(first, values, "high")
            tall = 3 + (box.height() - 3) * np.minimum(cells.values / FULL, 1.0)
            needs_look = cells.values > DRIFT_TO_LOOK_AT
            for colour, chosen in ((colours.quiet, ~needs_look), (colours.look_here, needs_look)):
                cells.draw_bars(painter, box, tall, chosen & np.isfinite(cells.values), QColor(colour))
        painter.setPen(QPen(QColor(colours.accent), 3))
        for frame in data.scribbled:
            x = scale.middle(frame)
            painter.drawLine(QPointF(x, box.top() + 1), QPointF(x, box.bottom() - 1))
