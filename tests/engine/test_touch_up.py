"""Strokes on the shot itself: where they lie on each frame, from where and when their pixels come, what they leave."""

import dataclasses

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    CleanPlatePicture,
    Fix,
    FixPicture,
    Footage,
    FrameOffset,
    FrameRange,
    Frames,
    Group,
    Matte,
    Painted,
    Painting,
    PinnedFrame,
    PlatePicture,
    Plates,
    Project,
    Shot,
    Softness,
    Source,
    Stroke,
    Surface,
    Tool,
    Track,
    edits,
)
from gommage.core.engine import (
    Engine,
    LiveStroke,
    Look,
    MatteTarget,
    RenderTarget,
    ViewRequest,
    render,
    told_of_stroke,
    view_pixels,
    write_mattes,
)
from gommage.core.engine.views import shown_pixels
from gommage.core.geometry import Window, composed, scaling, shift, turning
from gommage.core.picture import read_picture
from gommage.core.picture.writing import write_still
from tests.conftest import plane, rectangle, shape_of, texture

PAGES = FrameRange(first=1001, last=1006)
BY = 3  # the camera pans by so many pixels a frame, so that what comes along the surface is copied exactly
WIDTH, HEIGHT = 150, 100
DIRT = Window(60, 40, 72, 52)
EXACT = 1e-6


def clean(frame):
    by = BY * (frame - PAGES.first)
    return texture(HEIGHT, 220, seed=8)[:, 40 - by : 40 - by + WIDTH].astype(np.float16).astype(np.float32)


@pytest.fixture(scope="module")
def dirty_shot(tmp_path_factory) -> Shot:
    """A pan over a texture, with a white speck on frame 1003 alone."""
    folder = tmp_path_factory.mktemp("dirty")
    for frame in PAGES:
        picture = clean(frame).copy()
        if frame == 1003:
            picture[DIRT.slices] = 2.0
        write_still(folder / f"pan.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "pan.####.exr"), frames=PAGES, width=WIDTH, height=HEIGHT,
                      colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    matrices = np.repeat(np.eye(3)[None], len(PAGES), axis=0)
    matrices[:, 0, 2] = BY * np.arange(len(PAGES))
    track = Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.zeros((len(PAGES), 4))),
                  certainty=Array(np.ones(len(PAGES))), reasons=("",) * len(PAGES))  # fmt: skip
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=plane(rectangle(5, 5, 145, 95)), track=track)
    return Shot(id="shot", name="Pan", footage=footage, surfaces=(surface,))


def dab(x=66.0, y=46.0, size=24.0, name="s", frames=((1003, 1003),), tool=Tool.CLONE, source=Source(), **fields):  # noqa: B008
    brush = Brush(tool=tool, size_px=size, softness=0.0, pressure=())
    return Stroke(id=name, points=Array([[x, y, 1.0]]), brush=fields.pop("brush", brush), source=source,
                  frames=tuple(Frames(first=a, last=b) for a, b in frames), **fields)  # fmt: skip


def fixed(shot, *strokes, groups=(), **fields):
    fix = Fix(id="dust", name="Dust", surface_id="wall", fill=Painted(),
              touch_up=Painting(strokes=strokes, groups=groups), **fields)  # fmt: skip
    return replace(shot, fixes=(fix,))


BEFORE = Source(time=FrameOffset(frames=-1))


@pytest.fixture
def engine():
    return Engine(10**9)


def test_dirt_on_one_frame_is_cured_from_the_frame_before_along_the_surface(engine, dirty_shot):
    shot = fixed(dirty_shot, dab(surface_id="wall", x=60, source=BEFORE))  # at home: 6 px to the left
    np.testing.assert_allclose(engine.result(shot, 1003), clean(1003), atol=EXACT)
    for frame in (1002, 1004):
        np.testing.assert_array_equal(engine.result(shot, frame), engine.plate(shot.footage, frame))


@pytest.mark.parametrize(
    ("source", "frame", "by"),
    [
        (BEFORE, 1002, BY),
        (Source(time=FrameOffset(frames=2)), 1005, -2 * BY),
        (Source(time=PinnedFrame(frame=1006)), 1006, -3 * BY),
        (Source(time=FrameOffset(frames=-1), runs_along=False), 1002, 0),
        (Source(time=PinnedFrame(frame=1001), dx=5, dy=-7), 1001, 2 * BY),
    ],
)
def test_pixels_come_from_the_frame_and_the_place_that_is_said(engine, dirty_shot, source, frame, by):
    """A stroke that rides on nothing is brought into register by its fix's surface, or, raw, not at all."""
    shot = fixed(dirty_shot, dab(source=source))
    out, other = engine.result(shot, 1003), engine.plate(shot.footage, frame)
    x, y = 66 - by + int(source.dx), 46 + int(source.dy)
    np.testing.assert_allclose(out[46, 66], other[y, x], atol=EXACT)


def test_a_stroke_rides_and_is_as_large_as_what_it_rides_on(engine, dirty_shot):
    shot = fixed(dirty_shot, dab(x=80, frames=(), surface_id="wall", source=Source(dy=-20)))
    for frame in PAGES:
        changed = (engine.result(shot, frame) != engine.plate(shot.footage, frame)).any(axis=2)
        columns = np.nonzero(changed.any(axis=0))[0]
        assert (columns.min() + columns.max()) / 2 + 0.5 == pytest.approx(80 + BY * (frame - 1001), abs=0.6)


def test_where_the_surface_or_the_source_is_not_nothing_is_laid(engine, dirty_shot):
    late = Source(time=FrameOffset(frames=3))
    shot = fixed(dirty_shot, dab(frames=(), source=late))
    for frame, is_laid in ((1003, True), (1004, False)):
        out = engine.result(shot, frame)
        assert (out != engine.plate(shot.footage, frame)).any() == is_laid
    beyond = fixed(dirty_shot, dab(x=8, source=Source(dx=-14)))
    out = engine.result(beyond, 1003)
    assert (out[46, 15] != engine.plate(shot.footage, 1003)[46, 15]).any()
    np.testing.assert_array_equal(out[46, :13], engine.plate(shot.footage, 1003)[46, :13])


def test_hold_outs_groups_opacity_and_switches(engine, dirty_shot):
    plate = engine.plate(dirty_shot.footage, 1003)
    away = plate[46 - 30, 66]
    stroke = dab(source=Source(dy=-30), group_id="g")

    def seen(**fields):
        groups = fields.pop("groups", (Group(id="g", name="Specks"),))
        return engine.result(fixed(dirty_shot, stroke, groups=groups, **fields), 1003)[46, 66]

    np.testing.assert_allclose(seen(), away, atol=EXACT)
    np.testing.assert_allclose(seen(opacity=0.25), plate[46, 66] + 0.25 * (away - plate[46, 66]), atol=EXACT)
    np.testing.assert_array_equal(seen(hold_outs=Matte.of(shape_of(rectangle(50, 30, 90, 70)))), plate[46, 66])
    half = Group(id="g", name="Specks", opacity=0.5)
    np.testing.assert_allclose(seen(groups=(half,)), (plate[46, 66] + away) / 2, atol=EXACT)
    for off in (replace(half, is_on=False), replace(half, frames=(Frames(first=1004),))):
        np.testing.assert_array_equal(seen(groups=(off,)), plate[46, 66])


def test_nothing_is_taken_of_what_is_held_out_nor_of_the_thing_on_other_frames(engine, dirty_shot):
    beside = Source(dx=30)
    front = Matte.of(shape_of(rectangle(90, 36, 100, 56), 1003, "front"), surface_id="")

    def laid(source, **mattes):
        shot = fixed(dirty_shot, dab(source=source), **mattes)
        return (engine.result(shot, 1003) != engine.plate(shot.footage, 1003)).any(axis=2)

    free, barred = laid(beside), laid(beside, hold_outs=front)
    assert free[46, 57]
    assert free[46, 66]
    assert barred[46, 57]
    assert barred[46, 72]
    assert not barred[38:54, 61:69].any()  # these would come from what is in front
    thing = Matte.of(shape_of(rectangle(58, 38, 74, 54), 1003, "thing"), surface_id="")
    before = replace(BEFORE, runs_along=False)
    assert laid(before)[46, 66]
    assert not laid(before, cover=thing)[40:52, 60:72].any()


def test_over_a_fill_restore_brings_the_very_plate_and_erase_takes_paint_away(engine, dirty_shot):
    grey = CleanPlate(id="p", name="P", surface_id="wall", home_frame=1001)
    cover = Matte.of(shape_of(rectangle(40, 30, 90, 70)), surface_id="wall")
    fix = Fix(id="f", name="F", surface_id="wall", cover=cover)
    fix = edits.change_fix(
        Project.of(replace(dirty_shot, clean_plates=(grey,), fixes=(fix,))), "shot", "f", fill=replace(
            fix.fill, plate_ids=("p",))).shots[0].fixes[0]  # fmt: skip
    filled = replace(dirty_shot, clean_plates=(grey,), fixes=(fix,))
    plain = engine.result(filled, 1003)
    plate = engine.plate(filled.footage, 1003)
    assert (plain[46, 66] != plate[46, 66]).any()

    def with_strokes(*strokes):
        return engine.result(replace(filled, fixes=(replace(fix, touch_up=Painting(strokes=strokes)),)), 1003)

    back = with_strokes(dab(tool=Tool.RESTORE))
    np.testing.assert_array_equal(back[40:52, 60:72], plate[40:52, 60:72])
    paint = dab(tool=Tool.COLOUR, name="c")
    np.testing.assert_allclose(with_strokes(paint)[46, 66], 0.18, atol=EXACT)
    gone = with_strokes(paint, dab(tool=Tool.ERASE, name="e", size=40))
    np.testing.assert_allclose(gone, plain, atol=EXACT)


@pytest.mark.parametrize("opacity", [1.0, 0.6])
@pytest.mark.parametrize("is_held_out", [False, True])
def test_pixels_and_alpha_of_a_painted_fix_give_the_result_and_so_do_values(engine, dirty_shot, opacity, is_held_out):
    """What files with alpha hold, what the viewer shows and what is read under the pen are one picture."""
    front = Matte.of(shape_of(rectangle(64, 30, 90, 50)), softness=Softness(outwards_px=3.0))
    fields = {"hold_outs": front} if is_held_out else {}
    behind = Fix(id="b", name="B", fill=Painted(), touch_up=Painting(strokes=(dab(name="b", x=80, tool=Tool.COLOUR),)))
    shot = fixed(dirty_shot, dab(source=BEFORE), dab(x=100, tool=Tool.LIGHTEN, name="l"), opacity=opacity, **fields)
    shot = replace(shot, fixes=(behind, *shot.fixes))
    assert engine.value_if_there(shot, 1003, 66.5, 46.5, of_plate=False) is None
    result = engine.result(shot, 1003)
    wanted = engine.plate(shot.footage, 1003).copy()
    for patch in engine.all_patches(shot, 1003):
        region = wanted[patch.window.slices]
        region += (patch.pixels - region) * patch.alpha[..., None]
    np.testing.assert_allclose(result, wanted, atol=EXACT)
    assert (result != engine.plate(shot.footage, 1003)).any(axis=2).sum() > 500
    for x, y in ((66, 46), (60, 40), (70, 44), (80, 46), (100, 46), (5, 5)):
        np.testing.assert_array_equal(engine.value_if_there(shot, 1003, x + 0.5, y + 0.5, of_plate=False), result[y, x])
    np.testing.assert_array_equal(engine.result(shot, 1003, Window(55, 35, 105, 61)), result[35:61, 55:105])


def test_what_lies_below_on_another_frame_is_with_its_repairs(engine, dirty_shot):
    speck = Fix(id="below", name="Below", surface_id="wall", fill=Painted(), touch_up=Painting(
        strokes=(dab(name="b", tool=Tool.COLOUR, frames=((1002, 1002),)),)))  # fmt: skip
    for picture, wanted in ((None, 0.18), (PlatePicture(), None)):
        source = replace(BEFORE, runs_along=False, **({} if picture is None else {"picture": picture}))
        above = fixed(dirty_shot, dab(source=source)).fixes[0]
        out = engine.result(replace(dirty_shot, fixes=(speck, above)), 1003)[46, 66]
        value = engine.plate(dirty_shot.footage, 1002)[46, 66] if wanted is None else wanted
        np.testing.assert_allclose(out, value, atol=EXACT)


def test_a_clean_plate_is_a_source(engine, dirty_shot):
    plate = CleanPlate(id="p", name="P", surface_id="wall", home_frame=1005)
    shot = replace(
        fixed(dirty_shot, dab(source=Source(picture=CleanPlatePicture(plate_id="p")))), clean_plates=(plate,)
    )
    np.testing.assert_allclose(engine.result(shot, 1003)[DIRT.slices], clean(1003)[DIRT.slices], atol=EXACT)


@pytest.mark.parametrize("frame", [1002, 1003])
def test_what_another_fix_lays_is_a_source_if_it_lies_behind(engine, dirty_shot, frame):
    grey = Fix(id="grey", name="Grey", surface_id="wall", fill=Painted(), touch_up=Painting(
        strokes=(dab(name="g", tool=Tool.COLOUR, frames=((frame, frame),)),)))  # fmt: skip
    near = Fix(id="near", name="Near", surface_id="wall", fill=Painted(), touch_up=Painting(
        strokes=(dab(name="n", tool=Tool.RESTORE, frames=((frame, frame),)),)))  # fmt: skip
    source = Source(picture=FixPicture(fix_id="grey"), time=PinnedFrame(frame=frame), runs_along=False)
    above = fixed(dirty_shot, dab(source=source)).fixes[0]
    np.testing.assert_allclose(
        engine.result(replace(dirty_shot, fixes=(grey, near, above)), 1003)[46, 66], 0.18, atol=EXACT
    )
    np.testing.assert_array_equal(
        engine.result(replace(dirty_shot, fixes=(above, replace(grey, is_on=False))), 1003),
        engine.plate(dirty_shot.footage, 1003),
    )


def test_clean_plates_are_painted_from_other_frames_too(engine, dirty_shot):
    stroke = dab(frames=(), source=Source(time=PinnedFrame(frame=1005)))
    plate = CleanPlate(id="p", name="P", surface_id="wall", home_frame=1003, painting=Painting(strokes=(stroke,)))
    shot = replace(dirty_shot, clean_plates=(plate,))
    np.testing.assert_allclose(engine.painted(shot, plate), clean(1003), atol=EXACT)


PATH = np.column_stack([np.linspace(58, 76, 9), np.linspace(42, 50, 9), np.linspace(0.3, 1, 9)])


@pytest.mark.parametrize("tool", Tool)
@pytest.mark.parametrize(("zoom", "turn_deg"), [(1.0, 0.0), (0.5, 0.0), (1.0, 37.0)])
def test_what_is_seen_while_painting_is_what_is_rendered(engine, dirty_shot, tool, zoom, turn_deg):
    brush = Brush(tool=tool, size_px=14, softness=0.6, opacity=0.9)
    stroke = replace(dab(tool=tool, surface_id="wall", brush=brush, source=replace(BEFORE, dx=2.5)), points=Array(PATH))
    under = dab(name="under", source=Source(dy=-25))
    before, after = fixed(dirty_shot, under), fixed(dirty_shot, under, stroke)

    def request_of(shot):
        view = (
            composed(shift(-75, -50), scaling(zoom), turning(np.deg2rad(turn_deg)), shift(75, 50))
            if turn_deg
            else scaling(zoom)
        )
        return ViewRequest(shot, 1003, Look.RESULT, view, (WIDTH, HEIGHT))

    live = LiveStroke(engine, request_of(before), "dust", stroke)
    screen = view_pixels(engine, request_of(before)).copy()
    for points in np.split(stroke.points.values, (1, 2, 5)):
        shown = live.add(points)
        if shown is not None:
            screen[shown.window.slices] = shown.pixels
    final = view_pixels(Engine(10**9), request_of(after))
    assert (final != view_pixels(engine, request_of(before))).any()
    assert np.abs(screen.astype(int) - final).max() <= 1
    live.finish(after)
    kept = view_pixels(engine, request_of(after))
    assert np.abs(kept.astype(int) - final).max() <= 1


@pytest.mark.parametrize("on_plate", [False, True])
def test_paint_behind_a_painted_fix_is_seen_while_it_is_laid(engine, dirty_shot, on_plate):
    """Also right beside the strokes of the fix in front, in the same tiles."""
    front = Fix(id="front", name="Front", fill=Painted(),
                touch_up=Painting(strokes=(dab(name="f", x=104, tool=Tool.LIGHTEN, size=16),)))  # fmt: skip
    stroke = replace(dab(tool=Tool.COLOUR, frames=((None, None),), size=20), points=Array(PATH))
    if on_plate:
        plates = CleanPlate(id="p", name="P", surface_id="wall", home_frame=1001)
        cover = Matte.of(shape_of(rectangle(40, 25, 110, 75)), surface_id="wall")
        behind = Fix(id="dust", name="Dust", surface_id="wall", cover=cover, fill=Plates(plate_ids=("p",)))
        shot = replace(dirty_shot, clean_plates=(plates,), fixes=(behind, front))
        holder = "p"
    else:
        shot = replace(fixed(dirty_shot, dab(name="under", source=Source(dy=-25))), fixes=())
        shot = replace(shot, fixes=(*fixed(dirty_shot, dab(name="under", source=Source(dy=-25))).fixes, front))
        holder = "dust"
    after = edits.add_stroke(Project.of(shot), "shot", holder, stroke).shots[0]

    def request_of(one):
        return ViewRequest(one, 1003, Look.RESULT, scaling(1.0), (WIDTH, HEIGHT))

    screen = view_pixels(engine, request_of(shot)).copy()
    live = LiveStroke(engine, request_of(shot), holder, stroke)
    for points in np.split(stroke.points.values, (1, 2, 5)):
        shown = live.add(points)
        if shown is not None:
            screen[shown.window.slices] = shown.pixels
    final = view_pixels(Engine(10**9), request_of(after))
    assert (final != view_pixels(engine, request_of(shot))).any(axis=2).sum() > 300
    assert np.abs(screen.astype(int) - final).max() <= 1


@pytest.mark.parametrize("tool", Tool)
def test_the_values_that_the_hand_laid_are_those_that_a_fresh_engine_renders(engine, dirty_shot, tool):
    brush = Brush(tool=tool, size_px=14, softness=0.6, opacity=0.9)
    stroke = replace(dab(tool=tool, surface_id="wall", brush=brush, source=replace(BEFORE, dx=2.5)), points=Array(PATH))
    under = dab(name="under", source=Source(dy=-25))
    before, after = fixed(dirty_shot, under), fixed(dirty_shot, under, stroke)
    live = LiveStroke(engine, ViewRequest(before, 1003, Look.RESULT, scaling(1.0), (WIDTH, HEIGHT)), "dust", stroke)
    for points in np.split(stroke.points.values, (1, 2, 5)):
        live.add(points)
    live.finish(after)
    rendered = Engine(10**9).result(after, 1003)
    np.testing.assert_allclose(engine.result(after, 1003), rendered, rtol=1e-3, atol=1e-6)  # the product's promise


def test_paint_alone_shows_what_strokes_cover(engine, dirty_shot):
    shot = fixed(dirty_shot, dab(tool=Tool.COLOUR))
    request = ViewRequest(shot, 1003, Look.MATTE, scaling(1.0), (WIDTH, HEIGHT))
    assert view_pixels(engine, request)[46, 66, 0] == 255
    alone = view_pixels(engine, dataclasses.replace(request, look=Look.PAINT_ALONE))
    assert alone[10, 10].tolist() == alone[90, 140].tolist()


def test_outside_of_strokes_files_keep_their_very_bits(engine, dirty_shot, tmp_path):
    shot = fixed(dirty_shot, dab(surface_id="wall", x=60, source=BEFORE))
    render(engine, shot, PAGES, RenderTarget(tmp_path, format="exr-half", name="out"))
    names = sorted(path.name for path in tmp_path.iterdir())
    assert len(names) == 6
    out = read_picture(tmp_path / "out.1003.exr", "Linear Rec.709 (sRGB)")
    np.testing.assert_allclose(out, clean(1003), atol=2e-3)
    off = np.ones((HEIGHT, WIDTH), bool)
    off[30:62, 50:82] = False
    np.testing.assert_array_equal(out[off], engine.plate(shot.footage, 1003)[off])


@pytest.mark.parametrize(("zoom", "turn_deg"), [(0.7, 0), (1.3, 0), (3.3, 0), (3.7, 0), (4.2, 0), (1.3, 45), (4.2, 75)])
def test_a_part_of_the_viewport_is_that_part_of_it_at_any_zoom(engine, dirty_shot, zoom, turn_deg):
    """What a stroke renews is shown beside what was there: no pixel at its rim may fall to another square."""
    view = composed(scaling(zoom), shift(40.3, 7.7))
    view = (
        composed(shift(-75, -50), scaling(zoom), turning(np.deg2rad(turn_deg)), shift(300, 200)) if turn_deg else view
    )
    request = ViewRequest(dirty_shot, 1001, Look.PLATE, view, (600, 400))
    whole = shown_pixels(engine, request, Window.of(600, 400)).astype(int)
    for part in (Window(313, 123, 420, 326), Window(101, 99, 333, 222)):
        assert np.abs(shown_pixels(engine, request, part) - whole[part.slices]).max() <= 1


def test_what_hides_a_stroke_or_leaves_it_out_is_told(engine, dirty_shot):
    trimmed = edits.trim_track(Project.of(dirty_shot), "shot", "wall", FrameRange(first=1001, last=1005)).shots[0]
    front = shape_of(rectangle(60, 40, 90, 60), 1001, "front")
    fix = Fix(id="dust", name="Dust", surface_id="wall", fill=Painted(), hold_outs=Matte.of(front, surface_id=""))
    shot = replace(trimmed, fixes=(fix,))
    riding = dab(x=66, frames=((1001, 1006),), source=BEFORE, surface_id="wall")
    words = told_of_stroke(engine, shot, fix, riding)
    assert "not laid on 1006: Wall is not followed there" in words
    assert "not laid on 1001: there is no frame -1 from there" in words
    assert "behind what is held out on 5 frames from 1001 to 1005" in words
    free = dab(x=30, frames=((1002, 1004),), source=BEFORE, surface_id="wall")
    assert told_of_stroke(engine, shot, fix, free) == ""


def test_written_mattes_hold_what_strokes_cover(engine, dirty_shot, tmp_path):
    shot = fixed(dirty_shot, dab(tool=Tool.COLOUR))
    (path,) = write_mattes(engine, shot, MatteTarget(tmp_path, "dust", "exr-half"), [1003], shot.fixes[0])
    matte = read_picture(path, "Linear Rec.709 (sRGB)")[..., 0]
    assert matte[46, 66] == 1
    assert matte[46, 90] == 0
    assert matte.sum() == pytest.approx(np.pi * 12**2, rel=0.05)
