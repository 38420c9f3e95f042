"""A hole in a still closed with matching pieces of the same picture."""

from gommage.core.fill.patchwork.closing import Closed, closed
from gommage.core.fill.patchwork.laying import finer, laid

__all__ = ["Closed", "closed", "finer", "laid"]
