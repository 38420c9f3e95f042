"""What all records share."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from typing import Protocol, TypeVar

from msgspec import Struct

__all__ = ["HasId", "Record", "by_id", "new_id"]


class Record(Struct, frozen=True, kw_only=True, cache_hash=True, forbid_unknown_fields=True):
    """Base of all records: frozen, compared by content, hashed once."""


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
