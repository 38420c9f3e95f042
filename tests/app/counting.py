"""What a hand does in a journey, counted: a press with its release, a drag, a key, a typed field count one each."""

import json
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QWidget

from gommage.app.look.controls import DragNumber
from tests.app.driving import at_view, choose, drag, press
from tests.conftest import settle

NOTED = Path("build") / "journeys"


class Hand:
    """Drives a window and counts; each action has a sentence's worth of words."""

    def __init__(self, window, name):
        self.window, self.name, self.count, self.said = window, name, 0, []

    def note_action(self, words):
        self.count += 1
        if not self.said or self.said[-1][0] != words:
            self.said.append([words, 0])
        self.said[-1][1] += 1
        settle(self.window)

    def key(self, words, *keys):
        for key in keys:
            press(self.window, key)
            self.note_action(words)

    def click(self, words, point, modifiers=Qt.KeyboardModifier.NoModifier):
        QTest.mouseClick(self.window.viewer, Qt.MouseButton.LeftButton, modifiers, at_view(self.window, point))
        self.note_action(words)

    def drag(self, words, points, modifiers=Qt.KeyboardModifier.NoModifier):
        drag(self.window, list(points), modifiers)
        self.note_action(words)

    def button(self, words, widget):
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
        self.note_action(words)

    def choose(self, words, combo, index):
        choose(combo, index)
        self.note_action(words)

    def type_in(self, words, number, value):
        number.setFocus()
        number.selectAll()
        QTest.keyClicks(number, str(value))
        QTest.keyClick(number, Qt.Key.Key_Return)
        self.window.viewer.setFocus()
        self.note_action(words)

    def in_line(self, words, name, value):
        """Choose or type something in the line of the tool in hand."""
        widget = next(one for one in self.window.tray.findChildren(QWidget) if one.accessibleName() == name)
        if isinstance(widget, QComboBox):
            self.choose(words, widget, widget.findData(value))
        elif isinstance(widget, DragNumber):
            self.type_in(words, widget, value)
        else:
            self.button(words, widget)

    def frame(self, frame):
        """Type a frame number."""
        box = self.window.frame_box
        box.setFocus()
        box.selectAll()
        QTest.keyClicks(box, str(frame))
        QTest.keyClick(box, Qt.Key.Key_Return)
        assert self.window.desk.frame == frame
        self.window.viewer.setFocus()
        self.note_action("go to a frame by its number")

    def zoom(self, middle, zoom):
        """Zoom with the wheel, so that a place is in the middle: counted once."""
        self.window.viewer.show_around(*map(float, middle), zoom)
        self.note_action("zoom and move the view")

    def note(self, sentence, head=(), rows=()):
        """Keep what was counted, for `docs/journeys.md`, with a table of figures."""
        NOTED.mkdir(parents=True, exist_ok=True)
        record = {"name": self.name, "sentence": sentence, "count": self.count, "actions": self.said,
                  "figures": [list(head), *(list(row) for row in rows)] if head else []}  # fmt: skip
        (NOTED / f"{self.name}.json").write_text(json.dumps(record, indent=1))


def densely(outline, step=2.0):
    """Return a closed outline's points close together, as a pen goes round it."""
    closed = np.vstack([outline, outline[:1]])
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    at = np.arange(0, along[-1], step)
    return np.column_stack([np.interp(at, along, closed[:, k]) for k in range(2)])
