"""Recipes for new pixels. Clean plates are the first."""

from gommage.core.fill.plates import PlatePixels, carried, plate_weights

__all__ = ["PlatePixels", "carried", "plate_weights"]
