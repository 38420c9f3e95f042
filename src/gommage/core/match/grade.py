"""Light by hand: exposure, colour, contrast, lift and gain on scene-linear pixels."""

from __future__ import annotations

import numpy as np

from gommage.core.document import LightMatch, value_at
from gommage.core.document.records import Record
from gommage.core.picture import Picture, luminance

__all__ = ["NO_GRADE", "Grade", "grade_on", "graded"]

MIDDLE_GREY = np.float32(0.18)
NAMES = ("exposure_stops", "temperature", "tint", "contrast", "saturation", "lift", "gain")


class Grade(Record, frozen=True):
    """Light by hand on one frame; the numbers of `LightMatch`."""

    exposure_stops: float = 0.0
    temperature: float = 0.0
    tint: float = 0.0
    contrast: float = 1.0
    saturation: float = 1.0
    lift: float = 0.0
    gain: float = 1.0


NO_GRADE = Grade()


def grade_on(light: LightMatch, frame: int) -> Grade:
    """Return the light by hand on a frame."""
    return Grade(**{name: value_at(getattr(light, name), frame) for name in NAMES})


def graded(pixels: Picture, grade: Grade) -> Picture:
    """Return pixels (h, w, 3) with a light by hand on them; the same array if it does nothing.

    Exposure and gain multiply; temperature raises red by so many stops and lowers blue by as many, tint lowers green
    (towards magenta); lift raises black and leaves 1 where it is; contrast is a power about middle grey; saturation is
    the distance from the luminance.
    """
    if grade == NO_GRADE:
        return pixels
    stops = grade.exposure_stops + np.array([grade.temperature, -grade.tint, -grade.temperature])
    out = pixels * (2.0**stops * (grade.gain - grade.lift)).astype(np.float32) + np.float32(grade.lift)
    if grade.contrast != 1:
        bright = np.maximum(out, 0) / MIDDLE_GREY
        out = np.where(out > 0, MIDDLE_GREY * bright ** np.float32(grade.contrast), out)
    if grade.saturation != 1:
        grey = luminance(np.ascontiguousarray(out, np.float32))[..., None]
        out = grey + (out - grey) * np.float32(grade.saturation)
    return out.astype(np.float32)
