"""Strokes of the fix in hand on the frames on which they live; else where clean plates that have any are at home."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from gommage.app.look.theme import tabular_font, theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["StrokesLane"]


class StrokesLane(Lane):
    """How much was painted."""

    name = "strokes"
    steps = (Step.FILL,)

    def is_there(self, data: StripData) -> bool:
        return bool(data.strokes or data.laid) or super().is_there(data)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        colours = theme()
        painter.setFont(tabular_font(8.5))
        most = max(data.laid.values(), default=1)
        for frame, count in data.laid.items():
            tall = (box.height() - 4) * (0.35 + 0.65 * count / most)
            bar = QRectF(scale.x(frame), box.bottom() - 2 - tall, max(scale.per_frame - 0.5, 1.0), tall)
            shade = QColor(colours.accent)
            shade.setAlpha(255 if frame in data.chosen_laid else 110)
            painter.fillRect(bar, shade)
        for frame, count in () if data.laid else data.strokes.items():
            wide = max(scale.per_frame, 4.0)
            bar = QRectF(scale.x(frame), box.top() + 2, wide, box.height() - 4)
            painter.fillRect(bar, QColor(colours.accent))
            painter.setPen(QColor(colours.text))
            words = f"{count} stroke" + ("s" if count != 1 else "")
            room = QRectF(bar.right() + 4, box.top(), 90, box.height())
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
