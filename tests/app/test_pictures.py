"""Pictures laid on a surface in the window: chosen, dragged by their corners, blended, cut out, saved elsewhere."""

import cv2
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QFileDialog, QLabel, QPushButton

from gommage.app.steps.fill.picture import PicturePart
from gommage.core.document import (
    Array,
    Blend,
    Fix,
    Footage,
    FrameOffset,
    FrameRange,
    Matte,
    PinnedFrame,
    Placed,
    Project,
    Rim,
    Shot,
    Softness,
    Still,
    Surface,
    edits,
)
from gommage.core.engine import Step
from gommage.core.picture.writing import write_still
from tests.app.driving import ALT, SHIFT, choose, drag, find, press
from tests.conftest import rectangle, settle, shape_of, wait_until

WIDTH, HEIGHT = 320, 220
CARD = np.array([[80.0, 60.0], [240.0, 60.0], [240.0, 160.0], [80.0, 160.0]])


def wall(folder, frames=4):
    rng = np.random.default_rng(3)
    wide = cv2.GaussianBlur(rng.random((HEIGHT, WIDTH, 3)).astype(np.float32), (0, 0), 4) * 0.8 + 0.1
    for frame in range(1001, 1001 + frames):
        write_still(folder / f"wall.{frame}.exr", (wide + (frame - 1001) * 0.1).astype(np.float32), bits=32)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=1001, last=1000 + frames),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    surface = Surface(id="wall", name="Wall", home_frame=1001,
                      how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))  # fmt: skip
    cover = Matte.of(shape_of(CARD, 1001, "c"), surface_id="wall", softness=Softness())
    fix = Fix(id="f", name="Card", surface_id="wall", cover=cover)
    return Shot(id="shot", name="Wall", footage=footage, surfaces=(surface,), fixes=(fix,))


@pytest.fixture
def hung(window, tmp_path):
    """The window with a wall, a card that is covered, and a picture of another size on disk."""
    (tmp_path / "plate").mkdir()
    picture = np.full((50, 80, 3), 40, np.uint8)
    cv2.circle(picture, (40, 25), 14, (230, 60, 30), -1)
    write_still(tmp_path / "notice.png", picture, bits=8)
    window.session.begin(Project(shots=(wall(tmp_path / "plate"),)))
    settle(window)
    window.call("fit_view")
    window.session.set_desk(fix_id="f", fix_ids=("f",), surface_id="wall", step=Step.FILL)
    settle(window)
    return window, tmp_path / "notice.png"


def fill_of(window, fix_id="f"):
    return window.shot.fix(fix_id).fill


def lay(window, path):
    window.of_steps.pictures.fill_from_picture(path)
    settle(window)


def shown(window, frame, x, y):
    return window.session.engine.result(window.shot, frame)[int(y), int(x)]


def told(window, name, value):
    """Choose from a combo box, as a hand does."""
    combo = find(window, QComboBox, name)
    choose(combo, combo.findData(value))
    settle(window)


def test_a_picture_fills_the_cover_and_is_dragged_by_corners_sides_and_inside(hung):
    window, path = hung
    lay(window, path)
    np.testing.assert_allclose(fill_of(window).corners.values, CARD, atol=1e-6)  # 8 to 5, as the card is
    assert window.session.desk.tool == "picture"
    assert "notice.png" in find(window, QLabel, "Picture").text()
    drag(window, [(240, 160), (250, 168), (262, 178)])
    np.testing.assert_allclose(fill_of(window).corners.values[2], (262, 178), atol=1)
    np.testing.assert_allclose(fill_of(window).corners.values[:2], CARD[:2], atol=1e-6)
    window.call("undo")
    drag(window, [(160, 60), (160, 50), (160, 40)])  # the upper side
    np.testing.assert_allclose(fill_of(window).corners.values[:2], [[80, 40], [240, 40]], atol=1)
    drag(window, [(150, 110), (160, 115), (170, 120)])  # all of it
    np.testing.assert_allclose(fill_of(window).corners.values, [[100, 50], [260, 50], [260, 170], [100, 170]], atol=1)
    before = fill_of(window).corners.values
    drag(window, [(260, 170), (200, 130), (180, 110)], SHIFT)  # evenly, about the opposite corner
    after = fill_of(window).corners.values
    np.testing.assert_allclose(after[0], before[0], atol=1e-6)
    ratio = np.ptp(after, axis=0) / np.ptp(before, axis=0)
    assert ratio[0] == pytest.approx(ratio[1], abs=1e-6)
    assert ratio[0] == pytest.approx(0.5, abs=0.03)
    window.call("fit_picture")
    np.testing.assert_allclose(fill_of(window).corners.values, CARD, atol=1e-6)


def test_a_corner_cannot_be_drawn_across_the_others(hung):
    window, path = hung
    lay(window, path)
    drag(window, [(240, 160), (150, 100), (40, 30)])
    corners = fill_of(window).corners.values
    assert corners[2][0] > 80  # it stayed where it was last possible


def test_without_a_fix_a_picture_becomes_one_that_covers_what_it_reaches_over(hung):
    window, path = hung
    window.session.set_desk(fix_id="", fix_ids=())
    lay(window, path)
    fix = window.shot.fixes[-1]
    assert (fix.name, fix.surface_id) == ("Picture 1", "wall")
    assert len(fix.cover.parts) == 1
    corners = fill_of(window, fix.id).corners.values
    drag(window, [corners[0], corners[0] + 6, corners[0] + 12])
    moved = window.shot.fix(fix.id)
    np.testing.assert_array_equal(
        moved.cover.parts[0].source.shape.keys[0].vertices.values[:, :2], moved.fill.corners.values
    )
    assert shown(window, 1001, *(moved.fill.corners.values.mean(axis=0)))[0] > 0.5  # the red dot is in its middle


def test_blend_and_ticks_reach_the_picture(hung):
    window, path = hung
    lay(window, path)
    told(window, "How it is laid", Blend.MULTIPLY)
    assert fill_of(window).blend is Blend.MULTIPLY
    below = window.session.engine.plate(window.shot.footage, 1001)[70, 100]
    assert (shown(window, 1001, 100, 70) < below).all()
    part = window.findChild(PicturePart)
    find(part, QCheckBox, "Along the surface").click()
    find(part, QCheckBox, "Shows the shot").click()
    assert (fill_of(window).runs_along, fill_of(window).is_of_shot) == (False, True)


def test_its_subject_is_cut_out_by_scribbles(hung):
    window, path = hung
    lay(window, path)
    press(window, (Qt.Key.Key_C, ALT))
    assert window.session.desk.tool == "scribble"
    drag(window, [(150, 108), (160, 110), (170, 114)])
    drag(window, [(90, 70), (160, 66), (230, 70), (232, 110), (230, 150), (160, 152), (90, 150)], ALT)
    settle(window)
    marks = fill_of(window).subject.parts[0].source.marks
    assert [mark.is_inside for mark in marks] == [True, False]
    np.testing.assert_allclose(marks[0].points.values[0], (35, 24), atol=0.5)  # in the picture's own pixels
    below = window.session.engine.plate(window.shot.footage, 1001)
    assert shown(window, 1001, 160, 110)[0] > 0.5
    np.testing.assert_allclose(shown(window, 1001, 95, 140), below[140, 95], atol=0.02)
    find(window, QPushButton, "All of it").click()
    assert not fill_of(window).subject.parts


def test_another_frame_is_laid_over_and_its_number_stays_when_it_is_told_otherwise(hung):
    window, _ = hung
    window.call("lay_near_frame")
    settle(window)
    fill = fill_of(window)
    assert (fill.footage, fill.time) == (None, PinnedFrame(frame=1001))  # ten before there are none
    find(window, QDoubleSpinBox, "Number").setValue(1003)
    settle(window)
    assert fill_of(window).time == PinnedFrame(frame=1003)
    window.session.commit("light by hand", edits.change_match, "shot", "f", light=_by_hand())
    np.testing.assert_allclose(
        shown(window, 1001, 150, 110), window.session.engine.plate(window.shot.footage, 1003)[110, 150], atol=0.02
    )  # but for the grain that is laid anew: this wall has none to speak of
    told(window, "Which picture", "offset")
    assert fill_of(window).time == FrameOffset(frames=2)
    assert find(window, QDoubleSpinBox, "Number").value() == 2


def _by_hand():
    from gommage.core.document import LightMatch

    return LightMatch(is_measured=False)


def test_what_another_program_saves_is_shown_at_once(hung):
    window, path = hung
    lay(window, path)
    first = fill_of(window).footage.stamp
    write_still(path, np.full((50, 80, 3), 250, np.uint8), bits=8)
    wait_until(lambda: fill_of(window).footage.stamp != first)
    settle(window)
    assert shown(window, 1001, 160, 110).min() > 0.8


def test_a_file_dialog_that_is_called_off_leaves_the_panel_as_it_was(hung, monkeypatch):
    window, path = hung
    lay(window, path)
    before = fill_of(window)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *args, **fields: ("", ""))
    combo = find(window, QComboBox, "Fill from")
    window.session.commit("rim", edits.change_fix, "shot", "f", fill=Rim())
    told(window, "Fill from", "fill_from_picture")
    assert combo.currentData() == "fill_from_rim"
    window.call("undo")
    assert fill_of(window) == before


def test_what_cannot_be_laid_is_said_in_one_sentence(hung, hear):
    window, path = hung
    said = []
    hear(window.session.error_shown, said.append)
    bad = path.with_name("torn.png")
    bad.write_bytes(path.read_bytes()[:60])
    lay(window, bad)
    assert len(said) == 1
    assert "torn.png" in said[0]
    assert not isinstance(fill_of(window), Placed)
    window.session.commit("bare", edits.change_fix, "shot", "f", cover=Matte())
    window.call("lay_near_frame")
    assert "Cover what" in said[-1]
