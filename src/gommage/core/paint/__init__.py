"""Brushes and strokes on a canvas: clone, heal, restore."""

from gommage.core.paint.brushes import Laid, StrokeInHand, lay_stroke

__all__ = ["Laid", "StrokeInHand", "lay_stroke"]
