"""The picture and what one does on it: the desk's tools meet the pen here, and what they do is shown."""

from __future__ import annotations

from functools import partial

import numpy as np
from msgspec.structs import replace as msgspec_replace
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from gommage.app.desk import Desk, Lists
from gommage.app.hands.gestures import Hand, Laying, PointerEvent, Receiver, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.next_stroke import is_seen, painted_on, source_words, takes_source
from gommage.app.hands.pen import SimulatedPen
from gommage.app.hands.strokes import strokes_under
from gommage.app.hands.tools import gesture_of
from gommage.app.picture.drawing import CursorLook
from gommage.app.picture.overlays import overlay_of
from gommage.app.picture.painting import StrokeOnScreen
from gommage.app.picture.preview import RestingBrush
from gommage.app.picture.sheet import SheetStage
from gommage.app.picture.viewer import Viewer
from gommage.app.picture.views import Views
from gommage.app.session import Session
from gommage.core.document import Project, Shot, Tool
from gommage.core.engine import Look, Priority, told_of_stroke
from gommage.core.geometry import growth

__all__ = ["Stage"]


class Stage(QObject, Receiver):
    """Owns the hand; renews picture, overlay and cursor, each when what it shows has changed."""

    source_said = Signal(str)
    hand_changed = Signal()
    asked = Signal(str)

    def __init__(self, session: Session, viewer: Viewer) -> None:
        super().__init__(viewer)
        self._session, self._viewer = session, viewer
        self._ground: Ground | None = None
        self.hand = Hand(self)
        self.views = Views(session, viewer, self.ground)
        self.sheet = SheetStage(session, viewer)
        self._resting = RestingBrush(session, viewer, self.ground, self.views.live_request)
        self._stroke: StrokeOnScreen | None = None
        self._alt_held = False
        viewer.pointer.connect(self._on_pointer)
        viewer.hovered.connect(self._on_hovered)
        viewer.view_changed.connect(self.refresh)
        viewer.resized.connect(self.refresh)
        viewer.key_held.connect(self._on_key_held)
        viewer.wipe_dragged.connect(lambda share: session.set_desk(wipe=share))
        session.document_changed.connect(self._on_document_changed)
        session.desk_changed.connect(self._on_desk_changed)

    def ground(self) -> Ground:
        """Return what the hand works on, as it is now."""
        project, desk, view = self._session.shown, self._session.desk, self._viewer.view_from_picture()
        kept = self._ground
        if kept is None or kept.project is not project or kept.desk is not desk or kept.view_from_picture is not view:
            kept = self._ground = Ground(project, desk, view)
        return kept

    @property
    def pen_at(self) -> NDArray[np.float64] | None:
        """Where the pen is over the picture, in the viewport; None if it is elsewhere."""
        at = self._viewer.pen_at
        return None if at is None else np.array([at.x(), at.y()])

    # -- showing --------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Ask for the picture, draw overlay and cursor."""
        if self.ground().look is Look.SHEET:
            self.views.forget()
            self.sheet.refresh()
        else:
            self.views.refresh()
            self._refresh_overlay()

    def _look_round(self, shot: Shot) -> None:
        """Look round in a shot that is a panorama, as level as it is."""
        footage, sphere = shot.footage, shot.sphere
        size = (footage.width, footage.height) if footage.is_panorama else (0, 0)
        level = tuple(sphere.level.values.ravel().tolist()) if sphere is not None and footage.is_panorama else ()
        self._viewer.set_sphere(size, level)

    def _refresh_overlay(self) -> None:
        ground = self.ground()
        if ground.look is not Look.SHEET:
            self._viewer.set_overlay(overlay_of(ground, self.hand.trace))
            self._refresh_cursor(ground)

    def _refresh_cursor(self, ground: Ground) -> None:
        if ground.desk.tool == "mould":
            self._viewer.set_cursor_look(self._reach_of_mould(ground))
            return
        tool, on = ground.desk.paint_tool, painted_on(ground)
        view = None if isinstance(on, str) else on.view
        if tool is None or view is None:
            self._viewer.set_cursor_look(None, is_hand=ground.desk.tool == "hand")
            return
        at = self._viewer.pen_at
        place = view.inverse()(np.array([at.x(), at.y()])) if at is not None else np.zeros(2)
        scale = growth(view, place)
        by = line_from = None
        desk = ground.desk
        if takes_source(tool) and desk.source is not None:
            moved = view(place + (desk.source.dx, desk.source.dy)) - view(place)
            by = float(moved[0]), float(moved[1])
        elif takes_source(tool) and desk.source_at is not None:
            x, y = view(np.array(desk.source_at))
            line_from = float(x), float(y)
            by = (float(x) - at.x(), float(y) - at.y()) if at is not None else None
        elif is_seen(ground):
            by = 0.0, 0.0
        radius = desk.brush.size_px / 2 * (scale if np.isfinite(scale) else 1.0)
        is_setting = self._alt_held and takes_source(tool)
        self._viewer.set_cursor_look(CursorLook(radius, desk.brush.softness, by, line_from, is_setting))
        self.source_said.emit(source_words(ground))
        self._resting.wait()

    def _reach_of_mould(self, ground: Ground) -> CursorLook:
        view, at = ground.view_from_frame, self._viewer.pen_at
        scale = growth(view, view.inverse()(np.array([at.x(), at.y()]))) if at is not None else 1.0
        return CursorLook(ground.desk.mould_px / 2 * (scale if np.isfinite(scale) else 1.0), 0.5, None)

    def _on_document_changed(self, old: Project, new: Project) -> None:
        shot = self._session.desk.shot(new)
        if shot is not None:
            self._viewer.set_aspect(shot.footage.pixel_aspect)
            self._look_round(shot)
        self.refresh()

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        self._viewer.set_wipe(new.wipe if new.has_wipe else None)
        self._viewer.show_source(new.shows_source)
        if old.shot_id != new.shot_id and (shot := new.shot(self._session.shown)) is not None:
            self._look_round(shot)
        if old.simulates_pen != new.simulates_pen:
            self._viewer.simulated_pen = SimulatedPen() if new.simulates_pen else None
        if _view_of(old) != _view_of(new):
            self.refresh()
        else:
            self._refresh_overlay()

    # -- the pen --------------------------------------------------------------------------------------------

    def _on_key_held(self, key: str, is_down: bool) -> None:
        if key == "Y":
            self._session.set_desk(shows_source=is_down)
        elif key == "H":
            self._session.set_desk(sizes_brush=is_down)
        elif key == "Q":
            self._session.set_desk(is_flicked=is_down)
        elif key == "Z":
            self._session.set_desk(hides_overlays=is_down)
        else:
            self._alt_held = is_down
            self._refresh_cursor(self.ground())

    def _on_hovered(self, x: float, y: float) -> None:
        self._resting.wait()
        if self._session.desk.lists is Lists.PEN:
            under = tuple(seen.stroke.id for seen in strokes_under(self.ground(), np.array([x, y])))
            self._session.set_desk(under_pen=under)
        if self._session.desk.source_at is not None and self._session.desk.source is None:
            self._refresh_cursor(self.ground())

    def _on_pointer(self, event: PointerEvent) -> None:
        ground = self.ground()
        if ground.shot is None:
            return
        if ground.look is Look.SHEET:
            if event.kind == "press":
                self.sheet.press(event.x, event.y)
        elif self.hand.is_busy:
            self.hand.feed(event, ground)
        elif event.kind == "press" and event.alt and ground.desk.paint_tool is Tool.COLOUR:
            self._pick_colour(event, ground)
        elif event.kind == "press":
            gesture = gesture_of(event, ground)
            if gesture is not None:
                self.hand.begin(gesture)
                self.hand_changed.emit()

    def _pick_colour(self, event: PointerEvent, ground: Ground) -> None:
        """Take the colour under the pen, as far as the picture is there."""
        assert ground.shot is not None
        x, y = ground.view_from_frame.inverse()(event.xy).tolist()
        value = self._session.engine.value_if_there(ground.shot, ground.frame, x, y, of_plate=ground.look is Look.PLATE)
        if value is not None:
            colour = tuple(float(one) for one in value)
            self._session.set_desk(brush=msgspec_replace(ground.desk.brush, colour=colour))
            self._session.note_shown.emit("Colour {:.3f}, {:.3f}, {:.3f}".format(*colour))

    def cancel(self) -> bool:
        """Drop the gesture in hand; returns whether there was one."""
        return self.hand.cancel()

    # -- what the hand says -----------------------------------------------------------------------------------

    def show(self, step: Step) -> None:
        """Show what a gesture that goes on says."""
        if step.desk:
            self._session.set_desk(**step.desk)
        if step.laying is not None:
            self._lay(step)
        if step.edit is not None:
            self._session.preview("gesture", step.edit)
        if step.trace is not None:
            self._refresh_overlay()

    def _lay(self, step: Step) -> None:
        assert step.laying is not None
        if self._stroke is None:
            request = self.views.live_request()
            if request is None:
                return
            self._stroke = StrokeOnScreen(self._session, self._viewer, request, step.laying)
            self.views.hold(self._stroke.stroke_id)
        if len(step.laying.points):
            self._stroke.lay(step.laying.points)

    def do(self, step: Step) -> None:
        """Do what a gesture ended with."""
        stroke, self._stroke = self._stroke, None
        if stroke is not None:
            if step.laying is not None and len(step.laying.points):
                stroke.lay(step.laying.points)
            self.views.hold("")
            self.views.wait()  # for the tiles of the hand: the screen would lay the stroke once more
        if step.error:
            self._session.error_shown.emit(step.error)
        elif step.note:
            self._session.note_shown.emit(step.note)
        if step.edit is None:
            is_done = True
            self._session.preview("gesture", None)
        else:
            is_done = self._session.commit_preview("gesture", step.label, step.edit)
        if stroke is not None:
            shot = self._session.desk.shot(self._session.project)
            if is_done and step.edit is not None and shot is not None:
                stroke.finish(shot, self.views.go_on)
            else:
                stroke.drop()
                self.views.go_on()
            if is_done and step.laying is not None:
                self._tell_of(step.laying)
        if is_done and step.desk:
            self._session.set_desk(**step.desk)
        self._refresh_overlay()
        self.hand_changed.emit()
        if is_done and step.calls:
            self.asked.emit(step.calls)

    def _tell_of(self, laid: Laying) -> None:
        """Say where a stroke on the shot is hidden or cannot be laid, as soon as that is found."""
        shot = self._session.desk.shot(self._session.project)
        fix = next((one for one in shot.fixes if one.id == laid.holder_id), None) if shot is not None else None
        if shot is None or fix is None:
            return

        def came(words: str) -> None:
            if words:
                self._session.note_shown.emit(words)

        find = partial(told_of_stroke, self._session.engine, shot, fix, laid.stroke)
        self._session.submit(("told", laid.stroke.id), Priority.NEIGHBOUR, find, came, lambda words: None)

    def drop(self) -> None:
        """Take back what was shown of a gesture that was called off."""
        stroke, self._stroke = self._stroke, None
        if stroke is not None:
            stroke.drop()
            self.views.hold("")
        self._session.preview("gesture", None)
        self._refresh_overlay()
        self.hand_changed.emit()


def _view_of(desk: Desk) -> tuple[object, ...]:
    """Return what of the desk the picture itself depends on."""
    return (
        desk.shot_id, desk.frame, desk.look, desk.is_flicked, desk.plate_id, desk.display, desk.has_wipe,
        desk.paint_tool and (desk.source_frames, desk.source_pinned, desk.source_along, desk.shows_source),
        desk.is_steady, desk.is_square_on, desk.surface_id if desk.is_steady or desk.is_square_on else "",
        desk.look is Look.VEIL and (desk.veil, desk.veil_colour),
        desk.look in (Look.VEIL, Look.OUTSIDE) and desk.fix_id, desk.look is Look.PAINT_ALONE and desk.backdrop,
        desk.has_test_card and (desk.step, desk.surface_id), desk.look is Look.SHEET and desk.surface_id,
    )  # fmt: skip
