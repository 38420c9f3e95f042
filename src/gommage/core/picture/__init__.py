"""Pixels: frames in and out, colour, resampling, noise."""

from gommage.core.picture.footage import (
    FootageReport,
    Plates,
    RawFrame,
    open_plates,
    probe,
    read_linear,
    read_picture,
)
from gommage.core.picture.resample import spline_coefficients, view, warp, warp_spline
from gommage.core.picture.windows import Matrix, Picture, Points, Window, apply_matrix, around, translation

__all__ = [
    "FootageReport",
    "Matrix",
    "Picture",
    "Plates",
    "Points",
    "RawFrame",
    "Window",
    "apply_matrix",
    "around",
    "open_plates",
    "probe",
    "read_linear",
    "read_picture",
    "spline_coefficients",
    "translation",
    "view",
    "warp",
    "warp_spline",
]
