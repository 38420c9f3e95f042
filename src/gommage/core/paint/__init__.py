"""Painting: canvases in tiles, brushes, strokes as they lie on a frame."""

from gommage.core.paint.canvases import TILE_PX, Canvas, CanvasKey, CutOut, places_of, window_of
from gommage.core.paint.finding import Candidate, best_sources
from gommage.core.paint.healing import RIM_PX, heal
from gommage.core.paint.replays import Outcome, Replay, replayed
from gommage.core.paint.riding import Origin, OwnCanvas, ShotFrame, StrokeAt, on_larger, plainly, scaled, strokes_at
from gommage.core.paint.strokes import Read, StrokeInHand, StrokeSources, lay_stroke, radii_of
from gommage.core.paint.tools import TOOLS

__all__ = [
    "RIM_PX",
    "TILE_PX",
    "TOOLS",
    "Candidate",
    "Canvas",
    "CanvasKey",
    "CutOut",
    "Origin",
    "Outcome",
    "OwnCanvas",
    "Read",
    "Replay",
    "ShotFrame",
    "StrokeAt",
    "StrokeInHand",
    "StrokeSources",
    "best_sources",
    "heal",
    "on_larger",
    "lay_stroke",
    "places_of",
    "plainly",
    "radii_of",
    "replayed",
    "scaled",
    "strokes_at",
    "window_of",
]
