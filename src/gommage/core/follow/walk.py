"""The walk over frames that every follow shares.

Where it begins, what carries the surface, how a place becomes a track's row.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from typing import Protocol, TypeVar

import numpy as np

from gommage.core.document import Surface
from gommage.core.follow.steps import FollowStep, Surroundings, ended
from gommage.core.geometry import Mapping, Matrix
from gommage.errors import FollowError, FootageError

__all__ = ["Finder", "Walk", "along"]

STUMBLES = 3
"""Frames in a row that cannot be recognised or read before the surface is taken for gone."""


class Place(Protocol):
    """Where a surface was found on a frame."""

    @property
    def home_to_frame(self) -> Matrix:
        """Home to frame, (3, 3)."""


P = TypeVar("P", bound=Place)


class Finder(Protocol[P]):
    """What is asked, frame by frame, of a way to find a surface."""

    def begin(self, start_frame: int, step: int, placed: Matrix) -> None:
        """Look at the frame to begin with, where the surface is placed; frames are gone through by steps of 1 or -1."""

    def guess(self, frame: int, previous: int, before: Matrix, last: Matrix) -> Matrix:
        """Return where the surface should be if it goes on as it went."""

    def find(self, frame: int, guess: Matrix, last: Matrix) -> tuple[P | None, str]:
        """Return where it is, or None and why not. Raises FootageError if the frame cannot be read."""

    def is_gone(self, guess: Matrix) -> bool:
        """Return whether it is where it cannot be seen."""

    def search(
        self, remaining: Iterator[int], held: list[FollowStep], last: Matrix, *, gone: bool
    ) -> Generator[FollowStep, None, tuple[int, P] | None]:
        """Look for it on the frames that remain; yield either an end, or the frames it was away."""

    def step(self, frame: int, place: P) -> FollowStep:
        """Return what is yielded of a place."""

    def between(self, frame: int, home_to_frame: Matrix, last: Matrix, place: P) -> FollowStep:
        """Return what is yielded of a frame that was laid between its neighbours."""

    def settle(self, frame: int, place: P, guess: Matrix) -> Matrix:
        """Remember what the next frames need, and return where the surface belongs, with pins."""


def along(finder: Finder[P], walk: Walk, start_frame: int, frames: range) -> Iterator[FollowStep]:
    """Follow along frames; the last step yielded may be an end.

    A frame or two that cannot be read or recognised are laid between their neighbours once it is found again.
    """
    if not frames:
        return
    before = last = walk.begin(start_frame)
    finder.begin(start_frame, frames.step, last)
    held: list[FollowStep] = []
    remaining = iter(frames)
    for frame in remaining:
        guess = finder.guess(frame, frame - frames.step, before, last)
        is_read = True
        try:
            place, why = finder.find(frame, guess, last)
        except FootageError as fault:
            place, why, is_read = None, str(fault), False
        if place is None:
            held.append(ended(frame, why))
            gone = is_read and finder.is_gone(guess)
            if not gone and len(held) < STUMBLES:
                continue
            again = (yield from finder.search(remaining, held, last, gone=gone)) if is_read else None
            if again is None:
                if not is_read:
                    yield held[0]
                return
            frame, place = again
            held = []
        for index, gap in enumerate(held, 1):
            share = index / (len(held) + 1)
            between = last * (1 - share) + place.home_to_frame * share
            yield finder.between(gap.frame, between, last, place)
        held = []
        yield finder.step(frame, place)
        settled = finder.settle(frame, place, guess)
        before, last = last if settled is place.home_to_frame else settled, settled
    if held:
        yield held[0]


class Walk:
    """Places in the picture, pins and carrier included, and rows of the track, without both.

    Parameters
    ----------
    surface : Surface
    rest : Surroundings
        What is known of the rest of the shot.
    """

    def __init__(self, surface: Surface, rest: Surroundings) -> None:
        self._surface, self._rest = surface, rest
        self._correction: Matrix = np.eye(3)

    def placed(self, frame: int) -> Matrix:
        """Return where the surface is taken to be on a frame now; at home where nothing is known."""
        placed = self._rest.placed
        mapping = placed.mapping(frame) if placed is not None else None
        return np.eye(3) if mapping is None else _matrix(mapping)

    def _measured(self, frame: int) -> Matrix:
        measured = self._rest.measured
        mapping = measured.mapping(frame) if measured is not None else None
        return self.placed(frame) if mapping is None else _matrix(mapping)

    def begin(self, frame: int) -> Matrix:
        """Begin on a frame and return where the surface is; from here on rows are without its pins' correction."""
        last = self.placed(frame)
        self._correction = np.linalg.inv(self._measured(frame)) @ last
        return last

    def passed_pin(self, frame: int, found: Matrix) -> Matrix:
        """Return where the surface belongs on a pinned frame; from there on its pin is what corrects."""
        pinned = self.placed(frame)
        self._correction = np.linalg.inv(found @ np.linalg.inv(self._correction)) @ pinned
        return pinned

    def carried(self, frame: int) -> Matrix | None:
        """Return the motion of what the surface rides on, home to frame; None where that is not known."""
        mapping = self._rest.carried(frame)
        return None if mapping is None else _matrix(mapping)

    def carried_between(self, previous: int, frame: int) -> tuple[Matrix, Matrix]:
        """Return the carrier's motions on two frames; at rest where either is not known."""
        then, now = self.carried(previous), self.carried(frame)
        return (np.eye(3), np.eye(3)) if now is None or then is None else (then, now)

    @property
    def correction(self) -> Matrix:
        """What pins do here: rows are without it."""
        return self._correction

    def row(self, frame: int, home_to_frame: Matrix, correction: Matrix | None = None) -> Matrix:
        """Return a place on a frame as the track's row: relative to the carrier, without pins."""
        carried = self.carried(frame)
        matrix = home_to_frame @ np.linalg.inv(self._correction if correction is None else correction)
        matrix = matrix if carried is None else np.linalg.inv(carried) @ matrix
        return matrix / matrix[2, 2]


def _matrix(mapping: Mapping) -> Matrix:
    if mapping.matrix is None:
        raise FollowError("A flat surface can be followed on flat ones only.")
    return mapping.matrix
