"""Pixels: frames in and out, colour, resampling, noise."""

from gommage.core.picture.footage import (
    FootageReport,
    Plates,
    RawFrame,
    alpha_of,
    associated,
    open_plates,
    picture_of,
    probe,
    read_linear,
    read_picture,
)
from gommage.core.picture.pixels import LUMINANCE, Picture, decoded, encoded, halved, luminance, scale_of
from gommage.core.picture.resample import (
    Filter,
    Resampled,
    Splines,
    resample,
    sampled_at,
    spline_coefficients,
    whole_steps,
)

__all__ = [
    "LUMINANCE",
    "Filter",
    "FootageReport",
    "Picture",
    "Plates",
    "RawFrame",
    "Resampled",
    "Splines",
    "alpha_of",
    "associated",
    "decoded",
    "encoded",
    "halved",
    "luminance",
    "open_plates",
    "picture_of",
    "probe",
    "read_linear",
    "read_picture",
    "resample",
    "sampled_at",
    "scale_of",
    "spline_coefficients",
    "whole_steps",
]
