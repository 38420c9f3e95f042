"""No fill: the fix is its strokes, laid on what lies below."""

from __future__ import annotations

from collections.abc import Callable

from gommage.core.document import Fix, Painted, Shot
from gommage.core.document.records import Record
from gommage.core.fill.scene import Filled, Scene
from gommage.core.geometry import Window
from gommage.core.paint import CanvasKey

__all__ = ["PaintedAt", "nothing", "painted_at"]


class PaintedAt(Record, frozen=True):
    """Nothing that pixels depend on."""

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: no clean plate."""
        return ()

    @property
    def as_shot(self) -> PaintedAt:
        """The same without paint."""
        return self


def painted_at(fill: Painted, shot: Shot, fix: Fix, frame: int) -> PaintedAt:
    """Return that there is no fill on a frame."""
    return PaintedAt()


def nothing(at: PaintedAt, scene: Scene, window: Window, check: Callable[[], None] = lambda: None) -> Filled:
    """Give no layers."""
    return Filled(())
