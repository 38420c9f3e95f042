"""Cards and lists: several at once, dragged, renamed in place, asked with the right button."""

from dataclasses import replace as with_fields

import pytest
from msgspec.structs import replace
from PySide6.QtCore import QModelIndex, QPoint, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu, QToolButton

from gommage.core.document import Project
from gommage.core.engine import Advice, State, Step
from tests.app.driving import SHIFT, activate, find
from tests.conftest import settle, wait_until
from tests.engine.test_engine import clone, with_fix


@pytest.fixture
def three(window, small_shot):
    """A window with three fixes."""
    shot = with_fix(small_shot, clone())
    fixes = tuple(replace(shot.fixes[0], id=name, name=name.capitalize()) for name in ("back", "middle", "front"))
    window.session.begin(Project.of(replace(shot, fixes=fixes)))
    settle(window)
    activate(window)
    return window


def names(window):
    return [fix.name for fix in window.shot.fixes]


def place(window, row):
    view = window.column.fixes
    return view.visualRect(view.model().index(row)).center() - QPoint(20, 0)


def test_several_cards_are_switched_and_removed_at_once(three):
    view = three.column.fixes
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=place(three, 0))
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, SHIFT, pos=place(three, 1))
    assert set(three.desk.fix_ids) == {"front", "middle"}
    box = view.visualRect(view.model().index(1))
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(box.right() - 18, box.top() + 20))
    assert [fix.is_on for fix in three.shot.fixes] == [True, False, False]
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Delete)
    assert names(three) == ["Back"]
    assert three.actions_by_id["undo"].text() == "Undo remove 2 fixes"
    settle(three)


def test_a_card_is_dropped_elsewhere(three):
    """The list runs from front to back, the document the other way."""
    rows = three.column.fixes.rows
    carried = rows.mimeData([rows.index(2)])
    rows.dropMimeData(carried, Qt.DropAction.MoveAction, 0, 0, QModelIndex())
    assert names(three) == ["Middle", "Front", "Back"]
    assert [rows.index(row).data() for row in range(3)] == ["Back", "Front", "Middle"]
    assert three.actions_by_id["undo"].text() == "Undo reorder fixes"
    settle(three)


def test_a_card_is_renamed_in_place(three):
    view = three.column.fixes
    view.edit(view.model().index(0))
    (editor,) = view.findChildren(QLineEdit)
    editor.selectAll()
    QTest.keyClicks(editor, "Loose thread")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    wait_until(lambda: names(three)[-1] == "Loose thread")
    assert three.actions_by_id["undo"].text() == "Undo rename"
    settle(three)


def test_the_right_button_asks(three):
    view = three.column.fixes
    at = place(three, 2)
    asked = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, view.viewport().mapToGlobal(at))
    QApplication.sendEvent(view.viewport(), asked)
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    words = [action.text() for action in menu.actions() if action.text()]
    assert words == ["Rename", "Switch off", "To the front", "To the back", "Remove"]
    next(action for action in menu.actions() if action.text() == "To the front").trigger()
    menu.close()
    assert names(three) == ["Middle", "Front", "Back"]
    assert three.desk.fix_id == "back"
    settle(three)


def test_marks_are_named(three):
    index = three.column.fixes.rows.index(0)
    tip = index.data(Qt.ItemDataRole.ToolTipRole)
    for step in Step:
        assert f"{step}: " in tip
    row = index.data(Qt.ItemDataRole.UserRole)
    asking = replace_mark(row, Step.FILL, Advice(State.LOOK, "nothing is painted"))
    assert asking.attention == "Fill: look here"


def replace_mark(row, step, advice):
    return with_fields(row, marks=tuple((one, advice if one is step else old) for one, old in row.marks))


def test_lists_fold(three):
    fold = find(three.column, QToolButton, "Fold surfaces")
    QTest.mouseClick(fold, Qt.MouseButton.LeftButton)
    assert not three.column.surfaces.isVisible()
    QTest.mouseClick(fold, Qt.MouseButton.LeftButton)
    assert three.column.surfaces.isVisible()
    settle(three)
