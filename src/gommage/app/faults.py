"""What nobody expected: wherever in the window it happens, it reaches the one place that shows errors."""

from __future__ import annotations

import sys
import threading
import time
import traceback
from collections.abc import Callable
from types import TracebackType
from typing import Any

__all__ = ["Faults", "details_of"]

AGAIN_S = 5.0
"""The same fault of the same place, a picture that cannot be drawn, say, is told again after so long."""


def details_of(error: BaseException) -> str:
    """Return what one needs to find a fault, as text."""
    from gommage import __version__

    return f"gommage {__version__}\n" + "".join(traceback.format_exception(error))


class Faults:
    """Catch what is raised in Qt's slots and events, in threads and in destructors, while it is installed.

    The program goes on. `KeyboardInterrupt` and `SystemExit` do what they always do.

    Parameters
    ----------
    told : callable
        Called with the error, on the thread that it happened on.
    """

    def __init__(self, told: Callable[[BaseException], None]) -> None:
        self._told = told
        self._before: tuple[Any, ...] = ()
        self._times: dict[tuple[object, ...], float] = {}

    def install(self) -> None:
        """Begin."""
        self._before = sys.excepthook, threading.excepthook, sys.unraisablehook
        sys.excepthook = self._on_error
        threading.excepthook = lambda found: self._on_error(found.exc_type, found.exc_value, found.exc_traceback)
        sys.unraisablehook = lambda found: self._on_error(found.exc_type, found.exc_value, found.exc_traceback)

    def remove(self) -> None:
        """Leave things as they were."""
        sys.excepthook, threading.excepthook, sys.unraisablehook = self._before

    def _on_error(self, kind: type[BaseException], error: BaseException | None, where: TracebackType | None) -> None:
        if error is None or not issubclass(kind, Exception):
            if error is not None and not issubclass(kind, SystemExit):
                sys.__excepthook__(kind, error, where)
            return
        place = (kind, *((frame.f_code, line) for frame, line in traceback.walk_tb(where)))
        now = time.monotonic()
        if now - self._times.get(place, -AGAIN_S) < AGAIN_S:
            return
        self._times[place] = now
        sys.__excepthook__(kind, error, where)
        self._told(error)
