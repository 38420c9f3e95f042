"""Pixels as Qt's images."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPainter

from gommage.core.geometry import Window

__all__ = ["PLAIN", "SEE_THROUGH", "image_of", "sharing", "united"]

PLAIN = QImage.Format.Format_RGB32
SEE_THROUGH = QImage.Format.Format_ARGB32_Premultiplied


def image_of(pixels: NDArray[np.uint8], ratio: float, *, has_alpha: bool = False) -> QImage:
    """Return an image that owns its pixels (h, w, 4), so that the array may go."""
    return sharing(np.ascontiguousarray(pixels), ratio, SEE_THROUGH if has_alpha else PLAIN).copy()


def sharing(pixels: NDArray[np.uint8], ratio: float, kind: QImage.Format) -> QImage:
    """Return an image of pixels (h, w, 4) that must be kept as long as it is shown."""
    height, width = pixels.shape[:2]
    image = QImage(pixels.data, width, height, pixels.strides[0], kind)
    image.setDevicePixelRatio(ratio)
    return image


def united(bits: list[tuple[Window, QImage]], ratio: float) -> tuple[Window, QImage]:
    """Return the bits of a stroke as one."""
    whole = Window(0, 0, 0, 0)
    for window, _ in bits:
        whole = whole | window
    image = QImage(whole.width, whole.height, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    for window, bit in bits:
        bit.setDevicePixelRatio(1.0)
        painter.drawImage(window.left - whole.left, window.top - whole.top, bit)
    painter.end()
    image.setDevicePixelRatio(ratio)
    return whole, image
