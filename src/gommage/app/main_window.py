"""The window: puts the parts together and shows what is not any part's own."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
import platformdirs
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QProgressBar,
    QSizePolicy,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from gommage.app.actions import ACTIONS, FLAT_ALONE
from gommage.app.brush_commands import BrushCommands
from gommage.app.commands import FrameCommands, ItemCommands, ViewCommands
from gommage.app.desk import Desk
from gommage.app.dialogs.details import DetailsDialog
from gommage.app.dialogs.shortcuts import ShortcutsDialog
from gommage.app.files import FileCommands
from gommage.app.lists.column import Column
from gommage.app.look.controls import push_button, show_number
from gommage.app.look.theme import DARK, LIGHT, apply_theme, dress, icon, tabular_font
from gommage.app.menus import build_menus, what_is_on, what_is_there
from gommage.app.paint_commands import PaintCommands
from gommage.app.picture.stage import Stage
from gommage.app.picture.under_pen import told_under_pen
from gommage.app.picture.viewbar import ViewBar
from gommage.app.picture.viewer import Viewer
from gommage.app.plate_commands import PlateCommands
from gommage.app.projects import ProjectCommands
from gommage.app.session import Session
from gommage.app.steps.commands import StepCommands
from gommage.app.steps.cover.commands import ShapeCommands
from gommage.app.steps.cover.files import MatteFileCommands
from gommage.app.steps.follow.commands import FollowCommands
from gommage.app.steps.panel import StepPanel
from gommage.app.strip.data import strip_data
from gommage.app.strip.strip import FrameStrip
from gommage.app.tray import Tray, action_button
from gommage.app.welcome import Welcome
from gommage.app.work import LongWork, Work
from gommage.core.document import Project, Shot
from gommage.core.engine import Engine, Look, Priority
from gommage.core.picture.colour import configuration_fault

__all__ = ["MainWindow"]

NOTE_MS, ERROR_MS = 6000, 15000
"""So long a note, and a sentence about what could not be done, stay."""
VALUE_PX = 210
"""Position and colour of four digits each."""


class MainWindow(QMainWindow):
    """Cards left, picture in the middle, the step in hand right, frames below."""

    def __init__(self, engine: Engine, journal_roots: tuple[Path, ...], state_root: Path | None = None) -> None:
        super().__init__()
        self.setObjectName("main_window")
        self.resize(1280, 800)
        self.session = Session(engine, journal_roots, self)
        self.work = Work(self.session)
        self._is_leaving = False
        self.standing_fault = ""
        self.actions_by_id = build_menus(self, self.call)
        self._build_parts()
        state = state_root or Path(platformdirs.user_state_dir("gommage"))
        self.projects = ProjectCommands(self.session, self, state)
        self.files = FileCommands(self.session, self.work, self.projects, self)
        self.frames = FrameCommands(self.session, self.stage, self._refresh_actions)
        self.views = ViewCommands(self.session, self.stage, self.viewer, self._refresh_actions)
        self.items = ItemCommands(self.session, self.work, self.stage, self)
        self.follows = FollowCommands(self.session, self.work, self)
        self.shapes = ShapeCommands(self.session, self.stage, self)
        self.mattes = MatteFileCommands(self.session, self.work, self)
        self.plates = PlateCommands(self.session, self)
        self.of_steps = StepCommands(self.session, self.work, self, self.viewer)
        self.brushes = BrushCommands(self.session, self.stage)
        self.painting = PaintCommands(self.session, self.stage, self)
        self._build_layout()
        dress(self)
        self._connect()
        self._on_work_changed(None)
        self._on_document_changed(self.session.shown, self.session.shown)
        self.viewer.setFocus()
        self.session.submit(("colour",), Priority.SCREEN, lambda check: configuration_fault(), self.stand)

    def call(self, name: str) -> None:
        """Do an action of the table; hands work in flat pictures, so a panorama is looked at in a flat view first."""
        if name in FLAT_ALONE:
            self.of_steps.panoramas.settle()
        self.handler(name)()

    def handler(self, name: str) -> Callable[[], object]:
        """Return what does an action of the table: a method of one of the sets of commands, or of the window."""
        holders = (
            self.projects,
            self.files,
            self.frames,
            self.views,
            self.items,
            self.follows,
            self.shapes,
            self.mattes,
            *self.of_steps.all,
            self.plates,
            self.painting,
            self.brushes,
            self,
        )
        found: Callable[[], object] = next(getattr(one, name) for one in holders if hasattr(type(one), name))
        return found

    # -- building -------------------------------------------------------------------------------------------

    def _build_parts(self) -> None:
        action = self.actions_by_id.__getitem__
        self.column = Column(self.session)
        self.viewer = Viewer()
        self.viewer.addActions([action(entry.id) for entry in ACTIONS if entry.is_of_picture])
        self.stage = Stage(self.session, self.viewer)
        self.tray = Tray(self.session, action)
        self.view_bar = ViewBar(action)
        self.panel = StepPanel(self.session, self.work)
        self.strip = FrameStrip()
        self.welcome = Welcome(action)
        QVBoxLayout(self.viewer).addWidget(self.welcome, alignment=Qt.AlignmentFlag.AlignCenter)
        self.words = QLabel()
        self.words.setAccessibleName("Message")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.progress = QProgressBar()
        self.progress.setAccessibleName("Progress")
        self.progress.setFixedWidth(260)
        self.stop_button = action_button(action("stop"))
        self.details_button = push_button("Details…", self._show_details, tip="What to send to who mends it")
        self.details_button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.details_button.hide()
        self._fault = "", ""
        self._note_timer = QTimer(self)
        self._note_timer.setSingleShot(True)
        self._note_timer.timeout.connect(lambda: self._say("", is_error=False))

    def _build_layout(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        for widget, stretch in ((self.tray, 0), (self.viewer, 1), (self.view_bar, 0)):
            middle.addWidget(widget, stretch)
        upper = QHBoxLayout()
        upper.setContentsMargins(0, 0, 0, 0)
        upper.setSpacing(0)
        upper.addWidget(self.column)
        upper.addLayout(middle, 1)
        upper.addWidget(self.panel)
        centre = QWidget()
        centre.setObjectName("panel")
        layout = QVBoxLayout(centre)
        layout.setContentsMargins(0, 0, 0, 4)
        layout.setSpacing(0)
        layout.addLayout(upper, 1)
        layout.addWidget(self._transport())
        layout.addWidget(self.strip)
        self.setCentralWidget(centre)

    def _transport(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("panel")
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 4, 10, 2)
        row.setSpacing(2)
        names = ("first_frame", "previous_frame", "play", "next_frame", "last_frame")
        buttons = [self._frame_button(name) for name in names]
        for button in buttons:
            row.addWidget(button)
        self.frame_box = QSpinBox()
        self.frame_box.setAccessibleName("Frame")
        self.frame_box.setToolTip("The frame on screen; type another")
        self.frame_box.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.frame_box.setFont(tabular_font(10))
        self.frame_box.setFixedWidth(64)
        self.frame_box.setKeyboardTracking(False)
        row.addSpacing(6)
        row.addWidget(self.frame_box)
        self.rate = QLabel()
        self.rate.setProperty("quiet", True)
        row.addSpacing(6)
        row.addWidget(self.rate)
        row.addSpacing(12)
        self.value = QLabel()
        self.value.setFont(tabular_font(9))
        self.value.setProperty("quiet", True)
        self.value.setAccessibleName("Value under the pen")
        self.value.setMinimumWidth(VALUE_PX)
        row.addWidget(self.value)
        self._frame_parts = (*buttons, self.frame_box, self.rate)
        row.addWidget(self.words, 1)
        row.addWidget(self.details_button)
        row.addWidget(self.progress)
        row.addWidget(self.stop_button)
        return bar

    def _frame_button(self, name: str) -> QToolButton:
        button = action_button(self.actions_by_id[name])
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return button

    def _connect(self) -> None:
        session = self.session
        session.document_changed.connect(self._on_document_changed)
        session.desk_changed.connect(self._on_desk_changed)
        session.summary_changed.connect(self._show_strip)
        session.error_shown.connect(lambda words: self._say(words, is_error=True))
        session.note_shown.connect(lambda words: self._say(words, is_error=False))
        session.saved_changed.connect(self._show_title)
        session.fault_shown.connect(self._on_fault)
        session.begun.connect(self._on_begun)
        self.work.changed.connect(self._on_work_changed)
        self.stage.views.ready_changed.connect(self.strip.show_ready)
        self.stage.hand_changed.connect(self._refresh_actions)
        self.stage.source_said.connect(self.tray.show_source)
        self.stage.asked.connect(self.call)
        self.viewer.view_changed.connect(lambda: self.view_bar.show_framing(self.viewer.framing))
        self.viewer.hovered.connect(self._on_hovered)
        self.view_bar.look_chosen.connect(lambda look: session.set_desk(look=look))
        self.view_bar.view_chosen.connect(self.of_steps.panoramas.go_to_view)
        self.view_bar.display_chosen.connect(lambda display: session.set_desk(display=display))
        self.view_bar.backdrop_chosen.connect(lambda name: session.set_desk(backdrop=name))
        self.view_bar.veil_chosen.connect(lambda veil, name: session.set_desk(veil=veil, veil_colour=name))
        self.panel.step_chosen.connect(self.views.go_to_step)
        self.strip.frame_chosen.connect(session.go_to)
        self.strip.span_dragged.connect(self.frames.set_span)
        self.strip.keys_chosen.connect(lambda keys: session.set_desk(keys=keys))
        self.strip.keys_moved.connect(self.shapes.move_keys)
        self.strip.keys_asked.connect(self.shapes.show_keys_menu)
        self.strip.frames_marked.connect(lambda first, last: session.set_desk(marked=(first, last)))
        self.frame_box.valueChanged.connect(session.go_to)
        self.column.add_fix.connect(self.items.new_fix)
        self.column.add_surface.connect(self.items.new_surface)
        self.column.add_plate.connect(self.painting.new_plate)
        self.column.remove_asked.connect(self.items.remove_selected)
        self.welcome.project_chosen.connect(self.projects.open_project)
        for box in self.findChildren(QAbstractSpinBox):
            box.editingFinished.connect(partial(self._give_back, box))

    def _give_back(self, box: QAbstractSpinBox) -> None:
        """Give the picture its keys back once a number has been entered."""
        if box.hasFocus():
            self.viewer.setFocus()

    # -- showing --------------------------------------------------------------------------------------------

    @property
    def desk(self) -> Desk:
        """What the window looks at."""
        return self.session.desk

    @property
    def shot(self) -> Shot | None:
        """The shot on the desk."""
        return self.session.shot

    def _say(self, words: str, *, is_error: bool) -> None:
        """Show a sentence for some seconds."""
        if self.words.property("lookHere") != is_error:
            self.words.setProperty("lookHere", is_error)
            self.words.style().polish(self.words)
        self.words.setText(words)
        self.words.setToolTip(words)
        self.details_button.setVisible(bool(words) and words == self._fault[0])
        self._note_timer.start(ERROR_MS if is_error else NOTE_MS)

    def _on_fault(self, words: str, details: str) -> None:
        self._fault = words, details
        self._say(words, is_error=True)

    def _show_details(self) -> None:
        dialog = DetailsDialog(*self._fault, self)
        dialog.exec()
        dialog.deleteLater()

    def _on_begun(self) -> None:
        """Say nothing of what was left, but again what is wrong for all."""
        self._say(self.standing_fault, is_error=bool(self.standing_fault))

    def stand(self, words: str) -> None:
        """Say what is wrong whatever is open; nothing if it is empty."""
        self.standing_fault = words
        if words:
            self._say(words, is_error=True)

    def _on_document_changed(self, old: Project, new: Project) -> None:
        self._show_parts()
        if self.shot is None:
            self.projects.ask_recent(self.welcome.show_recent)
        self._show_title()
        self._show_frame()
        self._show_strip()
        self._refresh_actions()
        self.tray.show_hint(self.stage.ground())

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        if old.look != new.look:
            self.view_bar.show_look(new.look)
        if (old.shot_id, old.frame) != (new.shot_id, new.frame):
            self._show_frame()
        if old.shot_id != new.shot_id and self.shot is not None:
            self._show_parts()
            self.views.fit_view()
        if _without_frame(old) != _without_frame(new):
            self._show_strip()
            self._refresh_actions()
            self.tray.show_hint(self.stage.ground())

    def _show_parts(self) -> None:
        """Show what there is to work with; before a shot is open there is nothing but ways to begin."""
        has_shot = self.shot is not None
        self.welcome.setVisible(not has_shot)
        for widget in (self.column, self.tray, self.view_bar, self.panel, self.strip, *self._frame_parts):
            widget.setVisible(has_shot)
        if self.shot is not None:
            self.view_bar.show_views(self.session.shown.whole_of(self.shot.id), self.shot.id)

    def _show_title(self) -> None:
        name = self.session.folder.stem if self.session.folder else "untitled"
        mark = " (changed)" if self.session.has_unsaved else ""
        mark += " (to look at)" if self.session.place.is_to_look else ""
        self.setWindowTitle(f"{name}{mark} – Gommage")

    def _show_strip(self) -> None:
        self.strip.show_data(strip_data(self.session))

    def _show_frame(self) -> None:
        shot = self.shot
        if shot is None:
            return
        frames = shot.footage.frames
        if (self.frame_box.minimum(), self.frame_box.maximum()) != (frames.first, frames.last):
            with QSignalBlocker(self.frame_box):
                self.frame_box.setRange(frames.first, frames.last)
        show_number(self.frame_box, self.desk.frame)
        words = f"of {frames.first}–{frames.last}, {float(shot.footage.frames_per_second):.3g} frames/s"
        if words != self.rate.text():
            self.rate.setText(words)
        self.strip.show_frame(self.desk.frame)

    def _refresh_actions(self) -> None:
        there = what_is_there(self.desk, self.session.shown)
        for entry in ACTIONS:
            self.actions_by_id[entry.id].setEnabled(there[entry.needs])
        history = self.session.history
        for name, label in (("undo", history.undo_label), ("redo", history.redo_label)):
            action = self.actions_by_id[name]
            action.setEnabled(label is not None or (name == "undo" and self.stage.hand.is_busy))
            words = f"{name.capitalize()} {label[0].lower() + label[1:]}" if label else name.capitalize()
            if action.text() != words:
                action.setText(words)
                action.setToolTip(f"{words} ({action.shortcut().toString()})")
        self.actions_by_id["play"].setIcon(icon("pause" if self.frames.is_playing else "play"))
        for name, is_on in what_is_on(self.desk, self.session.shown, is_playing=self.frames.is_playing).items():
            self.actions_by_id[name].setChecked(is_on)

    def _on_work_changed(self, running: LongWork | None) -> None:
        self.progress.setVisible(running is not None)
        self.stop_button.setVisible(running is not None)
        if running is not None:
            tail = f", {running.seconds_left:.0f} s left" if running.seconds_left else ""
            words = self.fontMetrics().elidedText(running.words, Qt.TextElideMode.ElideRight, 170)
            self.progress.setFormat(f"{words}{tail}")
            self.progress.setValue(round(100 * running.share))

    def _on_hovered(self, x: float, y: float) -> None:
        """Show position and colour under the pen, from what is in the cache already."""
        ground = self.stage.ground()
        if ground.shot is None or ground.look is Look.SHEET:
            return
        px, py = ground.view_from_frame.inverse()(np.array([x, y]))
        self.value.setText(told_under_pen(self.session.engine, ground, float(px), float(py)))

    # -- the window's own actions ---------------------------------------------------------------------------

    def advised(self) -> None:
        """Do what the panel advises."""
        self.panel.advice.follow()

    def light_theme(self) -> None:
        """Change the theme."""
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        chosen = LIGHT if self.actions_by_id["light_theme"].isChecked() else DARK
        icon.cache_clear()
        apply_theme(application, chosen)
        dress(self)
        for entry in ACTIONS:
            if entry.icon:
                self.actions_by_id[entry.id].setIcon(icon(entry.icon))
        for button in self.findChildren(QToolButton):
            if button.property("iconName"):
                button.setIcon(icon(button.property("iconName")))

    def shortcuts(self) -> None:
        """Show all keys."""
        dialog = ShortcutsDialog(self)
        dialog.exec()
        dialog.deleteLater()

    def close_window(self) -> None:
        """Quit."""
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._is_leaving:
            event.ignore()
            self.projects.leaving(self._leave)
            return
        self.frames.halt()
        self._note_timer.stop()
        self.stage.views.stop()
        self.session.close()
        super().closeEvent(event)

    def _leave(self) -> None:
        self._is_leaving = True
        QTimer.singleShot(0, self.close)  # a window does not close from within its own closing


def _without_frame(desk: Desk) -> tuple[object, ...]:
    """Return what of the desk strip, actions and hint depend on."""
    return (
        desk.shot_id, desk.surface_id, desk.fix_id, desk.plate_id, desk.part_id, desk.step, desk.tool, desk.look,
        desk.draws, desk.pin_points, desk.marked, desk.vertices, desk.keys, desk.slot, desk.reach, desk.softens,
        desk.stroke_ids, desk.paints_shot, desk.redraws, desk.outlines_strokes, desk.tilts, desk.simulates_pen,
        desk.has_box, desk.solo_id, desk.dot_px, desk.mould, desk.draws_by, desk.draws_open,
        desk.is_steady, desk.is_square_on, desk.has_lattice,
        desk.has_test_card, desk.has_trails, desk.has_wipe,
    )  # fmt: skip
