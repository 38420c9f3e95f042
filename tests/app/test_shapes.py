"""Shapes in the window: drawn, chosen, boxed, moulded, softened, keyed, listed; by real clicks, drags and keys."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QMenu, QPushButton, QToolButton

from gommage.app.lists.rows import RowList
from gommage.app.look.controls import DragNumber
from gommage.app.steps.cover.files import MatteFileCommands
from gommage.app.steps.cover.part_menu import MATTE_ACTIONS
from gommage.core.document import Combine, Drawn, Shared, VertexKind, edits
from gommage.core.document.edits import Reach, Slot
from gommage.core.document.outlines import outline
from gommage.core.engine import Step
from gommage.core.geometry import Window
from tests.app.driving import ALT, CTRL, SHIFT, at_view, choose, click, drag, find, press, pull
from tests.conftest import settle, wait_until
from tests.engine.test_matte_files import written_squares

A_PIXEL = 1.0  # of the screen, at the zoom of these tests: what a mouse rounds


@pytest.fixture
def cover(opened):
    """The window in the Cover step, close to the cover, which is taken into the hand."""
    press(opened, Qt.Key.Key_2)
    opened.viewer.show_around(75, 55, 4.0)
    part = parts(opened)[0]
    opened.session.set_desk(part_id=part.id, tool="edit")
    settle(opened)
    return opened


def parts(window, slot=Slot.COVER):
    return getattr(window.desk.fix(window.session.project), slot).parts


def shape(window, index=0, slot=Slot.COVER):
    return parts(window, slot)[index].source.shape


def points(window, index=0):
    return shape(window, index).points_at(window.desk.frame)


def tray(window, name):
    return find(window.tray, QToolButton, name)


def page(window):
    return window.panel.pages[Step.COVER]


# -- drawing ------------------------------------------------------------------------------------------------


def test_freehand_ellipse_and_box(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Freehand"), Qt.MouseButton.LeftButton)
    angle = np.linspace(0, 2 * np.pi, 90)
    ring = np.column_stack([75 + 20 * np.cos(angle), 55 + 14 * np.sin(angle)])
    drag(cover, ring)
    drawn = shape(cover, 1)
    assert len(drawn.kinds) < 10
    assert "points" in cover.words.text()
    line = outline(drawn.vertices_at(1001), drawn.kinds)
    far = np.abs(np.hypot((line[:, 0] - 75) / 20, (line[:, 1] - 55) / 14) - 1) * 14
    assert far.max() < 0.5
    for way, kinds in (("Ellipse", {VertexKind.HANDLES}), ("Rectangle", {VertexKind.CORNER})):
        press(cover, Qt.Key.Key_S)
        QTest.mouseClick(tray(cover, way), Qt.MouseButton.LeftButton)
        drag(cover, [(60, 40), (80, 50), (90, 60)])
        found = shape(cover, -1)
        assert set(found.kinds) == kinds
        line = outline(found.vertices_at(1001), found.kinds)
        np.testing.assert_allclose([*line.min(axis=0), *line.max(axis=0)], [60, 40, 90, 60], atol=0.3)
    assert [one.name for one in cover.desk.fix(cover.session.project).cover.shapes[1:]] == [
        "Shape 2",
        "Shape 3",
        "Shape 4",
    ]
    settle(cover)


def test_handles_are_pulled_while_clicking_and_a_line_may_stay_open(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Point by point"), Qt.MouseButton.LeftButton)
    click(cover, (60, 40))
    drag(cover, [(80, 40), (85, 44), (88, 46)])
    click(cover, (80, 60))
    click(cover, (80, 60))
    drawn = shape(cover, 1)
    assert not drawn.is_closed
    assert drawn.kinds == (VertexKind.CORNER, VertexKind.HANDLES, VertexKind.CORNER)
    np.testing.assert_allclose(drawn.vertices_at(1001)[1, 4:6], (8, 6), atol=0.3)
    np.testing.assert_allclose(drawn.vertices_at(1001)[1, 2:4], (-8, -6), atol=0.3)
    settle(cover)


def test_hold_outs_go_to_their_own_matte_and_ride_on_the_picture(cover):
    QTest.mouseClick(find(page(cover), QToolButton, "Add: held out"), Qt.MouseButton.LeftButton)
    combo = find(cover.tray, QComboBox, "The next shape rides on")
    choose(combo, combo.count() - 1)
    QTest.mouseClick(tray(cover, "Rectangle"), Qt.MouseButton.LeftButton)
    drag(cover, [(70, 50), (75, 55), (80, 60)])
    (held,) = parts(cover, Slot.HOLD_OUTS)
    assert held.source.surface_id == ""
    assert cover.actions_by_id["undo"].text() == "Undo draw hold-out"
    alpha = cover.session.engine.patches.alpha(_inputs(cover), Window(60, 40, 90, 70))
    assert alpha[15, 15] == 0
    assert alpha[5, 5] == 1
    settle(cover)


def _inputs(window):
    from gommage.core.engine import inputs_at

    return inputs_at(window.shot, window.desk.fix(window.session.project), window.desk.frame)


# -- vertices -----------------------------------------------------------------------------------------------


def test_points_are_chosen_by_box_lasso_touch_and_shift(cover):
    corners = points(cover)
    drag(cover, [corners[0] - 4, corners[0] + 2, corners[1] + (4, 3)])
    assert cover.desk.vertices == (0, 1)
    click(cover, corners[2], SHIFT)
    assert cover.desk.vertices == (0, 1, 2)
    click(cover, corners[0] - 6)
    assert cover.desk.vertices == ()
    around = corners[3] + 5 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]])
    drag(cover, around, ALT)
    assert cover.desk.vertices == (3,)
    drag(cover, [corners[0] - (5, 0), corners[0], corners[3], corners[3] - (5, 0)], CTRL)
    assert cover.desk.vertices == (0, 3)
    drag(cover, [corners[0], corners[0] + 2, corners[0] + (6, 3)])
    moved = points(cover) - corners
    np.testing.assert_allclose(moved[[0, 3]], [[6, 3]] * 2, atol=0.3)
    np.testing.assert_array_equal(moved[[1, 2]], 0)
    press(cover, Qt.Key.Key_Escape)
    assert cover.desk.vertices == ()
    settle(cover)


def test_points_are_added_removed_and_given_handles(cover):
    before = points(cover)
    middle = (before[0] + before[1]) / 2
    click(cover, middle, CTRL)
    np.testing.assert_allclose(points(cover)[1], middle, atol=0.3)
    assert cover.desk.vertices == (1,)
    drag(cover, [points(cover)[1], middle + (3, -2), middle + (7, -4)], ALT)
    assert shape(cover).kinds[1] is VertexKind.HANDLES
    cover.session.set_desk(vertices=(1,))
    end = points(cover)[1] + shape(cover).vertices_at(1001)[1, 4:6]
    drag(cover, [end, end + (1, 3), end + (2, 6)])
    turned = shape(cover).vertices_at(1001)[1]
    (ax, ay), (bx, by) = turned[2:4], turned[4:6]
    assert abs(ax * by - ay * bx) < 1, "the handle opposite turns along"
    click(cover, points(cover)[1], CTRL)
    np.testing.assert_array_equal(points(cover), before)
    press(cover, (Qt.Key.Key_A, CTRL))
    assert cover.desk.vertices == (0, 1, 2, 3)
    QTest.mouseClick(tray(cover, "Points: smooth"), Qt.MouseButton.LeftButton)
    assert set(shape(cover).kinds) == {VertexKind.SMOOTH}
    cover.session.set_desk(vertices=(0,))
    press(cover, Qt.Key.Key_Delete)
    assert len(points(cover)) == 3
    settle(cover)


def test_keys_nudge_by_a_pixel_ten_and_a_tenth(cover):
    before, steps = points(cover), len(cover.session.history.steps)
    press(cover, (Qt.Key.Key_Right, CTRL), (Qt.Key.Key_Right, CTRL), (Qt.Key.Key_Down, ALT))
    np.testing.assert_allclose(points(cover), before + (2, 0.1), atol=1e-9)
    press(cover, (Qt.Key.Key_Up, CTRL | SHIFT))
    np.testing.assert_allclose(points(cover), before + (2, -9.9), atol=1e-9)
    assert len(cover.session.history.steps) <= steps + 1, "nudges in a row are one step"
    settle(cover)


def test_softness_of_single_points_is_dragged(cover):
    press(cover, (Qt.Key.Key_T, SHIFT))
    from gommage.app.hands.seen import part_seen, soft_places

    ground = cover.stage.ground()
    places, ahead = soft_places(part_seen(ground, parts(cover)[0]), 1)
    pull(cover.viewer, [QPoint(*map(round, places[1] + far * ahead[1])) for far in (0, 10, 32)])
    soft = shape(cover).vertices_at(1001)[:, 7]
    np.testing.assert_allclose(soft, [0, 8, 0, 0], atol=0.6)  # 32 of the screen at 400 %
    settle(cover)


# -- the whole ----------------------------------------------------------------------------------------------


def box(window):
    from gommage.app.hands.box import box_on, grips

    ground = window.stage.ground()
    return grips(ground, box_on(ground))


def on_screen(window, places, modifiers=Qt.KeyboardModifier.NoModifier):
    pull(window.viewer, [QPoint(*map(round, place)) for place in places], modifiers)


def test_the_box_scales_turns_shears_and_draws_into_perspective(cover):
    press(cover, (Qt.Key.Key_B, SHIFT))
    before = points(cover)
    low, high = before.min(axis=0), before.max(axis=0)
    grips = box(cover)
    on_screen(cover, [grips[2], grips[2] + 10, grips[2] + (40, 20)])
    np.testing.assert_allclose(points(cover).min(axis=0), low, atol=0.01)
    np.testing.assert_allclose(points(cover).max(axis=0), high + (10, 5), atol=0.4)
    press(cover, (Qt.Key.Key_Z, CTRL))
    on_screen(cover, [grips[8], grips[8] + (20, 4), grips[8] + (80, 60)], SHIFT)
    turned = points(cover) - before.mean(axis=0)
    np.testing.assert_allclose(np.hypot(*turned.T), np.hypot(*(before - before.mean(axis=0)).T), atol=1e-6)
    assert np.abs(points(cover) - before).max() > 3
    press(cover, (Qt.Key.Key_Z, CTRL))
    on_screen(cover, [grips[4], grips[4] + (10, 0), grips[4] + (24, 0)], CTRL)
    by = points(cover) - before
    np.testing.assert_allclose(by[before[:, 1] == low[1]], [[6, 0]] * 2, atol=0.4)
    np.testing.assert_allclose(by[before[:, 1] == high[1]], 0, atol=0.01)
    press(cover, (Qt.Key.Key_Z, CTRL))
    on_screen(cover, [grips[1], grips[1] + (8, -4), grips[1] + (16, -8)], CTRL)
    assert (np.abs(points(cover) - before).max(axis=1) > 0.1).sum() == 1, "one corner alone"
    settle(cover)


def test_several_shapes_turn_about_one_pivot(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Rectangle"), Qt.MouseButton.LeftButton)
    drag(cover, [(100, 40), (105, 45), (120, 60)])
    both = [part.id for part in parts(cover)]
    cover.session.set_desk(part_id=both[0], part_ids=(both[1],), tool="edit", has_box=True)
    before = np.vstack([points(cover, 0), points(cover, 1)])
    grips = box(cover)
    on_screen(cover, [grips[8], grips[8] + (30, 10), grips[8] + (60, 40)])
    after = np.vstack([points(cover, 0), points(cover, 1)])
    middle = (before.min(axis=0) + before.max(axis=0)) / 2
    np.testing.assert_allclose(np.hypot(*(after - middle).T), np.hypot(*(before - middle).T), atol=1e-6)
    assert cover.actions_by_id["undo"].text() == "Undo change 2 shapes"
    settle(cover)


def test_soft_reshape_pulls_what_is_near_and_adds_points(cover):
    press(cover, (Qt.Key.Key_R, SHIFT))
    before = points(cover)
    cover.session.set_desk(mould_px=30.0)
    press(cover, Qt.Key.Key_T)
    assert cover.desk.mould_px == pytest.approx(36)
    drag(cover, [before[0], before[0] - 2, before[0] - 6])
    by = np.hypot(*(points(cover) - before).T)
    assert by[0] > 7
    np.testing.assert_array_equal(by[1:], 0)
    cover.session.set_desk(mould_adds=True, mould_px=20.0)
    middle = (points(cover)[1] + points(cover)[2]) / 2
    drag(cover, [middle, middle + (2, 0), middle + (5, 0)])
    assert len(points(cover)) > 5
    assert points(cover)[:, 0].max() == pytest.approx(middle[0] + 5, abs=0.5)
    press(cover, (Qt.Key.Key_Z, CTRL))
    assert len(points(cover)) == 4, "points and movement are one step"
    settle(cover)


# -- keys ---------------------------------------------------------------------------------------------------


def test_all_keys_are_changed_without_making_one(cover):
    cover.session.go_to(1004)
    corner = points(cover)[0]
    drag(cover, [corner, corner - 1, corner - (4, 2)])
    assert [key.frame for key in shape(cover).keys] == [1001, 1004]
    cover.session.go_to(1002)
    settle(cover)
    QTest.mouseClick(tray(cover, "Change all keys"), Qt.MouseButton.LeftButton)
    assert cover.desk.reach is Reach.ALL
    assert any(one.kind == "key" for one in _overlay(cover).outlines)
    before = [key.points for key in shape(cover).keys]
    corner = points(cover)[2]
    drag(cover, [corner, corner + 1, corner + (5, 5)])
    after = [key.points for key in shape(cover).keys]
    assert len(after) == 2
    for one, other in zip(before, after, strict=True):
        np.testing.assert_allclose((other - one)[2], (5, 5), atol=0.3)
    settle(cover)


def _overlay(window):
    from gommage.app.picture.overlays import overlay_of

    return overlay_of(window.stage.ground())


def test_keys_are_dragged_copied_and_removed_on_the_strip(cover):
    for frame in (1003, 1005):
        cover.session.commit("Key", edits.reshape, "shot", shape(cover).id, frame, shape(cover).vertices_at(1001) + 1)
    frames = lambda: [key.frame for key in shape(cover).keys]  # noqa: E731
    strip = cover.strip
    (box_of_keys,) = [one for lane, one in strip.lanes() if lane.name == "keys"]
    at = lambda frame: QPoint(round(strip.scale.middle(frame)), round(box_of_keys.center().y()))  # noqa: E731
    pull(strip, [at(1005), at(1004), at(1006)])
    assert frames() == [1001, 1003, 1006]
    pull(strip, [at(1003), at(1004)], ALT)
    assert frames() == [1001, 1003, 1004, 1006]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, CTRL, at(1003))
    assert cover.desk.keys == (1003, 1004)
    press(cover, Qt.Key.Key_Delete)
    assert frames() == [1001, 1006]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=at(1006))
    assert cover.desk.frame == 1006
    settle(cover)


def test_a_key_is_proposed_taken_and_left(cover):
    cover.session.go_to(1004)
    settle(cover)
    press(cover, (Qt.Key.Key_K, CTRL))
    wait_until(lambda: cover.desk.proposal == 1004)
    assert len(shape(cover).keys) == 1, "nothing is done yet"
    assert "proposed for frame 1004" in cover.panel.advice.words
    press(cover, Qt.Key.Key_Escape)
    assert cover.desk.proposal is None
    assert len(shape(cover).keys) == 1
    press(cover, (Qt.Key.Key_K, CTRL))
    wait_until(lambda: cover.desk.proposal == 1004)
    press(cover, Qt.Key.Key_Return)
    assert [(key.frame, key.is_measured) for key in shape(cover).keys] == [(1001, False), (1004, True)]
    settle(cover)


def test_shapes_are_switched_from_a_frame_on(cover):
    cover.session.go_to(1004)
    QTest.mouseClick(find(page(cover), QPushButton, "Off from here"), Qt.MouseButton.LeftButton)
    assert [(one.first, one.last) for one in parts(cover)[0].frames] == [(None, 1003)]
    assert not _overlay(cover).outlines[0].is_here, "where it is off it is drawn faintly"
    settle(cover)


# -- the list -----------------------------------------------------------------------------------------------


def test_parts_are_combined_inverted_ride_elsewhere_and_change_places(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Ellipse"), Qt.MouseButton.LeftButton)
    drag(cover, [(70, 50), (75, 55), (80, 60)])
    for name, value, check in (
        ("What it does", Combine.SUBTRACT, lambda part: part.combine is Combine.SUBTRACT),
        ("Shape rides on", "", lambda part: part.source.surface_id == ""),
    ):
        combo = find(page(cover), QComboBox, name)
        choose(combo, combo.findData(value))
        assert check(parts(cover)[1]), name
    alpha = cover.session.engine.patches.alpha(_inputs(cover), Window(60, 40, 90, 70))
    assert alpha[15, 15] == 0
    page(cover).lists[Slot.COVER].rows.moved.emit(parts(cover)[1].id, 0)
    assert parts(cover)[0].combine is Combine.SUBTRACT
    settle(cover)


def test_parts_are_copied_as_text_and_pasted_into_hold_outs(cover):
    press(cover, (Qt.Key.Key_C, CTRL))
    assert '"gommage_parts"' in QGuiApplication.clipboard().text()
    cover.session.set_desk(slot=Slot.HOLD_OUTS)
    press(cover, (Qt.Key.Key_V, CTRL))
    (pasted,) = parts(cover, Slot.HOLD_OUTS)
    assert pasted.id != parts(cover)[0].id
    assert isinstance(pasted.source, Drawn)
    np.testing.assert_array_equal(pasted.source.shape.points_at(1001), points(cover))
    QGuiApplication.clipboard().setText("hello")
    press(cover, (Qt.Key.Key_V, CTRL))
    assert "no shapes on the clipboard" in cover.words.text()
    settle(cover)


def test_a_locked_shape_is_left_alone_and_the_menu_has_what_one_expects(cover):
    cover.call("lock_shape")
    before = points(cover)
    drag(cover, [before[0], before[0] + 2, before[0] + 5])
    np.testing.assert_array_equal(points(cover), before)
    rows = page(cover).lists[Slot.COVER]
    rows.menu_asked.emit(parts(cover)[0].id, QPoint(10, 10))
    menu = page(cover).findChild(QMenu, "part_menu")
    words = [action.text() for action in menu.actions()]
    assert {"Rename", "Duplicate shape", "Hold it out instead", "Remove"} <= set(words)
    next(action for action in menu.actions() if action.text() == "Hold it out instead").trigger()
    assert len(parts(cover, Slot.HOLD_OUTS)) == 1
    menu.close()
    settle(cover)


def test_clicks_go_on_to_the_shape_below(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Rectangle"), Qt.MouseButton.LeftButton)
    drag(cover, [(66, 46), (70, 50), (84, 64)])
    first, second = (part.id for part in parts(cover))
    assert cover.desk.part_id == second
    click(cover, (75, 55))
    assert cover.desk.part_id == first
    click(cover, (75, 55))
    assert cover.desk.part_id == second
    settle(cover)


def test_one_part_alone_is_a_look_and_nothing_is_done(cover):
    press(cover, Qt.Key.Key_S)
    QTest.mouseClick(tray(cover, "Rectangle"), Qt.MouseButton.LeftButton)
    drag(cover, [(100, 40), (105, 45), (120, 60)])
    steps = len(cover.session.history.steps)
    press(cover, (Qt.Key.Key_Z, SHIFT))
    assert [part.is_on for part in cover.desk.fix(cover.session.shown).cover.parts] == [False, True]
    press(cover, (Qt.Key.Key_Z, SHIFT))
    assert [part.is_on for part in cover.desk.fix(cover.session.shown).cover.parts] == [True, True]
    assert len(cover.session.history.steps) == steps
    settle(cover)


def test_edges_of_a_part_and_of_all(cover):
    for name, value, read in (
        ("Grow", 3, lambda fix: fix.cover.grow_px),
        ("Soft inside", 2, lambda fix: fix.cover.softness.inwards_px),
        ("Shutter", 180, lambda fix: fix.cover.softness.shutter_deg),
    ):
        number = find(page(cover), DragNumber, name)
        number.setFocus()
        number.selectAll()
        QTest.keyClicks(number, str(value))
        QTest.keyClick(number, Qt.Key.Key_Return)
        assert read(cover.desk.fix(cover.session.project)) == value
    whose = find(page(cover), QComboBox, "Edge of")
    choose(whose, 1)
    number = find(page(cover), DragNumber, "Grow")
    number.setFocus()
    number.selectAll()
    QTest.keyClicks(number, "-1")
    QTest.keyClick(number, Qt.Key.Key_Return)
    assert parts(cover)[0].grow_px == -1
    assert at_view(cover, (0, 0)) is not None
    settle(cover)


# -- files and sharing --------------------------------------------------------------------------------------


def test_a_matte_from_a_file_is_a_part_with_channel_and_numbers(cover, tmp_path):
    path = written_squares(tmp_path / "m", range(1, 7), alpha=True)
    cover.mattes.matte_from_file(path.parent / "key.1.exr")
    wait_until(lambda: len(parts(cover)) == 2)
    source = parts(cover)[1].source
    assert (source.channel, source.frame_offset) == ("A", -1000)
    assert "as many frames as the shot" in cover.words.text()
    combo = find(page(cover), QComboBox, "Channel of the file")
    choose(combo, combo.findData("R"))
    number = find(page(cover), DragNumber, "File's numbers")
    number.setFocus()
    number.selectAll()
    QTest.keyClicks(number, "-999")
    QTest.keyClick(number, Qt.Key.Key_Return)
    source = parts(cover)[1].source
    assert (source.channel, source.frame_offset) == ("R", -999)
    cover.session.go_to(1002)
    alpha = cover.session.engine.patches.alpha(_inputs(cover), Window(0, 0, 160, 120))
    assert alpha[60, 32] == pytest.approx(1, abs=0.01)
    assert alpha[60, 20] == 0
    settle(cover)
    cover.mattes.matte_from_file(tmp_path / "nothing.exr")
    wait_until(lambda: "nothing.exr" in cover.words.text() and "there" in cover.words.text())
    settle(cover)


def test_the_matte_of_a_fix_is_written(cover, tmp_path):
    cover.session.set_desk(marked=(1002, 1003))
    cover.mattes.write_matte(tmp_path / "out" / "nail.png")
    wait_until(lambda: not cover.work.is_busy)
    assert sorted(one.name for one in (tmp_path / "out").iterdir()) == ["nail.1002.png", "nail.1003.png"]
    assert "2 pictures written" in cover.words.text()
    settle(cover)


def test_a_shared_matte_is_made_and_used_by_another_fix(cover):
    cover.call("share_matte")
    (part,) = parts(cover)
    assert cover.shot.mattes[0].name == "Matte 1"
    assert part.source.matte_id == cover.shot.mattes[0].id
    cover.session.commit("New fix", edits.add_fix, "shot", type(cover.shot.fixes[0])(id="two", name="Two"))
    cover.session.set_desk(fix_id="two", fix_ids=("two",), part_id="")
    cover.call("add_shared_matte")
    assert cover.shot.fix("two").cover.parts[0].source == part.source
    cover.call("own_matte")
    assert isinstance(cover.shot.fix("two").cover.parts[0].source, Drawn)
    settle(cover)


# -- what can be reached ------------------------------------------------------------------------------------


def test_every_command_of_mattes_stands_in_a_menu(cover):
    """A method without an entry in the table cannot be called by anybody."""
    public = {name for name in vars(MatteFileCommands) if not name.startswith("_")}
    assert public <= set(cover.actions_by_id)
    find(page(cover), QToolButton, "Mattes: covered").click()
    menu = cover.findChild(QMenu, "ways_menu")
    assert [action.objectName() for action in menu.actions()] == list(MATTE_ACTIONS)
    menu.close()
    settle(cover)


def test_the_shapes_of_a_shared_matte_are_changed_where_it_is_used(cover):
    cover.call("share_matte")
    settle(cover)
    rows = page(cover).lists[Slot.COVER].rows
    shared = cover.shot.mattes[0]
    (own,) = shared.matte.parts
    assert rows.ids() == [parts(cover)[0].id, own.id]
    page(cover).lists[Slot.COVER].chosen.emit(own.id, (own.id,))
    before = own.source.shape
    cover.call("nudge_right_ten")
    after = cover.shot.mattes[0].matte.parts[0].source.shape
    frame = cover.desk.frame
    assert after.points_at(frame)[0, 0] == pytest.approx(before.points_at(frame)[0, 0] + 10)
    rows.setData(rows.index_of(parts(cover)[0].id), "Nails")
    assert cover.shot.mattes[0].name == "Nails"
    page(cover)._on_toggled(own.id)
    assert not cover.shot.mattes[0].matte.parts[0].is_on
    settle(cover)


def test_a_shared_matte_keeps_out_of_a_follow(cover):
    cover.call("share_matte")
    cover.call("step_follow")
    cover.session.set_desk(surface_id=cover.shot.surfaces[0].id)
    settle(cover)
    cover.call("add_shared_matte")
    (part,) = cover.shot.surfaces[0].how.keep_outs.parts
    assert part.source == Shared(matte_id=cover.shot.mattes[0].id)
    settle(cover)
    areas = find(cover.panel, RowList, "Areas")
    assert areas.rows.ids()[-1] == part.id
    cover.session.set_desk(surface_id="")
    cover.call("add_shared_matte")
    assert "belongs to a surface" in cover.words.text()
    settle(cover)
