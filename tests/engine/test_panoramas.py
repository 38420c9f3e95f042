"""Panoramas with flat views: what is done in these is in the panorama, and nothing else of it is touched."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Borrow,
    Brush,
    Fix,
    Footage,
    FrameRange,
    Matte,
    Painted,
    Place,
    Project,
    Rim,
    Shot,
    Softness,
    Stroke,
    edits,
    store,
)
from gommage.core.engine import (
    Look,
    RenderTarget,
    ViewRequest,
    follow_sphere,
    levelled_by,
    look_view,
    panorama_view,
    render,
    view_key,
    view_pixels,
)
from gommage.core.engine.inputs import FixInputs, WrittenBack, frame_inputs, inputs_at
from gommage.core.geometry import axis_turn, directions_of
from gommage.core.picture.footage import open_plates
from gommage.core.picture.stills import read_still
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WHOLE = (512, 256)
FRAMES = FrameRange(first=1001, last=1006)
SAID = {"textureformat": "LatLong Environment", "GPano:ProjectionType": "equirectangular"}
RIM = Rim()


def noise(rays, seed=3, count=140):
    """Return a rich, smooth picture of directions: sums of waves in space."""
    rng = np.random.default_rng(seed)
    ways, phases = 14 * rng.standard_normal((count, 3)), rng.uniform(0, 6.3, count)
    waves = np.cos(rays @ ways.T + phases)
    mixed = waves @ rng.standard_normal((count, 3)) / np.sqrt(count)
    return (0.4 + 0.16 * mixed).clip(0.02, 1.2).astype(np.float32)


def turn_of(frame):
    by = frame - FRAMES.first
    return axis_turn(np.array([0.004 * by, -0.03 * by, 0.006 * by]))


@pytest.fixture(scope="module")
def footage(tmp_path_factory) -> Footage:
    """A panoramic camera that is turned by hand over six frames."""
    folder = tmp_path_factory.mktemp("round")
    y, x = np.mgrid[0:256, 0:512] + 0.5
    rays = directions_of(np.stack([x, y], axis=-1), WHOLE)
    for frame in FRAMES:
        picture = noise(rays @ turn_of(frame))
        write_still(folder / f"round.{frame}.exr", picture.astype(np.float16), bits=16, attributes=SAID)
    return Footage(path=str(folder / "round.####.exr"), frames=FRAMES, width=512, height=256, is_panorama=True)


@pytest.fixture(scope="module")
def whole(footage) -> Shot:
    return Shot(id="round", name="Round", footage=footage)


def with_view(whole, x=256.0, y=256.0, fov=90.0, **fields):
    view = panorama_view(whole, x, y, fov, "Down", **fields)
    return edits.add_view(Project.of(whole), whole.id, view), view


def patched(project, view, fill=RIM, share=0.4, softness=3.0):
    """Return the project with the middle of a flat view covered."""
    side, reach = view.footage.width, share * view.footage.width / 2
    square = rectangle(side / 2 - reach, side / 2 - reach, side / 2 + reach, side / 2 + reach)
    cover = Matte.of(shape_of(square, 1003, "cover"), softness=Softness(outwards_px=softness))
    return edits.add_fix(project, view.id, Fix(id="tripod", name="Tripod", cover=cover, fill=fill))


def test_a_view_is_finer_than_the_panorama_and_looks_where_it_was_asked_to(engine, whole):
    _, view = with_view(whole)
    assert view.footage.turned.focal_px == pytest.approx(1.75 * 512 / (2 * np.pi), rel=0.05)
    seen = engine.plate(view.footage, 1003)
    side = view.footage.width
    assert seen.shape == (side, side, 3)
    down = noise(np.array([[0.0, 1.0, 0.0]]) @ turn_of(1003))[0]
    middle = seen[side // 2 - 1 : side // 2 + 1, side // 2 - 1 : side // 2 + 1].mean(axis=(0, 1))
    assert np.abs(middle - down).max() < 0.01


@pytest.mark.parametrize(("x", "y"), [(256, 256), (2, 128), (256, 0)])
def test_what_is_done_in_a_view_is_in_the_panorama_and_nothing_else_is_touched(engine, whole, x, y):
    project, view = with_view(whole, x, y)
    shot = patched(project, view).shots[0]
    result, plate = engine.result(shot, 1003), engine.plate(shot.footage, 1003)
    alpha = engine.laid_matte(shot, 1003)
    changed = (result != plate).any(axis=2)
    assert 0.004 < (alpha > 0.5).mean() < 0.4
    assert changed[alpha > 0.5].mean() > 0.95
    assert np.array_equal(result[alpha == 0], plate[alpha == 0]), "bit for bit"
    flat = engine.result(shot.views[0], 1003)
    again = engine.plate(replace(view.footage), 1003)
    assert np.abs(flat - again).max() > 0.05
    half = engine.result(shot, 1003, scale=0.5)
    assert half.shape == (128, 256, 3)
    assert np.abs(half - result.reshape(128, 2, 256, 2, 3).mean(axis=(1, 3))).mean() < 0.01, "a rim is closed anew"


def test_a_clone_comes_back_as_sharp_as_two_resamplings_leave_it(engine, whole):
    """Borrowed from where it lies: what the way into the flat view and back costs, under alpha alone."""
    project, view = with_view(whole, 256.0, 128.0)
    shot = patched(project, view, Borrow(places=(Place(),), is_lit=False)).shots[0]
    result, plate = engine.result(shot, 1003), engine.plate(shot.footage, 1003)
    inside = engine.laid_matte(shot, 1003) > 0.99
    assert -10 * np.log10(((result - plate)[inside] ** 2).mean()) > 43


def test_strokes_in_a_view_are_written_back(engine, whole):
    project, view = with_view(whole)
    side = view.footage.width
    project = edits.add_fix(project, view.id, Fix(id="paint", name="Paint", fill=Painted()))
    points = np.column_stack([np.linspace(side * 0.4, side * 0.6, 9), np.full(9, side / 2), np.ones(9)])
    stroke = Stroke(id="s", points=points, brush=Brush(tool="colour", size_px=30.0, colour=(2.0, 0.0, 0.0)))
    before = engine.plate(whole.footage, 1003)
    after = edits.add_stroke(project, view.id, "paint", stroke)
    result = engine.result(after.shots[0], 1003)
    changed = (result != before).any(axis=2)
    assert 0 < changed.mean() < 0.2
    assert changed[-3:].mean() > 0.5, "the pole, all round"
    assert result[-1, :, 0].max() > 1.0


def test_the_screen_shows_what_was_written_back(engine, whole):
    project, view = with_view(whole)
    looked = look_view(whole, 256.0, 256.0, 100.0, (200, 160))
    bare = ViewRequest(whole, 1003, Look.RESULT, looked, (200, 160))
    done = replace_shot(bare, patched(project, view).shots[0])
    assert view_key(bare) != view_key(done)
    one, other = view_pixels(engine, bare), view_pixels(engine, done)
    assert one.shape == (160, 200, 4)
    assert np.abs(one[70:90, 90:110].astype(int) - other[70:90, 90:110]).max() > 8
    assert np.array_equal(one[:10, :10], other[:10, :10])


def replace_shot(request, shot):
    return ViewRequest(shot, request.frame, request.look, request.view_from_frame, request.size_wh)


def test_a_panorama_is_rendered_whole_with_what_its_files_said(engine, whole, tmp_path):
    project, view = with_view(whole)
    shot = patched(project, view).shots[0]
    out = tmp_path / "out"
    out.mkdir()
    report = render(engine, shot, [1003], RenderTarget(out))
    assert not report.left_out
    written, source = read_still(report.written[0]), open_plates(whole.footage).read(1003)
    alpha = engine.laid_matte(shot, 1003)
    assert written.pixels.dtype == np.float16
    assert np.array_equal(written.pixels[alpha == 0], source.pixels[alpha == 0])
    assert not np.array_equal(written.pixels, source.pixels)
    assert str(written.attributes["textureformat"]).lower().startswith("latlong")
    assert written.attributes["GPano:ProjectionType"] == "equirectangular"


def test_views_are_saved_and_opened_with_their_panorama(whole, tmp_path):
    project, view = with_view(whole)
    project = patched(project, view)
    store.save(project, tmp_path / "round.gommage")
    assert store.load(tmp_path / "round.gommage") == project


def test_the_turn_is_followed_and_views_ride_on_it(engine, whole):
    sphere = follow_sphere(engine, whole, 1001)
    for frame in FRAMES:
        off = sphere.turn(frame) @ turn_of(frame).T
        angle = np.arccos(np.clip((np.trace(off) - 1) / 2, -1, 1))
        assert angle * 512 / (2 * np.pi) < 0.05, "px of the panorama"
    riding = edits.set_sphere(Project.of(whole), "round", sphere).shots[0]
    view = panorama_view(riding, 300.0, 120.0, 60.0, "Held")
    first, last = (engine.plate(view.footage, frame) for frame in (1001, 1006))
    loose = panorama_view(riding, 300.0, 120.0, 60.0, "Loose", rides=False)
    assert np.abs(first - last).mean() < 0.006, "held still, the picture looks frozen"
    assert np.abs(engine.plate(loose.footage, 1001) - engine.plate(loose.footage, 1006)).mean() > 0.05


def test_a_sphere_is_levelled_by_hand(whole):
    sphere = levelled_by(None, 3.0, 0.0)
    level = replace(whole, sphere=sphere)
    down = look_view(level, 256.0, 256.0, 100.0, (200, 200)).inverse()(np.array([100.0, 100.0]))
    ray = directions_of(down, WHOLE)
    assert np.rad2deg(np.arccos(ray[1])) == pytest.approx(3.0, abs=1e-6), (
        "down is three degrees from the panorama's own"
    )


def test_fixes_of_the_panorama_itself_lie_below_its_views(engine, whole):
    project, view = with_view(whole)
    covers = [Matte.of(shape_of(rectangle(left, 60, left + 20, 90), FRAMES.first, name), softness=Softness())
              for left, name in ((20, "a"), (40, "b"))]  # fmt: skip
    fixes = tuple(Fix(id=f"own-{k}", name="Own", cover=cover, fill=RIM) for k, cover in enumerate(covers))
    for fix in fixes:
        project = edits.add_fix(project, whole.id, fix)
    bare, done = project.shots[0], patched(project, view).shots[0]
    inputs = [inputs_at(shot, fixes[1], FRAMES.first) for shot in (bare, done)]
    assert inputs[0] == inputs[1], "what is done in a view reaches no fix of the panorama"
    assert [type(one) for one in frame_inputs(done, FRAMES.first)] == [FixInputs, FixInputs, WrittenBack]
