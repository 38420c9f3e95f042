"""Edits of paintings: those of clean plates, and the touch-ups of fixes."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_what_is_there, swapped
from gommage.core.document.records import CleanPlate, Fix, Painting, Project, Shot, Stroke
from gommage.errors import EditError

__all__ = ["add_stroke", "change_brush", "change_painting", "change_strokes", "move_stroke", "remove_strokes"]


def _in_painting(project: Project, shot_id: str, holder_id: str, change: Callable[[Painting], Painting]) -> Project:
    def of_shot(shot: Shot) -> Shot:
        for items, field in (("clean_plates", "painting"), ("fixes", "touch_up")):
            holders: tuple[CleanPlate | Fix, ...] = getattr(shot, items)
            for holder in holders:
                if holder.id == holder_id:
                    painted = changed(holder, **{field: change(getattr(holder, field))})
                    return changed(shot, **{items: swapped(holders, painted)})
        raise KeyError(holder_id)

    return in_shot(project, shot_id, of_shot)


def change_painting(project: Project, shot_id: str, holder_id: str, **fields: Any) -> Project:
    """Return the project with fields of a painting changed (groups)."""
    return _in_painting(project, shot_id, holder_id, lambda painting: changed(painting, **fields))


def add_stroke(project: Project, shot_id: str, holder_id: str, stroke: Stroke) -> Project:
    """Return the project with one more stroke, above the others."""

    def change(painting: Painting) -> Painting:
        refuse_what_is_there(painting.strokes, stroke, "stroke")
        return changed(painting, strokes=(*painting.strokes, stroke))

    return _in_painting(project, shot_id, holder_id, change)


def change_strokes(
    project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str], **fields: Any
) -> Project:
    """Return the project with fields of some strokes changed, all alike."""
    return _each(project, shot_id, holder_id, stroke_ids, lambda stroke: changed(stroke, **fields))


def change_brush(project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str], **fields: Any) -> Project:
    """Return the project with fields of some strokes' brushes changed, all alike."""
    return _each(
        project, shot_id, holder_id, stroke_ids,
        lambda stroke: changed(stroke, brush=changed(stroke.brush, **fields)),
    )  # fmt: skip


def _each(
    project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str], change: Callable[[Stroke], Stroke]
) -> Project:
    def of_painting(painting: Painting) -> Painting:
        _refuse_unknown(painting, stroke_ids)
        return changed(
            painting,
            strokes=tuple(change(stroke) if stroke.id in stroke_ids else stroke for stroke in painting.strokes),
        )

    return _in_painting(project, shot_id, holder_id, of_painting)


def _refuse_unknown(painting: Painting, stroke_ids: Collection[str]) -> None:
    known = {stroke.id for stroke in painting.strokes}
    missing = [stroke_id for stroke_id in stroke_ids if stroke_id not in known]
    if missing:
        raise EditError(f"There is no stroke {missing[0]!r} in this painting any more.")


def move_stroke(project: Project, shot_id: str, holder_id: str, stroke_id: str, index: int) -> Project:
    """Return the project with a stroke at another place in its painting's order (0 is laid first)."""

    def change(painting: Painting) -> Painting:
        return changed(painting, strokes=moved_to(painting.strokes, stroke_id, index))

    return _in_painting(project, shot_id, holder_id, change)


def remove_strokes(project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str]) -> Project:
    """Return the project without some strokes."""

    def change(painting: Painting) -> Painting:
        _refuse_unknown(painting, stroke_ids)
        return changed(painting, strokes=tuple(one for one in painting.strokes if one.id not in stroke_ids))

    return _in_painting(project, shot_id, holder_id, change)
