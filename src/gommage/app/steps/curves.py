"""Curves over the frames of a shot: small, side by side, to see where something changes."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget

from gommage.app.look.theme import tabular_font, theme
from gommage.core.match import Stops

__all__ = ["NOTHING", "LightCurves"]

LEFT, RIGHT, ROW_PX = 44, 56, 22
NAMES = ("red", "green", "blue")
LEAST_SPAN = 0.2
"""So many stops are at least from the foot of a row to its head: what hardly changes is drawn flat."""
NOTHING: Mapping[int, Stops] = {}


class LightCurves(QWidget):
    """The light that was found, in stops, a row a channel; the frame in hand is a line."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Light found over the shot")
        self.setFixedHeight(len(NAMES) * ROW_PX)
        self._found = NOTHING
        self._frames, self._stops = np.zeros(0), np.zeros((0, 3))
        self._frame = 0
        self._picture: QPixmap | None = None
        self._picture_key: object = None

    def sizeHint(self) -> QSize:
        return QSize(260, len(NAMES) * ROW_PX)

    def show_found(self, found: Mapping[int, Stops], frame: int) -> None:
        """Show what was found, and the frame in hand."""
        if found is not self._found:
            self._found = found
            self._frames = np.array(sorted(found), np.float64)
            self._stops = np.array([found[int(one)] for one in self._frames]).reshape(-1, 3)
            self._picture = None
            self.update()
        if frame != self._frame:
            self._frame = frame
            self.update()

    def _box(self, row: int) -> QRectF:
        return QRectF(LEFT, row * ROW_PX + 2, max(self.width() - LEFT - RIGHT, 1), ROW_PX - 4)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, colours = QPainter(self), theme()
        painter.drawPixmap(0, 0, self._still())
        if len(self._frames) > 1 and self._frames[0] <= self._frame <= self._frames[-1]:
            painter.setFont(tabular_font(8.5))
            for row in range(len(NAMES)):
                box = self._box(row)
                here = box.left() + (self._frame - self._frames[0]) / np.ptp(self._frames) * box.width()
                painter.setPen(QPen(QColor(colours.text), 1.2, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(here, box.top()), QPointF(here, box.bottom()))
                painter.setPen(QColor(colours.text))
                words = f"{float(np.interp(self._frame, self._frames, self._stops[:, row])):+.2f}"
                room = QRectF(box.right() + 6, box.top(), RIGHT - 6, box.height())
                painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
        painter.end()

    def _still(self) -> QPixmap:
        """Return all but the frame in hand, drawn once for all frames."""
        ratio = self.devicePixelRatioF()
        key = self.width(), ratio, theme()
        if self._picture is None or self._picture_key != key:
            self._picture = QPixmap(self.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(self._picture)
            self._draw_still(painter)
            painter.end()
            self._picture_key = key
        return self._picture

    def _draw_still(self, painter: QPainter) -> None:
        colours = theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(tabular_font(8.5))
        for row, name in enumerate(NAMES):
            box = self._box(row)
            painter.fillRect(box, QColor(colours.card))
            painter.setPen(QColor(colours.quiet))
            painter.drawText(QRectF(0, box.top(), LEFT - 6, box.height()), Qt.AlignmentFlag.AlignVCenter, name)
            if len(self._frames) < 2:
                continue
            # As many points as pixels: more are not seen.
            at = np.linspace(self._frames[0], self._frames[-1], min(len(self._frames), int(box.width())))
            values = np.interp(at, self._frames, self._stops[:, row])
            middle, half = (values.max() + values.min()) / 2, max(np.ptp(values), LEAST_SPAN) / 2
            x = box.left() + (at - at[0]) / (at[-1] - at[0]) * box.width()
            y = box.center().y() - (values - middle) / half * (box.height() / 2 - 1)
            painter.setPen(QPen(QColor(colours.source), 1.4))
            painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))
