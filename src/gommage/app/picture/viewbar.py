"""The bar under the picture: zoom, what to look at, steady and wipe, exposure, display, value under the pen."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout, QLabel, QToolButton, QWidget

from gommage.app.look.theme import tabular_font
from gommage.app.picture.framing import Framing
from gommage.app.picture.views import VEILS
from gommage.core.document import Shot
from gommage.core.engine import BACKDROPS, Look
from gommage.core.picture.colour import Display, views

__all__ = ["ViewBar"]


LOOK_PX, NARROW_LOOK_PX, VIEWS_PX = 108, 86, 80


class ViewBar(QWidget):
    """Reports what the user wants to see; shows what is seen."""

    look_chosen = Signal(object)
    view_chosen = Signal(str)
    display_chosen = Signal(object)
    veil_chosen = Signal(float, str)
    backdrop_chosen = Signal(str)

    def __init__(self, action: Callable[[str], QAction]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._display = Display()
        self.zoom = QLabel("100 %")
        self.zoom.setFont(tabular_font(9))
        self.zoom.setMinimumWidth(42)
        self.zoom.setAccessibleName("Zoom")
        self.look = QComboBox()
        self.look.setAccessibleName("What to look at")
        self.look.setToolTip("What to look at")
        self.look.setFixedWidth(LOOK_PX)
        for look in Look:
            self.look.addItem(look.capitalize(), look)
        self.look.activated.connect(lambda: self.look_chosen.emit(Look(self.look.currentData())))
        self.views = QComboBox()
        self.views.setAccessibleName("View of the panorama")
        self.views.setToolTip("The panorama, or one of its flat views")
        self.views.setFixedWidth(VIEWS_PX)
        self.views.activated.connect(lambda: self.view_chosen.emit(self.views.currentData()))
        self.views.hide()
        self.exposure = self._number("Exposure", -8, 8, 0.5, " stops", "Brightens the display only")
        self.gamma = self._number("Gamma", 0.2, 4, 0.1, " γ", "Lifts the display only")
        self.gamma.setValue(1.0)
        self.gamma.setFixedWidth(54)
        self.veil = self._number("Veil", 5, 100, 5, " %", "How strong the matte lies over the picture")
        self.veil.setDecimals(0)
        self.veil.setFixedWidth(54)
        self.veil.setValue(50)
        self.veil_colour = QComboBox()
        self.veil_colour.setAccessibleName("Colour of the veil")
        self.veil_colour.setToolTip("Colour of the veil")
        self.veil_colour.setFixedWidth(76)
        for name in VEILS:
            self.veil_colour.addItem(name.capitalize(), name)
        self.backdrop = QComboBox()
        self.backdrop.setAccessibleName("Backdrop")
        self.backdrop.setToolTip("On what paint alone is looked at")
        self.backdrop.setFixedWidth(92)
        for name in BACKDROPS:
            self.backdrop.addItem(f"On {name}", name)
        self.backdrop.setCurrentIndex(self.backdrop.findData("grey"))
        self.backdrop.activated.connect(lambda: self.backdrop_chosen.emit(self.backdrop.currentData()))
        for widget in (self.veil, self.veil_colour, self.backdrop):
            widget.hide()
        self.transform = QComboBox()
        self.transform.setAccessibleName("Display transform")
        self.transform.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.transform.setMinimumContentsLength(11)
        for device, view in views():
            if device == Display().device:
                self.transform.addItem(view, (device, view))
        self.transform.setCurrentText(Display().view)
        self.transform.setToolTip("Display transform")
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(4)
        row.addWidget(_action_button(action("fit_view")))
        row.addWidget(self.zoom)
        row.addWidget(self.views)
        row.addWidget(self.look)
        for name in ("steady", "square_on", "lattice", "test_card", "wipe"):
            row.addWidget(_action_button(action(name)))
        row.addWidget(self.veil)
        row.addWidget(self.veil_colour)
        row.addWidget(self.backdrop)
        row.addStretch(1)
        for widget in (self.exposure, self.gamma, self.transform):
            row.addWidget(widget)
        self.exposure.valueChanged.connect(self._changed)
        self.gamma.valueChanged.connect(self._changed)
        self.veil.valueChanged.connect(self._veil_changed)
        self.veil_colour.activated.connect(self._veil_changed)
        self.transform.activated.connect(self._changed)

    @staticmethod
    def _number(name: str, low: float, high: float, step: float, suffix: str, tip: str) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setRange(low, high)
        box.setSingleStep(step)
        box.setDecimals(1)
        box.setSuffix(suffix)
        box.setAccessibleName(name)
        box.setToolTip(f"{name}: {tip}")
        box.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        box.setFixedWidth(78)
        box.setFont(tabular_font(9))
        return box

    def _changed(self) -> None:
        device, view = self.transform.currentData()
        self.display_chosen.emit(Display(device, view, self.exposure.value(), self.gamma.value()))

    def _veil_changed(self) -> None:
        self.veil_chosen.emit(self.veil.value() / 100, self.veil_colour.currentData())

    def show_look(self, look: Look) -> None:
        """Show what is being looked at."""
        with QSignalBlocker(self.look):
            self.look.setCurrentIndex(self.look.findData(look))
        own = {Look.VEIL: (self.veil, self.veil_colour), Look.PAINT_ALONE: (self.backdrop, self.exposure)}
        coming = own.get(look, (self.exposure, self.gamma))
        every: tuple[QWidget, ...] = (self.veil, self.veil_colour, self.backdrop, self.exposure, self.gamma)
        for widget in every:
            if widget not in coming:  # first: there is no room for all of them
                widget.hide()
        for one in coming:
            one.show()

    def show_views(self, whole: Shot, shot_id: str) -> None:
        """List the flat views of a panorama; nothing of any other shot."""
        self.views.setVisible(whole.footage.is_panorama)
        self.look.setFixedWidth(NARROW_LOOK_PX if whole.footage.is_panorama else LOOK_PX)
        with QSignalBlocker(self.views):
            self.views.clear()
            for one in (whole, *whole.views):
                self.views.addItem("Panorama" if one is whole else one.name, one.id)
            self.views.setCurrentIndex(self.views.findData(shot_id))

    def show_framing(self, framing: Framing) -> None:
        """Show the zoom, or of a panorama the angle, and how far the picture is turned."""
        turned = f" · {framing.turn_deg:+.0f}°" if framing.turn_deg else ""
        shown = f"{framing.angle_deg:.0f}°" if framing.is_round else f"{framing.zoom:.0%}".replace("%", " %")
        self.zoom.setText(shown + turned)


def _action_button(action: QAction) -> QToolButton:
    button = QToolButton()
    button.setDefaultAction(action)
    button.setAccessibleName(action.text())
    return button
