"""The ground a hand works on: what is open, what is chosen, and where everything is in the viewport. A value."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from gommage.app.desk import Desk
from gommage.core.document import CleanPlate, Fix, Project, Shot, Stroke, Surface, is_within, placement
from gommage.core.engine import Look
from gommage.core.geometry import IDENTITY, Mapping, Points, from_matrix, growth, square_on, then
from gommage.core.paint import radii_of

__all__ = ["Ground", "SeenStroke"]


@dataclass(frozen=True, eq=False)
class SeenStroke:
    """A stroke as it lies in the viewport, worked out when it is asked for.

    Attributes
    ----------
    view : Mapping
        From the pixels of its points.
    source_by : (dx, dy)
        By so many of these pixels it is looked at elsewhere: where it takes its own.
    """

    stroke: Stroke
    view: Mapping
    source_by: tuple[float, float] = (0.0, 0.0)

    @cached_property
    def points(self) -> Points:
        """Its points in the viewport, (N, 2)."""
        return self.view(self.stroke.points.values[:, :2] + self.source_by)

    @cached_property
    def radii(self) -> NDArray[np.float64]:
        """How far it reaches from them, (N,)."""
        values = self.stroke.points.values
        scale = growth(self.view, values[0, :2])
        return radii_of(self.stroke.brush, values[:, 2]) * (scale if np.isfinite(scale) else 1.0)


@dataclass(frozen=True)
class Ground:
    """A project as it is shown, with the desk and the viewport's zoom and pan. What is looked up is kept.

    Attributes
    ----------
    view_from_picture : Mapping
        Zoom, pan and the pixels' shape.
    """

    project: Project
    desk: Desk
    view_from_picture: Mapping

    @cached_property
    def shot(self) -> Shot | None:
        """The shot on the desk."""
        return self.desk.shot(self.project)

    @cached_property
    def surface(self) -> Surface | None:
        """The surface in hand."""
        return self.desk.surface(self.project)

    @cached_property
    def fix(self) -> Fix | None:
        """The fix in hand."""
        return self.desk.fix(self.project)

    @cached_property
    def plate(self) -> CleanPlate | None:
        """The clean plate in hand."""
        return self.desk.plate(self.project)

    @cached_property
    def look(self) -> Look:
        """What is looked at, with the flick to the plate and looks that need something sorted out."""
        desk = self.desk
        if desk.is_flicked:
            return Look.PLATE
        if (desk.look is Look.CLEAN_PLATE and self.plate is None) or (desk.look is Look.SHEET and self.surface is None):
            return Look.RESULT
        return desk.look

    @cached_property
    def frame(self) -> int:
        """The frame whose pixels are on screen: a clean plate's home frame when that is looked at."""
        plate = self.plate
        return plate.home_frame if self.look is Look.CLEAN_PLATE and plate is not None else self.desk.frame

    @property
    def painted_frame(self) -> int:
        """The frame that strokes are made on: a clean plate's home frame, else the one on the desk."""
        return self.desk.frame if self.desk.paints_shot or self.plate is None else self.plate.home_frame

    def home_to_frame(self, surface_id: str, frame: int) -> Mapping | None:
        """Return where a surface's home pixels are on a frame; None where it is not known."""
        shot = self.shot
        if not surface_id or shot is None:
            return IDENTITY
        surface = shot.surface(surface_id)
        placed = placement(shot, surface)
        found = placed.mapping(frame) if placed is not None else None
        return IDENTITY if found is None and frame == surface.home_frame else found

    def view_of(self, frame: int) -> Mapping:
        """Return the mapping from a frame's pixels to the viewport.

        Steady or square to the eye where that is asked for.
        """
        surface = self.surface
        if surface is None or not (self.desk.is_steady or self.desk.is_square_on):
            return self.view_from_picture
        home = self.home_to_frame(surface.id, frame)
        if home is None:
            return self.view_from_picture
        square = from_matrix(square_on(surface.corners)) if self.desk.is_square_on else IDENTITY
        return then(then(home.inverse(), square), self.view_from_picture)

    @cached_property
    def view_from_frame(self) -> Mapping:
        """Where the shown frame's pixels are in the viewport."""
        return self.view_of(self.frame)

    def view_from(self, surface_id: str) -> Mapping | None:
        """Return where a surface's home pixels are in the viewport (the frame's for the empty id), or None."""
        home = self.home_to_frame(surface_id, self.frame)
        return None if home is None else then(home, self.view_from_frame)

    @cached_property
    def view_from_plate(self) -> Mapping | None:
        """Where pixels of the clean plate in hand are in the viewport, or None where that is not known."""
        plate = self.plate
        if plate is None:
            return None
        if self.look is Look.CLEAN_PLATE:
            return self.view_from_frame
        home = self.home_to_frame(plate.surface_id, plate.home_frame)
        here = self.view_from(plate.surface_id)
        return None if home is None or here is None else then(home.inverse(), here)

    @cached_property
    def strokes(self) -> tuple[SeenStroke, ...]:
        """The strokes of what is painted on that are on this frame, last laid first."""
        painting = self.desk.painting(self.project)[1]
        if not self.desk.paints_shot:
            view = self.view_from_plate
            return () if view is None else tuple(SeenStroke(stroke, view) for stroke in reversed(painting.strokes))
        here = [stroke for stroke in reversed(painting.strokes) if is_within(stroke.frames, self.desk.frame)]
        views = {surface_id: self.view_from(surface_id) for surface_id in {stroke.surface_id for stroke in here}}
        return tuple(SeenStroke(stroke, view) for stroke in here if (view := views[stroke.surface_id]) is not None)
