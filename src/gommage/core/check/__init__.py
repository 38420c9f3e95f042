"""Measurements of a fix: what a supervisor's eye would find."""

from gommage.core.check.measures import FrameMeasures, Sample, held_cells, measures, seam

__all__ = ["FrameMeasures", "Sample", "held_cells", "measures", "seam"]
