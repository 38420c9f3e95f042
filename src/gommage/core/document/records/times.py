"""Frames, and numbers that change over them."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from itertools import pairwise

from gommage.core.document.records.base import Record

__all__ = [
    "Ease",
    "FrameRange",
    "Frames",
    "Key",
    "Keyed",
    "Keys",
    "changed_on",
    "is_within",
    "share_between",
    "value_at",
    "with_key",
]


class FrameRange(Record, frozen=True):
    """An unbroken range of frames, both ends included: what footage and tracks have."""

    first: int
    last: int

    def __post_init__(self) -> None:
        if self.last < self.first:
            raise ValueError(f"frames run from {self.first} to {self.last}; the last must not come first")

    def __contains__(self, frame: int) -> bool:
        return self.first <= frame <= self.last

    def __len__(self) -> int:
        return self.last - self.first + 1

    def __iter__(self) -> Iterator[int]:
        return iter(range(self.first, self.last + 1))


class Frames(Record, frozen=True):
    """On which frames something exists; an end that is left open means "from here on" or "up to here"."""

    first: int | None = None
    last: int | None = None

    def __post_init__(self) -> None:
        if self.first is not None and self.last is not None and self.last < self.first:
            raise ValueError(f"frames run from {self.first} to {self.last}; the last must not come first")

    def __contains__(self, frame: float) -> bool:
        return (self.first is None or self.first <= frame) and (self.last is None or frame <= self.last)

    def within(self, whole: FrameRange) -> FrameRange | None:
        """Return those of a range's frames on which it exists, or None."""
        first = whole.first if self.first is None else max(self.first, whole.first)
        last = whole.last if self.last is None else min(self.last, whole.last)
        return FrameRange(first=first, last=last) if first <= last else None


def is_within(ranges: tuple[Frames, ...], frame: float) -> bool:
    """Return whether something that exists on these ranges exists on a frame; no range at all means all frames."""
    return not ranges or any(frame in one for one in ranges)


class Ease(StrEnum):
    """How a value goes from a key to the next."""

    SMOOTH = "smooth"
    STRAIGHT = "straight"
    HELD = "held"


class Key(Record, frozen=True):
    """A value on one frame, and how it goes on from there."""

    frame: int
    value: float
    ease: Ease = Ease.SMOOTH


class Keys(Record, frozen=True):
    """A number that changes over time."""

    keys: tuple[Key, ...]

    def __post_init__(self) -> None:
        frames = [key.frame for key in self.keys]
        if not frames or frames != sorted(set(frames)):
            raise ValueError(f"keys must be in the order of their frames, one at least, got {frames}")


Keyed = float | Keys
"""One number, or one that is keyed."""


def value_at(keyed: Keyed, frame: int) -> float:
    """Return a number on a frame; before the first and after the last key it rests."""
    if not isinstance(keyed, Keys):
        return float(keyed)
    if frame <= keyed.keys[0].frame:
        return keyed.keys[0].value
    for before, after in pairwise(keyed.keys):
        if frame < after.frame:
            share = share_between(before.frame, after.frame, frame, before.ease)
            return before.value + share * (after.value - before.value)
    return keyed.keys[-1].value


def with_key(keyed: Keyed, frame: int, value: float) -> Keys:
    """Return a number with a key on a frame; what had none is keyed from now on."""
    keys = {key.frame: key for key in keyed.keys} if isinstance(keyed, Keys) else {}
    keys[frame] = Key(frame=frame, value=value, ease=keys[frame].ease if frame in keys else Ease.SMOOTH)
    return Keys(keys=tuple(keys[one] for one in sorted(keys)))


def changed_on(keyed: Keyed, frame: int, value: float) -> Keyed:
    """Return a number with another value on a frame: a key there if it has keys, else everywhere."""
    return with_key(keyed, frame, value) if isinstance(keyed, Keys) else value


def share_between(first: int, last: int, frame: int, ease: Ease) -> float:
    """Return how far, 0 to 1, a value has gone from one frame to another."""
    if ease is Ease.HELD:
        return 0.0
    share = (frame - first) / (last - first)
    return share * share * (3 - 2 * share) if ease is Ease.SMOOTH else share
