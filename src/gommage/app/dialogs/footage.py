"""Opening footage: what was found, to be corrected before it becomes a shot."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from gommage.app.look.controls import quiet
from gommage.app.look.theme import tabular_font
from gommage.core.document import Footage
from gommage.core.picture import FootageReport
from gommage.core.picture.colour import colour_spaces

__all__ = ["FootageDialog"]

RATES = ((24, 1), (24000, 1001), (25, 1), (30, 1), (30000, 1001), (48, 1), (50, 1), (60, 1))


class FootageDialog(QDialog):
    """Show what was found and let it be corrected before it becomes a shot."""

    def __init__(self, report: FootageReport, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Open footage")
        self.setMinimumWidth(520)
        self._footage = report.footage
        footage = report.footage
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignRight)
        form.setVerticalSpacing(8)
        frames = footage.frames
        form.addRow("Found", QLabel(Path(footage.path).name))
        span = QLabel(f"{frames.first}–{frames.last}, {len(frames) - len(footage.missing)} frames")
        span.setFont(tabular_font(9.5))
        span.setAccessibleName("Frames found")
        form.addRow("Frames", span)
        form.addRow("Size", QLabel(f"{footage.width} x {footage.height}, {report.pixel_type}"))
        self.aspect = QLineEdit(f"{footage.pixel_aspect:g}")
        self.aspect.setAccessibleName("Pixel aspect")
        self.rate = QComboBox()
        self.rate.setAccessibleName("Frame rate")
        rates = RATES if footage.rate in RATES else (footage.rate, *RATES)
        for top, bottom in rates:
            self.rate.addItem(f"{top / bottom:.3f}".rstrip("0").rstrip(".") + " frames/s", (top, bottom))
        self.rate.setCurrentIndex(rates.index(footage.rate))
        self.space = QComboBox()
        self.space.setAccessibleName("Colour space")
        self.space.addItems(colour_spaces())
        self.space.setCurrentText(footage.colour_space)
        self.alpha = QCheckBox("Carry it to rendered pictures")
        self.alpha.setAccessibleName("Keep alpha")
        self.panorama = QCheckBox("Shows all directions (equirectangular)")
        self.panorama.setAccessibleName("Panorama")
        self.panorama.setChecked(footage.is_panorama)
        form.addRow("Rate", self.rate)
        form.addRow("Pixel aspect", self.aspect)
        form.addRow("Colour space", self.space)
        form.addRow("", quiet("Guessed from the files; change it if you know better."))
        if footage.width == 2 * footage.height:
            form.addRow("Panorama", self.panorama)
        form.addRow("Alpha", self.alpha if report.has_alpha else QLabel("none"))
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Open | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 16, 16, 12)
        layout.setSpacing(12)
        layout.addLayout(form)
        for note in report.notes:
            label = QLabel(note)
            label.setWordWrap(True)
            label.setProperty("lookHere", True)
            label.setAccessibleName("Note")
            layout.addWidget(label)
        layout.addWidget(buttons)

    def footage(self) -> Footage:
        """Return the footage as it was corrected."""
        try:
            aspect = float(self.aspect.text())
        except ValueError:
            aspect = self._footage.pixel_aspect
        return replace(
            self._footage,
            rate=tuple(self.rate.currentData()),
            pixel_aspect=aspect if aspect > 0 else 1.0,
            colour_space=self.space.currentText(),
            keep_alpha=self.alpha.isChecked(),
            is_panorama=self.panorama.isChecked(),
        )
