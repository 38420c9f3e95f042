"""What the tests of the window share."""

import pytest
from PySide6.QtCore import Qt

from gommage.core.document import Project
from tests.app.driving import CTRL, SHIFT, activate, press
from tests.conftest import settle, wall_followed
from tests.engine.test_engine import clone, with_fix


@pytest.fixture
def small_shot(small_footage):
    """The small shot on files of all tests, so that the module's window knows its pictures; see `own_shot`."""
    return wall_followed(small_footage)


@pytest.fixture
def opened(window, small_shot):
    """A window on the small shot with one fix that is filled from a painted plate."""
    window.session.begin(Project.of(with_fix(small_shot, clone())))
    settle(window)
    activate(window)
    return window


@pytest.fixture
def painting(opened):
    """The window painting on the shot, as a fix of its own that rides on the wall."""
    opened.session.set_desk(fix_id="", fix_ids=())
    press(opened, (Qt.Key.Key_C, CTRL | SHIFT))
    settle(opened)
    opened.viewer.show_around(75, 55, 4.0)
    settle(opened)
    return opened
