"""Small building blocks of the panels: a value with a slider, a heading, a quiet line, a piece of advice."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from PySide6.QtCore import QEvent, QObject, QSignalBlocker, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QSlider,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from gommage.app.look.theme import icon, tabular_font

__all__ = [
    "AdviceBox",
    "DragNumber",
    "NameLine",
    "Section",
    "ShortLine",
    "ValueRow",
    "choice",
    "fold_button",
    "heading",
    "pick",
    "push_button",
    "quiet",
    "rule",
    "show_number",
    "small_number",
    "spaced",
    "tick_box",
    "tool_button",
]


DRAG_DEAD_PX = 3
ADVICE_PX = 104


def heading(words: str) -> QLabel:
    """Return a heading."""
    label = QLabel(words)
    label.setProperty("heading", True)
    return label


class ShortLine(QLabel):
    """A line that is cut short, with dots, where there is no room."""

    def minimumSizeHint(self) -> QSize:
        """Return room for a few letters: a long line must not push its neighbours out."""
        return QSize(4 * self.fontMetrics().averageCharWidth(), super().minimumSizeHint().height())

    def shown_words(self) -> str:
        """Return as much of the line as there is room for."""
        return self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the line, or as much of it as there is room for."""
        painter = QPainter(self)
        self.style().drawItemText(
            painter, self.rect(), int(self.alignment()), self.palette(), self.isEnabled(), self.shown_words(),
            self.foregroundRole(),
        )  # fmt: skip


class NameLine(ShortLine):
    """A name as a heading; where it is cut short, all of it is in its tip."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("heading", True)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the name, and keep its tip."""
        self.setToolTip(self.text() if self.shown_words() != self.text() else "")
        super().paintEvent(event)


def quiet(words: str = "", name: str = "") -> QLabel:
    """Return a quiet line that wraps."""
    label = QLabel(words)
    label.setProperty("quiet", True)
    label.setWordWrap(True)
    if name:
        label.setAccessibleName(name)
    return label


def push_button(words: str, pressed: Callable[[], object], *, primary: bool = False, tip: str = "") -> QPushButton:
    """Return a button that is named after its words."""
    button = QPushButton(words)
    button.setAccessibleName(words)
    button.setProperty("primary", primary)
    button.setToolTip(tip or words)
    button.clicked.connect(lambda: pressed())
    return button


def tool_button(icon_name: str, name: str, *, tip: str = "", is_checkable: bool = False) -> QToolButton:
    """Return a button with an icon."""
    button = QToolButton()
    button.setIcon(icon(icon_name))
    button.setProperty("iconName", icon_name)
    button.setAccessibleName(name)
    button.setToolTip(tip or name)
    button.setCheckable(is_checkable)
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return button


def show_number(box: QSpinBox | QDoubleSpinBox, value: float) -> None:
    """Show a value in a box without telling anybody; what is being typed into it stays while the value is the same."""
    shown = round(value, box.decimals()) if isinstance(box, QDoubleSpinBox) else round(value)
    if box.value() != shown:
        with QSignalBlocker(box):
            box.setValue(shown)  # type: ignore[arg-type]


class ValueRow(QWidget):
    """A name, a slider and a number with its unit.

    `value_changed(value, is_final)` comes while dragging (is_final False) and once at the end.
    """

    value_changed = Signal(float, bool)

    def __init__(
        self,
        name: str,
        low: float,
        high: float,
        unit: str,
        decimals: int = 0,
        *,
        curve: float = 1.0,
        tip: str = "",
    ) -> None:
        super().__init__()
        self.name = name
        self._low, self._high, self._curve = low, high, curve
        self._slider = QSlider(Qt.Orientation.Horizontal)
        self._slider.setRange(0, 1000)
        self._slider.setAccessibleName(f"{name} slider")
        self._number = QDoubleSpinBox()
        self._number.setRange(low, high)
        self._number.setDecimals(decimals)
        self._number.setSuffix(f" {unit}" if unit else "")
        self._number.setSingleStep(10**-decimals if decimals else 1)
        self._number.setAccessibleName(name)
        self._number.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self._number.setFixedWidth(90)
        self._number.setKeyboardTracking(False)
        for widget in (self._slider, self._number):
            widget.setToolTip(tip or name)
        label = QLabel(name)
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 0, 0)
        top.addWidget(label)
        top.addStretch()
        top.addWidget(self._number)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addLayout(top)
        layout.addWidget(self._slider)
        self._slider.valueChanged.connect(self._on_slider_moved)
        self._slider.sliderReleased.connect(lambda: self.value_changed.emit(self._number.value(), True))
        self._number.valueChanged.connect(self._on_number_changed)

    def set_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        with QSignalBlocker(self._slider):
            if not self._slider.isSliderDown():
                share = (min(max(value, self._low), self._high) - self._low) / (self._high - self._low)
                self._slider.setValue(round(1000 * share ** (1 / self._curve)))
        show_number(self._number, value)

    def value(self) -> float:
        """Return the value that is shown."""
        return self._number.value()

    def _on_slider_moved(self, position: int) -> None:
        value = self._low + (self._high - self._low) * (position / 1000) ** self._curve
        with QSignalBlocker(self._number):
            self._number.setValue(value)
        self.value_changed.emit(self._number.value(), not self._slider.isSliderDown())

    def _on_number_changed(self, value: float) -> None:
        self.set_value(value)
        self.value_changed.emit(value, True)


class DragNumber(QDoubleSpinBox):
    """A number that is typed, or dragged sideways.

    `number_changed(value, is_final)` comes while dragging (is_final False) and once at the end.
    """

    number_changed = Signal(float, bool)

    def __init__(self, name: str, low: float, high: float, unit: str, *, tip: str = "", is_even: bool = True) -> None:
        super().__init__()
        self._is_even = is_even
        self._from: tuple[float, float] | None = None
        self._is_dragging = False
        self.setRange(low, high)
        self.setDecimals(0)
        self.setSuffix(f" {unit}")
        self.setAccessibleName(name)
        self.setToolTip(f"{tip or name}. Drag sideways, or type")
        self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self.setKeyboardTracking(False)
        self.setFont(tabular_font(9))
        self.setFixedWidth(72)
        self.valueChanged.connect(lambda value: self.number_changed.emit(value, not self._is_dragging))
        self.lineEdit().setCursor(Qt.CursorShape.SizeHorCursor)
        self.lineEdit().installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QMouseEvent):
            return super().eventFilter(watched, event)
        kind, x = event.type(), event.globalPosition().x()
        if kind == QEvent.Type.MouseButtonPress:
            self._from, self._is_dragging = (x, self.value()), False
        elif kind == QEvent.Type.MouseMove and self._from is not None and event.buttons():
            begun_x, begun = self._from
            self._is_dragging = self._is_dragging or abs(x - begun_x) > DRAG_DEAD_PX
            if self._is_dragging:
                self.setValue(self._dragged(begun, x - begun_x))
                return True
        elif kind == QEvent.Type.MouseButtonRelease:
            was, self._from, self._is_dragging = self._is_dragging, None, False
            if was:
                self.number_changed.emit(self.value(), True)
            return was
        return super().eventFilter(watched, event)

    def _dragged(self, begun: float, by_px: float) -> float:
        """Return the value after a drag: evenly, or for sizes by a share of what they are."""
        return begun + by_px / 2 if self._is_even else begun * 2 ** (by_px / 60)

    def set_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        show_number(self, value)


def small_number(name: str, low: float, high: float, unit: str, tip: str) -> DragNumber:
    """Return a number with one decimal, for rows with several of them."""
    number = DragNumber(name, low, high, unit, tip=tip)
    number.setDecimals(1)
    number.setFixedWidth(66)
    return number


def choice(name: str, items: Mapping[Any, str], tip: str) -> QComboBox:
    """Return a list of which one is chosen, as narrow as it must be; items are values and their words."""
    combo = QComboBox()
    combo.setAccessibleName(name)
    combo.setToolTip(tip)
    combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    combo.setMinimumContentsLength(6)
    for value, words in items.items():
        combo.addItem(words, value)
    return combo


def pick(combo: QComboBox, value: object) -> None:
    """Show a value in a list without telling anybody."""
    with QSignalBlocker(combo):
        combo.setCurrentIndex(combo.findData(value))


class AdviceBox(QFrame):
    """What to do next, or what does not work yet and the button that mends it. Always there, so that nothing moves when
    it has nothing to say.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("advice")
        self.setFixedHeight(ADVICE_PX)
        self._words = QLabel()
        self._words.setWordWrap(True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._words.setAccessibleName("Advice")
        self._button = QPushButton()
        self._mend: Callable[[], object] | None = None
        self._button.clicked.connect(self.follow)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 8, 8)
        layout.setSpacing(4)
        layout.addWidget(self._words, 1)
        layout.addWidget(self._button, alignment=Qt.AlignmentFlag.AlignLeft)
        self.say("")

    @property
    def words(self) -> str:
        """What it says."""
        return self._words.text()

    def follow(self) -> bool:
        """Do what it advises; returns whether there was anything."""
        if self._mend is None:
            return False
        self._mend()
        return True

    def say(
        self, words: str, button: str = "", mend: Callable[[], object] | None = None, *, is_urgent: bool = True
    ) -> None:
        """Show a sentence, and what can be done about it: a button, or the one of the page that is meant.

        What is not urgent is quiet.
        """
        self._words.setText(words if button or mend is None else f"{words} (Return)")
        has_button = bool(button and mend)
        self._button.setVisible(has_button)
        self._button.setText(button)
        self._button.setAccessibleName(button)
        self._button.setToolTip(f"{button} (Return)" if has_button else "")
        self._mend = mend
        state = "empty" if not words else "urgent" if is_urgent else "quiet"
        if self.property("state") != state:
            self.setProperty("state", state)
            self.style().polish(self)


def fold_button(words: str, fold: Callable[[bool], object], *, is_folded: bool = False) -> QToolButton:
    """Return the arrow before a heading that folds what is below it."""
    button = tool_button("chevron-down", f"Fold {words.lower()}", is_checkable=True)

    def toggled(is_on: bool) -> None:
        name = "chevron-right" if is_on else "chevron-down"
        button.setIcon(icon(name))
        button.setProperty("iconName", name)
        fold(is_on)

    button.setProperty("fold", True)
    button.toggled.connect(toggled)
    button.setChecked(is_folded)
    return button


class Section(QWidget):
    """A heading that folds what is below it, and says in a few words what is in it while it is folded."""

    def __init__(self, words: str, *, is_folded: bool = False) -> None:
        super().__init__()
        self._summary = quiet(name=f"{words} in short")
        self._summary.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._summary.setWordWrap(False)
        self._inside = QWidget()
        self._inside.setObjectName("panel")
        self.box = QVBoxLayout(self._inside)
        self.box.setContentsMargins(0, 2, 0, 2)
        self.box.setSpacing(6)
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 0, 0)
        head.setSpacing(6)
        head.addWidget(fold_button(words, self._fold, is_folded=is_folded))
        head.addWidget(heading(words))
        head.addWidget(self._summary, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addLayout(head)
        layout.addWidget(self._inside)

    def _fold(self, is_folded: bool) -> None:
        self._inside.setVisible(not is_folded)
        self._summary.setVisible(is_folded)

    def say(self, words: str) -> None:
        """Say what is in it."""
        self._summary.setText(words)
        self._summary.setToolTip(words)


def spaced(*widgets: QWidget) -> QHBoxLayout:
    """Return widgets in a row of equal shares."""
    row = QHBoxLayout()
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(6)
    for widget in widgets:
        row.addWidget(widget, 1)
    return row


def tick_box(words: str, tip: str, on_toggled: Callable[[bool], None]) -> QCheckBox:
    """Return a box to be ticked, named after its words."""
    box = QCheckBox(words)
    box.setAccessibleName(words)
    box.setToolTip(tip)
    box.toggled.connect(on_toggled)
    return box


def rule() -> QFrame:
    """Return a thin line between groups."""
    line = QFrame()
    line.setObjectName("rule")
    return line
