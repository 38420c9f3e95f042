"""The Follow step's panel: kind, areas, motion, running it, pins, and what came of it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QListView,
    QMenu,
    QSpinBox,
    QToolButton,
    QWidget,
)

from gommage.app.cards import ROW_ROLE, LineDelegate, Row, RowModel
from gommage.app.graph import Curve, TrackGraph
from gommage.app.page import Page
from gommage.app.rows import heading, push_button, quiet, rule, spaced, tool_button
from gommage.core.document import (
    Array,
    ByHand,
    Channel,
    CleanPlate,
    Fix,
    MotionModel,
    PlaneFollow,
    PointsFollow,
    Shape,
    ShapeKey,
    Shot,
    Still,
    Surface,
    Track,
    edits,
)
from gommage.core.follow import stretches
from gommage.core.picture import apply_matrix

__all__ = ["FollowPage"]

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
SLIP_SCALE_PX = 0.5
"""The slip's lane is at least this high, so that a good follow looks calm."""
NEW_KINDS = (
    ("Plane, by an area", "surface"),
    ("Points, by spots", "points"),
    ("Still camera", "still"),
    ("Corners by hand", "by hand"),
)


class FollowPage(Page):
    def build(self) -> None:
        self.title = heading("")
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
        self.box.addLayout(head)
        self.box.addLayout(self._form)
        self.box.addWidget(self.front)
        self.box.addWidget(self.refresh_patterns)
        self.box.addLayout(self._area_head)
        self.box.addWidget(self.areas)
        self.box.addWidget(self.stays)
        self.box.addWidget(rule())
        self.box.addWidget(self.both)
        self.box.addLayout(self._ways)
        self.box.addWidget(self.facts)
        self.box.addWidget(self.graph)
        self.box.addLayout(self._mending)

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
        self.motion.activated.connect(self._on_motion)
        self.channel.activated.connect(lambda: self._set("Look at", channel=Channel(self.channel.currentData())))
        self.rides.activated.connect(self._on_rides)
        self.front.toggled.connect(lambda on: self._set("Leave out what is in front", leaves_out_front=on))
        self.refresh_patterns.toggled.connect(lambda on: self._set("Take patterns anew", is_refreshed=on))

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
        chosen = {spot.id for spot in surface.how.spots if spot.id == desk.area_id}
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
        self.remove_area = tool_button("trash-2", "Remove area", tip="Remove the chosen area or keep-out")
        self.add_area.clicked.connect(lambda: self._draw("area"))
        self.add_keep_out.clicked.connect(lambda: self._draw("keep-out"))
        self.remove_area.clicked.connect(self._on_remove_area)
        self.detect = push_button("Find", lambda: self.call("find_spots"), tip="Find good spots around those there are")
        self._area_head = spaced(self.areas_title)
        self._area_head.addWidget(self.detect)
        for button in (self.add_area, self.add_keep_out, self.remove_area):
            self._area_head.addWidget(button)
        self.areas = QListView()
        self.areas.setAccessibleName("Areas")
        self.area_rows = RowModel()
        self.areas.setModel(self.area_rows)
        self._delegate = LineDelegate()
        self.areas.setItemDelegate(self._delegate)
        self.areas.clicked.connect(lambda index: self.session.set_desk(area_id=index.data(ROW_ROLE).id))
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
        self.session.set_desk(surface_id="", draws=draws, tool="draw", area_id="")

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

    def _on_stays(self, is_on: bool) -> None:
        """Let an area stay where it is seen now, or ride on from where it is seen now."""
        desk, surface = self.session.desk, self.session.desk.surface(self.session.project)
        area = desk.area(self.session.project)
        placed = self.session.placed(surface) if surface is not None else None
        if surface is None or area is None:
            return
        matrix = np.eye(3)
        if placed is not None and placed.is_placed(desk.frame):
            matrix = placed.matrix(desk.frame)
        points = apply_matrix(matrix if is_on else np.linalg.inv(matrix), area.shape.points_at(desk.frame))
        shape: Shape = replace(area.shape, keys=(ShapeKey(frame=desk.frame, points=Array(points)),))
        assert isinstance(surface.how, PlaneFollow)
        is_keep_out = any(item.shape.id == shape.id for item in surface.how.keep_outs)
        changed = replace(area, shape=shape, stays_put=is_on)
        self.session.commit("Stays put" if is_on else "Rides", edits.set_area, desk.shot_id, surface.id, changed,
                            is_keep_out=is_keep_out)  # fmt: skip

    def _on_remove_area(self) -> None:
        desk, surface = self.session.desk, self.session.desk.surface(self.session.project)
        if surface is None:
            return
        if isinstance(surface.how, PointsFollow):
            spots = tuple(spot for spot in surface.how.spots if spot.id != desk.area_id)
            if 0 < len(spots) < len(surface.how.spots):
                self._set("Remove spot", spots=spots)
            return
        area = desk.area(self.session.project)
        if area is not None:
            self.session.commit("Remove area", edits.remove_area, desk.shot_id, surface.id, area.shape.id)

    # -- showing ------------------------------------------------------------------------------------------------

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        how = surface.how if surface is not None else None
        is_plane, is_points = isinstance(how, PlaneFollow), isinstance(how, PointsFollow)
        self._show_kinds(surface, is_plane=is_plane, is_points=is_points)
        idle = not self.session.is_busy()
        marked = self.session.desk.marked
        for widget in (self.both, self.back, self.one_back, self.one_on, self.on):
            widget.setVisible(is_plane or is_points)
            widget.setEnabled(idle)
        self.both.setText("Follow the marked frames" if marked else "Follow both ways")
        self.both.setAccessibleName(self.both.text())
        if surface is None:
            self.title.setText("No surface in hand")
            self.facts.setText("")
            self.graph.show_curves((), 1)
            self.advice.say(ADVICE[self.session.desk.draws])
            return
        self.title.setText(surface.name)
        self._show_choices(shot, surface)
        self._show_areas(surface)
        self._show_result(surface)

    def _show_kinds(self, surface: Surface | None, *, is_plane: bool, is_points: bool) -> None:
        has = surface is not None
        self._form.setRowVisible(self.motion, is_plane or is_points)
        self._form.setRowVisible(self.channel, is_plane)
        self._form.setRowVisible(self.rides, has)
        self._form.setRowVisible(self._sizes_row, is_points)
        shown: list[tuple[bool, tuple[QWidget, ...]]] = [
            (is_plane, (self.front, self.stays, self.add_keep_out)),
            (is_points, (self.refresh_patterns, self.detect)),
            (is_plane or is_points, (self.areas_title, self.areas, self.add_area, self.remove_area)),
            (has, (self.unpin, self.smooth, self.trim)),
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
        with QSignalBlocker(self.front), QSignalBlocker(self.refresh_patterns):
            if isinstance(surface.how, PlaneFollow):
                self.front.setChecked(surface.how.leaves_out_front)
            if isinstance(surface.how, PointsFollow):
                self.refresh_patterns.setChecked(surface.how.is_refreshed)

    def _show_areas(self, surface: Surface) -> None:
        desk, how = self.session.desk, surface.how
        rows: list[Row] = []
        if isinstance(how, PlaneFollow):
            for items, words in ((how.areas, "Area"), (how.keep_outs, "Keep-out")):
                for number, item in enumerate(items, 1):
                    keys = f", {len(item.shape.keys)} keys" if len(item.shape.keys) > 1 else ""
                    rows.append(
                        Row(item.shape.id, f"{words} {number}", ("stays put" if item.stays_put else "rides") + keys)
                    )
            area = desk.area(self.session.project)
            with QSignalBlocker(self.stays):
                self.stays.setChecked(area is not None and area.stays_put)
        elif isinstance(how, PointsFollow):
            spot = next((one for one in how.spots if one.id == desk.area_id), how.spots[0])
            with QSignalBlocker(self.pattern), QSignalBlocker(self.search):
                self.pattern.setValue(round(spot.pattern_px))
                self.search.setValue(round(spot.search_px))
            live = self.session.live_surface
            if live is not None and live.id == surface.id and isinstance(live.how, PointsFollow):
                how = live.how
            for number, spot in enumerate(how.spots, 1):
                sure = np.nan
                if spot.path is not None and 0 <= desk.frame - spot.path.first_frame < len(spot.path.certainty):
                    sure = spot.path.certainty.values[desk.frame - spot.path.first_frame]
                words = "" if np.isnan(sure) else "hidden here" if sure == 0 else f"{sure:.0%} alike"
                rows.append(Row(spot.id, f"Spot {number}", words.replace("%", " %")))
        self.areas_title.setText("Spots" if isinstance(how, PointsFollow) else "Areas")
        self.area_rows.set_rows(tuple(rows))
        self.areas.setFixedHeight(28 * min(max(len(rows), 1), 3) + 4)
        chosen = desk.area_id or (rows[0].id if rows and isinstance(how, PlaneFollow) else "")
        index = self.area_rows.index_of(chosen)
        if index.isValid():
            self.areas.setCurrentIndex(index)
        else:
            self.areas.clearSelection()

    def _show_result(self, surface: Surface) -> None:
        desk, placed = self.session.desk, self.session.placed(surface)
        pinned = {pin.frame for pin in surface.pins}
        self.unpin.setEnabled(desk.frame in pinned)
        followed = surface.track is not None
        for button in (self.smooth, self.trim):
            button.setEnabled(followed and desk.marked is not None)
        self.advice.say("")
        if placed is None:
            self.facts.setText(f"Home frame {surface.home_frame}. Not followed yet.")
            self.graph.show_curves((), 1)
            return
        self.facts.setText("\n".join(_facts(surface, placed, desk.frame)))
        self.graph.show_curves(_curves(surface, placed), placed.first_frame)
        self.graph.show_frame(desk.frame)


ADVICE = {
    "surface": "Draw round a flat, well-textured part of the picture that moves with the thing. Click its corners; "
    "click the first one again to close.",
    "points": "Click on small features that stand out and move with the thing: one for a shift, two also for turn and "
    "scale, four for perspective.",
    "still": "Draw round the part of the picture that stands still.",
    "by hand": "Click the four corners of the thing; then key them on other frames with the pin tool.",
}
ADVICE["area"] = ADVICE["keep-out"] = ADVICE["surface"]


def _facts(surface: Surface, placed: Track, frame: int) -> list[str]:
    """Return what is to be said of a surface on a frame, line by line."""
    if isinstance(surface.how, Still):
        return [f"Stands still on {placed.frames.first}–{placed.frames.last}"]
    slip = np.where([placed.is_placed(one) for one in placed.frames], placed.slip_px, 0)
    words = [f"Home frame {surface.home_frame}, {len(surface.pins)} pinned"]
    if placed.is_placed(frame):
        row = frame - placed.first_frame
        words.append(f"Slip {slip[row]:.2f} px here, {slip.max():.2f} px at most")
        if placed.reasons[row]:
            words.append(f"Here: {placed.reasons[row]}")
    else:
        words.append(f"Not on this frame; slip {slip.max():.2f} px at most")
    if not isinstance(surface.how, ByHand):
        words.append(f"Followed {placed.frames.first}–{placed.frames.last}")
    for reason, end in ((placed.before, placed.frames.first), (placed.after, placed.frames.last)):
        if reason:
            words.append(f"Ended at {end}: {reason}")
    return words


def _curves(surface: Surface, placed: Track) -> tuple[Curve, ...]:
    """Return position, scale, turn and slip of a surface's middle over its frames."""
    x, y = surface.corners.mean(axis=0)
    return _curves_of(float(x), float(y), placed)


@lru_cache(maxsize=8)
def _curves_of(middle_x: float, middle_y: float, placed: Track) -> tuple[Curve, ...]:
    middle = np.array([middle_x, middle_y])
    count = len(placed.frames)
    x, y, scale, turn = (np.full(count, np.nan) for _ in range(4))
    for row, frame in enumerate(placed.frames):
        if placed.is_placed(frame):
            matrix = placed.matrix(frame)
            x[row], y[row] = apply_matrix(matrix, middle)
            scale[row] = 100 * np.sqrt(np.prod(stretches(matrix, middle[None])[0]))
            along = apply_matrix(matrix, middle + (1.0, 0.0)) - (x[row], y[row])
            turn[row] = np.rad2deg(np.arctan2(along[1], along[0]))
    slip = np.where(np.isfinite(x), placed.slip_px, np.nan)
    return (
        Curve("x", x, "{:.1f} px"),
        Curve("y", y, "{:.1f} px"),
        Curve("scale", scale, "{:.1f} %"),
        Curve("turn", turn, "{:.2f}°"),
        Curve("slip", slip, "{:.2f} px", (0.0, SLIP_SCALE_PX)),
    )
