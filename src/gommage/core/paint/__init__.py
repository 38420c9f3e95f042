"""Painting: canvases in tiles, brushes, strokes."""

from gommage.core.paint.canvases import TILE_PX, Canvas, CanvasKey
from gommage.core.paint.healing import heal
from gommage.core.paint.strokes import StrokeInHand, lay_stroke
from gommage.core.paint.tools import TOOLS

__all__ = ["TILE_PX", "TOOLS", "Canvas", "CanvasKey", "StrokeInHand", "heal", "lay_stroke"]
