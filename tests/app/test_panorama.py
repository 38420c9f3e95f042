"""Panoramas through the window: looking round, flat views that tools lead into, files; by real events."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QDoubleSpinBox, QPushButton

from gommage.app.dialogs.footage import FootageDialog
from gommage.core.document import Footage, FrameRange, Project, Shot
from gommage.core.engine import Step
from gommage.core.geometry import directions_of
from gommage.core.picture import probe
from gommage.core.picture.writing import write_still
from tests.app.driving import ALT, SHIFT, activate, choose, click, find, press, pull
from tests.conftest import settle, wait_until
from tests.engine.test_panoramas import SAID, WHOLE, noise, turn_of

FRAMES = FrameRange(first=1001, last=1003)


@pytest.fixture(scope="module")
def footage(tmp_path_factory) -> Footage:
    folder = tmp_path_factory.mktemp("looked")
    y, x = np.mgrid[0:256, 0:512] + 0.5
    rays = directions_of(np.stack([x, y], axis=-1), WHOLE)
    for frame in FRAMES:
        picture = noise(rays @ turn_of(frame)).astype(np.float16)
        write_still(folder / f"round.{frame}.exr", picture, bits=16, attributes=SAID)
    return Footage(path=str(folder / "round.####.exr"), frames=FRAMES, width=512, height=256, is_panorama=True)


@pytest.fixture
def looking(window, footage):
    window.session.begin(Project.of(Shot(id="round", name="Round", footage=footage)))
    settle(window)
    activate(window)
    window.viewer.setFocus()
    return window


def wheel(window, steps):
    at = QPointF(window.viewer.width() / 2, window.viewer.height() / 2)
    event = QWheelEvent(at, window.viewer.mapToGlobal(at), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(window.viewer, event)


def test_one_looks_round_by_dragging_and_closer_by_the_wheel(looking):
    framing = looking.viewer.framing
    assert framing.is_round
    assert framing.angle_deg == pytest.approx(95, abs=0.5)
    assert looking.desk.tool == "hand"
    middle = QPoint(looking.viewer.width() // 2, looking.viewer.height() // 2)
    pull(looking.viewer, [middle, middle + QPoint(60, 0), middle + QPoint(120, 30)])
    turned = looking.viewer.framing
    assert turned.x != framing.x
    assert turned.y < framing.y, "dragging the picture down looks up"
    for _ in range(40):
        pull(looking.viewer, [middle, middle + QPoint(150, 0)])
    assert 0 <= looking.viewer.framing.x < 512, "round and round"
    wheel(looking, 3)
    assert looking.viewer.framing.angle_deg < 95
    wheel(looking, -60)
    assert looking.viewer.framing.angle_deg <= 140.5
    settle(looking)
    assert looking.viewer.has_picture
    assert looking.view_bar.zoom.text().endswith("°")


def test_straight_down_up_and_level_by_keys(looking):
    press(looking, (Qt.Key.Key_Down, SHIFT))
    settle(looking)
    assert looking.viewer.framing.y == 256
    here = looking.stage.ground().view_from_frame.inverse()
    middle = here(np.array([looking.viewer.width() / 2, looking.viewer.height() / 2]))
    assert middle[1] == pytest.approx(256, abs=1e-6)
    press(looking, (Qt.Key.Key_Up, SHIFT))
    assert looking.viewer.framing.y == 0
    press(looking, (Qt.Key.Key_Home, SHIFT))
    assert looking.viewer.framing.y == 128


def test_a_tool_leads_into_a_flat_view_and_what_is_done_there_is_in_the_panorama(looking):
    """Down, draw round the tripod's place, fill, back: four actions; all else stays as it was."""
    press(looking, (Qt.Key.Key_Down, SHIFT))
    looking.session.go_to(1002)
    settle(looking)
    before = looking.session.engine.plate(looking.shot.footage, 1002)
    press(looking, Qt.Key.Key_2)
    settle(looking)
    view = looking.shot
    assert view.footage.turned is not None
    assert view.name == "Down 1"
    assert looking.view_bar.views.currentText() == "Down 1"
    press(looking, Qt.Key.Key_S)
    side = view.footage.width
    for x, y in ((0.35, 0.35), (0.65, 0.35), (0.65, 0.65), (0.35, 0.65), (0.35, 0.35)):
        click(looking, (x * side, y * side))
    settle(looking)
    assert len(looking.shot.fixes) == 1
    looking.call("drop_proposal")
    looking.call("fill_from_rim")
    settle(looking)
    press(looking, (Qt.Key.Key_Y, ALT))
    settle(looking)
    whole = looking.shot
    assert whole.footage.is_panorama
    assert len(whole.views) == 1
    assert looking.viewer.framing.y > 250, "one goes on looking where one was"
    result = looking.session.engine.result(whole, 1002)
    changed = (result != before).any(axis=2)
    assert changed[-8:].mean() > 0.9
    assert not changed[:128].any()
    looking.call("undo")
    looking.call("undo")
    settle(looking)


def test_views_are_listed_gone_to_and_removed(looking):
    QTest.mouseClick(find(looking.panel, QPushButton, "Work in this view"), Qt.MouseButton.LeftButton)
    settle(looking)
    assert looking.shot.name == "View 1"
    views = find(looking.view_bar, QComboBox, "View of the panorama")
    assert [views.itemText(k) for k in range(views.count())] == ["Panorama", "View 1"]
    choose(views, 0)
    settle(looking)
    assert looking.shot.footage.is_panorama
    choose(views, 1)
    settle(looking)
    looking.call("remove_view")
    settle(looking)
    assert looking.shot.footage.is_panorama
    assert not looking.shot.views
    looking.call("undo")
    assert len(looking.shot.views) == 1


def test_the_turn_is_followed_and_the_sphere_levelled(looking):
    QTest.mouseClick(find(looking.panel, QPushButton, "Follow the turn"), Qt.MouseButton.LeftButton)
    wait_until(lambda: looking.shot.sphere is not None)
    settle(looking)
    assert looking.shot.sphere.turns is not None
    assert looking.shot.sphere.worst_px < 0.3
    part = looking.panel.pages[Step.FOLLOW].panorama
    assert part.facts.text().startswith("Turn followed 1001–1003")
    before = looking.viewer.view_from_picture()
    find(looking.panel, QDoubleSpinBox, "Tip forward").setValue(4.0)
    settle(looking)
    assert looking.viewer.view_from_picture() != before
    assert looking.shot.sphere.level.values[1, 1] == pytest.approx(np.cos(np.deg2rad(4)))
    assert looking.shot.sphere.turns is not None, "levelling keeps what was followed"
    looking.call("undo")
    settle(looking)
    assert looking.viewer.view_from_picture() == before


def test_other_shots_are_no_panoramas(opened, hear):
    said = []
    hear(opened.session.error_shown, said.append)
    opened.call("look_down")
    assert "no panorama" in said[-1]
    opened.call("follow_turn")
    assert "no panorama" in said[-1]
    assert not opened.actions_by_id["work_here"].isEnabled()
    assert not opened.view_bar.views.isVisible()


def test_the_import_recognises_a_panorama_and_lets_it_be_declared(window, footage, tmp_path):
    report = probe(footage_file(footage))
    dialog = FootageDialog(report)
    box = find(dialog, QCheckBox, "Panorama")
    assert box.isChecked()
    assert dialog.footage().is_panorama
    box.setChecked(False)
    assert not dialog.footage().is_panorama
    write_still(tmp_path / "plain.1001.exr", np.zeros((40, 70, 3), np.float16), bits=16)
    assert not FootageDialog(probe(tmp_path / "plain.1001.exr")).footage().is_panorama


def footage_file(footage):
    from pathlib import Path

    return Path(footage.path.replace("####", "1001"))
