"""Fills: recipes for new pixels, by the record that asks for them."""

from gommage.core.fill.choosing import Seen, seen_elsewhere
from gommage.core.fill.donors import DonorsAt, surfaces_behind
from gommage.core.fill.gathering import left_over_motion, ring_points
from gommage.core.fill.merging import merged_window
from gommage.core.fill.plates import (
    PlateAt,
    PlatesAt,
    canvas_key,
    fill_from_plates,
    plate_on_frame,
    plate_weights,
    plates_at,
    usable_plates,
)
from gommage.core.fill.recipes import RECIPES, Recipe
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.fill.texture import home_of_texture

__all__ = [
    "RECIPES",
    "DonorsAt",
    "Filled",
    "Layer",
    "PlateAt",
    "PlatesAt",
    "Recipe",
    "Scene",
    "Seen",
    "canvas_key",
    "fill_from_plates",
    "home_of_texture",
    "left_over_motion",
    "merged_window",
    "plate_on_frame",
    "plate_weights",
    "plates_at",
    "ring_points",
    "seen_elsewhere",
    "surfaces_behind",
    "usable_plates",
]
