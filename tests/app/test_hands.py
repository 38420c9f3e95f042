"""The hands through the window: drags that show what they do, strokes in order, undo in the middle, what is closed."""

import gc
import threading
import traceback
import weakref

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog

from gommage.app.hands.gestures import Hand, PointerEvent, Receiver, Step
from gommage.app.main_window import MainWindow
from gommage.core.document import Project, edits, placement
from gommage.core.engine import Engine, Look, view_key, view_pixels
from gommage.core.engine import Step as WorkStep
from tests.app.driving import ALT, CTRL, SHIFT, activate, at_view, click, drag, move, press, pull
from tests.conftest import settle, wait_until
from tests.engine.test_engine import clone, with_fix


def hold(window, points, modifiers=Qt.KeyboardModifier.NoModifier):
    """Press and drag without letting go; gives what lets go."""
    places = [at_view(window, point) for point in points]
    pull(window.viewer, places, modifiers, releases=False)
    return lambda: QTest.mouseRelease(window.viewer, Qt.MouseButton.LeftButton, modifiers, places[-1])


def screen(window):
    """Return what the viewer shows, without overlays."""
    window.session.set_desk(hides_overlays=True)
    settle(window)
    window.viewer.set_cursor_look(None)
    image = window.viewer.grab().toImage()
    window.session.set_desk(hides_overlays=False)
    pixels = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)
    return pixels[:, : image.width(), :3].astype(int)


# -- drags show what they do ------------------------------------------------------------------------------------


def test_while_a_vertex_is_dragged_matte_and_repair_follow(opened):
    press(opened, Qt.Key.Key_2)
    opened.session.set_desk(look=Look.MATTE)
    before, steps = screen(opened), len(opened.session.history.steps)
    let_go = hold(opened, [(60, 40), (50, 35), (40, 30)])
    during = screen(opened)
    assert (np.abs(during - before) > 60).sum() > 500, "the matte has grown by the corner"
    assert len(opened.session.history.steps) == steps
    assert opened.session.project.shots[0].fixes[0].cover.shapes[0].keys[0].points[0].tolist() == [60, 40]
    opened.session.set_desk(look=Look.RESULT)
    with_repair = opened.session.engine.result(opened.shot, 1001)
    plain = opened.session.engine.result(opened.session.project.shots[0], 1001)
    assert (with_repair != plain).any()
    let_go()
    assert len(opened.session.history.steps) == steps + 1
    np.testing.assert_allclose(
        opened.session.project.shots[0].fixes[0].cover.shapes[0].keys[0].points[0], (40, 30), atol=0.5
    )
    settle(opened)


def test_while_a_pin_is_dragged_the_repair_and_the_steady_picture_follow(opened):
    opened.session.go_to(1005)
    press(opened, (Qt.Key.Key_V, SHIFT), Qt.Key.Key_W)
    before = screen(opened)
    let_go = hold(opened, [(80, 60), (86, 62), (92, 64)])
    assert opened.session.project.shots[0].surfaces[0].pins == ()
    placed = placement(opened.shot, opened.shot.surfaces[0])
    shifted = placed.home_to_frame(1005)(np.zeros(2))
    assert 8 < shifted[0] < 16
    during = screen(opened)
    assert (np.abs(during - before) > 8).mean() > 0.05, "held still, the picture moves the other way"
    let_go()
    assert len(opened.session.project.shots[0].surfaces[0].pins) == 1
    settle(opened)


def test_while_a_corner_of_an_area_is_dragged_the_square_on_picture_follows(opened):
    press(opened, Qt.Key.Key_1, Qt.Key.Key_X, (Qt.Key.Key_E, CTRL))
    before = view_key(opened.stage.views.request(1001, Look.RESULT))
    corner = opened.stage.ground().view_from("wall")(np.array([10.0, 10.0]))
    place = QPoint(round(corner[0]), round(corner[1]))
    pull(opened.viewer, [place, place + QPoint(20, 14)], releases=False)
    assert view_key(opened.stage.views.request(1001, Look.RESULT)) != before
    opened.stage.cancel()
    assert view_key(opened.stage.views.request(1001, Look.RESULT)) == before
    settle(opened)


def test_undo_in_the_middle_of_a_drag_takes_the_drag_back_and_nothing_else(opened):
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Screw")
    press(opened, Qt.Key.Key_2)
    shown, steps = opened.session.shown, len(opened.session.history.steps)
    hold(opened, [(60, 40), (50, 35)])
    assert opened.session.shown is not shown
    press(opened, (Qt.Key.Key_Z, CTRL))
    assert opened.session.shown is opened.session.project
    assert opened.shot.fixes[0].name == "Screw"
    assert len(opened.session.history.steps) == steps
    move(opened.viewer, at_view(opened, (45, 30)))
    assert opened.session.shown is opened.session.project, "what follows of the drag does nothing"
    QTest.mouseRelease(opened.viewer, Qt.MouseButton.LeftButton, pos=at_view(opened, (45, 30)))
    assert len(opened.session.history.steps) == steps
    settle(opened)


def test_undo_in_the_middle_of_a_stroke_takes_the_paint_off_the_screen(opened):
    press(opened, Qt.Key.Key_3, Qt.Key.Key_C)
    settle(opened)
    click(opened, (30, 90), ALT)
    before = screen(opened)
    hold(opened, [(70, 50), (75, 52), (82, 55)])
    wait_until(lambda: opened.viewer.has_live)
    press(opened, (Qt.Key.Key_Z, CTRL))
    settle(opened)
    assert not opened.viewer.has_live
    QTest.mouseRelease(opened.viewer, Qt.MouseButton.LeftButton, pos=at_view(opened, (82, 55)))
    assert len(opened.shot.clean_plates[0].painting.strokes) == 1
    np.testing.assert_array_equal(screen(opened), before)


# -- strokes ----------------------------------------------------------------------------------------------------


def ready(window, look=Look.CLEAN_PLATE):
    press(window, Qt.Key.Key_3, Qt.Key.Key_C)
    window.session.set_desk(look=look)
    settle(window)
    click(window, (30, 90), ALT)


@pytest.mark.parametrize("look", [Look.CLEAN_PLATE, Look.RESULT])
def test_the_paint_on_screen_is_the_picture_that_comes(opened, look):
    """Also while the result is looked at on another frame: cover, light and grain are in what the hand sees."""
    if look is Look.RESULT:
        opened.session.go_to(1004)
    ready(opened, look)
    let_go = hold(opened, [(66, 46), (70, 50), (78, 55), (84, 60)])
    wait_until(opened.session.jobs.is_idle)
    wait_until(lambda: opened.viewer.has_live)
    QApplication.processEvents()
    opened.session.set_desk(hides_overlays=True)
    opened.viewer.set_cursor_look(None)
    live = opened.viewer.grab().toImage()
    let_go()
    settle(opened)
    assert not opened.viewer.has_live
    opened.viewer.set_cursor_look(None)
    after = opened.viewer.grab().toImage()
    shown = [
        np.frombuffer(one.constBits(), np.uint8).reshape(one.height(), -1, 4)[..., :3].astype(int)
        for one in (live, after)
    ]
    assert np.abs(shown[0] - shown[1]).max() <= 2  # rounding of the half-transparent rim
    assert len(opened.shot.clean_plates[0].painting.strokes) == 2


def test_strokes_come_in_the_order_of_the_hand(opened):
    """As fast as they can be made, while neighbours are prepared: none overtakes another, none is lost."""
    ready(opened)
    for number in range(25):
        x = 40 + 2.0 * number
        drag(opened, [(x, 30), (x + 6, 40), (x + 10, 52)])
    settle(opened)
    strokes = opened.shot.clean_plates[0].painting.strokes
    assert len(strokes) == 26
    starts = [stroke.points.values[0, 0] for stroke in strokes[1:]]
    assert starts == sorted(starts)
    fresh = Engine(10**9).painted(opened.shot, opened.shot.clean_plates[0])
    np.testing.assert_array_equal(opened.session.engine.painted(opened.shot, opened.shot.clean_plates[0]), fresh)


def test_a_stroke_is_laid_once(opened, monkeypatch):
    """The screen takes the tiles of the hand; it does not lay the stroke again beside it.

    The small picture of the fix's result in the list does where the hand is late: another thread draws it.
    """
    from gommage.core.paint import replays

    ready(opened)
    laid = []
    again = replays.stroke_laid

    def told(*arguments):
        by = [call.name for call in traceback.extract_stack()]
        if "composited" not in by:
            laid.append((arguments[2].id, by))
        return again(*arguments)

    monkeypatch.setattr(replays, "stroke_laid", told)
    for x in (60, 70, 80):
        drag(opened, [(x, 40), (x + 5, 50), (x + 12, 60)])
        settle(opened)
        assert not opened.viewer.has_live
    assert len(opened.shot.clean_plates[0].painting.strokes) == 4
    assert laid == []


def test_a_late_picture_of_the_last_stroke_leaves_the_one_in_the_hand(opened, monkeypatch):
    from gommage.app.picture import views as views_module

    ready(opened)
    gate = threading.Event()

    def late(engine, request, check=lambda: None):
        gate.wait(10)
        return view_pixels(engine, request, check)

    monkeypatch.setattr(views_module, "view_pixels", late)
    drag(opened, [(70, 50), (75, 52)])
    let_go = hold(opened, [(90, 60), (95, 62), (99, 64)])
    wait_until(lambda: opened.viewer.has_live)
    stroke_in_hand = opened.stage.views._held
    assert stroke_in_hand
    gate.set()
    wait_until(lambda: list(opened.viewer._live) == [stroke_in_hand])
    let_go()
    settle(opened)
    assert not opened.viewer.has_live
    assert len(opened.shot.clean_plates[0].painting.strokes) == 3


def test_chosen_strokes_are_changed_and_removed_together(opened):
    ready(opened)
    for x in (60, 70, 80):
        drag(opened, [(x, 50), (x + 4, 54)])
    settle(opened)
    page = opened.panel.page(WorkStep.FILL)
    page = page.part
    view, model = page.strokes, page.strokes.model()
    places = [view.visualRect(model.index(row)).center() for row in (0, 2)]
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=places[0])
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, SHIFT, pos=places[1])
    assert len(opened.desk.stroke_ids) == 3
    assert page.chosen_title.text() == "3 strokes chosen (Esc lets go)"
    opened.viewer.setFocus()
    press(opened, Qt.Key.Key_Delete)
    assert len(opened.shot.clean_plates[0].painting.strokes) == 1
    assert opened.actions_by_id["undo"].text() == "Undo remove 3 strokes"
    settle(opened)


# -- the machine ------------------------------------------------------------------------------------------------


class Told(Receiver):
    def __init__(self):
        self.said = []

    def show(self, step):
        self.said.append(("show", step.label))

    def do(self, step):
        self.said.append(("do", step.label or step.error))

    def drop(self):
        self.said.append(("drop", ""))


def gesture(ends_with):
    event, _ = yield Step("one")
    event, _ = yield Step("two")
    assert event.kind == "move"
    return ends_with


def test_one_machine_runs_every_gesture():
    for ends_with, last in ((Step("done"), ("do", "done")), (None, ("drop", ""))):
        told = Told()
        hand = Hand(told)
        hand.begin(gesture(ends_with))
        assert hand.is_busy
        for _ in range(2):
            hand.feed(PointerEvent("move", 0, 0), None)
        assert told.said == [("show", "one"), ("show", "two"), last]
        assert not hand.is_busy
        hand.feed(PointerEvent("move", 0, 0), None)
        assert len(told.said) == 3
    hand.begin(gesture(None))
    assert hand.cancel()
    assert not hand.cancel()
    assert told.said[-1] == ("drop", "")


# -- shots and windows ------------------------------------------------------------------------------------------


def test_two_shots_in_one_project_do_not_meet(window, small_shot):
    first = with_fix(small_shot, clone())
    second = replace(with_fix(small_shot, clone(dx=20.0)), id="other", name="Other")
    window.session.begin(Project(shots=(first, second)))
    settle(window)
    activate(window)
    assert window.desk.shot_id == "shot"
    one = screen(window)
    window.session.set_desk(shot_id="other", frame=1001)
    settle(window)
    assert (screen(window) != one).any()
    window.session.commit("Rename", edits.change_fix, "other", "fix", name="Screw")
    assert [shot.fixes[0].name for shot in window.session.project.shots] == ["Nail", "Screw"]
    assert window.column.fixes.rows.index(0).data() == "Screw"
    window.session.set_desk(shot_id="shot")
    assert window.column.fixes.rows.index(0).data() == "Nail"
    settle(window)


def test_a_closed_window_is_gone(tmp_path, qapp, small_shot):
    gone = weakref.ref(_closed(tmp_path, small_shot))
    wait_until(lambda: _is_gone(gone))
    assert not any(isinstance(widget, QDialog) for widget in QApplication.topLevelWidgets())


def _closed(tmp_path, shot):
    window = MainWindow(Engine(10**8), (tmp_path / "journals",), tmp_path / "state")
    window.show()
    window.session.begin(Project.of(with_fix(shot, clone())))
    settle(window)
    window.session.go_to(1004)  # work is under way
    window.close()
    wait_until(lambda: not window.isVisible())
    window.deleteLater()
    return window


def _is_gone(gone):
    QApplication.sendPostedEvents(None, 52)  # QEvent.DeferredDelete
    gc.collect()
    return gone() is None


def test_fields_keep_return_for_themselves_and_the_picture_takes_advice(opened):
    press(opened, Qt.Key.Key_2)
    assert opened.panel.advice.words == "Covered."
    opened.frame_box.setFocus()
    opened.frame_box.selectAll()
    QTest.keyClicks(opened.frame_box, "1005")
    settle(opened)  # what comes meanwhile does not touch what is typed
    QTest.keyClick(opened.frame_box, Qt.Key.Key_Return)
    assert opened.desk.frame == 1005
    assert opened.desk.step is WorkStep.COVER
    press(opened, Qt.Key.Key_Return)
    assert opened.desk.step is WorkStep.FILL
    settle(opened)


def test_messages_go_by_themselves(opened, monkeypatch):
    from gommage.app import main_window as module

    monkeypatch.setattr(module, "NOTE_MS", 60)
    opened.session.note_shown.emit("Saved")
    assert opened.words.text() == "Saved"
    wait_until(lambda: opened.words.text() == "")


def test_before_a_shot_is_open_there_is_nothing_but_ways_to_begin(window, small_shot):
    settle(window)
    assert window.welcome.isVisible()
    for part in (window.column, window.panel, window.strip, window.tray, window.view_bar, window.frame_box):
        assert not part.isVisible()
    window.session.begin(Project.of(small_shot))
    settle(window)
    assert not window.welcome.isVisible()
    assert window.panel.isVisible()
    corners = window.viewer.view_from_picture()(np.array([[0.0, 0.0], [160.0, 120.0]]))
    assert (corners[0] > 0).all(), "the picture fits the room that is left"
    assert (corners[1] < (window.viewer.width(), window.viewer.height())).all()


def test_pixels_that_are_not_square_are_shown_as_they_were_filmed(window, small_shot):
    wide = replace(small_shot, footage=replace(small_shot.footage, pixel_aspect=2.0))
    window.session.begin(Project.of(wide))
    settle(window)
    (left, top), (right, bottom) = window.viewer.view_from_picture()(np.array([[0.0, 0.0], [160.0, 120.0]]))
    assert (right - left) / (bottom - top) == pytest.approx(2 * 160 / 120)
    at = at_view(window, (40, 30))
    back = window.stage.ground().view_from_frame.inverse()(np.array([at.x(), at.y()]))
    np.testing.assert_allclose(back, (40, 30), atol=1.0)
