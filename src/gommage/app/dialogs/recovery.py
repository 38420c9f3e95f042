"""Work that crashes left behind: all of it, to be taken up, thrown away or left for later."""

from __future__ import annotations

import datetime

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from gommage.app.look.controls import push_button, quiet
from gommage.core.document.recovery import LeftBehind

__all__ = ["RecoveryDialog"]

ROW_PX, MOST_ROWS_SHOWN = 26, 8


class RecoveryDialog(QDialog):
    """List what was left behind, newest first, what is damaged last.

    Attributes
    ----------
    taken : LeftBehind or None
        What is to be taken up.
    thrown_away : list of LeftBehind
        What is to be thrown away.
    """

    def __init__(self, found: tuple[LeftBehind, ...], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Work was left behind")
        self.setMinimumWidth(560)
        self.taken: LeftBehind | None = None
        self.thrown_away: list[LeftBehind] = []
        self._found = list(found)
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("Work that was left behind")
        self.table.setHorizontalHeaderLabels(["Project", "Last edit", "Edits"])
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(ROW_PX)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setHighlightSections(False)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.setColumnWidth(1, 168)
        self.table.setColumnWidth(2, 84)
        self.table.setShowGrid(False)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.itemSelectionChanged.connect(self._show_chosen)
        self.table.cellDoubleClicked.connect(lambda row, column: self._take())
        self.said = quiet(name="About it")
        self.said.setMinimumHeight(36)
        self.said.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.take_button = push_button("Take up", self._take, primary=True, tip="Go on with this work")
        self.take_button.setDefault(True)
        self.throw_button = push_button("Throw away", self._throw_away, tip="Remove what was kept of this work")
        later = push_button("Later", self.reject, tip="Keep it; File > Recover work lists it again")
        row = QHBoxLayout()
        row.addWidget(self.throw_button)
        row.addStretch()
        row.addWidget(self.take_button)
        row.addWidget(later)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 16, 16, 12)
        layout.setSpacing(10)
        layout.addWidget(quiet("Gommage ended before these edits were saved."))
        layout.addWidget(self.table)
        layout.addWidget(self.said)
        layout.addLayout(row)
        self._show()

    def _show(self) -> None:
        self.table.setRowCount(len(self._found))
        for row, one in enumerate(self._found):
            when = datetime.datetime.fromtimestamp(one.edited_s).strftime("%d %b %Y, %H:%M")
            edits = "damaged" if one.fault else str(one.edits)
            for column, words in enumerate((one.name or "unknown", when, edits)):
                self.table.setItem(row, column, QTableWidgetItem(words))
        rows = min(max(len(self._found), 2), MOST_ROWS_SHOWN)
        self.table.setFixedHeight(self.table.horizontalHeader().sizeHint().height() + rows * ROW_PX + 4)
        if self._found:
            self.table.selectRow(0)
        self._show_chosen()

    def chosen(self) -> LeftBehind | None:
        """Return the row in hand."""
        row = self.table.currentRow()
        return self._found[row] if 0 <= row < len(self._found) else None

    def _show_chosen(self) -> None:
        one = self.chosen()
        self.take_button.setEnabled(one is not None and not one.fault)
        self.throw_button.setEnabled(one is not None)
        if one is None:
            self.said.setText("Nothing is left.")
        elif one.fault:
            self.said.setText(one.fault)
        else:
            self.said.setText(f"Last saved in {one.saved_at}" if one.saved_at else "It was never saved.")

    def _take(self) -> None:
        one = self.chosen()
        if one is not None and not one.fault:
            self.taken = one
            self.accept()

    def _throw_away(self) -> None:
        one = self.chosen()
        if one is not None:
            self._found.remove(one)
            self.thrown_away.append(one)
            self._show()
