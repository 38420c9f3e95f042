"""The solved camera: as high as it agrees with the picture, light where it was not solved or is off."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from gommage.app.look.theme import theme
from gommage.app.strip.data import StripData
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.scale import Scale
from gommage.core.engine import Step

__all__ = ["CameraLane"]

FULL_PX, LOOK_PX = 1.0, 0.5
"""An error of so much leaves half a bar; from the second on a frame is worth a look."""


class CameraLane(Lane):
    """By how much the camera is off on each frame."""

    name = "camera"

    def is_there(self, data: StripData) -> bool:
        return len(data.camera) > 0 and data.step is Step.FOLLOW

    def draw(self, painter: QPainter, box: QRectF, scale: Scale, data: StripData) -> None:
        sure = np.where(data.camera >= 0, 1 / (1 + np.maximum(data.camera, 0) / FULL_PX), 0.0)
        cells = scale.cells(data.camera_from, sure, "low")
        is_low = cells.values < 1 / (1 + LOOK_PX / FULL_PX)
        tall = np.maximum(box.height() * cells.values, 2.0)
        for colour, chosen in ((theme().quiet, ~is_low), (theme().look_here, is_low)):
            cells.draw_bars(painter, box, tall, chosen, QColor(colour))
