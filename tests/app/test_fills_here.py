"""Texture, spans, borrowing, what finds itself and first proposals, in the window, by real events."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel

from gommage.core.document import (
    Array,
    ClosedFrom,
    Donors,
    Fix,
    Footage,
    FrameOffset,
    FrameRange,
    Matte,
    Project,
    Rim,
    Shot,
    Softness,
    Span,
    Still,
    Surface,
    Texture,
    edits,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import Step
from gommage.core.picture.writing import write_still
from tests.app.driving import choose, find
from tests.conftest import rectangle, settle, shape_of
from tests.fill.test_texture import bricks

WIDTH, HEIGHT = 272, 200


def wall(folder, frames=4):
    """A brick wall with a sign and a wire before it, and a speck on one frame."""
    clean = bricks(WIDTH, HEIGHT, long=40, high=16)
    for frame in range(1001, 1001 + frames):
        picture = clean.copy()
        cv2.rectangle(picture, (130, 80), (180, 120), (0.1, 0.7, 0.9), -1)
        line = np.array([[4, 31], [WIDTH - 4, 49]])
        cv2.polylines(picture, [line.astype(np.int32)], False, (0.05, 0.05, 0.05), 3, cv2.LINE_AA)
        if frame == 1002:
            cv2.circle(picture, (250, 170), 6, (0.02, 0.02, 0.02), -1, cv2.LINE_AA)
        picture = picture + np.random.default_rng(frame).normal(0, 0.008, picture.shape)
        write_still(folder / f"wall.{frame}.exr", (np.maximum(picture, 0) ** 2.2).astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=1001, last=1000 + frames),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    surface = Surface(id="wall", name="Wall", home_frame=1001,
                      how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))  # fmt: skip
    return Shot(id="shot", name="Wall", footage=footage, surfaces=(surface,))


@pytest.fixture
def walled(window, tmp_path):
    """The window with the wall opened."""
    (tmp_path / "plate").mkdir()
    window.session.begin(Project(shots=(wall(tmp_path / "plate"),)))
    settle(window)
    window.call("fit_view")
    settle(window)
    return window


def with_sign(window, fill=None):
    """Cover the sign, in the hand, in Fill."""
    fix = Fix(id="f", name="Sign", surface_id="wall",
              cover=Matte.of(shape_of(rectangle(125, 75, 186, 126), 1001, "c"), surface_id="wall",
                             softness=Softness(outwards_px=2.0)))  # fmt: skip
    if fill is not None:
        fix = replace(fix, fill=fill)
    window.session.commit("cover", edits.add_fix, "shot", fix)
    window.session.set_desk(fix_id="f", fix_ids=("f",), surface_id="wall", step=Step.FILL)
    settle(window)
    return window


def at(window, x, y):
    """A place of the frame in the viewport."""
    seen = window.stage.ground().view_from_frame(np.array([x, y], float))
    return QPoint(round(float(seen[0])), round(float(seen[1])))


def click(window, x, y):
    QTest.mouseClick(window.viewer, Qt.MouseButton.LeftButton, pos=at(window, x, y))
    settle(window)


def drag(window, begin, end):
    QTest.mousePress(window.viewer, Qt.MouseButton.LeftButton, pos=at(window, *begin))
    for share in (0.3, 0.7, 1.0):
        place = np.array(begin) + (np.array(end) - begin) * share
        QTest.mouseMove(window.viewer, at(window, *place))
    QTest.mouseRelease(window.viewer, Qt.MouseButton.LeftButton, pos=at(window, *end))
    settle(window)


def fix_of(window, fix_id="f"):
    return window.shot.fix(fix_id)


def test_texture_by_one_press_and_another_proposal_by_a_key(walled):
    with_sign(walled).call("fill_from_texture")
    settle(walled)
    assert fix_of(walled).fill == Texture(home_frame=1001)
    assert "frame 1001" in find(walled, QLabel, "Texture").text()
    label = walled.session.history.undo_label
    assert "texture" in label  # one step of history, the first look none
    walled.call("another_proposal")
    settle(walled)
    assert fix_of(walled).fill.proposal == 1
    walled.call("proposal_before")
    settle(walled)
    assert fix_of(walled).fill.proposal == 0
    box = find(walled, QCheckBox, "Without perspective")
    box.click()
    settle(walled)
    assert not fix_of(walled).fill.is_square_on


def test_a_guide_line_and_an_area_are_drawn_in_the_picture(walled):
    with_sign(walled, Texture(home_frame=1001, is_draft=True))
    walled.call("draw_guide")
    for x, y in ((60, 100), (250, 100), (250, 100)):
        click(walled, x, y)
    fill = fix_of(walled).fill
    assert len(fill.guides.parts) == 1
    assert not fill.guides.parts[0].source.shape.is_closed
    assert walled.desk.slot is Slot.COVER
    walled.of_steps.textures.draw_not_from()
    for x, y in ((10, 10), (60, 10), (60, 60), (10, 60), (10, 10)):
        click(walled, x, y)
    (part,) = fix_of(walled).fill.take_from.parts
    assert part.combine == "subtract"
    assert walled.desk.combine == "add"
    walled.of_steps.textures.take_from_anywhere()
    settle(walled)
    assert not fix_of(walled).fill.take_from.parts


def test_two_clicks_along_a_wire_close_it_and_it_is_followed(walled):
    walled.call("draw_wire")
    click(walled, 5, 32)
    click(walled, WIDTH - 5, 46)
    (fix,) = walled.shot.fixes
    assert isinstance(fix.fill, Span)
    (part,) = fix.cover.parts
    assert part.grow_px == pytest.approx(2.7, abs=1.2)  # snapped: as wide as it shows
    walled.call("follow_line")
    settle(walled)
    (part,) = walled.shot.fixes[0].cover.parts
    assert [key.frame for key in part.source.shape.keys] == [1001, 1002, 1003, 1004]
    walled.call("step_fill")
    settle(walled)
    result = walled.session.engine.result(walled.shot, 1003)
    line = 40  # in the middle of the picture
    assert result[line - 3 : line + 4, 155:165].min() > 0.02


def test_a_wire_with_no_surface_behind_it_says_how_to_find_some(walled):
    walled.session.commit("bare", edits.remove_surface, "shot", "wall")
    walled.call("draw_wire")
    click(walled, 5, 32)
    click(walled, WIDTH - 5, 46)
    cover = walled.panel.pages[Step.COVER]
    assert "there is none yet" in cover._advised.words
    walled.call("follow_line")
    settle(walled)
    assert "there is none yet" not in cover._advised.words, "a followed line needs no surface to ride on"
    walled.call("fill_from_frames")
    settle(walled)
    assert walled.shot.fixes[0].fill == Donors()
    assert find(walled, QLabel, "The rest").text() == "What no frame shows, from both sides"
    assert "Alt+V looks for some" in walled.words.text()
    walled.session.undo()
    settle(walled)
    assert isinstance(walled.shot.fixes[0].fill, Span)


def test_a_stretch_of_a_line_is_closed_from_one_side(walled):
    walled.call("draw_wire")
    click(walled, 5, 32)
    click(walled, WIDTH - 5, 46)
    walled.call("step_fill")
    settle(walled)
    span = walled.panel.pages[Step.FILL].span
    span.more.click()
    settle(walled)
    (stretch,) = walled.shot.fixes[0].fill.stretches
    assert (stretch.first, stretch.last) == pytest.approx((1 / 3, 2 / 3))
    choose(find(walled, QComboBox, "Closed from"), 1)
    settle(walled)
    assert walled.shot.fixes[0].fill.stretches[0].closed_from is ClosedFrom.LEFT
    assert walled.shot.fixes[0].fill.closed_from is ClosedFrom.BOTH
    span.less.click()
    settle(walled)
    assert walled.shot.fixes[0].fill.stretches == ()


def test_a_source_is_dragged_in_the_picture_and_small_covers_are_dropped(walled):
    with_sign(walled).call("fill_from_beside")
    settle(walled)
    place = fix_of(walled).fill.place_of("")
    assert (place.dx, place.dy) != (0.0, 0.0)  # the best place was looked for at once
    walled.of_steps.borrowing.change_place("x", dx=0.0, dy=70.0, time=FrameOffset())
    settle(walled)
    drag(walled, (155, 170), (205, 170))
    place = fix_of(walled).fill.place_of("")
    assert (place.dx, place.dy) == pytest.approx((50.0, 70.0), abs=1.5)
    click(walled, 40, 180)
    parts = fix_of(walled).cover.parts
    assert len(parts) == 2
    own = fix_of(walled).fill.place_of(parts[1].id)
    assert own.part_id == parts[1].id
    walled.of_steps.borrowing.key_place()
    settle(walled)
    assert fix_of(walled).fill.place_of(parts[1].id).dx.keys[0].frame == 1001


def test_dirt_is_found_and_taken_or_left_by_keys(walled):
    walled.call("step_cover")
    walled.call("find_dirt")
    settle(walled)
    found = walled.desk.found
    assert [found.items[number].frame for number in found.open] == [1002]
    assert walled.desk.frame == 1002
    assert "1 to take or leave" in find(walled, QLabel, "Found").text()
    walled.call("leave_found")
    settle(walled)
    assert walled.desk.found is None
    assert not walled.shot.fixes
    walled.call("find_dirt")
    settle(walled)
    walled.call("take_found")
    settle(walled)
    (fix,) = walled.shot.fixes
    assert isinstance(fix.fill, Donors)
    assert fix.cover.parts[0].frames[0].first == 1002


def test_a_fresh_cover_is_proposed_a_fill_that_is_taken_by_the_advised_button(walled):
    walled.session.set_desk(step=Step.COVER, tool="draw", surface_id="wall", draws_by="box")
    settle(walled)
    drag(walled, (124, 74), (187, 127))
    (fix,) = walled.shot.fixes
    assert walled.desk.proposed == 0
    assert isinstance(fix.fill, Texture)
    assert walled.session.project.shots[0].fixes[0].fill != fix.fill  # shown, not done
    walled.call("another_proposal")
    settle(walled)
    assert walled.desk.proposed == 1
    for _ in range(4):
        if isinstance(walled.shot.fixes[0].fill, Rim):
            break
        walled.call("another_proposal")
        settle(walled)
    walled.call("take_fill")
    settle(walled)
    assert isinstance(walled.session.project.shots[0].fixes[0].fill, Rim)
    assert walled.desk.proposed is None
    assert walled.session.history.undo_label == "Fill as proposed"


def test_escape_leaves_a_proposal_and_a_fill_by_hand_drops_it(walled):
    walled.session.set_desk(step=Step.COVER, tool="draw", surface_id="wall", draws_by="box")
    settle(walled)
    drag(walled, (124, 74), (187, 127))
    assert walled.desk.proposed == 0
    walled.call("stop")
    settle(walled)
    assert walled.desk.proposed is None
    before = walled.session.project
    assert walled.shot is before.shots[0]
    walled.call("propose_again")
    settle(walled)
    assert walled.desk.proposed == 0
    walled.call("fill_from_rim")
    settle(walled)
    assert walled.desk.proposed is None
    assert isinstance(walled.shot.fixes[0].fill, Rim)
    assert isinstance(fix_of(walled, walled.shot.fixes[0].id).fill, Rim)
