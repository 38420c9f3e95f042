"""Work beside the interface: by priority, with progress, and called off within a stage."""

from __future__ import annotations

import itertools
import threading
import traceback
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any

from gommage.errors import Cancelled, GommageError, unexpected

__all__ = ["Job", "Jobs", "Priority"]


class Priority(IntEnum):
    """Lower runs first. What the hand does has a thread of its own and is done in order, one after the other."""

    HAND = 0
    SCREEN = 1
    NEIGHBOUR = 2
    LONG = 3
    IDLE = 4


@dataclass(order=True)
class Job:
    """A piece of work: a frozen request in, one answer out. Compared by priority and age."""

    priority: Priority
    number: int
    key: Hashable = field(compare=False)
    run: Callable[[Callable[[], None]], Any] = field(compare=False)
    returned: Callable[[Any], None] = field(compare=False)
    failed: Callable[[str], None] = field(compare=False)
    cancelled: threading.Event = field(compare=False, default_factory=threading.Event)

    def check(self) -> None:
        """Raise `Cancelled` if the job was called off."""
        if self.cancelled.is_set():
            raise Cancelled(str(self.key))


LANES: tuple[tuple[Priority, Priority], ...] = (
    (Priority.HAND, Priority.HAND),
    (Priority.SCREEN, Priority.NEIGHBOUR),
    (Priority.SCREEN, Priority.IDLE),
)
"""A thread each, and what it takes: the hand never waits for anything, the screen never for long work."""


class Jobs:
    """A few threads that take the most urgent job of their lane. Answers come on those threads.

    Parameters
    ----------
    told : callable
        Called on a worker's thread with an error that nobody expected, before the job's own `failed`.
    """

    def __init__(self, told: Callable[[BaseException], None] = traceback.print_exception) -> None:
        self._told = told
        self._waiting: list[Job] = []
        self._running: set[int] = set()
        self._jobs: dict[Hashable, Job] = {}
        self._numbers = itertools.count()
        self._ready = threading.Condition()
        self._closing = False
        self._threads = [
            threading.Thread(target=self._work, args=lane, name=f"job-{index}", daemon=True)
            for index, lane in enumerate(LANES)
        ]
        for thread in self._threads:
            thread.start()

    def submit(
        self,
        key: Hashable,
        priority: Priority,
        run: Callable[[Callable[[], None]], Any],
        returned: Callable[[Any], None] = lambda value: None,
        failed: Callable[[str], None] = lambda sentence: None,
    ) -> None:
        """Queue a job, unless one of that key waits or runs already.

        Parameters
        ----------
        key : hashable
            Its name.
        priority : Priority
        run : callable
            Called with `check`, which it must call at least every 50 ms.
        returned, failed : callable
            Called on a worker's thread with the answer, or with a sentence for the user. Neither is called for a
            job that was called off.
        """
        with self._ready:
            if self._closing or key in self._jobs:
                return
            job = Job(priority, next(self._numbers), key, run, returned, failed)
            self._jobs[key] = job
            self._waiting.append(job)
            self._ready.notify_all()

    def cancel(self, chosen: Callable[[Hashable], bool]) -> None:
        """Call off all jobs whose key is chosen, waiting or running."""
        with self._ready:
            for key, job in list(self._jobs.items()):
                if chosen(key):
                    job.cancelled.set()
                    del self._jobs[key]

    def is_waiting(self, kind: str) -> bool:
        """Whether a job waits or runs whose key begins with a word."""
        with self._ready:
            return any(isinstance(key, tuple) and key[:1] == (kind,) for key in self._jobs)

    def is_idle(self) -> bool:
        """Whether nothing waits or runs."""
        with self._ready:
            return not self._jobs and not self._running

    def close(self, timeout_s: float = 5.0) -> list[str]:
        """Call everything off and wait; return the names of threads that did not stop."""
        self.cancel(lambda key: True)
        with self._ready:
            self._closing = True
            self._ready.notify_all()
        for thread in self._threads:
            thread.join(timeout_s)
        return [thread.name for thread in self._threads if thread.is_alive()]

    def _next(self, first: Priority, last: Priority) -> Job | None:
        with self._ready:
            while not self._closing:
                job = self._most_urgent(first, last)
                if job is not None:
                    self._running.add(job.number)
                    return job
                self._ready.wait()
            return None

    def _most_urgent(self, first: Priority, last: Priority) -> Job | None:
        """Take the most urgent waiting job of a lane off the list, or return None."""
        self._waiting = [job for job in self._waiting if not job.cancelled.is_set()]
        mine = [job for job in self._waiting if first <= job.priority <= last]
        if not mine:
            return None
        job = min(mine)
        self._waiting.remove(job)
        return job

    def _work(self, first: Priority, last: Priority) -> None:
        while (job := self._next(first, last)) is not None:
            try:
                job.check()
                value = job.run(job.check)
                job.check()
                answer: Callable[[], None] | None = lambda job=job, value=value: job.returned(value)  # noqa: E731
            except Cancelled:
                answer = None
            except GommageError as error:
                answer = lambda job=job, words=str(error): job.failed(words)  # noqa: E731
            except MemoryError:
                answer = lambda job=job: job.failed("There is not enough memory for this.")  # noqa: E731
            except Exception as error:  # noqa: BLE001 - the worker's edge: a fault must reach the user, not end the thread
                self._told(error)
                words = unexpected(error)
                answer = lambda job=job, words=words: job.failed(words)  # noqa: E731
            with self._ready:
                if self._jobs.get(job.key) is job:
                    del self._jobs[job.key]
            try:
                if answer is not None and not job.cancelled.is_set():
                    answer()
            finally:
                with self._ready:  # idle means that the answers are out, too
                    self._running.discard(job.number)
                    self._ready.notify_all()
