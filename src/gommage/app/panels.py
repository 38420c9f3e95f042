"""The right side: the five steps, and below them what the step in hand needs."""

from __future__ import annotations

from dataclasses import dataclass

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QHBoxLayout,
    QListView,
    QScrollArea,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from gommage.app.cards import ROW_ROLE, LineDelegate, Row, RowModel
from gommage.app.follow_page import FollowPage
from gommage.app.page import Page
from gommage.app.rows import ValueRow, heading, push_button, quiet, rule, tool_button
from gommage.app.session import Session
from gommage.core.document import CleanPlate, Fix, Shot, Stroke, Surface, edits, placement
from gommage.core.engine import State, Step, steps_of

__all__ = ["FrameFacts", "StepPanel"]


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What the engine found on the frame in hand: the light's stops (or None), the grain in words."""

    stops: tuple[float, float, float] | None = None
    grain: str = ""


class CoverPage(Page):
    def build(self) -> None:
        self.title = heading("")
        self.soft = ValueRow("Soft edge", 1, 60, "px", tip="How far the cover fades outside the drawn line")
        self.grow = ValueRow("Grow", -20, 40, "px", tip="Move the edge outwards or inwards")
        self.smooth = QCheckBox("Rounded")
        self.smooth.setAccessibleName("Rounded shape")
        self.keys = quiet(name="Keys")
        self.frames = quiet(name="Frames of the fix")
        self.new = push_button(
            "New fix on this surface", lambda: self.call("new_fix"), tip="Draw round another thing (Shift+S)"
        )
        self.box.addWidget(self.title)
        self.box.addWidget(self.soft)
        self.box.addWidget(self.grow)
        self.box.addWidget(self.smooth)
        self.box.addWidget(self.keys)
        self.box.addWidget(rule())
        self.box.addWidget(self.frames)
        self.box.addWidget(self.new)
        self.soft.value_changed.connect(lambda v, final: self._set("Soft edge", final, softness_px=v))
        self.grow.value_changed.connect(lambda v, final: self._set("Grow cover", final, grow_px=v))
        self.smooth.toggled.connect(self._on_smooth)

    def _set(self, label: str, final: bool, **fields: float) -> None:
        shot, fix = self.session.desk.shot(self.session.project), self.session.desk.fix(self.session.project)
        if shot is not None and fix is not None:
            self.session.commit_while(label, final, edits.set_cover, shot.id, fix.id, **fields)

    def _on_smooth(self, is_on: bool) -> None:
        shot, fix = self.session.desk.shot(self.session.project), self.session.desk.fix(self.session.project)
        if shot is not None and fix is not None:
            shapes = tuple(replace(shape, is_smooth=is_on) for shape in fix.cover.shapes)
            self.session.commit("Round the shape", edits.set_cover, shot.id, fix.id, shapes=shapes)

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        has = fix is not None and bool(fix.cover.shapes)
        for widget in (self.soft, self.grow, self.smooth):
            widget.setEnabled(has)
        self.new.setVisible(has)
        self.title.setText(fix.name if fix is not None else "Nothing covered yet")
        if surface is None or placement(shot, surface) is None:
            self.advice.say(
                "A cover rides on a followed surface, and there is none yet.",
                "Go to Follow",
                lambda: self.call("step_follow"),
            )
        elif not has:
            self.advice.say(
                "Draw round the thing, a few pixels larger than it is, so that its blur and soft edges are inside."
            )
        else:
            assert fix is not None
            advice = steps_of(shot, fix)[Step.COVER]
            self.advice.say(advice.words if advice.state is State.LOOK else "")
        if fix is None or not fix.cover.shapes:
            self.keys.setText("")
            self.frames.setText("")
            return
        self.soft.set_value(fix.cover.softness_px)
        self.grow.set_value(fix.cover.grow_px)
        with QSignalBlocker(self.smooth):
            self.smooth.setChecked(fix.cover.shapes[0].is_smooth)
        frames = ", ".join(str(key.frame) for key in fix.cover.shapes[0].keys)
        self.keys.setText(
            f"Shape keyed on {frames}. Drag a point on another frame to key it there; Delete takes the key off."
        )
        life = f"frames {fix.frames.first}–{fix.frames.last}" if fix.frames else "all frames"
        self.frames.setText(f"Lives on {life}. Drag the ends of its bar on the frame strip to change that.")


class FillPage(Page):
    def build(self) -> None:
        self.title = heading("")
        self.make = push_button(
            "Clean plate from this frame",
            lambda: self.call("new_plate"),
            primary=True,
            tip="A still to paint on (Shift+C)",
        )
        self.load = push_button("Clean plate from a picture…", lambda: self.call("plate_from_picture"))
        self.size_row = ValueRow("Size", 1, 400, "px", curve=2.0, tip="Diameter of the brush (R smaller, T larger)")
        self.soft = ValueRow("Softness", 0, 100, "%")
        self.opacity = ValueRow("Opacity", 0, 100, "%")
        self.source = quiet(name="Source")
        self.strokes_title = heading("Strokes")
        self.strokes = QListView()
        self.strokes.setAccessibleName("Strokes")
        self.strokes.setMinimumHeight(84)
        self.stroke_rows = RowModel()
        self.strokes.setModel(self.stroke_rows)
        self._delegate = LineDelegate()
        self.strokes.setItemDelegate(self._delegate)
        self.strokes.selectionModel().currentChanged.connect(lambda *_: self._show_stroke())
        self.edit_note = quiet(name="What the sliders change")
        self.remove = tool_button("trash-2", "Remove stroke", tip="Remove the chosen stroke (Delete)")
        self.remove.clicked.connect(self._on_remove)
        strokes_row = QHBoxLayout()
        strokes_row.addWidget(self.strokes_title, 1)
        strokes_row.addWidget(self.remove)
        for widget in (self.title, self.make, self.load, rule(), self.source, self.size_row, self.soft, self.opacity,
                       rule()):  # fmt: skip
            self.box.addWidget(widget)
        self.box.addLayout(strokes_row)
        self.box.addWidget(self.strokes, 1)
        self.box.addWidget(self.edit_note)
        self.size_row.value_changed.connect(lambda v, final: self._on_brush("size_px", v, final))
        self.soft.value_changed.connect(lambda v, final: self._on_brush("softness", v / 100, final))
        self.opacity.value_changed.connect(lambda v, final: self._on_brush("opacity", v / 100, final))

    def selected_stroke(self) -> Stroke | None:
        """Return the stroke that is chosen in the list, if any."""
        plate = self.session.desk.plate(self.session.project)
        index = self.strokes.currentIndex()
        if plate is None or not index.isValid():
            return None
        wanted = index.data(ROW_ROLE).id
        return next((stroke for stroke in plate.strokes if stroke.id == wanted), None)

    def clear_choice(self) -> None:
        """Let the sliders be the brush's again."""
        self.strokes.setCurrentIndex(self.stroke_rows.index(-1))

    def _on_brush(self, field: str, value: float, final: bool) -> None:
        """Change the chosen stroke, or else the brush in hand."""
        stroke, desk = self.selected_stroke(), self.session.desk
        if stroke is None:
            values = {
                "size_px": desk.brush.size_px,
                "softness": desk.brush.softness,
                "opacity": desk.brush.opacity,
            }
            self.session.set_desk(brush=type(desk.brush)(**{**values, field: value}))
            return
        changed = replace(stroke, **{field: value})
        self.session.commit_while("Change stroke", final, edits.replace_stroke, desk.shot_id, desk.plate_id, changed)

    def _on_remove(self) -> None:
        stroke, desk = self.selected_stroke(), self.session.desk
        if stroke is not None:
            self.clear_choice()
            self.session.commit("Remove stroke", edits.remove_stroke, desk.shot_id, desk.plate_id, stroke.id)

    def _show_stroke(self) -> None:
        stroke, brush = self.selected_stroke(), self.session.desk.brush
        shown = stroke or brush
        self.size_row.set_value(shown.size_px)
        self.soft.set_value(shown.softness * 100)
        self.opacity.set_value(shown.opacity * 100)
        self.remove.setEnabled(stroke is not None)
        self.edit_note.setText("The sliders change this stroke. Esc returns to the brush." if stroke else "")
        self.edit_note.setVisible(stroke is not None)

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        self.title.setText(plate.name if plate is not None else "No clean plate yet")
        placed = placement(shot, surface) if surface is not None else None
        can_make = placed is not None and placed.is_placed(self.session.desk.frame)
        self.make.setEnabled(can_make)
        self.load.setEnabled(can_make)
        self._say(shot, surface, fix, plate)
        rows = tuple(
            Row(stroke.id, f"{number}. {stroke.tool.capitalize()}", f"{stroke.size_px:.0f} px")
            for number, stroke in enumerate(plate.strokes if plate else (), 1)
        )
        self.stroke_rows.set_rows(rows)
        self.strokes_title.setText(f"Strokes ({len(rows)})")
        self.make.setProperty("primary", plate is None)
        self.make.style().polish(self.make)
        for widget in (self.size_row, self.soft, self.opacity, self.strokes):
            widget.setEnabled(plate is not None)
        self._show_stroke()

    def _say(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        if surface is None or placement(shot, surface) is None:
            self.advice.say("A clean plate lies on a followed surface, and there is none yet.", "Go to Follow",
                            lambda: self.call("step_follow"))  # fmt: skip
        elif plate is None:
            self.advice.say(
                "Go to a frame where the surroundings of the thing are seen well, and make a clean plate of it."
            )
        elif fix is not None and plate.id not in fix.fill.plate_ids:
            self.advice.say(f"{fix.name} is not filled from this plate.", "Use it", lambda: self._use(shot, fix, plate))
        elif fix is not None:
            advice = steps_of(shot, fix)[Step.FILL]
            self.advice.say(advice.words if advice.state is State.LOOK else "")
        else:
            self.advice.say("")

    def _use(self, shot: Shot, fix: Fix, plate: CleanPlate) -> None:
        self.session.commit("Fill from plate", edits.set_fill, shot.id, fix.id, (*fix.fill.plate_ids, plate.id))

    def show_source(self, words: str) -> None:
        """Say where the brush takes its pixels from."""
        self.source.setText(words)


class MatchPage(Page):
    def build(self) -> None:
        self.title = heading("")
        self.soft = ValueRow("Soft edge", 1, 60, "px", tip="How far the repair fades outside the drawn line")
        self.light = QCheckBox("Light from around the cover")
        self.light.setAccessibleName("Match light")
        self.light.setToolTip("Brightness and colour follow the pixels around the cover, frame by frame")
        self.stops = quiet(name="Light found")
        self.brighten = ValueRow("Brighten by hand", -2, 2, "stops", 2)
        self.grain = ValueRow("Grain", 0, 200, "%", tip="Of the grain that was measured on the shot")
        self.found = quiet(name="Grain found")
        for widget in (
            self.title,
            self.soft,
            rule(),
            self.light,
            self.stops,
            self.brighten,
            rule(),
            self.grain,
            self.found,
        ):
            self.box.addWidget(widget)
        self.soft.value_changed.connect(self._on_soft)
        self.light.toggled.connect(lambda on: self._set("Match light", True, is_light_matched=on))
        self.brighten.value_changed.connect(lambda v, final: self._set("Brighten", final, light_stops=v))
        self.grain.value_changed.connect(lambda v, final: self._set("Grain", final, grain=v / 100))

    def _on_soft(self, value: float, final: bool) -> None:
        desk = self.session.desk
        if desk.fix_id:
            self.session.commit_while("Soft edge", final, edits.set_cover, desk.shot_id, desk.fix_id, softness_px=value)

    def _set(self, label: str, final: bool, **fields: float | bool) -> None:
        desk = self.session.desk
        if desk.fix_id:
            self.session.commit_while(label, final, edits.change_match, desk.shot_id, desk.fix_id, **fields)

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        for widget in (self.soft, self.light, self.brighten, self.grain):
            widget.setEnabled(fix is not None)
        self.title.setText(fix.name if fix is not None else "Nothing to match yet")
        if fix is None:
            self.advice.say(
                "There is no fix in hand. Cover something first.",
                "Go to Cover",
                lambda: self.call("step_cover"),
            )
            return
        state = steps_of(shot, fix)[Step.FILL]
        if state.state is not State.FINE:
            self.advice.say(state.words, "Go to Fill", lambda: self.call("step_fill"))
        else:
            self.advice.say("")
        self.soft.set_value(fix.cover.softness_px)
        self.brighten.set_value(fix.match.light_stops)
        self.grain.set_value(fix.match.grain * 100)
        with QSignalBlocker(self.light):
            self.light.setChecked(fix.match.is_light_matched)

    def show_facts(self, facts: FrameFacts) -> None:
        """Show what the engine found on this frame."""
        if facts.stops is None:
            self.stops.setText("No light found on this frame.")
        else:
            red, green, blue = facts.stops
            self.stops.setText(f"Found here: red {red:+.2f}, green {green:+.2f}, blue {blue:+.2f} stops")
        self.found.setText(facts.grain)


class CheckPage(Page):
    def build(self) -> None:
        self.title = heading("")
        self.run = push_button(
            "Measure all frames", self.session.measure, primary=True, tip="Seam and flicker (Ctrl+M)"
        )
        self.worst = push_button("Go to the worst frame", lambda: self.call("worst_frame"), tip="Worst frame (G)")
        self.figures = quiet(name="Figures here")
        self.summary = quiet(name="Figures of the shot")
        self.box.addWidget(self.title)
        self.box.addWidget(self.run)
        self.box.addWidget(self.summary)
        self.box.addWidget(self.worst)
        self.box.addWidget(self.figures)
        self.box.addWidget(rule())
        hint = quiet(
            "Hold Q to flick to the plate. W holds the surface still. Shift+Q wipes between result and plate. "
            "Exposure below the picture looks into the blacks."
        )
        self.box.addWidget(hint)

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        self.title.setText(fix.name if fix is not None else "Nothing to check yet")
        self.run.setEnabled(fix is not None and not self.session.is_busy())
        measured = self.session.measures(fix.id) if fix is not None else ()
        self.worst.setEnabled(bool(measured))
        if fix is None:
            self.advice.say(
                "There is no fix in hand. Cover something first.",
                "Go to Cover",
                lambda: self.call("step_cover"),
            )
            return
        advice = steps_of(shot, fix, measured)[Step.CHECK]
        self.advice.say(advice.words if advice.state is State.LOOK else "")
        if not measured:
            self.summary.setText("Not measured since the last change.")
            self.figures.setText("")
            return
        seams = [one.seam_percent for one in measured]
        flickers = [one.flicker_percent for one in measured]
        self.summary.setText(
            f"{len(measured)} frames. Seam {sum(seams) / len(seams):.1f} % on average, {max(seams):.1f} % at most. "
            f"Flicker {max(flickers):.1f} % at most."
        )
        here = next((one for one in measured if one.frame == self.session.desk.frame), None)
        self.figures.setText(
            f"This frame: seam {here.seam_percent:.1f} %, flicker {here.flicker_percent:.1f} %"
            if here
            else "Not on this frame"
        )


def _scrolling(page: Page) -> QScrollArea:
    """Return a page that scrolls by itself where the window is low."""
    scroll = QScrollArea()
    scroll.setWidget(page)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QScrollArea.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return scroll


class StepPanel(QWidget):
    """The strip of steps and the page of the step in hand."""

    step_chosen = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setFixedWidth(300)
        self.session = session
        self.pages: dict[Step, Page] = {
            Step.FOLLOW: FollowPage(session),
            Step.COVER: CoverPage(session),
            Step.FILL: FillPage(session),
            Step.MATCH: MatchPage(session),
            Step.CHECK: CheckPage(session),
        }
        self._buttons: dict[Step, QToolButton] = {}
        row = QHBoxLayout()
        row.setSpacing(2)
        group = QButtonGroup(self)
        for number, step in enumerate(Step, 1):
            button = QToolButton()
            button.setText(step)
            button.setCheckable(True)
            button.setAccessibleName(f"Step {step}")
            button.setToolTip(f"{step} ({number})")
            button.setMinimumHeight(30)
            button.setMinimumWidth(54)
            button.clicked.connect(lambda _=False, step=step: self.step_chosen.emit(step))
            group.addButton(button)
            self._buttons[step] = button
            row.addWidget(button, 1)
        self._stack = QStackedWidget()
        for page in self.pages.values():
            self._stack.addWidget(_scrolling(page))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(4, 8, 8, 8)
        layout.addLayout(row)
        layout.addWidget(self._stack, 1)
        layout.addStretch()

    @property
    def fill(self) -> FillPage:
        """The page of the Fill step."""
        page = self.pages[Step.FILL]
        assert isinstance(page, FillPage)
        return page

    @property
    def match(self) -> MatchPage:
        """The page of the Match step."""
        page = self.pages[Step.MATCH]
        assert isinstance(page, MatchPage)
        return page

    def refresh(self) -> None:
        """Show the step in hand as the document and the desk have it."""
        desk, project = self.session.desk, self.session.project
        shot = desk.shot(project)
        self._buttons[desk.step].setChecked(True)
        self._stack.setCurrentIndex(list(self.pages).index(desk.step))
        self._stack.setVisible(shot is not None)
        if shot is not None:
            self.pages[desk.step].refresh(shot, desk.surface(project), desk.fix(project), desk.plate(project))
