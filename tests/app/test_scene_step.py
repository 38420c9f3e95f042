"""The solved camera, surfaces that propose themselves and two crates taken away, in the window, by real events."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QObject, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton

from gommage.app.desk import Desk
from gommage.app.picture.overlays import overlay_of
from gommage.core.document import FrameRange, PlaneFollow, Plates, Project, ScenePlane, Shot, Still, edits, placement
from gommage.core.engine import Step, told_of_camera
from gommage.core.engine.plate_files import HOME as TOLD_HOME
from gommage.core.geometry import Lens
from gommage.core.picture.writing import write_still
from gommage.demo.backstage_job import AREAS, HOME
from gommage.demo.filming import with_grain
from tests import shots
from tests.app.counting import Hand, densely
from tests.app.driving import ALT, CTRL, SHIFT, activate, choose, click, find, press
from tests.conftest import empty, settle, wait_until

MOST_ACTIONS, MOST_BEHIND_DB, MOST_PX = 25, 1.5, 0.2
GROWN_PX = 8.0


@pytest.fixture(scope="module")
def walk():
    return shots.shot("backstage")


@pytest.fixture(scope="module")
def solved(window_of_module, walk):
    """The walk with its camera solved in the window; what was told meanwhile, what is drawn then, and by which hand."""
    window, _ = window_of_module
    empty(window)
    begin(window, Project.of(Shot(id="theatre", name="Backstage", footage=walk.footage)))
    told = []
    connection = window.work.changed.connect(lambda running: running is not None and told.append(running.words))
    hand = Hand(window, "crates")
    hand.frame(HOME)
    hand.key("solve the camera", (Qt.Key.Key_K, ALT))
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    QObject.disconnect(connection)
    drawn = sum(len(points) for points in overlay_of(window.stage.ground()).points)
    return window.session.project, told, window.actions_by_id["undo"].text(), drawn, hand


@pytest.fixture(scope="module")
def solved_scene(solved) -> Project:
    return solved[0]


def begin(window, project, frame=HOME):
    window.session.begin(project)
    window.session.go_to(frame)
    window.call("fit_view")
    settle(window)
    activate(window)
    window.viewer.setFocus()
    return window


def outline(window, points):
    for point in (*points, points[0]):
        click(window, point)


def plane_in_hand(window):
    return window.desk.surface(window.session.project)


def test_a_camera_is_solved_and_a_floor_laid_and_nudged(solved, window):
    """The whole way: solve, draw round the floor, say that it is the ground, tilt it by keys, take that back."""
    project, told, undo, drawn, _ = solved
    assert drawn > 200
    assert {"Tracking features", "Adjusting all frames"} <= set(told), "stages are told"
    assert undo == "Undo solve the camera"
    begin(window, project)
    camera = window.shot.camera
    assert camera is not None
    assert not camera.is_nodal
    assert camera.median_px < 0.2, "without a mask on who walks there"
    assert camera.worst_px < 0.5
    assert 0.97 < camera.lens.focal_px / 1010.0 < 1.03, "over a third of the shot"
    words = told_of_camera(camera, window.shot.footage.bounds)
    assert words[0].startswith("The camera moves: off by 0.1")
    corner = np.array([[0.5, 0.5]])
    bend = np.hypot(*(camera.lens.straightened(corner) - corner)[0])
    assert f"barrel, {bend:.0f} px in the corners" in words[1]
    part = window.panel.pages[Step.FOLLOW].camera
    assert "barrel" in part.facts.text()
    press(window, (Qt.Key.Key_D, ALT))
    assert window.desk.draws == "scene plane"
    outline(window, AREAS["floor"])
    wait_until(lambda: plane_in_hand(window) is not None)
    settle(window)
    floor = plane_in_hand(window)
    assert isinstance(floor.how, ScenePlane)
    lattice = overlay_of(window.stage.ground()).lattice
    assert len(lattice) > 8
    assert not np.allclose(lattice[0][:, 0], lattice[0][0, 0], atol=2), "it lies on the boards, it is no upright grid"
    QTest.mouseClick(find(window.panel, QPushButton, "Ground"), Qt.MouseButton.LeftButton)
    assert window.shot.camera.ground_id == floor.id
    assert overlay_of(window.stage.ground()).level is not None, "the horizon"
    before = floor.how.plane.values
    press(window, (Qt.Key.Key_Up, CTRL), (Qt.Key.Key_Up, CTRL), (Qt.Key.Key_PageUp))
    after = plane_in_hand(window).how.plane.values
    assert not np.allclose(before, after, rtol=1e-3)
    press(window, (Qt.Key.Key_Z, CTRL))
    assert np.array_equal(plane_in_hand(window).how.plane.values, before), "presses in a row are one step"


def test_without_a_camera_there_is_nothing_to_lay_planes_into(opened, hear):
    said = []
    hear(opened.session.error_shown, said.append)
    opened.call("new_scene_plane")
    assert "Solve the camera first" in said[-1]
    opened.call("polish_plane")
    assert "nothing" in said[-1] or "no scene plane" in said[-1]
    assert not opened.actions_by_id["polish_plane"].isEnabled()


def test_points_are_clicked_for_a_plane_and_a_speck_is_refused(solved_scene, window, hear):
    begin(window, solved_scene)
    window.call("new_scene_plane")
    camera = window.shot.camera
    places, which = camera.seen_points(HOME)
    sure = camera.point_error_px.values[which] < 0.12
    wall = places[sure & (places[:, 0] > 735) & (places[:, 1] < 170)]
    corners = [wall[(wall * way).sum(axis=1).argmax()] for way in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    outline(window, corners)
    wait_until(lambda: plane_in_hand(window) is not None)
    assert np.abs(plane_in_hand(window).how.outline.values - corners).max() < 2
    said = []
    hear(window.session.error_shown, said.append)
    window.call("new_scene_plane")
    boxes = [(x, y) for x in range(40, 900, 20) for y in range(40, 480, 20)]
    x, y = next(box for box in boxes if not ((places > box) & (places < np.add(box, (40, 30)))).all(axis=1).any())
    outline(window, [(x, y), (x + 40, y), (x + 40, y + 30)])
    wait_until(lambda: bool(said))
    assert "three solved points" in said[-1] or "on a line" in said[-1]
    assert len(window.shot.surfaces) == 1


def test_a_lens_is_chosen_written_and_read(window, solved_scene, tmp_path, monkeypatch):
    begin(window, solved_scene)
    window.panel.pages[Step.FOLLOW].camera.box.parentWidget().show()
    lens = find(window.panel, QComboBox, "Lens")
    assert [lens.itemText(k) for k in range(lens.count())] == ["Found from the shot", "As it was solved", "By hand"]
    own = solved_scene.shots[0].camera.lens
    choose(lens, 1)
    assert window.desk.lens == own
    choose(lens, 2)
    assert window.desk.lens == Lens(960.0, 480.0, 270.0)
    path = tmp_path / "lens.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    window.call("write_lens")
    wait_until(path.exists)
    settle(window)
    window.call("read_lens")
    wait_until(lambda: window.desk.lens == own)


def test_taking_the_camera_off_asks_for_its_planes_first(solved_scene, window, hear):
    begin(window, solved_scene)
    camera = window.shot.camera
    from gommage.core.document import Surface
    from gommage.core.engine import laid_plane

    plane = laid_plane(camera, HOME, np.array(AREAS["parlour"], float))
    surface = Surface(id="p", name="Parlour", home_frame=HOME, how=plane)
    window.session.commit("Lay", edits.add_surface, "theatre", surface)
    said = []
    hear(window.session.error_shown, said.append)
    window.call("forget_camera")
    assert "would lie nowhere" in said[-1]
    window.session.undo()
    window.call("forget_camera")
    assert window.shot.camera is None


# -- a whole job ---------------------------------------------------------------------------------------------


@pytest.mark.journey
def test_two_crates_are_taken_off_the_floor(window, solved, walk, tmp_path, monkeypatch):
    """Actions counted from the footage on; by truth."""
    project, *_, hand = solved
    painted = tmp_path / f"floor.{HOME}.exr"  # as it comes from a picture editor
    bare = walk.clean(HOME, grain=False)
    write_still(painted, with_grain(bare, (7, HOME)).astype(np.float16), bits=16, attributes={TOLD_HOME: HOME})
    monkeypatch.setattr(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(painted), "")))
    begin(window, project)
    hand.key("scene plane", (Qt.Key.Key_D, ALT))
    hand.in_line("draw freehand", "Freehand", None)
    hand.drag("draw round the floor", densely(np.array(AREAS["floor"], float), 12.0))
    wait_until(lambda: len(window.shot.surfaces) == 1)
    settle(window)
    hand.key("polish", (Qt.Key.Key_G, ALT))
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    assert window.actions_by_id["undo"].text() == "Undo polish"
    assert placement(window.shot, plane_in_hand(window)).slip_px.max() < 0.3
    for index in range(2):
        hand.key(*(("a fix of its own", (Qt.Key.Key_S, SHIFT)) if index else ("step Cover", Qt.Key.Key_2)))
        hand.drag("draw round a crate", densely(swept(window, walk, index, walk.numbers), 5.0))
        hand.key("leave the proposal", Qt.Key.Key_Escape)
        window.call("plate_from_picture")
        hand.note_action("clean plate from a picture")
        hand.note_action("choose its file")
        wait_until(lambda count=index + 1: len(window.shot.clean_plates) == count)
        settle(window)
    assert hand.count <= MOST_ACTIONS
    assert window.shot.camera.median_px < MOST_PX
    assert [type(fix.fill) for fix in window.shot.fixes] == [Plates, Plates]

    rows = []
    for fix in window.shot.fixes:
        found, limit = np.mean([figures(window, walk, fix, frame) for frame in list(walk.numbers)[2::6]], axis=0)
        assert found > limit - MOST_BEHIND_DB
        rows.append((f"crate {len(rows) + 1}", f"{found:.1f} dB", f"{limit:.1f} dB"))
    hand.note(
        f"Take two crates off the floor over {len(walk.numbers)} frames of a walk, the camera solved",
        ("where it is covered", "one clean plate", "oracle"), rows,
    )  # fmt: skip


def swept(window, shot, index, frames):
    """Return an outline round all that a crate hides of the floor over the walk, in pixels of the home frame."""
    floor = placement(window.shot, window.shot.surfaces[0])
    seen = [floor.home_to_frame(frame).inverse()(shot.crate_outline(index, frame)) for frame in list(frames)[::4]]
    hull = cv2.convexHull(np.vstack(seen).astype(np.float32))[:, 0].astype(float)
    away = hull - hull.mean(axis=0)
    return hull + away * (GROWN_PX / np.hypot(*away.T)[:, None])


def figures(window, shot, fix, frame):
    """Return the PSNR of the result and of an oracle where a fix covers a frame and nobody walks."""
    engine = window.session.engine
    inside = (engine.laid_matte(window.shot, frame, fix.id) > 0.5) & (shot.hand(frame) == 0)
    truth, bare = shot.clean(frame), shot.clean(frame, grain=False)
    shown = engine.result(window.shot, frame), with_grain(bare, (99, frame))
    return [float(-10 * np.log10(((one - truth)[inside] ** 2).mean())) for one in shown]


# -- surfaces that propose themselves -----------------------------------------------------------------------


def test_round_a_crate_surfaces_are_offered_and_one_is_taken_by_a_key(window, solved_scene, walk):
    bare = edits.set_camera(solved_scene, "theatre", None)
    near = replace(walk.footage, frames=FrameRange(first=HOME - 6, last=HOME + 6))
    begin(window, replace(bare, shots=(replace(bare.shots[0], footage=near),)))
    press(window, (Qt.Key.Key_X, ALT))
    assert window.desk.draws == "around"
    crate = walk.crate_outline(0, HOME)
    outline(window, crate.mean(axis=0) + 1.2 * (crate - crate.mean(axis=0)))
    wait_until(lambda: window.desk.offered is not None)
    settle(window)
    offered = window.desk.offered
    advised = window.panel.pages[Step.FOLLOW]._advised
    assert advised.words.startswith(f"1 of {len(offered.pieces)}: ")
    assert "agree within" in advised.words
    overlay = overlay_of(window.stage.ground())
    assert len(overlay.outlines) == len(offered.pieces)
    assert len(overlay.lattice) > 8
    press(window, Qt.Key.Key_K)
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    (floor,) = window.shot.surfaces
    assert isinstance(floor.how, PlaneFollow)
    assert floor.track is not None
    assert len(floor.track.certainty) >= 10, "it is followed as far as it holds"
    press(window, (Qt.Key.Key_Z, CTRL), (Qt.Key.Key_Z, CTRL))
    assert not window.shot.surfaces


def test_where_nothing_moves_one_still_surface_is_offered_and_may_be_left(opened):
    opened.session.set_desk(step=Step.FOLLOW)
    before = opened.shot.surfaces
    opened.viewer.setFocus()
    press(opened, (Qt.Key.Key_V, ALT))
    wait_until(lambda: opened.desk.offered is not None)
    settle(opened)
    assert opened.desk.offered.piece.is_still
    press(opened, Qt.Key.Key_L)
    assert opened.desk.offered is None
    press(opened, (Qt.Key.Key_V, ALT))
    wait_until(lambda: opened.desk.offered is not None)
    settle(opened)
    press(opened, Qt.Key.Key_K)
    assert isinstance(opened.shot.surfaces[-1].how, Still)
    assert len(opened.shot.surfaces) == len(before) + 1


def test_offers_go_with_their_step():
    assert Desk(offered=None).settled.offered is None
