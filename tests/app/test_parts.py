"""Parts of the window, by real events: strip, cards, panels, viewer, dialogs, shortcuts, refusals."""

import json
import os
import shutil
import subprocess
import sys

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QAbstractItemModelTester, QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QApplication,
    QCheckBox,
    QComboBox,
    QFileDialog,
    QLabel,
    QListView,
    QPushButton,
    QSlider,
    QToolButton,
)

from gommage.app.actions import ACTIONS
from gommage.app.dialogs.footage import FootageDialog
from gommage.app.dialogs.question import QuestionDialog
from gommage.app.dialogs.render import RenderDialog
from gommage.app.dialogs.shortcuts import ShortcutsDialog
from gommage.app.hands.pen import PenPoint
from gommage.app.lists.rows import Row, RowModel
from gommage.app.look.controls import DragNumber
from gommage.app.look.theme import DARK, LIGHT
from gommage.app.picture.pen_replay import replay
from gommage.app.strip.data import StripData
from gommage.app.strip.strip import FrameStrip
from gommage.core.document import Frames, Plates, Project, Tool, edits, store
from gommage.core.engine import Advice, Look, State, Step
from gommage.core.picture import probe
from tests.app.driving import ALT, CTRL, SHIFT, activate, answer, click, drag, find, press, pull
from tests.conftest import settle, wait_until
from tests.engine.test_engine import clone, with_fix

# -- table of actions ---------------------------------------------------------------------------------------


def test_no_two_actions_share_a_key_and_each_has_a_method(window):
    keys = [key for action in ACTIONS for key in action.keys]
    assert len(keys) == len(set(keys))
    for action in ACTIONS:
        assert callable(window.handler(action.id)), action.id
        assert window.actions_by_id[action.id].objectName() == action.id


def test_every_control_has_a_name_and_a_tip(opened):
    for step in Step:
        opened.session.set_desk(step=step)
        kinds = (QAbstractButton, QComboBox, QAbstractSpinBox, QSlider, QListView, QCheckBox)
        for kind in kinds:
            for widget in opened.findChildren(kind):
                internal = widget.objectName().startswith("qt_") or widget.parent().__class__.__name__ == "QComboBox"
                if (
                    widget.isVisible()
                    and not internal
                    and "QComboBoxPrivate" not in widget.parent().metaObject().className()
                ):
                    assert widget.accessibleName(), (step, widget, widget.parent())
                    assert widget.toolTip(), (step, widget.accessibleName())


@pytest.mark.parametrize("theme", [DARK, LIGHT])
def test_text_has_contrast(theme):
    def luminance(colour):
        channels = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def contrast(one, other):
        bright, dark = sorted((luminance(one), luminance(other)), reverse=True)
        return (bright + 0.05) / (dark + 0.05)

    for ground in (theme.panel, theme.card):
        assert contrast(theme.text, ground) >= 4.5
        assert contrast(theme.quiet, ground) >= 4.5
        assert contrast(theme.look_here, ground) >= 4.5
    assert contrast(theme.accent_text, theme.accent) >= 4.5


# -- frames -------------------------------------------------------------------------------------------------


def test_stepping_by_key_and_by_button(opened):
    press(opened, Qt.Key.Key_Home)
    assert opened.desk.frame == 1001
    press(opened, Qt.Key.Key_F, Qt.Key.Key_F, Qt.Key.Key_Right)
    assert opened.desk.frame == 1004
    press(opened, Qt.Key.Key_D)
    assert opened.desk.frame == 1003
    press(opened, (Qt.Key.Key_F, SHIFT))
    assert opened.desk.frame == 1006, "kept within the shot"
    press(opened, Qt.Key.Key_E)
    assert opened.desk.frame == 1001
    press(opened, Qt.Key.Key_End)
    assert opened.desk.frame == 1006
    settle(opened)
    assert opened.stage.views.is_ready(1006)


def test_play_runs_and_stops(opened, hear):
    seen = set()
    hear(opened.session.desk_changed, lambda old, new: seen.add(new.frame))
    press(opened, Qt.Key.Key_Space)
    wait_until(lambda: len(seen) == 6)
    press(opened, Qt.Key.Key_Space)
    assert not opened.frames.is_playing
    settle(opened)


def test_strip_scrubs_zooms_and_tells(qtbot):
    strip = FrameStrip()
    qtbot.addWidget(strip)
    strip.resize(800, 106)
    strip.show()
    strip.show_data(
        StripData(
            1001,
            1072,
            missing=(1005,),
            sure_from=1001,
            sure=np.array([0.9]),
            slips=np.array([0.31]),
            reasons=("partly hidden",),
            figures={1001: 2.5},
            span=(1001, 1072),
        )
    )
    chosen = []
    strip.frame_chosen.connect(chosen.append)
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.scale.x(1040.5)), 30))
    assert chosen == [1040]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(2, 30))
    assert chosen[-1] == 1001
    assert strip.tip(1001) == "Frame 1001, may be off by 0.31 px, partly hidden, check 2.5 %"
    assert "missing" in strip.tip(1005)
    wide = strip.scale.x(1002) - strip.scale.x(1001)
    from PySide6.QtGui import QWheelEvent

    event = QWheelEvent(QPointF(400, 30), QPointF(400, 30), QPoint(0, 0), QPoint(0, 480), Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    before = strip.scale.frame(400)
    QApplication.sendEvent(strip, event)
    assert strip.scale.x(1002) - strip.scale.x(1001) > 2 * wide
    assert abs(strip.scale.frame(400) - before) <= 1
    strip.show_frame(1071)
    assert 0 <= strip.scale.x(1071) < strip.width()
    assert not strip.grab().toImage().isNull()


def test_the_ends_of_a_fix_are_dragged_in_one_step(opened):
    steps = len(opened.session.history.steps)
    strip = opened.strip
    y = next(box.center().toPoint().y() for lane, box in strip.lanes() if lane.name == "keys")
    start, end = QPoint(int(strip.scale.x(1007)), y), QPoint(int(strip.scale.x(1004.5)), y)
    pull(strip, [QPoint(int(x), y) for x in np.linspace(start.x(), end.x(), 5)])
    (frames,) = opened.desk.fix(opened.session.project).frames
    assert (frames.first, frames.last) == (None, 1004)
    assert len(opened.session.history.steps) == steps + 1
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert opened.desk.fix(opened.session.project).frames == ()


@pytest.mark.parametrize(("edge", "to", "left"), [(1006, 1001, (1003, 1003)), (1003, 1009, (1005, 1005))])
def test_an_end_of_a_fix_that_is_dragged_past_the_other_stops_there(opened, edge, to, left):
    fix = opened.desk.fix(opened.session.project)
    opened.session.commit("Shorter", edits.change_fix, "shot", fix.id, frames=(Frames(first=1003, last=1005),))
    settle(opened)
    strip = opened.strip
    y = next(box.center().toPoint().y() for lane, box in strip.lanes() if lane.name == "keys")
    pull(strip, [QPoint(int(x), y) for x in np.linspace(strip.scale.x(edge), strip.scale.middle(to), 6)])
    (frames,) = opened.desk.fix(opened.session.project).frames
    assert (frames.first, frames.last) == left


def test_what_is_gone_is_in_hand_no_more(opened):
    """A fix, a surface and a clean plate that are undone leave the desk; what is there goes on being chosen."""
    before = opened.desk
    shot = opened.shot
    fix, plate, surface = replace(shot.fixes[0], id="new"), replace(shot.clean_plates[0], id="new"), shot.surfaces[0]
    added = edits.add_fix(opened.session.project, "shot", fix)
    added = edits.add_surface(edits.add_clean_plate(added, "shot", plate), "shot", replace(surface, id="new"))
    opened.session.commit("All new", lambda project: added)
    opened.session.set_desk(fix_id="new", fix_ids=(shot.fixes[0].id, "new"), plate_id="new", surface_id="new")
    settle(opened)
    press(opened, (Qt.Key.Key_Z, CTRL))
    settle(opened)
    desk = opened.desk
    assert (desk.fix_id, desk.plate_id, desk.surface_id) == (shot.fixes[0].id, shot.clean_plates[0].id, surface.id)
    assert desk.fix_ids == (shot.fixes[0].id,)
    assert before.frame == desk.frame
    card = opened.column.fixes
    assert card.chosen_ids() == (shot.fixes[0].id,)


# -- picture ------------------------------------------------------------------------------------------------


def test_a_frame_is_ready_once_its_picture_is_there(opened):
    views = opened.stage.views
    opened.session.go_to(1002)
    settle(opened)
    assert views.is_ready(1002)
    opened.session.engine.cache.clear()
    assert not views.is_ready(1002)


def test_an_answer_that_came_late_is_not_shown(opened, monkeypatch):
    """Two frames are asked for; the pixels of the first come after those of the second."""
    shown, kept = [], []
    monkeypatch.setattr(opened.viewer, "set_picture", lambda pixels, *words, **fields: shown.append(pixels))
    submit = opened.session.submit

    def later(key, priority, run, came, failed=lambda words: None):
        if isinstance(key, tuple) and key[0] == "screen":
            kept.append((run, came, failed))
        else:
            submit(key, priority, run, came, failed)

    monkeypatch.setattr(opened.session, "submit", later)
    opened.session.engine.cache.clear()
    for frame in (1002, 1003):
        opened.session.go_to(frame)
    assert len(kept) == 2
    (_, came_first, failed_first), (run, came, _) = kept
    pixels = run(lambda: None)
    came(pixels)
    assert len(shown) == 1
    came_first(np.zeros_like(pixels))
    failed_first("the file was not there")
    assert len(shown) == 1
    assert shown[0] is pixels


def test_wheel_zooms_about_the_pen_and_hand_moves(opened):
    from PySide6.QtGui import QWheelEvent

    viewer = opened.viewer
    at = QPointF(200, 150)
    before = viewer.view_from_picture().inverse()(np.array([200.0, 150.0]))
    event = QWheelEvent(at, at, QPoint(0, 0), QPoint(0, 240), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                        Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(viewer, event)
    np.testing.assert_allclose(viewer.view_from_picture().inverse()(np.array([200.0, 150.0])), before)
    press(opened, Qt.Key.Key_A)
    corner = viewer.view_from_picture()(np.zeros(2))
    pull(viewer, [QPoint(100, 100), QPoint(130, 90)])
    moved = viewer.view_from_picture()(np.zeros(2)) - corner
    assert moved == pytest.approx((30, -10), abs=0.01)
    settle(opened)
    opened.call("actual_pixels")
    assert viewer.zoom == 1
    assert opened.view_bar.zoom.text() == "100 %"
    press(opened, Qt.Key.Key_Tab)
    assert viewer.zoom != 1
    settle(opened)


def pixel(window, x, y):
    settle(window)
    return window.viewer.grab().toImage().pixelColor(x, y).getRgb()[:3]


def test_holding_q_flicks_to_the_plate(opened):
    opened.session.set_desk(hides_overlays=True)
    centre = opened.viewer.view_from_picture()(np.array([75, 55], float))
    place = int(centre[0]), int(centre[1])
    result = pixel(opened, *place)
    QTest.keyPress(opened.viewer, Qt.Key.Key_Q)
    assert opened.stage.ground().look is Look.PLATE
    plate = pixel(opened, *place)
    QTest.keyRelease(opened.viewer, Qt.Key.Key_Q)
    assert opened.stage.ground().look is Look.RESULT
    assert pixel(opened, *place) == result
    assert plate != result


def test_wipe_shows_both_and_its_line_is_dragged(opened):
    press(opened, (Qt.Key.Key_Q, SHIFT))
    assert opened.desk.has_wipe
    settle(opened)
    middle = opened.viewer.width() // 2
    pull(opened.viewer, [QPoint(middle, 60), QPoint(80, 60)])
    assert opened.desk.wipe == pytest.approx(80 / opened.viewer.width())
    press(opened, Qt.Key.Key_F, Qt.Key.Key_2, (Qt.Key.Key_Q, SHIFT), (Qt.Key.Key_Q, SHIFT))
    settle(opened)
    assert opened.desk.wipe == pytest.approx(80 / opened.viewer.width()), "its place is kept"


def test_exposure_pushes_the_display_alone(opened):
    centre = opened.viewer.view_from_picture()(np.array([30, 30], float))
    opened.session.set_desk(hides_overlays=True)
    before = pixel(opened, int(centre[0]), int(centre[1]))
    project = opened.session.project
    opened.view_bar.exposure.setValue(1.0)
    after = pixel(opened, int(centre[0]), int(centre[1]))
    assert sum(after) > sum(before) + 60
    assert opened.session.project is project


def test_looks_are_chosen_and_value_is_read(opened):
    combo = opened.view_bar.look
    combo.setFocus()
    QTest.keyClicks(combo, "Matte")
    QTest.keyClick(combo, Qt.Key.Key_Return)
    assert opened.desk.look is Look.MATTE
    opened.session.set_desk(look=Look.RESULT)
    settle(opened)
    at = opened.viewer.view_from_picture()(np.array([20.5, 30.5], float))
    QTest.mouseMove(opened.viewer, QPoint(round(at[0]), round(at[1])))
    red = opened.session.engine.plate(opened.shot.footage, opened.desk.frame)[30, 20, 0]
    wait_until(lambda: f"{red:.3f}" in opened.value.text())


def test_steady_holds_the_surface(opened):
    shot = opened.shot
    moving = np.stack([np.array([[1, 0, 10.0 * k], [0, 1, 0], [0, 0, 1]]) for k in range(6)])
    track = replace(shot.surfaces[0].track, home_to_frame=type(shot.surfaces[0].track.home_to_frame)(moving))
    opened.session.commit("Move", edits.change_surface, "shot", "wall", track=track)
    opened.session.go_to(1004)
    loose = opened.stage.ground().view_from("wall").matrix
    press(opened, Qt.Key.Key_W)
    held = opened.stage.ground().view_from("wall").matrix
    np.testing.assert_allclose(held, opened.viewer.view_from_picture().matrix)
    assert abs(loose - held).max() > 10
    settle(opened)


# -- shapes and brushes -------------------------------------------------------------------------------------


def test_a_shape_closes_on_its_first_point_only_from_the_third_on(opened):
    press(opened, (Qt.Key.Key_S, SHIFT))
    near = 4 / opened.viewer.zoom
    for point in ((20, 20), (20 + near, 20), (60, 20), (60, 60)):
        click(opened, point)
    assert len(opened.stage.hand.trace.vertices) == 4
    click(opened, (20 + near, 20 + near))
    assert opened.stage.hand.trace is None
    assert len(opened.shot.fixes[-1].cover.shapes[0].keys[0].points) == 4
    settle(opened)


def test_escape_drops_the_shape_in_hand(opened):
    press(opened, (Qt.Key.Key_S, SHIFT))
    assert opened.desk.tool == "draw"
    for point in ((20, 20), (50, 20), (50, 50)):
        click(opened, point)
    assert len(opened.stage.hand.trace.vertices) == 3
    steps = len(opened.session.history.steps)
    press(opened, Qt.Key.Key_Escape)
    assert opened.stage.hand.trace is None
    assert len(opened.session.history.steps) == steps


def test_a_new_fix_gets_its_card_and_undo_takes_it_away(opened):
    press(opened, (Qt.Key.Key_S, SHIFT))
    for point in ((20, 20), (50, 20), (50, 50), (20, 20)):
        click(opened, point)
    assert [fix.name for fix in opened.shot.fixes] == ["Nail", "Fix 1"]
    assert opened.column.fixes.rows.rowCount() == 2
    assert opened.column.fixes.rows.index(0).data() == "Fix 1", "frontmost on top"
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert opened.column.fixes.rows.rowCount() == 1
    assert opened.desk.fix_id == "fix"
    press(opened, (Qt.Key.Key_Z, CTRL | SHIFT))
    assert opened.column.fixes.rows.rowCount() == 2
    settle(opened)


def ready_to_paint(window, tool=Qt.Key.Key_C):
    press(window, Qt.Key.Key_3, tool)
    settle(window)
    click(window, (30, 90), ALT)


def strokes_of(window):
    return window.desk.plate(window.session.project).painting.strokes


def test_a_brush_without_a_source_says_so(opened):
    press(opened, Qt.Key.Key_3, Qt.Key.Key_C)
    drag(opened, [(70, 50), (80, 50)])
    assert len(strokes_of(opened)) == 1
    assert "Hold Alt" in opened.words.text()


@pytest.mark.parametrize(
    ("key", "tool"), [(Qt.Key.Key_C, Tool.CLONE), (Qt.Key.Key_V, Tool.HEAL), (Qt.Key.Key_B, Tool.RESTORE)]
)
def test_a_stroke_is_one_record_and_one_step(opened, key, tool):
    ready_to_paint(opened, key)
    steps = len(opened.session.history.steps)
    drag(opened, [(70, 50), (75, 52), (82, 55)])
    settle(opened)
    assert len(opened.session.history.steps) == steps + 1
    stroke = strokes_of(opened)[-1]
    assert stroke.brush.tool is tool
    tolerance = 1 / opened.viewer.zoom  # a click falls on whole pixels of the screen
    np.testing.assert_allclose(stroke.points.values[0, :2], (70, 50), atol=tolerance)
    if tool is not Tool.RESTORE:
        assert (stroke.source.dx, stroke.source.dy) == pytest.approx((-40, 40), abs=2 * tolerance)
    assert opened.actions_by_id["undo"].text() == f"Undo {tool} stroke"
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert len(strokes_of(opened)) == 1


def test_live_paint_is_on_screen_before_the_pen_leaves(opened):
    opened.session.set_desk(hides_overlays=True)
    ready_to_paint(opened)
    place = opened.viewer.view_from_picture()(np.array([75, 52], float))
    before = pixel(opened, int(place[0]), int(place[1]))
    QTest.mousePress(opened.viewer, Qt.MouseButton.LeftButton, pos=QPoint(int(place[0]), int(place[1])))
    wait_until(lambda: opened.viewer.has_live)
    opened.viewer.set_cursor_look(None)
    assert opened.viewer.grab().toImage().pixelColor(int(place[0]), int(place[1])).getRgb()[:3] != before
    assert len(strokes_of(opened)) == 1
    QTest.mouseRelease(opened.viewer, Qt.MouseButton.LeftButton, pos=QPoint(int(place[0]), int(place[1])))
    assert len(strokes_of(opened)) == 2
    settle(opened)


def test_shift_draws_a_straight_line_from_the_last_stroke(opened):
    ready_to_paint(opened)
    drag(opened, [(40, 30), (44, 30)])
    drag(opened, [(90, 60), (90, 60)], SHIFT)
    line = strokes_of(opened)[-1].points.values
    np.testing.assert_allclose(line[0, :2], (44, 30), atol=1.5 / opened.viewer.zoom)
    np.testing.assert_allclose(line[-1, :2], (90, 60), atol=1.5 / opened.viewer.zoom)
    settle(opened)


def test_pen_pressure_and_its_eraser_end(opened):
    ready_to_paint(opened)
    view = opened.viewer.view_from_picture()
    replay(opened.viewer, (PenPoint(0, 70, 50, 0.3), PenPoint(0.1, 75, 50, 0.8), PenPoint(0.2, 76, 50, 0.8)), view)
    pressures = strokes_of(opened)[-1].points.values[:, 2]
    assert pressures[:2] == pytest.approx((0.3, 0.8), abs=0.01)
    assert pressures[-1] > 0.5, "lifting the pen leaves no thin tail"
    replay(opened.viewer, (PenPoint(0, 70, 50, 0.5),), view, is_eraser=True)
    assert strokes_of(opened)[-1].brush.tool is Tool.ERASE
    settle(opened)


def test_brush_size_by_key(opened):
    ready_to_paint(opened)
    size = opened.desk.brush.size_px
    press(opened, Qt.Key.Key_T)
    assert opened.desk.brush.size_px == pytest.approx(size * 1.2)
    press(opened, Qt.Key.Key_R)
    assert opened.desk.brush.size_px == pytest.approx(size)


def test_a_stroke_is_chosen_and_changed_afterwards(opened):
    press(opened, Qt.Key.Key_3)
    rows = opened.panel.pages[Step.FILL].part.strokes
    QTest.mouseClick(rows.viewport(), Qt.MouseButton.LeftButton, pos=rows.visualRect(rows.model().index(0)).center())
    assert opened.desk.stroke_ids == ("s",)
    box = find(opened.panel.pages[Step.FILL], QAbstractSpinBox, "Opacity of the chosen strokes")
    box.setFocus()
    box.selectAll()
    QTest.keyClicks(box, "40")
    QTest.keyClick(box, Qt.Key.Key_Return)
    assert strokes_of(opened)[0].brush.opacity == 0.4
    opened.viewer.setFocus()
    press(opened, Qt.Key.Key_Escape)
    assert opened.desk.stroke_ids == ()
    QTest.mouseClick(rows.viewport(), Qt.MouseButton.LeftButton, pos=rows.visualRect(rows.model().index(0)).center())
    QTest.mouseClick(find(opened.panel.pages[Step.FILL], QToolButton, "Remove strokes"), Qt.MouseButton.LeftButton)
    assert strokes_of(opened) == ()
    settle(opened)


# -- match and cards ----------------------------------------------------------------------------------------


def test_the_drag_of_a_number_is_one_step_and_shows_at_once(opened, hear):
    press(opened, Qt.Key.Key_2)
    number = find(opened.panel, DragNumber, "Soft outside")
    steps = len(opened.session.history.steps)
    seen = []
    hear(opened.session.document_changed, lambda old, new: seen.append(opened.desk.fix(new).cover.softness.outwards_px))
    places = [QPoint(20 + across, 8) for across in (0, 10, 20, 40)]
    pull(number.lineEdit(), places)
    assert len(seen) >= 3
    assert len(opened.session.history.steps) == steps + 1
    assert opened.actions_by_id["undo"].text() == "Undo soft edge"
    assert opened.desk.fix(opened.session.project).cover.softness.outwards_px == pytest.approx(4 + 40 / 2, abs=0.6)
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert opened.desk.fix(opened.session.project).cover.softness.outwards_px == 4
    settle(opened)


def test_match_shows_what_was_found(opened):
    press(opened, Qt.Key.Key_4, Qt.Key.Key_End)
    wait_until(lambda: f"red {5 * np.log2(0.9):+.2f}" in opened.panel.pages[Step.MATCH].stops.text())
    QTest.mouseClick(find(opened.panel, QCheckBox, "Match light"), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    assert not opened.desk.fix(opened.session.project).match.light.is_measured
    settle(opened)


def test_a_card_is_switched_off_by_its_eye(opened):
    view = opened.column.fixes
    box = view.visualRect(view.model().index(0))
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(box.right() - 18, box.top() + 20))
    assert not opened.shot.fixes[0].is_on
    assert "off" in view.model().index(0).data(Qt.ItemDataRole.AccessibleTextRole)
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert opened.shot.fixes[0].is_on
    settle(opened)


def test_cards_show_a_live_loupe(opened):
    wait_until(lambda: "fix" in opened.column.fixes.rows.loupes)
    assert isinstance(opened.column.fixes.rows.loupes["fix"], QImage)


def test_choosing_a_plate_goes_to_its_home(opened):
    opened.session.go_to(1005)
    view = opened.column.plates
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=view.visualRect(view.model().index(0)).center())
    assert (opened.desk.frame, opened.desk.look, opened.desk.tool) == (1001, Look.CLEAN_PLATE, "clone")
    settle(opened)


def test_delete_removes_what_has_the_focus_and_says_why_not(opened):
    opened.column.surfaces.setFocus()
    QTest.keyClick(opened.column.surfaces, Qt.Key.Key_Delete)
    assert "Wall carries Nail, Clean" in opened.words.text()
    opened.column.fixes.setFocus()
    QTest.keyClick(opened.column.fixes, Qt.Key.Key_Delete)
    assert opened.shot.fixes == ()
    settle(opened)


def test_row_model_is_a_model():
    model = RowModel()
    tester = QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    rows = tuple(Row(str(k), f"Row {k}", "", marks=((Step.FOLLOW, Advice(State.FINE)),)) for k in range(3))
    changed = []
    model.dataChanged.connect(lambda first, last, roles=None: changed.append(first.row()))
    model.set_rows(rows)
    model.set_rows((rows[0], Row("1", "Other", ""), rows[2]))
    assert changed == [1]
    model.set_rows(rows[:1])
    assert model.rowCount() == 1
    tester.deleteLater()


# -- advice -------------------------------------------------------------------------------------------------


def advice_of(window):
    return window.panel.advice.words


def test_steps_say_what_is_missing_and_lead_there(window, small_shot):
    bare = replace(small_shot, surfaces=())
    window.session.begin(Project.of(bare))
    settle(window)
    activate(window)
    assert "Draw round a flat" in advice_of(window)
    press(window, Qt.Key.Key_2)
    assert "rides on a followed surface" in advice_of(window)
    press(window, Qt.Key.Key_4)
    assert "There is no fix in hand" in advice_of(window)
    QTest.mouseClick(find(window.panel, QPushButton, "Go to Cover"), Qt.MouseButton.LeftButton)
    assert window.desk.step is Step.COVER
    window.call("new_fix")
    assert "needs a surface" in window.words.text()
    window.call("new_plate")
    assert "lies on a followed surface" in window.words.text()


def test_a_plate_that_is_not_used_is_offered(opened):
    opened.session.commit("Unused", edits.change_fix, "shot", "fix", fill=Plates())
    press(opened, Qt.Key.Key_3)
    assert "Nail is not filled from this plate" in advice_of(opened)
    QTest.mouseClick(find(opened.panel, QPushButton, "Use it"), Qt.MouseButton.LeftButton)
    assert opened.shot.fixes[0].fill.plate_ids == ("plate",)
    settle(opened)


def test_a_missing_frame_is_shown_in_words_and_the_rest_works(window, own_shot, tmp_path):
    (tmp_path / "plate" / "wall.1005.exr").unlink()
    window.session.begin(Project.of(with_fix(own_shot, clone())))
    window.session.go_to(1005)
    wait_until(lambda: "Frame 1005 is missing" in window.viewer.message)
    window.session.go_to(1004)
    wait_until(lambda: window.viewer.message == "")
    settle(window)


def test_follow_that_cannot_begin_says_why(opened):
    from tests.conftest import plane, rectangle

    opened.session.commit("Tiny", edits.change_surface, "shot", "wall", how=plane(rectangle(5, 5, 8, 8)))
    opened.session.commit("Loose", edits.change_surface, "shot", "wall", track=None)
    opened.call("follow_both")
    wait_until(lambda: not opened.work.is_busy)
    assert "too small or outside" in opened.words.text()


def test_stop_keeps_what_was_followed(opened, monkeypatch):
    from gommage.app import work as work_module
    from gommage.core.follow import FollowStep

    opened.session.commit("Loose", edits.change_surface, "shot", "wall", track=None)

    def slowly(engine, shot, surface, start_frame, direction, frames, check):
        import time

        for frame in range(1001, 1007):
            yield FollowStep(frame, np.eye(3), np.zeros(4), 1.0)
            for _ in range(20):
                check()
                time.sleep(0.01)

    monkeypatch.setattr(work_module, "follow_surface", slowly)
    press(opened, (Qt.Key.Key_G, CTRL))
    wait_until(lambda: (track := opened.shot.surfaces[0].track) and len(track.frames) == 2)
    press(opened, Qt.Key.Key_Escape)
    assert not opened.work.is_busy
    assert len(opened.shot.surfaces[0].track.frames) == 2
    assert opened.actions_by_id["undo"].text() == "Undo follow Wall"
    settle(opened)


# -- files --------------------------------------------------------------------------------------------------


def test_footage_that_moved_is_asked_for(window, own_shot, tmp_path, monkeypatch):
    store.save(Project.of(own_shot), tmp_path / "job.gommage")
    shutil.move(tmp_path / "plate", tmp_path / "elsewhere")
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "elsewhere" / "wall.1001.exr"), "")
    )
    asked = []

    def find_them(box):
        asked.append(find(box, QLabel, "Question").text())
        find(box, QPushButton, "Find them…").click()

    answer(QuestionDialog, find_them)
    window.projects.open_project(tmp_path / "job.gommage")
    settle(window)
    assert "is not there" in asked[0]
    assert window.shot.footage.path == str(tmp_path / "elsewhere" / "wall.####.exr")
    settle(window)


def test_what_cannot_be_opened_is_said_and_the_work_stays(opened, tmp_path):
    project = opened.session.project
    opened.projects.open_project(tmp_path / "gone.gommage")
    settle(opened)
    assert "could not be opened" in opened.words.text()
    opened.files.open_footage(tmp_path / "gone.exr")
    wait_until(lambda: "is not there" in opened.words.text())
    assert opened.session.project is project


def test_saving_where_one_may_not_keeps_the_work_and_says_so(opened, tmp_path, monkeypatch):
    (tmp_path / "file").write_text("")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "file" / "x"), ""))
    press(opened, (Qt.Key.Key_S, CTRL))
    settle(opened)
    assert "could not be saved" in opened.words.text()
    assert opened.session.folder is None


def test_a_full_disk_while_rendering_is_said(opened, tmp_path, monkeypatch):
    from gommage.core.engine import RenderTarget

    def full(descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    opened.work.render(range(1001, 1004), RenderTarget(tmp_path / "out"))
    wait_until(lambda: not opened.work.is_busy)
    assert "wall.1001.exr could not be written: the disk is full" in opened.words.text()


def test_unsaved_work_is_asked_about(opened, monkeypatch):
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Screw")
    answer(QuestionDialog, lambda dialog: find(dialog, QPushButton, "Back").click())
    opened.close()
    assert opened.isVisible()


def test_every_edit_reaches_the_journal_at_once(opened):
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Screw")
    (root,) = opened.session.journal_roots
    wait_until(lambda: len(list(root.glob("*/edits-*.jsonl"))) == 1)
    (lines,) = root.glob("*/edits-*.jsonl")
    wait_until(lambda: "Screw" in lines.read_text())
    assert json.loads(lines.read_text().splitlines()[-1]) == [{"at": ["shots", 0, "fixes", 0, "name"], "set": "Screw"}]


# -- dialogs ------------------------------------------------------------------------------------------------


def test_import_dialog_shows_and_changes(qtbot, own_shot, tmp_path):
    (tmp_path / "plate" / "wall.1003.exr").unlink()
    dialog = FootageDialog(probe(tmp_path / "plate"))
    qtbot.addWidget(dialog)
    assert find(dialog, QLabel, "Frames found").text() == "1001–1006, 5 frames"
    assert "1 frame is missing: 1003" in find(dialog, QLabel, "Note").text()
    dialog.space.setCurrentText("ACEScg")
    dialog.aspect.setText("2")
    dialog.rate.setCurrentIndex(1)
    footage = dialog.footage()
    assert (footage.colour_space, footage.pixel_aspect, footage.missing) == ("ACEScg", 2.0, (1003,))
    dialog.aspect.setText("wide")
    assert dialog.footage().pixel_aspect == 1.0


def test_render_dialog_names_its_target(qtbot, small_shot, tmp_path):
    dialog = RenderDialog(small_shot, tmp_path / "render", lambda surface: True)
    qtbot.addWidget(dialog)
    assert dialog.target().format == ""
    assert "bit for bit" in dialog.note.text()
    dialog.kind.setCurrentIndex(dialog.kind.findData(".mov"))
    assert dialog.target().path == tmp_path / "render" / "wall.mov"
    dialog.first.setValue(1005)
    dialog.last.setValue(1002)
    assert dialog.frames() == range(1002, 1006)


def test_shortcuts_dialog_lists_every_key(qtbot):
    dialog = ShortcutsDialog()
    qtbot.addWidget(dialog)
    words = {label.text() for label in dialog.findChildren(QLabel)}
    for action in ACTIONS:
        if action.keys:
            assert ", ".join(action.keys) in words


def test_both_themes_draw(opened):
    dark = opened.grab().toImage().pixelColor(5, 400).lightness()
    opened.actions_by_id["light_theme"].trigger()
    assert opened.grab().toImage().pixelColor(5, 400).lightness() > dark + 100
    opened.actions_by_id["light_theme"].trigger()


# -- screens ------------------------------------------------------------------------------------------------

SCRIPT = """
import sys, tempfile
from pathlib import Path
from PySide6.QtCore import QTimer
from gommage.app.start import make_application, make_window
from gommage.core.document import store
application = make_application()
window = make_window((Path(tempfile.mkdtemp()),))
window.show()
window.projects.open_project(Path(sys.argv[1]))
def look():
    if not window.viewer.has_picture:
        QTimer.singleShot(50, look)
        return
    print(application.platformName(), window.devicePixelRatioF(), window.viewer.pixel_size()[0], window.viewer.width())
    window.session.saved = window.session.project
    window.close()
    application.quit()
QTimer.singleShot(50, look)
QTimer.singleShot(300000, application.quit)
application.exec()
"""


@pytest.mark.parametrize("scale", ["1", "2"])
def test_the_window_on_a_real_x_server(small_shot, tmp_path, scale):
    assert shutil.which("xvfb-run"), "xvfb is one of the test packages"
    store.save(Project.of(with_fix(small_shot, clone())), tmp_path / "job.gommage")
    environment = {**os.environ, "QT_QPA_PLATFORM": "xcb", "QT_SCALE_FACTOR": scale}
    done = subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 2600x1700x24", sys.executable, "-c", SCRIPT, str(tmp_path / "job.gommage")],
        env=environment, capture_output=True, text=True, check=False, timeout=400,
    )  # fmt: skip
    platform, ratio, image, viewer = done.stdout.split()
    assert (platform, float(ratio)) == ("xcb", float(scale))
    assert int(image) == pytest.approx(int(viewer) * float(scale), abs=1), (
        "pictures are made for the screen's own pixels"
    )
