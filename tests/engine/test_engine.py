"""The engine: caching by content, live plates, windows, order, views, and work that can be stopped."""

import threading
import time
import tracemalloc

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    Fix,
    Frames,
    FromPicture,
    GrainMatch,
    LightMatch,
    Match,
    Painting,
    Plates,
    Project,
    Source,
    Stroke,
    Tool,
    edits,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import (
    Cache,
    Engine,
    Jobs,
    LiveStroke,
    Look,
    Priority,
    State,
    Step,
    Veil,
    ViewRequest,
    steps_of,
    view_key,
    view_pixels,
)
from gommage.core.engine.cache import _bytes_of
from gommage.core.geometry import IDENTITY, Window, scaling
from gommage.core.picture import halved, read_linear
from gommage.core.picture.writing import write_still
from gommage.errors import Cancelled, FootageError, FrameMissingError, GommageError
from tests.conftest import cover_of, rectangle, shape_of
from tests.waiting import wait

COVER = rectangle(60, 40, 90, 70)
HALF_FLOAT = 1e-3  # the plate's own rounding, at values below 1


def with_fix(shot, *strokes, is_lit=True, stops=0.0, grain=0.0):
    plate = CleanPlate(id="plate", name="Clean", surface_id="wall", home_frame=1001, painting=Painting(strokes=strokes))
    match = Match(light=LightMatch(is_measured=is_lit, exposure_stops=stops), grain=GrainMatch(amount=grain))
    fix = Fix(
        id="fix", name="Nail", surface_id="wall", cover=cover_of(shape_of(COVER, shape_id="cover"), softness=4),
        fill=Plates(plate_ids=("plate",)), match=match,
    )  # fmt: skip
    return replace(shot, clean_plates=(plate,), fixes=(fix,))


def clone(points=((75, 55, 1),), dx=-40.0, size=28.0, name="s", tool=Tool.CLONE, **brush):
    brush = Brush(tool=tool, size_px=size, softness=0.0, **brush)
    return Stroke(id=name, points=Array(points), brush=brush, source=Source(dx=dx))


def result_of(shot, frame):
    return Engine(10**9).result(shot, frame)


def test_an_unpainted_plate_changes_nothing_that_is_seen(engine, small_shot):
    shot = with_fix(small_shot)
    for frame in shot.footage.frames:
        np.testing.assert_allclose(engine.result(shot, frame), engine.plate(shot.footage, frame), atol=2 * HALF_FLOAT)


def test_light_follows_the_frame_and_without_match_does_not(engine, small_shot):
    shot = with_fix(small_shot, clone())
    painted = engine.painted(shot, shot.clean_plates[0])
    inside = np.s_[48:62, 68:82]
    dimmed = painted[inside] * 0.9**4
    np.testing.assert_allclose(engine.result(shot, 1005)[inside], dimmed, atol=0.01)
    still = with_fix(small_shot, clone(), is_lit=False)
    np.testing.assert_allclose(engine.result(still, 1005)[inside], painted[inside], atol=HALF_FLOAT)
    brighter = with_fix(small_shot, clone(), is_lit=False, stops=1.0)
    np.testing.assert_allclose(engine.result(brighter, 1005)[inside], painted[inside] * 2, atol=2 * HALF_FLOAT)


def test_paint_beyond_the_cover_does_not_change_the_light(engine, small_shot):
    """Light is measured on the home frame as it was shot, not on what was painted over the rim."""
    wide = with_fix(small_shot, clone(size=80.0))
    patch = engine.patch(wide, wide.fixes[0], 1005)
    assert patch.light.stops == pytest.approx([4 * np.log2(0.9)] * 3, abs=0.01)


def test_outside_the_cover_every_bit_is_the_plate_s(engine, small_shot):
    shot = with_fix(small_shot, clone(), grain=1.0)
    for frame in shot.footage.frames:
        patch = engine.patch(shot, shot.fixes[0], frame)
        outside = np.ones((120, 160), bool)
        outside[patch.window.slices] = patch.alpha <= 0
        assert outside.sum() > 15000
        np.testing.assert_array_equal(engine.result(shot, frame)[outside], engine.plate(shot.footage, frame)[outside])


def test_a_plate_is_live_and_undo_is_instant(engine, small_shot):
    before = with_fix(small_shot)
    after = with_fix(small_shot, clone())
    first = engine.patch(before, before.fixes[0], 1003)
    assert (engine.result(after, 1003) != engine.result(before, 1003)).any()
    again = with_fix(small_shot)
    assert engine.patch(again, again.fixes[0], 1003) is first


def test_a_new_stroke_costs_one_stroke(engine, small_shot, monkeypatch):
    from gommage.core.paint import replays

    laid = []
    real = replays.stroke_laid
    monkeypatch.setattr(
        replays,
        "stroke_laid",
        lambda *given: laid.append(given[2].id) or real(*given),
    )
    strokes = [clone(name=f"n{k}", size=10.0 + k) for k in range(4)]
    for count in range(1, 5):
        shot = with_fix(small_shot, *strokes[:count])
        engine.painted(shot, shot.clean_plates[0])
    assert laid == ["n0", "n1", "n2", "n3"]


def test_a_name_is_no_reason_to_compute_again(engine, small_shot):
    shot = with_fix(small_shot, clone())
    renamed = replace(
        shot, fixes=(replace(shot.fixes[0], name="Screw"),), clean_plates=(replace(shot.clean_plates[0], name="X"),)
    )
    assert engine.patch(renamed, renamed.fixes[0], 1002) is engine.patch(shot, shot.fixes[0], 1002)


def test_fixes_build_on_what_lies_below(engine, small_shot):
    """The front fix matches its light to the back fix's pixels where these surround it."""
    shot = with_fix(small_shot, clone())
    match = Match(light=LightMatch(is_measured=False, exposure_stops=1.0), grain=GrainMatch(amount=0.0))
    back = replace(shot.fixes[0], cover=cover_of(shape_of(rectangle(30, 20, 130, 100)), softness=2), match=match)
    front = replace(shot.fixes[0], id="front")
    both = replace(shot, fixes=(back, front))
    patch = engine.patch(both, front, 1001)
    assert patch.light.stops == pytest.approx((1, 1, 1), abs=0.1)
    other_way = replace(shot, fixes=(front, back))
    assert engine.patch(other_way, front, 1001).light.stops == pytest.approx((0, 0, 0), abs=0.1)


def test_a_fix_lives_on_its_frames_and_can_be_switched_off(engine, small_shot):
    shot = with_fix(small_shot, clone())
    short = replace(shot, fixes=(replace(shot.fixes[0], frames=(Frames(first=1002, last=1003),)),))
    assert [engine.patch(short, short.fixes[0], f) is not None for f in range(1001, 1005)] == [False, True, True, False]
    off = replace(shot, fixes=(replace(shot.fixes[0], is_on=False),))
    np.testing.assert_array_equal(engine.result(off, 1002), engine.plate(shot.footage, 1002))


def test_what_lacks_a_plate_or_track_does_nothing(engine, small_shot):
    shot = with_fix(small_shot, clone())
    unfollowed = replace(shot, surfaces=(replace(shot.surfaces[0], track=None),))
    assert engine.patch(unfollowed, unfollowed.fixes[0], 1002) is None
    no_plate = replace(shot, fixes=(replace(shot.fixes[0], fill=Plates()),))
    assert engine.patch(no_plate, no_plate.fixes[0], 1002) is None


def with_base(shot, path):
    plate = replace(shot.clean_plates[0], base=FromPicture(path=str(path)))
    return replace(shot, clean_plates=(plate,))


def test_a_plate_from_a_picture(engine, small_shot, tmp_path):
    flat = np.full((120, 160, 3), 0.25, np.float32)
    write_still(tmp_path / "painted.exr", flat, bits=32)
    shot = with_fix(small_shot, is_lit=False)
    shot = with_base(shot, tmp_path / "painted.exr")
    np.testing.assert_allclose(engine.result(shot, 1004)[50:60, 70:80], 0.25, atol=1e-5)
    write_still(tmp_path / "small.exr", flat[:50], bits=32)
    wrong = with_base(shot, tmp_path / "small.exr")
    with pytest.raises(FootageError, match="small.exr is 160 x 50, the shot is 160 x 120"):
        engine.result(wrong, 1004)


def test_check_skips_gaps_and_finds_a_bad_light(engine, small_shot):
    gap = replace(small_shot, footage=replace(small_shot.footage, missing=(1003,)))
    shot = with_fix(gap, clone())
    good = engine.check(shot, shot.fixes[0])
    assert [one.frame for one in good] == [1001, 1002, 1004, 1005, 1006]
    assert max(one.seam_percent for one in good) < 1
    bad = with_fix(gap, clone(), is_lit=False)
    figures = {one.frame: one.seam_percent for one in engine.check(bad, bad.fixes[0])}
    assert figures[1006] == pytest.approx(100 * (1 / 0.9**5 - 1), rel=0.15)


# -- steps --------------------------------------------------------------------------------------------------


def test_steps_say_how_far_a_fix_is(engine, small_shot):
    bare = replace(small_shot, fixes=(Fix(id="fix", name="Nail", surface_id="wall"),))
    states = {step: advice.state for step, advice in steps_of(bare, bare.fixes[0]).items()}
    assert states == {Step.FOLLOW: State.FINE, Step.COVER: State.NOT_BEGUN, Step.FILL: State.NOT_BEGUN,
                      Step.MATCH: State.NOT_BEGUN, Step.CHECK: State.NOT_BEGUN}  # fmt: skip
    unpainted = with_fix(small_shot)
    assert "still as it was shot" in steps_of(unpainted, unpainted.fixes[0])[Step.FILL].words
    done = with_fix(small_shot, clone())
    figures = engine.check(done, done.fixes[0])
    assert {advice.state for advice in steps_of(done, done.fixes[0], figures).values()} == {State.FINE}


def test_steps_say_what_is_wrong(small_shot):
    done = with_fix(small_shot, clone())
    surface = done.surfaces[0]
    parts = cover_of(shape_of(rectangle(-5, 0, 90, 70))).parts
    large = edits.change_matte(Project.of(done), "shot", "fix", Slot.COVER, parts=parts).shots[0]
    assert "beyond the area of Wall" in steps_of(large, large.fixes[0])[Step.COVER].words
    slipping = replace(
        done,
        surfaces=(
            replace(
                surface,
                track=replace(surface.track, corner_slip_px=Array([[slip] * 4 for slip in (0, 0, 0.9, 0, 0, 0)])),
            ),
        ),
    )
    advice = steps_of(slipping, slipping.fixes[0])[Step.FOLLOW]
    assert (advice.state, advice.frame) == (State.LOOK, 1003)
    cut = replace(
        surface.track, home_to_frame=Array(np.stack([np.eye(3)] * 3)), corner_slip_px=Array(np.zeros((3, 4))),
        certainty=Array([1] * 3),
        reasons=("",) * 3,
        after="the plane has left the picture",
    )  # fmt: skip
    short = replace(done, surfaces=(replace(surface, track=cut),))
    assert "up to frame 1003 only: the plane has left the picture" in steps_of(short, short.fixes[0])[Step.FOLLOW].words
    late = replace(cut, first_frame=1004, before="the plane was hidden", after="")
    later = replace(done, surfaces=(replace(surface, track=late),))
    advice = steps_of(later, later.fixes[0])[Step.FOLLOW]
    assert (advice.state, advice.frame) == (State.LOOK, 1004)
    assert advice.words == "Wall is followed from frame 1004 on only: the plane was hidden."
    within = replace(later.fixes[0], frames=(Frames(first=1004, last=1006),))
    assert steps_of(later, within)[Step.FOLLOW].state is State.FINE, "elsewhere it is not wanted"
    away = replace(done, clean_plates=(replace(done.clean_plates[0], home_frame=1500),))
    assert "home frame is not followed" in steps_of(away, away.fixes[0])[Step.FILL].words


# -- views --------------------------------------------------------------------------------------------------


def request_of(shot, look, frame=1002, **fields):
    return ViewRequest(shot, frame, look, IDENTITY, (160, 120), plate_id="plate", **fields)


@pytest.mark.parametrize("look", Look)
def test_every_look_is_a_picture_of_the_viewport(engine, small_shot, look):
    pixels = view_pixels(engine, request_of(with_fix(small_shot, clone()), look))
    assert pixels[..., :3].std() > 3 or look is Look.DIFFERENCE, "there is something in the picture"
    assert pixels.shape == (120, 160, 4)
    assert pixels.dtype == np.uint8
    assert (pixels[..., 3] == 255).all()


def test_looks_show_what_they_say(engine, small_shot):
    shot = with_fix(small_shot, clone())
    seen = {look: view_pixels(engine, request_of(shot, look))[..., :3].astype(int) for look in Look}
    assert seen[Look.MATTE][55, 75].min() == 255
    assert seen[Look.MATTE][10, 10].max() == 0
    assert seen[Look.DIFFERENCE][10, 10].max() == 0
    assert seen[Look.DIFFERENCE][48:62, 68:82].max() > 20
    assert (seen[Look.RESULT][10, 10] == seen[Look.PLATE][10, 10]).all()
    assert (seen[Look.PAINT_ALONE][55, 75] == seen[Look.RESULT][55, 75]).all()
    assert len({tuple(value) for value in seen[Look.PAINT_ALONE][:20, :20].reshape(-1, 3)}) == 1


def test_a_view_depends_on_its_look_alone(small_shot):
    shot, painted = with_fix(small_shot), with_fix(small_shot, clone())
    assert view_key(request_of(shot, Look.PLATE)) == view_key(request_of(painted, Look.PLATE))
    assert view_key(request_of(shot, Look.RESULT)) != view_key(request_of(painted, Look.RESULT))
    assert view_key(request_of(shot, Look.CLEAN_PLATE)) != view_key(request_of(painted, Look.CLEAN_PLATE))


def test_the_surround_is_neutral(engine, small_shot):
    request = ViewRequest(small_shot, 1001, Look.RESULT, scaling(0.5), (160, 120))
    assert view_pixels(engine, request)[119, 159].tolist() == [0x3A, 0x3A, 0x3A, 255]


def laid_in_pieces(engine, shot, stroke, request, pieces=(1, 2, 5)):
    """Lay a stroke piece by piece over what is on screen; returns the screen and the live stroke."""
    live = LiveStroke(engine, request, "plate", stroke)
    screen = view_pixels(engine, request).copy()
    for points in np.split(stroke.points.values, pieces):
        shown = live.add(points) if len(points) else None
        if shown is not None:
            screen[shown.window.slices] = shown.pixels
    return screen, live


PATH = np.column_stack([np.linspace(50, 95, 8), np.linspace(50, 62, 8), np.linspace(0.4, 1, 8)])


@pytest.mark.parametrize("tool", [Tool.CLONE, Tool.HEAL, Tool.RESTORE])
@pytest.mark.parametrize("look", [Look.CLEAN_PLATE, Look.RESULT])
def test_what_is_seen_while_painting_is_what_is_rendered(engine, small_shot, look, tool):
    """Also on another frame than the plate's home, with cover, light and fresh grain."""
    shot = with_fix(small_shot, clone(name="under"), grain=1.0)
    stroke = clone(PATH, size=16.0, name="new", tool=tool)
    frame = 1001 if look is Look.CLEAN_PLATE else 1004
    screen, live = laid_in_pieces(engine, shot, stroke, request_of(shot, look, frame))
    after = with_fix(small_shot, clone(name="under"), stroke, grain=1.0)
    final = view_pixels(Engine(10**9), request_of(after, look, frame))
    assert (final != view_pixels(engine, request_of(shot, look, frame))).any()
    assert np.abs(screen.astype(int) - final).max() <= 1
    live.finish(after)
    np.testing.assert_array_equal(
        engine.painted(after, after.clean_plates[0]), Engine(10**9).painted(after, after.clean_plates[0])
    )


def test_the_tiles_that_the_hand_saw_are_the_ones_that_are_kept(small_shot, monkeypatch):
    from gommage.core.paint import replays

    engine = Engine(10**9)
    shot, stroke = with_fix(small_shot), clone(PATH, size=16.0, name="new")
    _, live = laid_in_pieces(engine, shot, stroke, request_of(shot, Look.CLEAN_PLATE, 1001))
    live.finish(with_fix(small_shot, stroke))
    monkeypatch.setattr(replays, "stroke_laid", lambda *arguments: pytest.fail("it was painted again"))
    assert engine.painted(with_fix(small_shot, stroke), with_fix(small_shot, stroke).clean_plates[0]) is not None


def test_a_stroke_off_the_canvas_shows_nothing(engine, small_shot):
    shot = with_fix(small_shot)
    live = LiveStroke(engine, request_of(shot, Look.CLEAN_PLATE), "plate", clone())
    assert live.add(np.array([[-900.0, -900, 1]])) is None


def test_two_plates_blend_each_under_its_own_light(engine, small_shot):
    """Between two home frames both are carried there, lit as the frame is, and mixed."""
    shot = with_fix(small_shot, clone())
    other = CleanPlate(
        id="other", name="Other", surface_id="wall", home_frame=1005, painting=Painting(strokes=(clone(name="o"),))
    )
    fix = replace(shot.fixes[0], fill=Plates(plate_ids=("plate", "other")))
    both = replace(shot, clean_plates=(*shot.clean_plates, other), fixes=(fix,))
    inside = np.s_[48:62, 68:82]
    painted = engine.painted(shot, shot.clean_plates[0])
    for frame in (1001, 1003, 1005):
        wanted = painted[inside] * 0.9 ** (frame - 1001)
        np.testing.assert_allclose(engine.result(both, frame)[inside], wanted, atol=0.01)
    patch = engine.patch(both, fix, 1003)
    assert [light.stops[0] for light in patch.lights] == pytest.approx([2 * np.log2(0.9), -2 * np.log2(0.9)], abs=0.02)


def test_a_window_of_the_result_is_the_result_of_the_window(engine, small_shot):
    shot = with_fix(small_shot, clone(), grain=1.0)
    window = Window(70, 30, 140, 66)
    np.testing.assert_array_equal(engine.result(shot, 1004, window), engine.result(shot, 1004)[window.slices])


def test_half_the_scale_is_the_same_picture(engine, small_shot):
    """Evaluated small, a frame is what it would be made small, but for its edge and its own draw of grain."""
    shot = with_fix(small_shot, clone())
    small = engine.result(shot, 1004, scale=0.5)
    assert small.shape == (60, 80, 3)
    off = np.abs(small - halved(engine.result(shot, 1004), 1))
    assert off.mean() < 0.002
    assert off.max() < 0.06  # on the soft edge, whose curve is sampled at other places
    with pytest.raises(ValueError, match="scale 0.3"):
        engine.result(shot, 1004, scale=0.3)


def test_the_viewer_asks_for_the_scale_it_shows(small_shot):
    engine = Engine(10**9)
    shot = with_fix(small_shot, clone())
    view_pixels(engine, ViewRequest(shot, 1002, Look.RESULT, scaling(0.4), (64, 48)))
    assert engine.patches.patches_if_there(*_inputs(shot, 1002), 1) is not None
    assert engine.patches.patches_if_there(*_inputs(shot, 1002), 0) is None


def _inputs(shot, frame):
    from gommage.core.engine import frame_inputs

    return frame_inputs(shot, frame)


def test_hold_outs_keep_the_plate_and_opacity_mixes(engine, small_shot):
    shot = with_fix(small_shot, clone())
    fix = replace(shot.fixes[0], hold_outs=cover_of(shape_of(rectangle(72, 30, 100, 80)), softness=1))
    held = replace(shot, fixes=(fix,))
    plate, whole = engine.plate(shot.footage, 1002), engine.result(shot, 1002)
    np.testing.assert_array_equal(engine.result(held, 1002)[48:62, 75:82], plate[48:62, 75:82])
    # Light is not looked at where something is in front: it is the same but for rounding.
    np.testing.assert_allclose(engine.result(held, 1002)[48:62, 65:70], whole[48:62, 65:70], rtol=1e-4)
    half = replace(shot, fixes=(replace(shot.fixes[0], opacity=0.5),))
    inside = np.s_[48:62, 68:82]
    np.testing.assert_allclose(engine.result(half, 1002)[inside], (plate[inside] + whole[inside]) / 2, atol=1e-6)


def test_a_cover_may_stay_put_in_the_picture(engine, small_shot):
    moving = np.repeat(np.eye(3)[None], 6, axis=0)
    moving[:, 0, 2] = 5.0 * np.arange(6)
    track = replace(small_shot.surfaces[0].track, home_to_frame=Array(moving))
    shot = with_fix(replace(small_shot, surfaces=(replace(small_shot.surfaces[0], track=track),)))
    put = replace(shot, fixes=(replace(shot.fixes[0], cover=cover_of(shape_of(COVER), softness=4, surface_id="")),))
    rides, stays = (engine.patch(one, one.fixes[0], 1005).window for one in (shot, put))
    assert rides.left - stays.left == 20


def test_the_value_under_the_pen_is_read_not_computed(small_shot):
    engine, shot = Engine(10**9), with_fix(small_shot, clone())
    assert engine.value_if_there(shot, 1004, 75.5, 55.5, of_plate=True) is None
    whole = engine.result(shot, 1004)
    np.testing.assert_allclose(engine.value_if_there(shot, 1004, 75.5, 55.5, of_plate=False), whole[55, 75], rtol=1e-6)
    np.testing.assert_array_equal(
        engine.value_if_there(shot, 1004, 75.5, 55.5, of_plate=True), engine.plate(shot.footage, 1004)[55, 75]
    )
    assert engine.value_if_there(shot, 1004, -3, 55.5, of_plate=True) is None


# -- cache and jobs -----------------------------------------------------------------------------------------


def test_the_cache_drops_what_was_used_longest_ago():
    cache = Cache(3 * 8064)
    for name in "abc":
        cache.put(name, np.zeros(1000))
    cache.get("a")
    cache.put("d", np.zeros(900))
    assert "b" not in cache
    assert "a" in cache
    assert cache.held_bytes <= 3 * 8064
    assert _bytes_of((np.zeros(10), [np.zeros(5)])) >= 120


def test_two_who_ask_at_once_compute_once():
    cache, made = Cache(10**6), []

    def make():
        made.append(threading.current_thread().name)
        time.sleep(0.05)
        return np.ones(3)

    threads = [threading.Thread(target=lambda: cache.get_or_make("k", make)) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(made) == 1


def test_a_failure_is_not_cached():
    cache = Cache(10**6)
    with pytest.raises(ValueError, match="once"):
        cache.get_or_make("k", lambda: (_ for _ in ()).throw(ValueError("once")))
    assert cache.get_or_make("k", lambda: 5) == 5


@pytest.fixture
def jobs():
    made = Jobs()
    yield made
    assert made.close() == []


def test_who_waits_for_another_s_work_can_be_called_off():
    cache, gate, called_off = Cache(10**6), threading.Event(), threading.Event()
    maker = threading.Thread(target=lambda: cache.get_or_make("k", lambda: gate.wait(120)))
    maker.start()

    def check():
        if called_off.is_set():
            raise Cancelled

    ended = []

    def wait_for_it():
        try:
            cache.get_or_make("k", lambda: None, check)
        except Cancelled:
            ended.append(gate.is_set())

    waiter = threading.Thread(target=wait_for_it)
    waiter.start()
    time.sleep(0.02)
    called_off.set()
    waiter.join(60)
    assert ended == [False], "not only when the other's work was done"
    gate.set()
    maker.join(120)


def test_what_the_hand_does_is_done_in_order(jobs):
    """Of three thousand jobs, submitted as fast as can be beside other work, none overtakes another."""
    order = []
    for number in range(3000):
        jobs.submit(("hand", number), Priority.HAND, lambda check, n=number: order.append(n))
        if number % 100 == 0:
            jobs.submit(("screen", number), Priority.SCREEN, lambda check: time.sleep(0.001))
    wait(jobs.is_idle)
    assert order == list(range(3000))


def test_the_hand_never_waits_for_neighbours(jobs):
    gate, done = threading.Event(), threading.Event()
    for number in range(6):
        jobs.submit(("ahead", number), Priority.NEIGHBOUR, lambda check: gate.wait(120))
        jobs.submit(("long", number), Priority.LONG, lambda check: gate.wait(120))
    jobs.submit(("hand", 0), Priority.HAND, lambda check: None, lambda _: done.set())
    assert done.wait(60)
    gate.set()
    wait(jobs.is_idle)


def test_urgent_work_overtakes_and_long_work_leaves_room(jobs):
    order, gate = [], threading.Event()
    jobs.submit("long", Priority.LONG, lambda check: gate.wait(120), lambda _: order.append("long"))
    jobs.submit("idle", Priority.IDLE, lambda check: None, lambda _: order.append("idle"))
    jobs.submit("screen", Priority.SCREEN, lambda check: None, lambda _: order.append("screen"))
    wait(lambda: "screen" in order)
    assert order == ["screen"]
    gate.set()
    wait(jobs.is_idle)
    assert order[-1] == "idle"


def test_cancel_reaches_running_work_within_a_stage(jobs):
    answers, started, ended = [], threading.Event(), threading.Event()

    def run(check):
        started.set()
        try:
            for _ in range(60_000):
                check()
                time.sleep(0.005)
        finally:
            ended.set()

    jobs.submit(("long", 1), Priority.LONG, run, answers.append, answers.append)
    assert started.wait(120)
    assert jobs.is_waiting("long")
    jobs.cancel(lambda key: key[0] == "long")
    assert ended.wait(60)
    wait(jobs.is_idle)
    assert answers == []


def test_the_same_key_waits_once(jobs):
    gate, runs = threading.Event(), []
    for _ in range(3):
        jobs.submit("k", Priority.SCREEN, lambda check: (gate.wait(120), runs.append(1)))
    gate.set()
    wait(jobs.is_idle)
    assert runs == [1]


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (FrameMissingError("Frame 7 is missing.", "p", 7), "Frame 7 is missing."),
        (GommageError("No."), "No."),
        (MemoryError(), "not enough memory"),
        (KeyError("x"), "inside Gommage (KeyError: 'x'). Your work is safe."),
    ],
)
def test_failures_reach_the_user_in_words(jobs, error, words):
    said = []

    def run(check):
        raise error

    jobs.submit("k", Priority.SCREEN, run, failed=said.append)
    wait(lambda: said)
    assert words in said[0]


def test_plates_are_decoded_as_their_footage_says(engine, small_shot):
    raw = engine.raw(small_shot.footage, 1001)
    np.testing.assert_array_equal(
        engine.plate(small_shot.footage, 1001), read_linear(raw, small_shot.footage.colour_space)
    )


def test_a_hundred_strokes_stay_within_the_cache_s_budget(small_shot):
    """Painted one after the other, each looked at: what is held is the budget, not the number of strokes."""
    budget = 20 * 1024**2
    engine = Engine(budget)
    strokes = []
    tracemalloc.start()
    try:
        for number in range(100):
            x = 20 + number
            strokes.append(clone(points=((x, 40 + number % 30, 1), (x + 9, 50, 1)), size=9.0, name=f"s{number}"))
            shot = with_fix(small_shot, *strokes, grain=1.0)
            engine.result(shot, 1001 + number % 3)
        held, _ = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert engine.cache.held_bytes <= budget
    assert held < 2 * budget, f"{held / 1e6:.0f} MB"


def test_fixes_side_by_side_are_the_same_to_the_bit_and_can_be_called_off(engine, small_shot):
    one = with_fix(small_shot, clone(), grain=1.0)
    apart = [cover_of(shape_of(rectangle(x, 30, x + 20, 50), shape_id=f"c{x}"), softness=3) for x in (20, 55, 120)]
    fixes = tuple(replace(one.fixes[0], id=f"f{k}", cover=cover) for k, cover in enumerate(apart))
    many = replace(one, fixes=fixes)
    wanted = Engine(10**9)
    for fix in fixes:  # one after the other
        wanted.patch(many, fix, 1004)
    for _ in range(3):
        np.testing.assert_array_equal(Engine(10**9).result(many, 1004), wanted.result(many, 1004))
    calls = []

    def check():
        calls.append(1)
        if len(calls) > 6:
            raise Cancelled

    fresh = Engine(10**9)
    with pytest.raises(Cancelled):
        fresh.result(many, 1005, check=check)
    np.testing.assert_array_equal(fresh.result(many, 1005), wanted.result(many, 1005))


def test_a_veil_shows_what_is_covered_and_what_is_held_out(engine, small_shot):
    shot = with_fix(small_shot)
    held = cover_of(shape_of(rectangle(75, 45, 95, 65), shape_id="h"))
    fix = replace(
        shot.fixes[0], hold_outs=held, fill=Plates()
    )  # nothing to fill it with yet: the matte is there anyway
    shot = replace(shot, fixes=(fix,))
    plate = view_pixels(engine, request_of(shot, Look.PLATE))[..., :3].astype(int)
    veil = view_pixels(engine, request_of(shot, Look.VEIL, veil=Veil(fix.id, 0.5)))[..., :3].astype(int)
    dimmed = view_pixels(engine, request_of(shot, Look.OUTSIDE, veil=Veil(fix.id)))[..., :3].astype(int)
    covered, kept, far = (55, 65), (50, 90), (10, 10)
    assert (veil[far] == plate[far]).all()
    assert abs(veil[covered] - plate[covered]).max() > 20
    assert abs(veil[kept] - veil[covered]).max() > 20, "another tone"
    assert (dimmed[covered] == plate[covered]).all()
    assert dimmed[far].max() < plate[far].max() / 2
    stronger = view_pixels(engine, request_of(shot, Look.VEIL, veil=Veil(fix.id, 1.0)))[..., :3].astype(int)
    assert abs(stronger[covered] - plate[covered]).max() > abs(veil[covered] - plate[covered]).max()
