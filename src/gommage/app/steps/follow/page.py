"""The Follow step's panel: kind, areas, motion, running it, pins, and what came of it."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QMenu,
    QSpinBox,
    QToolButton,
    QWidget,
)

from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.look.controls import (
    NameLine,
    Section,
    heading,
    push_button,
    quiet,
    rule,
    show_number,
    spaced,
    tool_button,
)
from gommage.app.steps.follow.camera import CameraPart
from gommage.app.steps.follow.graph import TrackGraph
from gommage.app.steps.follow.panorama import PanoramaPart
from gommage.app.steps.follow.rows import area_row, facts_of, spot_row
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import (
    Channel,
    Drawn,
    MotionModel,
    PlaneFollow,
    PointsFollow,
    ShapeKey,
    Shot,
    Surface,
    edits,
    placement,
)
from gommage.core.engine import Step
from gommage.core.engine.steps import SLIP_TO_LOOK_AT_PX
from gommage.core.geometry import IDENTITY

__all__ = ["FollowPage"]

KEEP_OUT_ACTIONS = ("matte_from_file", "add_shared_matte", "own_matte")
MOTION_WORDS = {
    MotionModel.SHIFT: "Shift",
    MotionModel.SHIFT_SCALE: "Shift and scale",
    MotionModel.SHIFT_TURN: "Shift and turn",
    MotionModel.SIMILARITY: "Shift, turn and scale",
    MotionModel.AFFINE: "Shift, turn, scale and shear",
    MotionModel.PERSPECTIVE: "Perspective",
}
CHANNEL_WORDS = {
    Channel.BEST: "What tells most",
    Channel.LUMINANCE: "Luminance",
    Channel.RED: "Red",
    Channel.GREEN: "Green",
    Channel.BLUE: "Blue",
}
ENOUGH_SPOTS = 4
NEW_KINDS = (
    ("Plane, by an area", "surface"),
    ("Points, by spots", "points"),
    ("Still camera", "still"),
    ("Corners by hand", "by hand"),
    ("Found around a thing", "around"),
    ("Plane of the solved scene", "scene plane"),
)


class FollowPage(Page):
    """How the surface in hand is followed, and what came of it."""

    def build(self) -> None:
        self.title = NameLine()
        self._build_choices()
        self._build_areas()
        self._build_buttons()
        self.facts = quiet(name="Follow result")
        self.graph = TrackGraph()
        self.graph.frame_chosen.connect(self.session.go_to)
        self.new = QToolButton()
        self.new.setText("New surface")
        self.new.setAccessibleName("New surface")
        self.new.setToolTip("Another thing that moves as one (Shift+A draws a plane)")
        self.new.setProperty("wide", True)
        self.new.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.new)
        for words, draws in NEW_KINDS:
            menu.addAction(words, lambda draws=draws: self._begin(draws))
        self.new.setMenu(menu)
        head = QHBoxLayout()
        head.addWidget(self.title, 1)
        head.addWidget(self.new)
        self.how = Section("How", is_folded=True)
        self.how.box.addLayout(self._form)
        self.how.box.addWidget(self.front)
        self.how.box.addWidget(self.refresh_patterns)
        self.how.box.addWidget(self.by_itself)
        self.box.addLayout(head)
        self.box.addLayout(self._area_head)
        self.box.addWidget(self.areas)
        self.box.addWidget(self.stays)
        self.box.addWidget(self.how)
        self._above_ways = rule()
        self.box.addWidget(self._above_ways)
        self.box.addWidget(self.both)
        self.box.addLayout(self._ways)
        self.box.addWidget(self.facts)
        self.box.addWidget(self.graph)
        self.box.addLayout(self._mending)
        self.camera = CameraPart(self.session, self.call)
        self.box.addWidget(rule())
        self.box.addWidget(self.camera)
        self.panorama = PanoramaPart(self.session, self.call)
        self.box.addWidget(self.panorama)

    def _build_choices(self) -> None:
        self._shown: tuple[tuple[Surface, ...], Surface] | None = None
        self.motion = self._combo("Motion", "How much it may move. A simpler motion holds better on weak texture.")
        self.channel = self._combo("Look at", "Which channel is compared")
        for channel, words in CHANNEL_WORDS.items():
            self.channel.addItem(words, channel)
        self.rides = self._combo("Rides on", "Its motion is counted relative to this surface")
        self._form = QFormLayout()
        self._form.setContentsMargins(0, 0, 0, 0)
        self._form.setVerticalSpacing(4)
        for words, widget in (("Motion", self.motion), ("Look at", self.channel), ("Rides on", self.rides)):
            self._form.addRow(words, widget)
        self.pattern = self._size("Pattern", 99, "Side of the square that is compared; auto: from the texture")
        self.search = self._size(
            "Search", 300, "How far around the expected place a spot is looked for; auto: from the motion"
        )
        sizes = spaced(self.pattern, self.search)
        self._form.addRow("Pattern, search", sizes)
        self._sizes_row = sizes
        self.front = self._check("Leave out what is in front", "Covers of fixes and areas of surfaces in front")
        self.refresh_patterns = self._check("Take patterns anew", "When a spot does not look as it did any more")
        self.by_itself = self._check("Moves by itself", "No part of the set: not looked at where the camera is solved")
        self.motion.activated.connect(self._on_motion)
        self.channel.activated.connect(lambda: self._set("Look at", channel=Channel(self.channel.currentData())))
        self.rides.activated.connect(self._on_rides)
        self.front.toggled.connect(lambda on: self._set("Leave out what is in front", leaves_out_front=on))
        self.refresh_patterns.toggled.connect(lambda on: self._set("Take patterns anew", is_refreshed=on))
        self.by_itself.toggled.connect(self._on_by_itself)

    @staticmethod
    def _combo(name: str, tip: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        return combo

    def _size(self, name: str, most: int, tip: str) -> QSpinBox:
        box = QSpinBox()
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.setRange(0, most)
        box.setSpecialValueText("auto")
        box.setSuffix(" px")
        box.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        box.setKeyboardTracking(False)
        field = f"{name.lower()}_px"
        box.valueChanged.connect(lambda value: self._set_spots(name, field, float(value)))
        return box

    def _set_spots(self, name: str, field: str, value: float) -> None:
        """Change a size of the spot in hand, or of all where none is."""
        desk, surface = self.session.desk, self.session.desk.surface(self.session.project)
        if surface is None or not isinstance(surface.how, PointsFollow):
            return
        chosen = {spot.id for spot in surface.how.spots if spot.id == desk.part_id}
        spots = tuple(
            replace(spot, **{field: value}) if not chosen or spot.id in chosen else spot for spot in surface.how.spots
        )
        self._set(f"{name} size", spots=spots)

    @staticmethod
    def _check(name: str, tip: str) -> QCheckBox:
        box = QCheckBox(name)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        return box

    def _build_areas(self) -> None:
        self.areas_title = heading("Areas")
        self.add_area = tool_button("plus", "Add area", tip="Draw one more area to follow by")
        self.add_keep_out = tool_button("square", "Add keep-out", tip="Draw round what is not to be looked at")
        self.other_keep_outs = tool_button("chevron-down", "Other keep-outs", tip="Mattes from files, or shared")
        self.add_extent = tool_button(
            "maximize", "Add extent", tip="Draw round how far it reaches, for what is filled from other frames"
        )
        self.remove_area = tool_button("trash-2", "Remove area", tip="Remove the chosen area, keep-out or extent")
        self.add_area.clicked.connect(lambda: self._draw("area"))
        self.add_keep_out.clicked.connect(lambda: self._draw("keep-out"))
        self.add_extent.clicked.connect(lambda: self._draw("extent"))
        self.other_keep_outs.clicked.connect(lambda: self.pop_up(self.other_keep_outs, KEEP_OUT_ACTIONS))
        self.remove_area.clicked.connect(self._on_remove_area)
        self.detect = push_button("Find", lambda: self.call("find_spots"), tip="Find good spots around those there are")
        self._area_head = spaced(self.areas_title)
        self._area_head.addWidget(self.detect)
        for button in (self.other_keep_outs, self.add_area, self.add_keep_out, self.add_extent, self.remove_area):
            self._area_head.addWidget(button)
        self._delegate = LineDelegate()
        self.areas = RowList("Areas", self._delegate, most_rows=3)
        self.areas.chosen.connect(lambda part_id, _: self.session.set_desk(part_id=part_id))
        self.stays = self._check(
            "Stays put in the picture", "What passes through it is followed, as a road under a car"
        )
        self.stays.toggled.connect(self._on_stays)

    def _build_buttons(self) -> None:
        self.both = push_button("Follow both ways", lambda: self.call("follow_both"), primary=True,
                                tip="Follow to both ends, or over the marked frames (Ctrl+G)")  # fmt: skip
        self.back = push_button("◂◂", lambda: self.call("follow_backwards"), tip="Follow backwards (Ctrl+D)")
        self.one_back = push_button("◂ 1", lambda: self.call("follow_one_back"), tip="One frame back (Ctrl+Shift+D)")
        self.one_on = push_button("1 ▸", lambda: self.call("follow_one_on"), tip="One frame on (Ctrl+Shift+F)")
        self.on = push_button("▸▸", lambda: self.call("follow_forwards"), tip="Follow forwards (Ctrl+F)")
        names = ("Follow backwards", "Follow one back", "Follow one on", "Follow forwards")
        for button, name in zip((self.back, self.one_back, self.one_on, self.on), names, strict=True):
            button.setAccessibleName(name)
        self._ways = spaced(self.back, self.one_back, self.one_on, self.on)
        self.unpin = push_button("Unpin", lambda: self.call("unpin"), tip="Take the correction on this frame off")
        self.smooth = push_button("Smooth", lambda: self.call("smooth_marked"), tip="Smooth the marked frames")
        self.trim = push_button("Trim", lambda: self.call("trim_to_marked"), tip="Keep the marked frames only")
        self._mending = spaced(self.unpin, self.smooth, self.trim)

    # -- intents ------------------------------------------------------------------------------------------------

    def _begin(self, draws: str) -> None:
        if draws in BEGUN_BY:
            self.call(BEGUN_BY[draws])
            return
        self.session.set_desk(surface_id="", draws=draws, tool="draw", part_id="")

    def _draw(self, draws: str) -> None:
        self.session.set_desk(draws=draws, tool="draw")

    def _set(self, label: str, **fields: object) -> None:
        desk = self.session.desk
        if desk.surface_id:
            self.session.commit(label, edits.change_follow, desk.shot_id, desk.surface_id, **fields)

    def _on_motion(self) -> None:
        chosen = self.motion.currentData()  # Qt gives plain text back
        self._set("Motion", motion=MotionModel(chosen) if chosen else None)

    def _on_rides(self) -> None:
        desk = self.session.desk
        self.session.commit("Rides on", edits.set_rides_on, desk.shot_id, desk.surface_id, self.rides.currentData())

    def _on_by_itself(self, is_on: bool) -> None:
        desk = self.session.desk
        if desk.surface_id:
            label = "Moves by itself" if is_on else "Part of the set"
            self.session.commit(label, edits.change_surface, desk.shot_id, desk.surface_id, moves_by_itself=is_on)

    def _on_stays(self, is_on: bool) -> None:
        """Let an area stay where it is seen now, or ride on from where it is seen now."""
        desk, shot = self.session.desk, self.session.desk.shot(self.session.project)
        surface, part = desk.surface(self.session.project), desk.part(self.session.project)
        if shot is None or surface is None or part is None or not isinstance(part.source, Drawn):
            return
        placed = placement(shot, surface)
        mapping = (placed.mapping(desk.frame) if placed is not None else None) or IDENTITY
        moved = (mapping if is_on else mapping.inverse())(part.source.shape.points_at(desk.frame))
        shape = replace(part.source.shape, keys=(ShapeKey.of(desk.frame, moved),))
        drawn = Drawn(shape=shape, surface_id="" if is_on else surface.id)
        label = "Stays put" if is_on else "Rides"
        self.session.commit(label, edits.change_part, desk.shot_id, part.id, source=drawn)

    def _on_remove_area(self) -> None:
        desk, surface = self.session.desk, self.session.desk.surface(self.session.project)
        if surface is None:
            return
        if isinstance(surface.how, PointsFollow):
            spots = tuple(spot for spot in surface.how.spots if spot.id != desk.part_id)
            if 0 < len(spots) < len(surface.how.spots):
                self._set("Remove spot", spots=spots)
            return
        part = desk.part(self.session.project)
        if part is not None:
            self.session.commit("Remove area", edits.remove_part, desk.shot_id, part.id)

    # -- showing ------------------------------------------------------------------------------------------------

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        desk = self.session.desk
        own = desk.offers, desk.marked, desk.draws, desk.lens, desk.shows_points
        return (*super().watched(hand), *own, self.session.shown)

    def show_hand(self, hand: InHand) -> None:
        surface = hand.surface
        how = surface.how if surface is not None else None
        is_plane, is_points = isinstance(how, PlaneFollow), isinstance(how, PointsFollow)
        self._show_kinds(surface, is_plane=is_plane, is_points=is_points)
        idle = not self.work.is_busy
        marked = self.session.desk.marked
        self._above_ways.setVisible(surface is not None)
        for widget in (self.both, self.back, self.one_back, self.one_on, self.on):
            widget.setVisible(is_plane or is_points)
            widget.setEnabled(idle)
        self.both.setText("Follow the marked frames" if marked else "Follow both ways")
        self.both.setAccessibleName(self.both.text())
        whole = self.session.shown.whole_of(hand.shot.id)
        self.panorama.setVisible(whole.footage.is_panorama)
        self.camera.setVisible(not hand.shot.footage.is_panorama)
        if whole.footage.is_panorama:
            self.panorama.show_panorama(whole, hand.shot, self.work.is_busy)
        self.camera.show_camera(self.session.shown, hand.shot, surface, self.session.desk, self.work.is_busy)
        if surface is None:
            self.title.setText("No surface in hand")
            self.facts.setText("")
            return
        self.title.setText(surface.name)
        self._show_choices(hand.shot, surface)
        self._show_areas(hand.shot, surface)
        self._show_result(surface)

    def advise(self, hand: InHand) -> Advised:
        surface = hand.surface
        draws, offered = self.session.desk.draws, self.session.desk.offers
        if offered is not None and not self.work.is_busy:
            return Advised(offered.words, "Take it (K)", "take_found", is_urgent=False)
        if hand.shot.footage.is_panorama:
            return Advised(LOOK_ROUND, "Work here", "work_here", is_urgent=False)
        if surface is None:
            return Advised(ADVICE[draws], is_urgent=False)
        known = self.session.surface_summary(surface.id)
        if known is None or self.work.is_busy:
            return Advised()
        if not known.is_known:
            if isinstance(surface.how, PointsFollow) and len(surface.how.spots) < ENOUGH_SPOTS:
                words = "Set more spots, up to four and more for perspective; then follow."
                return Advised(words, "", "follow_both", is_urgent=False)
            return Advised("Leave out what crosses it with keep-outs; then follow.", "", "follow_both", is_urgent=False)
        if known.worst_px > SLIP_TO_LOOK_AT_PX:
            return Advised(
                f"May be off by {known.worst_px:.1f} px on frame {known.worst_frame}. Pin it where it slips.",
                "Go there", "worst_slip",
            )  # fmt: skip
        has_fix = hand.fix is not None and hand.fix.surface_id == surface.id
        words = "Followed." if has_fix else "Followed. Cover what has to go."
        return next_step(Step.FOLLOW, words)

    def _show_kinds(self, surface: Surface | None, *, is_plane: bool, is_points: bool) -> None:
        has = surface is not None
        self._form.setRowVisible(self.motion, is_plane or is_points)
        self._form.setRowVisible(self.channel, is_plane)
        self._form.setRowVisible(self.rides, has)
        self._form.setRowVisible(self._sizes_row, is_points)
        shown: list[tuple[bool, tuple[QWidget, ...]]] = [
            (is_plane, (self.front, self.stays, self.add_keep_out, self.other_keep_outs, self.add_extent)),
            (is_points, (self.refresh_patterns, self.detect)),
            (is_plane or is_points, (self.areas_title, self.areas, self.add_area, self.remove_area, self.by_itself)),
            (has, (self.unpin, self.smooth, self.trim, self.how, self.facts, self.graph)),
        ]
        for is_shown, widgets in shown:
            for widget in widgets:
                widget.setVisible(is_shown)

    def _show_choices(self, shot: Shot, surface: Surface) -> None:
        if self._shown == (shot.surfaces, surface):
            return  # stepping through frames changes none of it
        self._shown = (shot.surfaces, surface)
        with QSignalBlocker(self.motion), QSignalBlocker(self.channel), QSignalBlocker(self.rides):
            self.motion.clear()
            if isinstance(surface.how, PointsFollow):
                self.motion.addItem("What the spots allow", None)
            for model, words in MOTION_WORDS.items():
                self.motion.addItem(words, model)
            if isinstance(surface.how, PlaneFollow | PointsFollow):
                self.motion.setCurrentIndex(self.motion.findData(surface.how.motion))
            if isinstance(surface.how, PlaneFollow):
                self.channel.setCurrentIndex(self.channel.findData(surface.how.channel))
            self.rides.clear()
            self.rides.addItem("The picture", "")
            for other in shot.surfaces:
                if other.id != surface.id:
                    self.rides.addItem(other.name, other.id)
            self.rides.setCurrentIndex(max(self.rides.findData(surface.rides_on), 0))
        said = [self.motion.currentText()] if isinstance(surface.how, PlaneFollow | PointsFollow) else []
        said += [self.channel.currentText()] if isinstance(surface.how, PlaneFollow) else []
        said += [f"on {self.rides.currentText()}"] if surface.rides_on else []
        said += ["moves by itself"] if surface.moves_by_itself else []
        self.how.say(" · ".join(said))
        with QSignalBlocker(self.front), QSignalBlocker(self.refresh_patterns), QSignalBlocker(self.by_itself):
            self.by_itself.setChecked(surface.moves_by_itself)
            if isinstance(surface.how, PlaneFollow):
                self.front.setChecked(surface.how.leaves_out_front)
            if isinstance(surface.how, PointsFollow):
                self.refresh_patterns.setChecked(surface.how.is_refreshed)

    def _show_areas(self, shot: Shot, surface: Surface) -> None:
        desk, how = self.session.desk, surface.how
        rows: list[Row] = []
        chosen = desk.part_id
        if isinstance(how, PlaneFollow):
            groups = ((how.areas, "Area"), (how.keep_outs, "Keep-out"), (surface.extent, "Extent"))
            for parts, words in ((matte.parts, words) for matte, words in groups):
                rows += [area_row(shot, f"{words} {number}", part) for number, part in enumerate(parts, 1)]
            part = desk.part(self.session.shown)
            with QSignalBlocker(self.stays):
                self.stays.setChecked(
                    part is not None and isinstance(part.source, Drawn) and not part.source.surface_id
                )
            chosen = part.id if part is not None else ""
        elif isinstance(how, PointsFollow):
            spot = next((one for one in how.spots if one.id == desk.part_id), how.spots[0])
            show_number(self.pattern, spot.pattern_px)
            show_number(self.search, spot.search_px)
            rows = [spot_row(number, one, desk.frame) for number, one in enumerate(how.spots, 1)]
        self.areas_title.setText("Spots" if isinstance(how, PointsFollow) else "Areas")
        self.areas.rows.set_rows(tuple(rows))
        self.areas.select(chosen)

    def _show_result(self, surface: Surface) -> None:
        desk, known = self.session.desk, self.session.surface_summary(surface.id)
        self.unpin.setEnabled(desk.frame in {pin.frame for pin in surface.pins})
        for button in (self.smooth, self.trim):
            button.setEnabled(surface.track is not None and desk.marked is not None)
        if known is None or not known.is_known:
            self.facts.setText(f"Home frame {surface.home_frame}. Not followed yet.")
            self.graph.show_summary(None)
            return
        self.facts.setText("\n".join(facts_of(surface, known, desk.frame)))
        self.graph.show_summary(known)
        self.graph.show_frame(desk.frame)


ADVICE = {
    "surface": "Draw round a flat, well-textured part of the picture that moves with the thing. Click its corners; "
    "click the first one again to close.",
    "points": "Click on small features that stand out and move with the thing: one for a shift, two also for turn and "
    "scale, four for perspective.",
    "still": "Draw round the part of the picture that stands still.",
    "by hand": "Click the four corners of the thing; then key them on other frames with the pin tool.",
}
LOOK_ROUND = "Drag to look round, turn the wheel to look closer. Taking a tool works in what is looked at."
BEGUN_BY = {"scene plane": "new_scene_plane", "around": "draw_around"}
ADVICE["around"] = "Draw round the thing that has to go; the flat pieces around and behind it propose themselves."
ADVICE["scene plane"] = (
    "Draw round a flat part of the scene, or click three or more of its solved points; click the first again to close."
)
ADVICE["area"] = ADVICE["keep-out"] = ADVICE["extent"] = ADVICE["surface"]
