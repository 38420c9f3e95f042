"""What the picture asks the engine for.

What is on screen, the wipe's other half, neighbours, and which frames are ready.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from gommage.app.hands.ground import Ground
from gommage.app.hands.next_stroke import is_seen, other_frame, view_of_source
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.core.document import FrameRange, PlatePicture
from gommage.core.engine import Look, Priority, Step, Veil, ViewRequest, view_key, view_pixels
from gommage.core.geometry import Mapping, composed, fitted, from_matrix, scaling, then
from gommage.core.picture.card import CARD_CORNERS

__all__ = ["Views"]

NEIGHBOURS = (1, 2, 3, -1, 4, 5, 6)
"""Frames that are made ready after the one on screen, in playing direction first."""
READING_MS = 250
"""A picture that takes longer to read tells how far it is, so often."""
READY_MS = 150
"""Pictures come in bursts; which frames are ready is looked up once after each."""
READY_MOST = 2000
"""On a shot of more frames, so many around the one on screen are looked up."""
VEILS = {"pink": (0.87, 0.12, 0.22), "green": (0.05, 0.6, 0.2), "blue": (0.08, 0.2, 0.85), "white": (0.9, 0.9, 0.9)}
"""Colours of the veil over what is covered, scene-linear."""
LOOKS_ALONE = (Look.CLEAN_PLATE, Look.SHEET)
"""Looks that are the same on all frames."""


class Views(QObject):
    """Asks for pictures and shows those that are still wanted when they come."""

    shown = Signal(int)
    ready_changed = Signal(object)

    def __init__(self, session: Session, viewer: Viewer, ground: Callable[[], Ground]) -> None:
        super().__init__(viewer)
        self._session, self._viewer, self._ground = session, viewer, ground
        self._wanted: dict[str, Hashable] = {}
        self._held = ""
        self._waits = 0
        session.begun.connect(self._on_begun)
        self._is_reading = False
        self._telling = QTimer(self)
        self._telling.setInterval(READING_MS)
        self._telling.timeout.connect(self._tell_reading)
        self._checking_ready = QTimer(self)
        self._checking_ready.setSingleShot(True)
        self._checking_ready.setInterval(READY_MS)
        self._checking_ready.timeout.connect(self._ask_ready)

    def stop(self) -> None:
        """Look up nothing more."""
        self._telling.stop()
        self._checking_ready.stop()

    def hold(self, stroke_id: str) -> None:
        """Keep the paint of a stroke on screen, whatever picture comes; empty: of none."""
        self._held = stroke_id

    def wait(self) -> None:
        """Ask for nothing until told to go on; what is on screen stays."""
        self._waits += 1

    def go_on(self) -> None:
        """Ask for the picture on screen, once nothing is waited for any more."""
        self._waits = max(self._waits - 1, 0)
        if not self._waits:
            self.refresh()

    def _on_begun(self) -> None:
        self._end_telling()
        self._waits = 0

    # -- requests -------------------------------------------------------------------------------------------

    def request(self, frame: int, look: Look) -> ViewRequest | None:
        """Return what the viewport asks of the engine for a frame."""
        ground = self._ground()
        return _request(ground, frame, look, self._viewer.devicePixelRatioF(), self._viewer.pixel_size())

    def live_request(self) -> ViewRequest | None:
        """Return what is on screen, as it is without what a gesture shows: what a stroke is laid on."""
        ground = replace(self._ground(), project=self._session.project)
        ratio, size = self._viewer.devicePixelRatioF(), self._viewer.pixel_size()
        return _request(ground, ground.frame, ground.look, ratio, size)

    def refresh(self) -> None:
        """Ask for the picture on screen."""
        if self._waits:
            return
        ground = self._ground()
        look = ground.look
        request = self.request(ground.frame, look)
        if request is None:
            self._viewer.set_picture(None)
            return
        self._ask("screen", request, self._show)
        self._ask_source(ground)
        if ground.desk.has_wipe:
            other = self.request(ground.frame, Look.PLATE)
            assert other is not None
            self._ask("other", other, lambda _, pixels: self._viewer.set_other(pixels))

    def _ask_source(self, ground: Ground) -> None:
        """Ask for the frame that the brush takes its pixels from, in register with the one on screen."""
        frame = other_frame(ground)
        shot = ground.shot
        view = view_of_source(ground, frame) if is_seen(ground) and shot is not None else None
        if view is None or shot is None or frame not in shot.footage.frames:
            self._wanted.pop("source", None)
            self._viewer.set_source_picture(None)
            return
        ratio, size = self._viewer.devicePixelRatioF(), self._viewer.pixel_size()
        look = (
            Look.PLATE
            if isinstance(ground.desk.source_base.picture, PlatePicture) or not ground.desk.paints_shot
            else Look.RESULT
        )
        request = ViewRequest(shot, frame, look, then(view, scaling(ratio)), size, ground.desk.display)
        self._ask("source", request, lambda _, pixels: self._viewer.set_source_picture(pixels))

    def forget(self) -> None:
        """Want nothing: something else is in the picture's place."""
        self._end_telling()
        self._wanted.clear()
        self._session.call_off("screen", "other", "source")

    def _ask(self, place: str, request: ViewRequest, show: Callable[[ViewRequest, np.ndarray], None]) -> None:
        """Get pixels: from the cache at once, else from a job; an older wish for the same place is called off."""
        key, engine = view_key(request), self._session.engine
        self._wanted[place] = key
        found = engine.cache.get(key)
        if found is not None:
            show(request, found)
            return

        def came(pixels: np.ndarray) -> None:
            if self._wanted.get(place) == key:
                show(request, pixels)

        def failed(words: str) -> None:
            if self._wanted.get(place) == key and place == "screen":
                self._end_telling()
                self._viewer.set_picture(None, words)
                self.shown.emit(request.frame)

        self._session.jobs.cancel(lambda name: isinstance(name, tuple) and name[0] == place and name[1] != key)
        if place == "screen":
            self._telling.start()
        self._session.submit((place, key), Priority.SCREEN, partial(view_pixels, engine, request), came, failed)

    def _tell_reading(self) -> None:
        """Say how much of the picture on screen has been read, once it takes a while."""
        ground = self._ground()
        found = self._session.engine.reading(ground.shot.footage, ground.frame) if ground.shot is not None else None
        self._is_reading = found is not None
        if found is not None:
            words, share = found
            self._viewer.set_message(f"{words}: {share:.0%}. Escape stops it.")

    def _end_telling(self) -> None:
        self._telling.stop()
        self._is_reading = False

    def stop_reading(self) -> bool:
        """Call off a picture that takes long to read; returns whether there was one."""
        if not self._is_reading:
            return False
        self.forget()
        self._session.call_off("ahead")
        self._viewer.set_picture(None, f"Frame {self._ground().frame} was not read. Go to it again to read it.")
        return True

    def _show(self, request: ViewRequest, pixels: np.ndarray) -> None:
        self._end_telling()
        self._viewer.set_picture(pixels, keeps=self._held)
        self.shown.emit(request.frame)
        self._prepare_neighbours()
        self._checking_ready.start()

    def _prepare_neighbours(self) -> None:
        """Make the next frames ready, so that stepping is instant."""
        ground = self._ground()
        shot, look = ground.shot, ground.look
        if shot is None or look in LOOKS_ALONE:
            return
        engine, ratio, size = self._session.engine, self._viewer.devicePixelRatioF(), self._viewer.pixel_size()

        def prepare(frame: int, check: Callable[[], None]) -> None:
            request = _request(ground, frame, look, ratio, size)
            if request is not None:
                view_pixels(engine, request, check)

        self._session.call_off("ahead")
        for step in NEIGHBOURS:
            frame = ground.desk.frame + step
            if frame in shot.footage.frames:
                self._session.submit(
                    ("ahead", frame), Priority.NEIGHBOUR, partial(prepare, frame), self._on_ahead, lambda words: None
                )

    def _on_ahead(self, _: None) -> None:
        if not self._checking_ready.isActive():
            self._checking_ready.start()

    # -- what is ready --------------------------------------------------------------------------------------

    def is_ready(self, frame: int) -> bool:
        """Whether a frame could be shown at once."""
        request = self.request(frame, self._ground().look)
        return request is not None and view_key(request) in self._session.engine.cache

    def _ask_ready(self) -> None:
        """Look up, beside the interface, which frames could be shown at once."""
        ground, engine = self._ground(), self._session.engine
        shot = ground.shot
        if shot is None:
            return
        ratio, size = self._viewer.devicePixelRatioF(), self._viewer.pixel_size()

        def find(check: Callable[[], None]) -> frozenset[int]:
            found = []
            for frame in _around(ground.frame, shot.footage.frames):
                check()
                request = _request(ground, frame, ground.look, ratio, size)
                if request is not None and view_key(request) in engine.cache:
                    found.append(frame)
            return frozenset(found)

        self._session.call_off("ready")
        self._session.submit(("ready", ground), Priority.IDLE, find, self.ready_changed.emit, lambda words: None)


def _around(frame: int, frames: FrameRange) -> range:
    """Return the frames of a shot, or of a very long one those around a frame."""
    half = READY_MOST // 2
    return range(max(frames.first, frame - half), min(frames.last, frame + half) + 1)


def _request(ground: Ground, frame: int, look: Look, ratio: float, size_wh: tuple[int, int]) -> ViewRequest | None:
    shot = ground.shot
    if shot is None:
        return None
    device = then(ground.view_of(frame), scaling(ratio))
    plate_id = ground.desk.plate_id if look is Look.CLEAN_PLATE else ""
    veil = Veil(ground.desk.fix_id, ground.desk.veil, VEILS[ground.desk.veil_colour])
    return ViewRequest(
        shot,
        frame,
        look,
        device,
        size_wh,
        ground.desk.display,
        plate_id,
        _card(ground, frame, device),
        veil,
        ground.desk.backdrop,
    )


def _card(ground: Ground, frame: int, device_from_frame: Mapping) -> Mapping | None:
    """Return where the test card lies on the screen's pixels."""
    surface, desk = ground.surface, ground.desk
    if not desk.has_test_card or desk.step is not Step.FOLLOW or surface is None:
        return None
    home = ground.home_to_frame(surface.id, frame)
    return (
        None if home is None else composed(from_matrix(fitted(CARD_CORNERS, surface.corners)), home, device_from_frame)
    )
