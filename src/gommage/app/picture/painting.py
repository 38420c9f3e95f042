"""Between the hand and the engine while a stroke is made: points go out in order, what they change comes back."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from gommage.app.hands.gestures import Laying
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.core.document import Shot
from gommage.core.engine import LiveStroke, Priority, Shown, ViewRequest

__all__ = ["StrokeOnScreen"]

_numbers = itertools.count()


class StrokeOnScreen:
    """One stroke from its first point to its place among the tiles. What waits is laid in one go.

    Parameters
    ----------
    session : Session
    viewer : Viewer
    request : ViewRequest
        What is on screen.
    laying : Laying
        The stroke as it begins.
    """

    def __init__(self, session: Session, viewer: Viewer, request: ViewRequest, laying: Laying) -> None:
        self._session, self._viewer = session, viewer
        self.stroke_id = laying.stroke.id
        self._begin = partial(LiveStroke, session.engine, request, laying.holder_id, laying.stroke)
        self._begun: LiveStroke | None = None
        self._waiting: list[NDArray[np.float64]] = []
        self._lock = threading.Lock()
        self._is_dropped = False

    def lay(self, points: NDArray[np.float64]) -> None:
        """Lay more points (N, 3), after those that were given before."""
        with self._lock:
            is_first = not self._waiting
            self._waiting.append(points)
        if is_first:
            self._session.submit(("hand", next(_numbers)), Priority.HAND, self._lay_waiting, self._show)

    def finish(self, shot: Shot, kept: Callable[[], object]) -> None:
        """Keep the tiles that were laid, as those of the shot in which the stroke is committed, and tell when."""

        def run(check: Callable[[], None]) -> Shown | None:
            shown = self._lay_waiting(check)
            self._live().finish(shot, check)
            return shown

        def done(shown: Shown | None) -> None:
            self._show(shown)
            kept()

        def failed(words: str) -> None:
            self._session.error_shown.emit(words)
            kept()

        self._session.submit(("hand", next(_numbers)), Priority.HAND, run, done, failed)

    def drop(self) -> None:
        """Show nothing more of it."""
        self._is_dropped = True
        self._viewer.drop_live(self.stroke_id)

    def _lay_waiting(self, check: Callable[[], None]) -> Shown | None:
        with self._lock:
            points = np.concatenate(self._waiting) if self._waiting else np.empty((0, 3))
            self._waiting.clear()
        return self._live().add(points, check) if len(points) else None

    def _live(self) -> LiveStroke:
        """Return the stroke in the engine; begun by the first job of the hand, which are done one after the other."""
        if self._begun is None:
            self._begun = self._begin()
        return self._begun

    def _show(self, shown: Shown | None) -> None:
        if shown is not None and not self._is_dropped:
            self._viewer.add_live(self.stroke_id, shown.window, shown.pixels)
