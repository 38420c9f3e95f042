"""How long the interface thread is held, and how long jobs work without asking: `python -m benchmarks.holding`.

Milliseconds of the thread's own processor time, and multiples of a yardstick of the same run: what other processes of
the machine do does not count. An event may hold the event loop 30 ms at most, and 50 ms may lie between two questions
of a job whether it is still wanted. A turn of the loop, ``after`` an event, may have to answer several.
"""

from __future__ import annotations

import gc
import os
import tempfile
import threading
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from tests.app.test_watch import Watch, journey, open_over
from tests.conftest import footage_in, open_window, wall_followed
from tests.engine.test_stages import JOBS
from tests.shots import shot

from gommage.app.start import make_application
from gommage.core.document import Project
from gommage.core.engine import Engine
from gommage.demo.job import cleaned

FRAMES = 1000
"""Of the shot that is worked on in the window."""
TRIES = 3
"""The least of so many counts: what comes between makes work longer, never shorter."""


def thread_ms() -> float:
    """Return the processor time that this thread has had."""
    return 1000 * time.thread_time()


def yardstick_ms() -> float:
    """Return how long a fixed piece of work takes: 7 to 9 ms on a quiet machine."""
    numbers, took = np.random.default_rng(0).random(25_000), []
    for _ in range(TRIES):
        begun = thread_ms()
        sorted(numbers.tolist())
        took.append(thread_ms() - begun)
    return min(took)


class StopWatch(Watch):
    """Measures milliseconds."""

    def spent(self) -> float:
        return thread_ms()


class Questions:
    """A check that notes the longest work of a thread between two calls; several threads may ask."""

    def __init__(self) -> None:
        self.worst_ms, self._last = 0.0, dict[int, float]()

    def __call__(self) -> None:
        now, thread = thread_ms(), threading.get_ident()
        self.worst_ms = max(self.worst_ms, now - self._last.get(thread, now))
        self._last[thread] = now


def events_ms(folder: Path) -> dict[str, float]:
    """Return how long each event of a day's journey through a long shot holds the event loop."""
    make_application()
    window = open_window(folder)
    open_over(window, wall_followed(footage_in(folder / "plate")), folder / "plate", FRAMES)
    journey(window, Watch())  # the first time classes are loaded and icons drawn
    gc.collect()
    gc.freeze()  # as the program does once it is warm
    counted = []
    for _ in range(TRIES):
        watch = StopWatch()
        journey(window, watch)
        counted.append(watch.most)
    window.session.saved = window.session.project
    window.close()
    return {name: min(one[name] for one in counted) for name in set.union(*map(set, counted))}


def stages_ms(folder: Path) -> dict[str, float]:
    """Return how long each kind of job works between two questions."""
    demo = shot("label")
    project: Project = cleaned(Engine(), demo)
    worst = {}
    for job in JOBS:
        found = []
        for number in range(1 + TRIES):  # the first time compiled code is loaded
            questions = Questions()
            job(Engine(10**9), project.shots[0], demo, questions, folder / f"{job.__name__} {number}")
            found.append(questions.worst_ms)
        worst[job.__name__.removeprefix("job_of_").replace("_", " ")] = min(found[1:])
    return worst


def main() -> None:
    """Print both tables."""
    with tempfile.TemporaryDirectory() as folder:
        stick = yardstick_ms()
        jobs, events = stages_ms(Path(folder)), events_ms(Path(folder))
    print(f"yardstick: {stick:.1f} ms")
    for title, table in (
        ("between two questions of a job", jobs),
        ("event, or turn of the loop, over a thousand frames", events),
    ):
        print(f"\n| {title} | ms | yardsticks |\n|---|---|---|")
        for name, figure in sorted(table.items(), key=lambda row: -row[1])[:9]:
            print(f"| {name} | {figure:.1f} | {figure / stick:.2f} |")


if __name__ == "__main__":
    main()
