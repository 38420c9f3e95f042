"""A hole in a still closed with matching pieces of the same picture."""

from gommage.core.fill.patchwork.closing import Closed, closed
from gommage.core.fill.patchwork.laying import Offsets, finer, laid
from gommage.core.fill.patchwork.repeats import repeated

__all__ = ["Closed", "Offsets", "closed", "finer", "laid", "repeated"]
