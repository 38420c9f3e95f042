"""Sources that are found: places like the surroundings, other frames along the surface; never the thing itself."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Fix, Matte, Painted, Shape
from gommage.core.engine import Engine, found_sources
from gommage.core.paint.finding import Other, _around, _cut, best_sources
from tests.conftest import rectangle, texture

TEXTURE = texture(220, 300, seed=12)
AT, RADIUS = (150, 110), 9.0
EVERYWHERE = np.ones(TEXTURE.shape[:2], bool)


def with_copy(dx, dy, gain=1.0, half=20):
    """Return a picture in which the surroundings of the place are there once more, darker or lighter."""
    picture = TEXTURE.copy()
    x, y = AT
    piece = picture[y - half : y + half + 1, x - half : x + half + 1]
    picture[y + dy - half : y + dy + half + 1, x + dx - half : x + dx + half + 1] = piece * gain
    return picture


def with_thing(picture):
    picture = picture.copy()
    y, x = np.ogrid[: picture.shape[0], : picture.shape[1]]
    picture[np.hypot(x - AT[0], y - AT[1]) < RADIUS] = 2.0
    return picture


@pytest.mark.parametrize(("dx", "dy"), [(60, 20), (-70, -45), (40, -60)])
def test_the_same_place_once_more_is_found_to_the_pixel(dx, dy):
    best, *_ = best_sources(with_thing(with_copy(dx, dy)), EVERYWHERE, AT, RADIUS, 7)
    assert (best.dx, best.dy, best.frame) == (dx, dy, 7)
    assert best.mismatch < 1e-3


def test_light_is_left_aside():
    picture = with_copy(60, 20)
    picture[90:170, 170:250] += 0.2
    best, *_ = best_sources(with_thing(picture), EVERYWHERE, AT, RADIUS, 7)
    assert (best.dx, best.dy) == (60, 20)


def test_large_brushes_are_searched_coarsely_and_placed_exactly():
    picture = texture(500, 640, seed=3, fine=2.0).copy()
    picture[250 - 80 : 250 + 81, 470 - 80 : 470 + 81] = picture[200 - 80 : 200 + 81, 230 - 80 : 230 + 81]
    best, *_ = best_sources(picture, np.ones(picture.shape[:2], bool), (230, 200), 42.0, 1)
    assert (best.dx, best.dy) == (240, 50)


def test_what_must_not_be_taken_is_not():
    allowed = EVERYWHERE.copy()
    allowed[120:140, 200:220] = False  # where the copy would be taken from
    found = best_sources(with_thing(with_copy(60, 20)), allowed, AT, RADIUS, 7)
    assert found
    for one in found:
        assert abs(one.dx - 60) > RADIUS or abs(one.dy - 20) > RADIUS
        assert np.hypot(one.dx, one.dy) > RADIUS


def test_candidates_are_apart():
    found = best_sources(with_thing(TEXTURE), EVERYWHERE, AT, RADIUS, 7)
    assert len(found) == 6
    places = np.array([(one.dx, one.dy) for one in found])
    away = np.hypot(*(places[:, None] - places[None]).transpose(2, 0, 1)) + 1e9 * np.eye(len(places))
    assert away.min() >= RADIUS
    assert [one.mismatch for one in found] == sorted(one.mismatch for one in found)


def test_another_frame_is_best_unless_it_shows_the_thing_as_well():
    here, noise = with_thing(TEXTURE), np.random.default_rng(0).normal(0, 0.004, TEXTURE.shape).astype(np.float32)
    clean, dirty = Other(8, TEXTURE + noise, EVERYWHERE), Other(6, here + noise, EVERYWHERE)
    best, *others = best_sources(here, EVERYWHERE, AT, RADIUS, 7, (dirty, clean))
    assert (best.dx, best.dy, best.frame) == (0, 0, 8)
    assert 6 not in {one.frame for one in others}
    blocked = Other(8, TEXTURE + noise, ~EVERYWHERE)
    assert 8 not in {one.frame for one in best_sources(here, EVERYWHERE, AT, RADIUS, 7, (blocked,))}


@pytest.mark.parametrize("by", [(1, 0), (0, -2), (2, 1)])
def test_a_frame_in_register_but_for_a_slip_shows_the_thing_as_well(by):
    here = with_thing(TEXTURE)
    slipped = Other(6, np.roll(here, by, (0, 1)), EVERYWHERE)
    assert 6 not in {one.frame for one in best_sources(here, EVERYWHERE, AT, RADIUS, 7, (slipped,))}


def test_nothing_known_around_finds_nothing():
    assert best_sources(TEXTURE, ~EVERYWHERE, AT, RADIUS, 7) == ()
    assert best_sources(TEXTURE, EVERYWHERE, (-50, 0), RADIUS, 7) == ()
    assert best_sources(TEXTURE[:20, :20], EVERYWHERE[:20, :20], (10, 10), 9.0, 7) == ()


def test_on_a_shot_frames_are_taken_along_the_surface_and_covers_left_out(small_shot):
    engine = Engine(10**9)
    fix = Fix(id="paint", name="Paint", surface_id="wall", fill=Painted(),
              cover=Matte.of(Shape.of("thing", 1001, rectangle(60, 45, 80, 62)), surface_id="wall"))  # fmt: skip
    shot = replace(small_shot, fixes=(fix,))
    found = found_sources(engine, shot, "paint", 1003, (45.0, 40.0), 5.0)
    assert found
    placed = shot.surfaces[0].track
    assert placed is not None
    home_to_frame = placed.home_to_frame.values[1003 - placed.first_frame]
    thing = np.array([60, 45, 1.0]) @ home_to_frame.T
    low = thing[:2] / thing[2]
    for one in found:
        x, y = 45 + one.dx, 40 + one.dy
        is_in_thing = low[0] - 4 < x < low[0] + 24 and low[1] - 4 < y < low[1] + 21
        assert one.frame != 1003 or not is_in_thing


def test_surroundings_begin_a_gap_off_the_edge_and_are_so_wide():
    shape = np.zeros((60, 60), bool)
    shape[25:35, 25:35] = True
    row = np.flatnonzero(_around(shape, 3, 5)[30])
    assert row.tolist() == [*range(17, 22), *range(38, 43)]


def test_a_cut_is_a_square_about_its_place_and_nothing_is_allowed_beyond_the_picture():
    picture = np.arange(40.0 * 30).reshape(30, 40)[..., None].repeat(3, axis=2)
    cut, allowed = _cut(picture, np.ones((30, 40), bool), (38, 10), 4)
    assert cut.shape == (9, 9, 3)
    assert cut[4, 4, 0] == picture[10, 38, 0]
    assert allowed[:, :6].all()
    assert not allowed[:, 6:].any()
    assert _cut(picture, np.ones((30, 40), bool), (40, 10), 4) is None
