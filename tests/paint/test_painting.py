"""Brushes: where paint goes, what it is made of, and that healing leaves no step."""

import tracemalloc

import numpy as np
import pytest

from gommage.core.document import Array, Blend, Brush, Pressure, Source, Stroke, Tones, Tool
from gommage.core.geometry import IDENTITY, MatrixMapping, Window, shift
from gommage.core.paint import TILE_PX, TOOLS, Canvas, StrokeInHand, lay_stroke, plainly
from gommage.core.paint.healing import heal
from gommage.core.paint.riding import _on_itself
from gommage.core.picture import resample
from tests.conftest import texture

CANVAS = texture(120, 160, seed=4)


def stroke(tool=Tool.CLONE, points=((40, 60, 1), (90, 60, 1)), source=Source(dx=0, dy=-40), **brush):  # noqa: B008
    brush = {"size_px": 20, "softness": 0.0, **brush}
    return plainly(Stroke(id="s", points=Array(points), brush=Brush(tool=tool, **brush), source=source))


def painted(canvas, one, untouched=None):
    before = Canvas(canvas)
    return lay_stroke(before, before if untouched is None else Canvas(untouched), one).whole()


def test_clone_copies_whole_pixels_exactly():
    out = painted(CANVAS, stroke())
    np.testing.assert_array_equal(out[55:66, 42:88], CANVAS[15:26, 42:88])
    np.testing.assert_array_equal(out[:48], CANVAS[:48])
    np.testing.assert_array_equal(out[72:], CANVAS[72:])


def test_clone_between_pixels_is_resampled_once():
    out = painted(CANVAS, stroke(source=Source(dx=0.5, dy=-40.25)))
    wanted = resample(CANVAS, shift(0.5, -40.25), Window(45, 56, 85, 64)).pixels
    np.testing.assert_allclose(out[56:64, 45:85], wanted, atol=2e-5)  # float32 rounding of the spline's filter


def test_a_stroke_never_eats_its_own_paint():
    line = stroke(points=((80, 20, 1), (80, 100, 1)), source=Source(dx=0, dy=-15), size_px=12)
    out = painted(CANVAS, line)
    np.testing.assert_array_equal(out[60:90, 77:83], CANVAS[45:75, 77:83])


@pytest.mark.parametrize("pieces", [1, 3])
def test_a_fixed_source_brings_the_same_piece_with_each_dab(pieces):
    one = stroke(points=((40, 60, 1), (100, 60, 1)), source=Source(dx=0, dy=-40, is_fixed=True), spacing=1.5)
    before = Canvas(CANVAS)
    hand = StrokeInHand(before, before, one)
    for part in np.array_split(np.array([[40, 60, 1], [64, 60, 1], [83, 60, 1], [100, 60, 1.0]]), pieces):
        hand.add(part)
    out = hand.canvas.whole()
    for x in (40, 70, 100):  # dabs are 30 px apart and 20 wide
        np.testing.assert_array_equal(out[55:66, x - 6 : x + 6], CANVAS[15:26, 34:46])
    np.testing.assert_array_equal(out[:, 52:58], CANVAS[:, 52:58])


@pytest.mark.parametrize("opacity", [0.25, 0.5, 1.0])
def test_opacity_does_not_build_up_within_a_stroke(opacity):
    there_and_back = stroke(points=((40, 60, 1), (90, 60, 1), (40, 60, 1)), opacity=opacity)
    out = painted(CANVAS, there_and_back)
    wanted = CANVAS[60, 60] + opacity * (CANVAS[20, 60] - CANVAS[60, 60])
    np.testing.assert_allclose(out[60, 60], wanted, atol=1e-6)


def test_softness_falls_towards_the_rim():
    black, white = np.zeros((60, 60, 3), np.float32), np.ones((60, 60, 3), np.float32)
    out = painted(black, stroke(Tool.RESTORE, ((30.5, 30.5, 1),), softness=1.0, size_px=40), white)
    profile = out[30, 30:52, 0]
    assert profile[0] > 0.99
    assert (np.diff(profile) <= 1e-6).all()
    assert 0.3 < profile[10] < 0.7
    assert profile[21] == 0


@pytest.mark.parametrize(("pressure", "radius"), [(0.0, 5), (0.5, 12.5), (1.0, 20)])
def test_pressure_sets_the_size(pressure, radius):
    black, white = np.zeros((80, 80, 3), np.float32), np.ones((80, 80, 3), np.float32)
    out = painted(black, stroke(Tool.RESTORE, ((40, 40, pressure),), size_px=40), white)
    assert out.mean() * 80 * 80 == pytest.approx(np.pi * radius**2, rel=0.05)


def test_restore_brings_back_the_bits():
    dirty = painted(CANVAS, stroke())
    clean = painted(dirty, stroke(Tool.RESTORE, size_px=60), CANVAS)
    np.testing.assert_array_equal(clean, CANVAS)


@pytest.mark.parametrize("tool", Tool)
def test_in_pieces_or_at_once_is_the_same_to_the_bit(tool):
    """What the hand saw is what is computed anew: dabs lie where the path says, not where its pieces end."""
    rng = np.random.default_rng(3)
    points = np.column_stack([np.linspace(20, 120, 40), 60 + 25 * np.sin(np.linspace(0, 7, 40)), rng.uniform(0, 1, 40)])
    whole = stroke(tool, points, softness=0.6, opacity=0.8)
    dirty = Canvas(painted(CANVAS, stroke()))
    hand = StrokeInHand(dirty, Canvas(CANVAS), whole)
    for piece in np.split(points, [1, 2, 9, 30]):
        hand.add(piece)
    np.testing.assert_array_equal(hand.canvas.whole(), lay_stroke(dirty, Canvas(CANVAS), whole).whole())


@pytest.mark.parametrize("tool", Tool)
def test_contract_of_every_brush(tool):
    dirty = painted(CANVAS, stroke())
    nothing = stroke(tool, opacity=0.0)
    np.testing.assert_array_equal(painted(dirty, nothing, CANVAS), dirty)
    out = painted(dirty, stroke(tool, ((60, 60, 1), (75, 62, 1)), softness=0.5), CANVAS)
    far = np.ones(CANVAS.shape[:2], bool)
    far[48:74, 48:88] = False
    np.testing.assert_array_equal(out[far], dirty[far])
    assert np.isfinite(out).all()


def test_the_brushes_that_are_known_are_those_that_edits_take():
    assert set(TOOLS) == set(Tool)


@pytest.mark.parametrize("point", [(-500, 60, 1), (60, 900, 1)])
def test_off_the_canvas_nothing_happens(point):
    before = Canvas(CANVAS)
    assert StrokeInHand(before, before, stroke()).add(np.array([point], float)) is None


@pytest.mark.parametrize("point", [(0, 0, 1), (159, 119, 1), (2, 118, 1)])
@pytest.mark.parametrize("tool", Tool)
@pytest.mark.parametrize("source", [Source(dx=3, dy=-40), Source(dx=500.5, dy=3)])
def test_at_the_rim_and_with_sources_outside(point, tool, source):
    out = painted(CANVAS, stroke(tool, (point,), source=source))
    assert np.isfinite(out).all()
    assert out.shape == CANVAS.shape


# -- tiles --------------------------------------------------------------------------------------------------


def test_paint_costs_its_own_tiles():
    large = np.zeros((2000, 3000, 3), np.float32)
    large.setflags(write=False)
    blank = Canvas(large)
    one = lay_stroke(blank, blank, stroke(points=((400, 700, 1), (500, 700, 1))))
    assert 0 < one.nbytes <= 4 * TILE_PX**2 * 24, "a stroke of 100 px touches three tiles across, two down"
    two = lay_stroke(one, blank, stroke(points=((2500, 1500, 1),)))
    assert two.nbytes <= 4 * TILE_PX**2 * 24
    window = Window(0, 0, 100, 100)
    assert np.shares_memory(two.read(window), large), "what was not painted is not copied"
    assert two.content(window) == ()
    assert two.content(Window(390, 690, 410, 710)) == one.content(Window(390, 690, 410, 710)) != ()


def test_forty_strokes_on_a_large_plate_hold_little():
    """Each stroke is kept, for undo; together they hold their own tiles, not forty plates."""
    tracemalloc.start()
    try:
        large = np.full((2160, 3840, 3), 0.4, np.float32)
        blank, kept = Canvas(large), [Canvas(large)]
        for number in range(40):
            x, y = 200 + 80 * number, 300 + 37 * number
            points = ((x, y, 1), (x + 180, y + 60, 1), (x + 260, y + 200, 1))
            kept.append(lay_stroke(kept[-1], blank, stroke(points=points, size_px=60.0)))
        held, _ = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert len({id(canvas) for canvas in kept}) == 41
    assert held < 250e6, f"{held / 1e6:.0f} MB"


def test_a_canvas_is_read_across_its_tiles():
    canvas = Canvas(CANVAS)
    fresh = np.random.default_rng(0).uniform(size=(50, 70, 3)).astype(np.float32)
    window = Window(80, 60, 150, 110)
    cover = fresh[..., 0]
    after = canvas.with_pixels(window, fresh, cover)
    np.testing.assert_array_equal(after.cover(window), cover)
    assert not canvas.cover(window).any()
    wanted = CANVAS.copy()
    wanted[window.slices] = fresh
    np.testing.assert_array_equal(after.whole(), wanted)
    np.testing.assert_array_equal(after.read(Window(100, 90, 140, 119)), wanted[90:119, 100:140])
    np.testing.assert_array_equal(canvas.whole(), CANVAS)


# -- healing ------------------------------------------------------------------------------------------------


def disc(height, width, radius):
    y, x = np.mgrid[0:height, 0:width]
    return ((y - height / 2) ** 2 + (x - width / 2) ** 2 < radius**2).astype(np.float32)


def test_heal_of_a_brighter_copy_is_exact():
    """A source that differs by a constant heals to what is there."""
    mask = disc(80, 90, 25)
    below = texture(80, 90, seed=6)
    np.testing.assert_allclose(heal(below, below + 0.3, mask), below, atol=1e-3)  # stops of the relaxation


def test_heal_follows_a_slope_of_light():
    mask = disc(80, 90, 25)
    below = texture(80, 90, seed=6)
    ramp = np.linspace(-0.2, 0.2, 90, dtype=np.float32)[None, :, None]
    healed = heal(below, below + ramp, mask)
    inside = mask > 0
    # a slope is harmonic, so the membrane carries it; what is left is the averaging at the rim and the grid
    assert np.abs(healed - below)[inside].mean() < 0.01
    assert np.abs(ramp).mean() > 0.09


def test_heal_keeps_the_source_s_texture():
    mask = disc(80, 90, 25)
    below, source = texture(80, 90, seed=6), texture(80, 90, seed=7) * 0.5
    healed = heal(below, source, mask)
    inner = disc(80, 90, 15) > 0
    detail = lambda p: (p - np.roll(p, 1, 0))[inner]  # noqa: E731
    correlation = np.corrcoef(detail(healed).ravel(), detail(source).ravel())[0, 1]
    assert correlation > 0.97


def test_heal_without_a_rim_still_fits_the_level():
    below, source = np.full((20, 20, 3), 0.6, np.float32), np.full((20, 20, 3), 0.2, np.float32)
    np.testing.assert_allclose(heal(below, source, np.ones((20, 20), np.float32)), 0.6, atol=1e-6)
    assert heal(below, source, np.zeros((20, 20), np.float32)) is source


def test_heal_stroke_leaves_no_step_at_its_rim():
    step = CANVAS.copy()
    step[:50] *= 0.5  # the source lies in the dark
    healed = painted(step, stroke(Tool.HEAL, ((80, 85, 1),), size_px=40, softness=0.3, source=Source(dx=0, dy=-60)))
    cloned = painted(step, stroke(Tool.CLONE, ((80, 85, 1),), size_px=40, softness=0.3, source=Source(dx=0, dy=-60)))
    inside = np.s_[75:95, 70:90]
    # the texture's own mean over 20 px is left: a sixth of the step that cloning makes
    assert abs(healed[inside].mean() - step[inside].mean()) < 0.25 * abs(cloned[inside].mean() - step[inside].mean())


# -- what each brush does -----------------------------------------------------------------------------------

GREY = np.full((120, 160, 3), 0.18, np.float32)
AT = ((80, 60, 1),)


def test_flow_builds_up_within_a_stroke():
    there_and_back = ((40, 60, 1), (90, 60, 1), (40, 60, 1))
    plain = {"size_px": 20, "softness": 0.0, "colour": (1.0, 1.0, 1.0), "spacing": 1.0}
    once = painted(GREY, stroke(Tool.COLOUR, there_and_back[:2], flow=0.3, **plain))[60, 60, 0]
    twice = painted(GREY, stroke(Tool.COLOUR, there_and_back, flow=0.3, **plain))[60, 60, 0]
    assert once < twice < 1
    assert 1 - (twice - 0.18) / 0.82 == pytest.approx((1 - (once - 0.18) / 0.82) ** 2, abs=0.02)


@pytest.mark.parametrize(
    ("pressure", "is_smaller", "is_weaker"),
    [((), False, False), ((Pressure.SIZE,), True, False), ((Pressure.OPACITY,), False, True)],
)
def test_pressure_sets_size_or_opacity_or_neither(pressure, is_smaller, is_weaker):
    out = painted(GREY, stroke(Tool.COLOUR, ((80, 60, 0.5),), size_px=40, pressure=pressure, colour=(1.0, 1.0, 1.0)))
    assert (out[60, 80, 0] < 0.99) == is_weaker
    assert (out[60, 97, 0] == GREY[0, 0, 0]) == is_smaller


def test_only_the_channels_that_are_wanted_are_painted():
    out = painted(GREY, stroke(Tool.COLOUR, AT, channels="g", colour=(1.0, 1.0, 1.0)))
    np.testing.assert_allclose(out[60, 80], (0.18, 1.0, 0.18), atol=1e-6)


@pytest.mark.parametrize(
    ("blend", "wanted"),
    [(Blend.OVER, 0.5), (Blend.ADD, 0.68), (Blend.MULTIPLY, 0.09), (Blend.LIGHTER, 0.5), (Blend.DARKER, 0.18)],
)
def test_paint_meets_what_lies_below_in_linear_light(blend, wanted):
    out = painted(GREY, stroke(Tool.COLOUR, AT, blend=blend, colour=(0.5, 0.5, 0.5)))
    np.testing.assert_allclose(out[60, 80], wanted, atol=1e-6)


@pytest.mark.parametrize(("tones", "black", "white"), [
    (Tones.ALL, 1.0, 1.0), (Tones.SHADOWS, 1.0, 0.0), (Tones.MIDDLE, 0.0, 0.0), (Tones.HIGHLIGHTS, 0.0, 1.0),
])  # fmt: skip
def test_lighten_and_darken_work_on_tones(tones, black, white):
    """In stops at full strength: all, or those of very dark, middle and very bright pixels."""
    for tool, sign in ((Tool.LIGHTEN, 1), (Tool.DARKEN, -1)):
        for value, share in ((1e-4, black), (100.0, white)):
            before = np.full_like(GREY, value)
            out = painted(before, stroke(tool, AT, tones=tones, strength=1.0))
            assert np.log2(out[60, 80, 0] / value) == pytest.approx(sign * share, abs=0.02)


def test_soften_takes_detail_away_and_sharpen_brings_it_out():
    def detail(picture):
        return float(np.abs(np.diff(picture[50:70, 70:90], axis=1)).mean())

    fine = texture(120, 160, seed=4, fine=1.0)
    soft = painted(fine, stroke(Tool.SOFTEN, AT, size_px=50, strength=0.5))
    sharp = painted(fine, stroke(Tool.SHARPEN, AT, size_px=50, strength=0.5))
    assert detail(soft) < 0.5 * detail(fine) < 0.6 * detail(sharp)
    np.testing.assert_allclose(soft[50:70, 70:90].mean(), fine[50:70, 70:90].mean(), atol=0.01)


def test_smear_drags_what_is_there_along():
    edge = GREY.copy()
    edge[:, :80] = 1.0
    out = painted(edge, stroke(Tool.SMEAR, ((60, 60, 1), (110, 60, 1)), size_px=24, strength=1.0, spacing=0.05))
    assert out[60, 95, 0] > 0.9, "white was dragged over the edge"
    np.testing.assert_array_equal(out[40], edge[40])


def test_a_turned_larger_or_mirrored_source_is_about_the_place_it_comes_from():
    dot = GREY.copy()
    dot[20, 90] = 1.0  # 10 px to the right of where the source is taken from
    for source, x, y in (
        (Source(dx=0, dy=-40), 90, 60),
        (Source(dx=0, dy=-40, is_mirrored=True), 69, 60),
        (Source(dx=0, dy=-40, turn_deg=90.0), 79, 70),
        (Source(dx=0, dy=-40, scale=2.0), 100, 60),
    ):
        out = painted(dot, stroke(points=((80.0, 60.0, 1),), source=source, size_px=60, pressure=()))
        out[20, 90] = 0
        row, column = np.unravel_index(out[..., 0].argmax(), out.shape[:2])
        assert np.hypot(column - x, row - y) < 1.5, source


def test_what_stands_beside_a_healed_place_does_not_bleed_into_it():
    """Half of a black thing beside the stroke is no part of its surroundings: it neither darkens nor streaks."""
    wall = 0.3 + 0.1 * CANVAS + np.linspace(0, 0.2, 160, dtype=np.float32)[None, :, None]
    thing = wall.copy()
    thing[40:80, 90:] = 0.0
    beside = painted(thing, stroke(Tool.HEAL, ((78, 60, 1),), size_px=30))
    alone = painted(wall, stroke(Tool.HEAL, ((78, 60, 1),), size_px=30))
    inside = np.s_[52:68, 70:86]
    assert np.abs(beside[inside] - alone[inside]).max() < 0.02


def test_a_source_that_is_much_brighter_leaves_no_black_on_dark_ground():
    """Levels are added: a texture from the light would fall below nothing on dark iron, were it not made darker."""
    iron = 0.02 * (CANVAS / CANVAS.mean())
    bright = iron.copy()
    bright[:, 80:] *= 40  # as strong a texture, in the sun
    out = painted(bright, stroke(Tool.HEAL, ((40, 60, 1),), size_px=30, source=Source(dx=60, dy=0)))
    inside = np.s_[50:70, 30:50]
    assert out[inside].min() >= 0
    assert (out[inside] == 0).mean() < 0.01
    assert out[inside].mean() == pytest.approx(iron[inside].mean(), rel=0.2)
    assert out[inside].std() < 3 * iron[inside].std(), "its texture is no stronger than the ground's"
    alike = painted(CANVAS, stroke(Tool.HEAL, ((40, 60, 1),), size_px=30, source=Source(dx=60, dy=0)))
    assert alike[inside].std() == pytest.approx(CANVAS[50:70, 90:110].std(), rel=0.25), "alike, it is taken as it is"


def test_what_stays_in_front_is_no_surroundings_of_a_heal():
    sky = np.full((80, 120, 3), 0.4, np.float32) + texture(80, 120, seed=9) * 0.02
    below, source, mask = sky * 0.8, sky.copy(), np.zeros((80, 120), np.float32)
    below[20:60, 40:80] = 2.0  # the thing
    mask[16:64, 36:84] = 1
    wanted = sky * 0.8
    np.testing.assert_allclose(heal(below, source, mask)[20:60, 40:80], wanted[20:60, 40:80], atol=0.02)
    front = np.ones((80, 120), np.float32)
    front[:, :36] = 0  # around the stroke nothing else is seen but at its left
    below[front > 0] = np.where(mask[..., None] > 0, below, (0.9, 0.1, 0.1))[front > 0]
    smeared, kept = heal(below, source, mask), heal(below, source, mask, front)
    np.testing.assert_allclose(kept[20:60, 40:80], wanted[20:60, 40:80], atol=0.02)
    assert np.abs(smeared - wanted)[20:60, 40:80].max() > 0.1
    np.testing.assert_array_equal(heal(below, source, mask, np.ones_like(front)), source)


def test_a_source_turns_and_grows_with_what_a_stroke_rides_on():
    one = Stroke(id="s", points=Array([(40, 60, 1), (50, 60, 1)]), brush=Brush(tool=Tool.CLONE, size_px=10.0),
                 source=Source(dx=0, dy=-40))  # fmt: skip
    at_home = _on_itself(one, IDENTITY, 1.0)
    np.testing.assert_allclose(at_home.origin_from_canvas(np.array([[40.0, 60.0]])), [[40.0, 20.0]])
    turned = MatrixMapping(np.array([[0.0, -2.0, 300.0], [2.0, 0.0, 5.0], [0.0, 0.0, 1.0]]))
    there = _on_itself(one, turned, 0.5)
    np.testing.assert_allclose(there.points.values[:, :2], turned(one.points.values[:, :2]))
    np.testing.assert_allclose(
        there.origin_from_canvas(turned(np.array([[40.0, 60.0]]))), turned(np.array([[40.0, 20.0]]))
    )
    assert there.brush.size_px == pytest.approx(20.0)
    assert there.brush.opacity == pytest.approx(0.5 * one.brush.opacity)


@pytest.mark.parametrize("way", [((4, 60, 1), (30, 60, 1)), ((80, 3, 1), (80, 30, 1))])
def test_what_is_dragged_at_a_rim_is_what_is_dragged_in_the_middle_of_more(way):
    wide = np.pad(CANVAS, ((40, 40), (40, 40), (0, 0)), mode="edge")
    moved = tuple((x + 40, y + 40, pressure) for x, y, pressure in way)
    out = painted(CANVAS, stroke(Tool.SMEAR, way, size_px=24, strength=1.0, spacing=0.1))
    more = painted(wide, stroke(Tool.SMEAR, moved, size_px=24, strength=1.0, spacing=0.1))
    np.testing.assert_allclose(out, more[40:-40, 40:-40], atol=1e-5)
