"""Strokes laid one after the other, again and again: what a change does not reach is not laid anew.

A stroke writes some tiles, and what it writes depends on the stroke and on the tiles that it looked at. Both are kept.
Where those tiles are the same as before, what was written then is taken; where a stroke has to be laid again and writes
the very same, what lies above does not notice.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from gommage.core.paint.canvases import TILE_BYTES, Canvas, Place, Tile
from gommage.core.paint.riding import StrokeAt
from gommage.core.paint.strokes import StrokeInHand, StrokeSources, stroke_laid

__all__ = ["Outcome", "Replay", "replayed"]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a stroke wrote, and the tokens of the tiles that it looked at."""

    stroke: StrokeAt
    looked_at: tuple[tuple[Place, int], ...]
    written: Mapping[Place, Tile]

    @staticmethod
    def of(before: Canvas, stroke: StrokeAt, hand: StrokeInHand) -> Outcome:
        """Return the outcome of a stroke that was laid on a canvas."""
        return Outcome(stroke, tuple((place, before.token(place)) for place in hand.looked_at), hand.written)

    def holds(self, stroke: StrokeAt, before: Canvas) -> bool:
        """Return whether a stroke on a canvas has this outcome."""
        is_stroke = self.stroke is stroke or self.stroke == stroke
        return is_stroke and all(before.token(place) == token for place, token in self.looked_at)

    def like(self, other: Outcome) -> Outcome:
        """Return the outcome with tiles of another one where they show the same."""
        written = {}
        for place, tile in self.written.items():
            was = other.written.get(place)
            written[place] = was if was is not None and was.shows_as(tile) else tile
        return Outcome(self.stroke, self.looked_at, written)


@dataclass(frozen=True, slots=True)
class Replay:
    """Strokes on a canvas and what each of them did; of the first ones, if all of it is too much, only the sum.

    Attributes
    ----------
    ground : tuple of StrokeAt
        Those of which only the sum is known.
    tiles : dict
        Their sum.
    outcomes : dict
        By the stroke's id, in order.
    """

    ground: tuple[StrokeAt, ...] = ()
    tiles: Mapping[Place, Tile] = field(default_factory=dict)
    outcomes: Mapping[str, Outcome] = field(default_factory=dict)

    @property
    def strokes(self) -> tuple[StrokeAt, ...]:
        """All strokes, first to last."""
        return (*self.ground, *(one.stroke for one in self.outcomes.values()))

    @property
    def nbytes(self) -> int:
        """Memory that it holds."""
        return TILE_BYTES * (len(self.tiles) + sum(len(one.written) for one in self.outcomes.values()))

    def within(self, most_bytes: int) -> Replay:
        """Return it with so many of the first outcomes summed up that it holds no more than that; not the last one."""
        if self.nbytes <= most_bytes:
            return self
        ground, tiles, left = list(self.ground), dict(self.tiles), dict(self.outcomes)
        held = sum(len(one.written) for one in left.values())
        for name, one in list(self.outcomes.items())[:-1]:
            if TILE_BYTES * (len(tiles) + held) <= most_bytes * 3 / 4:  # so that not every stroke comes here
                break
            ground.append(one.stroke)
            tiles |= one.written
            held -= len(one.written)
            del left[name]
        return Replay(tuple(ground), tiles, left)

    def followed_by(self, outcome: Outcome) -> Replay:
        """Return it with one more stroke."""
        return Replay(self.ground, self.tiles, {**self.outcomes, outcome.stroke.id: outcome})


NOTHING = Replay()


def replayed(
    blank: Canvas, strokes: tuple[StrokeAt, ...], sources: StrokeSources, earlier: Replay = NOTHING,
    check: Callable[[], None] = lambda: None,
) -> tuple[Canvas, Replay]:  # fmt: skip
    """Return a canvas with strokes laid on it, and what each of them did.

    Parameters
    ----------
    blank : Canvas
    strokes : tuple of StrokeAt
    sources : StrokeSources
    earlier : Replay
        Of other strokes on the same blank.
    check : callable
        Called before each stroke that is laid.
    """
    count = len(earlier.ground)
    ground, tiles = (earlier.ground, dict(earlier.tiles)) if strokes[:count] == earlier.ground else ((), {})
    first, laid = dict(tiles), 0
    outcomes: dict[str, Outcome] = {}
    rest = strokes[len(ground) :]
    if len(ground) == count:
        for stroke, was in zip(rest, earlier.outcomes.values(), strict=False):
            if was.stroke is not stroke and was.stroke != stroke:
                break
            outcomes[stroke.id] = was
            tiles |= was.written
    for stroke in rest[len(outcomes) :]:
        before = blank.over(tiles)
        outcome = earlier.outcomes.get(stroke.id)
        if outcome is None or not outcome.holds(stroke, before):
            check()
            found = Outcome.of(before, stroke, stroke_laid(before, blank, stroke, sources))
            outcome = found if outcome is None else found.like(outcome)
            laid += len(outcome.written)
        outcomes[stroke.id] = outcome
        tiles |= outcome.written
    return blank.over(tiles).counted(laid), Replay(ground, first, outcomes)
