"""Painting on the shot in the window: real presses and keys, strokes as records, what is seen of them."""

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QToolButton

from gommage.app.brush_commands import BrushCommands
from gommage.app.desk import BRUSHES, Life
from gommage.app.look.controls import DragNumber
from gommage.app.paint_commands import PaintCommands
from gommage.core.document import Blend, FrameOffset, Frames, Painted, PinnedFrame, PlatePicture, Pressure, Tones, Tool
from gommage.core.engine import Look, Step
from tests.app import driving
from tests.app.driving import ALT, CTRL, SHIFT, at_view, click, drag, find, move, press, pull
from tests.app.painting import choose, strokes, type_in
from tests.conftest import settle, wait_until


def pixel(window, frame, x, y):
    return window.session.engine.result(window.shot, frame)[y, x]


def test_a_fix_that_is_nothing_but_strokes(painting):
    fix = painting.desk.fix(painting.session.project)
    assert (fix.name, fix.surface_id, fix.fill) == ("Paint 1", "wall", Painted())
    assert (painting.desk.look, painting.desk.step, painting.desk.tool) == (Look.RESULT, Step.FILL, "clone")
    before = pixel(painting, 1003, 70, 50)
    drag(painting, [(70, 50), (74, 52)])
    assert not strokes(painting)
    assert "no source yet" in painting.words.text()
    click(painting, (70, 80), ALT)
    drag(painting, [(70, 50), (74, 52), (78, 54)])
    settle(painting)
    (one,) = strokes(painting)
    assert (one.surface_id, one.frames, one.source.dx, one.source.dy) == ("wall", (), 0, 30)
    np.testing.assert_allclose(
        pixel(painting, 1003, 72, 51), painting.session.engine.plate(painting.shot.footage, 1003)[81, 72], atol=1e-6
    )
    assert painting.session.history.undo_label == "Clone stroke"
    painting.call("undo")
    settle(painting)
    np.testing.assert_array_equal(pixel(painting, 1003, 70, 50), before)


@pytest.mark.parametrize(
    ("life", "frames"),
    [
        (Life.THIS, (Frames(first=1001, last=1001),)),
        (Life.ON, (Frames(first=1001),)),
        (Life.UP_TO, (Frames(last=1001),)),
        (Life.ALL, ()),
        (Life.MARKED, (Frames(first=1002, last=1003),)),
    ],
)
def test_a_stroke_lives_on_the_frames_that_are_chosen(painting, life, frames):
    painting.session.set_desk(marked=(1002, 1003))
    choose(painting, "Frames of the next stroke", life)
    click(painting, (70, 80), ALT)
    drag(painting, [(70, 50), (74, 52)])
    settle(painting)
    assert strokes(painting)[0].frames == frames


def test_pixels_from_another_frame_are_seen_in_the_brush_before_they_are_laid(painting):
    assert painting.viewer._source_image is None
    type_in(painting, "Source's frame", 2)
    settle(painting)
    assert painting.viewer._source_image is not None
    assert "frame 1003" in painting.tray.brush_line.source.text()
    drag(painting, [(70, 50), (74, 52)])
    settle(painting)
    source = strokes(painting)[0].source
    assert (source.time, source.dx, source.dy, source.runs_along) == (FrameOffset(frames=2), 0, 0, True)
    below = replace(painting.shot, fixes=painting.shot.fixes[:1])  # with its repair
    wanted = painting.session.engine.result(below, 1003)[51, 71]
    np.testing.assert_allclose(pixel(painting, 1001, 71, 51), wanted, atol=1e-6)
    QTest.keyPress(painting.viewer, Qt.Key.Key_Y)
    assert painting.viewer._shows_source
    QTest.keyRelease(painting.viewer, Qt.Key.Key_Y)
    assert not painting.viewer._shows_source
    choose(painting, "Source's time", "pinned")
    type_in(painting, "Source's frame", 1005)
    find(painting.tray, QToolButton, "More of the brush").click()
    pictures = find(painting.tray.brush_line.popup, QComboBox, "Picture of the next stroke")
    driving.choose(pictures, pictures.findText("the plate"))
    painting.tray.brush_line.popup.close()
    find(painting.tray, QCheckBox, "Along the surface").setChecked(False)
    drag(painting, [(90, 50), (94, 52)])
    settle(painting)
    source = strokes(painting)[1].source
    assert (source.time, source.picture, source.runs_along) == (PinnedFrame(frame=1005), PlatePicture(), False)


def test_the_source_is_nudged_by_keys(painting):
    click(painting, (70, 80), ALT)
    drag(painting, [(70, 50), (74, 52)])
    press(painting, (Qt.Key.Key_Right, CTRL), (Qt.Key.Key_Up, ALT))
    drag(painting, [(90, 50), (94, 52)])
    settle(painting)
    source = strokes(painting)[1].source
    assert (source.dx, source.dy) == pytest.approx((1, 29.9))


def test_each_brush_keeps_what_it_was_set_to(painting):
    type_in(painting, "Size", 44)
    choose(painting, "Frames of the next stroke", Life.THIS)
    press(painting, Qt.Key.Key_0)
    assert painting.desk.tool == "lighten"
    type_in(painting, "Size", 90)
    type_in(painting, "Strength", 80)
    choose(painting, "Tones", Tones.SHADOWS)
    choose(painting, "Pressure", "nothing")
    choose(painting, "Frames of the next stroke", Life.ALL)
    press(painting, Qt.Key.Key_C)
    assert (painting.desk.brush.size_px, painting.desk.life) == (44, Life.THIS)
    press(painting, Qt.Key.Key_0)
    brush = painting.desk.brush
    assert (brush.size_px, brush.strength, brush.tones, brush.pressure) == (90, 0.8, Tones.SHADOWS, ())
    assert painting.desk.life is Life.ALL
    assert Pressure.SIZE in painting.desk.kept[0][1].pressure


@pytest.mark.parametrize("tool", BRUSHES)
def test_every_brush_paints_by_the_hand(painting, tool):
    click(painting, (70, 80), ALT)
    painting.call("tool_colour")
    drag(painting, [(70, 46), (76, 50)])
    settle(painting)
    before = painting.session.engine.result(painting.shot, 1001)
    painting.call(f"tool_{tool}")
    if tool == "colour":
        click(painting, (40, 80), ALT)
        assert "Colour" in painting.words.text()
    drag(painting, [(68, 44), (72, 48), (78, 52)])
    settle(painting)
    assert strokes(painting)[-1].brush.tool is Tool(tool)
    assert len(strokes(painting)) == 2
    assert (painting.session.engine.result(painting.shot, 1001) != before).any()


def test_back_to_the_clean_plate_and_to_the_shot(painting):
    combo = find(painting.panel.page(Step.FILL), QComboBox, "Paint on")
    driving.choose(combo, combo.findData("plate"))
    assert not painting.desk.paints_shot
    assert painting.desk.look is Look.CLEAN_PLATE
    count = len(painting.shot.clean_plates[0].painting.strokes)
    click(painting, (70, 80), ALT)
    drag(painting, [(70, 50), (74, 52)])
    settle(painting)
    assert len(painting.shot.clean_plates[0].painting.strokes) == count + 1
    assert painting.shot.clean_plates[0].painting.strokes[-1].frames == ()


def test_where_the_surface_is_not_the_hand_says_so(painting):
    from gommage.core.document import FrameRange, edits

    painting.session.commit("Trim", edits.trim_track, "shot", "wall", FrameRange(first=1001, last=1003))
    painting.session.go_to(1005)
    settle(painting)
    drag(painting, [(70, 50), (74, 52)])
    assert "does not lie on this frame" in painting.words.text()
    settle(painting)


def test_every_command_of_painting_stands_in_a_menu(painting):
    public = {name for name in vars(PaintCommands) if not name.startswith("_")}
    public |= {name for name in vars(BrushCommands) if not name.startswith("_")}
    assert public <= set(painting.actions_by_id) | {"remove_strokes"}
    assert {f"tool_{tool}" for tool in BRUSHES} <= set(painting.actions_by_id)


def test_turned_mirrored_and_blended_strokes(painting):
    form = painting.tray.brush_line.form
    click(painting, (70, 80), ALT)
    find(painting.tray, QToolButton, "More of the brush").click()
    form.source_changed.emit({"turn_deg": 90.0}, True)
    form.source_changed.emit({"is_mirrored": True}, True)
    form.brush_changed.emit({"blend": Blend.LIGHTER}, True)
    find(form, QCheckBox, "Red of the next stroke").click()
    painting.tray.brush_line.popup.close()
    drag(painting, [(70, 50), (74, 52)])
    settle(painting)
    (stroke,) = strokes(painting)
    assert (stroke.source.turn_deg, stroke.source.is_mirrored) == (90, True)
    assert (stroke.brush.blend, stroke.brush.channels) == (Blend.LIGHTER, "gb")
    painting.session.set_desk(stroke_ids=(stroke.id,))
    chosen = painting.panel.page(Step.FILL).part
    find(chosen, DragNumber, "Turn of the chosen strokes").setValue(45)
    find(chosen, DragNumber, "Source y of the chosen strokes").setValue(12)
    find(chosen, DragNumber, "Flow of the chosen strokes").setValue(40)
    (stroke,) = strokes(painting)
    assert (stroke.source.turn_deg, stroke.source.dy, stroke.brush.flow) == (45, 12, pytest.approx(0.4))
    settle(painting)


def test_another_fix_is_offered_as_a_source_only_if_it_lies_behind(painting):
    behind, own = painting.shot.fixes
    line = painting.tray.brush_line
    line.more.click()
    names = [line.form.picture.itemText(row) for row in range(line.form.picture.count())]
    line.popup.close()
    assert f"fix {behind.name}" in names
    assert f"fix {own.name}" not in names
    painting.session.set_desk(fix_id=behind.id)
    line.more.click()
    names = [line.form.picture.itemText(row) for row in range(line.form.picture.count())]
    line.popup.close()
    assert not [name for name in names if name.startswith("fix ")]


def test_a_source_is_found_shown_and_taken_by_painting(painting):
    painting.session.go_to(1003)
    settle(painting)
    at = at_view(painting, (70, 50))
    move(painting.viewer, at)
    press(painting, (Qt.Key.Key_S, ALT))
    settle(painting)
    found = painting.desk.candidates
    assert len(found) > 1
    assert "Source 1 of" in painting.words.text()
    assert painting.desk.source == found[0].source
    press(painting, (Qt.Key.Key_S, ALT))
    assert painting.desk.source == found[1].source
    press(painting, (Qt.Key.Key_A, ALT))
    assert painting.desk.source == found[0].source
    drag(painting, [(70, 50), (74, 52)])
    settle(painting)
    (stroke,) = strokes(painting)
    assert (stroke.source.dx, stroke.source.dy) == (found[0].source.dx, found[0].source.dy)
    assert stroke.source.time == FrameOffset(frames=found[0].source_frames)


def test_brushes_and_sources_are_kept_on_keys(painting):
    click(painting, (70, 80), ALT)
    drag(painting, [(70, 50), (74, 52)])
    type_in(painting, "Size", 17)
    press(painting, (Qt.Key.Key_F5, SHIFT), (Qt.Key.Key_1, CTRL | SHIFT))
    kept = painting.desk.source
    painting.call("tool_heal")
    type_in(painting, "Size", 40)
    click(painting, (20, 20), ALT)
    press(painting, (Qt.Key.Key_1, CTRL), Qt.Key.Key_F5)
    assert (painting.desk.tool, painting.desk.brush.size_px) == ("clone", 17)
    assert painting.desk.source == kept
    press(painting, Qt.Key.Key_F6)
    assert "No brush is kept" in painting.words.text()
    settle(painting)


def test_a_drag_from_the_target_sets_the_source_in_one_go(painting):
    drag(painting, [(70, 50), (60, 60), (55, 80)], ALT)
    assert (painting.desk.source.dx, painting.desk.source.dy) == (-15, 30)
    drag(painting, [(70, 50), (74, 52)])
    assert (strokes(painting)[0].source.dx, strokes(painting)[0].source.dy) == (-15, 30)
    settle(painting)


def test_size_and_softness_are_dragged_while_a_key_is_held(painting):
    before = painting.desk.brush
    QTest.keyPress(painting.viewer, Qt.Key.Key_H)
    x, y = at_view(painting, (70, 50)).toTuple()
    pull(painting.viewer, [QPoint(x, y), QPoint(x + 40, y), QPoint(x + 90, y - 40)])
    QTest.keyRelease(painting.viewer, Qt.Key.Key_H)
    assert painting.desk.brush.size_px == pytest.approx(2 * before.size_px)
    assert painting.desk.brush.softness == pytest.approx(before.softness - 0.25)
    assert strokes(painting) == ()
    press(painting, (Qt.Key.Key_T, ALT))
    assert painting.desk.brush.softness == pytest.approx(before.softness - 0.15)


def test_straight_pieces_are_set_corner_by_corner(painting):
    type_in(painting, "Source's frame", 2)
    for corner in ((40, 40), (80, 42)):
        click(painting, corner, CTRL)
    assert strokes(painting) == ()
    click(painting, (82, 70))
    (stroke,) = strokes(painting)
    assert len(stroke.points.values) == 3
    np.testing.assert_allclose(stroke.points.values[:, 2], 1)
    settle(painting)


@pytest.mark.parametrize("tool", ["clone", "heal"])
def test_where_the_pen_rests_the_brush_shows_the_very_pixels_that_it_lays(painting, tool):
    painting.call(f"tool_{tool}")
    type_in(painting, "Softness", 0)
    click(painting, (70, 80), ALT)
    drag(painting, [(30, 50), (31, 50)])
    settle(painting)
    at = at_view(painting, (70, 50))
    QTest.mouseMove(painting.viewer, at + QPoint(3, 0))
    painting.viewer._feed("move", QPointF(at), Qt.KeyboardModifier.NoModifier, 0.0)
    wait_until(lambda: painting.viewer._dab is not None)
    window, dab = painting.viewer._dab
    settle(painting)
    drag(painting, [(70, 50), (70, 50)])
    settle(painting)
    shown = painting.viewer.grab().toImage()
    middle = QPoint(at.x() - 20, at.y() + 12)  # inside the brush, beside its marks
    wanted = dab.pixelColor(middle.x() - window.left, middle.y() - window.top)
    found = shown.pixelColor(middle)
    assert max(abs(a - b) for a, b in zip(found.getRgb(), wanted.getRgb(), strict=True)) <= 1


def test_sources_of_a_clean_plate_are_counted_from_its_own_frame(painting):
    painting.session.set_desk(paints_shot=False, look=Look.RESULT)
    painting.session.go_to(1005)
    settle(painting)
    painting.viewer.pen_at = QPointF(at_view(painting, (70, 50)))
    painting.call("find_source")
    settle(painting)
    home = painting.shot.clean_plates[0].home_frame
    found = {one.source_frames for one in painting.desk.candidates}
    assert found
    assert all(home + away in painting.shot.footage.frames for away in found)
    choose(painting, "Source's time", "pinned")
    type_in(painting, "Source's frame", home)
    assert "frame" not in painting.tray.brush_line.source.text()  # the plate's own frame is no other one
