"""The Follow step through the window: areas, keep-outs, spots, pins, marked frames, looks, files; by real events."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QPushButton, QSpinBox, QToolButton

from gommage.app.picture.overlays import overlay_of
from gommage.app.steps.follow.graph import TrackGraph
from gommage.app.strip.data import StripData
from gommage.app.strip.strip import FrameStrip
from gommage.core.document import ByHand, Channel, MotionModel, PointsFollow, Project, ShapeKey, Still, edits, placement
from gommage.core.engine import Look, Step
from tests.app.driving import ALT, CTRL, SHIFT, activate, choose, click, drag, find, press, pull
from tests.conftest import settle, wait_until

SCREEN_PX = 1.0  # an event falls on a whole pixel of the screen


@pytest.fixture
def opened(window, small_shot):
    """A window on the small shot, in the Follow step, its wall followed."""
    window.session.begin(Project.of(small_shot))
    settle(window)
    activate(window)
    press(window, Qt.Key.Key_1)
    return window


def surface(window):
    return window.desk.surface(window.session.project)


def close_to(window, found, wanted):
    np.testing.assert_allclose(found, wanted, atol=1.5 * SCREEN_PX / window.viewer.zoom)


def follow(window, *keys):
    press(window, *(keys or ((Qt.Key.Key_G, CTRL),)))
    wait_until(lambda: not window.work.is_busy)
    settle(window)


# -- areas ----------------------------------------------------------------------------------------------------


def test_one_more_area_and_a_keep_out_are_drawn(opened):
    QTest.mouseClick(find(opened.panel, QToolButton, "Add area"), Qt.MouseButton.LeftButton)
    for point in ((20, 20), (60, 20), (60, 60), (20, 20)):
        click(opened, point)
    assert len(surface(opened).how.areas.parts) == 2
    close_to(opened, surface(opened).how.areas.shapes[1].keys[0].points, [(20, 20), (60, 20), (60, 60)])
    QTest.mouseClick(find(opened.panel, QToolButton, "Add keep-out"), Qt.MouseButton.LeftButton)
    for point in ((70, 30), (90, 30), (90, 50), (70, 30)):
        click(opened, point)
    assert len(surface(opened).how.keep_outs.parts) == 1
    assert opened.actions_by_id["undo"].text() == "Undo draw keep-out"
    rows = opened.panel.pages[Step.FOLLOW].areas.rows
    assert [rows.index(k).data() for k in range(3)] == ["Area 1", "Area 2", "Keep-out 1"]
    QTest.mouseClick(find(opened.panel, QToolButton, "Remove area"), Qt.MouseButton.LeftButton)
    assert surface(opened).how.keep_outs.parts == ()
    assert len(opened.shot.surfaces) == 1, "all of it is one surface"


def test_an_area_is_keyed_on_another_frame_and_stays_put_on_demand(opened):
    opened.session.go_to(1004)
    settle(opened)
    press(opened, Qt.Key.Key_X)
    drag(opened, [(10, 10), (14, 12), (18, 14)])
    shape = surface(opened).how.areas.shapes[0]
    assert [key.frame for key in shape.keys] == [1001, 1004]
    close_to(opened, shape.keys[1].points[0], (18, 14))
    assert opened.actions_by_id["undo"].text() == "Undo key area on 1004"
    press(opened, Qt.Key.Key_Delete)
    assert len(surface(opened).how.areas.shapes[0].keys) == 1
    press(opened, (Qt.Key.Key_Z, CTRL))
    box = find(opened.panel, QCheckBox, "Stays put in the picture")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    assert surface(opened).how.areas.drawn[0][1].surface_id == ""
    press(opened, (Qt.Key.Key_Z, CTRL), (Qt.Key.Key_Z, CTRL))
    assert len(surface(opened).how.areas.shapes[0].keys) == 1
    settle(opened)


def test_choices_of_the_follow_are_edits(opened):
    assert not find(opened.panel, QComboBox, "Motion").isVisible(), "what is seldom changed is folded"
    QTest.mouseClick(find(opened.panel, QToolButton, "Fold how"), Qt.MouseButton.LeftButton)
    for name, words, field, value in (
        ("Motion", "Shift and turn", "motion", MotionModel.SHIFT_TURN),
        ("Look at", "Red", "channel", Channel.RED),
    ):
        combo = find(opened.panel, QComboBox, name)
        choose(combo, combo.findText(words))
        assert getattr(surface(opened).how, field) is value
    box = find(opened.panel, QCheckBox, "Leave out what is in front")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    assert not surface(opened).how.leaves_out_front
    box = find(opened.panel, QCheckBox, "Moves by itself")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    assert surface(opened).moves_by_itself
    opened.call("undo")
    assert not surface(opened).moves_by_itself
    assert not box.isChecked()
    settle(opened)


# -- running it -----------------------------------------------------------------------------------------------


def test_one_frame_on_and_the_marked_frames_only(opened):
    opened.session.commit("Loose", edits.change_surface, "shot", "wall", track=None)
    opened.session.go_to(1001)
    follow(opened, (Qt.Key.Key_F, CTRL | SHIFT))
    assert (surface(opened).track.frames.first, surface(opened).track.frames.last) == (1001, 1002)
    follow(opened, (Qt.Key.Key_F, CTRL | SHIFT))
    assert surface(opened).track.frames.last == 1003, "it goes on from where it is"
    opened.session.set_desk(marked=(1001, 1005))
    settle(opened)
    follow(opened, (Qt.Key.Key_G, CTRL))
    assert surface(opened).track.frames.last == 1005
    assert find(opened.panel, QPushButton, "Follow the marked frames").isVisible()


def test_frames_are_marked_smoothed_and_trimmed(opened):
    strip = opened.strip
    ends = [QPoint(int(strip.scale.x(frame + 0.5)), 60) for frame in (1002, 1005)]
    pull(strip, ends, SHIFT)
    assert opened.desk.marked == (1002, 1005)
    opened.actions_by_id["smooth_marked"].trigger()
    settle(opened)
    assert opened.actions_by_id["undo"].text() == "Undo smooth 1002–1005"
    opened.actions_by_id["trim_to_marked"].trigger()
    assert (surface(opened).track.frames.first, surface(opened).track.frames.last) == (1002, 1005)
    press(opened, (Qt.Key.Key_3, SHIFT))
    assert opened.desk.marked is None
    opened.actions_by_id["trim_to_marked"].trigger()
    assert "Mark the frames to keep first" in opened.words.text()
    settle(opened)


# -- pins -----------------------------------------------------------------------------------------------------


def test_a_corner_is_pinned_and_the_correction_spreads(opened):
    opened.session.go_to(1006)
    settle(opened)
    press(opened, (Qt.Key.Key_V, SHIFT))
    assert opened.desk.tool == "pin"
    drag(opened, [(10, 10), (12, 11), (16, 14)])
    one = surface(opened)
    assert [pin.frame for pin in one.pins] == [1006]
    placed = placement(opened.shot, one)
    close_to(opened, placed.home_to_frame(1006)(np.array([10.0, 10.0])), (16, 14))
    between = placed.home_to_frame(1003)(np.array([10.0, 10.0]))
    assert 10 < between[0] < 16
    np.testing.assert_allclose(placed.home_to_frame(1001).matrix, np.eye(3), atol=1e-9)
    assert opened.actions_by_id["undo"].text() == "Undo pin on 1006"
    assert "1 pinned" in opened.panel.pages[Step.FOLLOW].facts.text()
    QTest.mouseClick(find(opened.panel, QPushButton, "Unpin"), Qt.MouseButton.LeftButton)
    assert surface(opened).pins == ()
    settle(opened)


def test_own_points_are_set_with_alt_and_moved(opened):
    opened.session.go_to(1004)
    settle(opened)
    press(opened, (Qt.Key.Key_V, SHIFT))
    click(opened, (50, 50), ALT)
    click(opened, (100, 60), ALT)
    assert len(opened.desk.pin_points) == 2
    drag(opened, [(50, 50), (53, 50), (56, 50)])
    (pin,) = surface(opened).pins
    assert len(pin.home) == 2
    close_to(opened, pin.placed.values, [(56, 50), (100, 60)])
    opened.actions_by_id["forget_own_points"].trigger()
    assert opened.desk.pin_points == ()
    settle(opened)


def test_following_on_from_a_pin_keeps_the_pin(opened):
    opened.session.go_to(1003)
    settle(opened)
    press(opened, (Qt.Key.Key_V, SHIFT))
    drag(opened, [(80, 60), (82, 60), (84, 60)])  # inside: the whole of it
    before = surface(opened).pins
    assert len(before) == 1
    follow(opened, (Qt.Key.Key_F, CTRL))
    assert surface(opened).pins == before
    corner = np.array([80.0, 60.0])
    placed = placement(opened.shot, surface(opened))
    close_to(opened, placed.home_to_frame(1006)(corner), (84, 60))


# -- other kinds ----------------------------------------------------------------------------------------------


def begin(window, words):
    menu = find(window.panel, QToolButton, "New surface").menu()
    next(action for action in menu.actions() if action.text() == words).trigger()


def test_spots_are_set_followed_and_re_aimed(opened):
    begin(opened, "Points, by spots")
    for point in ((40, 40), (110, 45), (75, 90)):
        click(opened, point)
    one = surface(opened)
    assert isinstance(one.how, PointsFollow)
    assert len(one.how.spots) == 3
    follow(opened)
    assert surface(opened).track.frames.last == 1006
    assert len(surface(opened).how.spots[0].path.certainty) == 6
    opened.session.go_to(1004)
    settle(opened)
    press(opened, Qt.Key.Key_X)
    drag(opened, [(40, 40), (44, 44), (48, 50)])
    (aim,) = surface(opened).how.spots[0].aims
    assert aim.frame == 1004
    close_to(opened, (aim.x + aim.dx, aim.y + aim.dy), (40, 40))
    assert opened.actions_by_id["undo"].text() == "Undo re-aim spot from 1004"
    opened.session.go_to(1001)
    settle(opened)
    drag(opened, [(110, 45), (112, 46), (114, 47)])
    assert surface(opened).how.spots[1].path is None
    close_to(opened, (surface(opened).how.spots[1].x, surface(opened).how.spots[1].y), (114, 47))
    QTest.mouseClick(find(opened.panel, QToolButton, "Remove area"), Qt.MouseButton.LeftButton)
    assert len(surface(opened).how.spots) == 2


def test_sizes_of_a_spot_are_taken_over(opened):
    begin(opened, "Points, by spots")
    for point in ((40, 40), (110, 45)):
        click(opened, point)
    box = find(opened.panel, QSpinBox, "Pattern")
    assert box.text() == "auto"
    box.setFocus()
    box.selectAll()
    QTest.keyClicks(box, "25")
    QTest.keyClick(box, Qt.Key.Key_Return)
    assert [spot.pattern_px for spot in surface(opened).how.spots] == [25, 25]
    opened.session.set_desk(part_id=surface(opened).how.spots[1].id)
    find(opened.panel, QSpinBox, "Search").setValue(40)
    assert [spot.search_px for spot in surface(opened).how.spots] == [0, 40]
    settle(opened)


def test_good_spots_are_found_beside_the_ones_there_are(opened):
    begin(opened, "Points, by spots")
    click(opened, (80, 60))
    QTest.mouseClick(find(opened.panel, QPushButton, "Find"), Qt.MouseButton.LeftButton)
    wait_until(lambda: len(surface(opened).how.spots) > 3)
    assert "spots found" in opened.words.text()
    settle(opened)


@pytest.mark.parametrize(("words", "kind"), [("Still camera", Still), ("Corners by hand", ByHand)])
def test_surfaces_that_need_no_follow(opened, words, kind):
    begin(opened, words)
    for point in ((30, 30), (90, 30), (90, 80), (30, 80), (30, 30)):
        click(opened, point)
    one = surface(opened)
    assert isinstance(one.how, kind)
    assert placement(opened.shot, one).is_placed(1006)
    assert not find(opened.panel, QPushButton, "Follow both ways").isVisible()
    if kind is ByHand:
        assert opened.desk.tool == "pin"
        opened.session.go_to(1005)
        settle(opened)
        drag(opened, [(30, 30), (34, 32), (38, 34)])
        moved = placement(opened.shot, surface(opened)).home_to_frame(1005)(np.array([30.0, 30.0]))
        close_to(opened, moved, (38, 34))
    settle(opened)


def test_a_surface_rides_on_another(opened):
    begin(opened, "Still camera")
    for point in ((30, 30), (90, 30), (90, 80), (30, 30)):
        click(opened, point)
    QTest.mouseClick(find(opened.panel, QToolButton, "Fold how"), Qt.MouseButton.LeftButton)
    combo = find(opened.panel, QComboBox, "Rides on")
    choose(combo, combo.findText("Wall"))
    assert surface(opened).rides_on == "wall"
    settle(opened)


# -- looking --------------------------------------------------------------------------------------------------


def test_square_on_steady_and_test_card_change_what_is_asked_for(opened):
    corners = np.array([[20.0, 20], [120, 30], [110, 90], [25, 80]])
    opened.session.commit("Odd", edits.set_shape_key, "shot", "area", ShapeKey.of(1001, corners))
    press(opened, (Qt.Key.Key_E, CTRL))
    seen = opened.stage.ground().view_from_frame(corners)
    assert seen[0, 1] == pytest.approx(seen[1, 1], abs=1e-6)
    assert seen[1, 0] == pytest.approx(seen[2, 0], abs=1e-6)
    plain = opened.stage.views.request(1001, Look.RESULT)
    press(opened, (Qt.Key.Key_T, CTRL))
    assert plain.view_from_card is None
    assert opened.stage.views.request(1001, Look.RESULT).view_from_card is not None
    press(opened, (Qt.Key.Key_E, CTRL), (Qt.Key.Key_T, CTRL))
    np.testing.assert_allclose(
        opened.stage.ground().view_from_frame(corners), opened.viewer.view_from_picture()(corners)
    )
    opened.actions_by_id["trails"].trigger()
    assert len(overlay_of(opened.stage.ground()).trails) == 4
    settle(opened)


def test_a_cell_of_the_sheet_leads_to_its_frame(opened):
    press(opened, (Qt.Key.Key_B, CTRL))
    settle(opened)
    assert opened.desk.look is Look.SHEET
    wait_until(lambda: opened.viewer.has_picture)
    from gommage.core.engine import sheet_of

    layout = sheet_of(opened.stage.sheet.request())
    x, y = layout.place(4)
    QTest.mouseClick(opened.viewer, Qt.MouseButton.LeftButton, pos=QPoint(x + 10, y + 10))
    assert opened.desk.frame == 1005
    press(opened, (Qt.Key.Key_B, CTRL))
    assert opened.desk.look is Look.RESULT
    settle(opened)


def test_the_graph_is_clicked(opened):
    graph = opened.panel.pages[Step.FOLLOW].graph
    assert isinstance(graph, TrackGraph)
    QTest.mouseClick(graph, Qt.MouseButton.LeftButton, pos=QPoint(int(graph._x(3)), 10))
    assert opened.desk.frame == 1004
    assert [curve.name for curve in graph._curves] == ["x", "y", "scale", "turn", "slip"]
    assert not graph.grab().toImage().isNull()
    settle(opened)


def test_the_strip_draws_pins_and_marked_frames(qtbot):
    strip = FrameStrip()
    qtbot.addWidget(strip)
    strip.resize(800, 106)
    plain = StripData(1001, 1072)
    strip.show_data(plain)
    before = strip.grab().toImage()
    strip.show_data(StripData(1001, 1072, pins=(1030,), marked=(1010, 1020)))
    after = strip.grab().toImage()
    for frame, y in ((1030, 23), (1015, 10)):
        at = QPoint(int(strip.scale.x(frame + 0.5)), y)
        assert before.pixelColor(at) != after.pixelColor(at)
    assert "pinned" in strip.tip(1030)


# -- files ----------------------------------------------------------------------------------------------------


def test_a_follow_is_written_and_read_back(opened, tmp_path, monkeypatch):
    path = tmp_path / "wall.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    opened.actions_by_id["write_follow"].trigger()
    settle(opened)
    assert path.exists()
    opened.session.commit("Loose", edits.change_surface, "shot", "wall", track=None)
    opened.actions_by_id["read_follow"].trigger()
    settle(opened)
    assert surface(opened).track.frames.last == 1006
    path.write_text("a shopping list")
    opened.actions_by_id["read_follow"].trigger()
    settle(opened)
    assert "is not a follow that can be read" in opened.words.text()
    settle(opened)


def test_a_long_name_does_not_push_its_neighbours_out(opened):
    """The panel is as wide as it is; what of a name has no room is in its tip."""
    session = opened.session
    surface = session.project.shots[0].surfaces[0]
    session.commit("Rename", edits.change_surface, session.project.shots[0].id, surface.id, name="wall " * 30)
    settle(opened)
    page = opened.panel.page(Step.FOLLOW)
    assert page.title.text().startswith("wall wall")
    assert page.new.mapTo(opened, page.new.rect().topRight()).x() < opened.width()
    assert page.minimumSizeHint().width() <= page.width()
