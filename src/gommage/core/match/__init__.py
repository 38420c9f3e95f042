"""How new pixels are fitted in: light and grain."""

from gommage.core.match.grain import Grain, add_grain, measure_grain, without_grain
from gommage.core.match.light import Light, apply_light, match_light

__all__ = ["Grain", "Light", "add_grain", "apply_light", "match_light", "measure_grain", "without_grain"]
