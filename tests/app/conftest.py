"""What the tests of the window share."""

import pytest

from gommage.core.document import Project
from tests.app.driving import activate
from tests.conftest import settle
from tests.engine.test_engine import clone, with_fix


@pytest.fixture
def opened(window, small_shot):
    """A window on the small shot with one fix that is filled from a painted plate."""
    window.session.begin(Project.of(with_fix(small_shot, clone())))
    settle(window)
    activate(window)
    return window
