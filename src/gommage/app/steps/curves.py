"""Curves over the frames of a shot: small, side by side, to see where something changes."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from gommage.app.look.theme import tabular_font, theme

__all__ = ["LightCurves"]

LEFT, RIGHT, ROW_PX = 44, 56, 22
NAMES = ("red", "green", "blue")
LEAST_SPAN = 0.2
"""So many stops are at least from the foot of a row to its head: what hardly changes is drawn flat."""


class LightCurves(QWidget):
    """The light that was found, in stops, a row a channel; the frame in hand is a line."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Light found over the shot")
        self.setFixedHeight(3 * ROW_PX)
        self._frames = np.zeros(0, int)
        self._stops = np.zeros((0, 3))
        self._frame = 0

    def sizeHint(self) -> QSize:
        return QSize(260, 3 * ROW_PX)

    def show_found(self, found: Mapping[int, tuple[float, float, float]], frame: int) -> None:
        """Show what was found, and the frame in hand."""
        frames = np.array(sorted(found), int)
        stops = np.array([found[int(one)] for one in frames]).reshape(-1, 3)
        if frame != self._frame or not np.array_equal(stops, self._stops) or not np.array_equal(frames, self._frames):
            self._frames, self._stops, self._frame = frames, stops, frame
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, colours = QPainter(self), theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(tabular_font(8.5))
        width = self.width() - LEFT - RIGHT
        for row, name in enumerate(NAMES):
            box = QRectF(LEFT, row * ROW_PX + 2, width, ROW_PX - 4)
            painter.fillRect(box, QColor(colours.card))
            painter.setPen(QColor(colours.quiet))
            painter.drawText(QRectF(0, box.top(), LEFT - 6, box.height()), Qt.AlignmentFlag.AlignVCenter, name)
            if len(self._frames) < 2:
                continue
            values = self._stops[:, row]
            middle, half = (values.max() + values.min()) / 2, max(np.ptp(values), LEAST_SPAN) / 2
            x = LEFT + (self._frames - self._frames[0]) / (self._frames[-1] - self._frames[0]) * width
            y = box.center().y() - (values - middle) / half * (box.height() / 2 - 1)
            painter.setPen(QPen(QColor(colours.source), 1.4))
            painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))
            if self._frames[0] <= self._frame <= self._frames[-1]:
                here = float(np.interp(self._frame, self._frames, x))
                painter.setPen(QPen(QColor(colours.text), 1.2, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(here, box.top()), QPointF(here, box.bottom()))
                painter.setPen(QColor(colours.text))
                words = f"{float(np.interp(self._frame, self._frames, values)):+.2f}"
                painter.drawText(
                    QRectF(box.right() + 6, box.top(), RIGHT - 6, box.height()), Qt.AlignmentFlag.AlignVCenter, words
                )
        painter.end()
