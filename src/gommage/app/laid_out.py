"""What lies on the desk beside the document: kept sources, what was found, surfaces that propose themselves."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from gommage.core.cover.found import Found
from gommage.core.document import Source
from gommage.core.follow.scene import Piece

__all__ = ["FoundList", "KeptSource", "Offered"]


@dataclass(frozen=True, slots=True)
class KeptSource:
    """A source with its time: the fields of the desk of the same names.

    `mismatch` says how well it fits, for those that were found: 0 is perfectly.
    """

    source: Source | None
    source_frames: int = 0
    source_pinned: int | None = None
    source_along: bool = True
    source_base: Source = field(default_factory=Source)
    mismatch: float = 0.0

    @property
    def on_desk(self) -> dict[str, Any]:
        """What of the desk it sets."""
        names = ("source", "source_frames", "source_pinned", "source_along", "source_base")
        return {name: getattr(self, name) for name in names}


@dataclass(frozen=True, slots=True, eq=False)
class FoundList:
    """What was found and is to be taken or left, one by one.

    Attributes
    ----------
    items : tuple of Found
        By frame.
    least : float
        What is less clear is not shown.
    done : frozenset of int
        Those that were taken or left, by number.
    at : int
        The one in hand.
    holder_id : str
        The fix that marks go to; empty: fixes of their own.
    """

    items: tuple[Found, ...]
    least: float
    done: frozenset[int] = frozenset()
    at: int = 0
    holder_id: str = ""

    @property
    def open(self) -> list[int]:
        """Numbers of those that are shown and neither taken nor left."""
        return [n for n, one in enumerate(self.items) if one.score >= self.least and n not in self.done]

    def on(self, frame: int) -> list[int]:
        """Return those of these that are on a frame."""
        return [number for number in self.open if self.items[number].is_on(frame)]


@dataclass(frozen=True, slots=True, eq=False)
class Offered:
    """Surfaces that propose themselves on a frame, the best first; `at` is the number of the one in hand."""

    pieces: tuple[Piece, ...]
    frame: int
    at: int = 0

    @property
    def piece(self) -> Piece:
        """The one in hand."""
        return self.pieces[self.at]

    @property
    def words(self) -> str:
        """What is to be said of it."""
        piece = self.piece
        held = "" if piece.is_still else f", seen to hold on {piece.frames.first}–{piece.frames.last}"
        return f"{self.at + 1} of {len(self.pieces)}: {piece.words}{held}."

    def without_this(self) -> Offered | None:
        """Return the others, or None where there is none."""
        others = (*self.pieces[: self.at], *self.pieces[self.at + 1 :])
        return Offered(others, self.frame, self.at % len(others)) if others else None
