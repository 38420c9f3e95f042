"""What a frame's pixels depend on: everything that they do, and nothing else."""

import enum

import msgspec
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Footage,
    FrameRange,
    Frames,
    GrainMatch,
    Matte,
    Pin,
    Project,
    ShapeKey,
    Shot,
    Stroke,
    Surface,
    Track,
    edits,
    placement,
)
from gommage.core.document.placements import Placement
from gommage.core.document.records import Record
from gommage.core.engine import Engine, inputs_at
from gommage.core.geometry import FieldMapping
from gommage.core.picture.writing import write_still
from gommage.errors import GommageError
from tests.conftest import placed_as, plane, rectangle, shape_of, texture
from tests.engine.test_engine import clone, with_fix

FRAME = 1003
PAGES = FrameRange(first=1001, last=1006)


@pytest.fixture(scope="module")
def grainy_shot(tmp_path_factory) -> Shot:
    """A camera that pans by a pixel a frame over a grainy texture, with a fix whose grain and light are measured."""
    folder = tmp_path_factory.mktemp("grainy")
    base, rng = texture(100, 140, seed=5, fine=1.5), np.random.default_rng(2)
    for frame in PAGES:
        by = frame - PAGES.first
        picture = base[10 : 10 + 80, 10 - by : 10 - by + 110] + 0.02 * rng.standard_normal((80, 110, 3))
        write_still(folder / f"pan.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "pan.####.exr"), frames=PAGES, width=110, height=80,
                      colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    matrices = np.repeat(np.eye(3)[None], len(PAGES), axis=0)
    matrices[:, 0, 2] = np.arange(len(PAGES))
    track = Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.zeros((len(PAGES), 4))),
                  certainty=Array(np.ones(len(PAGES))), reasons=("",) * len(PAGES))  # fmt: skip
    pin = Pin(frame=1005, home=Array(rectangle(8, 8, 100, 72)), placed=Array(rectangle(12, 8, 104, 72)))
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=plane(rectangle(8, 8, 100, 72)), track=track,
                      pins=(pin,))  # fmt: skip
    bare = Shot(id="shot", name="Pan", footage=footage, surfaces=(surface,))
    shot = with_fix(bare, clone(points=((65, 45, 1), (70, 50, 1)), dx=-30.0, size=14.0), grain=1.0)
    cover = Matte.of(shape_of(rectangle(50, 35, 80, 60), shape_id="cover"), surface_id="wall")
    return replace(shot, fixes=(replace(shot.fixes[0], cover=replace(cover, softness=shot.fixes[0].cover.softness)),))


def others(value):
    """Return values of the same kind that differ."""
    if isinstance(value, bool):
        return [not value]
    if isinstance(value, enum.Enum):
        return [one for one in type(value) if one is not value][:2]
    if isinstance(value, int):
        return [value + 1]
    if isinstance(value, float):
        return [value * 0.7 + 0.15]
    if isinstance(value, Array):
        moved = value.values.copy()
        moved[..., 0] *= 1.02  # much more would be no motion of a plane any more
        return [Array(moved)] if moved.dtype == np.float64 else []
    if isinstance(value, tuple) and value and isinstance(value[0], float):
        return [tuple(one * 0.5 + 0.2 for one in value)]
    if isinstance(value, tuple) and value and isinstance(value[0], enum.Enum):
        return [(others(value[0])[0], *value[1:])]
    if isinstance(value, tuple) and value and isinstance(value[0], Record):
        return [value[:-1]]
    return []


def variants(record, way=()):
    """Return a record with each of its fields changed, one at a time, at any depth, and what was changed."""
    for field in msgspec.structs.fields(record):
        value = getattr(record, field.name)
        here = (*way, field.name)
        found = [(other, here) for other in others(value)]
        if isinstance(value, Record):
            found += variants(value, here)
        if isinstance(value, tuple):
            for number, one in enumerate(value):
                if isinstance(one, Record):
                    found += [
                        ((*value[:number], new, *value[number + 1 :]), deep)
                        for new, deep in variants(one, (*here, number))
                    ]
        for new, deep in found:
            try:
                yield replace(record, **{field.name: new}), deep
            except ValueError:
                continue  # no such record can be


def outcome(engine, shot):
    try:
        return engine.result(shot, FRAME)
    except (GommageError, KeyError) as error:
        return str(error)


def test_whatever_is_changed_the_cache_gives_what_a_fresh_engine_gives(grainy_shot):
    """Every field of every record of a shot, one after the other, on an engine that has seen all the others."""
    warm = Engine(10**9)
    before = warm.result(grainy_shot, FRAME)
    changed = set()
    count = 0
    for shot, way in variants(grainy_shot):
        if way[0] == "footage" and way[1] not in ("colour_space", "missing"):
            continue  # other files
        count += 1
        cached, fresh = outcome(warm, shot), outcome(Engine(10**9), shot)
        assert type(cached) is type(fresh), way
        if isinstance(fresh, str):
            assert cached == fresh
            continue
        np.testing.assert_array_equal(cached, fresh, err_msg=str(way))
        if (fresh != before).any():
            changed.add(".".join(str(one) for one in way if not isinstance(one, int)))
    assert count > 60
    for field in (
        "surfaces.track.home_to_frame", "surfaces.pins.placed", "surfaces.how.areas.parts.source.shape.keys.vertices",
        "clean_plates.painting.strokes.points", "clean_plates.painting.strokes.brush.size_px",
        "clean_plates.painting.strokes.source.dx", "fixes.cover.parts.source.shape.keys.vertices", "fixes.is_on",
        "fixes.cover.softness.outwards_px", "fixes.match.light.is_measured", "fixes.match.grain.amount",
        "fixes.opacity", "fixes.match.is_joined",
    ):  # fmt: skip
        assert field in changed, f"{field} has no effect: {sorted(changed)}"


def inputs_of(shot):
    return {frame: inputs_at(shot, shot.fixes[0], frame) for frame in PAGES}


def differing(shot, other):
    one, two = inputs_of(shot), inputs_of(other)
    return [frame for frame in PAGES if one[frame] != two[frame]]


def test_a_key_changes_the_frames_between_its_neighbours_alone(grainy_shot):
    points = grainy_shot.fixes[0].cover.shapes[0].keys[0].points
    project = Project.of(grainy_shot)
    for frame in (1001, 1003):
        project = edits.set_shape_key(project, "shot", "cover", ShapeKey.of(frame, points + 1))
    later = edits.set_shape_key(project, "shot", "cover", ShapeKey.of(1006, points + 6))
    assert differing(project.shots[0], later.shots[0]) == [1004, 1005, 1006]
    inside = edits.set_shape_key(project, "shot", "cover", ShapeKey.of(1002, points + 3))
    assert differing(project.shots[0], inside.shots[0]) == [1002]


def test_a_pin_changes_no_frame_that_it_does_not_move(grainy_shot):
    """Between home and its neighbour a pin at the other end of the shot moves nothing, in the cache neither.

    The frame before those that it moves is passed faster now, and may be more blurred.
    """
    corners = rectangle(8, 8, 100, 72)
    shot = edits.change_surface(Project.of(grainy_shot), "shot", "wall", pins=()).shots[0]
    project = Project.of(shot)
    for frame in (1002, 1003, 1004):
        pin = Pin(frame=frame, home=Array(corners), placed=Array(corners + (frame - 1000.5, 0)))
        project = edits.set_pin(project, "shot", "wall", pin)
    later = edits.set_pin(
        project, "shot", "wall", Pin(frame=1006, home=Array(corners), placed=Array(corners + (9.0, 0)))
    )
    assert differing(project.shots[0], later.shots[0]) == [1004, 1005, 1006]


def test_what_is_of_one_frame_leaves_the_patches_of_others_in_the_cache(grainy_shot, monkeypatch):
    engine = Engine(10**9)
    for frame in PAGES:
        engine.result(grainy_shot, frame)
    points = grainy_shot.fixes[0].cover.shapes[0].keys[0].points
    project = edits.set_shape_key(Project.of(grainy_shot), "shot", "cover", ShapeKey.of(1005, points))
    keyed = edits.set_shape_key(project, "shot", "cover", ShapeKey.of(1006, points + 2))
    made = []
    monkeypatch.setattr(engine.patches, "pixels", lambda inputs, *a, **k: made.append(inputs.frame) or _stop())
    for frame in range(1001, 1006):
        engine.result(keyed.shots[0], frame)
    assert made == []
    with pytest.raises(GommageError):
        engine.result(keyed.shots[0], 1006)


def _stop():
    raise GommageError("computed")


def test_moving_an_area_measures_the_grain_anew(grainy_shot):
    engine = Engine(10**9)
    engine.result(grainy_shot, FRAME)
    moved = edits.set_shape_key(
        Project.of(grainy_shot), "shot", "area", ShapeKey.of(1001, rectangle(30, 20, 70, 60))
    ).shots[0]
    grain = engine.grain(moved, moved.surfaces[0])
    assert grain == Engine(10**9).grain(moved, moved.surfaces[0])
    assert grain != engine.grain(grainy_shot, grainy_shot.surfaces[0])
    np.testing.assert_array_equal(engine.result(moved, FRAME), Engine(10**9).result(moved, FRAME))


def test_frames_of_the_fix_and_its_opacity_are_inputs(grainy_shot):
    fix = grainy_shot.fixes[0]
    short = replace(grainy_shot, fixes=(replace(fix, frames=(Frames(first=1004),)),))
    assert inputs_at(short, short.fixes[0], 1003) is None
    assert inputs_at(short, short.fixes[0], 1004) == inputs_at(grainy_shot, fix, 1004)
    off = replace(fix, match=replace(fix.match, grain=GrainMatch(amount=0.0, is_laid=False)))
    assert inputs_at(replace(grainy_shot, fixes=(off,)), off, 1003).grain is None


def as_field(mapping):
    """Return a mapping that does what a matrix does without having one."""
    return FieldMapping(("as field", mapping.key), mapping, mapping.inverse())


def with_fields(monkeypatch):
    """Let every surface of every shot be placed by fields."""
    by_matrix = Placement.home_to_frame
    monkeypatch.setattr(Placement, "home_to_frame", lambda placed, frame: as_field(by_matrix(placed, frame)))


def test_a_field_that_equals_the_matrix_gives_the_same_picture(grainy_shot, monkeypatch):
    by_matrix = {frame: Engine(10**9).result(grainy_shot, frame) for frame in (1001, 1003, 1005)}
    renamed = replace(grainy_shot, footage=replace(grainy_shot.footage, rate=(25, 1)))  # placements are made anew
    with_fields(monkeypatch)
    for frame, wanted in by_matrix.items():
        assert inputs_at(renamed, renamed.fixes[0], frame).fill.plates[0].frame_from_plate.matrix is None
        np.testing.assert_allclose(Engine(10**9).result(renamed, frame), wanted, atol=1e-3)


def test_the_whole_demo_job_through_a_field_is_the_same_picture(engine, cleaned_project, demo, monkeypatch):
    shot = cleaned_project.shots[0]
    wanted = {frame: engine.result(shot, frame) for frame in demo.numbers[::14]}
    with_fields(monkeypatch)
    monkeypatch.setattr("gommage.core.engine.inputs.placement", lambda shot, surface: _anew(surface))
    for frame, picture in wanted.items():
        found = Engine(10**9).result(replace(shot, name="By field"), frame)
        np.testing.assert_allclose(found, picture, atol=1e-3)


def _anew(surface: Surface) -> Placement:
    assert surface.track is not None
    return placed_as(replace(surface, name=surface.name + " by field"), surface.track)


def test_placements_are_shared(grainy_shot):
    surface = grainy_shot.surfaces[0]
    assert placement(grainy_shot, surface) is placement(replace(grainy_shot, name="Other"), surface)
    assert isinstance(grainy_shot.clean_plates[0].painting.strokes[0], Stroke)
