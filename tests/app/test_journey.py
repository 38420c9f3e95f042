"""The whole job through the real window, with real clicks, keys and drags."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QDialogButtonBox, QFileDialog, QLineEdit, QPushButton

from gommage.app.dialogs.footage import FootageDialog
from gommage.app.dialogs.render import RenderDialog
from gommage.app.look.controls import DragNumber
from gommage.core.document import Tool
from gommage.core.engine import Look, Step
from gommage.core.picture import open_plates
from gommage.demo.job import HOME_FRAME
from tests.app.driving import ALT, CTRL, SHIFT, answer, click, drag, find, press
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.journey
FOLLOW_TOLERANCE_PX = 0.15  # the product's promise for this shot; 0.02 is measured
PAINT_SIZE, APART = 44, 20


def open_demo(window, demo) -> None:
    def accept(dialog):
        assert find(dialog, QComboBox, "Colour space").currentText() == "Linear Rec.709 (sRGB)"
        QTest.mouseClick(
            dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Open), Qt.MouseButton.LeftButton
        )

    answer(FootageDialog, accept)
    window.files.open_footage(demo.plate_path)
    wait_until(lambda: window.shot is not None)
    settle(window)


def go_to(window, frame) -> None:
    window.frame_box.setFocus()
    window.frame_box.selectAll()
    QTest.keyClicks(window.frame_box, str(frame))
    QTest.keyClick(window.frame_box, Qt.Key.Key_Return)
    assert window.desk.frame == frame
    window.viewer.setFocus()
    settle(window)


def follow_the_column(window, demo) -> None:
    corners = demo.column_corners(HOME_FRAME)
    for corner in [*corners, corners[0]]:
        click(window, corner)
    surface = window.desk.surface(window.session.project)
    assert surface is not None
    assert surface.home_frame == HOME_FRAME
    press(window, (Qt.Key.Key_G, CTRL))
    assert window.work.is_busy
    wait_until(lambda: not window.work.is_busy)
    settle(window)


def cover_the_label(window, demo) -> None:
    go_to(window, HOME_FRAME)
    press(window, Qt.Key.Key_2)
    assert window.desk.step is Step.COVER
    corners = demo.label_corners(HOME_FRAME)
    grown = corners + 8 * np.sign(corners - corners.mean(axis=0))
    for corner in [*grown, grown[0]]:
        click(window, corner)
    settle(window)


def paint_the_plate(window, demo) -> None:
    press(window, (Qt.Key.Key_C, SHIFT))
    settle(window)
    assert window.desk.look is Look.CLEAN_PLATE
    box = find(window.tray, DragNumber, "Size")
    box.setFocus()
    box.selectAll()
    QTest.keyClicks(box, str(PAINT_SIZE))
    QTest.keyClick(box, Qt.Key.Key_Return)
    window.viewer.setFocus()
    corners = demo.label_corners(HOME_FRAME)
    window.viewer.show_around(*corners.mean(axis=0), 2.0)
    settle(window)
    frame_from_sheet = demo.sheet_to_frame(HOME_FRAME)
    from gommage.demo.scene import LABEL_CENTRE, LABEL_SIZE, LABEL_TURN, SHAFT_REPEAT

    reach, half = LABEL_SIZE[0] / 2 + 18, LABEL_SIZE[1] / 2 + 16
    for repeat in (-SHAFT_REPEAT, SHAFT_REPEAT):
        middle = frame_from_sheet(LABEL_CENTRE)
        source = frame_from_sheet(LABEL_CENTRE + (0, repeat))
        click(window, source, ALT)
        assert window.desk.source is None
        lines = []
        for across in APART * np.arange(-int(reach // APART) - 1, int(reach // APART) + 2):
            top = LABEL_CENTRE + (across, across * np.tan(LABEL_TURN))
            lines.append(frame_from_sheet(np.array([top, top + (0, np.sign(repeat) * half)])))
        # the first touch fixes the source's distance: begin in the middle of the label
        lines.sort(key=lambda line: np.hypot(*(line[0] - middle)))
        for line in lines:
            drag(window, np.linspace(line[0], line[1], 6))
            settle(window)


def test_the_whole_job(window, demo, tmp_path, monkeypatch):
    open_demo(window, demo)
    go_to(window, HOME_FRAME)
    follow_the_column(window, demo)
    shot = window.shot
    track = shot.surfaces[0].track
    assert list(track.frames) == list(shot.footage.frames)
    corners = demo.column_corners(HOME_FRAME)
    for frame in demo.numbers[::5]:
        off = track.mapping(frame)(corners) - demo.motion(frame, HOME_FRAME)(corners)
        assert np.hypot(*off.T).mean() < FOLLOW_TOLERANCE_PX

    cover_the_label(window, demo)
    fix = window.desk.fix(window.session.project)
    assert fix.cover.parts
    assert fix.surface_id == shot.surfaces[0].id

    paint_the_plate(window, demo)
    plate = window.desk.plate(window.session.project)
    assert len(plate.painting.strokes) > 12
    assert {stroke.brush.tool for stroke in plate.painting.strokes} == {Tool.CLONE}
    assert window.desk.fix(window.session.project).fill.plate_ids == (plate.id,)

    # the plate is live: another frame shows the label gone, nothing outside touched
    press(window, Qt.Key.Key_4)
    go_to(window, 1042)
    engine, shot, fix = window.session.engine, window.shot, window.desk.fix(window.session.project)
    patch = engine.patch(shot, fix, 1042)
    result, plate_picture = engine.result(shot, 1042), engine.plate(shot.footage, 1042)
    truth = demo.clean(1042)[patch.window.slices]
    inside = patch.alpha > 0.5
    repaired = np.abs(result[patch.window.slices] - truth)[inside].mean()
    untouched = np.abs(plate_picture[patch.window.slices] - truth)[inside].mean()
    assert repaired < untouched / 8
    assert "stops" in window.panel.pages[Step.MATCH].stops.text()

    # a vertex moved on another frame makes a key there, and undo takes it away
    press(window, Qt.Key.Key_2)
    vertex = shot.surfaces[0].track.mapping(1042)(fix.cover.shapes[0].points_at(1042))[0]
    drag(window, [vertex, vertex - (6, 2), vertex - (10, 4)])
    keyed = window.desk.fix(window.session.project).cover.shapes[0]
    assert [key.frame for key in keyed.keys] == [HOME_FRAME, 1042]
    press(window, (Qt.Key.Key_Z, CTRL))
    assert [key.frame for key in window.desk.fix(window.session.project).cover.shapes[0].keys] == [HOME_FRAME]

    press(window, Qt.Key.Key_5)
    QTest.mouseClick(find(window.panel.pages[Step.CHECK], QPushButton, "Measure all frames"), Qt.MouseButton.LeftButton)
    wait_until(lambda: not window.work.is_busy)
    measured = window.session.measures(fix.id)
    assert len(measured) == len(shot.footage.frames)
    press(window, Qt.Key.Key_G)
    assert window.desk.frame == max(measured, key=lambda one: one.worst).frame
    assert "seam" in window.words.text()

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "label.gommage"), ""))
    press(window, (Qt.Key.Key_S, CTRL))
    settle(window)
    assert (tmp_path / "label.gommage" / "project.json").exists()
    assert "changed" not in window.windowTitle()
    saved = window.session.project

    render_some(window, tmp_path / "out")
    window.projects.open_project(tmp_path / "label.gommage")
    settle(window)
    assert window.session.project == saved
    check_rendered(demo, window, tmp_path / "out")


def render_some(window, out: Path) -> None:
    def accept(dialog):
        field = find(dialog, QLineEdit, "Folder")
        field.selectAll()
        QTest.keyClicks(field, str(out))
        dialog.first.setValue(1039)
        dialog.last.setValue(1042)
        (go,) = [b for b in dialog.findChildren(QPushButton) if b.text() == "Render"]
        QTest.mouseClick(go, Qt.MouseButton.LeftButton)

    answer(RenderDialog, accept)
    press(window, (Qt.Key.Key_R, CTRL))
    wait_until(lambda: not window.work.is_busy)
    assert "Rendered 4 frames" in window.words.text(), window.words.text()
    assert sorted(file.name for file in out.iterdir()) == [f"theatre.{frame}.exr" for frame in range(1039, 1043)]


def check_rendered(demo, window, out: Path) -> None:
    """Outside the fix the files hold the plate's very bits, with its metadata."""
    engine, shot = window.session.engine, window.shot
    rendered = open_plates(type(shot.footage)(
        path=str(out / "theatre.####.exr"), frames=shot.footage.frames, width=1280, height=720
    )).read(1041)  # fmt: skip
    plate = engine.raw(shot.footage, 1041)
    assert rendered.attributes["FramesPerSecond"] == plate.attributes["FramesPerSecond"]
    patch = engine.patch(shot, shot.fixes[0], 1041)
    outside = np.ones(plate.pixels.shape[:2], bool)
    outside[patch.window.slices] = patch.alpha <= 0
    assert rendered.pixels.dtype == plate.pixels.dtype
    assert (rendered.pixels.view(np.uint16)[outside] == plate.pixels.view(np.uint16)[outside]).all()
    assert (rendered.pixels[~outside] != plate.pixels[~outside]).any()
