"""Dialogs: opening footage, rendering, all shortcuts. Everything else happens in the window."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from gommage.app.actions import ACTIONS, HELD_KEYS
from gommage.app.rows import heading, quiet
from gommage.app.theme import tabular_font
from gommage.core.document import Footage, Shot, placement
from gommage.core.engine import RenderTarget
from gommage.core.picture import FootageReport
from gommage.core.picture.colour import colour_spaces
from gommage.core.picture.writing import STILL_FORMATS

__all__ = ["FootageDialog", "RenderDialog", "ShortcutsDialog"]

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
        form.addRow("Rate", self.rate)
        form.addRow("Pixel aspect", self.aspect)
        form.addRow("Colour space", self.space)
        form.addRow("", quiet("Guessed from the files; change it if you know better."))
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
        )


class RenderDialog(QDialog):
    """Ask where to, as what, and which frames."""

    def __init__(self, shot: Shot, folder: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Render")
        self.setMinimumWidth(520)
        frames = shot.footage.frames
        self.kind = QComboBox()
        self.kind.setAccessibleName("Format")
        if not shot.footage.is_movie:
            self.kind.addItem("As the plate: same files, same depth", "")
        for name, still in STILL_FORMATS.items():
            self.kind.addItem(still.label, name)
        for suffix, words in (
            (".mov", "Movie, ProRes 4444"),
            (".mkv", "Movie, FFV1 lossless"),
            (".mp4", "Movie, H.264"),
        ):
            self.kind.addItem(words, suffix)
        self.kind.activated.connect(self._explain)
        self.where = QLineEdit(str(folder))
        self.where.setAccessibleName("Folder")
        choose = QPushButton("Choose…")
        choose.setAutoDefault(False)
        choose.clicked.connect(self._choose)
        row = QHBoxLayout()
        row.addWidget(self.where, 1)
        row.addWidget(choose)
        self.first, self.last = QSpinBox(), QSpinBox()
        for box, name, value in (
            (self.first, "First frame", frames.first),
            (self.last, "Last frame", frames.last),
        ):
            box.setRange(frames.first, frames.last)
            box.setValue(value)
            box.setAccessibleName(name)
            box.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
            box.setFont(tabular_font(9.5))
            box.setFixedWidth(72)
        span = QHBoxLayout()
        span.setSpacing(8)
        span.addWidget(self.first)
        span.addWidget(QLabel("to"))
        span.addWidget(self.last)
        span.addStretch()
        self.still = QComboBox()
        self.still.setAccessibleName("Held still")
        self.still.addItem("As filmed", "")
        for surface in shot.surfaces:
            if placement(shot, surface) is not None:
                self.still.addItem(f"{surface.name} held still", surface.id)
        self.still.activated.connect(self._explain)
        self.note = quiet(name="What is kept")
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignRight)
        form.setVerticalSpacing(8)
        form.addRow("Format", self.kind)
        form.addRow("Folder", row)
        form.addRow("Frames", span)
        form.addRow("Camera", self.still)
        form.addRow("", self.note)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        go = buttons.addButton("Render", QDialogButtonBox.ButtonRole.AcceptRole)
        go.setDefault(True)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 16, 16, 12)
        layout.setSpacing(12)
        layout.addLayout(form)
        layout.addWidget(buttons)
        self._shot = shot
        self._explain()

    def _explain(self) -> None:
        if self.still.currentData():
            self.note.setText(
                "Each frame is moved so that the surface lies as on its home frame. Frames on which it was not "
                "followed are left out."
            )
            return
        as_plate = self.kind.currentData() == ""
        self.note.setText(
            "Files keep their frame numbers and metadata. Pixels outside the fixes are the plate's, bit for bit."
            if as_plate
            else "Files keep their frame numbers. Pixels outside the fixes are only converted to the chosen depth."
        )

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Render into", self.where.text())
        if folder:
            self.where.setText(folder)

    def target(self) -> RenderTarget:
        """Return where and as what to render."""
        kind: str = self.kind.currentData()
        folder = Path(self.where.text()).expanduser()
        if kind.startswith("."):
            name = Path(self._shot.footage.path).name.split(".")[0].rstrip("#_-") or "render"
            return RenderTarget(folder / f"{name}{kind}", held_still=self.still.currentData())
        return RenderTarget(folder, kind, held_still=self.still.currentData())

    def frames(self) -> range:
        """Return the frames to render."""
        first, last = sorted((self.first.value(), self.last.value()))
        return range(first, last + 1)


class ShortcutsDialog(QDialog):
    """All keys, from the table of actions."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shortcuts")
        self.resize(560, 620)
        inside = QWidget()
        inside.setObjectName("panel")
        form = QFormLayout(inside)
        form.setVerticalSpacing(4)
        menu = ""
        for action in ACTIONS:
            if action.menu != menu:
                menu = action.menu
                form.addRow(heading(menu))
            if action.keys:
                form.addRow(", ".join(action.keys), QLabel(action.text.rstrip("…")))
        form.addRow(heading("Held"))
        for key, words in HELD_KEYS.items():
            form.addRow(key, QLabel(words))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        layout = QVBoxLayout(self)
        layout.addWidget(scroll)
