"""What the cards and the strip say of a shot: read from the session, shown by widgets that know nothing of it."""

from __future__ import annotations

from gommage.app.cards import Row
from gommage.app.session import Session
from gommage.app.strip import StripData
from gommage.core.document import Fix, Shot, Still, Surface
from gommage.core.engine import Step, steps_of
from gommage.core.engine.steps import SLIP_TO_LOOK_AT_PX

__all__ = ["fix_row", "strip_data", "surface_row"]


def fix_row(session: Session, shot: Shot, fix: Fix) -> Row:
    """Return the card of a fix: its frames, what it rides on, its five marks."""
    states = steps_of(shot, fix, session.measures(fix.id))
    life = f"{fix.frames.first}–{fix.frames.last}" if fix.frames else "all frames"
    return Row(fix.id, fix.name, f"{life}, {shot.surface(fix.surface_id).name}", fix.is_on,
               tuple(states[step].state for step in Step))  # fmt: skip


def surface_row(session: Session, surface: Surface) -> Row:
    """Return the line of a surface: its slip."""
    placed = session.placed(surface)
    if placed is None:
        return Row(surface.id, surface.name, "not followed")
    if isinstance(surface.how, Still):
        return Row(surface.id, surface.name, "still")
    slip = max((s for f, s in zip(placed.frames, placed.slip_px, strict=True) if placed.is_placed(f)), default=0.0)
    return Row(surface.id, surface.name, f"slip {slip:.2f} px", needs_look=slip > SLIP_TO_LOOK_AT_PX)


def strip_data(session: Session) -> StripData:
    """Return what the frame strip shows of the surface and the fix in hand."""
    desk, project = session.desk, session.project
    shot = desk.shot(project)
    if shot is None:
        return StripData()
    frames = shot.footage.frames
    surface, fix = desk.surface(project), desk.fix(project)
    placed = session.placed(surface) if surface is not None else None
    sure: dict[int, float] = {}
    slips: dict[int, float] = {}
    reasons: dict[int, str] = {}
    if placed is not None:
        columns = placed.frames, placed.slip_px.tolist(), placed.certainty.values.tolist(), placed.reasons
        for frame, slip, certainty, reason in zip(*columns, strict=True):
            if placed.is_placed(frame):
                slips[frame], reasons[frame] = slip, reason
                sure[frame] = certainty / (1 + (slip / SLIP_TO_LOOK_AT_PX) ** 2)
    amber = [frame for frame, slip in slips.items() if slip > SLIP_TO_LOOK_AT_PX]
    homes = (surface.home_frame,) if surface is not None else ()
    life = (fix.frames or frames) if fix is not None else None
    return StripData(
        frames.first,
        frames.last,
        frozenset(shot.footage.missing),
        sure,
        frozenset(amber),
        tuple(key.frame for shape in fix.cover.shapes for key in shape.keys) if fix is not None else (),
        homes,
        {plate.home_frame: len(plate.strokes) for plate in shot.clean_plates if plate.strokes},
        {one.frame: one.worst for one in session.measures(fix.id)} if fix is not None else {},
        (life.first, life.last) if life is not None else None,
        slips,
        reasons,
        tuple(pin.frame for pin in surface.pins) if surface is not None else (),
        desk.marked,
    )
