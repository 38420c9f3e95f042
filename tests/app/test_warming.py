"""What is compiled before it is needed, and kept."""

import gc

from gommage.app import start as start_module
from gommage.app.warming import warm_up
from tests.conftest import wait_until


def test_all_loops_run_as_they_are_called_ahead():
    """A loop that takes something else now would be a fault each time the program starts."""
    asked = []
    warm_up(lambda: asked.append(True))
    assert len(asked) > 8


class Running:
    """An application that runs until a condition holds: one that quits would leave no loop to the tests after it."""

    def __init__(self, until):
        self._until = until

    def exec(self) -> int:
        wait_until(self._until)
        return 0


def test_what_is_loaded_is_not_looked_through_again_once_the_program_is_warm(own_window, monkeypatch):
    before = gc.get_freeze_count()
    monkeypatch.setattr(start_module, "make_window", lambda: own_window)
    monkeypatch.setattr(start_module, "make_application", lambda: Running(lambda: gc.get_freeze_count() > before))
    try:
        assert start_module.start() == 0
        assert gc.get_freeze_count() - before > 100_000
    finally:
        gc.unfreeze()
