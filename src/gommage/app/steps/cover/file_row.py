"""What a part from a file needs: which channel of it, and how its frames are numbered."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget

from gommage.app.look.controls import choice, pick, small_number
from gommage.core.document import FromFile

__all__ = ["FileRow"]

CHANNEL_WORDS = {"A": "Alpha", "R": "Red", "G": "Green", "B": "Blue", "L": "Luminance"}


class FileRow(QWidget):
    """`changed(label, is_final, fields)` tells what of the file's record shall be another."""

    changed = Signal(str, bool, dict)

    def __init__(self) -> None:
        super().__init__()
        self._channel = choice("Channel of the file", CHANNEL_WORDS, "Which channel is the matte")
        self._offset = small_number("File's numbers", -99999, 99999, "", "The file's frame is the shot's plus this")
        self._offset.setDecimals(0)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for widget in (QLabel("Channel"), self._channel, QLabel("Numbers"), self._offset):
            row.addWidget(widget)
        self._channel.activated.connect(
            lambda: self.changed.emit("Channel", True, {"channel": self._channel.currentData()})
        )
        self._offset.number_changed.connect(
            lambda value, final: self.changed.emit("Numbers of the file", final, {"frame_offset": round(value)})
        )

    def show_source(self, source: FromFile) -> str:
        """Show a file; returns its name."""
        pick(self._channel, source.channel)
        self._offset.set_value(source.frame_offset)
        return Path(source.path).name
