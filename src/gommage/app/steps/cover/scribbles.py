"""What scribbles still need, in words."""

from __future__ import annotations

from gommage.app.session import Session
from gommage.app.steps.page import Advised, next_step
from gommage.app.strip.lanes.drift import DRIFT_TO_LOOK_AT
from gommage.core.document import Scribbled
from gommage.core.engine import Step

__all__ = ["advise_on_scribbles"]


def advise_on_scribbles(session: Session, part_id: str, source: Scribbled) -> Advised:
    """Return what a part of scribbles needs: the other kind, to be carried, another stroke where they drifted."""
    if {mark.is_inside for mark in source.marks} != {True, False}:
        other = "outside it, with Alt" if source.marks and source.marks[0].is_inside else "inside it"
        return Advised(f"Scribble {other}, on the same frame.", is_urgent=False)
    drifts = session.drift(part_id)
    if not drifts:
        words = "The scribbles make a matte on their frames; it is carried to the others."
        return Advised(words, "Carry over all frames", "carry_scribbles", is_urgent=False)
    worst = max(drifts, key=lambda frame: drifts[frame])
    if drifts[worst] > DRIFT_TO_LOOK_AT:
        words = f"On frame {worst} the edge was moved most; scribble there if it is wrong."
        return Advised(words, f"Go to {worst}", lambda: session.go_to(worst))
    return next_step(Step.COVER, f"Carried over {len(drifts)} frames.")
