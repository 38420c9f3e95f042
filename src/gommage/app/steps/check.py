"""The Check step: measurements, and where to look."""

from __future__ import annotations

from gommage.app.look.controls import NameLine, push_button, quiet, rule
from gommage.app.steps.page import Advised, InHand, Page
from gommage.core.check import FrameMeasures
from gommage.core.engine import State, Step

__all__ = ["CheckPage"]


class CheckPage(Page):
    """What a supervisor's eye would find."""

    def build(self) -> None:
        self.title = NameLine()
        self.run = push_button(
            "Measure all frames", lambda: self.call("measure"), primary=True, tip="Seam and flicker (Ctrl+M)"
        )
        self.worst = push_button("Go to the worst frame", lambda: self.call("worst_frame"), tip="Worst frame (G)")
        self.summary = quiet(name="Figures of the shot")
        self.figures = quiet(name="Figures here")
        hint = quiet(
            "Hold Q to flick to the plate. W holds the surface still. Shift+Q wipes between result and plate. "
            "Exposure below the picture looks into the blacks."
        )
        for widget in (self.title, self.run, self.summary, self.worst, self.figures, rule(), hint):
            self.box.addWidget(widget)

    def _measured(self, hand: InHand) -> tuple[FrameMeasures, ...]:
        return self.session.measures(hand.fix.id) if hand.fix is not None else ()

    def show_hand(self, hand: InHand) -> None:
        fix, measured = hand.fix, self._measured(hand)
        self.title.setText(fix.name if fix is not None else "Nothing to check yet")
        self.run.setEnabled(fix is not None and not self.work.is_busy)
        self.worst.setEnabled(bool(measured))
        if not measured:
            self.summary.setText("Not measured since the last change." if fix is not None else "")
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

    def advise(self, hand: InHand) -> Advised:
        if hand.fix is None:
            return Advised("There is no fix in hand. Cover something first.", "Go to Cover", "step_cover")
        advice = self.state_of(hand.fix, Step.CHECK)
        if advice.state is State.LOOK:
            return Advised(advice.words, "Go there", "worst_frame")
        if not self._measured(hand):
            words = "Measure seam and flicker on all frames, then look at the worst."
            return Advised(words, "", "measure", is_urgent=False)
        return Advised("Looks fine. Write the pictures.", "Render…", "render_shot", is_urgent=False)
