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
from gommage.core.geometry import IDENTITY, FieldMapping, Window, from_matrix, shift
from tests.conftest import cover_of, rectangle, shape_of

BOUNDS = Window.of(200, 150)
FLOAT = 1e-6


def at(cover, frame=1001, mapping=IDENTITY):
    return matte_at(cover, frame, lambda surface_id: mapping if surface_id else IDENTITY)


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
    unplaced = matte_at(square(), 1001, lambda surface_id: None)
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
