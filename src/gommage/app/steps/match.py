"""The Match step: light and grain."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox

from gommage.app.look.controls import NameLine, ValueRow, quiet, rule
from gommage.app.session import Session
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import Fix, GrainMatch, LightMatch, Shot, edits, value_at
from gommage.core.engine import Engine, Priority, State, Step

__all__ = ["FrameFacts", "MatchPage"]


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
        self.title = NameLine()
        self.edge = quiet(name="Edge")
        self.light = QCheckBox("Light from around the cover")
        self.light.setAccessibleName("Match light")
        self.light.setToolTip("Brightness and colour follow the pixels around the cover, frame by frame")
        self.stops = quiet(name="Light found")
        self.brighten = ValueRow("Brighten by hand", -2, 2, "stops", 2, tip="On top of the light that was found")
        self.grain = ValueRow("Grain", 0, 200, "%", tip="Of the grain that was measured on the shot")
        self.found = quiet(name="Grain found")
        for widget in (self.title, self.edge, rule(), self.light, self.stops, self.brighten, rule(), self.grain,
                       self.found):  # fmt: skip
            self.box.addWidget(widget)
        self.light.toggled.connect(lambda on: self._set_light("Match light", True, is_measured=on))
        self.brighten.value_changed.connect(lambda v, final: self._set_light("Brighten", final, exposure_stops=v))
        self.grain.value_changed.connect(self._on_grain)

    def _fix(self) -> Fix | None:
        return self.session.desk.fix(self.session.project)

    def _set(self, label: str, final: bool, **fields: LightMatch | GrainMatch) -> None:
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

    def show_hand(self, hand: InHand) -> None:
        fix, frame = hand.fix, self.session.desk.frame
        for widget in (self.light, self.brighten, self.grain):
            widget.setEnabled(fix is not None)
        self.title.setText(fix.name if fix is not None else "Nothing to match yet")
        if fix is None:
            for label in (self.edge, self.stops, self.found):
                label.setText("")
            return
        soft = value_at(fix.cover.softness.outwards_px, frame)
        self.edge.setText(f"Edge: {soft:.0f} px soft, as the cover says (2).")
        self.brighten.set_value(value_at(fix.match.light.exposure_stops, frame))
        self.grain.set_value(value_at(fix.match.grain.amount, frame) * 100)
        with QSignalBlocker(self.light):
            self.light.setChecked(fix.match.light.is_measured)
        self._ask_facts(self.session, hand.shot, fix, frame)

    def _ask_facts(self, session: Session, shot: Shot, fix: Fix, frame: int) -> None:
        session.call_off("facts")
        session.submit(
            ("facts", frame, shot, fix.id), Priority.NEIGHBOUR,
            lambda check: facts_of(session.engine, shot, fix, frame, check), partial(self._on_facts, frame),
        )  # fmt: skip

    def _on_facts(self, frame: int, facts: FrameFacts) -> None:
        if self.session.desk.frame != frame:
            return  # an answer for a frame that was left meanwhile is dropped
        if facts.stops is None:
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
