"""The parts of a matte as a list that reads like a sentence, with a small matte of the running result."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPoint, QRect, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyleOptionViewItem

from gommage.app.lists.rows import ROW_ROLE, Index, Row, RowList, RowModel, SwitchDelegate
from gommage.app.look.theme import icon, tabular_font, theme
from gommage.app.session import Session
from gommage.core.cover import reach_of
from gommage.core.document import Combine, Drawn, FromFile, Matte, MattePart, Scribbled, Shared, Shot, is_within
from gommage.core.engine import Engine, Priority, matte_on
from gommage.core.geometry import Window

__all__ = ["PartDelegate", "Thumbs", "part_rows", "sentence"]

THUMB = QSize(38, 22)
SWITCH_PX = 26
GATHER_MS = 60
MARGIN = 0.08
"""Around a matte, as a share of its size."""
SIGNS = {Combine.ADD: "+", Combine.SUBTRACT: "−", Combine.INTERSECT: "∩"}
SAID = {Combine.ADD: "and", Combine.SUBTRACT: "without", Combine.INTERSECT: "only within"}


def part_rows(shot: Shot, matte: Matte, frame: int) -> tuple[Row, ...]:
    """Return the lines of a matte's parts; what shared mattes are made of is set in, after the part that uses them."""
    rows = []
    for number, part in enumerate(matte.parts, 1):
        rows.append(part_row(shot, number, part, frame))
        if isinstance(part.source, Shared):
            within = enumerate(shot.matte(part.source.matte_id).matte.parts, 1)
            inner = [part_row(shot, count, one, frame) for count, one in within]
            rows += [replace(one, sign=f"\u2002› {one.sign}".rstrip(), is_on=one.is_on and part.is_on) for one in inner]
    return tuple(rows)


def part_row(shot: Shot, number: int, part: MattePart, frame: int) -> Row:
    """Return the line of a part: what it does, its name, what it rides on and how many keys it has."""
    sign = SIGNS[part.combine] if number > 1 or part.combine is not Combine.ADD else ""
    mark = f"{sign}{'¬' if part.is_inverted else ''}"
    name, detail = f"Part {number}", ""
    if isinstance(part.source, Drawn):
        shape = part.source.shape
        name = shape.name or f"Shape {number}"
        rides_on = shot.surface(part.source.surface_id).name if part.source.surface_id else "picture"
        count = len(shape.keys)
        detail = f"{rides_on}, {count} key" + ("s" if count != 1 else "")
        mark += " ⚿" if shape.is_locked else ""
    elif isinstance(part.source, FromFile):
        name, detail = "File", part.source.channel
    elif isinstance(part.source, Scribbled):
        count = len({mark.frame for mark in part.source.marks})
        name, detail = "Scribbles", f"{count} frame" + ("s" if count != 1 else "")
    elif isinstance(part.source, Shared):
        name = shot.matte(part.source.matte_id).name
        detail = "shared"
    is_here = part.is_on and is_within(part.frames, frame)
    return Row(part.id, name, detail, is_on=is_here, next_step="on" if part.is_on else "off", sign=mark.strip())


def sentence(matte: Matte) -> str:
    """Return in words what a matte is made of."""
    words: list[str] = []
    for number, part in enumerate(matte.parts, 1):
        name = f"part {number}"
        if isinstance(part.source, Drawn):
            name = part.source.shape.name or f"shape {number}"
        joint = SAID[part.combine] if words else ("" if part.combine is Combine.ADD else "nothing")
        words.append(" ".join(one for one in (joint, "all but" if part.is_inverted else "", name) if one))
    return ", ".join(words)


class PartDelegate(SwitchDelegate):
    """Draws a part: the running result small, its name, its detail, its eye."""

    toggled = Signal(str)

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(200, 28)

    def is_on_switch(self, row: QRect, at: QPoint) -> bool:
        return at.x() > row.right() - SWITCH_PX

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        row: Row = index.data(ROW_ROLE)
        colours = theme()
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        box = option.rect.adjusted(2, 1, -2, -1)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if selected:
            painter.setPen(QPen(QColor(colours.accent), 1.2))
            painter.setBrush(QColor(colours.card))
            painter.drawRoundedRect(box, 4, 4)
        thumb = QRect(box.left() + 4, box.top() + 2, THUMB.width(), THUMB.height())
        rows = index.model()
        image = rows.loupes.get(row.id) if isinstance(rows, RowModel) else None
        painter.fillRect(thumb, QColor("black"))
        if image is not None:
            painter.drawImage(thumb, image)
        icon("eye" if row.next_step == "on" else "eye-off").paint(
            painter, QRect(box.right() - SWITCH_PX + 4, box.top() + 5, 16, 16)
        )
        inside = box.adjusted(THUMB.width() + 10, 0, -SWITCH_PX, 0)
        painter.setFont(tabular_font(9))
        metrics = painter.fontMetrics()
        room = min(metrics.horizontalAdvance(row.detail) + 4, inside.width() * 3 // 5)
        detail = metrics.elidedText(row.detail, Qt.TextElideMode.ElideRight, room)
        painter.setPen(QColor(colours.quiet))
        painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, detail)
        painter.setPen(QColor(colours.text if row.is_on else colours.quiet))
        left = inside.adjusted(0, 0, -room - 8, 0)
        words = metrics.elidedText(f"{row.sign} {row.name}".strip(" "), Qt.TextElideMode.ElideRight, left.width())
        painter.drawText(left, Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()

    def editorEvent(self, event: QEvent, model: object, option: QStyleOptionViewItem, index: Index) -> bool:
        if (
            isinstance(event, QMouseEvent)
            and event.type() == QEvent.Type.MouseButtonRelease
            and self.is_on_switch(option.rect, event.position().toPoint())
        ):
            self.toggled.emit(index.data(ROW_ROLE).id)
            return True
        return False


class Thumbs:
    """Asks for the small mattes of a list's parts."""

    def __init__(self, session: Session, name: str, rows: RowList) -> None:
        self._session, self._name, self._rows = session, name, rows
        self._asked: tuple[object, ...] = ()
        self._timer = QTimer(rows)
        self._timer.setSingleShot(True)
        self._timer.setInterval(GATHER_MS)
        self._timer.timeout.connect(self._ask)
        self._wanted: tuple[Shot, Matte, int] | None = None

    def show(self, shot: Shot, matte: Matte, frame: int) -> None:
        """Show the running result of a matte on a frame, a moment later."""
        wanted = (shot.surfaces, shot.mattes, matte, frame)
        if self._asked and all(one is other or one == other for one, other in zip(wanted, self._asked, strict=True)):
            return
        self._asked, self._wanted = wanted, (shot, matte, frame)
        if not self._timer.isActive():
            self._timer.start()

    def _ask(self) -> None:
        if self._wanted is None:
            return
        shot, matte, frame = self._wanted
        self._session.call_off(f"thumbs {self._name}")
        if matte.parts:
            make = partial(_running, self._session.engine, shot, matte, frame)
            name = f"thumbs {self._name}", shot.mattes, matte, frame
            self._session.submit(name, Priority.NEIGHBOUR, make, self._came, lambda words: None)

    def _came(self, found: dict[str, NDArray[np.uint8]]) -> None:
        for part_id, pixels in found.items():
            height, width = pixels.shape
            image = QImage(pixels.data, width, height, width, QImage.Format.Format_Grayscale8).copy()
            self._rows.rows.set_loupe(part_id, image)


def _running(
    engine: Engine, shot: Shot, matte: Matte, frame: int, check: Callable[[], None]
) -> dict[str, NDArray[np.uint8]]:
    """Return the matte of the parts so far for each part, as large as it is drawn."""
    wide, high = 2 * THUMB.width(), 2 * THUMB.height()
    whole = shot.footage.bounds
    near = reach_of(matte_on(shot, matte, frame), whole)
    near = whole if near.is_empty else near.grown(round(MARGIN * max(near.width, near.height)))
    scale = min(wide / near.width, high / near.height)
    left, top = near.left * scale - (wide - near.width * scale) / 2, near.top * scale - (high - near.height * scale) / 2
    window = Window(round(left), round(top), round(left) + wide, round(top) + high)
    found = {}
    shared = [shot.matte(part.source.matte_id).matte for part in matte.parts if isinstance(part.source, Shared)]
    for one in (matte, *shared):
        for count, part in enumerate(one.parts, 1):
            check()
            so_far = Matte(parts=one.parts[:count], grow_px=one.grow_px, softness=one.softness)
            pixels = engine.matte(shot, so_far, frame, window, scale)
            found[part.id] = np.ascontiguousarray((pixels * 255).astype(np.uint8))
    return found
