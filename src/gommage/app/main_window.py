"""The window: puts the parts together, and holds one method for each action of the table."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QImage, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMainWindow,
    QProgressBar,
    QSizePolicy,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from gommage.app.actions import ACTIONS
from gommage.app.canvas import Canvas, free_name, made_view
from gommage.app.cards import LOUPE, CardsPanel, Row
from gommage.app.desk import Desk
from gommage.app.dialogs import ShortcutsDialog
from gommage.app.file_commands import FileCommands
from gommage.app.follow_commands import FollowCommands
from gommage.app.panels import FrameFacts, StepPanel
from gommage.app.rows import heading, push_button
from gommage.app.session import LongWork, Session
from gommage.app.strip import FrameStrip
from gommage.app.summaries import fix_row, strip_data, surface_row
from gommage.app.theme import DARK, LIGHT, apply_theme, icon, tabular_font
from gommage.app.viewbar import ViewBar
from gommage.app.viewer import Viewer
from gommage.core.document import (
    Array,
    CleanPlate,
    Frames,
    Project,
    Shot,
    Surface,
    edits,
    new_id,
    placement,
)
from gommage.core.engine import Engine, Look, Priority, Step, ViewRequest
from gommage.core.engine.evaluate import fix_inputs
from gommage.core.picture import around, translation

__all__ = ["MainWindow"]


NOTE_MS = 6000
READY_MS = 80
DRAWN = {
    "surface": "the area to follow",
    "area": "one more area to follow",
    "keep-out": "what is not to be looked at",
    "still": "what stands still",
    "by hand": "the thing, by its corners",
    "points": "the features",
}
STEP_TOOLS = {
    Step.FOLLOW: "draw",
    Step.COVER: "draw",
    Step.FILL: "clone",
    Step.MATCH: "hand",
    Step.CHECK: "hand",
}


class MainWindow(QMainWindow):
    """Cards left, picture in the middle, the step in hand right, frames below."""

    def __init__(self, engine: Engine, journal_root: Path) -> None:
        super().__init__()
        self.setObjectName("main_window")
        self.resize(1280, 800)
        self.session = Session(engine, journal_root, self)
        self.files = FileCommands(self.session, self)
        self.follow_commands = FollowCommands(self.session, self)
        self.actions_by_id: dict[str, QAction] = {}
        self._build_actions()
        self._build_parts()
        self._build_layout()
        self._connect()
        self._playing = QTimer(self)
        self._playing.timeout.connect(self._on_tick)
        self._on_work_changed(None)
        self._refresh_all()
        self.viewer.setFocus()

    def call(self, name: str) -> None:
        """Do an action of the table."""
        self.handler(name)()

    def handler(self, name: str) -> Callable[[], object]:
        """Return what does an action of the table: a method of the window or of one of its sets of commands."""
        holders = (self.files, self.follow_commands, self)
        found: Callable[[], object] = next(getattr(one, name) for one in holders if hasattr(one, name))
        return found

    # -- building -------------------------------------------------------------------------------------------

    def _build_actions(self) -> None:
        menus: dict[str, object] = {}
        for entry in ACTIONS:
            action = QAction(entry.text, self)
            action.setObjectName(entry.id)
            action.setShortcuts([QKeySequence(key) for key in entry.keys])
            action.setCheckable(entry.is_checkable)
            keys = f" ({entry.keys[0]})" if entry.keys else ""
            action.setToolTip((entry.tip or entry.text.rstrip("…")) + keys)
            if entry.icon:
                action.setIcon(icon(entry.icon))
            action.triggered.connect(lambda _=False, name=entry.id: self.call(name))
            self.actions_by_id[entry.id] = action
            self.addAction(action)
            if entry.menu not in menus:
                menus[entry.menu] = self.menuBar().addMenu(entry.menu)
            menus[entry.menu].addAction(action)  # type: ignore[attr-defined]

    def _build_parts(self) -> None:
        self.cards = CardsPanel()
        self.viewer = Viewer()
        self.canvas = Canvas(self.session, self.viewer)
        self.view_bar = ViewBar(self.actions_by_id.__getitem__)
        self.panel = StepPanel(self.session)
        self.strip = FrameStrip()
        self.welcome = self._build_welcome()
        self.words = QLabel()
        self.words.setAccessibleName("Message")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.progress = QProgressBar()
        self.progress.setAccessibleName("Progress")
        self.progress.setFixedWidth(260)
        self.stop_button = QToolButton()
        self.stop_button.setDefaultAction(self.actions_by_id["stop"])
        self.stop_button.setAccessibleName("Stop")
        self._note_timer = QTimer(self)
        self._note_timer.setSingleShot(True)
        self._note_timer.timeout.connect(lambda: self.words.setText(""))

        # Pictures come in bursts; which frames are ready is looked up once after each.
        self._ready_timer = QTimer(self)
        self._ready_timer.setSingleShot(True)
        self._ready_timer.setInterval(READY_MS)

    def _build_welcome(self) -> QWidget:
        """Return what stands in the picture's place while there is none: the three ways to begin."""
        welcome = QWidget()
        column = QVBoxLayout(welcome)
        column.setSpacing(8)
        column.addWidget(heading("Nothing is open yet"), alignment=Qt.AlignmentFlag.AlignHCenter)
        for name in ("open_footage", "open_project", "open_demo"):
            action = self.actions_by_id[name]
            button = push_button(action.text(), action.trigger, primary=name == "open_footage", tip=action.toolTip())
            button.setMinimumWidth(230)
            column.addWidget(button)
        QVBoxLayout(self.viewer).addWidget(welcome, alignment=Qt.AlignmentFlag.AlignCenter)
        return welcome

    def _build_layout(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self._tray())
        middle.addWidget(self.viewer, 1)
        middle.addWidget(self.view_bar)
        upper = QHBoxLayout()
        upper.setContentsMargins(0, 0, 0, 0)
        upper.setSpacing(0)
        upper.addWidget(self.cards)
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

    def _tray(self) -> QWidget:
        tray = QWidget()
        tray.setObjectName("panel")
        row = QHBoxLayout(tray)
        row.setContentsMargins(6, 3, 6, 3)
        row.setSpacing(2)
        for name in (
            "tool_hand", "tool_draw", "tool_edit", "tool_pin", "tool_clone", "tool_heal", "tool_restore",
        ):  # fmt: skip
            row.addWidget(self._button(name))
        row.addSpacing(12)
        self.hint = QLabel()
        self.hint.setProperty("quiet", True)
        self.hint.setAccessibleName("Hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.hint, 1)
        for name in ("undo", "redo"):
            row.addWidget(self._button(name))
        return tray

    def _transport(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("panel")
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 4, 10, 2)
        row.setSpacing(2)
        for name in ("first_frame", "previous_frame", "play", "next_frame", "last_frame"):
            row.addWidget(self._button(name))
        self.frame_box = QSpinBox()
        self.frame_box.setAccessibleName("Frame")
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
        row.addWidget(self.words, 1)
        row.addWidget(self.progress)
        row.addWidget(self.stop_button)
        return bar

    def _button(self, name: str) -> QToolButton:
        button = QToolButton()
        button.setDefaultAction(self.actions_by_id[name])
        button.setAccessibleName(self.actions_by_id[name].text())
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return button

    def _connect(self) -> None:
        session = self.session
        session.document_changed.connect(lambda old, new: self._refresh_all())
        session.desk_changed.connect(self._on_desk_changed)
        session.work_changed.connect(self._on_work_changed)
        session.track_grew.connect(self._on_track_grew)
        session.measured.connect(self._refresh_all)
        session.error_shown.connect(self.show_error)
        session.note_shown.connect(self.show_note)
        session.saved_changed.connect(self._show_title)
        self.canvas.shown.connect(lambda frame: self._ready_timer.start())
        self._ready_timer.timeout.connect(lambda: self.strip.show_ready(self.canvas.ready_frames()))
        self.canvas.source_words.connect(self.panel.fill.show_source)
        self.viewer.view_changed.connect(lambda: self.view_bar.show_zoom(self.viewer.zoom))
        self.viewer.hovered.connect(self._on_hovered)
        self.view_bar.look_chosen.connect(lambda look: session.set_desk(look=look))
        self.view_bar.display_chosen.connect(lambda display: session.set_desk(display=display))
        self.panel.step_chosen.connect(self._go_to_step)
        self.strip.frame_chosen.connect(session.go_to)
        self.strip.span_dragged.connect(self._on_span_dragged)
        self.strip.frames_marked.connect(lambda first, last: session.set_desk(marked=(first, last)))
        self.frame_box.valueChanged.connect(session.go_to)
        self.cards.add_fix.connect(self.new_fix)
        self.cards.add_surface.connect(self.new_surface)
        self.cards.add_plate.connect(self.new_plate)
        self.cards.fixes.chosen.connect(self._on_fix_chosen)
        self.cards.surfaces.chosen.connect(self._on_surface_chosen)
        self.cards.plates.chosen.connect(self._on_plate_chosen)
        self.cards.fix_toggled.connect(self._on_fix_toggled)
        for rows, items in ((self.cards.fixes, "fixes"), (self.cards.surfaces, "surfaces")):
            rows.renamed.connect(lambda row_id, items=items: self._rename(items, row_id))

    # -- showing --------------------------------------------------------------------------------------------

    @property
    def desk(self) -> Desk:
        """What the window looks at."""
        return self.session.desk

    @property
    def shot(self) -> Shot | None:
        """The shot on the desk."""
        return self.desk.shot(self.session.project)

    def show_error(self, words: str) -> None:
        """Show a sentence that stays until something else is said."""
        self._note_timer.stop()
        self.words.setProperty("lookHere", True)
        self.words.style().polish(self.words)
        self.words.setText(words)
        self.words.setToolTip(words)

    def show_note(self, words: str) -> None:
        """Show a sentence for a few seconds."""
        self.words.setProperty("lookHere", False)
        self.words.style().polish(self.words)
        self.words.setText(words)
        self.words.setToolTip(words)
        self._note_timer.start(NOTE_MS)

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        self.view_bar.show_look(new.look)
        if (old.shot_id, old.is_flicked) != (new.shot_id, new.is_flicked) or old.frame != new.frame:
            self._show_frame()
        if old.shot_id != new.shot_id and self.shot is not None:
            footage = self.shot.footage
            self.viewer.fit(footage.width, footage.height)
        self.viewer.set_wipe(new.has_wipe)
        self.canvas.refresh()
        self._refresh_selection()
        if old.frame != new.frame or old.shot_id != new.shot_id:
            self._ask_loupes()
        self._ask_facts()

    def _refresh_all(self) -> None:
        shot = self.shot
        self.welcome.setVisible(shot is None)
        self._show_title()
        self._refresh_rows(shot)
        self._refresh_selection()
        self._show_frame()
        self.canvas.refresh()
        self._ask_loupes()
        self._ask_facts()

    def _show_title(self) -> None:
        name = self.session.folder.stem if self.session.folder else "untitled"
        mark = " (changed)" if self.session.has_unsaved else ""
        self.setWindowTitle(f"{name}{mark} – Gommage")

    def _refresh_selection(self) -> None:
        desk = self.desk
        self.cards.fixes.select(desk.fix_id)
        self.cards.surfaces.select(desk.surface_id)
        self.cards.plates.select(desk.plate_id)
        self.panel.refresh()
        self.strip.show_data(strip_data(self.session))
        self._refresh_actions()
        self.hint.setText(self._hint())

    def _refresh_rows(self, shot: Shot | None) -> None:
        if shot is None:
            self.cards.show_rows((), (), ())
            return
        fixes = tuple(fix_row(self.session, shot, fix) for fix in reversed(shot.fixes))
        surfaces = tuple(surface_row(self.session, surface) for surface in shot.surfaces)
        plates = tuple(Row(p.id, p.name, f"at {p.home_frame}") for p in shot.clean_plates)
        self.cards.show_rows(fixes, surfaces, plates)

    def _refresh_actions(self) -> None:
        shot, desk = self.shot, self.desk
        surface = desk.surface(self.session.project)
        there = {
            "": True,
            "shot": shot is not None,
            "surface": surface is not None,
            "track": surface is not None and self.session.placed(surface) is not None,
            "fix": desk.fix(self.session.project) is not None,
            "plate": desk.plate(self.session.project) is not None,
        }
        for entry in ACTIONS:
            self.actions_by_id[entry.id].setEnabled(there[entry.needs])
        history = self.session.history
        for name, label in (("undo", history.undo_label), ("redo", history.redo_label)):
            action = self.actions_by_id[name]
            action.setEnabled(label is not None)
            action.setText(f"{name.capitalize()} {label[0].lower() + label[1:]}" if label else name.capitalize())
            action.setToolTip(f"{action.text()} ({action.shortcut().toString()})")
        checks = {f"step_{step.lower()}": desk.step is step for step in Step}
        tools = ("hand", "draw", "edit", "pin", "clone", "heal", "restore")
        checks |= {f"tool_{tool}": desk.tool == tool for tool in tools}
        checks |= {"steady": desk.is_steady, "lattice": desk.has_lattice, "wipe": desk.has_wipe}
        checks |= {"square_on": desk.is_square_on, "test_card": desk.has_test_card, "trails": desk.has_trails}
        checks["sheet"] = desk.look is Look.SHEET
        checks["play"] = hasattr(self, "_playing") and self._playing.isActive()
        for name, is_on in checks.items():
            self.actions_by_id[name].setChecked(is_on)

    def _hint(self) -> str:
        desk = self.desk
        if self.shot is None:
            return ""
        if desk.look is Look.SHEET:
            return "Click a frame to go there; what moves in the sheet slips"
        if desk.tool == "draw":
            if desk.step is Step.FOLLOW and self.canvas.stage.places_spots:
                return "Click on features that stand out"
            what = DRAWN[desk.draws] if desk.step is Step.FOLLOW else "the thing"
            return f"Click round {what}; click the first point to close"
        if desk.tool == "pin":
            own = f"{len(desk.pin_points)} own points" if desk.pin_points else "the corners"
            return f"Drag {own} where they belong here; Alt-click for own points"
        if desk.tool == "edit":
            return "Drag points, or inside to move the whole shape"
        if desk.paint_tool is not None:
            plate = desk.plate(self.session.project)
            return (
                f"Painting on {plate.name}, home frame {plate.home_frame}"
                if plate
                else "Make a clean plate to paint on"
            )
        return "Drag to move the picture, wheel to zoom"

    def _show_frame(self) -> None:
        shot = self.shot
        if shot is None:
            return
        frames = shot.footage.frames
        with QSignalBlocker(self.frame_box):
            self.frame_box.setRange(frames.first, frames.last)
            self.frame_box.setValue(self.desk.frame)
        self.rate.setText(f"of {frames.first}–{frames.last}, {float(shot.footage.frames_per_second):.3g} frames/s")
        self.strip.show_frame(self.desk.frame)

    def _on_track_grew(self) -> None:
        self._refresh_rows(self.shot)
        self.strip.show_data(strip_data(self.session))
        self.panel.refresh()
        self.session.go_to(self.session.live_frame)

    def _on_work_changed(self, work: LongWork | None) -> None:
        self.progress.setVisible(work is not None)
        self.stop_button.setVisible(work is not None)
        if work is not None:
            left = work.seconds_left
            tail = f", {left:.0f} s left" if left is not None else ""
            self.progress.setFormat(f"{work.words}{tail}")
            self.progress.setValue(round(100 * work.share))
        self.panel.refresh()

    def _on_hovered(self, x: float, y: float) -> None:
        """Show position and colour under the pen, from what is in the cache already."""
        shot = self.shot
        if shot is None:
            return
        at = np.linalg.inv(self.canvas.view_from_frame()) @ (x, y, 1.0)
        column, row = int(np.floor(at[0] / at[2])), int(np.floor(at[1] / at[2]))
        words = f"{column}, {row}"
        picture = self.session.engine.peek(shot, self.canvas.shown_frame(), self.canvas.look())
        if picture is not None and 0 <= row < picture.shape[0] and 0 <= column < picture.shape[1]:
            red, green, blue = picture[row, column]
            words += f"   {red:.3f}  {green:.3f}  {blue:.3f}"
        self.view_bar.show_value(words)

    def _ask_loupes(self) -> None:
        """Ask for a small picture of each fix, held still, on this frame."""
        shot = self.shot
        if shot is None:
            return
        engine, frame = self.session.engine, self.desk.frame
        self.session.jobs.cancel(lambda name: isinstance(name, tuple) and name[:1] == ("loupe",))
        for fix in shot.fixes:
            track = placement(shot, shot.surface(fix.surface_id))
            if not fix.cover.shapes or track is None or not track.is_placed(frame):
                continue
            box = around(fix.cover.shapes[0].keys[0].points.values, 14)
            scale = 2 * min(LOUPE.width() / box.width, LOUPE.height() / box.height)
            middle = (box.left + box.right) / 2, (box.top + box.bottom) / 2
            held = (
                translation(LOUPE.width(), LOUPE.height())
                @ np.diag([scale, scale, 1.0])
                @ translation(-middle[0], -middle[1])
            )
            request = ViewRequest(
                shot, frame, Look.RESULT, Array(held @ np.linalg.inv(track.matrix(frame))),
                (2 * LOUPE.width(), 2 * LOUPE.height()), self.desk.display,
            )  # fmt: skip
            self.session.submit(
                ("loupe", fix.id, frame, fix_inputs(shot, fix)),
                Priority.NEIGHBOUR,
                partial(made_view, engine, request),
                partial(self._show_loupe, fix.id),
                lambda words: None,
            )

    def _show_loupe(self, fix_id: str, pixels: np.ndarray) -> None:
        height, width = pixels.shape[:2]
        image = QImage(pixels.data, width, height, width * 4, QImage.Format.Format_RGB32).copy()
        self.cards.fixes.rows.set_loupe(fix_id, image)

    def _ask_facts(self) -> None:
        """Ask for the light and grain that the match found on this frame, while they are on show."""
        shot, fix = self.shot, self.desk.fix(self.session.project)
        if shot is None or fix is None or self.desk.step is not Step.MATCH:
            return
        engine, frame = self.session.engine, self.desk.frame

        def find(check: object) -> FrameFacts:
            patch = engine.patch(shot, fix, frame)
            grain = engine.grain(shot, shot.surface(fix.surface_id))
            words = "Grain could not be measured; follow some frames first."
            if grain is not None:
                grey = float(grain.deviation(np.full((1, 3), 0.18, np.float32)).mean()) / 0.18
                words = f"Measured on the surface: {grey:.1%} at middle grey, {grain.size_px:.2f} px"
            stops = patch.light.stops if patch is not None and patch.light.trusted else None
            return FrameFacts(stops, words)

        def found(facts: FrameFacts) -> None:
            if self.desk.frame == frame:  # an answer for a frame that was left meanwhile is dropped
                self.panel.match.show_facts(facts)

        self.session.submit(("facts", frame, fix_inputs(shot, fix)), Priority.NEIGHBOUR, find, found)

    # -- selection ------------------------------------------------------------------------------------------

    def _on_fix_chosen(self, fix_id: str) -> None:
        shot = self.shot
        assert shot is not None
        fix = shot.fix(fix_id)
        plate_id = fix.fill.plate_ids[-1] if fix.fill.plate_ids else self.desk.plate_id
        self.session.set_desk(fix_id=fix_id, surface_id=fix.surface_id, plate_id=plate_id)

    def _on_surface_chosen(self, surface_id: str) -> None:
        self.session.set_desk(surface_id=surface_id, step=Step.FOLLOW, tool="edit", area_id="", pin_points=())

    def _on_plate_chosen(self, plate_id: str) -> None:
        shot = self.shot
        assert shot is not None
        plate = shot.clean_plate(plate_id)
        self.session.set_desk(
            plate_id=plate_id, surface_id=plate.surface_id, frame=plate.home_frame, look=Look.CLEAN_PLATE,
            step=Step.FILL, tool="clone",
        )  # fmt: skip

    def _on_fix_toggled(self, fix_id: str) -> None:
        shot = self.shot
        assert shot is not None
        is_on = shot.fix(fix_id).is_on
        self.session.commit("Switch off" if is_on else "Switch on", edits.change_fix, shot.id, fix_id, is_on=not is_on)

    def _rename(self, items: str, row_id: str) -> None:
        shot = self.shot
        assert shot is not None
        item = next(one for one in getattr(shot, items) if one.id == row_id)
        name, ok = QInputDialog.getText(self, "Rename", "Name", text=item.name)
        if ok and name.strip():
            edit = edits.change_fix if items == "fixes" else edits.change_surface
            self.session.commit("Rename", edit, shot.id, row_id, name=name.strip())

    def _go_to_step(self, step: Step) -> None:
        tool = STEP_TOOLS[step]
        project = self.session.project
        surface, fix = self.desk.surface(project), self.desk.fix(project)
        if (step is Step.FOLLOW and surface is not None) or (
            step is Step.COVER and fix is not None and fix.cover.shapes
        ):
            tool = "edit"
        if step is Step.FILL and self.desk.plate(project) is None:
            tool = "hand"
        look = Look.CLEAN_PLATE if step is Step.FILL and self.desk.plate(project) is not None else Look.RESULT
        self.canvas.cancel()
        self.session.set_desk(step=step, tool=tool, look=look)

    def _on_span_dragged(self, first: int, last: int, is_final: bool) -> None:
        shot = self.shot
        if shot is not None and self.desk.fix_id:
            whole = shot.footage.frames
            frames = None if (first, last) == (whole.first, whole.last) else Frames(first=first, last=last)
            self.session.commit_while(
                "Frames of the fix", is_final, edits.change_fix, shot.id, self.desk.fix_id, frames=frames
            )

    # -- leaving --------------------------------------------------------------------------------------------

    def close_window(self) -> None:
        """Quit."""
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self._playing.stop()
        self._note_timer.stop()
        self._ready_timer.stop()
        self.session.close()
        super().closeEvent(event)

    # -- actions: edit --------------------------------------------------------------------------------------

    def undo(self) -> None:
        """Take the last step back."""
        self.session.undo()

    def redo(self) -> None:
        """Do it again."""
        self.session.redo()

    def remove_selected(self) -> None:
        """Remove what is in hand: a key of the cover on this frame, a stroke, else what the focused list shows."""
        shot, desk, project = self.shot, self.desk, self.session.project
        assert shot is not None
        fix, plate, surface = desk.fix(project), desk.plate(project), desk.surface(project)
        commit = self.session.commit
        if self.cards.surfaces.hasFocus() and surface is not None:
            commit(f"Remove {surface.name}", edits.remove_surface, shot.id, surface.id)
        elif self.cards.plates.hasFocus() and plate is not None:
            commit(f"Remove {plate.name}", edits.remove_clean_plate, shot.id, plate.id)
        elif self.cards.fixes.hasFocus() and fix is not None:
            commit(f"Remove {fix.name}", edits.remove_fix, shot.id, fix.id)
        elif desk.step is Step.FILL and plate is not None and plate.strokes:
            stroke = self.panel.fill.selected_stroke() or plate.strokes[-1]
            commit("Remove stroke", edits.remove_stroke, shot.id, plate.id, stroke.id)
        elif desk.step is Step.FOLLOW and surface is not None:
            self._remove_in_follow(surface)
        elif fix is not None and fix.cover.shapes:
            shape = fix.cover.shapes[0]
            if desk.frame in {key.frame for key in shape.keys}:
                commit("Remove key", edits.remove_shape_key, shot.id, fix.id, shape.id, desk.frame)

    def _remove_in_follow(self, surface: Surface) -> None:
        """Remove the pin on this frame, else the key of the area in hand."""
        desk, area = self.desk, self.desk.area(self.session.project)
        if desk.frame in {pin.frame for pin in surface.pins}:
            self.call("unpin")
        elif area is not None and len(area.shape.keys) > 1 and desk.frame in {key.frame for key in area.shape.keys}:
            edit = edits.remove_area_key
            self.session.commit("Remove key", edit, desk.shot_id, surface.id, area.shape.id, desk.frame)

    def new_surface(self) -> None:
        """Draw the area of another surface."""
        if self.shot is not None:
            self.session.set_desk(surface_id="", step=Step.FOLLOW, tool="draw", look=Look.RESULT, draws="surface")

    def new_fix(self) -> None:
        """Draw the cover of another fix on the surface in hand."""
        if self.desk.surface(self.session.project) is None:
            self.show_error("A fix needs a surface to ride on. Draw an area and follow it first.")
            return
        self.session.set_desk(fix_id="", step=Step.COVER, tool="draw", look=Look.RESULT)

    def new_plate(self) -> None:
        """Make a clean plate of the frame on screen and begin to paint."""
        self._add_plate("")

    def plate_from_picture(self) -> None:
        """Make a clean plate of a picture that was painted elsewhere."""
        chosen, _ = QFileDialog.getOpenFileName(self, "Picture for the clean plate")
        if chosen:
            self._add_plate(chosen)

    def _add_plate(self, picture: str) -> None:
        shot, surface = self.shot, self.desk.surface(self.session.project)
        if shot is None or surface is None:
            self.show_error("A clean plate lies on a followed surface. Draw an area and follow it first.")
            return
        plate = CleanPlate(
            id=new_id(), name=free_name("Plate", shot.clean_plates), surface_id=surface.id, home_frame=self.desk.frame,
            picture=picture,
        )  # fmt: skip
        fix = self.desk.fix(self.session.project)

        def edit(project: Project) -> Project:
            project = edits.add_clean_plate(project, shot.id, plate)
            if fix is not None and fix.surface_id == surface.id:
                project = edits.set_fill(project, shot.id, fix.id, (*fix.fill.plate_ids, plate.id))
            return project

        if self.session.commit(f"Clean plate from {self.desk.frame}", edit):
            self.session.set_desk(plate_id=plate.id, step=Step.FILL, tool="clone", look=Look.CLEAN_PLATE)

    # -- actions: frames ------------------------------------------------------------------------------------

    def next_frame(self) -> None:
        """Step on."""
        self.session.go_to(self.desk.frame + 1)

    def previous_frame(self) -> None:
        """Step back."""
        self.session.go_to(self.desk.frame - 1)

    def jump_on(self) -> None:
        """Ten on."""
        self.session.go_to(self.desk.frame + 10)

    def jump_back(self) -> None:
        """Ten back."""
        self.session.go_to(self.desk.frame - 10)

    def first_frame(self) -> None:
        """To the start."""
        if self.shot is not None:
            self.session.go_to(self.shot.footage.frames.first)

    def last_frame(self) -> None:
        """To the end."""
        if self.shot is not None:
            self.session.go_to(self.shot.footage.frames.last)

    def home_frame(self) -> None:
        """To the home frame of the plate that is painted, else of the surface."""
        plate, surface = self.desk.plate(self.session.project), self.desk.surface(self.session.project)
        if self.desk.step is Step.FILL and plate is not None:
            self.session.go_to(plate.home_frame)
        elif surface is not None:
            self.session.go_to(surface.home_frame)

    def worst_frame(self) -> None:
        """To the frame with the worst figure; without figures, to the greatest slip."""
        measured = self.session.measures(self.desk.fix_id)
        surface = self.desk.surface(self.session.project)
        if measured:
            worst = max(measured, key=lambda one: one.worst)
            self.session.go_to(worst.frame)
            self.show_note(
                f"Frame {worst.frame}: seam {worst.seam_percent:.1f} %, flicker {worst.flicker_percent:.1f} %"
            )
        elif surface is not None and (placed := self.session.placed(surface)) is not None:
            slips = {f: s for f, s in zip(placed.frames, placed.slip_px, strict=True) if placed.is_placed(f)}
            worst_slip = max(slips, key=lambda frame: slips[frame])
            self.session.go_to(worst_slip)
            why = placed.reasons[worst_slip - placed.first_frame]
            self.show_note(f"The greatest slip, {slips[worst_slip]:.2f} px" + (f": {why}" if why else ""))

    def play(self) -> None:
        """Play or stop."""
        shot = self.shot
        if self._playing.isActive() or shot is None:
            self._playing.stop()
        else:
            self._playing.start(max(round(1000 / float(shot.footage.frames_per_second)), 1))
        self._refresh_actions()

    def _on_tick(self) -> None:
        """Show the next frame once it is ready: every frame is played, the first time as fast as they come."""
        shot = self.shot
        if shot is None:
            self._playing.stop()
            return
        frames = shot.footage.frames
        following = self.desk.frame + 1 if self.desk.frame < frames.last else frames.first
        if (
            self.canvas.is_ready(following)
            or following in shot.footage.missing
            or not self.session.jobs.is_waiting("ahead")
        ):
            self.session.go_to(following)

    def stop(self) -> None:
        """Drop the shape in hand, let go of a chosen stroke, else stop what runs."""
        if self.canvas.cancel():
            return
        if self.panel.fill.selected_stroke() is not None:
            self.panel.fill.clear_choice()
            return
        self._playing.stop()
        self.session.stop()
        self._refresh_actions()

    # -- actions: steps, tools, view ------------------------------------------------------------------------

    def step_follow(self) -> None:
        """To Follow."""
        self._go_to_step(Step.FOLLOW)

    def step_cover(self) -> None:
        """To Cover."""
        self._go_to_step(Step.COVER)

    def step_fill(self) -> None:
        """To Fill."""
        self._go_to_step(Step.FILL)

    def step_match(self) -> None:
        """To Match."""
        self._go_to_step(Step.MATCH)

    def step_check(self) -> None:
        """To Check."""
        self._go_to_step(Step.CHECK)

    def _take(self, tool: str) -> None:
        self.canvas.cancel()
        self.session.set_desk(tool=tool)
        self._refresh_actions()

    def tool_hand(self) -> None:
        """Move the view."""
        self._take("hand")

    def tool_draw(self) -> None:
        """Draw a shape."""
        if self.desk.step not in (Step.FOLLOW, Step.COVER):
            self._go_to_step(Step.COVER)
        self._take("draw")

    def tool_edit(self) -> None:
        """Edit the shape in hand."""
        self._take("edit")

    def tool_pin(self) -> None:
        """Correct the surface on this frame."""
        if self.desk.step is not Step.FOLLOW:
            self._go_to_step(Step.FOLLOW)
        self._take("pin")

    def tool_clone(self) -> None:
        """Clone."""
        self._brush("clone")

    def tool_heal(self) -> None:
        """Heal."""
        self._brush("heal")

    def tool_restore(self) -> None:
        """Restore."""
        self._brush("restore")

    def _brush(self, tool: str) -> None:
        if self.desk.step is not Step.FILL:
            self._go_to_step(Step.FILL)
        self._take(tool)

    def _scale_brush(self, factor: float) -> None:
        brush = self.desk.brush
        size = float(np.clip(brush.size_px * factor, 1, 400))
        self.session.set_desk(brush=type(brush)(size, brush.softness, brush.opacity))

    def brush_smaller(self) -> None:
        """Smaller."""
        self._scale_brush(1 / 1.2)

    def brush_larger(self) -> None:
        """Larger."""
        self._scale_brush(1.2)

    def fit_view(self) -> None:
        """Show the whole picture."""
        shot = self.shot
        if shot is not None:
            self.viewer.fit(shot.footage.width, shot.footage.height)

    def actual_pixels(self) -> None:
        """One picture pixel is one pixel of the screen."""
        self.viewer.zoom_to(1 / self.viewer.devicePixelRatioF())

    def steady(self) -> None:
        """Hold the surface still, or let it go."""
        self.session.set_desk(is_steady=not self.desk.is_steady)

    def square_on(self) -> None:
        """Show the surface without perspective, or as filmed."""
        self.session.set_desk(is_square_on=not self.desk.is_square_on)

    def test_card(self) -> None:
        """Lay the test card on the surface, or take it away."""
        self.session.set_desk(has_test_card=not self.desk.has_test_card)

    def trails(self) -> None:
        """Show or hide the ways of the corners."""
        self.session.set_desk(has_trails=not self.desk.has_trails)

    def sheet(self) -> None:
        """Show the surface on all frames at once, or the result again."""
        is_on = self.desk.look is Look.SHEET
        self.session.set_desk(look=Look.RESULT if is_on else Look.SHEET)

    def lattice(self) -> None:
        """Show or hide the lattice."""
        self.session.set_desk(has_lattice=not self.desk.has_lattice)

    def wipe(self) -> None:
        """Wipe between result and plate."""
        self.session.set_desk(has_wipe=not self.desk.has_wipe)

    def light_theme(self) -> None:
        """Change the theme."""
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        chosen = LIGHT if self.actions_by_id["light_theme"].isChecked() else DARK
        icon.cache_clear()
        apply_theme(application, chosen)
        for entry in ACTIONS:
            if entry.icon:
                self.actions_by_id[entry.id].setIcon(icon(entry.icon))
        for button in self.findChildren(QToolButton):
            if button.property("iconName"):
                button.setIcon(icon(button.property("iconName")))

    def measure(self) -> None:
        """Measure the fix on all frames."""
        self.session.measure()

    def shortcuts(self) -> None:
        """Show all keys."""
        ShortcutsDialog(self).exec()
