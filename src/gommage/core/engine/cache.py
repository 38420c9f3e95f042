"""One memory for everything that was computed, keyed by the records it was computed from."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import numpy as np

__all__ = ["Cache", "default_budget_bytes"]

_Value = TypeVar("_Value")


def default_budget_bytes() -> int:
    """Return a third of the machine's memory."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 3


def _bytes_of(value: object) -> int:
    """Return roughly how much memory a value holds: its arrays, and those of its fields."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, tuple | list):
        return sum(_bytes_of(part) for part in value) + 64
    slots = getattr(type(value), "__slots__", ())
    return 256 + sum(_bytes_of(getattr(value, slot, None)) for slot in slots if isinstance(slot, str)) if slots else 64


class Cache:
    """Values by key; the least recently used go when the budget is reached. Safe for many threads.

    Nothing is ever invalidated: a key holds all that its value depends on, so another document has other keys, and
    undo finds the old ones again.
    """

    def __init__(self, budget_bytes: int) -> None:
        self._budget = budget_bytes
        self._held = 0
        self._values: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._lock = threading.Lock()
        self._making: dict[Hashable, threading.Event] = {}

    def get(self, key: Hashable) -> Any | None:
        """Return a value, or None if it is not there."""
        with self._lock:
            found = self._values.get(key)
            if found is None:
                return None
            self._values.move_to_end(key)
            return found[0]

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._values

    @property
    def held_bytes(self) -> int:
        """Memory held now."""
        return self._held

    def put(self, key: Hashable, value: Any) -> None:
        """Keep a value; arrays in it must not be changed afterwards."""
        size = _bytes_of(value)
        with self._lock:
            old = self._values.pop(key, None)
            self._held += size - (old[1] if old else 0)
            self._values[key] = (value, size)
            while self._held > self._budget and len(self._values) > 1:
                _, (_, gone) = self._values.popitem(last=False)
                self._held -= gone

    def get_or_make(self, key: Hashable, make: Callable[[], _Value]) -> _Value:
        """Return a value, made by the first who asks while others wait for it."""
        while True:
            with self._lock:
                found = self._values.get(key)
                if found is not None:
                    self._values.move_to_end(key)
                    return found[0]
                event = self._making.get(key)
                if event is None:
                    self._making[key] = threading.Event()
                    break
            event.wait()
        try:
            value = make()
            self.put(key, value)
            return value
        finally:
            with self._lock:
                self._making.pop(key).set()
