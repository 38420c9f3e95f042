"""A man walks through a handheld shot: out of it, from footage to rendered files, by real events."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QToolButton

from gommage.app.dialogs.footage import FootageDialog
from gommage.app.dialogs.render import RenderDialog
from gommage.core.document import Donors
from gommage.core.picture import read_picture
from gommage.demo.filming import with_grain
from gommage.demo.passer_by import WALL
from tests import shots
from tests.app.counting import Hand
from tests.app.driving import CTRL, SHIFT, answer, find
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.journey
MOST_ACTIONS = 25
MARGIN_PX = 14.0
BELOW_ORACLE_DB = 1.0


@pytest.fixture(scope="session")
def passer_by():
    return shots.shot("passer-by")


def box_of(demo, frame):
    """The corners of a box around the walker, top left and bottom right."""
    outline = demo.outline(frame)
    return outline.min(axis=0) - MARGIN_PX, outline.max(axis=0) + MARGIN_PX


def centre(window, frame):
    """Where the cover is seen on a frame: there it is taken hold of."""
    shot = window.shot
    matte = window.session.engine.matte(shot, shot.fixes[0].cover, frame)
    rows, columns = np.nonzero(matte > 0.5)
    return np.array([columns.mean(), rows.mean()])


def test_the_walker_is_gone_in_few_actions(window, passer_by, tmp_path, monkeypatch):
    hand, (first, last) = Hand(window, "passer-by"), passer_by.numbers[:: len(passer_by.numbers) - 1]
    middle = first + len(passer_by.numbers) // 2
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *args, **fields: (str(passer_by.plate_path), ""))
    answer(FootageDialog, lambda dialog: dialog.accept())
    hand.key("open footage", (Qt.Key.Key_I, CTRL))
    wait_until(lambda: window.shot is not None)
    settle(window)
    for words in ("choose the file", "begin on it"):  # in the dialogs
        hand.note_action(words)
    hand.frame(middle)
    hand.button("choose how to draw", find(window.tray, QToolButton, "Rectangle"))
    hand.drag("draw round the wall", [WALL[0], WALL.mean(axis=0), WALL[2]])
    hand.key("follow both ways", (Qt.Key.Key_G, CTRL))
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    hand.key("step Cover", Qt.Key.Key_2)
    low, high = box_of(passer_by, middle)
    hand.drag("draw round the walker", [low, (low + high) / 2, high])
    for frame in (first, last, (first + middle) // 2, (middle + last) // 2):
        hand.frame(frame)
        there, wanted = centre(window, frame), np.mean(box_of(passer_by, frame), axis=0)
        hand.drag("move the cover", [there, (there + wanted) / 2, wanted])
    hand.key("fill from other frames", (Qt.Key.Key_P, SHIFT))
    fix = window.shot.fixes[0]
    assert isinstance(fix.fill, Donors)
    wait_until(lambda: window.session.seen(fix.id))
    settle(window)
    assert min(window.session.seen(fix.id).values()) > 0.95  # a strip at the picture's rim is on one frame alone

    def render_here(dialog):
        dialog.where.setText(str(tmp_path))
        dialog.accept()

    answer(RenderDialog, render_here)
    hand.key("render", (Qt.Key.Key_R, CTRL))
    for words in ("say where to", "begin"):  # in the dialog
        hand.note_action(words)
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    assert hand.count <= MOST_ACTIONS

    mine, oracle = [], []
    for frame in range(first + 4, last, 6):
        (file,) = tmp_path.glob(f"*.{frame}.exr")
        result, inside = read_picture(file), passer_by.covered(frame) > 0.02
        seen = window.session.engine.elsewhere(window.shot, fix, frame, 1.0)
        rest = np.zeros(inside.shape, bool)
        rest[seen.window.slices] = seen.hole & (seen.count == 0)
        inside &= ~rest
        truth, bare = passer_by.clean(frame), passer_by.clean(frame, grain=False)
        mine.append(((result - truth)[inside] ** 2).mean())
        oracle.append(((with_grain(bare, (99, frame)) - truth)[inside] ** 2).mean())
    found, limit = (float(-10 * np.log10(np.mean(one))) for one in (mine, oracle))
    assert found > limit - BELOW_ORACLE_DB, (found, limit)
    hand.note(
        f"A man out of {len(passer_by.numbers)} frames of a handheld shot, from footage to rendered files",
        ("where he was", "PSNR", "oracle"), [("all frames", f"{found:.1f} dB", f"{limit:.1f} dB")],
    )  # fmt: skip
