"""The follow: as high as it is sure, home frames and pins marked."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from gommage.app.look.theme import theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["FollowLane"]

AMBER_BELOW = 0.5
"""A slip of `SLIP_TO_LOOK_AT_PX` halves what is sure; lower cells are worth a look."""


class FollowLane(Lane):
    """How well each frame was followed."""

    name = "follow"
    steps = (Step.FOLLOW,)

    def is_there(self, data: StripData) -> bool:
        return len(data.sure) > 0 or bool(data.homes) or super().is_there(data)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        colours = theme()
        cells = scale.cells(data.sure_from, data.sure)
        tall, is_low = np.maximum(box.height() * cells.values, 2.0), cells.values < AMBER_BELOW
        for colour, chosen in ((colours.quiet, ~is_low), (colours.look_here, is_low)):
            cells.draw_bars(painter, box, tall, chosen, QColor(colour))
        for frame in data.pins:
            x = scale.middle(frame)
            painter.setPen(QPen(QColor(colours.panel), 1))
            painter.setBrush(QColor(colours.text))
            top = box.top()
            painter.drawPolygon(QPolygonF([QPointF(x + dx, top + dy) for dx, dy in ((-5, 0), (5, 0), (0, 9))]))
        for frame in data.homes:
            painter.setPen(QPen(QColor(colours.source), 1.6))
            painter.drawLine(QPointF(scale.middle(frame), box.top()), QPointF(scale.middle(frame), box.bottom()))
