"""Borrow: what is covered, filled from beside it or from another frame, each part from a place of its own."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import Borrow, Fix, Footage, Place, Shot, mappings_of, value_at
from gommage.core.document.records import Record
from gommage.core.fill.blocking import not_around
from gommage.core.fill.holes import hidden_by
from gommage.core.fill.placed import frame_at
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.geometry import Mapping, Window, around, composed, from_matrix, scaling, spanning
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, resample
from gommage.errors import FootageError

__all__ = ["BorrowAt", "borrow_at", "fill_borrowed", "source_mapping"]

Check = Callable[[], None]
RING_GAP_PX, RING_PX, DARKEST, LEAST_POINTS = 1, 10, 1e-4, 24
SLOPE_POINTS, ROUNDS, STIFF = 160, 6, 0.01
"""From so many points on light may slope over a piece; how reluctantly."""
BEYOND_PX = 9
"""So far around what is covered is filled as well: seams are told by it."""
SPLINE_PX = 14


class PieceAt(Record, frozen=True):
    """A part of a cover on a frame, the frame that it is borrowed from, and where in it each pixel is."""

    cover: MatteAt
    frame: int
    source_from_frame: Mapping


class BorrowAt(Record, frozen=True):
    """What is borrowed on one frame: everything that its pixels depend on; `whole` is all of the cover."""

    footage: Footage
    frame: int
    pieces: tuple[PieceAt, ...]
    is_lit: bool
    others: tuple[MatteAt, ...]
    whole: MatteAt

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: no clean plate."""
        return ()

    @property
    def as_shot(self) -> BorrowAt:
        """The same without paint."""
        return self


def source_mapping(
    shot: Shot, surface_id: str, place: Place, frame: int, middle: tuple[float, float]
) -> Mapping | None:
    """Return where in the frame that is borrowed from each pixel of a frame is; None where that is not known.

    Parameters
    ----------
    shot : Shot
    surface_id : str
        Along which it runs, if it does.
    place : Place
    frame : int
    middle : (x, y)
        Of what is covered, in pixels of the frame: about it the source is turned.
    """
    ways = _ways(shot, surface_id if place.runs_along else "", frame, frame_at(place.time, frame))
    if ways is None:
        return None
    back, there = ways
    x, y = back(np.array([middle]))[0]
    turn, scale = np.deg2rad(value_at(place.turn_deg, frame)), max(value_at(place.scale, frame), 1e-3)
    cos, sin = np.cos(turn) / scale, np.sin(turn) / scale
    matrix = np.array([[cos, sin], [-sin, cos]])
    if place.is_mirrored:
        matrix[:, 0] *= -1
    by = np.array([x + value_at(place.dx, frame), y + value_at(place.dy, frame)]) - matrix @ (x, y)
    moved = from_matrix(np.vstack([np.column_stack([matrix, by]), [0, 0, 1]]))
    return composed(back, moved, there)


@lru_cache(maxsize=256)
def _ways(shot: Shot, surface_id: str, frame: int, other: int) -> tuple[Mapping, Mapping] | None:
    """Return where pixels of a frame are on a surface, and where those of the surface are on another frame."""
    here, there = (mappings_of(shot)(surface_id, one) for one in (frame, other))
    return None if here is None or there is None else (here.inverse(), there)


def borrow_at(fill: Borrow, shot: Shot, fix: Fix, frame: int) -> BorrowAt | None:
    """Return what is borrowed on a frame; None if nothing can be."""
    pieces = []
    for part in fix.cover.parts:
        cover = matte_on(shot, replace(fix.cover, parts=(part,)), frame)
        reach = reach_of(cover, shot.footage.bounds)
        if reach.is_empty:
            continue
        place = fill.place_of(part.id)
        middle = (reach.left + reach.right) / 2, (reach.top + reach.bottom) / 2
        other = frame_at(place.time, frame)
        mapping = source_mapping(shot, fix.surface_id, place, frame, middle)
        if mapping is not None and other in shot.footage.frames and other not in shot.footage.missing:
            pieces.append(PieceAt(cover=cover, frame=other, source_from_frame=mapping))
    if not pieces:
        return None
    return BorrowAt(footage=shot.footage, frame=frame, pieces=tuple(pieces), is_lit=fill.is_lit,
                    others=not_around(shot, fix, frame), whole=matte_on(shot, fix.cover, frame))  # fmt: skip


# -- pixels -------------------------------------------------------------------------------------------------


def fill_borrowed(at: BorrowAt, scene: Scene, window: Window, check: Check = lambda: None) -> Filled:
    """Lay each part from the place that it is borrowed from, under the light around it.

    Parameters
    ----------
    at : BorrowAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale. A pixel is the same in every window.
    check : callable
        Called for each part.
    """
    pixels = scene.plate(at.footage, at.frame, window).copy()
    valid: Picture = np.zeros((window.height, window.width), np.float32)
    bounds = at.footage.bounds.scaled(scene.scale)
    for piece in at.pieces:
        reach = reach_of(piece.cover, at.footage.bounds).scaled(scene.scale).grown(BEYOND_PX) & bounds
        shared = reach & window
        if shared.is_empty:
            continue
        check()
        key = ("borrowed", at.footage, at.frame, piece, at.is_lit, at.others, at.whole)
        brought, shown = scene.kept(key, lambda piece=piece, reach=reach: _brought(at, piece, scene, reach))  # type: ignore[misc]
        inside, part = shared.within(window), shared.within(reach)
        np.copyto(pixels[inside], brought[part], where=shown[part][..., None])
        np.copyto(valid[inside], np.float32(1), where=shown[part])
    return Filled((Layer(pixels, valid),), fresh_grain=np.zeros_like(valid), shown=valid)


def _brought(at: BorrowAt, piece: PieceAt, scene: Scene, reach: Window) -> tuple[Picture, NDArray[np.bool_]]:
    """Return what a part borrows over a window around it, and where that lies in the picture."""
    bounds = at.footage.bounds.scaled(scene.scale)
    wide = reach.grown(RING_GAP_PX + RING_PX) & bounds
    mapping = composed(scaling(1 / scene.scale), piece.source_from_frame, scaling(scene.scale))
    corners = spanning(mapping, wide)
    nothing = np.zeros((reach.height, reach.width, 3), np.float32), np.zeros((reach.height, reach.width), bool)
    if not np.isfinite(corners).all():
        return nothing
    needed = around(corners, SPLINE_PX) & bounds
    if needed.is_empty:
        return nothing
    try:
        picture = np.ascontiguousarray(scene.plate(at.footage, piece.frame, needed))
    except FootageError:
        return nothing  # it says so itself when one goes there
    found, inside = resample(picture, mapping, wide, at=needed)
    cover = scene.matte(at.footage, piece.cover, wide)
    wanted = cv2.dilate((cover > 0).view(np.uint8), np.ones((2 * BEYOND_PX + 1, 2 * BEYOND_PX + 1), np.uint8))
    shown = (wanted > 0) & (np.asarray(inside) > 0.99)
    if at.is_lit:
        frame = scene.plate(at.footage, at.frame, wide)
        whole = scene.matte(at.footage, at.whole, wide)  # its other parts show no surroundings either
        near = cv2.dilate((whole > 0).view(np.uint8), np.ones((2 * RING_GAP_PX + 1,) * 2, np.uint8)) > 0
        far = cv2.dilate((cover > 0).view(np.uint8), np.ones((2 * (RING_GAP_PX + RING_PX) + 1,) * 2, np.uint8)) > 0
        ring = far & ~near & (np.asarray(inside) > 0.99) & ~hidden_by(at.others, at.footage, scene, wide)
        found = found * _light(frame, found, ring)
    part = reach.within(wide)
    return np.ascontiguousarray(found[part]), np.ascontiguousarray(shown[part])


def _light(frame: Picture, found: Picture, ring: NDArray[np.bool_]) -> Picture:
    """Return by how much what is borrowed is darker than the frame over a window, (h, w, 3) or (3,).

    Told by a ring around it: a level, and a slope where there is enough to tell it by. What does not fit (a mark, an
    edge that lies otherwise) is left out, by the weights of Cauchy.
    """
    count = int(ring.sum())
    if count < LEAST_POINTS:
        return np.ones(3, np.float32)
    ratio = np.log(np.maximum(frame[ring], DARKEST)) - np.log(np.maximum(found[ring], DARKEST))
    level = np.median(ratio, axis=0)
    if count < SLOPE_POINTS:
        return np.exp(level).astype(np.float32)
    height, width = ring.shape
    y, x = np.mgrid[:height, :width].astype(np.float64)
    places = np.stack([np.ones_like(x), (x - width / 2) / width, (y - height / 2) / height], axis=-1)
    at = places[ring]
    fits = np.zeros((3, 3))
    fits[0] = level
    for _ in range(ROUNDS):
        off = ratio - at @ fits
        spread = 1.5 * np.median(np.abs(off), axis=0) + 1e-4
        weight = (1 / (1 + (off / (2 * spread)) ** 2)).mean(axis=1)
        normal = (at * weight[:, None]).T @ at + np.diag([0, 1, 1]) * STIFF * count
        fits = np.linalg.solve(normal, (at * weight[:, None]).T @ ratio)
    return np.exp(places @ fits).astype(np.float32)
