"""How every edit changes a record: nothing new where nothing changed, and a sentence for what cannot be."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from msgspec.structs import replace

from gommage.core.document.checks import fault_of
from gommage.core.document.records import Project, Record, Shot
from gommage.core.document.records.base import HasId
from gommage.errors import EditError

__all__ = ["changed", "in_shot", "moved_to", "refuse_faults", "refuse_what_is_there", "said", "swapped", "without"]

_Any = TypeVar("_Any", bound=Record)
_Item = TypeVar("_Item", bound=HasId)


def said(error: Exception) -> str:
    """Return an error's words as a sentence; names keep their capitals."""
    words = str(error)
    return f"{words[:1].upper()}{words[1:]}."


def changed(record: _Any, **fields: Any) -> _Any:
    """Return the record with fields replaced, or the record itself if all are equal already.

    Raises
    ------
    EditError
        If the record does not allow the values.
    """
    unknown = [name for name in fields if name not in record.__struct_fields__]
    if unknown:
        raise TypeError(f"{type(record).__name__} has no field {unknown[0]!r}")
    if all(getattr(record, name) is value or getattr(record, name) == value for name, value in fields.items()):
        return record
    try:
        return replace(record, **fields)
    except ValueError as error:
        raise EditError(said(error)) from error


def swapped(items: tuple[_Item, ...], item: _Item) -> tuple[_Item, ...]:
    """Return the items with the one of the same id replaced."""
    return tuple(item if one.id == item.id else one for one in items)


def without(items: tuple[_Item, ...], gone: str) -> tuple[_Item, ...]:
    """Return the items without the one of that id; `KeyError` if there is none."""
    kept = tuple(item for item in items if item.id != gone)
    if len(kept) == len(items):
        raise KeyError(gone)
    return kept


def moved_to(items: tuple[_Item, ...], item_id: str, index: int) -> tuple[_Item, ...]:
    """Return the items with one at another place among the others, kept within them."""
    item = next((one for one in items if one.id == item_id), None)
    if item is None:
        raise KeyError(item_id)
    others = list(without(items, item_id))
    others.insert(min(max(index, 0), len(others)), item)
    return items if tuple(others) == items else tuple(others)


def refuse_what_is_there(items: tuple[_Item, ...], item: _Item, kind: str) -> None:
    """Refuse a second item of one id."""
    if any(one.id == item.id for one in items):
        raise EditError(f"There is a {kind} of the id {item.id!r} in this shot already.")


def refuse_faults(shot: Shot, before: Shot | None = None) -> None:
    """Refuse a shot that cannot be; see `fault_of`."""
    fault = fault_of(shot, before)
    if fault:
        raise EditError(said(ValueError(fault)))


def in_shot(project: Project, shot_id: str, change: Callable[[Shot], Shot]) -> Project:
    """Return the project with a shot changed.

    Raises
    ------
    EditError
        If something that the change needs is not there, or what came out refers to nothing or cannot be evaluated.
    """
    try:
        shot = project.shot(shot_id)
        new = change(shot)
    except KeyError as error:
        raise EditError(f"There is no item {error.args[0]!r} in this project any more.") from error
    if new is shot or new == shot:
        return project
    refuse_faults(new, shot)
    return project.with_shot(new)
