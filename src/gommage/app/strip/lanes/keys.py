"""Keys of the shape in hand, and the bar of frames on which the fix lives."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPolygonF

from gommage.app.look.theme import theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["KeysLane"]


class KeysLane(Lane):
    """Keys and frames of life; the bar's ends are dragged."""

    name = "keys"
    steps = (Step.COVER,)

    def is_there(self, data: StripData) -> bool:
        return data.span is not None or bool(data.keys) or super().is_there(data)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        colours = theme()
        middle = box.center().y()
        if data.span is not None:
            first, last = data.span
            bar = QRectF(scale.x(first), middle - 2, scale.x(last + 1) - scale.x(first), 4)
            painter.fillRect(bar, QColor(colours.line))
            for x in (bar.left(), bar.right()):
                painter.fillRect(QRectF(x - 1.5, box.top() + 1, 3, box.height() - 2), QColor(colours.text))
        painter.setPen(Qt.PenStyle.NoPen)
        for frame in data.keys:
            is_chosen = frame in data.chosen_keys
            painter.setBrush(QColor(colours.text if is_chosen else colours.accent))
            at = QPointF(scale.middle(frame + (data.keys_by if is_chosen else 0)), middle)
            painter.drawPolygon(QPolygonF([at + QPointF(*by) for by in ((-5, 0), (0, -5), (5, 0), (0, 5))]))
