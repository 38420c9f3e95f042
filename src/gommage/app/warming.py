"""Load what is slow to load beside the interface, before it is needed: compiled code, colour tables."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Brush, Matte, MotionModel, Shape, Softness, Stroke, Tool
from gommage.core.document.arrays import Array
from gommage.core.geometry import IDENTITY, Window, shift
from gommage.core.picture import Picture

__all__ = ["LOOPS", "warm_up"]


def warm_up(check: Callable[[], None]) -> None:
    """Run each compiled loop once on next to nothing."""
    for warm in LOOPS:
        check()
        warm(check)


def _texture() -> Picture:
    """Return something with texture, (64, 64)."""
    return np.random.default_rng(0).random((64, 64)).astype(np.float32)


def _in_colour(texture: Picture) -> Picture:
    return np.ascontiguousarray(np.repeat(texture[..., None], 3, axis=2))


def _warm_painting(check: Callable[[], None]) -> None:
    """Run the loops of pictures and brushes."""
    from gommage.core.paint import Canvas, lay_stroke, plainly
    from gommage.core.paint.kernels import lay_over, told_apart
    from gommage.core.picture import resample
    from gommage.core.picture.colour import show

    small = np.zeros((16, 16, 3), np.float32)
    show(small)
    check()
    resample(small, shift(0.5, 0.5), Window.of(8, 8))
    check()
    canvas = Canvas(small)
    for tool in (Tool.CLONE, Tool.HEAL, Tool.SMEAR, Tool.LIGHTEN):
        check()
        brush = Brush(tool=tool, size_px=4.0)
        stroke = Stroke(id="warm", points=Array([[4.0, 4.0, 1.0], [9.0, 9.0, 1.0]]), brush=brush)
        lay_stroke(canvas, canvas, plainly(stroke))
    told_apart(small, small, small[..., 0], small.copy())
    lay_over(small.copy(), small, small[..., 0])


def _warm_following(check: Callable[[], None]) -> None:
    """Run the loops of planes."""
    from gommage.core.follow.align import align, make_pyramid, make_template
    from gommage.core.follow.masks import polygon_mask

    area = polygon_mask([np.array([[12.0, 12.0], [52.0, 12.0], [52.0, 52.0], [12.0, 52.0]])], Window.of(64, 64))
    texture = _texture()
    align(make_template(texture, area), make_pyramid(texture, 2), np.eye(3), MotionModel.SHIFT)


def _warm_covers(check: Callable[[], None]) -> None:
    """Run the loops of mattes."""
    from gommage.core.cover import matte_at, matte_pixels
    from gommage.core.cover.freehand import fitted_line
    from gommage.core.cover.kernels import flattened

    cover = Matte.of(Shape.of("warm", 1, [[2, 2], [9, 2], [9, 9]]))
    flattened(np.zeros((3, 8)), np.zeros(3, np.int8), 0.01, 1, 512)
    softer = Matte.of(*cover.shapes, softness=Softness(outwards_px=2.0))
    for one in (cover, softer):
        matte_pixels(matte_at(one, 1, lambda surface_id, frame: IDENTITY), Window.of(16, 16))
    check()
    fitted_line(np.array([[0.0, 0.0], [20.0, 0.0], [10.0, 20.0]]))


def _warm_fills_from_frames(check: Callable[[], None]) -> None:
    """Run the loops of filling from other frames."""
    from gommage.core.fill.gathering import Stack, left_over_motion, light_between, ring_points
    from gommage.core.fill.thin_plates import cells_of, drawn, drawn_moved, means_of_cells, put_under_light
    from gommage.core.match.fronts import front_edges
    from gommage.core.match.kernels import white_noise
    from gommage.core.picture import Splines, sampled_at

    texture = _texture()
    picture = _in_colour(texture)
    window = Window.of(texture.shape[1], texture.shape[0])
    everywhere = np.ones(texture.shape, bool)
    ring = ring_points(picture, window, everywhere)
    clean = np.ones(len(ring), bool)
    left_over_motion(ring, picture, window, IDENTITY, clean, 1.0)
    check()
    light = light_between(ring, sampled_at(picture, ring.points, window), clean)
    check()
    stack, nothing = Stack(window, everywhere), (Window.of(1, 1), np.zeros((1, 1), bool))
    for _ in range(5):
        stack.take(Splines.of(picture), IDENTITY, window, nothing, light, 1)
    check()
    stack.gathered()
    check()
    points, counts, pixels = cells_of(everywhere, 4)
    values, count, seen = np.empty((len(counts), 3)), np.empty(len(counts)), np.ones(len(counts), bool)
    here, one = np.eye(2, 3)[None], np.ones(1, bool)
    means_of_cells(picture, ~everywhere, pixels, np.array([0, len(pixels)]), here, one, values, count)
    put_under_light(points, values, seen, values.copy(), seen.copy(), np.array([0, len(points)]), 0.1, 0.75)
    height, width = texture.shape
    knots = np.zeros((height // 8 + 5, width // 8 + 5, 3), np.float32)
    for right in (width, width - 1):  # into a whole picture, and into a part of one
        part = slice(0, height), slice(0, right)
        drawn(knots, 8, 0, 0, np.ones((height, right), bool), picture.copy()[part], texture.copy()[part])
        drawn_moved(knots, 8, np.eye(2, 3), everywhere, picture.copy()[part], texture.copy()[part])
    white_noise(np.uint64(1), 0, 0, picture.copy())
    front_edges(picture, texture)


def _warm_texture(check: Callable[[], None]) -> None:
    """Run the loops of texture."""
    from gommage.core.fill.patchwork import closed, finer, laid

    picture = _in_colour(_texture())
    hole = _hole(picture)
    found = closed(picture, hole, ~hole, check=check)
    laid(picture, hole, finer(found.offsets, found.level, hole, ~hole), check)


def _hole(picture: Picture) -> NDArray[np.bool_]:
    hole = np.zeros(picture.shape[:2], bool)
    hole[26:38, 26:38] = True
    return hole


def _warm_lines_and_dirt(check: Callable[[], None]) -> None:
    """Run the loops of spans, of wires and of dirt."""
    from gommage.core.cover.dirt import dirt_frame, dirt_on
    from gommage.core.fill.spans.kernels import bridged, slanted
    from gommage.core.follow.wires import find_wire, wire_again
    from gommage.core.picture.kernels import banded

    picture = _in_colour(_texture())
    hole = _hole(picture)
    frames = [dirt_frame(picture) for _ in range(3)]
    dirt_on(frames[0], frames[1], frames[2], 4.0)
    check()
    line = np.column_stack([np.arange(8.0, 56.0), np.full(48, 32.0)])
    normals, wide = np.tile([0.0, -1.0], (48, 1)), np.full(48, 3.0)
    band, shown = banded(picture, ~hole, line, normals, 10)
    slants = slanted(band, shown, wide, wide, 1.0, 0.1)
    out, plain = picture.copy(), np.zeros(hole.shape, np.float32)
    bridged(
        picture, ~hole, line, normals, wide, wide, wide, np.zeros(48, np.int8), slants, 0, 0, out, plain, plain.copy()
    )
    check()
    dark = picture.copy()
    dark[31:34] = 0
    wire = find_wire(dark, line[[0, -1]])
    if wire is not None:
        wire_again(dark, wire, wire.points)


LOOPS = (
    _warm_painting,
    _warm_following,
    _warm_covers,
    _warm_fills_from_frames,
    _warm_texture,
    _warm_lines_and_dirt,
)
"""What runs the loops of one part of the work each."""
