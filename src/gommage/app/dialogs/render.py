"""Rendering: where to, as what, and which frames."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from gommage.app.look.controls import quiet
from gommage.app.look.theme import tabular_font
from gommage.core.document import Shot, Surface
from gommage.core.engine import RenderTarget
from gommage.core.picture.writing import STILL_FORMATS

__all__ = ["RenderDialog"]


class RenderDialog(QDialog):
    """Ask where to, as what, and which frames."""

    def __init__(
        self, shot: Shot, folder: Path, is_followed: Callable[[Surface], bool], parent: QWidget | None = None
    ) -> None:
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
            if is_followed(surface):
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
