"""The brushes: what each lays where its mask is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from gommage.core.document import Tool
from gommage.core.geometry import Window
from gommage.core.paint.healing import heal
from gommage.core.picture import Picture

__all__ = ["TOOLS", "Brushing", "Ground"]


class Ground(Protocol):
    """What a brush may look at."""

    def below(self, window: Window) -> Picture:
        """Return the canvas as it was before the stroke."""
        ...

    def untouched(self, window: Window) -> Picture:
        """Return the canvas before all strokes."""
        ...

    def source(self, window: Window) -> Picture:
        """Return what the stroke's source shows there."""
        ...


@dataclass(frozen=True, slots=True)
class Brushing:
    """A brush.

    Attributes
    ----------
    lay : callable
        Gives for the ground, a window and the stroke's mask (h, w) there the pixels (h, w, 3) that show through it.
    is_whole : bool
        Whether all of the stroke changes with each new piece of it.
    """

    lay: Callable[[Ground, Window, Picture], Picture]
    is_whole: bool = False


def _clone(ground: Ground, window: Window, mask: Picture) -> Picture:
    return ground.source(window)


def _heal(ground: Ground, window: Window, mask: Picture) -> Picture:
    return heal(ground.below(window), ground.source(window), mask)


def _restore(ground: Ground, window: Window, mask: Picture) -> Picture:
    return ground.untouched(window)


TOOLS: dict[Tool, Brushing] = {
    Tool.CLONE: Brushing(_clone),
    Tool.HEAL: Brushing(_heal, is_whole=True),  # a membrane hangs on the whole rim
    Tool.RESTORE: Brushing(_restore),
}
"""By the tool's name; a brush that is not here cannot be used yet."""
