"""The frame strip: a ruler with real frame numbers, and lanes for what is known of every frame."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from gommage.app.theme import tabular_font, theme

__all__ = ["FrameStrip", "StripData"]

LEFT = 62
RIGHT = 10
LANES = (("follow", 20, 26), ("keys", 48, 14), ("strokes", 64, 12), ("check", 78, 20))
SEAM_FULL_PERCENT = 5.0


@dataclass(frozen=True, slots=True)
class StripData:
    """What the strip shows.

    Attributes
    ----------
    certainty : dict of int to float
        By frame, the height in the follow lane; `amber` marks frames to look at.
    keys : tuple of int
        Frames with keys of the cover in hand.
    homes : tuple of int
        Home frames: of the surface, then of the plates.
    strokes : dict of int to int
        How many strokes were painted on a plate at home there.
    figures : dict of int to float
        Per cent, for the check lane.
    span : (first, last) or None
        Where the fix in hand lives.
    slips, reasons : dict of int to float, to str
        By frame, how far the surface may be off in pixels, and why.
    pins : tuple of int
        Frames corrected by hand.
    marked : (first, last) or None
        Marked frames.
    """

    first: int = 1
    last: int = 0
    missing: frozenset[int] = frozenset()
    certainty: dict[int, float] = field(default_factory=dict)
    amber: frozenset[int] = frozenset()
    keys: tuple[int, ...] = ()
    homes: tuple[int, ...] = ()
    strokes: dict[int, int] = field(default_factory=dict)
    figures: dict[int, float] = field(default_factory=dict)
    span: tuple[int, int] | None = None
    slips: dict[int, float] = field(default_factory=dict)
    reasons: dict[int, str] = field(default_factory=dict)
    pins: tuple[int, ...] = ()
    marked: tuple[int, int] | None = None


class FrameStrip(QWidget):
    """Lanes over frames. Click or drag to scrub, wheel to zoom, double-click a check mark to go there."""

    frame_chosen = Signal(int)
    span_dragged = Signal(int, int, bool)
    frames_marked = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Frame strip")
        self.setObjectName("panel")
        self.setMinimumHeight(104)
        self.setMouseTracking(True)
        self._data = StripData()
        self._frame = 1
        self._ready: frozenset[int] = frozenset()
        self._from, self._to = 1.0, 2.0
        self._drag = ""
        self._mark_from = 0

    def sizeHint(self) -> QSize:
        return QSize(800, 106)

    def show_data(self, data: StripData) -> None:
        """Show other data; another range of frames resets the zoom."""
        if (data.first, data.last) != (self._data.first, self._data.last):
            self._from, self._to = float(data.first), float(max(data.last, data.first) + 1)
        self._data = data
        self.update()

    def show_frame(self, frame: int) -> None:
        """Move the playhead; the strip scrolls along when zoomed."""
        self._frame = frame
        if not self._from <= frame < self._to:
            width = self._to - self._from
            self._from = min(max(frame - width / 2, self._data.first), self._data.last + 1 - width)
            self._to = self._from + width
        self.update()

    def show_ready(self, frames: frozenset[int]) -> None:
        """Draw the hair line under frames that can be shown at once."""
        if frames != self._ready:
            self._ready = frames
            self.update()

    def _x(self, frame: float) -> float:
        return LEFT + (frame - self._from) / (self._to - self._from) * (self.width() - LEFT - RIGHT)

    def _frame_at(self, x: float) -> int:
        frame = self._from + (x - LEFT) / max(self.width() - LEFT - RIGHT, 1) * (self._to - self._from)
        return min(max(int(frame), self._data.first), self._data.last)

    # -- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        colours = theme()
        painter.fillRect(self.rect(), QColor(colours.panel))
        painter.setFont(tabular_font(8.5))
        for name, top, height in LANES:
            painter.setPen(QColor(colours.quiet))
            painter.drawText(QRectF(8, top, LEFT - 12, height), Qt.AlignmentFlag.AlignVCenter, name)
            painter.fillRect(QRectF(LEFT, top, self.width() - LEFT - RIGHT, height), QColor(colours.card))
        painter.setClipRect(QRectF(LEFT - 6, 0, self.width() - LEFT, self.height()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_marked(painter)
        self._draw_ruler(painter)
        self._draw_follow(painter)
        self._draw_check(painter)
        self._draw_marks(painter)
        if self._data.last >= self._data.first:
            self._draw_playhead(painter)
        painter.end()

    def _visible(self) -> range:
        return range(max(int(self._from), self._data.first), min(int(self._to) + 1, self._data.last) + 1)

    def _draw_ruler(self, painter: QPainter) -> None:
        colours = theme()
        per_frame = self._x(1) - self._x(0)
        step = next((s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500) if s * per_frame >= 52), 1000)
        for frame in self._visible():
            x = self._x(frame)
            if frame in self._data.missing:
                painter.fillRect(QRectF(x, 17, per_frame, 84), QColor(0, 0, 0, 90))
            if frame in self._ready:
                painter.fillRect(QRectF(x, 16.5, per_frame + 0.5, 2), QColor(colours.quiet))
            if frame % step == 0 or frame == self._data.first:
                painter.setPen(QColor(colours.quiet))
                painter.drawLine(QPointF(x + per_frame / 2, 13), QPointF(x + per_frame / 2, 16))
                if frame % step == 0 and abs(frame - self._frame) * per_frame > 34:
                    box = QRectF(x + per_frame / 2 - 30, 0, 60, 13)
                    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(frame))

    def _draw_marked(self, painter: QPainter) -> None:
        if self._data.marked is None:
            return
        first, last = self._data.marked
        band = QRectF(self._x(first), 0, self._x(last + 1) - self._x(first), 100)
        painter.fillRect(band, QColor(theme().raised))
        for x in (band.left(), band.right()):
            painter.fillRect(QRectF(x - 1, 0, 2, 100), QColor(theme().accent))

    def _draw_follow(self, painter: QPainter) -> None:
        colours = theme()
        _, top, height = LANES[0]
        width = self._x(1) - self._x(0)
        for frame in self._visible():
            sure = self._data.certainty.get(frame)
            if sure is not None:
                tall = max(height * sure, 2)
                colour = colours.look_here if frame in self._data.amber else colours.quiet
                painter.fillRect(
                    QRectF(self._x(frame), top + height - tall, max(width - 0.6, 0.8), tall), QColor(colour)
                )

    def _draw_check(self, painter: QPainter) -> None:
        """Draw figures by lightness: dark is fine, light is worth a look."""
        _, top, height = LANES[3]
        width = self._x(1) - self._x(0)
        for frame, figure in self._data.figures.items():
            share = min(figure / SEAM_FULL_PERCENT, 1.0)
            level = round(0x42 + share * (0xF0 - 0x42))
            tall = 4 + (height - 4) * share
            painter.fillRect(
                QRectF(self._x(frame), top + height - tall, max(width - 0.6, 0.8), tall),
                QColor(level, level, level),
            )

    def _draw_marks(self, painter: QPainter) -> None:
        colours = theme()
        width = self._x(1) - self._x(0)
        _, top, height = LANES[1]
        if self._data.span is not None:
            first, last = self._data.span
            bar = QRectF(self._x(first), top + 5, self._x(last + 1) - self._x(first), 4)
            painter.fillRect(bar, QColor(colours.line))
            for x in (bar.left(), bar.right()):
                painter.fillRect(QRectF(x - 1.5, top + 1, 3, height - 2), QColor(colours.text))
        for frame in self._data.keys:
            middle = QPointF(self._x(frame) + width / 2, top + height / 2)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(colours.accent))
            painter.drawPolygon(QPolygonF([middle + QPointF(*d) for d in ((-5, 0), (0, -5), (5, 0), (0, 5))]))
        for frame in self._data.pins:
            x = self._x(frame) + width / 2
            painter.setPen(QPen(QColor(colours.panel), 1))
            painter.setBrush(QColor(colours.text))
            painter.drawPolygon(QPolygonF([QPointF(x + dx, 20 + dy) for dx, dy in ((-5, 0), (5, 0), (0, 9))]))
        for frame in self._data.homes:
            x = self._x(frame) + width / 2
            painter.setPen(QPen(QColor(colours.source), 1.6))
            painter.drawLine(QPointF(x, 20), QPointF(x, 46))
        _, top, height = LANES[2]
        for frame, count in self._data.strokes.items():
            x = self._x(frame)
            painter.fillRect(QRectF(x, top + 2, max(width, 4), height - 4), QColor(colours.accent))
            painter.setPen(QColor(colours.text))
            painter.drawText(QRectF(x + max(width, 4) + 4, top, 90, height), Qt.AlignmentFlag.AlignVCenter,
                             f"{count} stroke" + ("s" if count != 1 else ""))  # fmt: skip

    def _draw_playhead(self, painter: QPainter) -> None:
        colours = theme()
        width = self._x(1) - self._x(0)
        x = self._x(self._frame) + width / 2
        painter.setPen(QPen(QColor(colours.text), 1.4))
        painter.drawLine(QPointF(x, 16), QPointF(x, 100))
        font = tabular_font(8.5)
        font.setWeight(font.Weight.DemiBold)
        painter.setFont(font)
        words = str(self._frame)
        wide = painter.fontMetrics().horizontalAdvance(words) + 10
        left = min(max(x - wide / 2, LEFT), self.width() - RIGHT - wide)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colours.text))
        painter.drawRoundedRect(QRectF(left, 0, wide, 15), 4, 4)
        painter.setPen(QColor(colours.panel))
        painter.drawText(QRectF(left, 0, wide, 15), Qt.AlignmentFlag.AlignCenter, words)

    # -- events ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x, y = event.position().x(), event.position().y()
        self._drag = self._end_at(x, y) or "scrub"
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._drag, self._mark_from = "mark", self._frame_at(x)
        self.mouseMoveEvent(event)

    def _end_at(self, x: float, y: float) -> str:
        """Return which end of the fix's span is under the pointer: "first", "last" or none."""
        _, top, height = LANES[1]
        if self._data.span is None or not top <= y <= top + height:
            return ""
        if abs(x - self._x(self._data.span[0])) < 6:
            return "first"
        return "last" if abs(x - self._x(self._data.span[1] + 1)) < 6 else ""

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        if self._drag == "scrub":
            self.frame_chosen.emit(self._frame_at(x))
        elif self._drag == "mark":
            first, last = sorted((self._mark_from, self._frame_at(x)))
            self.frames_marked.emit(first, last)
        elif self._drag:
            self._drag_span(x, is_final=False)
        else:
            over_end = bool(self._end_at(x, y))
            self.setCursor(Qt.CursorShape.SizeHorCursor if over_end else Qt.CursorShape.ArrowCursor)
            self.setToolTip(self._tip(self._frame_at(x)))

    def _drag_span(self, x: float, *, is_final: bool) -> None:
        assert self._data.span is not None
        first, last = self._data.span
        if self._drag == "first":
            self.span_dragged.emit(min(self._frame_at(x), last), last, is_final)
        else:
            self.span_dragged.emit(first, max(self._frame_at(x), first), is_final)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag in ("first", "last"):
            self._drag_span(event.position().x(), is_final=True)
        self._drag = ""

    def _tip(self, frame: int) -> str:
        parts = [f"Frame {frame}"]
        if frame in self._data.missing:
            parts.append("missing")
        if frame in self._data.slips:
            parts.append(f"may be off by {self._data.slips[frame]:.2f} px")
        if self._data.reasons.get(frame):
            parts.append(self._data.reasons[frame])
        if frame in self._data.pins:
            parts.append("pinned")
        if frame in self._data.figures:
            parts.append(f"check {self._data.figures[frame]:.1f} %")
        return ", ".join(parts)

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120
        fixed = self._from + (event.position().x() - LEFT) / max(self.width() - LEFT - RIGHT, 1) * (
            self._to - self._from
        )
        factor = 1.25**-steps
        low, high = float(self._data.first), float(self._data.last + 1)
        width = min(max((self._to - self._from) * factor, 8.0), max(high - low, 1.0))
        share = (fixed - self._from) / (self._to - self._from)
        self._from = min(max(fixed - share * width, low), max(high - width, low))
        self._to = self._from + width
        self.update()
