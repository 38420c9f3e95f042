"""The graph of a surface: position, scale, turn and slip over the frames, to read and to click."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from gommage.app.look.theme import tabular_font, theme
from gommage.core.engine import SurfaceSummary

__all__ = ["Curve", "TrackGraph"]

LANE_PX = 22
SLIP_SCALE_PX = 0.5
"""The slip's lane is at least this high, so that a good follow looks calm."""
LEFT, RIGHT = 44, 62


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """One lane: its name, a value a frame (NaN: none), how a value is written, and a range that is always shown."""

    name: str
    values: NDArray[np.float64]
    written: str
    shown: tuple[float, float] | None = None


def _curves(known: SurfaceSummary) -> tuple[Curve, ...]:
    """Return position, scale, turn and slip of a surface's middle over its frames."""
    slip = np.where(known.is_placed, known.slip_px, np.nan)
    return (
        Curve("x", known.x, "{:.1f} px"),
        Curve("y", known.y, "{:.1f} px"),
        Curve("scale", known.scale_percent, "{:.1f} %"),
        Curve("turn", known.turn_deg, "{:.2f}°"),
        Curve("slip", slip, "{:.2f} px", (0.0, SLIP_SCALE_PX)),
    )


class TrackGraph(QWidget):
    """Lanes over frames. Click or drag to go to a frame."""

    frame_chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Graph of the motion")
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self._curves: tuple[Curve, ...] = ()
        self._first, self._frame = 1, 1
        self._picture: QPixmap | None = None
        self._picture_key: object = None
        self._known: SurfaceSummary | None = None

    def show_summary(self, known: SurfaceSummary | None) -> None:
        """Show the curves of a surface; None shows none."""
        if known is self._known:
            return
        self._known = known
        self._curves = _curves(known) if known is not None else ()
        self._first = known.first if known is not None else 1
        self.setVisible(bool(self._curves))
        self.updateGeometry()
        self.update()

    def show_frame(self, frame: int) -> None:
        """Move the line of the frame on screen."""
        self._frame = frame
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, max(len(self._curves), 1) * LANE_PX + 4)

    def _x(self, index: Any) -> Any:
        count = max(len(self._curves[0].values) - 1, 1)
        return LEFT + index / count * (self.width() - LEFT - RIGHT)

    def _box(self, lane: int) -> QRectF:
        return QRectF(LEFT, lane * LANE_PX + 2, self.width() - LEFT - RIGHT, LANE_PX - 4)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._drawn_curves())
        painter.setFont(tabular_font(8.5))
        for lane, curve in enumerate(self._curves):
            self._draw_value(painter, curve, self._box(lane))
        painter.end()

    def _drawn_curves(self) -> QPixmap:
        """Return the lanes without values, drawn once for all frames."""
        ratio = self.devicePixelRatioF()
        key = self._curves, self.width(), self.height(), ratio, theme()
        if self._picture is not None and self._picture_key == key:
            return self._picture
        picture = QPixmap(self.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        colours = theme()
        picture.fill(QColor(colours.panel))
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(tabular_font(8.5))
        for lane, curve in enumerate(self._curves):
            box = self._box(lane)
            painter.fillRect(box, QColor(colours.card))
            painter.setPen(QColor(colours.quiet))
            painter.drawText(QRectF(0, box.top(), LEFT - 6, box.height()), Qt.AlignmentFlag.AlignVCenter, curve.name)
            self._draw_curve(painter, curve, box)
        painter.end()
        self._picture, self._picture_key = picture, key
        return picture

    def _draw_curve(self, painter: QPainter, curve: Curve, box: QRectF) -> None:
        known = curve.values[np.isfinite(curve.values)]
        if not len(known):
            return
        always = curve.shown or (known[0], known[0])
        low, high = float(min(known.min(), always[0])), float(max(known.max(), always[1]))
        span = max(high - low, 1e-9)
        y = box.bottom() - 3 - (curve.values - low) / span * (box.height() - 6)
        if high - low < 1e-6:
            y = np.where(np.isfinite(curve.values), box.center().y(), np.nan)
        xs = self._x(np.arange(len(y)))
        painter.setPen(QPen(QColor(theme().source), 1.3))
        for run in np.split(np.arange(len(y)), np.flatnonzero(~np.isfinite(y))):
            known_run = run[np.isfinite(y[run])]
            if len(known_run) > 1:
                shown = _thinned(known_run, xs, y)
                points = zip(xs[shown].tolist(), y[shown].tolist(), strict=True)
                painter.drawPolyline(QPolygonF([QPointF(*point) for point in points]))

    def _draw_value(self, painter: QPainter, curve: Curve, box: QRectF) -> None:
        index = self._frame - self._first
        if not 0 <= index < len(curve.values):
            return
        colours = theme()
        painter.setPen(QPen(QColor(colours.text), 1.2))
        painter.drawLine(QPointF(self._x(index), box.top()), QPointF(self._x(index), box.bottom()))
        value = curve.values[index]
        words = curve.written.format(value) if np.isfinite(value) else "–"
        painter.drawText(
            QRectF(box.right() + 6, box.top(), RIGHT - 6, box.height()), Qt.AlignmentFlag.AlignVCenter, words
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._curves or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        count = len(self._curves[0].values)
        share = (event.position().x() - LEFT) / max(self.width() - LEFT - RIGHT, 1)
        self.frame_chosen.emit(self._first + min(max(round(share * (count - 1)), 0), count - 1))


def _thinned(run: NDArray[np.int64], xs: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return of a run of frames those that are seen: the lowest and the highest of each column of pixels."""
    columns = np.floor(xs[run])
    starts = np.flatnonzero(np.diff(columns, prepend=-np.inf))
    if len(run) <= 2 * len(starts):
        return run
    rising = np.lexsort((y[run], columns))
    ends = np.append(starts[1:], len(run)) - 1
    return np.unique(np.concatenate([run[rising[starts]], run[rising[ends]]]))
