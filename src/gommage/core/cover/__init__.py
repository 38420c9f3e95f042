"""Shapes to mattes."""

from gommage.core.cover.mattes import cover_matte, outline, shape_outline_in_frame

__all__ = ["cover_matte", "outline", "shape_outline_in_frame"]
