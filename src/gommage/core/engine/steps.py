"""How far each fix is, and why something does not work yet: in words, with what mends it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType

import numpy as np

from gommage.core.check import FrameMeasures
from gommage.core.document import (
    Borrow,
    CleanPlate,
    Donors,
    Drawn,
    Fix,
    Frames,
    FromPicture,
    Merged,
    Placed,
    Plates,
    Rim,
    Shot,
    Span,
    Texture,
    mappings_of,
    placement,
)
from gommage.core.engine.doubts import doubts_of
from gommage.core.fill import usable_plates

__all__ = ["Advice", "State", "Step", "is_of_lines", "steps_of"]

SLIP_TO_LOOK_AT_PX = 0.5
SEAM_TO_LOOK_AT_PERCENT = 3.0
SEEN_ENOUGH = 0.999
BY_THEMSELVES: dict[type, str] = {
    Borrow: "Filled from beside, or from another frame.",
    Rim: "Grown in from around the cover, on each frame.",
    Span: "Each line is closed from its sides, on each frame.",
    Texture: "Closed with matching pieces of one frame, carried along.",
}
"""What is told of fills that need no more than a cover."""
NOT_LOOKED: Mapping[int, float] = MappingProxyType({})


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


def steps_of(
    shot: Shot, fix: Fix, measured: tuple[FrameMeasures, ...] = (), seen: Mapping[int, float] = NOT_LOOKED
) -> dict[Step, Advice]:
    """Return the state of a fix's five steps.

    Parameters
    ----------
    shot : Shot
    fix : Fix
    measured : tuple of FrameMeasures
        Its figures, as far as they were measured.
    seen : mapping of int to float
        How much of its cover donors show on each frame, as far as that was looked at.
    """
    follow = _follow(shot, fix)
    cover = _cover(shot, fix)
    fill = _from_donors(shot, fix, fix.fill, seen) if isinstance(fix.fill, Donors) else _fill(shot, fix)
    is_painted = bool(fix.touch_up.strokes) and not fix.cover.parts
    if is_painted:  # the fix is its strokes
        cover = Advice(State.FINE, "Strokes need no cover.")
        fill = _laid(shot, fix)
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
    if not fix.surface_id:
        return Advice(State.FINE, "Stays put in the picture: nothing has to be followed.")
    surface = shot.surface(fix.surface_id)
    placed = placement(shot, surface)
    if placed is None:
        return Advice(State.NOT_BEGUN, f"{surface.name} has not been followed yet.")
    slip = np.where(placed.is_placed_rows, placed.slip_px, 0)
    if (slip > SLIP_TO_LOOK_AT_PX).any():
        row = int(np.argmax(slip))
        frame, why = placed.frames.first + row, f": {placed.reasons[row]}" if placed.reasons[row] else ""
        return Advice(State.LOOK, f"{surface.name} may be off by {slip.max():.1f} px on frame {frame}{why}.", frame)
    wanted = [one for frames in fix.frames if (one := frames.within(shot.footage.frames)) is not None]
    first = min((one.first for one in wanted), default=shot.footage.frames.first)
    last = max((one.last for one in wanted), default=shot.footage.frames.last)
    if placed.frames.last < last:
        end = placed.frames.last
        reason = f": {placed.after}" if placed.after else ""
        return Advice(State.LOOK, f"{surface.name} is followed up to frame {end} only{reason}.", end)
    if placed.frames.first > first:
        start = placed.frames.first
        reason = f": {placed.before}" if placed.before else ""
        return Advice(State.LOOK, f"{surface.name} is followed from frame {start} on only{reason}.", start)
    return Advice(State.FINE, f"May be off by {slip.max():.2f} px at most.")


def _cover(shot: Shot, fix: Fix) -> Advice:
    if not fix.cover.parts:
        return Advice(State.NOT_BEGUN, "Draw round the thing, a few pixels larger than it is.")
    doubt = next(doubts_of(shot, fix), None)
    if doubt is not None:
        return Advice(State.LOOK, *doubt)
    return Advice(State.FINE)


def _fill(shot: Shot, fix: Fix) -> Advice:
    if isinstance(fix.fill, Placed):
        light = "lit and softened as what is around it" if fix.fill.is_of_shot else "lit by hand in Match"
        return Advice(State.FINE, f"A picture lies there, {light}.")
    if type(fix.fill) in BY_THEMSELVES:
        return Advice(State.FINE, BY_THEMSELVES[type(fix.fill)])
    if not isinstance(fix.fill, Plates) or not fix.fill.plate_ids:
        return Advice(
            State.NOT_BEGUN,
            "There is nothing to fill the cover with yet. Make a clean plate from a good frame.",
        )
    plates = usable_plates(shot, fix.fill)
    if not plates:
        return Advice(State.LOOK, "The clean plate's home frame is not followed any more. Follow the surface to it.")
    if not any(plate.painting.strokes or isinstance(plate.base, FromPicture | Merged) for plate in plates):
        return Advice(
            State.LOOK,
            "The clean plate is still as it was shot: paint the thing out of it.",
            plates[0].home_frame,
        )
    return Advice(State.FINE)


def _from_donors(shot: Shot, fix: Fix, fill: Donors, seen: Mapping[int, float]) -> Advice:
    """Return whether the surfaces are followed, and whether every pixel is seen on some frame."""
    for surface_id in fill.surface_ids:
        surface = shot.surface(surface_id)
        if placement(shot, surface) is None:
            return Advice(State.LOOK, f"{surface.name}, which lies behind it, has not been followed yet.")
    worst = min(seen, key=lambda frame: seen[frame], default=None)
    if worst is not None and seen[worst] < SEEN_ENOUGH and is_of_lines(fix) and not fill.rest_plate_ids:
        return Advice(State.FINE, "What no frame shows of these lines is closed from both sides.")
    if worst is not None and seen[worst] < SEEN_ENOUGH and not fill.rest_plate_ids:
        frames = sum(share < SEEN_ENOUGH for share in seen.values())
        hidden = 100 * (1 - seen[worst])
        words = f"No frame shows {max(hidden, 0.1):.{hidden < 1:d}f} % of what it hides on {worst}"
        return Advice(State.LOOK, f"{words}; so on {frames} frames." if frames > 1 else f"{words}.", worst)
    bare = next((one for one in map(shot.clean_plate, fill.rest_plate_ids) if _is_bare(one)), None)
    if bare is not None and worst is not None and seen[worst] < SEEN_ENOUGH:
        return Advice(State.LOOK, f"Paint what no frame shows on {bare.name}; it is striped there.", bare.home_frame)
    return Advice(State.FINE)


def is_of_lines(fix: Fix) -> bool:
    """Return whether a cover is open lines alone, of which what no frame shows is closed from both sides."""
    parts = fix.cover.parts
    return bool(parts) and all(isinstance(one.source, Drawn) and not one.source.shape.is_closed for one in parts)


def _is_bare(plate: CleanPlate) -> bool:
    """Return whether nothing was painted on a merged plate."""
    return isinstance(plate.base, Merged) and plate.rest is None and not plate.painting.strokes


def _laid(shot: Shot, fix: Fix) -> Advice:
    """Return whether all strokes lie on the frames on which they are to live."""
    mapping, frames = mappings_of(shot), shot.footage.frames
    for number, stroke in enumerate(fix.touch_up.strokes, 1):
        if not stroke.is_on or not stroke.surface_id:
            continue
        lives = [within for one in stroke.frames or (Frames(),) if (within := one.within(frames)) is not None]
        for one in lives:
            lost = next((frame for frame in (one.first, one.last) if mapping(stroke.surface_id, frame) is None), None)
            if lost is not None:
                name = shot.surface(stroke.surface_id).name
                return Advice(State.LOOK, f"Stroke {number} rides on {name}, which is not followed to {lost}.", lost)
    return Advice(State.FINE)


def _check(measured: tuple[FrameMeasures, ...]) -> Advice:
    if not measured:
        return Advice(State.NOT_BEGUN, "Not measured yet.")
    worst = max(measured, key=lambda one: one.worst)
    if worst.worst > SEAM_TO_LOOK_AT_PERCENT:
        kind = "seam" if worst.seam_percent >= worst.flicker_percent else "flicker"
        return Advice(State.LOOK, f"Worst is the {kind} on frame {worst.frame}: {worst.worst:.1f} %.", worst.frame)
    return Advice(State.FINE, f"Worst is frame {worst.frame} with {worst.worst:.1f} %.", worst.frame)
