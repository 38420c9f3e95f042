"""Names for what is new."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from typing import Protocol

__all__ = ["free_name"]


class Named(Protocol):
    """Something with a name."""

    @property
    def name(self) -> str:
        """Its name."""
        ...


def free_name(kind: str, items: Iterable[Named]) -> str:
    """Return a name that none of the items has."""
    taken = {item.name for item in items}
    return next(f"{kind} {number}" for number in itertools.count(1) if f"{kind} {number}" not in taken)
