"""The Fill step in the window: other frames, what they show, merged plates, plates out to an editor and back."""

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel, QListWidget, QPushButton, QToolButton

from gommage.app.actions import ACTIONS
from gommage.app.dialogs.home_frame import HomeFrameDialog
from gommage.app.plate_commands import PlateCommands
from gommage.app.steps.fill.commands import FillCommands
from gommage.app.steps.fill.texture import TextureCommands
from gommage.core.document import Donors, DonorSide, FromPicture, Matte, Merged, Painted, Plates, Project, Rim, Softness
from gommage.core.engine import Look, State, Step
from gommage.core.picture.writing import write_still
from gommage.demo.editor import paint_dot
from tests.app import driving
from tests.app.driving import ALT, SHIFT, activate, at_view, find, move, press
from tests.conftest import rectangle, settle, shape_of, wait_until
from tests.fill.test_donors import MIDDLE, clean, filmed, inner

DUST = Matte.of(shape_of(rectangle(22, 22, 36, 36), MIDDLE, "dust"), softness=Softness())


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    return filmed(tmp_path_factory.mktemp("fill"))


@pytest.fixture
def filling(window, shot):
    """The window on a board that passes a wall, in Fill, still to be filled."""
    (fix,) = shot.fixes
    window.session.begin(Project.of(replace(shot, fixes=(replace(fix, fill=Plates()),))))
    settle(window)
    activate(window)
    press(window, Qt.Key.Key_3)
    window.session.go_to(MIDDLE)
    settle(window)
    return window


def choose(window, name, data):
    """Choose an entry of a field of the panel, as a hand does."""
    combo = find(window.panel, QComboBox, name)
    driving.choose(combo, combo.findData(data))
    settle(window)


def fix_of(window):
    return window.shot.fixes[0]


def test_every_public_command_is_in_the_table(window):
    known = {one.id for one in ACTIONS}
    own = {
        "change_donors",
        "change_rim",
        "merged_scale",
        "first_proposal",
        "texture_of_this_frame",
        "square_on_texture",
        "take_from_anywhere",
        "close_rest",
        "draw_take_from",
        "draw_not_from",
        "edit_guides",
        "close_with",
        "change_span",
    }  # what fields of the page do
    for kind in (FillCommands, PlateCommands, TextureCommands):
        assert {name for name in vars(kind) if not name.startswith("_")} - own <= known


def test_one_press_brings_what_is_behind_from_other_frames(filling):
    press(filling, (Qt.Key.Key_P, SHIFT))
    settle(filling)
    assert fix_of(filling).fill == Donors(surface_ids=("wall",))
    assert find(filling, QComboBox, "Fill from").currentText() == "Other frames"
    result = filling.session.engine.result(filling.shot, MIDDLE)[inner(MIDDLE)]
    assert np.abs(result - clean(MIDDLE)[inner(MIDDLE)]).mean() < 0.02
    wait_until(lambda: filling.session.seen(fix_of(filling).id))
    settle(filling)
    assert "Everything it hides" in find(filling, QLabel, "Seen elsewhere").text()
    assert filling.session.summary.steps["f"][Step.FILL].words == ""
    choose(filling, "Fill from", "fill_by_strokes")
    assert isinstance(fix_of(filling).fill, Painted)
    filling.call("undo")
    assert isinstance(fix_of(filling).fill, Donors)


def test_bounds_and_surfaces_are_set_in_the_panel(filling):
    press(filling, (Qt.Key.Key_P, SHIFT))
    settle(filling)
    QTest.mouseClick(find(filling.panel, QToolButton, "Fold frames"), Qt.MouseButton.LeftButton)
    choose(filling, "Donors on which side", DonorSide.BEFORE)
    assert fix_of(filling).fill.side is DonorSide.BEFORE
    filling.session.set_desk(marked=(1001, 1006))
    settle(filling)
    page = filling.panel.page(Step.FILL)
    page.donors.marked.click()
    (one,) = fix_of(filling).fill.frames
    assert (one.first, one.last) == (1001, 1006)
    surfaces = find(filling, QListWidget, "Surfaces behind")
    board, wall = surfaces.item(0), surfaces.item(1)
    assert (board.text(), wall.text()) == ("Board", "Wall")
    board.setCheckState(Qt.CheckState.Checked)
    assert fix_of(filling).fill.surface_ids == ("wall", "board")


def test_what_no_frame_shows_is_said_mapped_and_offered(filling):
    filling.session.set_desk(marked=(MIDDLE - 1, MIDDLE + 1))
    press(filling, (Qt.Key.Key_P, SHIFT))
    settle(filling)
    filling.panel.page(Step.FILL).donors.marked.click()
    # what was seen of all frames is told until the marked ones were looked at
    wait_until(lambda: filling.session.seen("f").get(MIDDLE, 1.0) < 0.9)
    wait_until(lambda: filling.session.summary.steps["f"][Step.FILL].words.startswith("No frame shows"))
    settle(filling)
    press(filling, Qt.Key.Key_P)
    settle(filling)
    assert filling.desk.look is Look.DONOR_MAP
    assert find(filling, QPushButton, "Least seen").isEnabled()
    filling.session.set_desk(marked=None)
    press(filling, Qt.Key.Key_Return)  # what is advised: a clean plate for the rest
    wait_until(lambda: filling.shot.clean_plates and not filling.work.is_busy)
    settle(filling)
    (plate,) = filling.shot.clean_plates
    assert isinstance(plate.base, Merged)
    assert fix_of(filling).fill.rest_plate_ids == (plate.id,)
    assert (filling.desk.look, filling.desk.plate_id, filling.desk.tool) == (Look.CLEAN_PLATE, plate.id, "clone")
    result = filling.session.engine.result(filling.shot, MIDDLE)[inner(MIDDLE)]
    assert np.abs(result - clean(MIDDLE)[inner(MIDDLE)]).mean() < 0.02


def test_a_merged_plate_fills_and_goes_out_and_comes_back(filling, tmp_path):
    filling.session.set_desk(surface_id="wall")
    settle(filling)
    press(filling, (Qt.Key.Key_M, ALT))
    wait_until(lambda: filling.shot.clean_plates and not filling.work.is_busy)
    settle(filling)
    (plate,) = filling.shot.clean_plates
    path = tmp_path / "wall.exr"
    filling.plates.plate_to_file(path)
    wait_until(lambda: isinstance(filling.shot.clean_plates[0].base, FromPicture))
    settle(filling)
    assert path.is_file()
    before = filling.shot.clean_plates[0].base.stamp
    left, top = plate.window[:2]
    paint_dot(path, 60 - left, 60 - top, 6, (0.9, 0.1, 0.1), forgets=True)
    wait_until(lambda: filling.shot.clean_plates[0].base.stamp != before)
    settle(filling)
    shown = filling.session.engine.painted(filling.shot, filling.shot.clean_plates[0])
    np.testing.assert_allclose(shown[60 - top, 60 - left], (0.9, 0.1, 0.1), atol=1e-3)
    assert "saved elsewhere" in filling.session.history.undo_label


def test_a_merged_plate_is_made_finer(filling):
    filling.session.set_desk(surface_id="wall")
    settle(filling)
    assert not find(filling, QComboBox, "Resolution").isVisible()
    press(filling, (Qt.Key.Key_M, ALT))
    wait_until(lambda: filling.shot.clean_plates and not filling.work.is_busy)
    settle(filling)
    assert find(filling, QComboBox, "Resolution").isVisible()
    choose(filling, "Resolution", 2.0)
    wait_until(lambda: filling.shot.clean_plates[0].scale == 2)
    settle(filling)
    (plate,) = filling.shot.clean_plates
    left, top, right, bottom = plate.window
    painted = filling.session.engine.painted(filling.shot, plate)
    assert painted.shape[:2] == (2 * (bottom - top), 2 * (right - left))
    assert filling.desk.look is Look.CLEAN_PLATE
    assert filling.session.history.undo_label == f"{plate.name} at 2 times the resolution"
    filling.call("undo")
    settle(filling)
    assert find(filling, QComboBox, "Resolution").currentData() == 1.0


def test_a_picture_that_says_nothing_asks_for_its_frame(filling, tmp_path, monkeypatch):
    asked = []

    def answer(dialog):
        asked.append(dialog.frame)
        dialog._box.setValue(1005)
        return 1

    monkeypatch.setattr(HomeFrameDialog, "exec", answer)
    filling.session.set_desk(surface_id="wall")
    path = tmp_path / "painted.1007.exr"
    write_still(path, clean(1005), bits=32)
    filling.plates.plate_from_picture(path)
    wait_until(lambda: filling.shot.clean_plates)
    settle(filling)
    assert asked == [1007]
    assert filling.shot.clean_plates[0].home_frame == 1005


def test_the_map_tells_the_frame_under_the_pen(filling):
    press(filling, (Qt.Key.Key_P, SHIFT))
    press(filling, Qt.Key.Key_P)
    settle(filling)
    rows, columns = inner(MIDDLE)
    place = at_view(filling, ((columns.start + columns.stop) / 2, (rows.start + rows.stop) / 2))
    move(filling.viewer, place)
    words = find(filling, QLabel, "Value under the pen").text()
    assert " could give it" in words
    frame = int(words.split("from ")[1].split(",")[0])
    assert frame in filling.shot.footage.frames
    assert frame != MIDDLE


def test_without_a_surface_each_piece_is_looked_for_by_itself(filling):
    bare = replace(filling.shot, surfaces=(), fixes=(replace(fix_of(filling), surface_id="", cover=DUST),))
    filling.session.begin(Project.of(bare))
    settle(filling)
    press(filling, Qt.Key.Key_3)
    filling.session.go_to(MIDDLE)
    press(filling, (Qt.Key.Key_P, SHIFT))
    settle(filling)
    assert fix_of(filling).fill == Donors()
    assert "Each piece by itself" in find(filling, QLabel, "How frames are brought").text()
    assert not find(filling, QListWidget, "Surfaces behind").isVisible()
    assert "looked for by itself" in filling.words.text()
    before, after = (read(filling.shot) for read in (
        lambda shot: filling.session.engine.plate(shot.footage, MIDDLE),
        lambda shot: filling.session.engine.result(shot, MIDDLE),
    ))  # fmt: skip
    assert (before != after).any()
    np.testing.assert_allclose(after[22:36, 22:36], clean(MIDDLE)[22:36, 22:36], atol=0.1)


def test_marks_are_filled_from_their_rim(filling):
    choose(filling, "Fill from", "fill_from_rim")
    assert fix_of(filling).fill == Rim()
    assert filling.session.summary.steps["f"][Step.FILL].state is State.FINE
    assert not find(filling, QPushButton, "Merged").isVisible()
    engine, shot = filling.session.engine, filling.shot
    plate, result = engine.plate(shot.footage, MIDDLE), engine.result(shot, MIDDLE)
    red = [float((one[inner(MIDDLE)][..., 0] - one[inner(MIDDLE)][..., 1]).mean()) for one in (plate, result)]
    assert red[1] < 0.3 * red[0]
    QTest.mouseClick(find(filling.panel, QCheckBox, "Evenness found by itself"), Qt.MouseButton.LeftButton,
                     pos=QPoint(8, 8))  # fmt: skip
    settle(filling)
    assert fix_of(filling).fill == Rim(evenness=10.0)
    assert filling.panel.pages[Step.FILL].rim.evenness.isVisible()
    press(filling, Qt.Key.Key_4)
    settle(filling)
    assert not find(filling.panel, QCheckBox, "Match light").isVisible()
    assert not find(filling.panel, QCheckBox, "As blurred as the frame").isVisible()
    filling.call("undo")
    assert fix_of(filling).fill == Rim()


def test_how_steadily_a_rim_is_grown_in_is_set_beside_its_evenness(filling):
    """One step of history a drag; what else was set stays; by key from any step."""
    press(filling, (Qt.Key.Key_Y, Qt.KeyboardModifier.ShiftModifier))
    settle(filling)
    assert fix_of(filling).fill == Rim()
    press(filling, Qt.Key.Key_3)
    settle(filling)
    rim = filling.panel.pages[Step.FILL].rim
    rides = bool(fix_of(filling).surface_id) or any(one.surface_id for _, one in fix_of(filling).cover.drawn)
    assert rim.steadied.isVisible() == rides
    rim.steadied.value_changed.emit(3.0, False)
    rim.steadied.value_changed.emit(4.0, True)
    rim.evenness.value_changed.emit(30.0, True)
    settle(filling)
    assert fix_of(filling).fill == Rim(evenness=30.0, steadied_by=4)
    filling.call("undo")
    assert fix_of(filling).fill == Rim(steadied_by=4)
    filling.call("undo")
    assert fix_of(filling).fill == Rim()
