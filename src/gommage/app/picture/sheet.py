"""The sheet in the picture's place: asks the engine for it, marks the frame on the desk, turns clicks into frames."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np

from gommage.app.picture.overlays import Outline, Overlay
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.core.engine import Look, Priority, Sheet, SheetRequest, sheet_key, sheet_of, sheet_pixels

__all__ = ["SheetStage"]

LABELLED_PX = 60
"""Cells narrower than this carry no frame number."""


class SheetStage:
    """Shows the surface in hand on all frames at once."""

    def __init__(self, session: Session, viewer: Viewer) -> None:
        self._session, self._viewer = session, viewer
        self._wanted: Hashable = None

    def request(self) -> SheetRequest | None:
        """Return what is asked of the engine."""
        desk, project = self._session.desk, self._session.shown
        shot, surface = desk.shot(project), desk.surface(project)
        if shot is None or surface is None:
            return None
        return SheetRequest(shot, surface.id, self._viewer.pixel_size(), desk.display)

    def press(self, x: float, y: float) -> None:
        """Go to the frame whose cell is under the pen."""
        request, ratio = self.request(), self._viewer.devicePixelRatioF()
        frame = sheet_of(request).frame_at(x * ratio, y * ratio) if request is not None else None
        if frame is not None:
            self._session.go_to(frame)

    def refresh(self) -> None:
        """Ask for the sheet, or show it if it is there; mark the frame on the desk."""
        request, session = self.request(), self._session
        if request is None:
            return
        layout = sheet_of(request)
        self._viewer.set_cursor_look(None)
        self._viewer.set_overlay(self._overlay(layout))
        key = self._wanted = sheet_key(request)
        engine = session.engine
        found = engine.cache.get(key)
        if found is not None:
            self._viewer.set_picture(found)
            return
        words = "Putting the sheet together …" if layout.frames else "The surface is not followed yet."
        self._viewer.set_picture(None, words)
        session.jobs.cancel(lambda name: isinstance(name, tuple) and name[0] == "sheet" and name[1] != key)
        session.submit(
            ("sheet", key), Priority.SCREEN, lambda check: sheet_pixels(engine, request, check),
            lambda pixels: self._show(key, pixels),
        )  # fmt: skip

    def _overlay(self, layout: Sheet) -> Overlay:
        ratio = self._viewer.devicePixelRatioF()
        width, height = (side / ratio for side in layout.cell_wh)
        outlines, labels = [], []
        for index, frame in enumerate(layout.frames):
            x, y = (value / ratio for value in layout.place(index))
            labels.append((x + 2, y + 2, str(frame)))
            if frame == self._session.desk.frame:
                box = np.array([[x, y], [x + width, y], [x + width, y + height], [x, y + height]])
                outlines.append(Outline(box, "cover"))
        return Overlay(tuple(outlines), labels=tuple(labels) if width > LABELLED_PX else ())

    def _show(self, key: Hashable, pixels: np.ndarray) -> None:
        if key == self._wanted and self._session.desk.look is Look.SHEET:
            self._viewer.set_picture(pixels)
