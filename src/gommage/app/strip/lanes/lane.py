"""What a lane is."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from gommage.app.strip.data import StripData
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["Lane"]


class Lane:
    """A row of the strip.

    Attributes
    ----------
    name : str
        Its label.
    steps : tuple of Step
        In these it grows: one works in it.
    """

    name: ClassVar[str] = ""
    steps: ClassVar[tuple[Step, ...]] = ()

    def is_there(self, data: StripData) -> bool:
        """Return whether it has something to show, or one works in it."""
        return data.step in self.steps

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        """Draw what it shows into its box."""
