"""Draw the shots that tests look at and compile the loops that they run, two things at a time, unless it is done.

``python -m tests.prepare``, as `make test` has it. Without it tests draw and compile what they need, one by one.
"""

from functools import partial
from multiprocessing import get_context

import cv2

from gommage.app.warming import LOOPS
from tests import shots

PROCESSES = 2


def no_check() -> None:
    """Go on."""


def compiled(number: int) -> None:
    LOOPS[number](no_check)


def drawn(name: str) -> None:
    cv2.setNumThreads(1)
    shots.part(name, shots.SHOTS[name][1], processes=0)


def main() -> None:
    with get_context("spawn").Pool(PROCESSES) as pool:
        work = [partial(compiled, number) for number in range(len(LOOPS))]
        work += [partial(drawn, name) for name in shots.SHOTS]
        for one in [pool.apply_async(one) for one in work]:
            one.get()


if __name__ == "__main__":
    main()
