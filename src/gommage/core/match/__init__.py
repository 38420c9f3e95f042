"""How new pixels are fitted in: light, grain, sharpness."""

from gommage.core.match.curves import Stops, by_hand
from gommage.core.match.grade import NO_GRADE, Grade, grade_on, graded
from gommage.core.match.grain import (
    DENOISE_MARGIN_PX,
    Grain,
    add_grain,
    grain_field,
    measure_grain,
    without_grain,
)
from gommage.core.match.light import Light, apply_light, match_light, steadied
from gommage.core.match.sharpness import NO_BLUR, Beside, Blur, blur_lacking, blurred

__all__ = [
    "DENOISE_MARGIN_PX",
    "NO_BLUR",
    "NO_GRADE",
    "Beside",
    "Blur",
    "Grade",
    "Grain",
    "Light",
    "Stops",
    "add_grain",
    "apply_light",
    "blur_lacking",
    "blurred",
    "by_hand",
    "grade_on",
    "graded",
    "grain_field",
    "match_light",
    "measure_grain",
    "steadied",
    "without_grain",
]
