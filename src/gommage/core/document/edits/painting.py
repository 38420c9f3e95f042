"""Edits of paintings: those of clean plates, and the touch-ups of fixes."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

from gommage.core.document.arrays import Array
from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_what_is_there, swapped
from gommage.core.document.records import CleanPlate, Fix, Group, Painting, Project, Shot, Source, Stroke
from gommage.errors import EditError

__all__ = [
    "add_stroke",
    "add_strokes",
    "change_brush",
    "change_group",
    "change_sources",
    "change_strokes",
    "group_strokes",
    "move_stroke",
    "place_strokes",
    "remove_strokes",
    "ungroup_strokes",
]


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


def add_stroke(project: Project, shot_id: str, holder_id: str, stroke: Stroke) -> Project:
    """Return the project with one more stroke, above the others."""

    def change(painting: Painting) -> Painting:
        refuse_what_is_there(painting.strokes, stroke, "stroke")
        return changed(painting, strokes=(*painting.strokes, stroke))

    return _in_painting(project, shot_id, holder_id, change)


def add_strokes(project: Project, shot_id: str, holder_id: str, strokes: Collection[Stroke]) -> Project:
    """Return the project with more strokes, in their order above the others."""
    for stroke in strokes:
        project = add_stroke(project, shot_id, holder_id, stroke)
    return project


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


def change_sources(
    project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str], **fields: Any
) -> Project:
    """Return the project with fields of some strokes' sources changed, all alike."""
    return _each(
        project, shot_id, holder_id, stroke_ids,
        lambda stroke: changed(stroke, source=changed(stroke.source, **fields)),
    )  # fmt: skip


def place_strokes(
    project: Project,
    shot_id: str,
    holder_id: str,
    places: Mapping[str, Array],
    sources: Mapping[str, Source] | None = None,
    surfaces: Mapping[str, str] | None = None,
) -> Project:
    """Return the project with strokes somewhere else.

    Parameters
    ----------
    project : Project
    shot_id, holder_id : str
        The shot, and the clean plate or fix whose strokes they are.
    places : mapping of str to Array
        The new points (N, 3) of strokes, by id.
    sources : mapping of str to Source, optional
        New sources of some of them.
    surfaces : mapping of str to str, optional
        What some of them ride on from now on.

    Raises
    ------
    EditError
        If there is no such stroke, or it cannot have these points.
    """

    def moved(stroke: Stroke) -> Stroke:
        return changed(
            stroke,
            points=places[stroke.id],
            source=(sources or {}).get(stroke.id, stroke.source),
            surface_id=(surfaces or {}).get(stroke.id, stroke.surface_id),
        )

    return _each(project, shot_id, holder_id, places, moved)


def group_strokes(project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str], group: Group) -> Project:
    """Return the project with strokes in a new group; groups that are left empty go."""

    def change(painting: Painting) -> Painting:
        refuse_what_is_there(painting.groups, group, "group")
        return changed(painting, groups=(*painting.groups, group))

    project = _in_painting(project, shot_id, holder_id, change)
    project = change_strokes(project, shot_id, holder_id, stroke_ids, group_id=group.id)
    return _in_painting(project, shot_id, holder_id, _without_empty_groups)


def ungroup_strokes(project: Project, shot_id: str, holder_id: str, stroke_ids: Collection[str]) -> Project:
    """Return the project with strokes in no group; groups that are left empty go."""
    project = change_strokes(project, shot_id, holder_id, stroke_ids, group_id="")
    return _in_painting(project, shot_id, holder_id, _without_empty_groups)


def change_group(project: Project, shot_id: str, holder_id: str, group_id: str, **fields: Any) -> Project:
    """Return the project with fields of a group changed: name, switch, opacity, frames."""

    def change(painting: Painting) -> Painting:
        group = next((one for one in painting.groups if one.id == group_id), None)
        if group is None:
            raise EditError("There is no such group in this painting any more.")
        return changed(painting, groups=swapped(painting.groups, changed(group, **fields)))

    return _in_painting(project, shot_id, holder_id, change)


def _without_empty_groups(painting: Painting) -> Painting:
    used = {stroke.group_id for stroke in painting.strokes}
    return changed(painting, groups=tuple(group for group in painting.groups if group.id in used))


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
        left = tuple(one for one in painting.strokes if one.id not in stroke_ids)
        return _without_empty_groups(changed(painting, strokes=left))

    return _in_painting(project, shot_id, holder_id, change)
