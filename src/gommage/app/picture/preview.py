"""What the brush would lay where the pen rests: the very pixels, with their source, light and register."""

from __future__ import annotations

import itertools
from collections.abc import Callable

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QObject, QTimer

from gommage.app.hands.brush import source_for
from gommage.app.hands.ground import Ground
from gommage.app.hands.next_stroke import painted_on, takes_source
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.core.document import Array, Stroke, new_id
from gommage.core.engine import LiveStroke, Priority, Shown, ViewRequest

__all__ = ["RestingBrush"]

REST_MS = 60
"""The pen rests when it has not moved for so long; until then the brush shows the source as it is."""
_numbers = itertools.count()


class RestingBrush(QObject):
    """Asks for one dab of the brush in hand, laid where the pen rests, and shows it in the brush.

    Parameters
    ----------
    session : Session
    viewer : Viewer
    ground : callable
        Gives what the hand works on.
    request : callable
        Gives what is on screen.
    """

    def __init__(
        self, session: Session, viewer: Viewer, ground: Callable[[], Ground], request: Callable[[], ViewRequest | None]
    ) -> None:
        super().__init__(viewer)
        self._session, self._viewer, self._ground, self._request = session, viewer, ground, request
        self._wanted = -1
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REST_MS)
        self._timer.timeout.connect(self._ask)

    def wait(self) -> None:
        """Show nothing until the pen rests again."""
        if self._wanted >= 0:
            self._session.call_off("dab")
        self._wanted = -1
        self._viewer.set_dab(None)
        is_over = self._viewer.pen_at is not None and not self._viewer.is_pressed
        if is_over and takes_source(self._ground().desk.paint_tool):
            self._timer.start()
        else:
            self._timer.stop()

    def _ask(self) -> None:
        ground, at, request = self._ground(), self._viewer.pen_at, self._request()
        on, tool = painted_on(ground), ground.desk.paint_tool
        if isinstance(on, str) or on.view is None or tool is None or at is None or request is None:
            return
        x, y = on.view.inverse()(np.array([at.x(), at.y()])).tolist()
        source = source_for(ground, tool, np.array([x, y]))[0]
        if source is None or not np.isfinite([x, y]).all() or self._viewer.is_pressed:
            return
        point = np.array([[x, y, 1.0]])
        stroke = Stroke(
            id=new_id(), points=Array(point), brush=replace(ground.desk.brush, tool=tool), source=source,
            surface_id=on.surface_id,
        )  # fmt: skip
        number = self._wanted = next(_numbers)
        engine = self._session.engine

        def run(check: Callable[[], None]) -> Shown | None:
            return LiveStroke(engine, request, on.holder_id, stroke).add(point, check)

        def came(shown: Shown | None) -> None:
            if number == self._wanted and shown is not None:
                self._viewer.set_dab(shown)

        self._session.submit(("dab", number), Priority.SCREEN, run, came, lambda words: None)
