"""What all records share."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from typing import Protocol, TypeVar

from msgspec import Struct
from msgspec.structs import force_setattr

from gommage.core.document.arrays import Array

__all__ = ["HasId", "Record", "as_arrays", "by_id", "new_id"]


class Record(Struct, frozen=True, kw_only=True, cache_hash=True, forbid_unknown_fields=True):
    """Base of all records: frozen, compared by content, hashed once."""


def as_arrays(record: Record, *names: str) -> None:
    """Make arrays of fields that were given as anything like one: lists, or numpy's own.

    Raises
    ------
    ValueError
        If that cannot be.
    """
    for name in names:
        value = getattr(record, name)
        if not isinstance(value, Array):
            try:
                force_setattr(record, name, Array(value))
            except (TypeError, ValueError) as error:
                raise ValueError(f"{name} must be numbers, in lists of equal length") from error


class HasId(Protocol):
    """A record that is found by its id."""

    @property
    def id(self) -> str:
        """Its short name within the shot."""
        ...


_Item = TypeVar("_Item", bound=HasId)


def new_id() -> str:
    """Return a short random name for a record."""
    return secrets.token_hex(4)


def by_id(items: Iterable[_Item], wanted: str) -> _Item:
    """Return the item of that id.

    Raises
    ------
    KeyError
        If there is none.
    """
    for item in items:
        if item.id == wanted:
            return item
    raise KeyError(wanted)
