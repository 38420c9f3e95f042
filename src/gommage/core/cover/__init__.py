"""Shapes to mattes."""

from gommage.core.cover.parts import PART_KINDS, MappingOf, MatteAt, PartAt, PictureAt, ScribbledAt, matte_at, matte_on
from gommage.core.cover.rasters import Keep, matte_pixels, pieces_of, reach_of, tiles_of

__all__ = [
    "PART_KINDS",
    "Keep",
    "MappingOf",
    "MatteAt",
    "PartAt",
    "PictureAt",
    "ScribbledAt",
    "matte_at",
    "matte_on",
    "matte_pixels",
    "pieces_of",
    "reach_of",
    "tiles_of",
]
