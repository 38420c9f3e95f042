"""Strokes afterwards, in the window: chosen in list and picture, moved, changed, grouped, repeated, drawn anew."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QMenu

from gommage.app.desk import Life, Lists
from gommage.app.picture.overlays import overlay_of
from gommage.core.document import Array, Frames, Shape, Stroke, edits, value_at
from gommage.core.engine import Step
from tests.app import driving
from tests.app.driving import ALT, CTRL, SHIFT, at_view, click, drag, find, move, press
from tests.app.painting import choose, strokes, type_in
from tests.conftest import rectangle, settle

HOLDER = "fix"
STROKE = [(50, 50), (56, 52), (62, 50)]


@pytest.fixture
def three(painting):
    """Three strokes on three frames; the last one's frame is on screen."""
    choose(painting, "Frames of the next stroke", Life.THIS)
    for frame in (1001, 1002, 1003):
        painting.session.go_to(frame)
        settle(painting)
        click(painting, (70, 80), ALT)
        drag(painting, STROKE)
        settle(painting)
    return painting


def part(window):
    return window.panel.page(Step.FILL).part


def pick_in(combo, value):
    driving.choose(combo, combo.findData(value))


def middle(window, index):
    """Return where a stroke's middle is on the frame on screen."""
    ground = window.stage.ground()
    seen = next(one for one in ground.strokes if one.stroke.id == strokes(window)[index].id)
    return ground.view_from_frame.inverse()(seen.points).mean(axis=0)


def test_lists_by_frame_dots_and_what_is_under_the_pen(three):
    rows = part(three).strokes.rows
    lists = find(part(three), QComboBox, "Strokes listed")
    assert len(rows.ids()) == 3
    pick_in(lists, Lists.FRAME)
    assert rows.ids() == [strokes(three)[2].id]
    assert "1 of 3" in part(three).title.text()
    pick_in(lists, Lists.DOTS)
    assert rows.ids() == []
    drag(three, [(80, 60), (80, 60)])
    settle(three)
    assert rows.ids() == [strokes(three)[3].id]
    pick_in(lists, Lists.PEN)
    for place, number in (((80, 60), 3), (middle(three, 2), 2)):
        move(three.viewer, at_view(three, place))
        three.viewer.hovered.emit(*[float(one) for one in at_view(three, place).toTuple()])
        assert rows.ids() == [strokes(three)[number].id]
    pick_in(lists, Lists.TOOL)
    assert len(rows.ids()) == 4
    three.call("tool_heal")
    settle(three)
    assert rows.ids() == []
    three.call("tool_edit")
    settle(three)
    assert len(rows.ids()) == 4, "without a brush in hand it chooses none out"


def test_many_are_changed_at_once(three):
    three.session.set_desk(stroke_ids=tuple(one.id for one in strokes(three)))
    pick_in(part(three).life, str(Life.ON))
    assert {one.frames for one in strokes(three)} == {(Frames(first=1003),)}
    press(three, (Qt.Key.Key_H, SHIFT))
    assert not any(one.is_on for one in strokes(three))
    three.call("lock_strokes")
    press(three, Qt.Key.Key_Delete)
    assert len(strokes(three)) == 3
    assert "locked" in three.words.text()
    three.call("lock_strokes")
    press(three, Qt.Key.Key_Delete)
    assert strokes(three) == ()
    settle(three)


def test_a_touch_chooses_and_a_drag_moves_with_the_source_or_without(three):
    press(three, Qt.Key.Key_X)
    assert three.desk.tool == "edit"
    assert three.desk.step is Step.FILL
    at = middle(three, 2)
    click(three, at)
    assert three.desk.stroke_ids == (strokes(three)[2].id,)
    before, source = strokes(three)[2].points.values, strokes(three)[2].source
    drag(three, [at, at + (4, 3), at + (8, 6)])
    settle(three)
    moved = strokes(three)[2]
    by = (moved.points.values - before)[:, :2]
    assert np.ptp(by, axis=0).max() < 0.05  # a shift on the frame is nearly one on the surface
    assert np.hypot(*by.mean(axis=0)) == pytest.approx(10, abs=1.5)
    assert moved.source == source
    at = middle(three, 2)
    drag(three, [at, at + (0, 4), at + (0, 8)], ALT)
    stayed = strokes(three)[2]
    by = (stayed.points.values - moved.points.values)[:, :2].mean(axis=0)
    np.testing.assert_allclose((stayed.source.dx, stayed.source.dy), np.array([source.dx, source.dy]) - by, atol=1e-6)
    press(three, (Qt.Key.Key_Z, CTRL))
    assert strokes(three)[2] == moved
    settle(three)


def test_a_strokes_source_is_dragged_by_its_outline(three):
    press(three, Qt.Key.Key_X)
    click(three, middle(three, 2))
    source = strokes(three)[2].source
    outlines = [line for line in overlay_of(three.stage.ground()).outlines if line.kind == "stroke-source"]
    assert len(outlines) == 1
    at = three.stage.ground().view_from_frame.inverse()(outlines[0].points).mean(axis=0)
    drag(three, [at, at + (3, 0), at + (6, 0)])
    moved = strokes(three)[2].source
    assert moved.dx - source.dx == pytest.approx(6, abs=1)
    settle(three)


def test_a_box_chooses_all_that_it_touches_and_shift_adds(painting):
    type_in(painting, "Size", 10)
    click(painting, (70, 80), ALT)
    for x in (40, 60, 80):
        drag(painting, [(x, 50), (x + 4, 52)])
    press(painting, Qt.Key.Key_X)
    drag(painting, [(30, 38), (50, 50), (72, 66)])
    assert set(painting.desk.stroke_ids) == {one.id for one in strokes(painting)[:2]}
    click(painting, middle(painting, 2), SHIFT)
    assert len(painting.desk.stroke_ids) == 3
    click(painting, (40, 90))
    assert painting.desk.stroke_ids == ()
    settle(painting)


def test_all_strokes_of_the_frame_are_outlined_when_asked_for(three):
    assert not overlay_of(three.stage.ground()).outlines
    press(three, (Qt.Key.Key_O, SHIFT))
    assert len([line for line in overlay_of(three.stage.ground()).outlines if line.kind == "stroke-other"]) == 1
    three.session.set_desk(stroke_ids=(strokes(three)[2].id,))
    (line,) = [line for line in overlay_of(three.stage.ground()).outlines if line.kind == "stroke"]
    assert line.is_chosen
    low, high = line.points.min(axis=0), line.points.max(axis=0)
    brush = strokes(three)[2].brush.size_px * three.viewer.zoom
    assert high[1] - low[1] == pytest.approx(brush + 2 * three.viewer.zoom, rel=0.15)  # the path goes 2 px down
    settle(three)


def test_order_is_changed_by_keys_of_the_menu_and_by_dropping(three):
    first, second, third = (one.id for one in strokes(three))
    three.session.set_desk(stroke_ids=(first,))
    three.call("raise_strokes")
    assert [one.id for one in strokes(three)] == [second, third, first]
    three.call("lower_strokes")
    assert [one.id for one in strokes(three)] == [first, second, third]
    assert part(three).strokes.rows.ids() == [third, second, first]
    part(three).strokes.rows.moved.emit(first, 0)  # dropped above all rows
    assert part(three).strokes.rows.ids() == [first, third, second]
    part(three).strokes.rows.moved.emit(first, 3)
    assert part(three).strokes.rows.ids() == [third, second, first]
    settle(three)


def test_a_path_is_drawn_anew_and_all_else_stays(three):
    old = strokes(three)[2]
    three.session.set_desk(stroke_ids=(old.id,))
    three.call("redraw_stroke")
    assert "anew" in three.tray.hint.text()
    drag(three, [(80, 70), (84, 74), (90, 70)])
    new = strokes(three)[2]
    assert new.id == old.id
    assert (new.brush, new.source, new.frames) == (old.brush, old.source, old.frames)
    np.testing.assert_allclose(middle(three, 2), (84.7, 71.3), atol=1.5)
    assert three.desk.redraws == ""
    settle(three)


def test_duplicates_and_other_surfaces(three):
    three.session.set_desk(stroke_ids=(strokes(three)[2].id,))
    press(three, (Qt.Key.Key_M, SHIFT))
    assert len(strokes(three)) == 4
    assert three.desk.stroke_ids == (strokes(three)[3].id,)
    at = middle(three, 3)
    pick_in(find(part(three), QComboBox, "Chosen strokes ride on"), "")
    assert strokes(three)[3].surface_id == ""
    np.testing.assert_allclose(middle(three, 3), at, atol=1e-6)
    settle(three)


def test_groups_are_named_faded_switched_and_go(three):
    here = strokes(three)[2]
    three.session.set_desk(stroke_ids=tuple(one.id for one in strokes(three)))
    press(three, (Qt.Key.Key_G, CTRL | SHIFT))
    painting = three.desk.fix(three.session.project).touch_up
    assert [group.name for group in painting.groups] == ["Group 1"]
    assert {one.group_id for one in painting.strokes} == {painting.groups[0].id}
    assert part(three).groups.rows.ids() == [painting.groups[0].id]
    x, y = (round(float(one)) for one in middle(three, 2))
    full = three.session.engine.result(three.shot, 1003)[y, x]
    part(three).fade.value_changed.emit(0.0, True)
    bare = three.session.engine.result(three.shot, 1003)[y, x]
    plate = three.session.engine.plate(three.shot.footage, 1003)[y, x]
    np.testing.assert_allclose(bare, plate, atol=1e-4)  # the other fix ends softly near it
    assert np.abs(full - plate).max() > 0.01
    part(three).groups.rows.renamed.emit(painting.groups[0].id, "Dirt")
    part(three).groups.menu_asked.emit(painting.groups[0].id, three.mapToGlobal(three.rect().center()))
    menu = next(one for one in three.findChildren(QMenu, "strokes_menu") if one.isVisible())
    next(one for one in menu.actions() if one.text() == "Switch off").trigger()
    menu.close()
    (group,) = three.desk.fix(three.session.project).touch_up.groups
    assert (group.name, group.is_on, group.opacity) == ("Dirt", False, 0.0)
    three.session.set_desk(stroke_ids=(here.id,))
    three.call("ungroup_strokes")
    assert strokes(three)[2].group_id == ""
    settle(three)


def test_a_groups_fade_is_keyed(three):
    three.session.set_desk(stroke_ids=tuple(one.id for one in strokes(three)))
    press(three, (Qt.Key.Key_G, CTRL | SHIFT))
    (group,) = three.desk.fix(three.session.project).touch_up.groups

    def ask(words):
        part(three).groups.menu_asked.emit(group.id, three.mapToGlobal(three.rect().center()))
        menu = next(one for one in three.findChildren(QMenu, "strokes_menu") if one.isVisible())
        next(one for one in menu.actions() if one.text() == words).trigger()
        menu.close()
        return three.desk.fix(three.session.project).touch_up.groups[0].opacity

    assert value_at(ask("Fade: key it here"), 1001) == 1
    three.session.go_to(1005)
    part(three).fade.value_changed.emit(20.0, True)
    opacity = three.desk.fix(three.session.project).touch_up.groups[0].opacity
    assert [(key.frame, key.value) for key in opacity.keys] == [(1003, 1.0), (1005, pytest.approx(0.2))]
    assert 0.2 < value_at(opacity, 1004) < 1
    assert ask("Fade: no more keys") == pytest.approx(0.2)
    settle(three)


def test_strokes_are_repeated_on_the_next_frame_and_frames_come_by_themselves(three):
    press(three, Qt.Key.Key_N)
    assert three.desk.frame == 1004
    assert len(strokes(three)) == 4
    assert strokes(three)[3].frames == (Frames(first=1004, last=1004),)
    np.testing.assert_array_equal(strokes(three)[3].points.values, strokes(three)[2].points.values)
    find(three.tray, QCheckBox, "Frame after frame").click()
    settle(three)
    for frame in (1004, 1005):
        assert three.desk.frame == frame
        drag(three, STROKE)
        settle(three)
    assert three.desk.frame == 1006
    assert [one.frames[0].first for one in strokes(three)[-2:]] == [1004, 1005]


def test_a_stroke_goes_along_the_shape_in_hand(painting):
    shape = Shape.of("round", 1001, rectangle(40, 40, 90, 80), name="Crack")
    fix_id = painting.desk.fix_id
    part_of = edits.add_part
    from gommage.core.document import Drawn, MattePart
    from gommage.core.document.edits import Slot

    drawn = MattePart(id="round", source=Drawn(shape=shape, surface_id="wall"))
    painting.session.commit("Shape", part_of, "shot", fix_id, Slot.COVER, drawn)
    painting.session.set_desk(part_id="round")
    type_in(painting, "Source's frame", 1)
    painting.call("stroke_along_shape")
    (stroke,) = strokes(painting)
    assert isinstance(stroke, Stroke)
    places = stroke.points.values[:, :2]
    np.testing.assert_allclose([places.min(axis=0), places.max(axis=0)], [(40, 40), (90, 80)], atol=1.5)
    np.testing.assert_allclose(places[0], places[-1])
    assert isinstance(stroke.points, Array)
    settle(painting)
