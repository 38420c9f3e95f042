"""Shapes to mattes."""

from gommage.core.cover.parts import PART_KINDS, MatteAt, PartAt, matte_at
from gommage.core.cover.rasters import matte_pixels, reach_of

__all__ = ["PART_KINDS", "MatteAt", "PartAt", "matte_at", "matte_pixels", "reach_of"]
