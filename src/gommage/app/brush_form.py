"""All that is seldom changed of a brush and its source: blend, channels, spacing; picture, turn, scale, mirror."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QWidget

from gommage.app.hands.next_stroke import takes_source
from gommage.app.look.controls import DragNumber, choice, pick, small_number
from gommage.core.document import (
    BelowPicture,
    Blend,
    Brush,
    CleanPlatePicture,
    FixPicture,
    PlatePicture,
    Shot,
    Source,
    SourcePicture,
)

__all__ = ["BrushForm", "pictures_of"]

BLEND_WORDS = {
    Blend.OVER: "Over",
    Blend.ADD: "Added",
    Blend.MULTIPLY: "Multiplied",
    Blend.LIGHTER: "The lighter",
    Blend.DARKER: "The darker",
}
CHANNELS = "rgb"


def pictures_of(shot: Shot | None, fix_id: str) -> dict[str, tuple[str, SourcePicture]]:
    """Return what a stroke can take its pixels from: words and picture, by a name; fixes only if they lie behind."""
    found: dict[str, tuple[str, SourcePicture]] = {
        "below": ("what lies below", BelowPicture()),
        "plate": ("the plate", PlatePicture()),
    }
    for plate in shot.clean_plates if shot is not None else ():
        found[f"clean plate {plate.id}"] = plate.name, CleanPlatePicture(plate_id=plate.id)
    for fix in shot.fixes if shot is not None and fix_id else ():
        if fix.id == fix_id:
            break
        found[f"fix {fix.id}"] = f"fix {fix.name}", FixPicture(fix_id=fix.id)
    return found


class BrushForm(QWidget):
    """Rows for a brush and a source: those of the next stroke, or of the chosen ones."""

    brush_changed = Signal(dict, bool)
    source_changed = Signal(dict, bool)

    def __init__(self, whose: str) -> None:
        super().__init__()
        self._pictures: dict[str, tuple[str, SourcePicture]] = {}
        self.blend = choice(f"Blend of {whose}", BLEND_WORDS, "How paint meets what lies below, in linear light")
        self.blend.activated.connect(lambda: self.brush_changed.emit({"blend": Blend(self.blend.currentData())}, True))
        self.spacing = small_number(f"Spacing of {whose}", 1, 300, "%", "Distance of dabs, in diameters")
        self.spacing.setDecimals(0)
        self._number(self.spacing, self.brush_changed, "spacing", 100)
        channels = QHBoxLayout()
        self.channels = {}
        for name, words in zip(CHANNELS, ("Red", "Green", "Blue"), strict=True):
            box = self.channels[name] = QCheckBox(words[0])
            box.setAccessibleName(f"{words} of {whose}")
            box.setToolTip(f"Whether {words.lower()} is painted on")
            box.toggled.connect(self._on_channels)
            channels.addWidget(box)
        self.picture = choice(f"Picture of {whose}", {}, "What pixels are taken from")
        self.picture.activated.connect(self._on_picture)
        self.turn = self._source_number(f"Turn of {whose}", -180, 180, "°", "The source turned", "turn_deg", 1)
        self.scale = self._source_number(f"Scale of {whose}", 10, 1000, "%", "The source made larger", "scale", 100)
        self.mirrored = self._source_box("mirrored", f"Mirrored source of {whose}", "Left for right", "is_mirrored")
        self.stays = self._source_box(
            "stays",
            f"Source of {whose} stays",
            "Each dab brings the same piece; off, the source goes along",
            "is_fixed",
        )
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        grid.addWidget(QLabel("Blend"), 0, 0)
        grid.addWidget(self.blend, 0, 1)
        grid.addWidget(QLabel("Spacing"), 0, 2)
        grid.addWidget(self.spacing, 0, 3)
        grid.addWidget(QLabel("Channels"), 1, 0)
        grid.addLayout(channels, 1, 1, 1, 3)
        self._of_source = []
        for row, column, span, widget in (
            (2, 0, 1, QLabel("From")), (2, 1, 3, self.picture), (3, 0, 1, QLabel("Turn")), (3, 1, 1, self.turn),
            (3, 2, 1, QLabel("Scale")), (3, 3, 1, self.scale), (4, 1, 1, self.mirrored), (4, 2, 2, self.stays),
        ):  # fmt: skip
            grid.addWidget(widget, row, column, 1, span)
            self._of_source.append(widget)

    def _number(self, number: DragNumber, signal: Any, field: str, unit: float) -> None:
        number.number_changed.connect(lambda value, is_final: signal.emit({field: value / unit}, is_final))

    def _source_number(
        self, name: str, low: float, high: float, unit: str, tip: str, field: str, share: float
    ) -> DragNumber:
        number = small_number(name, low, high, unit, tip)
        self._number(number, self.source_changed, field, share)
        return number

    def _source_box(self, words: str, name: str, tip: str, field: str) -> QCheckBox:
        box = QCheckBox(words)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.toggled.connect(lambda is_on: self.source_changed.emit({field: is_on}, True))
        return box

    def _on_channels(self) -> None:
        on = "".join(name for name, box in self.channels.items() if box.isChecked())
        self.brush_changed.emit({"channels": on or CHANNELS}, True)

    def _on_picture(self) -> None:
        self.source_changed.emit({"picture": self._pictures[self.picture.currentData()][1]}, True)

    def show_brush(self, brush: Brush, source: Source, shot: Shot | None, fix_id: str) -> None:
        """Show a brush and a source."""
        pick(self.blend, brush.blend)
        self.spacing.set_value(brush.spacing * 100)
        self.turn.set_value(source.turn_deg)
        self.scale.set_value(source.scale * 100)
        boxes = [(self.mirrored, source.is_mirrored), (self.stays, source.is_fixed)]
        boxes += [(box, name in brush.channels) for name, box in self.channels.items()]
        for box, is_on in boxes:
            box.blockSignals(True)
            box.setChecked(is_on)
            box.blockSignals(False)
        pictures = pictures_of(shot, fix_id)
        if pictures != self._pictures:
            self._pictures = pictures
            self.picture.clear()
            for name, (words, _) in pictures.items():
                self.picture.addItem(words, name)
        pick(self.picture, next((name for name, (_, one) in pictures.items() if one == source.picture), "below"))
        for widget in self._of_source:
            widget.setVisible(takes_source(brush.tool))
