"""Between the desk and the viewer: asks the engine for pictures, draws overlays, turns gestures into edits."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Generator
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QObject, QPointF, Signal

from gommage.app.desk import Desk
from gommage.app.follow_stage import FollowStage
from gommage.app.session import Session
from gommage.app.sheet_stage import SheetStage
from gommage.app.tools import (
    DrawnShape,
    PointerEvent,
    drag_points,
    draw_shape_click,
    stroke_points,
)
from gommage.app.viewer import CursorLook, Outline, Overlay, Viewer
from gommage.core.cover import outline
from gommage.core.document import (
    Array,
    CleanPlate,
    Cover,
    Fix,
    Shape,
    ShapeKey,
    Shot,
    Source,
    Stroke,
    Surface,
    Tool,
    edits,
    new_id,
)
from gommage.core.document.placements import fitted
from gommage.core.engine import (
    Engine,
    LiveStroke,
    Look,
    Priority,
    Shown,
    Step,
    ViewRequest,
    square_on,
    view_inputs,
    view_key,
    view_pixels,
)
from gommage.core.picture import Matrix, Points, apply_matrix
from gommage.core.picture.card import CARD_CORNERS
from gommage.errors import EditError

__all__ = ["Canvas", "free_name", "made_view"]

LATTICE_LINES = 9
NEIGHBOURS = (1, 2, 3, -1, 4, 5, 6)
"""Frames that are made ready after the one on screen, in playing direction first."""


class Canvas(QObject):
    """The picture and what one does on it."""

    shown = Signal(int)
    source_words = Signal(str)

    def __init__(self, session: Session, viewer: Viewer) -> None:
        super().__init__(viewer)
        self.session = session
        self.viewer = viewer
        self.stage = FollowStage(session, self, free_name)
        self.sheet = SheetStage(session, viewer)
        self.drawn = DrawnShape()
        self.source: Source | None = None
        self.source_point: Points | None = None
        self.last_point: Points | None = None
        self.chosen_key_frame: int | None = None
        self._drag: Generator[None, PointerEvent, Points | None] | None = None
        self._moving: Points | None = None
        self._stroke_events: list[PointerEvent] = []
        self._live: LiveStroke | None = None
        self._live_stroke: Stroke | None = None
        self._live_view: Matrix = np.eye(3)
        self._numbers = itertools.count()
        self._alt_held = False
        self._wanted: object = None
        viewer.pointer.connect(self._on_pointer)
        viewer.hovered.connect(self._on_hovered)
        viewer.view_changed.connect(self.refresh)
        viewer.resized.connect(self.refresh)
        viewer.key_held.connect(self._on_key_held)

    # -- what the desk holds --------------------------------------------------------------------------------

    @property
    def desk(self) -> Desk:
        """The desk."""
        return self.session.desk

    @property
    def shot(self) -> Shot | None:
        """The shot on the desk."""
        return self.desk.shot(self.session.project)

    def _surface(self) -> Surface | None:
        return self.desk.surface(self.session.project)

    def _fix(self) -> Fix | None:
        return self.desk.fix(self.session.project)

    def _plate(self) -> CleanPlate | None:
        return self.desk.plate(self.session.project)

    # -- mappings -------------------------------------------------------------------------------------------

    def _home_to(self, surface: Surface | None, frame: int) -> Matrix | None:
        if surface is None:
            return None
        placed = self.session.placed(surface)
        if placed is not None and placed.is_placed(frame):
            return placed.matrix(frame)
        return np.eye(3) if frame == surface.home_frame else None

    def shown_frame(self, look: Look | None = None) -> int:
        """Return the frame whose pixels are on screen: a clean plate's home frame when that is looked at."""
        plate = self._plate()
        if (look or self.look()) is Look.CLEAN_PLATE and plate is not None:
            return plate.home_frame
        return self.desk.frame

    def look(self) -> Look:
        """Return what is looked at, with the flick to the plate and looks that need a plate sorted out."""
        if self.desk.is_flicked:
            return Look.PLATE
        if self.desk.look is Look.CLEAN_PLATE and self._plate() is None:
            return Look.RESULT
        if self.desk.look is Look.SHEET and self._surface() is None:
            return Look.RESULT
        return self.desk.look

    def view_from_frame(self, look: Look | None = None) -> Matrix:
        """Return the matrix from the shown frame's pixels to the viewport."""
        return self._held(self.viewer.matrix(), self.shown_frame(look))

    def _held(self, matrix: Matrix, frame: int) -> Matrix:
        """Return a view's matrix with the surface in hand held still, or square to the eye, where that is asked for."""
        surface = self._surface()
        if surface is None or not (self.desk.is_steady or self.desk.is_square_on):
            return matrix
        home = self._home_to(surface, frame)
        if home is None:
            return matrix
        square = square_on(surface.corners) if self.desk.is_square_on else np.eye(3)
        matrix = matrix @ square @ np.linalg.inv(home)
        return matrix / matrix[2, 2]

    def view_from_surface(self, surface: Surface | None) -> Matrix | None:
        """Return the matrix from a surface's home pixels to the viewport, or None where it is not known."""
        home = self._home_to(surface, self.shown_frame())
        return None if home is None else self.view_from_frame() @ home

    def view_from_plate(self, plate: CleanPlate) -> Matrix | None:
        """Return the matrix from a clean plate's pixels to the viewport."""
        if self.look() is Look.CLEAN_PLATE:
            return self.view_from_frame()
        shot = self.shot
        if shot is None:
            return None
        surface = shot.surface(plate.surface_id)
        here, there = self._home_to(surface, self.desk.frame), self._home_to(surface, plate.home_frame)
        if here is None or there is None:
            return None
        return self.view_from_frame() @ here @ np.linalg.inv(there)

    # -- pictures -------------------------------------------------------------------------------------------

    def request(self, frame: int, look: Look, size: tuple[int, int] | None = None) -> ViewRequest | None:
        """Return what the viewport asks of the engine for a frame."""
        shot = self.shot
        if shot is None:
            return None
        ratio = self.viewer.devicePixelRatioF()
        matrix = self._held(self.viewer.matrix(), frame)
        device = np.diag([ratio, ratio, 1.0])
        return ViewRequest(
            shot,
            frame,
            look,
            Array(device @ matrix),
            size or self.viewer.pixel_size(),
            self.desk.display,
            self.desk.plate_id if look is Look.CLEAN_PLATE else "",
            self._card(device @ matrix, frame),
        )

    def _card(self, device_from_frame: Matrix, frame: int) -> Array | None:
        """Return where the test card lies: the matrix from the card to the screen's pixels."""
        surface = self._surface()
        home = self._home_to(surface, frame)
        if not self.desk.has_test_card or self.desk.step is not Step.FOLLOW or surface is None or home is None:
            return None
        return Array(device_from_frame @ home @ fitted(CARD_CORNERS, surface.corners))

    def refresh(self) -> None:
        """Ask for the picture on screen, draw overlays anew."""
        look = self.look()
        if look is Look.SHEET:
            self._wanted = None
            self.sheet.refresh()
            return
        request = self.request(self.shown_frame(look), look)
        if request is None:
            self.viewer.set_picture(None, np.eye(3))
            return
        self.refresh_overlay()
        self.viewer.set_message("")
        self._ask(request, Priority.SCREEN, self._show)
        if self.desk.has_wipe:
            other = self.request(self.shown_frame(look), Look.PLATE)
            assert other is not None
            self._ask(other, Priority.SCREEN, lambda _, pixels: self.viewer.set_other(pixels), screen="other")

    def _ask(
        self,
        request: ViewRequest,
        priority: Priority,
        show: Callable[[ViewRequest, np.ndarray], None],
        screen: str = "screen",
    ) -> None:
        """Get pixels: from the cache at once, else from a job; an older wish for the same place is called off."""
        key = view_key(request)
        if screen == "screen":
            self._wanted = key
        found = self.session.engine.cache.get(key)
        if found is not None:
            show(request, found)
            return
        engine = self.session.engine
        self.session.jobs.cancel(lambda name: isinstance(name, tuple) and name[:1] == (screen,) and name[1] != key)
        self.session.submit(
            (screen, key),
            priority,
            lambda check: view_pixels(engine, request),
            lambda pixels: show(request, pixels),
            self._show_failure,
        )

    def _show(self, request: ViewRequest, pixels: np.ndarray) -> None:
        if view_key(request) != self._wanted:
            return
        # The matrix that the viewer compares with is its own zoom and pan at the time of asking.
        self.viewer.set_picture(pixels, self.viewer.matrix())
        self.shown.emit(request.frame)
        self._prepare_neighbours()

    def _show_failure(self, words: str) -> None:
        self.viewer.set_picture(None, np.eye(3), words)
        self.shown.emit(self.desk.frame)

    def _prepare_neighbours(self) -> None:
        """Make the next frames ready, so that stepping is instant."""
        look, shot = self.look(), self.shot
        if shot is None or look in (Look.CLEAN_PLATE, Look.SHEET):
            return
        engine = self.session.engine
        self.session.jobs.cancel(lambda name: isinstance(name, tuple) and name[:1] == ("ahead",))
        for step in NEIGHBOURS:
            frame = self.desk.frame + step
            request = self.request(frame, look) if frame in shot.footage.frames else None
            if request is not None and view_key(request) not in engine.cache:
                self.session.submit(
                    ("ahead", view_key(request)),
                    Priority.NEIGHBOUR,
                    partial(made_view, engine, request),
                    partial(self._on_ahead, frame),
                    lambda words: None,
                )

    def _on_ahead(self, frame: int, pixels: np.ndarray) -> None:
        self.shown.emit(frame)

    def is_ready(self, frame: int) -> bool:
        """Whether a frame could be shown at once."""
        request = self.request(frame, self.look())
        return request is not None and view_key(request) in self.session.engine.cache

    def ready_frames(self) -> frozenset[int]:
        """Return the frames that could be shown at once."""
        shot, look = self.shot, self.look()
        first = self.request(shot.footage.frames.first, look) if shot is not None else None
        if shot is None or first is None:
            return frozenset()
        inputs, cache = view_inputs(first), self.session.engine.cache
        found = []
        for frame in shot.footage.frames:
            moves = self.desk.is_steady or self.desk.is_square_on or self.desk.has_test_card
            request = self.request(frame, look) if moves else replace(first, frame=frame)
            if request is not None and view_key(request, inputs) in cache:
                found.append(frame)
        return frozenset(found)

    # -- overlays -------------------------------------------------------------------------------------------

    def refresh_overlay(self) -> None:
        """Draw shapes, lattice and cursor for the step in hand."""
        if self.shot is None or self.desk.hides_overlays:
            self.viewer.set_overlay(Overlay())
        else:
            self.viewer.set_overlay(self._overlay())
        self.refresh_cursor()

    def _overlay(self) -> Overlay:
        surface, desk = self._surface(), self.desk
        outlines: list[Outline] = []
        vertices: Points | None = None
        lattice: tuple[Points, ...] = ()
        trails: tuple[Points, ...] = ()
        if desk.step is Step.FOLLOW and self.look() is not Look.SHEET:
            outlines, vertices = self.stage.outlines(), self.stage.vertices()
            to_view = self.view_from_surface(surface)
            if surface is not None and to_view is not None and desk.has_lattice:
                lattice = _lattice(surface.outline, to_view)
            trails = tuple(self.stage.trails()) if desk.has_trails else ()
        elif desk.step in (Step.COVER, Step.MATCH) or desk.tool == "edit":
            self._add_cover(outlines)
            vertices = self._cover_vertices()
        if self.drawn.points:
            outlines.append(self._drawing())
            vertices = outlines[-1].points
        marks = tuple(self.stage.marks()) if desk.step is Step.FOLLOW else ()
        return Overlay(tuple(outlines), vertices, lattice, trails, marks)

    def _cover_vertices(self) -> Points | None:
        shape, to_view = self._cover_in_hand(), self._fix_to_view()
        if shape is None or to_view is None or self.desk.tool != "edit":
            return None
        points = self._moving if self._moving is not None else shape.points_at(self.desk.frame)
        return apply_matrix(to_view, points)

    def _fix_to_view(self) -> Matrix | None:
        fix, shot = self._fix(), self.shot
        return self.view_from_surface(shot.surface(fix.surface_id)) if fix is not None and shot is not None else None

    def _add_cover(self, outlines: list[Outline]) -> None:
        fix, to_view = self._fix(), self._fix_to_view()
        if fix is None or to_view is None:
            return
        for shape in fix.cover.shapes:
            points: Points = shape.points_at(self.desk.frame)
            if self._moving is not None and shape is fix.cover.shapes[0]:
                points = self._moving
            line = apply_matrix(to_view, outline(points, is_smooth=shape.is_smooth))
            outlines.append(Outline(line, "cover"))

    def _drawing(self) -> Outline:
        to_view = self._drawing_to_view()
        points = np.array(self.drawn.points)
        kind = "drawing"
        if self.desk.step is Step.FOLLOW:
            kind = "keep-out" if self.desk.draws == "keep-out" else "area"
        return Outline(apply_matrix(to_view, points) if to_view is not None else points, kind, is_closed=False)

    def _drawing_to_view(self) -> Matrix | None:
        """Return where a new shape is counted: an area in the frame's pixels, a cover in the surface's."""
        if self.desk.step is Step.FOLLOW:
            return self.view_from_frame()
        return self.view_from_surface(self._surface())

    def _cover_in_hand(self) -> Shape | None:
        fix = self._fix()
        return fix.cover.shapes[0] if fix is not None and fix.cover.shapes else None

    # -- cursor ---------------------------------------------------------------------------------------------

    def refresh_cursor(self) -> None:
        """Show the brush, its source and the line between them."""
        tool, plate = self.desk.paint_tool, self._plate()
        self.viewer.set_hand(self.desk.tool == "hand")
        to_view = self.view_from_plate(plate) if plate is not None else None
        if tool is None or plate is None or to_view is None:
            self.viewer.set_cursor_look(None)
            self.viewer.set_hand(self.desk.tool == "hand")
            return
        scale = float(np.sqrt(abs(np.linalg.det(to_view[:2, :2]))))
        by, line = self._source_by(to_view), None
        at = self.viewer._pen_at
        if self.source is None and self.source_point is not None and at is not None:
            seen = apply_matrix(to_view, self.source_point)
            line = QPointF(float(seen[0]), float(seen[1])), at
            by = (float(seen[0]) - at.x(), float(seen[1]) - at.y())
        elif by is not None and at is not None:
            line = at, at + QPointF(*by)
        if tool is Tool.RESTORE:
            by, line = None, None
        radius = self.desk.brush.size_px / 2 * scale
        look = CursorLook(
            radius,
            self.desk.brush.softness,
            by,
            is_setting_source=self._alt_held and tool is not Tool.RESTORE,
        )
        self.viewer.set_cursor_look(look, line)
        self.source_words.emit(self._source_words(tool))

    def _source_by(self, to_view: Matrix) -> tuple[float, float] | None:
        if self.source is None:
            return None
        moved = to_view[:2, :2] @ (self.source.dx, self.source.dy)
        return float(moved[0]), float(moved[1])

    def _source_words(self, tool: Tool) -> str:
        if tool is Tool.RESTORE:
            return "Brings the untouched frame back."
        if self.source is not None:
            return f"Source: {self.source.dx:+.0f}, {self.source.dy:+.0f} px from the brush. Alt-click takes another."
        if self.source_point is not None:
            return "Source set. The first touch fixes its distance."
        return "Alt-click on the picture to set the source."

    def _on_hovered(self, x: float, y: float) -> None:
        if self.desk.paint_tool is not None and not self._stroke_events:
            self.refresh_cursor()

    # -- pointer --------------------------------------------------------------------------------------------

    def _on_key_held(self, key: str, is_down: bool) -> None:
        if key == "Q":
            self.session.set_desk(is_flicked=is_down)
        elif key == "Z":
            self.session.set_desk(hides_overlays=is_down)
        else:
            self._alt_held = is_down
            self.refresh_cursor()

    def _on_pointer(self, event: PointerEvent) -> None:
        if self.shot is None:
            return
        if self.look() is Look.SHEET:
            if event.kind == "press":
                self.sheet.press(event.x, event.y)
        elif self.desk.paint_tool is not None:
            self._paint(event)
        elif self.desk.tool == "draw" and event.kind == "press":
            self._click(event)
        elif self.desk.step is Step.FOLLOW and self.desk.tool in ("edit", "pin"):
            self.stage.press(event) if event.kind == "press" else self.stage.move(event)
            self.refresh_overlay()
        elif self.desk.tool == "edit":
            self._edit(event)

    def cancel(self) -> bool:
        """Drop the gesture in hand; returns whether there was one."""
        was = bool(self.drawn.points) or self._drag is not None or bool(self._stroke_events) or self.stage.is_dragging
        self.stage.cancel()
        self.drawn, self._drag, self._moving, self._stroke_events, self._live = (
            DrawnShape(),
            None,
            None,
            [],
            None,
        )
        if was:
            self.refresh()
        return was

    # -- shapes ---------------------------------------------------------------------------------------------

    def _click(self, event: PointerEvent) -> None:
        if self.desk.step is Step.FOLLOW and self.stage.places_spots:
            self.stage.place_spot(event)
            self.refresh_overlay()
            return
        to_view = self._drawing_to_view()
        if to_view is None:
            surface = self._surface()
            words = f"{surface.name} is not followed to this frame." if surface else "Follow a surface first."
            self.session.error_shown.emit(f"A cover cannot be drawn here. {words}")
            return
        self.drawn = draw_shape_click(self.drawn, event, to_view)
        if self.drawn.is_closed:
            points, self.drawn = np.array(self.drawn.points), DrawnShape()
            if self.desk.step is Step.FOLLOW:
                self.stage.add_shape(points)
            else:
                self._add_cover_shape(points)
        self.refresh_overlay()

    def _add_cover_shape(self, points: Points) -> None:
        shot, surface, fix = self.shot, self._surface(), self._fix()
        shape = Shape(id=new_id(), keys=(ShapeKey(frame=self.desk.frame, points=Array(points)),))
        assert shot is not None
        assert surface is not None
        if fix is not None and not fix.cover.shapes:
            self.session.commit("Draw cover", edits.set_cover, shot.id, fix.id, shapes=(shape,))
        else:
            fresh = Fix(
                id=new_id(),
                name=free_name("Fix", shot.fixes),
                surface_id=surface.id,
                cover=Cover(shapes=(shape,)),
            )
            if self.session.commit("New fix", edits.add_fix, shot.id, fresh):
                self.session.set_desk(fix_id=fresh.id)
        self.session.set_desk(tool="edit")

    def _edit(self, event: PointerEvent) -> None:
        if event.kind == "press":
            shape, to_view = self._cover_in_hand(), self._fix_to_view()
            if shape is None or to_view is None:
                return
            self._drag = drag_points(shape.points_at(self.desk.frame), event, to_view, self)
            self._feed(None)
        elif self._drag is not None:
            self._feed(event)

    def show_points(self, points: Points) -> None:
        """Show the shape in hand where it would be (asked by the drag)."""
        self._moving = points
        self.refresh_overlay()

    def _feed(self, event: PointerEvent | None) -> None:
        assert self._drag is not None
        try:
            if event is None:
                next(self._drag)
            else:
                self._drag.send(event)
        except StopIteration as stop:
            self._drag, self._moving = None, None
            if stop.value is not None:
                self._commit_points(stop.value)
            self.refresh_overlay()

    def _commit_points(self, points: Points) -> None:
        shot, shape, fix = self.shot, self._cover_in_hand(), self._fix()
        assert shot is not None
        assert shape is not None
        assert fix is not None
        is_new = self.desk.frame not in {key.frame for key in shape.keys}
        self.session.commit(
            f"Key cover on {self.desk.frame}" if is_new else "Move cover",
            edits.set_shape_key, shot.id, fix.id, shape.id, self.desk.frame, Array(points),
        )  # fmt: skip

    # -- painting -------------------------------------------------------------------------------------------

    def _paint(self, event: PointerEvent) -> None:
        plate = self._plate()
        to_view = self.view_from_plate(plate) if plate is not None else None
        if plate is None or to_view is None:
            return
        tool = Tool.RESTORE if event.is_eraser else self.desk.paint_tool
        assert tool is not None
        plate_from_view = np.linalg.inv(to_view)
        if event.kind == "press":
            at = apply_matrix(plate_from_view, np.array([event.x, event.y]))
            if event.alt:
                if tool is not Tool.RESTORE:
                    self.source_point, self.source = at, None
                    self.refresh_cursor()
                return
            self._begin_stroke(plate, tool, at, event, to_view)
        elif self._live is not None:
            self._stroke_events.append(
                event if event.kind == "move" else replace(event, pressure=self._stroke_events[-1].pressure)
            )
            self._lay([self._stroke_events[-1]])
            if event.kind == "release":
                self._end_stroke(plate)

    def _begin_stroke(self, plate: CleanPlate, tool: Tool, at: Points, event: PointerEvent, to_view: Matrix) -> None:
        shot = self.shot
        assert shot is not None
        if tool is not Tool.RESTORE:
            if self.source is None and self.source_point is not None:
                away = self.source_point - at
                self.source = Source(dx=float(np.round(away[0])), dy=float(np.round(away[1])))
            if self.source is None:
                self.session.error_shown.emit(
                    "The brush has no source yet. Hold Alt and click where its pixels should come from."
                )
                return
        source = self.source if self.source is not None and tool is not Tool.RESTORE else Source()
        brush = self.desk.brush
        stroke = Stroke(
            id=new_id(), tool=tool, points=Array([[*at, 1.0]]), size_px=brush.size_px, softness=brush.softness,
            opacity=brush.opacity, source=source,
        )  # fmt: skip
        self._live_stroke, self._live_view = stroke, to_view
        ratio = self.viewer.devicePixelRatioF()
        device = np.diag([ratio, ratio, 1.0]) @ to_view
        self._live = LiveStroke(
            self.session.engine, shot, plate, stroke, device, self.viewer.pixel_size(), self.desk.display
        )
        self._stroke_events = [event]
        first = [event]
        if event.shift and self.last_point is not None:
            seen = apply_matrix(to_view, self.last_point)
            start = replace(event, x=float(seen[0]), y=float(seen[1]))
            self._stroke_events = [start, event]
            first = self._stroke_events
        self._lay(first)

    def _lay(self, events: list[PointerEvent]) -> None:
        """Lay points beside the interface; what they change comes back as pixels."""
        live = self._live
        assert live is not None
        points = stroke_points(events, np.linalg.inv(self._live_view))
        self.session.submit(
            ("hand", next(self._numbers)),
            Priority.HAND,
            lambda check: live.add(points),
            lambda shown: self._show_live(live, shown),
        )

    def _show_live(self, live: LiveStroke, shown: Shown | None) -> None:
        if shown is not None and live is self._live:
            self.viewer.add_live(shown.window, shown.pixels)

    def _end_stroke(self, plate: CleanPlate) -> None:
        shot, stroke = self.shot, self._live_stroke
        assert shot is not None
        assert stroke is not None
        points = stroke_points(self._stroke_events, np.linalg.inv(self._live_view))
        self._stroke_events, self._live = [], None
        self.last_point = points[-1, :2]
        try:
            done = Stroke(
                id=stroke.id, tool=stroke.tool, points=Array(_thinned(points)), size_px=stroke.size_px,
                softness=stroke.softness, opacity=stroke.opacity, source=stroke.source,
            )  # fmt: skip
        except ValueError as error:
            raise EditError(str(error)) from error
        self.session.commit(f"{stroke.tool.capitalize()} stroke", edits.add_stroke, shot.id, plate.id, done)


def made_view(engine: Engine, request: ViewRequest, check: Callable[[], None]) -> np.ndarray:
    """Return a viewport's pixels; a job's work."""
    return view_pixels(engine, request)


def _thinned(points: np.ndarray) -> np.ndarray:
    """Return stroke points without those that repeat their neighbour."""
    if len(points) < 2:
        return points
    keep = np.r_[True, (np.abs(np.diff(points[:, :2], axis=0)) > 1e-6).any(axis=1)]
    return points[keep]


def _lattice(points: Points, to_view: Matrix) -> tuple[Points, ...]:
    """Return the lines of a grid over a shape's box on its surface, as the viewport sees them."""
    low, high = points.min(axis=0), points.max(axis=0)
    step = max(high - low) / (LATTICE_LINES - 1)
    low, high = low - step, high + step
    across = np.arange(low[0], high[0] + step / 2, step)
    down = np.arange(low[1], high[1] + step / 2, step)
    lines = [np.array([[x, low[1]], [x, down[-1]]]) for x in across]
    lines += [np.array([[low[0], y], [across[-1], y]]) for y in down]
    return tuple(apply_matrix(to_view, line) for line in lines)


def free_name(kind: str, items: tuple[Surface, ...] | tuple[Fix, ...] | tuple[CleanPlate, ...]) -> str:
    """Return a name that none of the items has."""
    taken = {item.name for item in items}
    return next(f"{kind} {number}" for number in itertools.count(1) if f"{kind} {number}" not in taken)
