"""The Follow step on the picture: what is drawn over it, and what clicks and drags there become."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from functools import partial
from typing import Protocol

import numpy as np
from msgspec.structs import replace

from gommage.app.desk import Desk
from gommage.app.session import Session
from gommage.app.tools import PointerEvent, drag_points, hit_point
from gommage.app.viewer import Mark, Outline
from gommage.core.document import (
    Aim,
    Area,
    Array,
    ByHand,
    How,
    Pin,
    PlaneFollow,
    PointsFollow,
    Shape,
    ShapeKey,
    Spot,
    Still,
    Surface,
    Track,
    edits,
    new_id,
)
from gommage.core.follow import aimed
from gommage.core.picture import Matrix, Points, apply_matrix

__all__ = ["FollowStage", "SurfaceView"]

TRAIL_FRAMES = 24
"""How many frames before and after are drawn of a corner's way."""
OWN_POINTS = 4


class SurfaceView(Protocol):
    """Where frames and surfaces are in the viewport."""

    def view_from_frame(self) -> Matrix:
        """Return the matrix from the shown frame's pixels to the viewport."""
        ...

    def view_from_surface(self, surface: Surface | None) -> Matrix | None:
        """Return the matrix from a surface's home pixels to the viewport, or None where it is not known."""
        ...


@dataclass(slots=True)
class _Drag:
    """A drag: its generator, where its points are shown, and what becomes of them."""

    steps: Generator[None, PointerEvent, Points | None]
    to_view: Matrix
    commit: Callable[[Points], None]
    points: Points | None = None

    def show_points(self, points: Points) -> None:
        """Show the points where they would be."""
        self.points = points


class FollowStage:
    """Draws and edits areas, keep-outs, spots, corners and pins of the surface in hand."""

    def __init__(self, session: Session, view: SurfaceView, free_name: Callable[..., str]) -> None:
        self._session, self._view, self._free_name = session, view, free_name
        self._drag: _Drag | None = None
        self._dragged = ""

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    def _surface(self) -> Surface | None:
        return self._desk.surface(self._session.project)

    def _matrix(self, surface: Surface, frame: int) -> Matrix | None:
        placed = self._session.placed(surface)
        if placed is not None and placed.is_placed(frame):
            return placed.matrix(frame)
        return np.eye(3) if frame == surface.home_frame else None

    @property
    def is_dragging(self) -> bool:
        """Whether a drag goes on."""
        return self._drag is not None

    def cancel(self) -> None:
        """Drop the drag."""
        self._drag = None

    # -- what is drawn ----------------------------------------------------------------------------------------

    def outlines(self) -> list[Outline]:
        """Return the outlines of areas and keep-outs, in viewport coordinates; the one in hand is marked."""
        surface = self._surface()
        if surface is None:
            return []
        if not isinstance(surface.how, PlaneFollow):
            to_view = self._view.view_from_surface(surface)
            corners = surface.corners
            return [Outline(apply_matrix(to_view, corners), "area")] if to_view is not None else []
        chosen = self._desk.area(self._session.project)
        found = []
        for items, kind in ((surface.how.areas, "area"), (surface.how.keep_outs, "keep-out")):
            for item in items:
                to_view = self._area_to_view(surface, item)
                if to_view is None:
                    continue
                points: Points = item.shape.points_at(self._desk.frame)
                if self._drag is not None and self._dragged == item.shape.id and self._drag.points is not None:
                    points = self._drag.points
                is_chosen = chosen is not None and item.shape.id == chosen.shape.id
                found.append(Outline(apply_matrix(to_view, points), kind, is_chosen=is_chosen))
        return found

    def _area_to_view(self, surface: Surface, area: Area) -> Matrix | None:
        return self._view.view_from_frame() if area.stays_put else self._view.view_from_surface(surface)

    def vertices(self) -> Points | None:
        """Return the handles of what can be dragged, in viewport coordinates."""
        surface, desk = self._surface(), self._desk
        if surface is None:
            return None
        if self._drag is not None and self._drag.points is not None:
            return apply_matrix(self._drag.to_view, self._drag.points)
        if desk.tool == "pin":
            placed = self._pin_places(surface)
            return None if placed is None else apply_matrix(self._view.view_from_frame(), placed)
        area = desk.area(self._session.project)
        if desk.tool != "edit" or area is None:
            return None
        to_view = self._area_to_view(surface, area)
        return None if to_view is None else apply_matrix(to_view, area.shape.points_at(desk.frame))

    def marks(self) -> list[Mark]:
        """Return spots with their squares, and pins of this frame, in viewport coordinates."""
        surface = self._surface()
        if surface is None or not isinstance(surface.how, PointsFollow):
            return []
        found = []
        for spot, place, sure in self._spots(surface):
            at = apply_matrix(self._view.view_from_frame(), place)
            if self._drag is not None and self._dragged == spot.id and self._drag.points is not None:
                at = apply_matrix(self._drag.to_view, self._drag.points[0])
            found.append(Mark(float(at[0]), float(at[1]), is_seen=sure > 0, is_chosen=spot.id == self._desk.area_id))
        return found

    def _spots(self, surface: Surface) -> list[tuple[Spot, Points, float]]:
        """Return the spots that are known on this frame: the spot, where it is, how surely."""
        assert isinstance(surface.how, PointsFollow)
        live = self._session.live_surface
        how = live.how if live is not None and live.id == surface.id else surface.how
        assert isinstance(how, PointsFollow)
        frame, matrix = self._desk.frame, self._matrix(surface, self._desk.frame)
        found: list[tuple[Spot, Points, float]] = []
        for spot in how.spots:
            row = frame - spot.path.first_frame if spot.path is not None else -1
            if spot.path is not None and 0 <= row < len(spot.path.certainty):
                found.append((spot, spot.path.positions.values[row], float(spot.path.certainty.values[row])))
            elif matrix is not None:
                home = np.array([spot.x, spot.y])
                found.append((spot, apply_matrix(matrix, home), 1.0 if frame == surface.home_frame else 0.0))
        return found

    def trails(self) -> list[Points]:
        """Return the ways of the corners over the frames around, in viewport coordinates."""
        surface = self._surface()
        placed = self._session.placed(surface) if surface is not None else None
        if surface is None or placed is None:
            return []
        frames = [
            frame
            for frame in range(self._desk.frame - TRAIL_FRAMES, self._desk.frame + TRAIL_FRAMES + 1)
            if placed.is_placed(frame)
        ]
        if len(frames) < 2:
            return []
        ways = np.stack([apply_matrix(placed.matrix(frame), surface.corners) for frame in frames])
        view = self._view.view_from_frame()
        return [apply_matrix(view, ways[:, corner]) for corner in range(4)]

    # -- drawing ----------------------------------------------------------------------------------------------

    @property
    def places_spots(self) -> bool:
        """Whether a click sets a spot rather than a corner of a shape."""
        surface = self._surface()
        draws = self._desk.draws
        return draws == "points" or (
            draws in ("area", "keep-out") and surface is not None and isinstance(surface.how, PointsFollow)
        )

    def place_spot(self, event: PointerEvent) -> None:
        """Set a spot under the pen: the first begins a surface of points."""
        desk, shot = self._desk, self._desk.shot(self._session.project)
        assert shot is not None
        at = apply_matrix(np.linalg.inv(self._view.view_from_frame()), np.array([event.x, event.y]))
        surface = self._surface()
        if surface is None or not isinstance(surface.how, PointsFollow) or desk.draws == "points":
            spot = Spot(id=new_id(), x=float(at[0]), y=float(at[1]))
            self._add(Surface(id=new_id(), name=self._free_name("Points", shot.surfaces), home_frame=desk.frame,
                              how=PointsFollow(spots=(spot,))))  # fmt: skip
            self._session.set_desk(draws="area", tool="draw")
            return
        matrix = self._matrix(surface, desk.frame)
        if matrix is None:
            self._session.error_shown.emit(f"{surface.name} is not followed to this frame; set spots where it is.")
            return
        home = apply_matrix(np.linalg.inv(matrix), at)
        spot = Spot(id=new_id(), x=float(home[0]), y=float(home[1]))
        spots = (*surface.how.spots, spot)
        self._session.commit("Set spot", edits.change_follow, shot.id, surface.id, spots=spots)

    def add_shape(self, points: Points) -> None:
        """Make what was drawn (N, 2), in pixels of the frame on screen, what the desk says it is."""
        desk, shot, surface = self._desk, self._desk.shot(self._session.project), self._surface()
        assert shot is not None
        shape = Shape(id=new_id(), keys=(ShapeKey(frame=desk.frame, points=Array(points)),))
        if surface is not None and desk.draws in ("area", "keep-out"):
            self._add_area(surface, shape)
            return
        corners = Array(points if len(points) == 4 else _box(points))
        kinds: dict[str, How] = {"still": Still(corners=corners), "by hand": ByHand(corners=corners)}
        how = kinds.get(desk.draws, PlaneFollow(areas=(Area(shape=shape),)))
        name = {"still": "Still", "by hand": "By hand"}.get(desk.draws, "Surface")
        fresh = Surface(id=new_id(), name=self._free_name(name, shot.surfaces), home_frame=desk.frame, how=how)
        self._add(fresh)
        self._session.set_desk(tool="pin" if desk.draws == "by hand" else "edit", draws="surface")

    def _add(self, surface: Surface) -> None:
        desk = self._desk
        if self._session.commit("New surface", edits.add_surface, desk.shot_id, surface):
            self._session.set_desk(surface_id=surface.id, area_id="", pin_points=())

    def _add_area(self, surface: Surface, shape: Shape) -> None:
        desk = self._desk
        matrix = self._matrix(surface, desk.frame)
        if matrix is None:
            self._session.error_shown.emit(
                f"{surface.name} is not followed to frame {desk.frame}; draw its areas where it is."
            )
            return
        if not np.array_equal(matrix, np.eye(3)):
            home = apply_matrix(np.linalg.inv(matrix), shape.keys[0].points.values)
            shape = replace(shape, keys=(ShapeKey(frame=desk.frame, points=Array(home)),))
        is_keep_out = desk.draws == "keep-out"
        label = "Draw keep-out" if is_keep_out else "Draw area"
        self._session.commit(
            label, edits.set_area, desk.shot_id, surface.id, Area(shape=shape), is_keep_out=is_keep_out
        )
        self._session.set_desk(tool="edit", area_id=shape.id)

    # -- dragging ---------------------------------------------------------------------------------------------

    def press(self, event: PointerEvent) -> None:
        """Begin a drag of what is under the pen."""
        surface = self._surface()
        if surface is None:
            return
        if self._desk.tool == "pin":
            self._press_pin(surface, event)
        elif isinstance(surface.how, PointsFollow):
            self._press_spot(surface, event)
        elif isinstance(surface.how, PlaneFollow):
            self._press_area(surface, event)

    def move(self, event: PointerEvent) -> None:
        """Go on with the drag; letting go commits it."""
        drag = self._drag
        if drag is None:
            return
        try:
            drag.steps.send(event)
        except StopIteration as stop:
            self._drag = None
            if stop.value is not None:
                drag.commit(stop.value)

    def _begin(self, points: Points, event: PointerEvent, to_view: Matrix, commit: Callable[[Points], None]) -> None:
        drag = _Drag(iter(()), to_view, commit)  # type: ignore[arg-type]
        drag.steps = drag_points(points, event, to_view, drag)
        try:
            next(drag.steps)
        except StopIteration:
            return
        self._drag = drag

    def _press_area(self, surface: Surface, event: PointerEvent) -> None:
        assert isinstance(surface.how, PlaneFollow)
        chosen = self._desk.area(self._session.project)
        items = [*surface.how.keep_outs, *surface.how.areas]
        for item in sorted(items, key=lambda one: chosen is None or one.shape.id != chosen.shape.id):
            to_view = self._area_to_view(surface, item)
            if to_view is None:
                continue
            points = item.shape.points_at(self._desk.frame)
            self._begin(points, event, to_view, partial(self._commit_area, item.shape.id))
            if self._drag is not None:
                self._dragged = item.shape.id
                self._session.set_desk(area_id=item.shape.id)
                return

    def _commit_area(self, area_id: str, points: Points) -> None:
        desk = self._desk
        area = desk.area(self._session.project)
        frame = desk.frame
        is_new = area is not None and frame not in {key.frame for key in area.shape.keys}
        label = f"Key area on {frame}" if is_new else "Change area"
        self._session.commit(label, edits.set_area_key, desk.shot_id, desk.surface_id, area_id, frame, Array(points))

    def _press_spot(self, surface: Surface, event: PointerEvent) -> None:
        view = self._view.view_from_frame()
        for spot, place, _ in self._spots(surface):
            if hit_point(place[None], event, view) is None:
                continue
            self._dragged = spot.id
            self._session.set_desk(area_id=spot.id)
            self._begin(place[None].copy(), event, view, partial(self._commit_spot, spot, place))
            return
        self._session.set_desk(area_id="")

    def _commit_spot(self, spot: Spot, place: Points, points: Points) -> None:
        """Move a spot on the home frame; on others follow it by another feature from here on, without a jump."""
        desk, surface, at = self._desk, self._surface(), points[0]
        assert surface is not None
        assert isinstance(surface.how, PointsFollow)
        if desk.frame == surface.home_frame:
            changed, label = replace(spot, x=float(at[0]), y=float(at[1]), path=None), "Move spot"
        else:
            aim: Aim = aimed(spot, desk.frame, at, place)
            others = tuple(one for one in spot.aims if one.frame != desk.frame)
            aims = tuple(sorted((*others, aim), key=lambda one: one.frame))
            changed, label = replace(spot, aims=aims), f"Re-aim spot from {desk.frame}"
        spots = tuple(changed if one.id == spot.id else one for one in surface.how.spots)
        self._session.commit(label, edits.change_follow, desk.shot_id, surface.id, spots=spots)

    # -- pins -------------------------------------------------------------------------------------------------

    def _pin_home(self, surface: Surface) -> Points:
        own = self._desk.pin_points
        return np.array(own) if own else surface.corners

    def _pin_places(self, surface: Surface) -> Points | None:
        """Return where the pin's handles are on this frame, in its pixels."""
        matrix = self._matrix(surface, self._desk.frame)
        if matrix is None:
            placed = self._session.placed(surface)
            matrix = _nearest(placed, self._desk.frame) if placed is not None else None
        return None if matrix is None else apply_matrix(matrix, self._pin_home(surface))

    def _press_pin(self, surface: Surface, event: PointerEvent) -> None:
        places = self._pin_places(surface)
        if places is None:
            self._session.error_shown.emit(f"{surface.name} is nowhere yet; follow it or go to its home frame.")
            return
        if event.alt:
            self._add_own_point(surface, event)
            return
        self._dragged = ""
        self._begin(places.copy(), event, self._view.view_from_frame(), self._commit_pin)

    def _add_own_point(self, surface: Surface, event: PointerEvent) -> None:
        matrix = self._matrix(surface, self._desk.frame)
        if matrix is None:
            return
        at = apply_matrix(np.linalg.inv(self._view.view_from_frame()), np.array([event.x, event.y]))
        home = apply_matrix(np.linalg.inv(matrix), at)
        own = (*self._desk.pin_points, (float(home[0]), float(home[1])))
        self._session.set_desk(pin_points=own[-OWN_POINTS:])

    def _commit_pin(self, placed: Points) -> None:
        desk, surface = self._desk, self._surface()
        assert surface is not None
        pin = Pin(frame=desk.frame, home=Array(self._pin_home(surface)), placed=Array(placed))
        self._session.commit(f"Pin on {desk.frame}", edits.set_pin, desk.shot_id, surface.id, pin)


def _nearest(track: Track, frame: int) -> Matrix:
    frames = track.frames
    return track.matrix(min(max(frame, frames.first), frames.last))


def _box(points: Points) -> Points:
    (left, top), (right, bottom) = points.min(axis=0), points.max(axis=0)
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]])
