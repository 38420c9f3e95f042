"""How far each fix is, and why something does not work yet: in words, with what mends it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from gommage.core.check import FrameMeasures
from gommage.core.cover import outline
from gommage.core.document import Fix, Shot, placement
from gommage.core.engine.evaluate import plates_of

__all__ = ["Advice", "State", "Step", "steps_of"]

SLIP_TO_LOOK_AT_PX = 0.5
SEAM_TO_LOOK_AT_PERCENT = 3.0


class Step(StrEnum):
    """The steps of a fix."""

    FOLLOW = "Follow"
    COVER = "Cover"
    FILL = "Fill"
    MATCH = "Match"
    CHECK = "Check"


class State(StrEnum):
    """How far a step is."""

    NOT_BEGUN = "not begun"
    FINE = "fine"
    LOOK = "look here"


@dataclass(frozen=True, slots=True)
class Advice:
    """The state of one step, and a sentence if something is to be said.

    Attributes
    ----------
    frame : int or None
        Where to look.
    """

    state: State
    words: str = ""
    frame: int | None = None


def steps_of(shot: Shot, fix: Fix, measured: tuple[FrameMeasures, ...] = ()) -> dict[Step, Advice]:
    """Return the state of a fix's five steps."""
    follow = _follow(shot, fix)
    cover = _cover(shot, fix)
    fill = _fill(shot, fix)
    begun = cover.state is not State.NOT_BEGUN and fill.state is not State.NOT_BEGUN
    match = Advice(State.FINE if begun else State.NOT_BEGUN)
    return {
        Step.FOLLOW: follow,
        Step.COVER: cover,
        Step.FILL: fill,
        Step.MATCH: match,
        Step.CHECK: _check(measured),
    }


def _follow(shot: Shot, fix: Fix) -> Advice:
    surface = shot.surface(fix.surface_id)
    track = placement(shot, surface)
    if track is None:
        return Advice(State.NOT_BEGUN, f"{surface.name} has not been followed yet.")
    wanted = fix.frames or shot.footage.frames
    slip = np.where([track.is_placed(frame) for frame in track.frames], track.slip_px, 0)
    if (slip > SLIP_TO_LOOK_AT_PX).any():
        row = int(np.argmax(slip))
        frame, why = track.first_frame + row, f": {track.reasons[row]}" if track.reasons[row] else ""
        return Advice(State.LOOK, f"{surface.name} may be off by {slip.max():.1f} px on frame {frame}{why}.", frame)
    if track.frames.last < wanted.last:
        end = track.frames.last
        reason = f": {track.after}" if track.after else ""
        return Advice(State.LOOK, f"{surface.name} is followed up to frame {end} only{reason}.", end)
    if track.frames.first > wanted.first:
        start = track.frames.first
        reason = f": {track.before}" if track.before else ""
        return Advice(State.LOOK, f"{surface.name} is followed from frame {start} on only{reason}.", start)
    return Advice(State.FINE, f"May be off by {slip.max():.2f} px at most.")


def _cover(shot: Shot, fix: Fix) -> Advice:
    if not fix.cover.shapes:
        return Advice(State.NOT_BEGUN, "Draw round the thing, a few pixels larger than it is.")
    surface = shot.surface(fix.surface_id)
    area = surface.outline
    drawn = np.vstack([outline(s.keys[0].points.values, is_smooth=s.is_smooth) for s in fix.cover.shapes])
    if (drawn.min(axis=0) < area.min(axis=0) - 1).any() or (drawn.max(axis=0) > area.max(axis=0) + 1).any():
        return Advice(
            State.LOOK,
            f"The cover reaches beyond the area of {surface.name}; what was not followed may not fit there.",
        )
    return Advice(State.FINE)


def _fill(shot: Shot, fix: Fix) -> Advice:
    if not fix.fill.plate_ids:
        return Advice(
            State.NOT_BEGUN,
            "There is nothing to fill the cover with yet. Make a clean plate from a good frame.",
        )
    plates = plates_of(shot, fix)
    if not plates:
        return Advice(State.LOOK, "The clean plate's home frame is not followed any more. Follow the surface to it.")
    if not any(plate.strokes or plate.picture for plate in plates):
        return Advice(
            State.LOOK,
            "The clean plate is still as it was shot: paint the thing out of it.",
            plates[0].home_frame,
        )
    return Advice(State.FINE)


def _check(measured: tuple[FrameMeasures, ...]) -> Advice:
    if not measured:
        return Advice(State.NOT_BEGUN, "Not measured yet.")
    worst = max(measured, key=lambda one: one.worst)
    if worst.worst > SEAM_TO_LOOK_AT_PERCENT:
        kind = "seam" if worst.seam_percent >= worst.flicker_percent else "flicker"
        return Advice(State.LOOK, f"Worst is the {kind} on frame {worst.frame}: {worst.worst:.1f} %.", worst.frame)
    return Advice(State.FINE, f"Worst is frame {worst.frame} with {worst.worst:.1f} %.", worst.frame)
