"""Shapes edited: keys over time, vertices on the line, surfaces that carry them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Drawn,
    Ease,
    Frames,
    Matte,
    MattePart,
    Shape,
    ShapeKey,
    VertexKind,
    edits,
    placement,
)
from gommage.core.document.edits import Reach, Slot
from gommage.core.document.outlines import on_line, outline, sampled
from gommage.errors import EditError
from tests.conftest import rectangle

SHOT = "shot"
FRAMES = (1001, 1004, 1006)


def moving(frames=FRAMES, ease=Ease.SMOOTH, kind=VertexKind.SMOOTH):
    keys = tuple(ShapeKey.of(frame, rectangle(40, 40, 60, 60) + (4 * n * n, n)) for n, frame in enumerate(frames))
    return Shape(id="m", keys=keys, kinds=(kind,) * 4, ease=ease)


@pytest.fixture
def project(small_project):
    shot = small_project.shots[0]
    track = shot.surface("wall").track
    nearer = [
        np.array([[1 + 0.03 * n, 0.01 * n, 2 * n], [0, 1 + 0.02 * n, n], [1e-4 * n, 5e-5 * n, 1]]) for n in range(6)
    ]
    surface = replace(shot.surface("wall"), track=replace(track, home_to_frame=Array(nearer)))
    small_project = replace(small_project, shots=(replace(shot, surfaces=(surface,)),))
    part = MattePart(id="m", source=Drawn(shape=moving(), surface_id="wall"))
    return edits.add_part(small_project, SHOT, "f1", Slot.COVER, part)


def shape_in(project, part_id="m"):
    return next(one.source.shape for one in project.shots[0].fix("f1").cover.parts if one.id == part_id)


def part_in(project, part_id="m"):
    return next(one for one in project.shots[0].fix("f1").cover.parts if one.id == part_id)


# -- time ---------------------------------------------------------------------------------------------------


@given(
    values=st.lists(st.floats(-50, 50), min_size=2, max_size=7),
    gaps=st.lists(st.integers(1, 9), min_size=7, max_size=7),
    at=st.floats(0, 1),
)
def test_smooth_ways_never_swing_beyond_their_keys(values, gaps, at):
    frames = np.cumsum(gaps)[: len(values)].tolist()
    keys = tuple(ShapeKey.of(f, rectangle(v, 0, v + 9, 9)) for f, v in zip(frames, values, strict=True))
    shape = Shape(id="s", keys=keys, kinds=(VertexKind.CORNER,) * 4, ease=Ease.SMOOTH)
    frame = frames[0] + at * (frames[-1] - frames[0])
    after = min(np.searchsorted(frames, frame, side="left"), len(frames) - 1)
    low, high = sorted(values[max(after - 1, 0) : after + 1] if after else values[:1] * 2)
    assert low - 1e-9 <= shape.points_at(frame)[0, 0] <= high + 1e-9


def test_a_smooth_way_passes_its_keys_without_a_kink():
    frames = np.arange(0, 40, 8)
    keys = tuple(ShapeKey.of(int(f), rectangle(0, 0, 9, 9) + (f * f / 20, 0)) for f in frames)
    shape = Shape(id="s", keys=keys, kinds=(VertexKind.CORNER,) * 4, ease=Ease.SMOOTH)
    at = np.arange(4, 28, 0.01)
    x = np.array([shape.points_at(one)[0, 0] for one in at])
    assert np.abs(np.diff(np.diff(x) / 0.01)).max() < 0.05
    np.testing.assert_allclose(x, at * at / 20, atol=0.3)  # near the true way between keys eight frames apart


def test_this_key_sets_one_and_all_keys_make_none(project):
    before = shape_in(project)
    moved = before.vertices_at(1003) + np.array([5, 0, 0, 0, 0, 0, 0, 0])
    one = shape_in(edits.reshape(project, SHOT, "m", 1003, moved))
    assert [key.frame for key in one.keys] == [1001, 1003, 1004, 1006]
    every = shape_in(edits.reshape(project, SHOT, "m", 1003, moved, Reach.ALL))
    assert [key.frame for key in every.keys] == list(FRAMES)
    for frame in range(1000, 1009):
        np.testing.assert_allclose(every.points_at(frame), before.points_at(frame) + (5, 0), atol=1e-9)


def test_marked_frames_are_moved_and_the_others_stay(project):
    before = shape_in(project)
    moved = before.vertices_at(1004) + np.array([0, 7, 0, 0, 0, 0, 0, 0])
    after = shape_in(edits.reshape(project, SHOT, "m", 1004, moved, Reach.MARKED, (1003, 1005)))
    for frame in range(1000, 1009):
        by = (0, 7) if 1003 <= frame <= 1005 else (0, 0)
        np.testing.assert_allclose(after.points_at(frame), before.points_at(frame) + by, atol=0.8)  # slopes at new keys
    np.testing.assert_allclose(after.points_at(1003), before.points_at(1003) + (0, 7), atol=1e-9)
    np.testing.assert_allclose(after.points_at(1002), before.points_at(1002), atol=1e-9)
    with pytest.raises(EditError, match="Mark the frames"):
        edits.reshape(project, SHOT, "m", 1006, moved, Reach.MARKED, (1002, 1004))


def test_keys_are_moved_copied_and_mirrored(project):
    def frames(changed):
        return [key.frame for key in shape_in(changed).keys]

    before = shape_in(project)
    moved = edits.move_shape_keys(project, SHOT, "m", (1004, 1006), 2)
    assert frames(moved) == [1001, 1006, 1008]
    np.testing.assert_array_equal(shape_in(moved).points_at(1006), before.points_at(1004))
    onto = edits.move_shape_keys(project, SHOT, "m", (1004,), 2)
    assert frames(onto) == [1001, 1006]
    np.testing.assert_array_equal(shape_in(onto).points_at(1006), before.points_at(1004))
    assert frames(edits.copy_shape_keys(project, SHOT, "m", (1001, 1004), 6)) == [1001, 1004, 1006, 1007, 1010]
    mirrored = shape_in(edits.mirror_shape_keys(project, SHOT, "m", FRAMES))
    assert [key.frame for key in mirrored.keys] == [1001, 1003, 1006]
    for frame in range(1001, 1007):
        np.testing.assert_allclose(mirrored.points_at(frame), before.points_at(2007 - frame), atol=1e-9)
    with pytest.raises(EditError, match="These keys are all"):
        edits.remove_shape_keys(project, SHOT, "m", FRAMES)


def test_parts_are_switched_on_and_off_from_a_frame(project):
    def ranges(changed):
        return [(one.first, one.last) for one in part_in(changed).frames]

    off = edits.switch_part(project, SHOT, "m", 1004, is_on=False)
    assert ranges(off) == [(None, 1003)]
    on = edits.switch_part(off, SHOT, "m", 1007, is_on=True)
    assert ranges(on) == [(None, 1003), (1007, None)]
    assert ranges(edits.switch_part(on, SHOT, "m", 1009, is_on=False)) == [(None, 1003), (1007, 1008)]
    assert ranges(edits.switch_part(on, SHOT, "m", 1005, is_on=True)) == [(None, 1003), (1005, None)]
    assert edits.switch_part(on, SHOT, "m", 1009, is_on=True) is on
    with pytest.raises(EditError, match="on no frame at all"):
        edits.switch_part(edits.change_part(project, SHOT, "m", frames=(Frames(first=1003),)), SHOT, "m", 1003,
                          is_on=False)  # fmt: skip


# -- vertices -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", list(VertexKind))
def test_one_more_vertex_hardly_moves_the_line(project, kind):
    project = edits.set_vertex_kinds(project, SHOT, "m", kind)
    before, after = shape_in(project), shape_in(edits.insert_vertex(project, SHOT, "m", 1.3))
    assert len(after.kinds) == 5
    for frame in (1001, 1003, 1006):
        fine = sampled(before.vertices_at(frame), before.kinds, least=200)[0]
        line = outline(after.vertices_at(frame), after.kinds)
        off = np.hypot(*(line[:, None] - fine[None]).T).min(axis=0)
        assert off.max() < {VertexKind.SMOOTH: 0.7}.get(kind, 0.06)  # of handles and corners: nothing but sampling


def test_handles_begin_where_the_line_is(project):
    before = shape_in(project)
    after = shape_in(edits.set_vertex_kinds(project, SHOT, "m", VertexKind.HANDLES, (1, 2)))
    assert after.kinds == (VertexKind.SMOOTH, VertexKind.HANDLES, VertexKind.HANDLES, VertexKind.SMOOTH)
    np.testing.assert_allclose(
        outline(after.vertices_at(1004), after.kinds), outline(before.vertices_at(1004), before.kinds), atol=1e-9
    )
    fewer = shape_in(edits.remove_vertices(project, SHOT, "m", (1,)))
    np.testing.assert_array_equal(fewer.points_at(1003), np.delete(before.points_at(1003), 1, axis=0))
    with pytest.raises(EditError, match="needs at least 3 points"):
        edits.remove_vertices(project, SHOT, "m", (0, 1))


# -- surfaces -----------------------------------------------------------------------------------------------


def on_frame(project, part, frame):
    shot = project.shots[0]
    line = on_line(part.source.shape.vertices_at(frame), part.source.shape.kinds, np.arange(0, 4, 0.05))
    if not part.source.surface_id:
        return line
    return placement(shot, shot.surface(part.source.surface_id)).mapping(frame)(line)


def test_what_rides_on_something_else_stays_where_it_is(project):
    free = edits.set_part_surface(project, SHOT, "m", "", 1003)
    assert part_in(free).source.surface_id == ""
    assert [key.frame for key in shape_in(free).keys] == [1001, 1003, 1004, 1006]  # one more where it was changed
    for frame in (1001, 1003, 1004, 1006):  # vertices exactly; the line between is drawn anew in other perspective
        np.testing.assert_allclose(on_frame(free, part_in(free), frame), on_frame(project, part_in(project), frame),
                                   atol=0.1)  # fmt: skip
    back = edits.set_part_surface(free, SHOT, "m", "wall", 1003)
    np.testing.assert_allclose(shape_in(back).points_at(1004), shape_in(project).points_at(1004), atol=1e-9)


def test_one_key_alone_is_taken_where_it_is_seen(project):
    shape = Shape.of("still", 1001, rectangle(20, 20, 50, 50))
    part = MattePart(id="still", source=Drawn(shape=shape, surface_id="wall"))
    project = edits.add_part(project, SHOT, "f1", Slot.COVER, part)
    free = edits.set_part_surface(project, SHOT, "still", "", 1005)
    seen = on_frame(project, part, 1005)
    for frame in (1001, 1005):
        np.testing.assert_allclose(on_frame(free, part_in(free, "still"), frame)[::20], seen[::20], atol=1e-9)


def test_softness_grows_with_what_it_rides_on(project):
    vertices = shape_in(project).vertices_at(1001).copy()
    vertices[:, 7] = 10
    project = edits.change_shape(project, SHOT, "m", keys=(ShapeKey(frame=1001, vertices=vertices),))
    shot = project.shots[0]
    wall = placement(shot, shot.surface("wall")).mapping(1005)
    free = shape_in(edits.set_part_surface(project, SHOT, "m", "", 1005))
    grown = np.hypot(*(wall(vertices[:, :2] + (10, 0)) - wall(vertices[:, :2])).T)
    np.testing.assert_allclose(free.vertices_at(1005)[:, 7], grown, rtol=0.05)


def test_parts_change_their_matte_without_moving(project):
    moved = edits.move_part_to(project, SHOT, "m", "f2", Slot.HOLD_OUTS)
    assert [part.id for part in moved.shots[0].fix("f2").hold_outs.parts] == ["m"]
    assert "m" not in {part.id for part in moved.shots[0].fix("f1").cover.parts}
    assert moved.shots[0].fix("f2").hold_outs.parts[0] == part_in(project)
    assert edits.move_part_to(project, SHOT, "m", "f1", Slot.COVER) is project


def test_an_area_alone_cannot_be_taken_from_its_surface(project):
    with pytest.raises(EditError, match="only area"):
        edits.move_part_to(project, SHOT, "area", "f1", Slot.COVER)
    assert replace(Matte()) == Matte()


def test_beyond_marked_frames_the_very_next_one_stays(project):
    far = moving((1001, 1012), Ease.STRAIGHT)
    project = edits.change_shape(project, SHOT, "m", keys=far.keys)
    before = shape_in(project)
    moved = before.vertices_at(1005) + np.array([0, 7, 0, 0, 0, 0, 0, 0])
    after = shape_in(edits.reshape(project, SHOT, "m", 1005, moved, Reach.MARKED, (1004, 1006)))
    for frame in range(1001, 1013):
        by = (0, 7) if 1004 <= frame <= 1006 else (0, 0)
        np.testing.assert_allclose(after.points_at(frame), before.points_at(frame) + by, atol=0.8)
    for frame in (1003, 1007):
        np.testing.assert_allclose(after.points_at(frame), before.points_at(frame), atol=1e-9)


def test_a_line_needs_two_points_and_a_closed_shape_three(project):
    line = replace(Shape.of("line", 1001, [[10, 10], [30, 12], [60, 15]]), is_closed=False)
    project = edits.add_part(project, SHOT, "f1", Slot.COVER, MattePart(id="line", source=Drawn(shape=line)))
    shorter = edits.remove_vertices(project, SHOT, "line", (1,))
    assert len(shape_in(shorter, "line").kinds) == 2
    with pytest.raises(EditError, match="A line needs at least 2 points"):
        edits.remove_vertices(shorter, SHOT, "line", (0,))


def test_where_one_of_two_surfaces_is_not_known_nothing_is_taken_from_one_to_the_other(project):
    shot = project.shots[0]
    loose = replace(shot.surface("wall"), id="loose", name="Loose", track=None)
    project = replace(project, shots=(replace(shot, surfaces=(*shot.surfaces, loose)),))
    with pytest.raises(EditError, match="Loose is not followed to frame 1004"):
        edits.set_part_surface(project, SHOT, "m", "loose", 1004)
