"""Rows of a list as Qt wants them: a model that is told of new rows and changes only what differs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import (
    QAbstractListModel,
    QEvent,
    QItemSelectionModel,
    QMimeData,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from gommage.app.look.theme import tabular_font, theme
from gommage.core.engine import Advice, State, Step

__all__ = ["ROW_ROLE", "Index", "LineDelegate", "Row", "RowList", "RowModel", "SwitchDelegate"]

ROW_ROLE = Qt.ItemDataRole.UserRole
ROW_FORMAT = "application/x-gommage-row"
LINE_PX = 28
Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True, slots=True)
class Row:
    """What a list shows of one item.

    Attributes
    ----------
    detail : str
        Frames, slip or home frame.
    marks : tuple of (Step, Advice)
        Of the five steps; empty for surfaces and plates.
    next_step : str
        What comes next, in a word.
    sign : str
        What stands before the name and is not part of it.
    """

    id: str
    name: str
    detail: str
    is_on: bool = True
    marks: tuple[tuple[Step, Advice], ...] = ()
    needs_look: bool = False
    next_step: str = ""
    sign: str = ""

    @property
    def tip(self) -> str:
        """All of it in words, the steps a line each."""
        head = f"{self.name}, {self.detail}" + ("" if self.is_on else ", off")
        lines = [f"{step}: {advice.words or advice.state}" for step, advice in self.marks]
        return "\n".join([head, *lines])

    @property
    def attention(self) -> str:
        """The first step that asks for a look, in words; empty if none does."""
        found = next((step for step, advice in self.marks if advice.state is State.LOOK), None)
        return f"{found}: look here" if found is not None else ""


class RowModel(QAbstractListModel):
    """Rows as Qt wants them."""

    renamed = Signal(str, str)
    moved = Signal(str, int)

    def __init__(self, *, can_rename: bool = False, can_move: bool = False) -> None:
        super().__init__()
        self._rows: tuple[Row, ...] = ()
        self._can_rename, self._can_move = can_rename, can_move
        self.loupes: dict[str, QImage] = {}

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's signature
        return 0 if parent.isValid() else len(self._rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or index.row() >= len(self._rows):
            return None
        row = self._rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return row.name
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return row.tip
        return row if role == ROW_ROLE else None

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name = str(value).strip()
        if role != Qt.ItemDataRole.EditRole or not index.isValid() or not name:
            return False
        row = self._rows[index.row()]
        if name != row.name:
            self.renamed.emit(row.id, name)
        return True

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        if index.isValid() and self._can_rename:
            flags |= Qt.ItemFlag.ItemIsEditable
        if self._can_move:
            flags |= Qt.ItemFlag.ItemIsDragEnabled if index.isValid() else Qt.ItemFlag.ItemIsDropEnabled
        return flags

    def supportedDropActions(self) -> Qt.DropAction:
        return Qt.DropAction.MoveAction

    def mimeTypes(self) -> list[str]:
        return [ROW_FORMAT]

    def mimeData(self, indexes: Sequence[QModelIndex]) -> QMimeData:
        data = QMimeData()
        data.setData(ROW_FORMAT, "\n".join(self._rows[index.row()].id for index in indexes).encode())
        return data

    def dropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        """Tell where a row was dropped; the document moves it, not the view (so nothing is taken out here)."""
        if not data.hasFormat(ROW_FORMAT):
            return False
        dragged = bytes(data.data(ROW_FORMAT).data()).decode().split("\n")[0]
        self.moved.emit(dragged, row if row >= 0 else len(self._rows))
        return False

    def ids(self) -> list[str]:
        """Return the ids of the rows, in order."""
        return [row.id for row in self._rows]

    def row_of(self, row_id: str) -> int:
        """Return the number of a row, -1 if it is not there."""
        return next((number for number, row in enumerate(self._rows) if row.id == row_id), -1)

    def set_rows(self, rows: tuple[Row, ...]) -> None:
        """Show other rows; those that are the same are left alone."""
        if [row.id for row in rows] != [row.id for row in self._rows]:
            self.beginResetModel()
            self._rows = rows
            self.endResetModel()
            return
        changed = [number for number, (old, new) in enumerate(zip(self._rows, rows, strict=True)) if old != new]
        if changed:
            self._rows = rows
            self.dataChanged.emit(self.index(changed[0]), self.index(changed[-1]))

    def set_loupe(self, row_id: str, image: QImage) -> None:
        """Give a row its small picture."""
        self.loupes[row_id] = image
        number = self.row_of(row_id)
        if number >= 0:
            self.dataChanged.emit(self.index(number), self.index(number))

    def index_of(self, row_id: str) -> QModelIndex:
        """Return the index of a row, an invalid one if it is not there."""
        number = self.row_of(row_id)
        return self.index(number) if number >= 0 else QModelIndex()


class SwitchDelegate(QStyledItemDelegate):
    """Draws rows that have a switch."""

    def is_on_switch(self, row: QRect, at: QPoint) -> bool:
        """Return whether a place is on the switch of a row."""
        return False


class LineDelegate(QStyledItemDelegate):
    """Draws a short line: name left, detail right."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(200, LINE_PX)

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
        painter.setPen(QColor(colours.text if row.is_on else colours.quiet))
        room = box.adjusted(8, 0, -12 - detail_width, 0)
        words = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()


class RowList(QListView):
    """A list of rows that reports what was chosen by the user; as high as its rows, up to a limit."""

    chosen = Signal(str, tuple)
    menu_asked = Signal(str, object)

    def __init__(
        self,
        name: str,
        delegate: QStyledItemDelegate,
        *,
        most_rows: int = 0,
        can_rename: bool = False,
        can_move: bool = False,
        takes_many: bool = False,
    ) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setToolTip(name)
        self._most_rows = most_rows
        self._is_switching = False
        self.rows = RowModel(can_rename=can_rename, can_move=can_move)
        self.setModel(self.rows)
        self.setItemDelegate(delegate)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setEditTriggers(
            QListView.EditTrigger.DoubleClicked | QListView.EditTrigger.EditKeyPressed
            if can_rename
            else QListView.EditTrigger.NoEditTriggers
        )
        if takes_many:
            self.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        if can_move:
            self.setDragDropMode(QListView.DragDropMode.InternalMove)
            self.setDefaultDropAction(Qt.DropAction.MoveAction)
            self.setDropIndicatorShown(True)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._on_menu)
        self.clicked.connect(self._on_clicked)
        self.activated.connect(self._on_chosen)
        self.rows.modelReset.connect(self._fit)
        self._fit()

    def _fit(self) -> None:
        if self._most_rows:
            self.setFixedHeight(LINE_PX * min(max(self.rows.rowCount(), 1), self._most_rows) + 4)

    def _is_on_switch(self, index: Index, at: QPoint) -> bool:
        delegate = self.itemDelegate()
        return isinstance(delegate, SwitchDelegate) and delegate.is_on_switch(self.visualRect(index), at)

    def selectionCommand(self, index: Index, event: QEvent | None = None) -> QItemSelectionModel.SelectionFlag:
        """Leave what is chosen as it is when a switch is pressed."""
        if isinstance(event, QMouseEvent) and self._is_on_switch(index, event.position().toPoint()):
            return QItemSelectionModel.SelectionFlag.NoUpdate
        return super().selectionCommand(index, event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        self._is_switching = self._is_on_switch(self.indexAt(at), at)
        super().mouseReleaseEvent(event)

    def _on_clicked(self, index: QModelIndex) -> None:
        if not self._is_switching:
            self._on_chosen(index)

    def _on_chosen(self, index: QModelIndex) -> None:
        self.chosen.emit(index.data(ROW_ROLE).id, self.chosen_ids())

    def chosen_ids(self) -> tuple[str, ...]:
        """Return the ids of all selected rows, from the top down."""
        indexes = sorted(self.selectionModel().selectedIndexes(), key=lambda one: one.row())
        return tuple(index.data(ROW_ROLE).id for index in indexes)

    def _on_menu(self, at: Any) -> None:
        index = self.indexAt(at)
        if index.isValid():
            if not self.selectionModel().isSelected(index):
                self.setCurrentIndex(index)
                self._on_chosen(index)
            self.menu_asked.emit(index.data(ROW_ROLE).id, self.viewport().mapToGlobal(at))

    def select(self, row_id: str, others: tuple[str, ...] = ()) -> None:
        """Show rows as selected, one of them as the one in hand."""
        wanted = [index for one in (row_id, *others) if (index := self.rows.index_of(one)).isValid()]
        if set(self.chosen_ids()) == {index.data(ROW_ROLE).id for index in wanted}:
            return
        selection = self.selectionModel()
        selection.clearSelection()
        for index in reversed(wanted):
            selection.setCurrentIndex(index, selection.SelectionFlag.Select)
