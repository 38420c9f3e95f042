"""Small pictures on the cards: each fix's region, held still, on the frame on the desk."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtGui import QImage

from gommage.app.lists.cards import LOUPE
from gommage.app.picture.images import image_of
from gommage.app.session import Session
from gommage.core.document import Fix, Shot, mappings_of
from gommage.core.engine import Look, Priority, ViewRequest, view_pixels
from gommage.core.geometry import Mapping, around, composed, scaling, shift

__all__ = ["Loupes"]

MARGIN_PX = 14
GATHER_MS = 35


class Loupes:
    """Asks for the small pictures when frame or document change."""

    def __init__(self, session: Session, show: Callable[[str, QImage], None]) -> None:
        self._session, self._show = session, show
        self._timer = QTimer(session)
        self._timer.setSingleShot(True)
        self._timer.setInterval(GATHER_MS)
        self._timer.timeout.connect(self._ask)

    def ask(self) -> None:
        """Ask for a small picture of each fix; while frames fly by, now and then."""
        if not self._timer.isActive():
            self._timer.start()

    def _ask(self) -> None:
        session, shot = self._session, self._session.shot
        session.call_off("loupe")
        if shot is None:
            return
        frame, engine, display = session.desk.frame, session.engine, session.desk.display
        size = 2 * LOUPE.width(), 2 * LOUPE.height()

        def look(fix: Fix, check: Callable[[], None]) -> np.ndarray | None:
            held = _held_still(shot, fix, frame)
            if held is None:
                return None
            return view_pixels(engine, ViewRequest(shot, frame, Look.RESULT, held, size, display), check)

        for fix in shot.fixes:
            session.submit(
                ("loupe", fix.id, frame, shot), Priority.NEIGHBOUR, partial(look, fix), partial(self._came, fix.id),
                lambda words: None,
            )  # fmt: skip

    def _came(self, fix_id: str, pixels: np.ndarray | None) -> None:
        if pixels is not None:
            self._show(fix_id, image_of(pixels, 1.0))


def _held_still(shot: Shot, fix: Fix, frame: int) -> Mapping | None:
    """Return the view of a fix's region on a frame, at twice the loupe's size; None where it is not."""
    if fix.cover.drawn:
        _, drawn = fix.cover.drawn[0]
        surface_id, points = drawn.surface_id, drawn.shape.keys[0].points
    elif fix.touch_up.strokes:
        stroke = fix.touch_up.strokes[-1]
        surface_id, points = stroke.surface_id, stroke.points.values[:, :2]
    else:
        return None
    to_frame = mappings_of(shot)(surface_id, frame)
    if to_frame is None:
        return None
    box = around(points, MARGIN_PX)
    scale = 2 * min(LOUPE.width() / box.width, LOUPE.height() / box.height)
    middle = (box.left + box.right) / 2, (box.top + box.bottom) / 2
    return composed(
        to_frame.inverse(), shift(-middle[0], -middle[1]), scaling(scale), shift(LOUPE.width(), LOUPE.height())
    )
