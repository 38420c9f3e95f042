"""What drives the real window in tests: clicks, drags, keys, answers to dialogs."""

import itertools

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.conftest import wait_until
from tests.waiting import PATIENCE_S

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


LOOK_S = 0.02


def answer(dialog_type, act) -> None:
    """Do something to the next dialog of a type, once it is up."""

    looks = itertools.count()

    def look():
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, dialog_type):
            act(dialog)
        elif next(looks) < PATIENCE_S / LOOK_S:
            QTimer.singleShot(round(1000 * LOOK_S), look)

    QTimer.singleShot(round(1000 * LOOK_S), look)


def activate(window) -> None:
    """Give the window back its focus after a dialog: without a window manager nobody else does."""
    if not window.isActiveWindow():
        window.activateWindow()
        window.viewer.setFocus()
        wait_until(window.isActiveWindow)


def press(window, *keys) -> None:
    activate(window)
    for key in keys:
        combination, modifiers = key if isinstance(key, tuple) else (key, Qt.KeyboardModifier.NoModifier)
        QTest.keyClick(window.viewer, combination, modifiers)


def at_view(window, point) -> QPoint:
    """Return where a frame position is in the viewer."""
    x, y = window.stage.ground().view_from_frame(np.asarray(point, float))
    return QPoint(round(float(x)), round(float(y)))


def click(window, point, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
    QTest.mouseClick(window.viewer, Qt.MouseButton.LeftButton, modifiers, at_view(window, point))


def drag(window, points, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
    """Press, move over all points, release: as a hand does, with real mouse events."""
    pull(window.viewer, [at_view(window, point) for point in points], modifiers)


def pull(widget, places, modifiers=Qt.KeyboardModifier.NoModifier, *, releases=True) -> None:
    """Drag over places of any widget; offscreen, QTest's own moves carry no button."""
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, modifiers, places[0])
    for place in places[1:]:
        move(widget, place, modifiers)
    if releases:
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, modifiers, places[-1])


def move(widget, place, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
    """Move with the left button held."""
    at = QPointF(place)
    event = QMouseEvent(
        QMouseEvent.Type.MouseMove, at, QPointF(widget.mapToGlobal(at)), Qt.MouseButton.NoButton,
        Qt.MouseButton.LeftButton, modifiers,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def choose(combo, index) -> None:
    """Choose an entry of a combo box: a click that opens its list, arrow keys to the entry, and Return."""
    assert combo.isVisible(), f"{combo.accessibleName()} is not on the screen"
    assert combo.isEnabled(), f"{combo.accessibleName()} cannot be chosen from"
    assert 0 <= index < combo.count(), f"{combo.accessibleName()} has no entry {index}"
    QTest.mouseClick(combo, Qt.MouseButton.LeftButton)
    view = combo.view()
    wait_until(view.isVisible)
    QTest.keyClick(view, Qt.Key.Key_Home)
    for _ in range(index):  # entries that cannot be chosen are passed over
        if view.currentIndex().row() < index:
            QTest.keyClick(view, Qt.Key.Key_Down)
    assert view.currentIndex().row() == index
    QTest.keyClick(view, Qt.Key.Key_Return)
    assert not view.isVisible()


def find(window, kind, name):
    (found,) = [widget for widget in window.findChildren(kind) if widget.accessibleName() == name]
    return found
