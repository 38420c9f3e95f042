"""The Match step in the window: where light is looked at, light by hand from a frame on, blur, joins."""

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QLabel, QPushButton, QToolButton

from gommage.app.picture.overlays import overlay_of
from gommage.core.document import Frames
from gommage.core.document.edits import Slot
from gommage.core.engine import Step
from tests.app.driving import click, find, press
from tests.conftest import settle, wait_until


def fix_of(window):
    return window.shot.fixes[0]


def tick(window, name):
    QTest.mouseClick(find(window.panel, QCheckBox, name), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    settle(window)


def push(window, kind, name):
    QTest.mouseClick(find(window.panel, kind, name), Qt.MouseButton.LeftButton)
    settle(window)


def matching(window):
    press(window, Qt.Key.Key_4)
    settle(window)
    return window


def test_an_area_for_light_is_drawn_and_taken_away(opened):
    matching(opened)
    remove = find(opened.panel, QToolButton, "Remove area for light")
    assert not remove.isVisible()
    push(opened, QToolButton, "Draw area for light")
    assert (opened.desk.tool, opened.desk.slot) == ("draw", Slot.LIGHT_AREA)
    assert "the light" in opened.tray.hint.text()
    for point in ((8, 8), (40, 8), (40, 110), (8, 110), (8, 8)):
        click(opened, point)
    settle(opened)
    (part,) = fix_of(opened).light_area.parts
    assert opened.desk.part_id == part.id
    assert opened.desk.slot is Slot.COVER
    assert len(fix_of(opened).cover.parts) == 1
    assert opened.actions_by_id["undo"].text() == "Undo draw area for light"
    assert find(opened.panel, QCheckBox, "Match light").text() == "Light from an area"
    assert any(line.kind == "light" for line in overlay_of(opened.stage.ground()).outlines)
    push(opened, QToolButton, "Remove area for light")
    assert fix_of(opened).light_area.parts == ()


def test_leaving_the_step_an_area_for_light_is_not_drawn_any_more(opened):
    matching(opened)
    push(opened, QToolButton, "Draw area for light")
    press(opened, Qt.Key.Key_2)
    assert (opened.desk.tool, opened.desk.slot) == ("edit", Slot.COVER)
    settle(opened)


def test_light_is_taken_over_from_here_on_and_found_again(opened):
    matching(opened)
    opened.session.go_to(1004)
    wait_until(lambda: find(opened.panel, QPushButton, "From here on").isEnabled())
    settle(opened)
    push(opened, QPushButton, "From here on")
    light = fix_of(opened).match.light
    assert light.is_measured
    assert light.by_hand == (Frames(first=1004),)
    page = opened.panel.pages[Step.MATCH]
    assert page.by_hand_title.text() == "By hand on 1004–1006"
    wait_until(lambda: "by hand alone here" in page.stops.text())
    push(opened, QPushButton, "Found again")
    assert fix_of(opened).match.light.by_hand == ()
    assert find(opened.panel, QPushButton, "On all frames").isVisible()


def test_blur_is_found_or_by_hand(opened):
    matching(opened)
    page = opened.panel.pages[Step.MATCH]
    wait_until(lambda: "as sharp as the frame" in find(opened.panel, QLabel, "Blur found").text())
    assert not page.blur.isVisible()
    tick(opened, "As blurred as the frame")
    assert fix_of(opened).match.sharpness_px == 0
    assert page.blur.isVisible()
    page.blur.value_changed.emit(1.5, True)
    assert fix_of(opened).match.sharpness_px == 1.5
    tick(opened, "As blurred as the frame")
    assert fix_of(opened).match.sharpness_px is None


def test_new_pixels_are_joined_to_the_picture(opened):
    matching(opened)
    tick(opened, "Joined to the picture")
    assert fix_of(opened).match.is_joined
    assert opened.actions_by_id["undo"].text() == "Undo join to the picture"
    opened.call("undo")
    assert not find(opened.panel, QCheckBox, "Joined to the picture").isChecked()
    settle(opened)
