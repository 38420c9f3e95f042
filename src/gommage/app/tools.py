"""Pointer tools: no Qt. Each drag is a generator that is fed frozen events; closing it cancels the gesture.

Tools report through a `Gestures` receiver; they know coordinates of the viewport and of the surface, nothing else.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from gommage.core.picture import Matrix, Points, apply_matrix

__all__ = [
    "DrawnShape",
    "PointerEvent",
    "Stage",
    "draw_shape_click",
    "drag_points",
    "hit_point",
    "stroke_points",
]

GRAB_PX = 9.0


@dataclass(frozen=True, slots=True)
class PointerEvent:
    """A pen or mouse event in viewport pixels: press, move or release."""

    kind: str
    x: float
    y: float
    pressure: float = 1.0
    alt: bool = False
    shift: bool = False
    control: bool = False
    is_eraser: bool = False


class Stage(Protocol):
    """What a drag shows while it goes on."""

    def show_points(self, points: Points) -> None:
        """Show a shape's vertices where they would be."""
        ...


@dataclass(frozen=True, slots=True)
class DrawnShape:
    """A shape while it is being clicked: vertices in surface coordinates."""

    points: tuple[tuple[float, float], ...] = ()
    is_closed: bool = False


def draw_shape_click(drawn: DrawnShape, event: PointerEvent, view_from_surface: Matrix) -> DrawnShape:
    """Return the shape after a click: one more vertex, or closed by a click on the first."""
    if len(drawn.points) >= 3:
        first = apply_matrix(view_from_surface, np.array(drawn.points[:1]))[0]
        if np.hypot(first[0] - event.x, first[1] - event.y) < GRAB_PX:
            return DrawnShape(drawn.points, is_closed=True)
    x, y = apply_matrix(np.linalg.inv(view_from_surface), np.array([event.x, event.y]))
    return DrawnShape((*drawn.points, (float(x), float(y))))


def hit_point(points: Points, event: PointerEvent, view_from_surface: Matrix) -> int | None:
    """Return the index of the vertex under the pointer, or None."""
    seen = apply_matrix(view_from_surface, points)
    distance = np.hypot(seen[:, 0] - event.x, seen[:, 1] - event.y)
    index = int(np.nanargmin(distance))
    return index if distance[index] < GRAB_PX else None


def _is_inside(points: Points, event: PointerEvent, view_from_surface: Matrix) -> bool:
    seen = apply_matrix(view_from_surface, points)
    x, y = seen[:, 0], seen[:, 1]
    x2, y2 = np.roll(x, -1), np.roll(y, -1)
    with np.errstate(divide="ignore", invalid="ignore"):
        crossing = ((y <= event.y) != (y2 <= event.y)) & (event.x < x + (event.y - y) / (y2 - y) * (x2 - x))
    return bool(crossing.sum() % 2)


def drag_points(
    points: Points, press: PointerEvent, view_from_surface: Matrix, stage: Stage
) -> Generator[None, PointerEvent, Points | None]:
    """Drag a vertex, or the whole shape when it is grabbed inside; returns the new vertices, None if nothing moved."""
    grabbed = hit_point(points, press, view_from_surface)
    if grabbed is None and not _is_inside(points, press, view_from_surface):
        return None
    surface_from_view = np.linalg.inv(view_from_surface)
    begin = apply_matrix(surface_from_view, np.array([press.x, press.y]))
    moved = points
    while True:
        event = yield
        here = apply_matrix(surface_from_view, np.array([event.x, event.y]))
        moved = points.copy()
        if grabbed is None:
            moved += here - begin
        else:
            moved[grabbed] += here - begin
        if event.kind == "release":
            return moved if not np.array_equal(moved, points) else None
        stage.show_points(moved)


def stroke_points(events: list[PointerEvent], plate_from_view: Matrix) -> np.ndarray:
    """Return events as stroke points (N, 3): x, y in plate pixels, pressure."""
    seen = np.array([(event.x, event.y) for event in events])
    return np.column_stack([apply_matrix(plate_from_view, seen), [event.pressure for event in events]])
