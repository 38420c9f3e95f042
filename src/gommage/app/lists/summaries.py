"""What cards and lines say of a shot: read from the session's summary, shown by lists that know nothing of it."""

from __future__ import annotations

from gommage.app.lists.rows import Row
from gommage.app.session import Session
from gommage.core.document import Fix, Frames, Shot, Surface
from gommage.core.engine import State, Step

__all__ = ["fix_row", "life_words", "surface_row"]


def life_words(frames: tuple[Frames, ...]) -> str:
    """Return in words on which frames something exists."""
    if not frames:
        return "all frames"
    return ", ".join(_range_words(one) for one in frames)


def _range_words(one: Frames) -> str:
    if one.first is None:
        return "all frames" if one.last is None else f"up to {one.last}"
    if one.last is None:
        return f"from {one.first} on"
    return str(one.first) if one.first == one.last else f"{one.first}–{one.last}"


def fix_row(session: Session, shot: Shot, fix: Fix) -> Row:
    """Return the card of a fix: its frames, what it rides on, its five marks, what comes next."""
    states = session.summary.steps.get(fix.id, {})
    marks = tuple((step, states[step]) for step in Step if step in states)
    following = next((step for step, advice in marks if advice.state is State.NOT_BEGUN), None)
    rides_on = shot.surface(fix.surface_id).name if fix.surface_id else "the picture"
    detail = f"{life_words(fix.frames)}, {rides_on}"
    return Row(fix.id, fix.name, detail, fix.is_on, marks, next_step=str(following or ""))


def surface_row(session: Session, surface: Surface) -> Row:
    """Return the line of a surface: its slip."""
    summary = session.surface_summary(surface.id)
    if summary is None:
        return Row(surface.id, surface.name, "")
    return Row(surface.id, surface.name, summary.words, needs_look=summary.needs_look)
