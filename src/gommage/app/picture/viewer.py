"""The viewer: shows pixels that the engine made, overlays on top, and hands pen and mouse on."""

from __future__ import annotations

import time

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPointingDevice,
    QResizeEvent,
    QTabletEvent,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from gommage.app.hands.gestures import PointerEvent
from gommage.app.hands.pen import FLATTEST_DEG, SimulatedPen
from gommage.app.look.theme import tabular_font, theme
from gommage.app.picture.drawing import CursorLook, draw_cursor, draw_overlay, draw_tag
from gommage.app.picture.framing import Framing
from gommage.app.picture.images import PLAIN, image_of, sharing, united
from gommage.app.picture.overlays import Overlay
from gommage.core.engine import Shown
from gommage.core.geometry import IDENTITY, Mapping, Window, fitted, then

__all__ = ["Viewer"]

ZOOM_STEP = 1.25
WIPE_GRAB_PX = 7
SOURCE_OPACITY = 0.5


class Viewer(QWidget):
    """Show a picture. All coordinates it takes and gives are viewport pixels of the screen (logical)."""

    pointer = Signal(object)
    hovered = Signal(float, float)
    view_changed = Signal()
    key_held = Signal(str, bool)
    resized = Signal()
    wipe_dragged = Signal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("viewer")
        self.setAccessibleName("Picture")
        self.setMouseTracking(True)
        self.setTabletTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMinimumSize(320, 240)
        self._framing = Framing()
        self._image: QImage | None = None
        self._image_view: Mapping = IDENTITY
        self._other: QImage | None = None
        self._other_view: Mapping = IDENTITY
        self._source_image: QImage | None = None
        self._dab: tuple[Window, QImage] | None = None
        self._shows_source = False
        self._wipe_at: float | None = None
        self._drags_wipe = False
        self._fitted: tuple[int, int] | None = None
        self._pixels: NDArray[np.uint8] | None = None
        self._live: dict[str, list[tuple[Window, QImage]]] = {}
        self._overlay = Overlay()
        self._cursor: CursorLook | None = None
        self.pen_at: QPointF | None = None
        self._message = ""
        self._pan_from: QPointF | None = None
        self._is_hand = False
        self._pressed = False
        self.simulated_pen: SimulatedPen | None = None

    # -- view -----------------------------------------------------------------------------------------------

    @property
    def zoom(self) -> float:
        """Viewport pixels a picture pixel, down the picture."""
        return self._framing.zoom

    @property
    def framing(self) -> Framing:
        """How the picture lies in the viewport."""
        return replace(self._framing, width=self.width(), height=self.height())

    @property
    def message(self) -> str:
        """The words in the picture's place."""
        return self._message

    @property
    def has_picture(self) -> bool:
        """Whether there is a picture."""
        return self._image is not None

    @property
    def has_live(self) -> bool:
        """Whether paint lies on the picture that is not in it yet."""
        return bool(self._live)

    def view_from_picture(self) -> Mapping:
        """Return where places of the picture are; pixels that are not square are as wide as they were filmed."""
        return self.framing.view_from_picture

    def pixel_size(self) -> tuple[int, int]:
        """Return the viewport in device pixels."""
        ratio = self.devicePixelRatioF()
        return max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1)

    def set_sphere(self, sphere_wh: tuple[int, int], level: tuple[float, ...]) -> None:
        """Look round in a panorama of that size ((0, 0): show a flat picture); see `Framing` for `level`."""
        if (sphere_wh, level) == (self._framing.sphere_wh, self._framing.level):
            return
        is_other = sphere_wh != self._framing.sphere_wh
        fresh = replace(self.framing, sphere_wh=sphere_wh, level=level)
        self._frame(fresh.fitted(*sphere_wh) if is_other and sphere_wh[0] else fresh)

    def set_aspect(self, aspect: float) -> None:
        """Show pixels so many times as wide as they are high."""
        if aspect != self._framing.aspect:
            self._frame(replace(self.framing, aspect=aspect))

    def fit(self, width: int, height: int) -> None:
        """Show the whole of a picture of that size."""
        self._frame(self.framing.fitted(width, height))
        self._fitted = width, height

    def zoom_to(self, zoom: float, around: QPointF | None = None) -> None:
        """Zoom, keeping what is under a point where it is."""
        self._frame(self.framing.zoomed(zoom, None if around is None else (around.x(), around.y())))

    def turn_to(self, turn_deg: float) -> None:
        """Turn the picture to an angle, clockwise, about the pen or the middle."""
        at = self.pen_at
        self._frame(self.framing.turned(turn_deg, None if at is None else (at.x(), at.y())))

    def show_around(self, x: float, y: float, zoom: float) -> None:
        """Put a picture position in the middle, at a zoom."""
        self._frame(self.framing.around(x, y, zoom))

    def _frame(self, framing: Framing) -> None:
        self._framing, self._fitted = framing, None
        self.view_changed.emit()

    # -- what is shown --------------------------------------------------------------------------------------

    def set_picture(self, pixels: NDArray[np.uint8] | None, message: str = "", keeps: str | None = None) -> None:
        """Show pixels (h, w, 4) that were made for the view as it is; None shows the message alone.

        Paint that was laid over the last picture goes, but for the stroke `keeps` that is still in the hand.
        """
        self._pixels = pixels  # the image shares them: copying costs as much as drawing
        self._image = None if pixels is None else sharing(pixels, self.devicePixelRatioF(), PLAIN)
        self._image_view = self.view_from_picture()
        self._message = message
        self._live = {name: bits for name, bits in self._live.items() if name == keeps}
        self.update()

    def set_message(self, message: str) -> None:
        """Show a message over the picture, until the next picture comes."""
        if message != self._message:
            self._message = message
            self.update()

    def set_other(self, pixels: NDArray[np.uint8] | None) -> None:
        """Set the picture that shows right of the wipe's line."""
        self._other = None if pixels is None else image_of(pixels, self.devicePixelRatioF())
        self._other_view = self.view_from_picture()
        self.update()

    def set_source_picture(self, pixels: NDArray[np.uint8] | None) -> None:
        """Set the frame that the brush takes its pixels from, as it lies under the one on screen; None: the same."""
        if pixels is not None or self._source_image is not None:
            self._source_image = None if pixels is None else image_of(pixels, self.devicePixelRatioF())
            self.update()

    def set_dab(self, dab: Shown | None) -> None:
        """Show what the brush would lay where the pen rests, in the brush, instead of the source as it is."""
        if dab is not None or self._dab is not None:
            self._dab = (
                None if dab is None else (dab.window, image_of(dab.pixels, self.devicePixelRatioF(), has_alpha=True))
            )
            if self.pen_at is not None:
                self._update_cursor(self.pen_at, self.pen_at)

    @property
    def is_pressed(self) -> bool:
        """Whether the pen is down."""
        return self._pressed

    def show_source(self, is_shown: bool) -> None:
        """Show the source's frame half over the picture."""
        if is_shown != self._shows_source:
            self._shows_source = is_shown
            self.update()

    def set_wipe(self, at: float | None) -> None:
        """Put the wipe's line at a share of the width, or take it away."""
        if at != self._wipe_at:
            self._wipe_at = at
            if at is None:
                self._other = None
            self.update()

    def add_live(self, stroke_id: str, window: Window, pixels: NDArray[np.uint8]) -> None:
        """Lay pixels of a stroke in the hand over the picture, until a picture with the stroke in it comes."""
        ratio = self.devicePixelRatioF()
        bits = self._live.setdefault(stroke_id, [])
        bits.append((window, image_of(pixels, ratio, has_alpha=True)))
        if len(bits) > 32:
            self._live[stroke_id] = [united(bits, ratio)]
        area = QRectF(window.left / ratio, window.top / ratio, window.width / ratio, window.height / ratio)
        self.update(area.toAlignedRect().adjusted(-1, -1, 1, 1))

    def drop_live(self, stroke_id: str) -> None:
        """Take away the pixels of a stroke that was called off."""
        if self._live.pop(stroke_id, None) is not None:
            self.update()

    def set_overlay(self, overlay: Overlay) -> None:
        """Set what is drawn over the picture."""
        self._overlay = overlay
        self.update()

    def set_cursor_look(self, cursor: CursorLook | None, *, is_hand: bool = False) -> None:
        """Set the brush cursor; without one the pointer is a cross, or a hand that moves the view by plain drags."""
        self._cursor, self._is_hand = cursor, is_hand
        plain = Qt.CursorShape.OpenHandCursor if is_hand else Qt.CursorShape.CrossCursor
        wanted = Qt.CursorShape.BlankCursor if cursor else plain
        if self._pan_from is None and self.cursor().shape() != wanted:
            self.setCursor(wanted)
        self.update()

    # -- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._image is None or self._image_view != self.view_from_picture():
            painter.fillRect(event.rect(), QColor(theme().surround))
        ratio = self.devicePixelRatioF()
        if self._image is not None:
            self._draw_image(painter, self._image, self._image_view)
            for bits in self._live.values():
                for window, bit in bits:
                    painter.drawImage(QPointF(window.left / ratio, window.top / ratio), bit)
            if self._wipe_at is not None and self._other is not None:
                self._draw_wipe(painter, self._wipe_at, self._other)
        if self._shows_source and self._source_image is not None:
            painter.setOpacity(SOURCE_OPACITY)
            painter.drawImage(0, 0, self._source_image)
            painter.setOpacity(1.0)
        if self._message:
            self._draw_message(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_overlay(painter, self._overlay)
        if self.pen_at is not None and self._cursor is not None:
            is_current = self._image_view == self.view_from_picture() and not self._pressed
            if is_current and self._dab is not None:
                window, laid = self._dab
                painter.drawImage(QPointF(window.left / ratio, window.top / ratio), laid)
                is_current = False
            draw_cursor(painter, self.pen_at, self._cursor, (self._source_image or self._image) if is_current else None)
        painter.end()

    def _draw_image(self, painter: QPainter, image: QImage, made_for: Mapping) -> None:
        now = self.view_from_picture()
        if now == made_for:
            painter.drawImage(0, 0, image)
            return
        # The engine is a moment behind a pan or zoom: what is there is moved along meanwhile.
        moved = then(made_for.inverse(), now)
        corners = Window.of(self.width(), self.height()).corners
        (a, b, x), (c, d, y), (e, f, g) = np.asarray(
            fitted(corners, moved(corners)) if moved.matrix is None else moved.matrix
        ).tolist()
        painter.save()
        painter.setTransform(QTransform(a, c, e, b, d, f, x, y, g), combine=True)
        painter.drawImage(0, 0, image)
        painter.restore()

    def _draw_wipe(self, painter: QPainter, at: float, other: QImage) -> None:
        x = at * self.width()
        painter.save()
        painter.setClipRect(QRectF(x, 0, self.width() - x, self.height()))
        self._draw_image(painter, other, self._other_view)
        painter.restore()
        painter.setPen(QPen(QColor(theme().accent), 1.5))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        draw_tag(painter, QPointF(x - 8, 10), "result", right=True)
        draw_tag(painter, QPointF(x + 8, 10), "plate")

    def _draw_message(self, painter: QPainter) -> None:
        painter.setPen(QColor(theme().text))
        painter.setFont(tabular_font(11))
        box = QRectF(self.rect()).adjusted(40, 40, -40, -40)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._message)

    # -- events ---------------------------------------------------------------------------------------------

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._fitted is not None:
            self.fit(*self._fitted)
        self.resized.emit()

    def sizeHint(self) -> QSize:
        return QSize(720, 480)

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120
        if steps:
            self.zoom_to(self._framing.zoom * ZOOM_STEP**steps, event.position())
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
        tilt = min(float(np.hypot(event.xTilt(), event.yTilt())) / FLATTEST_DEG, 1.0)
        self._feed(kind, event.position(), event.modifiers(), pressure, is_eraser=eraser, tilt=tilt, is_pen=True)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        middle = event.button() == Qt.MouseButton.MiddleButton
        if middle or (self._is_hand and event.button() == Qt.MouseButton.LeftButton):
            self._pan_from = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton:
            if self._wipe_at is not None and abs(event.position().x() - self._wipe_at * self.width()) < WIPE_GRAB_PX:
                self._drags_wipe = True
                return
            self._feed("press", event.position(), event.modifiers(), self._pressure_of(event, begins=True))

    def _pressure_of(self, event: QMouseEvent, *, begins: bool = False) -> float:
        """Return how hard a mouse is pressed: fully, or as a pen would be that is simulated."""
        if self.simulated_pen is None:
            return 1.0
        at, now = event.position(), time.monotonic()
        move = self.simulated_pen.press if begins else self.simulated_pen.move
        return move(at.x(), at.y(), now)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pan_from is not None:
            by = event.position() - self._pan_from
            self._pan_from = event.position()
            self._frame(self.framing.panned(by.x(), by.y()))
            self.update()
        elif self._drags_wipe:
            self.wipe_dragged.emit(float(np.clip(event.position().x() / self.width(), 0.02, 0.98)))
        else:
            self._feed("move", event.position(), event.modifiers(), self._pressure_of(event))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pan_from is not None:
            self._pan_from = None
            self.set_cursor_look(self._cursor, is_hand=self._is_hand)
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
        is_pen: bool = False,
        tilt: float = 0.0,
    ) -> None:
        before, self.pen_at = self.pen_at, at
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
                    is_pen=is_pen,
                    tilt=tilt,
                )
            )
        self._update_cursor(before, at)

    def _update_cursor(self, before: QPointF | None, at: QPointF) -> None:
        """Draw anew where the cursor was and where it is now, not the whole picture."""
        look = self._cursor
        if look is None:
            return
        reach = look.radius + 6
        for place in (before, at):
            if place is None:
                continue
            area = QRectF(place.x() - reach, place.y() - reach, 2 * reach, 2 * reach)
            if look.source_by is not None:
                area = area.united(area.translated(*look.source_by))
            if look.line_from is not None:
                area = area.united(
                    QRectF(QPointF(*look.line_from), at).normalized().adjusted(-reach, -reach, reach, reach)
                )
            self.update(area.toAlignedRect())

    def leaveEvent(self, event: QEvent) -> None:
        self.pen_at = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        self._held(event, is_down=True)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        self._held(event, is_down=False)

    def _held(self, event: QKeyEvent, *, is_down: bool) -> None:
        names = {Qt.Key.Key_Q: "Q", Qt.Key.Key_Z: "Z", Qt.Key.Key_Y: "Y", Qt.Key.Key_H: "H", Qt.Key.Key_Alt: "Alt"}
        name = names.get(Qt.Key(event.key()))
        plain = not event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if name and plain and not event.isAutoRepeat():
            self.key_held.emit(name, is_down)
        else:
            event.ignore()
