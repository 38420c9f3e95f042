"""Rasterise mattes: full inside the line, falling to nothing over the soft edge."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Iterator
from functools import lru_cache, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse.csgraph import connected_components

from gommage.core.cover.parts import LineAt, MatteAt, PartAt, PictureAt, ScribbledAt
from gommage.core.document import Combine
from gommage.core.geometry import NOWHERE, Points, Window
from gommage.core.picture import Picture

__all__ = ["Keep", "PictureOf", "matte_pixels", "pieces_of", "reach_of", "tiles_of"]

Keep = Callable[[Hashable, Callable[[], Any]], Any]
"""Returns what is kept under a name, or makes it and keeps it."""
PictureOf = Callable[[PictureAt | ScribbledAt], Picture]
"""Gives the picture (H, W) of a matte from a file, or from scribbles."""
EDGE_PX = 1.0
"""No edge is narrower than a pixel."""
PASSING_STEP_PX = 0.5
"""A line that moves is drawn so often while the shutter is open that it goes no further between."""
MOST_PASSINGS = 96
FEW_PARTS = 8
"""Of mattes of more parts those are found first that a window meets."""
TILE_PX, LEAST_TILED = 256, 1 << 18
"""Windows of more pixels than the second are put together and kept in squares of so many, so that a part that changes
costs those that it reaches."""


def _anew(name: Hashable, make: Callable[[], Any]) -> Any:
    """Keep nothing."""
    return make()


def reach_of(matte: MatteAt, bounds: Window) -> Window:
    """Return the smallest window that holds all of a matte within the picture; empty where nothing is covered."""
    reached = Window(0, 0, 0, 0)
    for part in matte.parts:
        if part.combine is Combine.ADD and (part.is_inverted or isinstance(part.source, PictureAt | ScribbledAt)):
            return bounds
        if part.combine is Combine.ADD:
            reached = reached | (_reach(part, 1.0, bounds) & bounds)
    return reached


@lru_cache(maxsize=1024)
def pieces_of(matte: MatteAt, bounds: Window, apart_px: int) -> tuple[Window, ...]:
    """Return windows that together hold all of a matte within the picture, each pair more than `apart_px` apart."""
    adding = [part for part in matte.parts if part.combine is Combine.ADD]
    if any(part.is_inverted or not isinstance(part.source, LineAt) for part in adding):
        return (reach_of(matte, bounds),)
    reaches = [_reach(part, 1.0, bounds) & bounds for part in adding]
    boxes = np.array([(one.left, one.top, one.right, one.bottom) for one in reaches if not one.is_empty]).reshape(-1, 4)
    while len(boxes):
        lows, highs = boxes[:, :2] - apart_px, boxes[:, 2:]
        meet = np.all((lows[:, None] < highs) & (lows < highs[:, None]), axis=2)
        count, labels = connected_components(np.asarray(meet), directed=False)
        if count == len(boxes):
            break
        joined = np.empty((count, 4), boxes.dtype)
        for half, widest in ((slice(2), np.minimum), (slice(2, 4), np.maximum)):
            order = np.argsort(labels, kind="stable")
            starts = np.searchsorted(labels[order], np.arange(count))
            joined[:, half] = widest.reduceat(boxes[order, half], starts, axis=0)
        boxes = joined
    return tuple(Window(*box) for box in boxes.tolist())


def tiles_of(matte: MatteAt, bounds: Window, side: int) -> tuple[Window, ...] | None:
    """Return the squares of the picture that lines of a matte touch; None if it is more than lines."""
    adding = [part for part in matte.parts if part.combine is Combine.ADD]
    if any(part.is_inverted or not isinstance(part.source, LineAt) or part.source.is_closed for part in adding):
        return None
    places = set()
    for part in adding:
        assert isinstance(part.source, LineAt)
        _, wide = _box(part.source)
        by = math.ceil(max(part.outwards_px + wide, EDGE_PX) + max(part.grow_px, 0.0)) + 1
        points = part.source.places
        steps = np.hypot(*np.diff(points, axis=0).T) if len(points) > 1 else np.zeros(0)
        at = np.concatenate([[0.0], np.cumsum(steps)])
        along = np.arange(0, at[-1] + side / 4, side / 4)
        line = np.column_stack([np.interp(along, at, points[:, k]) for k in range(2)])
        for way in np.stack(np.meshgrid((-by, by), (-by, by)), axis=-1).reshape(-1, 2):
            places |= set(map(tuple, np.floor((line + way) / side).astype(int).tolist()))
    found = (Window(x * side, y * side, (x + 1) * side, (y + 1) * side) & bounds for x, y in sorted(places))
    return tuple(one for one in found if not one.is_empty)


def _reach(part: PartAt, scale: float, window: Window) -> Window:
    """Return where a part can be anything but nothing: at most the window that is looked at."""
    source = part.source
    if isinstance(source, PictureAt | ScribbledAt):
        return window
    if isinstance(source, MatteAt):
        by = math.ceil((part.outwards_px + max(part.grow_px, 0.0)) * scale) + 1
        return reach_of(source, window.grown(by).scaled(1 / scale)).scaled(scale).grown(by + 1)
    return _line_reach(part, scale)


@lru_cache(maxsize=8192)
def _line_reach(part: PartAt, scale: float) -> Window:
    """Return where a drawn part can be anything but nothing."""
    assert isinstance(part.source, LineAt)
    (left, top, right, bottom), softest = _box(part.source)  # an open line's width with it
    margin = max((part.outwards_px + softest) * scale, EDGE_PX) + max(part.grow_px * scale, 0.0) + 1
    return Window(
        math.floor(left * scale - margin), math.floor(top * scale - margin),
        math.ceil(right * scale + margin), math.ceil(bottom * scale + margin),
    )  # fmt: skip


@lru_cache(maxsize=8192)
def _box(line: LineAt) -> tuple[tuple[float, float, float, float], float]:
    """Return the box around a line wherever it passes, and how soft it is outwards at most."""
    places = line.places
    (left, top), (right, bottom) = places.min(axis=0).tolist(), places.max(axis=0).tolist()
    return (left, top, right, bottom), float(line.softest[1] if line.is_closed else line.softest.sum())


def matte_pixels(
    matte: MatteAt, window: Window, scale: float = 1.0, keep: Keep = _anew, picture_of: PictureOf | None = None
) -> Picture:
    """Return a window of a matte, parts put together in reading order.

    Parameters
    ----------
    matte : MatteAt
    window : Window
        In pixels of the picture at that scale. A window of the matte equals the matte of the window.
    scale : float
        Pixels wanted a pixel of the frame.
    keep : callable
        Keeps the pixels of single parts, so that one that changes costs itself alone.
    picture_of : callable, optional
        Gives the pictures of mattes from files, (H, W) as large as the shot; without it such parts are nothing.

    Returns
    -------
    (h, w) float32, 0 to 1
    """
    wanted = [(part, _reach(part, scale, window) & window) for part in _near(matte, window, scale)]
    rasters = partial(_raster, scale=scale, keep=keep, picture_of=picture_of)
    if keep is _anew or window.width * window.height < LEAST_TILED:
        return _put_together(wanted, window, rasters)
    out = np.empty((window.height, window.width), np.float32)
    tiles = list(_tiles(window))
    reached = _reached(wanted, tiles)
    for tile, those in zip(tiles, reached, strict=True):
        here = [wanted[index] for index in those]
        name = "tile", tuple(part for part, _ in here), tile, scale
        out[tile.within(window)] = keep(name, partial(_put_together, here, tile, rasters))
    return out


def _near(matte: MatteAt, window: Window, scale: float) -> tuple[PartAt, ...]:
    """Return the parts that do something in a window, as far as that is soon told."""
    if len(matte.parts) <= FEW_PARTS:
        return matte.parts
    sides, always = _boxes(matte, scale)
    meet = (sides < (window.right, window.bottom, -window.left, -window.top)).all(axis=1)
    found: list[int] = np.flatnonzero(meet).tolist()
    return tuple(matte.parts[index] for index in (sorted({*found, *always}) if always else found))


@lru_cache(maxsize=512)
def _boxes(matte: MatteAt, scale: float) -> tuple[NDArray[np.int64], tuple[int, ...]]:
    """Return where each part of a matte reaches at most, (N, 4): its left, top, and right and bottom below 0; and which
    parts do something elsewhere as well.
    """
    boxes = np.full((len(matte.parts), 4), -(1 << 30))
    for index, part in enumerate(matte.parts):
        if isinstance(part.source, LineAt):
            reach = _reach(part, scale, NOWHERE)
            boxes[index] = reach.left, reach.top, -reach.right, -reach.bottom
    return boxes, tuple(index for index, part in enumerate(matte.parts) if _matters(part))


def _tiles(window: Window) -> Iterator[Window]:
    """Yield the squares of the picture that a window consists of, cut where it ends."""
    for top in range(window.top // TILE_PX * TILE_PX, window.bottom, TILE_PX):
        for left in range(window.left // TILE_PX * TILE_PX, window.right, TILE_PX):
            yield Window(left, top, left + TILE_PX, top + TILE_PX) & window


def _reached(wanted: list[tuple[PartAt, Window]], tiles: list[Window]) -> list[list[int]]:
    """Return for each tile which parts do something in it."""
    nears = np.array([(one.left, one.top, one.right, one.bottom) for _, one in wanted]).reshape(-1, 4)
    boxes = np.array([(one.left, one.top, one.right, one.bottom) for one in tiles])[:, None]
    meet = (nears[:, :2] < boxes[..., 2:]).all(axis=2) & (boxes[..., :2] < nears[:, 2:]).all(axis=2)
    meet |= np.array([_matters(part) for part, _ in wanted], bool)
    return [np.nonzero(one)[0].tolist() for one in meet]


def _matters(part: PartAt) -> bool:
    """Return whether a part does something where it is nothing itself."""
    return part.is_inverted or part.combine is Combine.INTERSECT


def _put_together(
    wanted: list[tuple[PartAt, Window]], window: Window, rasters: Callable[[PartAt, Window], Picture]
) -> Picture:
    """Return a window of parts put together in reading order, given where each can be anything but nothing."""
    out = np.zeros((window.height, window.width), np.float32)
    for part, near in wanted:
        here = near & window
        if not here.is_empty:
            _combine(out, rasters(part, near)[here.within(near)], here.within(window), part)
        elif _matters(part):
            _combine(out, np.zeros((0, 0), np.float32), (slice(0, 0), slice(0, 0)), part)
    return out


def _raster(part: PartAt, near: Window, scale: float, keep: Keep, picture_of: PictureOf | None) -> Picture:
    """Return a window of a part alone, kept."""
    edge = part.grow_px, part.inwards_px, part.outwards_px
    if isinstance(part.source, LineAt):
        make = partial(_drawn, part.source, edge, near, scale)
    else:
        make = partial(_filtered, part.source, edge, near, scale, keep, picture_of)
    pixels: Picture = keep(("part", part.source, edge, near, scale), make)
    return pixels


def _combine(out: Picture, one: Picture, where: tuple[slice, slice], part: PartAt) -> None:
    """Put a part, that is nothing outside its place, on top of those before it, in place."""
    if part.is_inverted or part.combine is Combine.INTERSECT:
        whole = np.zeros_like(out)
        whole[where] = one
        one, where = (1 - whole if part.is_inverted else whole), (slice(None), slice(None))
    here = out[where]
    if part.combine is Combine.ADD:
        np.maximum(here, one, out=here)
    else:
        np.minimum(here, 1 - one if part.combine is Combine.SUBTRACT else one, out=here)


def _filtered(
    source: PictureAt | ScribbledAt | MatteAt, edge: tuple[float, float, float], window: Window, scale: float,
    keep: Keep, picture_of: PictureOf | None,
) -> Picture:  # fmt: skip
    """Return a matte that is not drawn here: grown by the largest, or smallest, value around, softened by a blur."""
    import cv2

    grow, inwards, outwards = (one * scale for one in edge)
    by, blur = grow + (outwards - inwards) / 2, (inwards + outwards) / 4
    margin = math.ceil(abs(by) + 3 * blur) + 2 if by or blur else 0
    wide = window.grown(margin)
    if isinstance(source, MatteAt):
        out = matte_pixels(source, wide, scale, keep, picture_of)
    elif picture_of is None:
        return np.zeros((window.height, window.width), np.float32)
    else:
        out = _cropped(picture_of(source), wide, scale)
    if abs(by) >= 0.5:
        size = 2 * round(abs(by)) + 1
        round_one = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        out = cv2.dilate(out, round_one) if by > 0 else cv2.erode(out, round_one, borderValue=1)
    if blur > 0.1:
        out = cv2.GaussianBlur(out, (0, 0), blur)
    return np.ascontiguousarray(out[window.within(wide)])


def _cropped(picture: Picture, window: Window, scale: float) -> Picture:
    """Return a window of a picture (H, W) at a scale; beyond it there is nothing."""
    import cv2

    height, width = picture.shape
    size = -(-width // round(1 / scale)), -(-height // round(1 / scale))
    small = picture if scale == 1 else cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
    out = np.zeros((window.height, window.width), np.float32)
    there = window & Window.of(small.shape[1], small.shape[0])
    if not there.is_empty:
        out[there.within(window)] = small[there.slices]
    return out


def _drawn(line: LineAt, edge: tuple[float, float, float], window: Window, scale: float) -> Picture:
    grow, inwards, outwards = (one * scale for one in edge)
    if line.passed is None:
        return _still(line, line.points.values * scale, grow, inwards, outwards, window, scale)
    opened, closed = (one.values * scale for one in line.passed)
    here = line.points.values * scale
    step = max(PASSING_STEP_PX, (inwards + outwards) / 8)
    way = np.hypot(*(here - opened).T).max() + np.hypot(*(closed - here).T).max()
    count = int(np.clip(np.ceil(way / step), 2, MOST_PASSINGS))
    total = np.zeros((window.height, window.width), np.float32)
    for time in (np.arange(count) + 0.5) / count * 2 - 1:
        at = here + time * (closed - opened) / 2 + time * time * ((opened + closed) / 2 - here)
        total += _still(line, at, grow, inwards, outwards, window, scale)
    return total / np.float32(count)


def _still(
    line: LineAt, points: Points, grow: float, inwards: float, outwards: float, window: Window, scale: float
) -> Picture:
    from gommage.core.cover.kernels import coverage, faded, inside, nearest, softness_near  # compiled: loaded late

    out = np.zeros((window.height, window.width), np.float32)
    if line.is_closed and line.soft is None and grow == inwards == outwards == 0:
        coverage(points, window.left, window.top, out)
        return out
    if line.is_closed:
        inside(points, window.left, window.top, out)
    most = np.array([inwards, outwards]) + line.softest * scale
    reach = float(max(*most, EDGE_PX) if line.is_closed else max(most.sum(), EDGE_PX)) + abs(grow) + 1
    squared = np.full(out.shape, reach * reach, np.float32)
    nearest(points, line.is_closed, window.left, window.top, reach, squared)
    soft: NDArray[np.float64] = np.full((1, 1, 2), (inwards, outwards))
    if line.soft is not None:
        own = np.zeros((*out.shape, 2))
        softness_near(points, line.soft.values * scale, line.is_closed, window.left, window.top, squared, reach, own)
        if not line.is_closed:  # counted from its rim, half its width off the line
            away = np.sqrt(squared) - own[..., 0]
            out[away < 0] = 1.0
            squared, own[..., 0] = np.where(squared < reach * reach, away * away, squared).astype(np.float32), 0.0
        soft = soft + own
    faded(squared, reach, grow, soft, out)
    return out
