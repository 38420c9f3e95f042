"""Painting: canvases in tiles, brushes, strokes as they lie on a frame."""

from gommage.core.paint.canvases import TILE_PX, Canvas, CanvasKey
from gommage.core.paint.finding import Candidate, best_sources
from gommage.core.paint.healing import heal
from gommage.core.paint.riding import Origin, OwnCanvas, ShotFrame, StrokeAt, plainly, scaled, strokes_at
from gommage.core.paint.strokes import Read, StrokeInHand, StrokeSources, lay_stroke, radii_of
from gommage.core.paint.tools import TOOLS

__all__ = [
    "TILE_PX",
    "TOOLS",
    "Candidate",
    "Canvas",
    "CanvasKey",
    "Origin",
    "OwnCanvas",
    "Read",
    "ShotFrame",
    "StrokeAt",
    "StrokeInHand",
    "StrokeSources",
    "best_sources",
    "heal",
    "lay_stroke",
    "plainly",
    "radii_of",
    "scaled",
    "strokes_at",
]
