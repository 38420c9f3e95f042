"""The line under the tray while shapes are in hand: how they are drawn, what a change reaches, what softly reshapes."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QSize
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QToolButton, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.mould import Mould
from gommage.app.look.controls import DragNumber, tool_button
from gommage.app.session import Session
from gommage.core.document import Project, VertexKind
from gommage.core.document.edits import Reach
from gommage.core.engine import Step

__all__ = ["ShapeLine"]

DRAWN_BY = (
    ("points", "spline", "Point by point"),
    ("freehand", "freehand", "Freehand"),
    ("ellipse", "ellipse", "Ellipse"),
    ("box", "square", "Rectangle"),
)
REACHES = ((Reach.THIS, "This key"), (Reach.ALL, "All"), (Reach.MARKED, "Marked"))
LINE_PX = 28
KINDS = (
    (VertexKind.CORNER, "corner", "corner_points"),
    (VertexKind.SMOOTH, "round", "round_points"),
    (VertexKind.HANDLES, "handles", "handle_points"),
)


class ShapeLine(QWidget):
    """All about the next shape, or the next change of one."""

    def __init__(self, session: Session, action: Callable[[str], QAction]) -> None:
        super().__init__()
        self._session, self._action = session, action
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 0, 8, 0)
        row.setSpacing(4)
        self.setFixedHeight(LINE_PX)
        self._groups = {"draw": self._draw(), "mould": self._mould(), "edit": self._edit()}
        self._reach = self._reaches()
        for group in (*self._groups.values(), self._reach):
            row.addWidget(group)
        row.addStretch()
        session.document_changed.connect(lambda old, new: self.show_desk(session.desk))

    @staticmethod
    def _group(*widgets: QWidget) -> QWidget:
        group = QWidget()
        row = QHBoxLayout(group)
        row.setContentsMargins(0, 0, 10, 0)
        row.setSpacing(4)
        for widget in widgets:
            row.addWidget(widget)
        return group

    def _draw(self) -> QWidget:
        self._ways: dict[str, QToolButton] = {}
        for way, icon_name, words in DRAWN_BY:
            button = tool_button(icon_name, words, is_checkable=True)
            button.clicked.connect(partial(self._set, draws_by=way))
            self._ways[way] = button
        self._round = QCheckBox("Round points")
        self._open = QCheckBox("Open line")
        for box, name, field in (
            (self._round, "Draw round points", "draws_round"),
            (self._open, "Draw open lines", "draws_open"),
        ):
            box.setAccessibleName(name)
            box.setToolTip(name)
            box.clicked.connect(lambda is_on, field=field: self._session.set_desk(**{field: is_on}))
        self._on = QComboBox()
        self._on.setAccessibleName("The next shape rides on")
        self._on.setToolTip("What carries the next shape")
        self._on.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._on.setMinimumContentsLength(10)
        self._on.activated.connect(self._choose_carrier)
        self._on_words = QLabel("on")
        return self._group(*self._ways.values(), self._round, self._open, self._on_words, self._on)

    def _mould(self) -> QWidget:
        self._moulds: dict[str, QToolButton] = {}
        for kind in Mould:
            button = QToolButton()
            button.setText(kind.capitalize())
            button.setAccessibleName(f"Reshape: {kind}")
            button.setToolTip(f"{kind.capitalize()} what is within reach")
            button.setCheckable(True)
            button.clicked.connect(partial(self._set, mould=kind))
            self._moulds[kind] = button
        self._size = DragNumber("Reach", 4, 2000, "px", tip="How wide the influence is (R, T)", is_even=False)
        self._adds = QCheckBox("Adds")
        self._adds.setAccessibleName("Adds points where they are needed")
        self._adds.setToolTip("Puts points on the outline where the reach needs them")
        self._size.valueChanged.connect(lambda value: self._session.set_desk(mould_px=value))
        self._adds.clicked.connect(lambda is_on: self._session.set_desk(mould_adds=is_on))
        return self._group(*self._moulds.values(), self._size, self._adds)

    def _edit(self) -> QWidget:
        buttons = []
        for name in ("transform_box", "soften_points"):
            button = QToolButton()
            button.setDefaultAction(self._action(name))
            button.setAccessibleName(self._action(name).text())
            buttons.append(button)
        self._kinds: dict[VertexKind, QToolButton] = {}
        for kind, icon_name, name in KINDS:
            button = tool_button(icon_name, f"Points: {kind}", tip=f"{self._action(name).text()}: the chosen, or all",
                                 is_checkable=True)  # fmt: skip
            button.clicked.connect(self._action(name).trigger)
            self._kinds[kind] = button
        return self._group(*buttons, *self._kinds.values())

    def _reaches(self) -> QWidget:
        self._reach_buttons: dict[Reach, QToolButton] = {}
        for reach, words in REACHES:
            button = QToolButton()
            button.setText(words)
            button.setAccessibleName(f"Change {reach}")
            button.setToolTip(self._action(f"reach_{reach.name.lower()}").toolTip())
            button.setCheckable(True)
            button.clicked.connect(self._action(f"reach_{reach.name.lower()}").trigger)
            self._reach_buttons[reach] = button
        return self._group(QLabel("Changes"), *self._reach_buttons.values())

    def _set(self, _: bool = False, **changes: str) -> None:
        self._session.set_desk(**changes)

    def _choose_carrier(self) -> None:
        surface_id = self._on.currentData()
        if surface_id:
            self._session.set_desk(surface_id=surface_id, draws_on_picture=False)
        else:
            self._session.set_desk(draws_on_picture=True)

    def _show_carriers(self, desk: Desk) -> None:
        shot = desk.shot(self._session.shown)
        surfaces = shot.surfaces if shot is not None else ()
        wanted = [*((surface.name, surface.id) for surface in surfaces), ("The picture", "")]
        if wanted != [(self._on.itemText(n), self._on.itemData(n)) for n in range(self._on.count())]:
            self._on.clear()
            for words, surface_id in wanted:
                self._on.addItem(words, surface_id)
        self._on.setCurrentIndex(self._on.findData("" if desk.draws_on_picture else desk.surface_id))
        for widget in (self._on_words, self._on):
            widget.setVisible(desk.step is not Step.FOLLOW)

    def minimumSizeHint(self) -> QSize:
        """Return no width: a line that is too long for a small window is cut, and does not widen it."""
        return QSize(0, super().minimumSizeHint().height())

    def show_desk(self, desk: Desk) -> None:
        """Show what the tool in hand does with shapes."""
        self.setVisible(desk.step in (Step.FOLLOW, Step.COVER, Step.MATCH))  # with any tool: the picture stays in place
        for tool, group in self._groups.items():
            group.setVisible(desk.tool == tool)
        self._reach.setVisible(desk.tool in ("edit", "mould"))
        for way, button in self._ways.items():
            button.setChecked(desk.draws_by == way)
        for kind, button in self._moulds.items():
            button.setChecked(desk.mould == kind)
        for reach, button in self._reach_buttons.items():
            button.setChecked(desk.reach is reach)
        self._show_carriers(desk)
        kinds = _kinds_of(desk, self._session.shown)
        for kind, button in self._kinds.items():
            button.setChecked(kinds == {kind})
        self._round.setEnabled(desk.draws_by == "points")
        self._round.setChecked(desk.draws_round)
        self._open.setEnabled(desk.draws_by in ("points", "freehand"))
        self._open.setChecked(desk.draws_open)
        self._size.set_value(desk.mould_px)
        self._adds.setChecked(desk.mould_adds)


def _kinds_of(desk: Desk, project: Project) -> set[VertexKind]:
    """Return the kinds of the chosen vertices, or of all."""
    part, shape = desk.part(project), desk.shape(project)
    if part is None or shape is None:
        return set()
    chosen = desk.chosen_vertices(part.id) or range(len(shape.kinds))
    return {shape.kinds[index] for index in chosen if index < len(shape.kinds)}
