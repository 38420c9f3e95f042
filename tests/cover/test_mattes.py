"""Mattes: area, edges, keys and algebra against geometry."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.cover import PART_KINDS, matte_at, matte_pixels, reach_of
from gommage.core.document import (
    Combine,
    Drawn,
    Frames,
    Key,
    Keys,
    Matte,
    MattePart,
    PartSource,
    Shape,
    ShapeKey,
    Softness,
    VertexKind,
)
from gommage.core.document.outlines import normals, sampled, softness_along
from gommage.core.geometry import IDENTITY, FieldMapping, Window, from_matrix, shift
from tests.conftest import cover_of, rectangle, shape_of

BOUNDS = Window.of(200, 150)
FLOAT = 1e-6


def at(cover, frame=1001, mapping=IDENTITY):
    return matte_at(cover, frame, lambda surface_id, frame: mapping if surface_id else IDENTITY)


def matte_of(cover, frame=1001, mapping=IDENTITY):
    return matte_pixels(at(cover, frame, mapping), BOUNDS)


def square(softness=1.0, grow=0.0):
    return cover_of(shape_of(rectangle(50, 40, 90, 80)), softness=softness, grow_px=grow)


def part(name, points, combine=Combine.ADD, **fields):
    return MattePart(id=name, source=Drawn(shape=shape_of(points, shape_id=name)), combine=combine, **fields)


def test_inside_is_full_and_the_edge_falls_outside_the_line():
    matte = matte_of(square(softness=10))
    assert (matte[40:80, 50:90] == 1).all()
    row = matte[60, 90:102]
    assert (np.diff(row) <= 0).all()
    distance = np.arange(12) + 0.5
    fall = np.clip(1 - distance / 10, 0, 1)
    np.testing.assert_allclose(row, fall * fall * (3 - 2 * fall), atol=1e-5)
    assert matte[60, 101] == 0


def test_softness_inwards_falls_inside_the_line():
    cover = replace(square(), softness=Softness(inwards_px=8, outwards_px=1))
    row = matte_of(cover)[60, 78:94]
    assert row[0] == 1
    assert (np.diff(row) <= 0).all()
    assert 0 < row[8] < 1
    assert row[-1] == 0


def test_grow_moves_the_edge():
    grown, shrunk = matte_of(square(grow=5)), matte_of(square(grow=-5))
    assert grown[60, 94] == 1
    assert grown[60, 97] == 0
    assert shrunk[60, 84] == 1
    assert shrunk[60, 88] == 0


def test_numbers_may_be_keyed():
    keys = Keys(keys=(Key(frame=1001, value=0), Key(frame=1003, value=10)))
    cover = square(grow=keys)
    assert [matte_of(cover, frame)[60, 94] for frame in (1001, 1003)] == [0, 1]


def test_parts_are_put_together_in_reading_order():
    large, hole, stripe = rectangle(20, 20, 100, 100), rectangle(40, 40, 60, 60), rectangle(45, 10, 55, 110)
    parts = part("a", large), part("b", hole, Combine.SUBTRACT), part("c", stripe, Combine.INTERSECT)
    soft = Softness(outwards_px=1)
    first = matte_of(Matte(parts=parts[:1], softness=soft))
    cut = matte_of(Matte(parts=parts[:2], softness=soft))
    both = matte_of(Matte(parts=parts, softness=soft))
    assert (first[50, 50], cut[50, 50], both[50, 50]) == (1, 0, 0)
    assert (cut[30, 30], both[30, 30], both[30, 50]) == (1, 0, 1)
    other_order = matte_of(Matte(parts=(parts[1], parts[0]), softness=soft))
    assert other_order[50, 50] == 1, "what is added later is not cut by what was taken away before"
    assert matte_of(Matte(parts=(replace(parts[0], is_on=False),))).max() == 0
    inverted = matte_of(Matte(parts=(replace(parts[0], is_inverted=True),), softness=soft))
    assert (inverted[50, 50], inverted[10, 150]) == (0, 1)
    assert reach_of(at(Matte(parts=(replace(parts[0], is_inverted=True),))), BOUNDS) == BOUNDS


def test_parts_exist_on_their_frames():
    cover = Matte(parts=(part("a", rectangle(20, 20, 60, 60), frames=(Frames(first=1003),)),))
    assert [matte_of(cover, frame)[30, 30] for frame in (1002, 1003, 1009)] == [0, 1, 1]


def test_it_rides_on_the_surface_and_follows_its_keys():
    keys = ShapeKey.of(1001, rectangle(50, 40, 90, 80)), ShapeKey.of(1003, rectangle(70, 40, 110, 80))
    cover = cover_of(Shape(id="s", keys=keys, kinds=(VertexKind.CORNER,) * 4), softness=1)
    plain = matte_of(cover, 1001)
    np.testing.assert_array_equal(matte_of(cover, 1001, shift(7, 3)), np.roll(plain, (3, 7), (0, 1)))
    np.testing.assert_array_equal(matte_of(cover, 1002), np.roll(plain, 10, 1))
    put = cover_of(*cover.shapes, softness=1, surface_id="")
    np.testing.assert_array_equal(matte_of(put, 1001, shift(7, 3)), plain)


def test_a_crossed_shape_is_filled_where_it_winds():
    bow = np.array([[10, 10], [60, 60], [60, 10], [10, 60.0]])
    matte = matte_of(cover_of(shape_of(bow), softness=1))
    assert matte[30, 18] == 1
    assert matte[30, 52] == 1
    assert matte[14, 35] == 0


def test_nothing_where_there_is_nothing():
    behind = from_matrix(np.array([[1, 0, 0], [0, 1, 0], [0, 0, -1e-12]]))
    nowhere = FieldMapping("nowhere", lambda points: points * np.nan, lambda points: points)
    for found in (at(Matte()), at(square(), mapping=shift(500, 0)), at(square(), mapping=nowhere)):
        assert reach_of(found, BOUNDS).is_empty
        assert not matte_pixels(found, BOUNDS).any()
    assert at(square(), mapping=behind) is not None
    unplaced = matte_at(square(), 1001, lambda surface_id, frame: None)
    assert unplaced.parts == ()


def test_a_window_of_the_matte_is_the_matte_of_the_window():
    cover = cover_of(
        shape_of(rectangle(50, 40, 90, 80)), shape_of(rectangle(70, 60, 140, 110), shape_id="b"), softness=9
    )
    found = at(cover)
    whole = matte_pixels(found, BOUNDS)
    for window in (Window(60, 50, 100, 70), Window(0, 0, 55, 45), reach_of(found, BOUNDS)):
        np.testing.assert_array_equal(matte_pixels(found, window), whole[window.slices])
    assert whole.sum() == pytest.approx(whole[reach_of(found, BOUNDS).slices].sum())


def test_half_the_scale_is_half_the_size():
    found = at(square(softness=12))
    half = matte_pixels(found, Window.of(100, 75), 0.5)
    averaged = matte_pixels(found, BOUNDS).reshape(75, 2, 100, 2).mean(axis=(1, 3))
    np.testing.assert_allclose(half, averaged, atol=0.03)  # the curve of the edge, averaged over two pixels


def test_every_kind_of_part_is_known_or_refused():
    """Kinds that have no entry are those that edits refuse; none is forgotten in between."""
    from gommage.core.document.checks import unsupported
    from gommage.core.document.records import FromFile, Scribbled, Shared

    assert set(PartSource.__args__) == {*PART_KINDS, FromFile, Scribbled, Shared}
    assert unsupported.__doc__


# -- exactness ----------------------------------------------------------------------------------------------

COVERAGE = 1 / 64  # the product's promise for each pixel


def circle(count, radius, middle, kind=VertexKind.HANDLES):
    """Return a shape of handles that is a circle to 3 parts in 10000 of its radius."""
    angle = np.arange(count) * 2 * np.pi / count
    out, along = np.column_stack([np.cos(angle), np.sin(angle)]), np.column_stack([-np.sin(angle), np.cos(angle)])
    arm = 4 / 3 * np.tan(np.pi / count / 2) * radius
    vertices = np.zeros((count, 8))
    vertices[:, :2], vertices[:, 2:4], vertices[:, 4:6] = middle + radius * out, -arm * along, arm * along
    return Shape(id="ring", keys=(ShapeKey(frame=1001, vertices=vertices),), kinds=(kind,) * count)


def areas_of_disc(radius, middle, window, across=400):
    """Return each pixel's area within a disc, by integrating chords finely."""
    x = np.linspace(window.left, window.right, window.width * across + 1)
    x = (x[1:] + x[:-1]) / 2
    half = np.sqrt(np.maximum(radius**2 - (x - middle[0]) ** 2, 0))
    rows = np.arange(window.top, window.bottom)[:, None]
    tall = np.clip(middle[1] + half, rows, rows + 1) - np.clip(middle[1] - half, rows, rows + 1)
    return tall.reshape(window.height, window.width, across).mean(axis=2)


@pytest.mark.parametrize("middle", [(40.0, 40.0), (41.3, 39.77), (3.2, 70.1)])
def test_coverage_is_the_area_of_the_true_curve(middle):
    window = Window.of(80, 80)
    found = matte_pixels(at(Matte.of(circle(12, 25.4, np.array(middle)))), window)
    assert np.abs(found - areas_of_disc(25.4, middle, window)).max() < COVERAGE


def test_coverage_of_thin_and_slanting_pieces():
    sliver = np.array([[10.25, 5.0], [10.5, 5.0], [30.5, 45.0], [30.25, 45.0]])  # a quarter of a pixel wide
    found = matte_pixels(at(Matte.of(shape_of(sliver))), Window.of(60, 60))
    np.testing.assert_allclose(found.sum(), 0.25 * 40, atol=1e-3)
    np.testing.assert_allclose(found[5:45].sum(axis=1), 0.25, atol=1e-4)


def test_a_window_through_a_coverage_is_that_window_of_it():
    found = at(Matte.of(circle(7, 30.0, np.array([45.5, 41.2]))))
    whole = matte_pixels(found, BOUNDS)
    for window in (Window(30, 20, 60, 50), Window(44, 0, 45, 150), Window(60, 40, 200, 150)):
        np.testing.assert_allclose(matte_pixels(found, window), whole[window.slices], atol=1e-5)


def test_a_curve_is_carried_itself_not_its_handles():
    """Seen in perspective it is the projected curve: what the curve's own points become."""
    tilted = from_matrix(np.array([[1.1, 0.15, 5.0], [0.05, 0.9, 8.0], [0.0035, 0.002, 1.0]]))
    for kind in (VertexKind.SMOOTH, VertexKind.HANDLES):
        shape = circle(6, 55.0, np.array([80.0, 70.0]), kind)
        (part_at,) = at(Matte.of(shape, surface_id="wall"), mapping=tilted).parts
        fine = tilted(sampled(shape.vertices_at(1001), shape.kinds, tolerance_px=1e-5)[0])
        line = part_at.source.points.values
        off = [distance_to(line, point) for point in fine[::7]]
        assert max(off) < 0.05


def distance_to(line, point):
    ends = np.roll(line, -1, axis=0) - line
    share = np.clip(((point - line) * ends).sum(axis=1) / np.maximum((ends**2).sum(axis=1), 1e-12), 0, 1)
    return np.hypot(*(line + share[:, None] * ends - point).T).min()


def test_straight_sides_are_bent_where_the_surface_is():
    bent = FieldMapping("bent", lambda p: p + np.stack([0 * p[..., 0], (p[..., 0] - 100) ** 2 / 300], -1), lambda p: p)
    (part_at,) = at(Matte.of(shape_of(rectangle(40, 30, 160, 60)), surface_id="wall"), mapping=bent).parts
    x, y = part_at.source.points.values.T
    top = y[:17], x[:17]
    np.testing.assert_allclose(top[0], 30 + (top[1] - 100) ** 2 / 300, atol=1e-9)
    np.testing.assert_allclose(top[1], np.linspace(40, 160, 17))


# -- softness, motion, open lines -----------------------------------------------------------------------------


def softened(vertices_soft, outwards=0.0):
    points = rectangle(40, 40, 140, 100)
    vertices = np.hstack([points, np.zeros((4, 4)), np.asarray(vertices_soft, float)])
    shape = Shape(id="s", keys=(ShapeKey(frame=1001, vertices=vertices),), kinds=(VertexKind.SMOOTH,) * 4)
    return shape, matte_of(Matte.of(shape, softness=Softness(outwards_px=outwards)))


def test_softness_of_single_vertices_falls_steadily_and_without_creases():
    shape, matte = softened([(0, 4), (0, 30), (10, 6), (0, 2)])
    line, where = sampled(shape.vertices_at(1001), shape.kinds)
    out = normals(line)
    soft = softness_along(shape.vertices_at(1001), where)
    for index in range(0, len(line), 9):
        steps = np.arange(-soft[index, 0] - 1, soft[index, 1] + 2, 0.5)
        places = line[index] + steps[:, None] * out[index]
        seen = bilinear(matte, places)
        assert np.diff(seen).max() < 0.02  # half a pixel's reading between pixels
        beyond = bilinear(matte, line[index][None] + (soft[index, 1] + 2.5) * out[index])
        assert beyond.max() < 0.05
    for away in (1.5, 3.0, 6.0):  # no crease: along the line it changes gently, also from a hard corner to a soft one
        fine, _ = sampled(shape.vertices_at(1001), shape.kinds, least=60)
        places = fine + away * normals(fine)
        steps = np.hypot(*np.diff(places, axis=0).T)
        change = np.abs(np.diff(bilinear(matte, places))) / np.maximum(steps, 0.5)
        assert change.max() < 0.08


def bilinear(picture, places):
    import cv2

    x, y = (np.asarray(places, np.float32) - 0.5).T
    return cv2.remap(picture, x[None], y[None], cv2.INTER_LINEAR)[0]


def test_equal_softness_of_vertices_is_the_softness_of_the_part():
    shape, own = softened([(0, 9)] * 4)
    bare = replace(shape, keys=(ShapeKey.of(1001, shape.points_at(1001)),))
    np.testing.assert_allclose(own, matte_of(Matte.of(bare, softness=Softness(outwards_px=9))), atol=0.01)


def test_motion_blurs_along_the_motion_as_far_as_the_shutter_is_open():
    keys = ShapeKey.of(1000, rectangle(30, 40, 70, 80)), ShapeKey.of(1002, rectangle(70, 40, 110, 80))
    shape = Shape(id="s", keys=keys, kinds=(VertexKind.CORNER,) * 4)  # 20 px a frame
    row = matte_of(Matte.of(shape, softness=Softness(shutter_deg=180)), 1001)[60]
    x = np.arange(200) + 0.5
    passed = np.clip((x - 45) / 10, 0, 1) * np.clip((95 - x) / 10, 0, 1)
    np.testing.assert_allclose(row, passed, atol=0.03)  # drawn at steps of half a pixel: 1/40 of the way each
    np.testing.assert_allclose(row.sum(), 40, atol=1e-3)
    still = Matte.of(shape_of(rectangle(50, 40, 90, 80)), softness=Softness(shutter_deg=180))
    np.testing.assert_array_equal(matte_of(still), matte_of(Matte.of(shape_of(rectangle(50, 40, 90, 80)))))


def test_motion_of_the_surface_blurs_as_well():
    riding = Matte.of(shape_of(rectangle(50, 40, 90, 80)), surface_id="wall", softness=Softness(shutter_deg=360))
    found = matte_at(riding, 1001, lambda surface_id, frame: shift(16.0 * (frame - 1001), 0))
    row = matte_pixels(found, BOUNDS)[60]
    x = np.arange(200) + 0.5
    np.testing.assert_allclose(row, np.clip((x - 42) / 16, 0, 1) * np.clip((98 - x) / 16, 0, 1), atol=0.03)
    assert reach_of(found, BOUNDS).left <= 42
    ends = matte_at(riding, 1001, lambda surface_id, frame: None if frame > 1001 else shift(16.0 * (frame - 1001), 0))
    np.testing.assert_allclose(matte_pixels(ends, BOUNDS)[60], row, atol=1e-4)


def test_an_open_line_is_as_wide_as_it_is_grown():
    wire = Shape(
        id="wire", keys=(ShapeKey.of(1001, [[20, 30], [120, 30]]),), kinds=(VertexKind.CORNER,) * 2, is_closed=False
    )
    matte = matte_of(Matte(parts=Matte.of(wire).parts, grow_px=3.0))
    np.testing.assert_allclose(matte[24:36, 70], [0, 0, 0, 1, 1, 1, 1, 1, 1, 0, 0, 0], atol=FLOAT)
    assert matte[:, :16].max() == 0


def test_parts_that_are_kept_are_not_drawn_again():
    shapes = [shape_of(rectangle(10 + 30 * n, 20, 30 + 30 * n, 60), shape_id=str(n)) for n in range(4)]
    kept, made = {}, []

    def keep(name, make):
        if name not in kept:
            made.append(name)
            kept[name] = make()
        return kept[name]

    first = matte_pixels(at(Matte.of(*shapes)), BOUNDS, 1.0, keep)
    assert len(made) == 4
    shapes[2] = shape_of(rectangle(70, 20, 95, 60), shape_id="2")
    second = matte_pixels(at(Matte.of(*shapes)), BOUNDS, 1.0, keep)
    assert len(made) == 5
    np.testing.assert_array_equal(second, matte_pixels(at(Matte.of(*shapes)), BOUNDS))
    assert (first != second).any()


def test_a_large_matte_is_put_together_in_squares_and_is_the_same():
    """With parts that do something everywhere; of one that changes only what it reaches is made anew."""
    window = Window(-30, 20, 900, 620)
    parts = (
        part("a", rectangle(20, 60, 400, 500), grow_px=4.0, softness=Softness(outwards_px=12.0)),
        part("b", rectangle(300, 100, 700, 300)),
        part("c", rectangle(10, 40, 620, 560), Combine.INTERSECT),
        part("d", rectangle(840, 560, 880, 600), is_inverted=True, combine=Combine.INTERSECT),
    )
    kept, made = {}, []

    def keep(name, make):
        if name not in kept:
            made.append(name)
            kept[name] = make()
        return kept[name]

    matte = at(Matte(parts=parts))
    np.testing.assert_array_equal(matte_pixels(matte, window, 1.0, keep), matte_pixels(matte, window))
    made.clear()
    moved = at(Matte(parts=(parts[0], part("b", rectangle(300, 110, 700, 300)), *parts[2:])))
    np.testing.assert_array_equal(matte_pixels(moved, window, 1.0, keep), matte_pixels(moved, window))
    assert [name[0] for name in made].count("part") == 1
    assert {name[2].top for name in made if name[0] == "tile"} == {20, 256}, "nothing below it is made anew"


@pytest.mark.parametrize("kind", VertexKind)
def test_the_compiled_line_is_the_line(kind):
    """The one is used where nothing may wait for compiling; both must lead to the same matte."""
    from gommage.core.cover.kernels import HANDLES, SMOOTH, flattened

    rng = np.random.default_rng(5)
    vertices = np.hstack([rng.uniform(0, 90, (7, 2)), rng.normal(0, 9, (7, 4)), np.zeros((7, 2))])
    kinds = tuple(VertexKind.CORNER if n == 3 else kind for n in range(7))
    codes = {VertexKind.CORNER: 0, VertexKind.SMOOTH: SMOOTH, VertexKind.HANDLES: HANDLES}
    numbers = np.array([codes[one] for one in kinds], np.int8)
    for least in (2, 5):
        points, where = sampled(vertices, kinds, least=least)
        ours, places = flattened(vertices, numbers, 0.01, least, 512)
        np.testing.assert_allclose(places, where, atol=FLOAT)
        np.testing.assert_allclose(ours, points, atol=FLOAT)


def test_of_many_parts_those_that_reach_into_a_window_are_drawn_there():
    """More than are told apart one by one."""
    parts = tuple(part(str(n), rectangle(40 * n, 30, 40 * n + 25, 60), grow_px=2.0) for n in range(12))
    window = Window(150, 20, 250, 90)
    whole = matte_pixels(at(Matte(parts=parts)), Window.of(520, 120))
    np.testing.assert_array_equal(matte_pixels(at(Matte(parts=parts)), window), whole[window.slices])
    assert (matte_pixels(at(Matte(parts=parts)), window).max(axis=0) > 0).sum() > 60
