"""The left side: an index card for each fix, frontmost on top; under them surfaces and clean plates."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import (
    QAbstractItemModel,
    QAbstractListModel,
    QEvent,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QListView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from gommage.app.rows import heading, quiet, tool_button
from gommage.app.theme import icon, tabular_font, theme
from gommage.core.engine import State

__all__ = ["CardsPanel", "Row"]

ROW_ROLE = Qt.ItemDataRole.UserRole
LOUPE = QSize(76, 56)
Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True, slots=True)
class Row:
    """What a list shows of one item.

    Attributes
    ----------
    marks : tuple of State
        Of the five steps; empty for surfaces and plates.
    detail : str
        Frames, slip or home frame.
    """

    id: str
    name: str
    detail: str
    is_on: bool = True
    marks: tuple[State, ...] = ()
    needs_look: bool = False


class RowModel(QAbstractListModel):
    """Rows as Qt wants them; told of new rows, it changes only what differs."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[Row, ...] = ()
        self.loupes: dict[str, QImage] = {}

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's signature
        return 0 if parent.isValid() else len(self._rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or index.row() >= len(self._rows):
            return None
        row = self._rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return row.name
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return f"{row.name}, {row.detail}" + ("" if row.is_on else ", off")
        return row if role == ROW_ROLE else None

    def set_rows(self, rows: tuple[Row, ...]) -> None:
        if [row.id for row in rows] != [row.id for row in self._rows]:
            self.beginResetModel()
            self._rows = rows
            self.endResetModel()
            return
        for number, (old, new) in enumerate(zip(self._rows, rows, strict=True)):
            if old != new:
                self._rows = (*self._rows[:number], new, *self._rows[number + 1 :])
                self.dataChanged.emit(self.index(number), self.index(number))

    def set_loupe(self, row_id: str, image: QImage) -> None:
        self.loupes[row_id] = image
        for number, row in enumerate(self._rows):
            if row.id == row_id:
                self.dataChanged.emit(self.index(number), self.index(number))

    def index_of(self, row_id: str) -> QModelIndex:
        for number, row in enumerate(self._rows):
            if row.id == row_id:
                return self.index(number)
        return QModelIndex()


class CardDelegate(QStyledItemDelegate):
    """Draws a card: loupe, name, five marks, frames, and the switch."""

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
        painter.setPen(QColor(colours.quiet))
        painter.drawText(
            QRect(left, box.top() + 27, box.right() - left - 6, 16), Qt.AlignmentFlag.AlignVCenter, row.detail
        )
        for place, state in enumerate(row.marks):
            _draw_mark(painter, QRect(left + place * 22, box.top() + 48, 14, 14), state)

    @staticmethod
    def _switch(box: QRect) -> QRect:
        return QRect(box.right() - 26, box.top() + 7, 20, 20)

    def editorEvent(self, event: QEvent, model: QAbstractItemModel, option: QStyleOptionViewItem, index: Index) -> bool:
        if (
            isinstance(event, QMouseEvent)
            and event.type() == QEvent.Type.MouseButtonPress
            and self._switch(option.rect.adjusted(2, 3, -2, -3)).contains(event.position().toPoint())
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


class LineDelegate(QStyledItemDelegate):
    """Draws a short line: name left, detail right."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(200, 28)

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
        painter.setFont(tabular_font(9))
        detail_width = painter.fontMetrics().horizontalAdvance(row.detail) + 4
        painter.setPen(QColor(colours.look_here if row.needs_look else colours.quiet))
        painter.drawText(
            box.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, row.detail
        )
        painter.setPen(QColor(colours.text))
        room = box.adjusted(8, 0, -12 - detail_width, 0)
        words = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()


class RowList(QListView):
    """A list of rows that reports which was chosen by the user."""

    chosen = Signal(str)
    renamed = Signal(str)

    def __init__(self, name: str, delegate: QStyledItemDelegate) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.rows = RowModel()
        self.setModel(self.rows)
        self.setItemDelegate(delegate)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.clicked.connect(lambda index: self.chosen.emit(index.data(ROW_ROLE).id))
        self.activated.connect(lambda index: self.chosen.emit(index.data(ROW_ROLE).id))
        self.doubleClicked.connect(lambda index: self.renamed.emit(index.data(ROW_ROLE).id))

    def select(self, row_id: str) -> None:
        """Show one row as selected."""
        index = self.rows.index_of(row_id)
        if index.isValid():
            self.setCurrentIndex(index)
        else:
            self.clearSelection()


class CardsPanel(QWidget):
    """Fixes, surfaces and clean plates."""

    add_fix = Signal()
    add_surface = Signal()
    add_plate = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setFixedWidth(252)
        self._card_delegate = CardDelegate()
        self._line_delegate = LineDelegate()
        self.fixes = RowList("Fixes", self._card_delegate)
        self.surfaces = RowList("Surfaces", self._line_delegate)
        self.plates = RowList("Clean plates", self._line_delegate)
        self.fix_toggled = self._card_delegate.toggled
        self._hint = quiet("Follow a surface first; then cover the thing that has to go. It gets its card here.")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 4, 8)
        layout.setSpacing(4)
        layout.addLayout(self._header("Fixes", "New fix", self.add_fix))
        layout.addWidget(self._hint)
        layout.addWidget(self.fixes, 3)
        layout.addLayout(self._header("Surfaces", "New surface", self.add_surface))
        layout.addWidget(self.surfaces, 1)
        layout.addLayout(self._header("Clean plates", "New clean plate", self.add_plate))
        layout.addWidget(self.plates, 1)

    @staticmethod
    def _header(words: str, add: str, added: Any) -> QHBoxLayout:
        row = QHBoxLayout()
        title: QLabel = heading(words)
        button = tool_button("plus", add)
        button.clicked.connect(lambda: added.emit())
        row.addWidget(title)
        row.addStretch()
        row.addWidget(button)
        return row

    def show_rows(self, fixes: tuple[Row, ...], surfaces: tuple[Row, ...], plates: tuple[Row, ...]) -> None:
        """Show what the shot has."""
        self._hint.setVisible(not fixes)
        self.fixes.rows.set_rows(fixes)
        self.surfaces.rows.set_rows(surfaces)
        self.plates.rows.set_rows(plates)
