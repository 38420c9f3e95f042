"""Names for what is new, and words for what is drawn."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from typing import Protocol

from gommage.core.document.edits import Slot

__all__ = ["WORDS", "free_name"]

WORDS = {
    Slot.COVER: "cover",
    Slot.HOLD_OUTS: "hold-out",
    Slot.LIGHT_AREA: "area for light",
    Slot.GUIDES: "guide line",
    Slot.TAKE_FROM: "area to take from",
}
"""What a shape is in a fix's mattes."""


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
