"""The viewer: shows pixels that the engine made, overlays on top, and hands pen and mouse to the tools."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QLineF, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPointingDevice,
    QResizeEvent,
    QTabletEvent,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from gommage.app.theme import tabular_font, theme
from gommage.app.tools import PointerEvent
from gommage.core.picture import Matrix, Points, Window

__all__ = ["CursorLook", "Mark", "Outline", "Overlay", "Viewer"]

ZOOM_STEP = 1.25
OVERLAY_DARK, OVERLAY_LIGHT = "#1e1e1e", "#dcdcdc"
"""Lines over the picture: the same in every theme, since the picture is."""
OUTLINES = {
    "area": (Qt.PenStyle.DashLine, "source"),
    "keep-out": (Qt.PenStyle.DotLine, "look_here"),
    "cover": (Qt.PenStyle.SolidLine, "accent"),
}
"""How outlines are told apart: by their stroke, and by their colour."""
SMALLEST_ZOOM, LARGEST_ZOOM = 0.05, 40.0


@dataclass(frozen=True, slots=True)
class Outline:
    """A line through points (N, 2). Kind is "area", "keep-out", "cover" or "drawing"."""

    points: Points
    kind: str
    is_closed: bool = True
    is_chosen: bool = True


@dataclass(frozen=True, slots=True)
class Mark:
    """A followed spot."""

    x: float
    y: float
    is_seen: bool
    is_chosen: bool


@dataclass(frozen=True, slots=True)
class Overlay:
    """What is drawn over the picture, in viewport coordinates.

    Attributes
    ----------
    outlines : tuple of Outline
    vertices : (N, 2) or None
        Handles of the shape in hand.
    lattice, trails : tuple of (N, 2)
        Lines of the grid on the surface; ways of its corners.
    marks : tuple of Mark
    labels : tuple of (x, y, words)
    """

    outlines: tuple[Outline, ...] = ()
    vertices: Points | None = None
    lattice: tuple[Points, ...] = ()
    trails: tuple[Points, ...] = ()
    marks: tuple[Mark, ...] = ()
    labels: tuple[tuple[float, float, str], ...] = ()


@dataclass(frozen=True, slots=True)
class CursorLook:
    """The brush cursor: radius in viewport pixels, softness, and where the source is from it (or None)."""

    radius: float
    softness: float
    source_by: tuple[float, float] | None
    is_setting_source: bool = False


class Viewer(QWidget):
    """Show a picture. All coordinates it takes and gives are viewport pixels of the screen (logical)."""

    pointer = Signal(object)
    hovered = Signal(float, float)
    view_changed = Signal()
    key_held = Signal(str, bool)
    resized = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("viewer")
        self.setAccessibleName("Picture")
        self.setMouseTracking(True)
        self.setTabletTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMinimumSize(320, 240)
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._image: QImage | None = None
        self._image_matrix: Matrix = np.eye(3)
        self._other: QImage | None = None
        self._wipe_at: float | None = None
        self._drags_wipe = False
        self._live: list[tuple[Window, QImage]] = []
        self._overlay = Overlay()
        self._cursor: CursorLook | None = None
        self._line: tuple[QPointF, QPointF] | None = None
        self._pen_at: QPointF | None = None
        self._message = ""
        self._pan_from: QPointF | None = None
        self._is_hand = False
        self._pressed = False

    # -- view -----------------------------------------------------------------------------------------------

    @property
    def zoom(self) -> float:
        """Viewport pixels a picture pixel."""
        return self._zoom

    def matrix(self) -> Matrix:
        """Return view_from_picture: zoom and pan."""
        z = self._zoom
        return np.array(
            [
                [z, 0, self.width() / 2 - z * self._centre.x()],
                [0, z, self.height() / 2 - z * self._centre.y()],
                [0, 0, 1.0],
            ]
        )

    def pixel_size(self) -> tuple[int, int]:
        """Return the viewport in device pixels."""
        ratio = self.devicePixelRatioF()
        return max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1)

    def fit(self, width: int, height: int) -> None:
        """Show the whole of a picture of that size."""
        self._zoom = min((self.width() - 24) / width, (self.height() - 24) / height)
        self._zoom = float(np.clip(self._zoom, SMALLEST_ZOOM, LARGEST_ZOOM))
        self._centre = QPointF(width / 2, height / 2)
        self.view_changed.emit()

    def zoom_to(self, zoom: float, around: QPointF | None = None) -> None:
        """Zoom, keeping what is under a point where it is."""
        fixed = around if around is not None else QPointF(self.width() / 2, self.height() / 2)
        zoom = float(np.clip(zoom, SMALLEST_ZOOM, LARGEST_ZOOM))
        middle = QPointF(self.width() / 2, self.height() / 2)
        by, change = fixed - middle, 1 / self._zoom - 1 / zoom
        self._centre += QPointF(by.x() * change, by.y() * change)
        self._zoom = zoom
        self.view_changed.emit()

    def show_around(self, x: float, y: float, zoom: float) -> None:
        """Put a picture position in the middle, at a zoom."""
        self._zoom, self._centre = float(np.clip(zoom, SMALLEST_ZOOM, LARGEST_ZOOM)), QPointF(x, y)
        self.view_changed.emit()

    # -- what is shown --------------------------------------------------------------------------------------

    def set_picture(self, pixels: NDArray[np.uint8] | None, matrix: Matrix, message: str = "") -> None:
        """Show pixels (h, w, 4) that were made for a matrix; None shows the message alone."""
        self._image = None if pixels is None else _image(pixels, self.devicePixelRatioF())
        self._image_matrix = matrix
        self._message = message
        self._live = []
        self.update()

    def set_message(self, message: str) -> None:
        """Set the words over the picture."""
        self._message = message

    def set_other(self, pixels: NDArray[np.uint8] | None) -> None:
        """Set the picture that shows right of the wipe's line."""
        self._other = None if pixels is None else _image(pixels, self.devicePixelRatioF())
        self.update()

    def set_wipe(self, is_on: bool) -> None:
        """Show or hide the wipe's line."""
        self._wipe_at = 0.5 if is_on else None
        self.update()

    def add_live(self, window: Window, pixels: NDArray[np.uint8]) -> None:
        """Lay pixels of a stroke in hand over the picture, until the next picture comes."""
        image = _image(pixels, self.devicePixelRatioF(), has_alpha=True)
        self._live.append((window, image))
        if len(self._live) > 32 and self._image is not None:
            painter = QPainter(self._image)
            for place, bit in self._live:
                ratio = self.devicePixelRatioF()
                painter.drawImage(QPointF(place.left / ratio, place.top / ratio), bit)
            painter.end()
            self._live = []
        ratio = self.devicePixelRatioF()
        area = QRectF(window.left / ratio, window.top / ratio, window.width / ratio, window.height / ratio)
        self.update(area.toAlignedRect().adjusted(-1, -1, 1, 1))

    def set_overlay(self, overlay: Overlay) -> None:
        """Set what is drawn over the picture."""
        self._overlay = overlay
        self.update()

    def set_cursor_look(self, cursor: CursorLook | None, line: tuple[QPointF, QPointF] | None = None) -> None:
        """Set the brush cursor, and a line from a source to it."""
        self._cursor, self._line = cursor, line
        self.setCursor(Qt.CursorShape.BlankCursor if cursor else Qt.CursorShape.ArrowCursor)
        self.update()

    def set_hand(self, is_hand: bool) -> None:
        """Let plain drags move the view."""
        self._is_hand = is_hand
        if self._cursor is None:
            self.setCursor(Qt.CursorShape.OpenHandCursor if is_hand else Qt.CursorShape.CrossCursor)

    # -- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme().surround))
        if self._image is not None:
            self._draw_image(painter, self._image)
            ratio = self.devicePixelRatioF()
            for window, bit in self._live:
                painter.drawImage(QPointF(window.left / ratio, window.top / ratio), bit)
            if self._wipe_at is not None and self._other is not None:
                self._draw_wipe(painter)
        if self._message:
            self._draw_message(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_overlay(painter)
        self._draw_cursor(painter)
        painter.end()

    def _draw_image(self, painter: QPainter, image: QImage) -> None:
        now = self.matrix()
        if np.allclose(now, self._image_matrix):
            painter.drawImage(0, 0, image)
            return
        # The engine is a moment behind a pan or zoom: what is there is moved along meanwhile.
        move = now @ np.linalg.inv(self._image_matrix)
        painter.save()
        painter.setTransform(QTransform(*(float(v) for v in move.T.ravel())), combine=True)
        painter.drawImage(0, 0, image)
        painter.restore()

    def _draw_wipe(self, painter: QPainter) -> None:
        assert self._wipe_at is not None
        assert self._other is not None
        x = self._wipe_at * self.width()
        painter.save()
        painter.setClipRect(QRectF(x, 0, self.width() - x, self.height()))
        self._draw_image(painter, self._other)
        painter.restore()
        painter.setPen(QPen(QColor(theme().accent), 1.5))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        self._draw_tag(painter, QPointF(x - 8, 10), "result", right=True)
        self._draw_tag(painter, QPointF(x + 8, 10), "plate")

    def _draw_tag(self, painter: QPainter, at: QPointF, words: str, *, right: bool = False) -> None:
        painter.setFont(tabular_font(9))
        width = painter.fontMetrics().horizontalAdvance(words) + 12
        box = QRectF(at.x() - (width if right else 0), at.y(), width, 20)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(theme().panel))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(QColor(theme().text))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _draw_message(self, painter: QPainter) -> None:
        painter.setPen(QColor(theme().text))
        painter.setFont(tabular_font(11))
        box = QRectF(self.rect()).adjusted(40, 40, -40, -40)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._message)

    def _draw_overlay(self, painter: QPainter) -> None:
        """Draw lines as a light one on a dark one, opaque: half-transparent pens cost ten times as much."""
        colours = theme()
        dark = QColor(OVERLAY_DARK)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        lines = [line for points in self._overlay.lattice for line in _lines(points)]
        for colour, width in ((dark, 1.8), (QColor(OVERLAY_LIGHT), 0.9)):
            painter.setPen(QPen(colour, width))
            painter.drawLines(lines)
        for outline in self._overlay.outlines:
            points = outline.points
            shape = _lines(np.vstack([points, points[:1]]) if outline.is_closed else points)
            painter.setPen(QPen(dark, 3.2))
            painter.drawLines(shape)
            style, token = OUTLINES.get(outline.kind, (Qt.PenStyle.SolidLine, "accent"))
            painter.setPen(QPen(QColor(getattr(colours, token)), 1.8 if outline.is_chosen else 1.0, style))
            painter.drawLines(shape)
        for way in self._overlay.trails:
            shape = _lines(way)
            for pen in (QPen(dark, 2.6), QPen(QColor(colours.source), 1.2)):
                painter.setPen(pen)
                painter.drawLines(shape)
            painter.setPen(QPen(QColor(colours.source), 3.5))
            painter.drawPoints([line.p1() for line in shape])
        self._draw_marks(painter, dark)
        for x, y, words in self._overlay.labels:
            self._draw_tag(painter, QPointF(x, y), words)
        if self._overlay.vertices is not None:
            for x, y in self._overlay.vertices:
                if np.isfinite(x) and np.isfinite(y):
                    painter.setPen(QPen(dark, 1))
                    painter.setBrush(QColor(colours.text))
                    painter.drawEllipse(QPointF(x, y), 4, 4)

    def _draw_marks(self, painter: QPainter, dark: QColor) -> None:
        """Draw spots: a cross in a ring; hollow and dashed where the spot is not seen."""
        colours = theme()
        for mark in self._overlay.marks:
            at = QPointF(mark.x, mark.y)
            style = Qt.PenStyle.SolidLine if mark.is_seen else Qt.PenStyle.DotLine
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pen in (QPen(dark, 3.4), QPen(QColor(colours.source), 2.2 if mark.is_chosen else 1.4, style)):
                painter.setPen(pen)
                painter.drawEllipse(at, 8, 8)
                if mark.is_seen:
                    painter.drawLine(at - QPointF(4, 0), at + QPointF(4, 0))
                    painter.drawLine(at - QPointF(0, 4), at + QPointF(0, 4))

    def _draw_cursor(self, painter: QPainter) -> None:
        at, look = self._pen_at, self._cursor
        if at is None or look is None:
            return
        colours = theme()
        if look.source_by is not None and self._image is not None and not self._pressed:
            self._draw_preview(painter, at, look)
        if self._line is not None:
            painter.setPen(QPen(QColor(colours.source), 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(*self._line)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if look.source_by is not None:
            source = at + QPointF(*look.source_by)
            for colour, width in ((QColor(0, 0, 0, 130), 3.0), (QColor(colours.source), 1.5)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(source, look.radius, look.radius)
                painter.drawLine(source - QPointF(4, 0), source + QPointF(4, 0))
                painter.drawLine(source - QPointF(0, 4), source + QPointF(0, 4))
        ring = colours.source if look.is_setting_source else colours.accent
        for colour, width in ((QColor(0, 0, 0, 130), 3.0), (QColor(ring), 1.5)):
            painter.setPen(QPen(colour, width))
            painter.drawEllipse(at, look.radius, look.radius)
        if look.softness > 0.05:
            painter.setPen(QPen(QColor(ring), 1, Qt.PenStyle.DotLine))
            inner = look.radius * (1 - look.softness)
            painter.drawEllipse(at, inner, inner)
        if look.is_setting_source:
            painter.drawLine(at - QPointF(6, 0), at + QPointF(6, 0))
            painter.drawLine(at - QPointF(0, 6), at + QPointF(0, 6))

    def _draw_preview(self, painter: QPainter, at: QPointF, look: CursorLook) -> None:
        """Show, inside the cursor, the pixels that are about to be laid."""
        assert look.source_by is not None
        assert self._image is not None
        if not np.allclose(self.matrix(), self._image_matrix):
            return
        painter.save()
        path = QPainterPath()
        inner = max(look.radius * (1 - look.softness / 2), 1)
        path.addEllipse(at, inner, inner)
        painter.setClipPath(path)
        painter.setOpacity(0.9)
        painter.drawImage(QPointF(-look.source_by[0], -look.source_by[1]), self._image)
        painter.restore()

    # -- events ---------------------------------------------------------------------------------------------

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.resized.emit()

    def sizeHint(self) -> QSize:
        return QSize(720, 480)

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120
        if steps:
            self.zoom_to(self._zoom * ZOOM_STEP**steps, event.position())
        event.accept()

    def tabletEvent(self, event: QTabletEvent) -> None:
        kinds = {
            QEvent.Type.TabletPress: "press",
            QEvent.Type.TabletMove: "move",
            QEvent.Type.TabletRelease: "release",
        }
        kind = kinds.get(event.type())
        if kind is None:
            return
        eraser = event.pointerType() == QPointingDevice.PointerType.Eraser
        pressure = event.pressure() if kind != "release" else 0.0
        self._feed(kind, event.position(), event.modifiers(), pressure, is_eraser=eraser)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        middle = event.button() == Qt.MouseButton.MiddleButton
        if middle or (self._is_hand and event.button() == Qt.MouseButton.LeftButton):
            self._pan_from = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton:
            if self._wipe_at is not None and abs(event.position().x() - self._wipe_at * self.width()) < 7:
                self._drags_wipe = True
                return
            self._feed("press", event.position(), event.modifiers(), 1.0)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pan_from is not None:
            by = event.position() - self._pan_from
            self._centre -= QPointF(by.x() / self._zoom, by.y() / self._zoom)
            self._pan_from = event.position()
            self.view_changed.emit()
            self.update()
        elif self._drags_wipe:
            self._wipe_at = float(np.clip(event.position().x() / self.width(), 0.02, 0.98))
            self.update()
        else:
            self._feed("move", event.position(), event.modifiers(), 1.0)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pan_from is not None:
            self._pan_from = None
            self.set_hand(self._is_hand)
        elif self._drags_wipe:
            self._drags_wipe = False
        elif event.button() == Qt.MouseButton.LeftButton:
            self._feed("release", event.position(), event.modifiers(), 1.0)

    def _feed(
        self,
        kind: str,
        at: QPointF,
        modifiers: Qt.KeyboardModifier,
        pressure: float,
        *,
        is_eraser: bool = False,
    ) -> None:
        self._pen_at = at
        if kind != "move":
            self._pressed = kind == "press"
        self.hovered.emit(at.x(), at.y())
        if kind != "move" or self._pressed:
            self.pointer.emit(
                PointerEvent(
                    kind,
                    at.x(),
                    at.y(),
                    pressure,
                    alt=bool(modifiers & Qt.KeyboardModifier.AltModifier),
                    shift=bool(modifiers & Qt.KeyboardModifier.ShiftModifier),
                    control=bool(modifiers & Qt.KeyboardModifier.ControlModifier),
                    is_eraser=is_eraser,
                )
            )
        if self._cursor is not None:
            self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._pen_at = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        self._held(event, is_down=True)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        self._held(event, is_down=False)

    def _held(self, event: QKeyEvent, *, is_down: bool) -> None:
        names = {Qt.Key.Key_Q: "Q", Qt.Key.Key_Z: "Z", Qt.Key.Key_Alt: "Alt"}
        name = names.get(Qt.Key(event.key()))
        plain = not event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if name and plain and not event.isAutoRepeat():
            self.key_held.emit(name, is_down)
        else:
            event.ignore()


def _image(pixels: NDArray[np.uint8], ratio: float, *, has_alpha: bool = False) -> QImage:
    """Return an image that owns its pixels, so that the array may go."""
    height, width = pixels.shape[:2]
    kind = QImage.Format.Format_ARGB32 if has_alpha else QImage.Format.Format_RGB32
    image = QImage(pixels.data, width, height, width * 4, kind).copy()
    image.setDevicePixelRatio(ratio)
    return image


def _lines(points: Points) -> list[QLineF]:
    """Return the pieces of a line through points, without those that lead to where no point is."""
    flat = np.asarray(points, float)
    known = np.isfinite(flat).all(axis=1)
    return [
        QLineF(*flat[index], *flat[index + 1]) for index in range(len(flat) - 1) if known[index] and known[index + 1]
    ]
