"""How much of the cover other frames show: full and quiet is all of it, what is lacking is light."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from gommage.app.look.theme import theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step
from gommage.core.engine.steps import SEEN_ENOUGH

__all__ = ["DonorsLane"]

LEAST_PX = 3.0


class DonorsLane(Lane):
    """A bar a frame, as high as the share that is seen; what no frame shows stands above it."""

    name = "seen"
    steps = (Step.FILL,)

    def is_there(self, data: StripData) -> bool:
        return bool(data.seen)

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        first, last = min(data.seen), max(data.seen)
        values = np.array([data.seen.get(frame, np.nan) for frame in range(first, last + 1)])
        cells = scale.cells(first, values, "low")
        lacks = cells.values < SEEN_ENOUGH
        heights, every = np.full(len(cells.values), box.height()), np.ones(len(cells.values), bool)
        cells.draw_bars(painter, box, heights, lacks, QColor(theme().look_here))
        seen = np.minimum(heights * cells.values, heights - LEAST_PX * lacks)
        cells.draw_bars(painter, box, seen, every, QColor(theme().line))
