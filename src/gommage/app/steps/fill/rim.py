"""Filling from the rim in the panel: how even surroundings are grown in, and how steadily."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.look.controls import ValueRow, quiet
from gommage.app.steps.fill.commands import FillCommands
from gommage.core.document import Fix, Rim, Shot

__all__ = ["RimPart"]

FIRST = 10.0
"""What evenness by hand begins with."""


class RimPart(QWidget):
    """What a fill from the rim has to be told: nothing, or how even and steadily."""

    def __init__(self, commands: FillCommands) -> None:
        super().__init__()
        self._commands = commands
        self.found = QCheckBox("Evenness found by itself")
        self.found.setAccessibleName("Evenness found by itself")
        self.found.setToolTip("By what foretells the surroundings best, once for the shot")
        self.evenness = ValueRow(
            "Evenness", 0.1, 1000, "", 1, curve=4.0, tip="Low follows folds and stains around it, high leaves out grain"
        )
        self.steadied = ValueRow(
            "Steadied by", 0, 5, "frames", 0, tip="Frames before and after that count as well, along the surface"
        )
        self.found.toggled.connect(lambda on: commands.change_rim("Evenness", evenness=None if on else FIRST))
        self.evenness.value_changed.connect(lambda value, final: commands.change_rim("Evenness", final, evenness=value))
        self.steadied.value_changed.connect(
            lambda value, final: commands.change_rim("Steadied by", final, steadied_by=round(value))
        )
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        box.addWidget(quiet("Surroundings grown inwards, under each frame's own light: for marks on what is smooth"))
        box.addWidget(self.found)
        box.addWidget(self.evenness)
        box.addWidget(self.steadied)

    def show_fill(self, shot: Shot, fix: Fix, fill: Rim, desk: Desk) -> None:
        """Show a fill as it is."""
        with QSignalBlocker(self.found):
            self.found.setChecked(fill.evenness is None)
        self.evenness.setVisible(fill.evenness is not None)
        if fill.evenness is not None:
            self.evenness.set_value(fill.evenness)
        self.steadied.setVisible(any((fix.surface_id, *(drawn.surface_id for _, drawn in fix.cover.drawn))))
        self.steadied.set_value(fill.steadied_by)
