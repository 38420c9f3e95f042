"""Waiting for something, with patience and with words for what never came."""

import inspect
import time
from collections.abc import Callable

PATIENCE_S = 300.0
"""A wait that lasts longer has failed, however busy the machine is: in a fresh clone code is compiled meanwhile."""


def wait(condition: Callable[[], object], rest: Callable[[], None] = lambda: time.sleep(0.005)) -> None:
    """Rest again and again until a condition holds."""
    end = time.monotonic() + PATIENCE_S
    while not condition():
        assert time.monotonic() < end, f"waited {PATIENCE_S:.0f} s in vain for {told(condition)}"
        rest()


def told(condition: Callable[[], object]) -> str:
    """Return a condition as it is written."""
    try:
        return " ".join(inspect.getsource(condition).split())
    except (OSError, TypeError):
        return repr(condition)
