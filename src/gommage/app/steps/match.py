"""The Match step: light and grain."""

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
from gommage.app.look.controls import NameLine, Section, ValueRow, push_button, quiet, rule, tool_button
from gommage.app.session import Session
from gommage.app.steps.curves import NOTHING, LightCurves
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import Donors, Fix, Keyed, Keys, LightMatch, Plates, Shot, edits, value_at, with_key
from gommage.core.engine import Engine, Priority, State, Step
from gommage.core.match import Stops, by_hand

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


def _changed_on(keyed: Keyed, frame: int, value: float) -> Keyed:
    """Return a number changed by hand: what is keyed gets a key on the frame."""
    return with_key(keyed, frame, value) if isinstance(keyed, Keys) else value


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What the engine found on the frame in hand: the light's stops (or None), the grain in words."""

    stops: tuple[float, float, float] | None = None
    grain: str = ""


def facts_of(engine: Engine, shot: Shot, fix: Fix, frame: int, check: Callable[[], None]) -> FrameFacts:
    """Return the light and grain that the match found on a frame; a job's work."""
    patch = engine.patch(shot, fix, frame, check)
    grain = engine.grain(shot, shot.surface(fix.surface_id), check) if fix.surface_id else None
    words = "Grain could not be measured; follow some frames first."
    if grain is not None:
        grey = float(grain.deviation(np.full((1, 3), 0.18, np.float32)).mean()) / 0.18
        words = f"Measured on the surface: {100 * grey:.1f} % at middle grey, {grain.size_px:.2f} px"
    stops = patch.light.stops if patch is not None and patch.light.trusted else None
    return FrameFacts(stops, words)


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
        self.light = QCheckBox("Light from around the cover")
        self.light.setAccessibleName("Match light")
        self.light.setToolTip("Brightness and colour follow the pixels around the cover, frame by frame")
        self.stops = quiet(name="Light found")
        self.curves = LightCurves()
        self.take_over = push_button(
            "By hand from what was found", self._on_take_over,
            tip="Keyed exposure, temperature and tint in place of what is found, to be changed by hand",
        )  # fmt: skip
        self.by_hand = Section("Light by hand", is_folded=True)
        self.hands: dict[str, ValueRow] = {}
        self.keys: dict[str, QToolButton] = {}
        for field, (name, low, high, unit, decimals, tip) in BY_HAND.items():
            self._add_hand(field, ValueRow(name, low, high, unit, decimals, tip=tip))
        self.grain = ValueRow("Grain", 0, 200, "%", tip="Of the grain that was measured on the shot")
        self.found = quiet(name="Grain found")
        self.blur = ValueRow("Blur", 0, 8, "px", 1, tip="Put on the new pixels where they are sharper than the frame")
        light = (self.light, self.stops, self.curves, self.take_over, self.by_hand)
        edge = (self.title, self.own_edge, self.outwards, self.inwards)
        for widget in (*edge, rule(), *light, rule(), self.grain, self.found, self.blur):
            self.box.addWidget(widget)
        self.own_edge.toggled.connect(self._on_own_edge)
        self.outwards.value_changed.connect(lambda value, final: self._on_edge(final, "outwards_px", value))
        self.inwards.value_changed.connect(lambda value, final: self._on_edge(final, "inwards_px", value))
        self.blur.value_changed.connect(self._on_blur)
        self.light.toggled.connect(lambda on: self._set_light("Match light", True, is_measured=on))
        self.grain.value_changed.connect(self._on_grain)

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
        new = _changed_on(getattr(fix.match.light, field), frame, value)
        self._set_light(BY_HAND[field][0], final, **{field: new})

    def _on_key(self, field: str) -> None:
        """Begin to key a number here, set a key here, or take the key here away."""
        fix, frame = self._fix(), self.session.desk.frame
        if fix is not None:
            now = getattr(fix.match.light, field)
            self._set_light(f"Key {BY_HAND[field][0].lower()}", True, **{field: toggled_key(now, frame)})

    def _on_take_over(self) -> None:
        """Make keys of the light that was found, and follow it no more."""
        fix = self._fix()
        found = self.session.findings.lights(self.session.shot, fix.id) if fix is not None else None
        if fix is not None and found:
            self._set("Light by hand", True, light=by_hand(found, fix.match.light))

    def _show_curves(self, shot: Shot, fix: Fix, frame: int) -> None:
        """Show the light over the shot; it is looked for beside everything else."""
        session, findings = self.session, self.session.findings
        is_followed = fix.match.light.is_measured and isinstance(fix.fill, Plates) and bool(fix.fill.plate_ids)
        self.curves.setVisible(is_followed)
        self.take_over.setVisible(is_followed)
        found = findings.lights(shot, fix.id)
        self.take_over.setEnabled(bool(found))
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
            new = _changed_on(getattr(fix.match.edge, field), frame, value)
            self._set("Edge", final, edge=replace(fix.match.edge, **{field: new}))

    def _on_blur(self, value: float, final: bool) -> None:
        fix = self._fix()
        if fix is not None:
            new = _changed_on(fix.match.sharpness_px or 0.0, self.session.desk.frame, value)
            self._set("Blur", final, sharpness_px=new or None)

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
        self.light.setVisible(fix is None or not isinstance(fix.fill, Donors))
        for widget in (self.light, self.by_hand, self.grain, self.own_edge, self.blur):
            widget.setEnabled(fix is not None)
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
        self.blur.set_value(value_at(fix.match.sharpness_px or 0.0, frame))
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
        elif fix is not None and not fix.match.light.is_measured:
            self.stops.setText("Light is set by hand alone.")
        elif facts.stops is None:
            self.stops.setText("No light found on this frame.")
        else:
            red, green, blue = facts.stops
            self.stops.setText(f"Found here: red {red:+.2f}, green {green:+.2f}, blue {blue:+.2f} stops")
        self.found.setText(facts.grain)

    def advise(self, hand: InHand) -> Advised:
        if hand.fix is None:
            return Advised("There is no fix in hand. Cover something first.", "Go to Cover", "step_cover")
        state = self.state_of(hand.fix, Step.FILL)
        if state.state is not State.FINE:
            return Advised(state.words, "Go to Fill", "step_fill")
        return next_step(Step.MATCH, "Light and grain follow the shot.")
