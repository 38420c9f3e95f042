"""Index cards, one for each thing that has to go; each knows how far it is."""

from __future__ import annotations

from PySide6.QtCore import QAbstractItemModel, QEvent, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QStyle, QStyleOptionViewItem, QWidget

from gommage.app.lists.rows import ROW_ROLE, Index, Row, RowModel, SwitchDelegate
from gommage.app.look.theme import icon, tabular_font, theme
from gommage.core.engine import State

__all__ = ["LOUPE", "CardDelegate"]

LOUPE = QSize(76, 56)


class CardDelegate(SwitchDelegate):
    """Draws a card: loupe, name, five marks, what it says, and the switch."""

    toggled = Signal(str)

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(200, LOUPE.height() + 24)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        row: Row = index.data(ROW_ROLE)
        colours = theme()
        box = option.rect.adjusted(2, 3, -2, -3)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(colours.accent if selected else colours.card), 1.2))
        painter.setBrush(QColor(colours.card))
        painter.drawRoundedRect(box, 6, 6)
        loupe = QRect(box.topLeft() + QPoint(8, 9), LOUPE)
        model = index.model()
        image = model.loupes.get(row.id) if isinstance(model, RowModel) else None
        if image is not None:
            painter.drawImage(loupe, image)
        else:
            painter.fillRect(loupe, QColor(colours.surround))
        if not row.is_on:
            painter.fillRect(loupe, QColor(0, 0, 0, 150))
        self._words(painter, row, box, loupe.right() + 10)
        painter.drawPixmap(self._switch(box).topLeft(), _switch_icon(row.is_on))
        painter.restore()

    @staticmethod
    def _words(painter: QPainter, row: Row, box: QRect, left: int) -> None:
        colours = theme()
        font = tabular_font(9.5)
        font.setWeight(font.Weight.DemiBold)
        painter.setFont(font)
        painter.setPen(QColor(colours.text if row.is_on else colours.quiet))
        room = QRect(left, box.top() + 8, box.right() - left - 28, 18)
        words = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
        painter.setFont(tabular_font(8.5))
        attention = row.attention
        painter.setPen(QColor(colours.look_here if attention else colours.quiet))
        said = attention or (f"Next: {row.next_step}" if row.next_step else row.detail)
        room = QRect(left, box.top() + 27, box.right() - left - 6, 16)
        said = painter.fontMetrics().elidedText(said, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, said)
        for place, (_, advice) in enumerate(row.marks):
            _draw_mark(painter, QRect(left + place * 22, box.top() + 48, 14, 14), advice.state)

    @staticmethod
    def _switch(box: QRect) -> QRect:
        return QRect(box.right() - 26, box.top() + 7, 20, 20)

    def is_on_switch(self, row: QRect, at: QPoint) -> bool:
        return self._switch(row.adjusted(2, 3, -2, -3)).contains(at)

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        editor = super().createEditor(parent, option, index)
        editor.setAccessibleName("Name")
        return editor

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        box = option.rect.adjusted(2, 3, -2, -3)
        left = box.left() + 8 + LOUPE.width() + 6
        editor.setGeometry(left, box.top() + 4, box.right() - left - 4, 26)

    def editorEvent(self, event: QEvent, model: QAbstractItemModel, option: QStyleOptionViewItem, index: Index) -> bool:
        if (
            isinstance(event, QMouseEvent)
            and event.type() == QEvent.Type.MouseButtonPress
            and self.is_on_switch(option.rect, event.position().toPoint())
        ):
            self.toggled.emit(index.data(ROW_ROLE).id)
            return True
        return False


def _switch_icon(is_on: bool) -> QPixmap:
    return icon("eye" if is_on else "eye-off", theme().text if is_on else theme().quiet, 16).pixmap(16, 16)


def _draw_mark(painter: QPainter, box: QRect, state: State) -> None:
    """Draw a step's mark; told apart by shape as well as by hue: hollow, tick, exclamation."""
    colours = theme()
    if state is State.NOT_BEGUN:
        painter.setPen(QPen(QColor(colours.quiet), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(box.adjusted(2, 2, -2, -2))
    elif state is State.FINE:
        painter.setPen(QPen(QColor(colours.text), 1.8))
        painter.drawPolyline(
            [box.topLeft() + QPoint(2, 8), box.topLeft() + QPoint(6, 11), box.topLeft() + QPoint(12, 3)]
        )
    else:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colours.look_here))
        painter.drawPolygon(
            [box.topLeft() + QPoint(7, 1), box.topLeft() + QPoint(14, 13), box.topLeft() + QPoint(0, 13)]
        )
        painter.setPen(QPen(QColor(colours.panel), 1.6))
        painter.drawLine(box.topLeft() + QPoint(7, 5), box.topLeft() + QPoint(7, 9))
        painter.drawPoint(box.topLeft() + QPoint(7, 11))
