"""What tests of painting share: the brush line by its names, the strokes of the fix in hand."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from gommage.app.look.controls import DragNumber
from tests.app import driving
from tests.app.driving import find


def strokes(window):
    return window.desk.fix(window.session.project).touch_up.strokes


def choose(window, name, value):
    combo = find(window.tray, QComboBox, name)
    driving.choose(combo, combo.findData(value))


def type_in(window, name, value):
    number = find(window.tray, DragNumber, name)
    number.setFocus()
    number.selectAll()
    QTest.keyClicks(number, str(value))
    QTest.keyClick(number, Qt.Key.Key_Return)
    window.viewer.setFocus()
