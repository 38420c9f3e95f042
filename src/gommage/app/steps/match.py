"""The Match step: edge, light, grain, sharpness."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QToolButton

from gommage.app.findings import measured_key
from gommage.app.look.controls import NameLine, Section, ValueRow, push_button, quiet, rule, spaced, tool_button
from gommage.app.session import Session
from gommage.app.steps.curves import NOTHING, LightCurves
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import (
    Donors,
    Fix,
    Keyed,
    Keys,
    LightMatch,
    Plates,
    Rim,
    Shot,
    changed_on,
    edits,
    value_at,
    with_key,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import Engine, Priority, State, Step, is_lit_on
from gommage.core.match import NO_BLUR, Blur, Stops, by_hand

__all__ = ["FrameFacts", "MatchPage"]


BY_HAND = {
    "exposure_stops": ("Exposure", -2.0, 2.0, "stops", 2, "On top of the light that was found"),
    "temperature": ("Temperature", -1.0, 1.0, "stops", 2, "Warmer to the right: red up, blue down"),
    "tint": ("Tint", -1.0, 1.0, "stops", 2, "Towards magenta to the right, green to the left"),
    "contrast": ("Contrast", 0.2, 3.0, "", 2, "About middle grey"),
    "saturation": ("Saturation", 0.0, 3.0, "", 2, "0 is grey"),
    "lift": ("Lift", -0.2, 0.2, "", 3, "Raises black"),
    "gain": ("Gain", 0.0, 4.0, "", 2, "Multiplies"),
}
"""Numbers of the light by hand: name, range, unit, decimals, what it does."""


def toggled_key(keyed: Keyed, frame: int) -> Keyed:
    """Return a number with a key on a frame; without the one that is there; a plain number once none is left."""
    value = value_at(keyed, frame)
    if not isinstance(keyed, Keys) or all(key.frame != frame for key in keyed.keys):
        return with_key(keyed, frame, value)
    left = tuple(key for key in keyed.keys if key.frame != frame)
    return Keys(keys=left) if left else value


def _taken_over(light: LightMatch, shot: Shot) -> str:
    """Return in words on which frames light is by hand though it is found on others."""
    lives = [one for life in light.by_hand if (one := life.within(shot.footage.frames)) is not None]
    return "By hand on " + ", ".join(f"{one.first}–{one.last}" for one in lives) if lives else ""


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What the engine found on the frame in hand: the light's stops (or None), grain and blur in words."""

    stops: tuple[float, float, float] | None = None
    grain: str = ""
    blur: str = ""


def facts_of(engine: Engine, shot: Shot, fix: Fix, frame: int, check: Callable[[], None]) -> FrameFacts:
    """Return the light, grain and blur that the match found on a frame; a job's work."""
    patch = engine.patch(shot, fix, frame, check)
    grain = engine.grain(shot, shot.surface(fix.surface_id), check) if fix.surface_id else None
    words = "Grain could not be measured; follow some frames first."
    if grain is not None:
        grey = float(grain.deviation(np.full((1, 3), 0.18, np.float32)).mean()) / 0.18
        words = f"Measured on the surface: {100 * grey:.1f} % at middle grey, {grain.size_px:.2f} px"
    stops = patch.light.stops if patch is not None and patch.light.trusted else None
    return FrameFacts(stops, words, _blur_words(engine.blurs(shot, fix, frame, check)))


def _blur_words(blurs: tuple[Blur, ...]) -> str:
    """Return in words the blur that new pixels lack, of the one that lacks most."""
    most = max(blurs, key=lambda one: one.along_px + one.round_px, default=NO_BLUR)
    if not most:
        return "Found here: as sharp as the frame."
    ways = ((most.along_px, "along the motion"), (most.round_px, "all round"))
    return f"Found here: {' and '.join(f'{px:.1f} px {way}' for px, way in ways if px)}."


class MatchPage(Page):
    """How the new pixels are fitted in."""

    def build(self) -> None:
        self._asked: Hashable = None
        self.title = NameLine()
        self.own_edge = QCheckBox("Edge of its own")
        self.own_edge.setAccessibleName("Edge of its own")
        self.own_edge.setToolTip("Another softness than the cover's, which Cover sets")
        self.outwards = ValueRow("Soft outwards", 0, 60, "px", tip="From the cover's line outwards")
        self.inwards = ValueRow("Soft inwards", 0, 60, "px", tip="From the cover's line inwards")
        self.joined = QCheckBox("Joined to the picture")
        self.joined.setAccessibleName("Joined to the picture")
        self.joined.setToolTip(
            "At the cover's edge they are as bright as the picture; not at its border, nor at what is in front"
        )
        self.light = QCheckBox("Light from around the cover")
        self.light.setAccessibleName("Match light")
        self.light.setToolTip("Brightness and colour follow the pixels around the cover, frame by frame")
        self.stops = quiet(name="Light found")
        self.curves = LightCurves()
        self.area = tool_button(
            "freehand", "Draw area for light", tip="Draw where light is looked at, in place of around the cover"
        )
        self.no_area = tool_button("trash-2", "Remove area for light", tip="Look around the cover again")
        self.by_hand_title = quiet("By hand from what was found")
        self.take_over = push_button(
            "On all frames", partial(self._on_take_over, False),
            tip="Keyed exposure, temperature and tint in place of what is found, to be changed by hand",
        )  # fmt: skip
        self.take_from = push_button(
            "From here on",
            partial(self._on_take_over, True),
            tip="The same from this frame on; before, it is found",
        )
        self.found_again = push_button(
            "Found again", lambda: self._set_light("Find light again", True, by_hand=()),
            tip="Light is found on all frames; keys stay on top of it",
        )  # fmt: skip
        self.by_hand = Section("Light by hand", is_folded=True)
        self.hands: dict[str, ValueRow] = {}
        self.keys: dict[str, QToolButton] = {}
        for field, (name, low, high, unit, decimals, tip) in BY_HAND.items():
            self._add_hand(field, ValueRow(name, low, high, unit, decimals, tip=tip))
        self.grain = ValueRow("Grain", 0, 200, "%", tip="Of the grain that was measured on the shot")
        self.found = quiet(name="Grain found")
        self.as_sharp = QCheckBox("As blurred as the frame")
        self.as_sharp.setAccessibleName("As blurred as the frame")
        self.as_sharp.setToolTip("Motion blur and focus of the frame, put on what is sharper; else by hand")
        self.found_blur = quiet(name="Blur found")
        self.blur = ValueRow("Blur", 0, 8, "px", 1, tip="Put on the new pixels where they are sharper than the frame")
        for widget in (self.title, self.own_edge, self.outwards, self.inwards, self.joined, rule()):
            self.box.addWidget(widget)
        self._add_light()
        for widget in (rule(), self.grain, self.found, rule(), self.as_sharp, self.found_blur, self.blur):
            self.box.addWidget(widget)
        self.own_edge.toggled.connect(self._on_own_edge)
        self.outwards.value_changed.connect(lambda value, final: self._on_edge(final, "outwards_px", value))
        self.inwards.value_changed.connect(lambda value, final: self._on_edge(final, "inwards_px", value))
        self.blur.value_changed.connect(self._on_blur)
        self.joined.toggled.connect(lambda on: self._set("Join to the picture", True, is_joined=on))
        self.as_sharp.toggled.connect(self._on_as_sharp)
        self.area.clicked.connect(lambda: self.session.set_desk(tool="draw", slot=Slot.LIGHT_AREA))
        self.no_area.clicked.connect(self._on_no_area)
        self.light.toggled.connect(lambda on: self._set_light("Match light", True, is_measured=on))
        self.grain.value_changed.connect(self._on_grain)

    def _add_light(self) -> None:
        """Add the rows of the light: where it is looked at, what was found, what is done by hand."""
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 0, 0)
        head.addWidget(self.light, 1)
        head.addWidget(self.area)
        head.addWidget(self.no_area)
        self.box.addLayout(head)
        for widget in (self.stops, self.curves, self.by_hand_title):
            self.box.addWidget(widget)
        self.box.addLayout(spaced(self.take_over, self.take_from, self.found_again))
        self.box.addWidget(self.by_hand)

    def _add_hand(self, field: str, row: ValueRow) -> None:
        """Add a number of the light by hand, with what keys it."""
        tip = "Let it change over frames: a key here, or none any more"
        key = tool_button("key", f"Key {row.name.lower()}", tip=tip, is_checkable=True)
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(row, 1)
        line.addWidget(key)
        self.by_hand.box.addLayout(line)
        row.value_changed.connect(lambda value, final: self._on_hand(field, value, final))
        key.clicked.connect(lambda: self._on_key(field))
        self.hands[field], self.keys[field] = row, key

    def _on_hand(self, field: str, value: float, final: bool) -> None:
        fix, frame = self._fix(), self.session.desk.frame
        if fix is None:
            return
        new = changed_on(getattr(fix.match.light, field), frame, value)
        self._set_light(BY_HAND[field][0], final, **{field: new})

    def _on_key(self, field: str) -> None:
        """Begin to key a number here, set a key here, or take the key here away."""
        fix, frame = self._fix(), self.session.desk.frame
        if fix is not None:
            now = getattr(fix.match.light, field)
            self._set_light(f"Key {BY_HAND[field][0].lower()}", True, **{field: toggled_key(now, frame)})

    def _on_take_over(self, is_from_here: bool) -> None:
        """Make keys of the light that was found, on all frames or from here on, and follow it there no more."""
        fix, frame = self._fix(), self.session.desk.frame
        found = self.session.findings.lights(self.session.shot, fix.id) if fix is not None else None
        if fix is not None and found and (not is_from_here or max(found) >= frame):
            label = f"Light by hand from {frame} on" if is_from_here else "Light by hand"
            self._set(label, True, light=by_hand(found, fix.match.light, frame if is_from_here else None))

    def _on_no_area(self) -> None:
        desk, fix = self.session.desk, self._fix()
        if fix is not None:
            self.session.commit(
                "Remove area for light", edits.change_matte, desk.shot_id, desk.fix_id, Slot.LIGHT_AREA, parts=()
            )

    def _show_curves(self, shot: Shot, fix: Fix, frame: int) -> None:
        """Show the light over the shot; it is looked for beside everything else."""
        session, findings = self.session, self.session.findings
        is_followed = fix.match.light.is_measured and isinstance(fix.fill, Plates) and bool(fix.fill.plate_ids)
        self.curves.setVisible(is_followed)
        found = findings.lights(shot, fix.id)
        is_taken = bool(fix.match.light.by_hand)
        self.by_hand_title.setVisible(is_followed)
        self.by_hand_title.setText(_taken_over(fix.match.light, shot) or "By hand from what was found")
        for button in (self.take_over, self.take_from):
            button.setVisible(is_followed and not is_taken)
            button.setEnabled(bool(found))
        self.found_again.setVisible(is_followed and is_taken)
        self.curves.show_found(found if found is not None else NOTHING, frame)
        key = measured_key(shot, fix.id)
        if not is_followed or found is not None or key == self._asked:
            return
        self._asked = key
        session.call_off("lights")

        def keep(lights: dict[int, Stops]) -> None:
            findings.keep_lights(key, lights)
            self._asked = None
            session.summary_changed.emit()

        def look(check: Callable[[], None]) -> dict[int, Stops]:
            return session.engine.lights_found(shot, fix, check)

        session.submit(("lights", key), Priority.IDLE, look, keep, lambda words: None)

    def _on_own_edge(self, is_on: bool) -> None:
        fix = self._fix()
        if fix is not None:
            self._set("Edge of its own", True, edge=fix.cover.softness if is_on else None)

    def _on_edge(self, final: bool, field: str, value: float) -> None:
        fix, frame = self._fix(), self.session.desk.frame
        if fix is not None and fix.match.edge is not None:
            new = changed_on(getattr(fix.match.edge, field), frame, value)
            self._set("Edge", final, edge=replace(fix.match.edge, **{field: new}))

    def _on_blur(self, value: float, final: bool) -> None:
        fix = self._fix()
        if fix is not None:
            new = changed_on(fix.match.sharpness_px or 0.0, self.session.desk.frame, value)
            self._set("Blur", final, sharpness_px=new)

    def _on_as_sharp(self, is_on: bool) -> None:
        self._set("As blurred as the frame" if is_on else "Blur by hand", True, sharpness_px=None if is_on else 0.0)

    def _fix(self) -> Fix | None:
        return self.session.desk.fix(self.session.project)

    def _set(self, label: str, final: bool, **fields: Any) -> None:
        desk = self.session.desk
        self.session.commit_while(label, final, edits.change_match, desk.shot_id, desk.fix_id, **fields)

    def _set_light(self, label: str, final: bool, **fields: Any) -> None:
        fix = self._fix()
        if fix is not None:
            self._set(label, final, light=replace(fix.match.light, **fields))

    def _on_grain(self, value: float, final: bool) -> None:
        fix = self._fix()
        if fix is not None:
            self._set("Grain", final, grain=replace(fix.match.grain, amount=value / 100))

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        lights = self.session.findings.lights(hand.shot, hand.fix.id) if hand.fix is not None else None
        return (*super().watched(hand), lights)

    def show_hand(self, hand: InHand) -> None:
        fix, frame = hand.fix, self.session.desk.frame
        self.light.setVisible(fix is None or not isinstance(fix.fill, Donors | Rim))
        for widget in (self.light, self.by_hand, self.grain, self.own_edge, self.joined, self.as_sharp, self.blur):
            widget.setEnabled(fix is not None)
        is_lit = fix is not None and not isinstance(fix.fill, Donors | Rim)
        self.area.setVisible(is_lit)
        self.no_area.setVisible(is_lit and fix is not None and bool(fix.light_area.parts))
        self.title.setText(fix.name if fix is not None else "Nothing to match yet")
        if fix is None:
            for label in (self.stops, self.found):
                label.setText("")
            return
        edge = fix.match.edge
        with QSignalBlocker(self.own_edge):
            self.own_edge.setChecked(edge is not None)
        for row, name in ((self.outwards, "outwards_px"), (self.inwards, "inwards_px")):
            row.setVisible(edge is not None)
            row.set_value(value_at(getattr(edge or fix.cover.softness, name), frame))
        with QSignalBlocker(self.joined), QSignalBlocker(self.as_sharp):
            self.joined.setChecked(fix.match.is_joined)
            self.as_sharp.setChecked(fix.match.sharpness_px is None)
        self.as_sharp.setVisible(not isinstance(fix.fill, Rim))
        self.blur.setVisible(fix.match.sharpness_px is not None)
        self.found_blur.setVisible(fix.match.sharpness_px is None and not isinstance(fix.fill, Rim))
        self.blur.set_value(value_at(fix.match.sharpness_px or 0.0, frame))
        self.light.setText("Light from an area" if fix.light_area.parts else "Light from around the cover")
        self._show_hands(fix.match.light, frame)
        self._show_curves(hand.shot, fix, frame)
        self.grain.set_value(value_at(fix.match.grain.amount, frame) * 100)
        with QSignalBlocker(self.light):
            self.light.setChecked(fix.match.light.is_measured)
        self._ask_facts(self.session, hand.shot, fix, frame)

    def _show_hands(self, light: LightMatch, frame: int) -> None:
        said = []
        for field, row in self.hands.items():
            keyed = getattr(light, field)
            row.set_value(value_at(keyed, frame))
            is_keyed = isinstance(keyed, Keys)
            with QSignalBlocker(self.keys[field]):
                self.keys[field].setChecked(is_keyed and any(key.frame == frame for key in keyed.keys))
            if keyed != getattr(LightMatch(), field):
                said.append(BY_HAND[field][0].lower() + (" keyed" if is_keyed else ""))
        self.by_hand.say(", ".join(said) or "none")

    def _ask_facts(self, session: Session, shot: Shot, fix: Fix, frame: int) -> None:
        session.call_off("facts")
        session.submit(
            ("facts", frame, shot, fix.id), Priority.NEIGHBOUR,
            lambda check: facts_of(session.engine, shot, fix, frame, check), partial(self._on_facts, frame),
        )  # fmt: skip

    def _on_facts(self, frame: int, facts: FrameFacts) -> None:
        if self.session.desk.frame != frame:
            return  # an answer for a frame that was left meanwhile is dropped
        fix = self._fix()
        if fix is not None and isinstance(fix.fill, Donors):
            self.stops.setText("Each frame that is taken from is lit by itself.")
        elif fix is not None and isinstance(fix.fill, Rim):
            self.stops.setText("It is grown from the frame itself, under its own light.")
        elif fix is not None and not is_lit_on(fix, frame):
            self.stops.setText("Light is set by hand alone here.")
        elif facts.stops is None:
            self.stops.setText("No light found on this frame.")
        else:
            red, green, blue = facts.stops
            self.stops.setText(f"Found here: red {red:+.2f}, green {green:+.2f}, blue {blue:+.2f} stops")
        self.found.setText(facts.grain)
        is_donors = fix is not None and isinstance(fix.fill, Donors)
        self.found_blur.setText("Told by the cover's surroundings on each frame." if is_donors else facts.blur)

    def advise(self, hand: InHand) -> Advised:
        if hand.fix is None:
            return Advised("There is no fix in hand. Cover something first.", "Go to Cover", "step_cover")
        state = self.state_of(hand.fix, Step.FILL)
        if state.state is not State.FINE:
            return Advised(state.words, "Go to Fill", "step_fill")
        return next_step(Step.MATCH, "Light and grain follow the shot.")
