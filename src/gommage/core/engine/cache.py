"""One memory for everything that was computed, keyed by the records it was computed from."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Hashable
from contextlib import suppress
from typing import Any, TypeVar

from cachetools import LRUCache

from gommage.core.geometry import Window

__all__ = ["Cache", "default_budget_bytes"]

_Value = TypeVar("_Value")
PLAIN = frozenset((int, float, bool, str, type(None), Window))
"""Of next to no size."""
WAIT_S = 0.01
"""How often one who waits for another's work looks whether it was called off."""


def default_budget_bytes() -> int:
    """Return a third of the machine's memory."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 3


def _bytes_of(value: object) -> int:
    """Return roughly how much memory a value holds: what it says itself, or its arrays, and those of its fields."""
    kind = type(value)
    if kind in PLAIN:
        return 32
    own = getattr(value, "nbytes", None)
    if own is not None:
        return int(own) + 64
    if isinstance(value, tuple | list):
        return sum(_bytes_of(part) for part in value) + 64
    slots = getattr(kind, "__slots__", ())
    return 256 + sum(_bytes_of(getattr(value, slot, None)) for slot in slots if isinstance(slot, str)) if slots else 64


class Cache:
    """Values by key; the least recently used go when the budget is reached. Safe for many threads.

    Nothing is ever invalidated: a key holds all that its value depends on, so another document has other keys, and
    undo finds the old ones again.
    """

    def __init__(self, budget_bytes: int) -> None:
        self._values: LRUCache[Hashable, Any] = LRUCache(budget_bytes, getsizeof=_bytes_of)
        self._lock = threading.Lock()
        self._making: dict[Hashable, threading.Event] = {}

    def get(self, key: Hashable) -> Any | None:
        """Return a value, or None if it is not there."""
        with self._lock:
            return self._values.get(key)

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._values

    @property
    def budget_bytes(self) -> int:
        """Memory that it may hold."""
        return int(self._values.maxsize)

    @property
    def held_bytes(self) -> int:
        """Memory held now."""
        return int(self._values.currsize)

    def put(self, key: Hashable, value: Any) -> None:
        """Keep a value; arrays in it must not be changed afterwards. One that is larger than the budget is not kept."""
        with self._lock, suppress(ValueError):  # too large
            self._values[key] = value

    def clear(self) -> None:
        """Let go of all values."""
        with self._lock:
            self._values.clear()

    def get_or_make(
        self, key: Hashable, make: Callable[[], _Value], check: Callable[[], None] = lambda: None
    ) -> _Value:
        """Return a value, made by the first who asks while others wait for it.

        Who waits calls `check` again and again, so that waiting can be called off as working can; if the maker is
        called off or fails, the next who waits makes it.
        """
        while True:
            with self._lock:
                found = self._values.get(key)
                if found is not None:
                    return found
                event = self._making.get(key)
                if event is None:
                    self._making[key] = threading.Event()
                    break
            while not event.wait(WAIT_S):
                check()
        try:
            value = make()
            self.put(key, value)
            return value
        finally:
            with self._lock:
                self._making.pop(key).set()
