"""Edits of mattes, their parts and shapes; the same for covers, hold-outs, areas, keep-outs and all others."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from enum import StrEnum
from typing import Any

from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_what_is_there, swapped, without
from gommage.core.document.records import (
    Drawn,
    Fix,
    Matte,
    MattePart,
    PlaneFollow,
    Project,
    Shape,
    SharedMatte,
    Shot,
    Surface,
)
from gommage.errors import EditError

__all__ = [
    "OF_FILL",
    "Slot",
    "add_part",
    "change_matte",
    "change_part",
    "in_shape",
    "matte_in",
    "move_part",
    "remove_part",
    "slot_of",
]

Holder = Fix | Surface | SharedMatte


class Slot(StrEnum):
    """Which of its holder's mattes."""

    COVER = "cover"
    HOLD_OUTS = "hold_outs"
    LIGHT_AREA = "light_area"
    AREAS = "areas"
    KEEP_OUTS = "keep_outs"
    EXTENT = "extent"
    GUIDES = "guides"
    TAKE_FROM = "take_from"
    SUBJECT = "subject"
    SHARED = "matte"


SAID_AS = {
    Slot.COVER: "cover",
    Slot.HOLD_OUTS: "hold-outs",
    Slot.LIGHT_AREA: "area for light",
    Slot.AREAS: "areas",
    Slot.KEEP_OUTS: "keep-outs",
    Slot.EXTENT: "extent",
    Slot.GUIDES: "guide lines",
    Slot.TAKE_FROM: "areas to take from",
    Slot.SUBJECT: "subject",
    Slot.SHARED: "matte",
}
OF_FOLLOW, OF_FILL = (Slot.AREAS, Slot.KEEP_OUTS), (Slot.GUIDES, Slot.TAKE_FROM, Slot.SUBJECT)
"""Mattes that belong to how a surface is followed, and to how a fix is filled."""
SLOTS: dict[type, tuple[Slot, ...]] = {
    Fix: (Slot.COVER, Slot.HOLD_OUTS, Slot.LIGHT_AREA, Slot.GUIDES, Slot.TAKE_FROM, Slot.SUBJECT),
    Surface: (Slot.AREAS, Slot.KEEP_OUTS, Slot.EXTENT),
    SharedMatte: (Slot.SHARED,),
}


def _get(holder: Holder, slot: Slot) -> Matte | None:
    if slot in OF_FOLLOW:
        is_plane = isinstance(holder, Surface) and isinstance(holder.how, PlaneFollow)
        return getattr(holder.how, slot) if is_plane else None  # type: ignore[union-attr]
    if slot in OF_FILL:
        return getattr(holder.fill, slot, None) if isinstance(holder, Fix) else None
    found: Matte | None = getattr(holder, slot, None)
    return found


def _with(holder: Any, slot: Slot, matte: Matte) -> Any:
    for slots, field in ((OF_FOLLOW, "how"), (OF_FILL, "fill")):
        if slot in slots:
            return changed(holder, **{field: changed(getattr(holder, field), **{slot: matte})})
    return changed(holder, **{slot: matte})


def _holders(shot: Shot) -> Iterator[tuple[str, Any]]:
    for items in ("fixes", "surfaces", "mattes"):
        for holder in getattr(shot, items):
            yield items, holder


def _in_matte(project: Project, shot_id: str, holder_id: str, slot: Slot, change: Callable[[Matte], Matte]) -> Project:
    def of_shot(shot: Shot) -> Shot:
        for items, holder in _holders(shot):
            if holder.id != holder_id:
                continue
            matte = _get(holder, slot)
            if matte is None:
                raise EditError(f"{holder.name} has no {SAID_AS[slot]}.")
            new = _with(holder, slot, change(matte))
            return changed(shot, **{items: swapped(getattr(shot, items), new)})
        raise KeyError(holder_id)

    return in_shot(project, shot_id, of_shot)


def matte_in(shot: Shot, holder_id: str, slot: Slot) -> Matte:
    """Return a matte by its holder and slot (`KeyError` if there is none)."""
    for _, holder in _holders(shot):
        if holder.id == holder_id:
            matte = _get(holder, slot)
            if matte is not None:
                return matte
    raise KeyError(holder_id)


def slot_of(shot: Shot, part_id: str) -> tuple[str, Slot]:
    """Return the holder's id and the slot of a part, given its id or its shape's (`KeyError` if there is none)."""
    for _, holder in _holders(shot):
        for slot in SLOTS[type(holder)]:
            matte = _get(holder, slot)
            for part in matte.parts if matte is not None else ():
                if part_id in (part.id, part.source.shape.id if isinstance(part.source, Drawn) else ""):
                    return holder.id, slot
    raise KeyError(part_id)


def _found(project: Project, shot_id: str, part_id: str) -> tuple[str, Slot]:
    try:
        return slot_of(project.shot(shot_id), part_id)
    except KeyError as error:
        raise EditError(f"There is no item {error.args[0]!r} in this project any more.") from error


def change_matte(project: Project, shot_id: str, holder_id: str, slot: Slot, **fields: Any) -> Project:
    """Return the project with fields of a matte changed (grow_px, softness, parts)."""
    return _in_matte(project, shot_id, holder_id, slot, lambda matte: changed(matte, **fields))


def rename_matte(project: Project, shot_id: str, matte_id: str, name: str) -> Project:
    """Return the project with another name for a shared matte."""

    def of_shot(shot: Shot) -> Shot:
        return changed(shot, mattes=swapped(shot.mattes, changed(shot.matte(matte_id), name=name)))

    return in_shot(project, shot_id, of_shot)


def add_part(
    project: Project, shot_id: str, holder_id: str, slot: Slot, part: MattePart, index: int | None = None
) -> Project:
    """Return the project with one more part of a matte, at a place in its reading order or at its end."""

    def change(matte: Matte) -> Matte:
        refuse_what_is_there(matte.parts, part, "part")
        place = len(matte.parts) if index is None else index
        return changed(matte, parts=(*matte.parts[:place], part, *matte.parts[place:]))

    return _in_matte(project, shot_id, holder_id, slot, change)


def change_part(project: Project, shot_id: str, part_id: str, **fields: Any) -> Project:
    """Return the project with fields of a matte's part changed."""

    def change(matte: Matte) -> Matte:
        parts = tuple(changed(part, **fields) if part.id == part_id else part for part in matte.parts)
        return changed(matte, parts=parts)

    return _in_matte(project, shot_id, *_found(project, shot_id, part_id), change)


def remove_part(project: Project, shot_id: str, part_id: str) -> Project:
    """Return the project without a part.

    Raises
    ------
    EditError
        If it is a plane's only area.
    """
    holder_id, slot = _found(project, shot_id, part_id)

    def change(matte: Matte) -> Matte:
        if slot is Slot.AREAS and len(matte.parts) == 1:
            raise EditError("This is the only area of its surface; draw another before it is removed.")
        return changed(matte, parts=without(matte.parts, part_id))

    return _in_matte(project, shot_id, holder_id, slot, change)


def move_part(project: Project, shot_id: str, part_id: str, index: int) -> Project:
    """Return the project with a part at another place in its matte's reading order."""

    def change(matte: Matte) -> Matte:
        return changed(matte, parts=moved_to(matte.parts, part_id, index))

    return _in_matte(project, shot_id, *_found(project, shot_id, part_id), change)


def in_shape(project: Project, shot_id: str, shape_id: str, change: Callable[[Shape], Shape]) -> Project:
    """Return the project with a drawn shape changed, wherever in the shot it is."""

    def of_matte(matte: Matte) -> Matte:
        return changed(matte, parts=tuple(of_part(part) for part in matte.parts))

    def of_part(part: MattePart) -> MattePart:
        if not isinstance(part.source, Drawn) or part.source.shape.id != shape_id:
            return part
        return changed(part, source=changed(part.source, shape=change(part.source.shape)))

    return _in_matte(project, shot_id, *_found(project, shot_id, shape_id), of_matte)
