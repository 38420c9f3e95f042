"""The frame strip: a ruler with real frame numbers, and lanes for what is known of every frame."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PySide6.QtWidgets import QWidget

from gommage.app.look.theme import tabular_font, theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes import LANES
from gommage.app.strip.lanes.keys import KeysLane
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import LEFT, RIGHT, Scale

__all__ = ["FrameStrip"]

HEIGHT = 106
TOP, BOTTOM, GAP = 20, 4, 2
GROWN = 2.0
"""A lane in which one works is so many times as high as the others."""
NUMBER_STEPS = tuple(digit * 10**power for power in range(6) for digit in (1, 2, 5))
GRAB_PX = 6


class FrameStrip(QWidget):
    """Lanes over frames. Click or drag to scrub, drag the ends of the fix's bar, Shift-drag to mark, wheel to zoom.

    Keys are dragged, with Alt copied; Control chooses several.
    """

    frame_chosen = Signal(int)
    span_dragged = Signal(int, int, bool)
    frames_marked = Signal(int, int)
    keys_chosen = Signal(tuple)
    keys_moved = Signal(tuple, int, bool)
    keys_asked = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Frame strip")
        self.setObjectName("panel")
        self.setFixedHeight(HEIGHT)
        self.setMouseTracking(True)
        self._data = StripData()
        self._frame = 1
        self._ready: frozenset[int] = frozenset()
        self._missing = np.empty(0, np.int64)
        self._from, self._to = 1.0, 2.0
        self._drag = ""
        self._mark_from = 0
        self._picture: QPixmap | None = None
        self._picture_key: object = None

    def sizeHint(self) -> QSize:
        return QSize(800, HEIGHT)

    def show_data(self, data: StripData) -> None:
        """Show other data; another range of frames resets the zoom."""
        if (data.first, data.last) != (self._data.first, self._data.last):
            self._from, self._to = float(data.first), float(max(data.last, data.first) + 1)
        if data.missing is not self._data.missing:
            self._missing = np.array(data.missing, np.int64)
        self._data = data
        self.update()

    def show_frame(self, frame: int) -> None:
        """Move the playhead; the strip scrolls along when zoomed."""
        before, self._frame = self._frame, frame
        if self._from <= frame < self._to:
            for one in (before, frame):
                self.update(int(self.scale.middle(one)) - 32, 0, 64, self.height())
            return
        width = self._to - self._from
        self._from = min(max(frame - width / 2, self._data.first), self._data.last + 1 - width)
        self._to = self._from + width
        self.update()

    def show_ready(self, frames: frozenset[int]) -> None:
        """Draw the hair line under frames that can be shown at once."""
        if frames != self._ready:
            self._ready = frames
            self.update()

    @property
    def scale(self) -> Scale:
        """Where frames lie."""
        return Scale(self._from, self._to, self.width())

    def lanes(self) -> list[tuple[Lane, QRectF]]:
        """Return the lanes that are there, and their boxes."""
        there = [lane for lane in LANES if lane.is_there(self._data)]
        shares = [GROWN if self._data.step in lane.steps else 1.0 for lane in there]
        room = HEIGHT - TOP - BOTTOM - GAP * len(there)
        found, top = [], float(TOP)
        for lane, share in zip(there, shares, strict=True):
            height = min(room * share / sum(shares), 44.0)
            found.append((lane, QRectF(LEFT, top, self.width() - LEFT - RIGHT, height)))
            top += height + GAP
        return found

    def _frame_at(self, x: float) -> int:
        return min(max(self.scale.frame(x), self._data.first), self._data.last)

    # -- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._data.last >= self._data.first:
            self._draw_playhead(painter)
        painter.end()

    def _still(self) -> QPixmap:
        """Return all but the playhead, drawn once for all frames."""
        ratio = self.devicePixelRatioF()
        key = self._data, self._ready, self.scale, ratio, theme()
        if self._picture is not None and self._picture_key == key:
            return self._picture
        picture = QPixmap(self.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        picture.fill(QColor(theme().panel))
        painter = QPainter(picture)
        self._draw_still(painter)
        painter.end()
        self._picture, self._picture_key = picture, key
        return picture

    def _draw_still(self, painter: QPainter) -> None:
        colours = theme()
        painter.setFont(tabular_font(8.5))
        lanes = self.lanes()
        for lane, box in lanes:
            painter.setPen(QColor(colours.quiet))
            room = QRectF(8, box.top(), LEFT - 12, box.height())
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, lane.name)
            painter.fillRect(box, QColor(colours.card))
        painter.setClipRect(QRectF(LEFT - 6, 0, self.width() - LEFT, self.height()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_marked(painter)
        self._draw_ruler(painter)
        for lane, box in lanes:
            lane.draw(painter, box, self.scale, self._data)

    def _visible(self) -> range:
        return range(max(int(self._from), self._data.first), min(int(self._to) + 1, self._data.last) + 1)

    def _draw_ruler(self, painter: QPainter) -> None:
        colours, scale = theme(), self.scale
        for left, right in scale.spans(self._missing):
            painter.fillRect(QRectF(left, 17, max(right - left, 1.0), HEIGHT - 20), QColor(0, 0, 0, 90))
        for left, right in scale.spans(np.array(sorted(self._ready), np.int64)):
            painter.fillRect(QRectF(left, 16.5, right - left + 0.5, 2), QColor(colours.quiet))
        step = next((one for one in NUMBER_STEPS if one * scale.per_frame >= 52), NUMBER_STEPS[-1])
        painter.setPen(QColor(colours.quiet))
        first = -(-self._visible().start // step) * step
        for frame in range(first, self._visible().stop, step):
            x = scale.middle(frame)
            painter.drawLine(QPointF(x, 13), QPointF(x, 16))
            painter.drawText(QRectF(x - 30, 0, 60, 13), Qt.AlignmentFlag.AlignCenter, str(frame))

    def _draw_marked(self, painter: QPainter) -> None:
        if self._data.marked is None:
            return
        first, last = self._data.marked
        left, right = self.scale.x(first), self.scale.x(last + 1)
        painter.fillRect(QRectF(left, 0, right - left, HEIGHT - BOTTOM), QColor(theme().raised))
        for x in (left, right):
            painter.fillRect(QRectF(x - 1, 0, 2, HEIGHT - BOTTOM), QColor(theme().accent))

    def _draw_playhead(self, painter: QPainter) -> None:
        colours = theme()
        x = self.scale.middle(self._frame)
        painter.setPen(QPen(QColor(colours.text), 1.4))
        painter.drawLine(QPointF(x, 16), QPointF(x, HEIGHT - BOTTOM))
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
        key, adds = self._key_at(x, y), bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        self._mark_from = self._frame_at(x)
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._drag = "mark"
        elif key is not None:
            self._drag = "keys"
            self._choose_key(key, adds=adds)
            return
        elif adds and self._is_in_keys(y):
            self._drag = "pick"
        else:
            self._drag = self._end_at(x, y) or "scrub"
        self.mouseMoveEvent(event)

    def _choose_key(self, key: int, *, adds: bool) -> None:
        chosen = self._data.chosen_keys
        if adds:
            chosen = tuple(sorted({*chosen} ^ {key}))
        elif key not in chosen:
            chosen = (key,)
        self.keys_chosen.emit(chosen)

    def _is_in_keys(self, y: float) -> bool:
        box = next((box for lane, box in self.lanes() if isinstance(lane, KeysLane)), None)
        return box is not None and box.top() <= y <= box.bottom()

    def _key_at(self, x: float, y: float) -> int | None:
        """Return the frame of the key under the pointer."""
        if not self._data.keys or not self._is_in_keys(y):
            return None
        nearest = min(self._data.keys, key=lambda frame: abs(self.scale.middle(frame) - x))
        return nearest if abs(self.scale.middle(nearest) - x) < GRAB_PX else None

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        key = self._key_at(event.pos().x(), event.pos().y())
        if key is not None:
            if key not in self._data.chosen_keys:
                self.keys_chosen.emit((key,))
            self.keys_asked.emit(event.globalPos())

    def _end_at(self, x: float, y: float) -> str:
        """Return which end of the fix's span is under the pointer: "first", "last" or none."""
        if self._data.span is None or not self._is_in_keys(y):
            return ""
        if abs(x - self.scale.x(self._data.span[0])) < GRAB_PX:
            return "first"
        return "last" if abs(x - self.scale.x(self._data.span[1] + 1)) < GRAB_PX else ""

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        if self._drag == "scrub":
            self.frame_chosen.emit(self._frame_at(x))
        elif self._drag == "mark":
            first, last = sorted((self._mark_from, self._frame_at(x)))
            self.frames_marked.emit(first, last)
        elif self._drag == "pick":
            first, last = sorted((self._mark_from, self._frame_at(x)))
            self.keys_chosen.emit(tuple(key for key in self._data.keys if first <= key <= last))
        elif self._drag == "keys":
            by = self._frame_at(x) - self._mark_from
            if by != self._data.keys_by:
                self._data = replace(self._data, keys_by=by)
                self.update()
        elif self._drag:
            self._drag_span(x, is_final=False)
        else:
            over_end = bool(self._end_at(x, y)) or self._key_at(x, y) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if over_end else Qt.CursorShape.ArrowCursor)
            self.setToolTip(self.tip(self._frame_at(x)))

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
        elif self._drag == "keys":
            by, self._data = self._data.keys_by, replace(self._data, keys_by=0)
            if by:
                is_copy = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
                self.keys_moved.emit(self._data.chosen_keys, by, is_copy)
            elif not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self.frame_chosen.emit(self._frame_at(event.position().x()))
            self.update()
        self._drag = ""

    def tip(self, frame: int) -> str:
        """Return all that is known of a frame, in words."""
        parts = [f"Frame {frame}"]
        if frame in self._data.missing:
            parts.append("missing")
        slip = self._data.slip(frame)
        if slip is not None:
            parts.append(f"may be off by {slip:.2f} px")
        if self._data.reason(frame):
            parts.append(self._data.reason(frame))
        if frame in self._data.pins:
            parts.append("pinned")
        if frame in self._data.seen:
            parts.append(f"{100 * self._data.seen[frame]:.1f} % of the cover seen elsewhere")
        if frame in self._data.figures:
            parts.append(f"check {self._data.figures[frame]:.1f} %")
        return ", ".join(parts)

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120
        share = (event.position().x() - LEFT) / max(self.width() - LEFT - RIGHT, 1)
        fixed = self._from + share * (self._to - self._from)
        low, high = float(self._data.first), float(self._data.last + 1)
        width = min(max((self._to - self._from) * 1.25**-steps, 8.0), max(high - low, 1.0))
        self._from = min(max(fixed - share * width, low), max(high - width, low))
        self._to = self._from + width
        self.update()
