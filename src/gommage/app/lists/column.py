"""The left column: cards of fixes, frontmost on top.

Under them surfaces and clean plates, as long as their contents.
"""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPoint, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QHBoxLayout, QMenu, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.lists.cards import CardDelegate
from gommage.app.lists.loupes import Loupes
from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.lists.summaries import fix_row, surface_row
from gommage.app.look.controls import fold_button, heading, quiet, tool_button
from gommage.app.session import Session
from gommage.core.document import Project, Shot, edits
from gommage.core.engine import Look, Step

__all__ = ["Column"]

MOST_LINES = 5


class Column(QWidget):
    """Shows what the shot has; choosing, ordering, renaming and switching are edits or changes of the desk."""

    add_fix = Signal()
    add_surface = Signal()
    add_plate = Signal()
    remove_asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setObjectName("panel")
        self.setFixedWidth(252)
        self._card_delegate, self._line_delegate = CardDelegate(), LineDelegate()
        self.fixes = RowList("Fixes", self._card_delegate, can_rename=True, can_move=True, takes_many=True)
        self.surfaces = RowList(
            "Surfaces", self._line_delegate, most_rows=MOST_LINES, can_rename=True, can_move=True
        )  # fmt: skip
        self.plates = RowList("Clean plates", self._line_delegate, most_rows=MOST_LINES, can_rename=True)
        self._hint = quiet("Follow a surface first; then cover the thing that has to go. It gets its card here.")
        self._loupes = Loupes(session, self.fixes.rows.set_loupe)
        self._shown: tuple[Any, ...] = ()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 4, 8)
        layout.setSpacing(4)
        layout.addLayout(self._header("Fixes", "New fix", self.add_fix))
        layout.addWidget(self._hint)
        layout.addWidget(self.fixes, 1)
        for words, add, added, rows in (
            ("Surfaces", "New surface", self.add_surface, self.surfaces),
            ("Clean plates", "New clean plate", self.add_plate, self.plates),
        ):
            layout.addLayout(self._header(words, add, added, rows))
            layout.addWidget(rows)
        self._connect()

    def _header(self, words: str, add: str, added: Any, folds: QWidget | None = None) -> QHBoxLayout:
        row = QHBoxLayout()
        button = tool_button("plus", add)
        button.clicked.connect(lambda: added.emit())
        if folds is not None:
            row.addWidget(fold_button(words, lambda is_folded: folds.setVisible(not is_folded)))
        row.addWidget(heading(words))
        row.addStretch()
        row.addWidget(button)
        return row

    def _connect(self) -> None:
        session = self._session
        session.document_changed.connect(self._on_document_changed)
        session.desk_changed.connect(self._on_desk_changed)
        session.summary_changed.connect(self._refresh)
        self.fixes.chosen.connect(self._on_fix_chosen)
        self.surfaces.chosen.connect(self._on_surface_chosen)
        self.plates.chosen.connect(self._on_plate_chosen)
        self._card_delegate.toggled.connect(self._on_fix_toggled)
        self.fixes.rows.moved.connect(self._on_fix_moved)
        self.surfaces.rows.moved.connect(self._on_surface_moved)
        for rows, edit in (
            (self.fixes, edits.change_fix),
            (self.surfaces, edits.change_surface),
            (self.plates, edits.change_clean_plate),
        ):
            rows.rows.renamed.connect(partial(self._rename, edit))
            rows.menu_asked.connect(partial(self._show_menu, rows))

    # -- showing --------------------------------------------------------------------------------------------

    def _on_document_changed(self, old: Project, new: Project) -> None:
        self._refresh()
        self._loupes.ask()

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        if (old.shot_id, old.frame, old.display) != (new.shot_id, new.frame, new.display):
            self._loupes.ask()
        if old.shot_id != new.shot_id:
            self._refresh()
        if _chosen(old) != _chosen(new):
            self._select(new)

    def _refresh(self) -> None:
        """Show what differs: each list is told only of what is new in it."""
        shot, summary = self._session.shot, self._session.summary
        key = (shot, summary)
        if self._shown and self._shown[0] is key[0] and self._shown[1] is key[1]:
            return
        self._shown = key
        self._hint.setVisible(shot is None or not shot.fixes)
        if shot is None:
            for rows in (self.fixes, self.surfaces, self.plates):
                rows.rows.set_rows(())
            return
        self.fixes.rows.set_rows(tuple(fix_row(self._session, shot, fix) for fix in reversed(shot.fixes)))
        self.surfaces.rows.set_rows(tuple(surface_row(self._session, surface) for surface in shot.surfaces))
        plates = tuple(Row(plate.id, plate.name, f"at {plate.home_frame}") for plate in shot.clean_plates)
        self.plates.rows.set_rows(plates)
        self._select(self._session.desk)

    def _select(self, desk: Desk) -> None:
        self.fixes.select(desk.fix_id, desk.fix_ids)
        self.surfaces.select(desk.surface_id)
        self.plates.select(desk.plate_id)

    def loupe(self, fix_id: str) -> QImage | None:
        """Return the small picture of a fix."""
        return self.fixes.rows.loupes.get(fix_id)

    # -- choosing -------------------------------------------------------------------------------------------

    def _shot(self) -> Shot:
        shot = self._session.shot
        assert shot is not None
        return shot

    def _on_fix_chosen(self, fix_id: str, all_ids: tuple[str, ...]) -> None:
        fix = self._shot().fix(fix_id)
        plate_ids = getattr(fix.fill, "plate_ids", ())
        plate_id = plate_ids[-1] if plate_ids else self._session.desk.plate_id
        surface_id = fix.surface_id or self._session.desk.surface_id
        self._session.set_desk(
            fix_id=fix_id, fix_ids=all_ids or (fix_id,), surface_id=surface_id, plate_id=plate_id, part_id=""
        )

    def _on_surface_chosen(self, surface_id: str, all_ids: tuple[str, ...]) -> None:
        self._session.set_desk(surface_id=surface_id, step=Step.FOLLOW, tool="edit", part_id="", pin_points=())

    def _on_plate_chosen(self, plate_id: str, all_ids: tuple[str, ...]) -> None:
        plate = self._shot().clean_plate(plate_id)
        self._session.set_desk(
            plate_id=plate_id, surface_id=plate.surface_id, frame=plate.home_frame, look=Look.CLEAN_PLATE,
            step=Step.FILL, tool="clone", stroke_ids=(),
        )  # fmt: skip

    # -- edits ----------------------------------------------------------------------------------------------

    def _on_fix_toggled(self, fix_id: str) -> None:
        """Switch a fix, and with it all that are chosen."""
        shot, chosen = self._shot(), self._session.desk.fix_ids
        is_on = not shot.fix(fix_id).is_on
        ids = chosen if fix_id in chosen else (fix_id,)

        def edit(project: Project) -> Project:
            for one in ids:
                project = edits.change_fix(project, shot.id, one, is_on=is_on)
            return project

        self._session.commit("Switch on" if is_on else "Switch off", edit)

    def _on_fix_moved(self, fix_id: str, row: int) -> None:
        """Move a card: the list runs from front to back, the document the other way."""
        count, here = len(self._shot().fixes), self.fixes.rows.row_of(fix_id)
        row -= row > here
        self._session.commit("Reorder fixes", edits.move_fix, self._shot().id, fix_id, count - 1 - row)

    def _on_surface_moved(self, surface_id: str, row: int) -> None:
        row -= row > self.surfaces.rows.row_of(surface_id)
        self._session.commit("Reorder surfaces", edits.move_surface, self._shot().id, surface_id, row)

    def _rename(self, edit: Any, row_id: str, name: str) -> None:
        self._session.commit("Rename", edit, self._shot().id, row_id, name=name)

    def _show_menu(self, rows: RowList, row_id: str, at: QPoint) -> None:
        """Show what one expects of a right click."""
        menu = QMenu(self)
        menu.setObjectName("row_menu")
        menu.addAction("Rename", lambda: rows.edit(rows.rows.index_of(row_id)))
        if rows is self.fixes:
            is_on = self._shot().fix(row_id).is_on
            menu.addAction("Switch off" if is_on else "Switch on", lambda: self._on_fix_toggled(row_id))
            menu.addAction("To the front", lambda: self._on_fix_moved(row_id, 0))
            menu.addAction("To the back", lambda: self._on_fix_moved(row_id, rows.rows.rowCount()))
        menu.addSeparator()

        def remove() -> None:
            rows.setFocus()
            self.remove_asked.emit()

        menu.addAction("Remove", remove)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(at)


def _chosen(desk: Desk) -> tuple[object, ...]:
    """Return what of the desk the lists show as chosen."""
    return desk.fix_id, desk.fix_ids, desk.surface_id, desk.plate_id
