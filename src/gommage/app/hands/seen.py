"""Shapes as a hand sees them: where their vertices and lines are in the viewport, and how a change to them is done."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.app.desk import Desk
from gommage.app.hands.gestures import GRAB_PX, Edit, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.names import WORDS
from gommage.core.document import Drawn, MattePart, PlaneFollow, Shape, VertexKind, edits
from gommage.core.document.edits import Reach, Slot, slot_of
from gommage.core.document.outlines import normals, on_line, sampled, softness_along
from gommage.core.engine import Step as WorkStep
from gommage.core.geometry import Mapping, Points, composed

__all__ = ["Seen", "change_label", "desk_of", "in_frame", "part_seen", "parts_seen", "reshaped", "soft_places"]

SOFT_LEAST_PX = 14.0
"""So far from the line the handles of softness are at least, or none could be taken hold of."""


@dataclass(frozen=True)
class Seen:
    """A drawn part of a matte as it is in the viewport.

    Attributes
    ----------
    vertices : (N, 8) float64
        On the frame, in pixels of what it rides on.
    view : Mapping
        From these to the viewport.
    """

    part: MattePart
    shape: Shape
    vertices: NDArray[np.float64]
    view: Mapping

    @property
    def places(self) -> Points:
        """The vertices in the viewport, (N, 2)."""
        return self.view(self.vertices[:, :2])

    def line(self) -> tuple[Points, NDArray[np.float64]]:
        """Return the line in the viewport, (M, 2), and where on it the points are."""
        line, where = sampled(self.vertices, self.shape.kinds, is_closed=self.shape.is_closed, least=4)
        return self.view(line), where

    def vertex_at(self, event: PointerEvent) -> int | None:
        """Return the vertex under the pen, or None."""
        far = np.hypot(*(self.places - event.xy).T)
        if not np.isfinite(far).any():
            return None
        index = int(np.nanargmin(far))
        return index if far[index] < GRAB_PX else None

    def place_at(self, event: PointerEvent) -> float | None:
        """Return where on the line the pen is, as `outlines.sampled` counts it, or None if it is not on it."""
        line, where = self.line()
        if self.shape.is_closed:
            line, where = np.vstack([line, line[:1]]), np.append(where, float(len(self.vertices)))
        ways, off = np.diff(line, axis=0), event.xy - line[:-1]
        share = np.clip((off * ways).sum(axis=1) / np.maximum((ways**2).sum(axis=1), 1e-12), 0, 1)
        far = np.hypot(*(off - share[:, None] * ways).T)
        if not np.isfinite(far).any() or np.nanmin(far) > GRAB_PX:
            return None
        index = int(np.nanargmin(far))
        return float(where[index] + share[index] * (where[index + 1] - where[index]))

    def is_around(self, event: PointerEvent) -> bool:
        """Return whether the pen is inside the closed line."""
        line, _ = self.line()
        if not self.shape.is_closed or not np.isfinite(line).all():
            return False
        return bool(cv2.pointPolygonTest(line.astype(np.float32), (event.x, event.y), measureDist=False) >= 0)


def part_seen(ground: Ground, part: MattePart) -> Seen | None:
    """Return a drawn part as it is seen, None where it is not."""
    if not isinstance(part.source, Drawn):
        return None
    view = ground.view_from(part.source.surface_id)
    if view is None:
        return None
    shape = part.source.shape
    return Seen(part, shape, shape.vertices_at(ground.desk.frame), view)


def parts_seen(ground: Ground) -> list[Seen]:
    """Return the parts that hands may change, the one in hand first, then from the front backwards."""
    chosen = ground.desk.part(ground.project)
    parts = ground.desk.parts(ground.project)[::-1]
    in_order = sorted(parts, key=lambda part: chosen is None or part.id != chosen.id)
    seen = [part_seen(ground, part) for part in in_order]
    return [one for one in seen if one is not None and not one.shape.is_locked]


def in_frame(ground: Ground, seen: Seen, move: Mapping) -> Mapping:
    """Return a movement in pixels of the frame as one in pixels of what a part rides on."""
    assert isinstance(seen.part.source, Drawn)
    home = ground.home_to_frame(seen.part.source.surface_id, ground.frame)
    assert home is not None
    return composed(home, move, home.inverse())


def soft_places(seen: Seen, side: int) -> tuple[Points, Points]:
    """Return where the handles of the vertices' softness are in the viewport, (N, 2), and the directions across.

    Parameters
    ----------
    side : int
        1 outside, -1 inside.
    """
    line, where = sampled(seen.vertices, seen.shape.kinds, is_closed=seen.shape.is_closed, least=4)
    at_vertices = np.searchsorted(where, np.arange(len(seen.vertices)) - 1e-9)
    across = side * normals(line, is_closed=seen.shape.is_closed)[np.minimum(at_vertices, len(line) - 1)]
    own = seen.vertices[:, 7 if side > 0 else 6][:, None]
    here, there = seen.places, seen.view(seen.vertices[:, :2] + own * across)
    ahead = seen.view(seen.vertices[:, :2] + across) - here
    ahead /= np.maximum(np.hypot(*ahead.T), 1e-9)[:, None]
    length = np.maximum(np.hypot(*(there - here).T), 0)[:, None]
    return here + ahead * (SOFT_LEAST_PX + length), ahead


def soft_line(seen: Seen, side: int) -> Points:
    """Return how far the edge fades on one side, as a line in the viewport (M, 2)."""
    closed = seen.shape.is_closed
    _, where = sampled(seen.vertices, seen.shape.kinds, is_closed=closed, least=4)
    line = on_line(seen.vertices, seen.shape.kinds, where, is_closed=closed)
    own = softness_along(seen.vertices, where, is_closed=closed)[:, 1 if side > 0 else 0]
    return seen.view(line + side * own[:, None] * normals(line, is_closed=closed))


# -- changes ------------------------------------------------------------------------------------------------


def desk_of(part: MattePart, vertices: tuple[int, ...] = ()) -> dict[str, object]:
    """Return what of the desk changes when a part is taken into the hand."""
    return {"part_id": part.id, "vertices": vertices}


def reshaped(
    ground: Ground, seen: Seen, vertices: NDArray[np.float64], label: str = "", *, kinds: tuple[VertexKind, ...] = (),
    places: tuple[float, ...] = (), vertex_ids: tuple[int, ...] | None = None,
) -> Step:  # fmt: skip
    """Return the step that puts a part's vertices (N, 8) where they are, on the keys that the desk says.

    Parameters
    ----------
    kinds : tuple of VertexKind
        Other kinds that they get, if any.
    places : tuple of float
        Where vertices are inserted first, in falling order.
    """
    desk = ground.desk
    if not np.isfinite(vertices).all():
        return Step(desk=desk_of(seen.part))
    edit: Edit = partial(
        edits.reshape, shot_id=desk.shot_id, shape_id=seen.shape.id, frame=desk.frame, vertices=vertices,
        reach=desk.reach, marked=desk.marked,
    )  # fmt: skip
    for where in places[::-1]:
        edit = _first(partial(edits.insert_vertex, shot_id=desk.shot_id, shape_id=seen.shape.id, where=where), edit)
    if kinds:
        edit = _first(partial(edits.change_shape, shot_id=desk.shot_id, shape_id=seen.shape.id, kinds=kinds), edit)
    chosen = desk.chosen_vertices(seen.part.id) if vertex_ids is None else vertex_ids
    return Step(label or change_label(ground, seen), edit, desk_of(seen.part, chosen))


def _first(one: Edit, other: Edit) -> Edit:
    return lambda project: other(one(project))


def change_label(ground: Ground, seen: Seen) -> str:
    """Return the word for a change of a part's vertices."""
    desk = ground.desk
    what = _said(ground, seen.part)
    if desk.reach is Reach.ALL:
        return f"Change {what} on all keys"
    if desk.reach is Reach.MARKED:
        return f"Change {what} on marked frames"
    is_new = seen.shape.key_at(desk.frame) is None
    return f"Key {what} on {desk.frame}" if is_new else f"Move {what}"


def _said(ground: Ground, part: MattePart) -> str:
    desk: Desk = ground.desk
    if desk.step is WorkStep.FOLLOW:
        surface = ground.surface
        if surface is not None and part in surface.extent.parts:
            return "extent"
        how = surface.how if surface is not None else None
        return "area" if isinstance(how, PlaneFollow) and part in how.areas.parts else "keep-out"
    slot = slot_of(ground.shot, part.id)[1] if ground.shot is not None else Slot.COVER
    return WORDS.get(slot, "cover")
