"""How much the processor does at this moment: what stretches of work are held against, never seconds."""

import gc
import time
from collections.abc import Callable

import numpy as np


def yardstick_ms() -> float:
    """Return the processor time of this thread, in ms, that a fixed piece of work takes: 7 to 9 on a quiet machine.

    A processor that others use as well, or that is slow, makes work and yardstick longer alike.
    """
    numbers = np.random.default_rng(0).random(25_000)
    took = []
    for _ in range(3):
        begun = time.thread_time()
        sorted(numbers.tolist())
        took.append(1000 * (time.thread_time() - begun))
    return min(took)


def least(measure: Callable[[], float], limit: float, tries: int = 3) -> float:
    """Return what a measure tells, in yardsticks; asked again while it lies over its limit, and the least counts.

    What comes between makes a stretch of work longer, never shorter.
    """
    found = np.inf
    gc.collect()
    gc.freeze()  # as the program does once it is warm
    try:
        for _ in range(tries):
            before = yardstick_ms()
            told_ms = measure()
            found = min(found, told_ms / max(before, yardstick_ms()))
            if found < limit:
                break
    finally:
        gc.unfreeze()
    return found
