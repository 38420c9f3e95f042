"""What the window is looking at: a value of its own, never undone."""

from __future__ import annotations

from dataclasses import dataclass, field

from gommage.core.document import Area, CleanPlate, Fix, Frames, PlaneFollow, Project, Shot, Surface, Tool
from gommage.core.engine import Look, Step
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display

__all__ = ["Brush", "Desk", "Draws", "ToolKind"]

ToolKind = str
"""hand, draw, edit, pin, clone, heal or restore."""
Draws = str
"""surface, points, still, by hand (all: another surface), area or keep-out (of the one in hand)."""


@dataclass(frozen=True, slots=True)
class Brush:
    """The brush in hand."""

    size_px: float = 30.0
    softness: float = 0.5
    opacity: float = 1.0


@dataclass(frozen=True, slots=True)
class Desk:
    """Selection, frame, step, tool and view.

    Attributes
    ----------
    draws : str
        What a shape drawn in the Follow step becomes: see `Draws`.
    area_id : str
        The area or keep-out in hand; empty: the first area.
    pin_points : tuple
        Own points, in home-frame pixels, that the pin tool moves; empty: the surface's corners.
    marked : (first, last) or None
        Marked frames: what follows, smooths and trims a part of the shot works on them.
    """

    shot_id: str = ""
    frame: int = 0
    surface_id: str = ""
    fix_id: str = ""
    plate_id: str = ""
    area_id: str = ""
    draws: Draws = "surface"
    pin_points: tuple[tuple[float, float], ...] = ()
    marked: tuple[int, int] | None = None
    step: Step = Step.FOLLOW
    tool: ToolKind = "draw"
    brush: Brush = field(default_factory=Brush)
    look: Look = Look.RESULT
    is_steady: bool = False
    is_square_on: bool = False
    has_lattice: bool = True
    has_test_card: bool = False
    has_trails: bool = False
    has_wipe: bool = False
    is_flicked: bool = False
    hides_overlays: bool = False
    display: Display = DEFAULT_DISPLAY

    def shot(self, project: Project) -> Shot | None:
        """Return the shot on the desk."""
        return next((one for one in project.shots if one.id == self.shot_id), None)

    def surface(self, project: Project) -> Surface | None:
        """Return the surface in hand."""
        shot = self.shot(project)
        return next((one for one in shot.surfaces if one.id == self.surface_id), None) if shot else None

    def area(self, project: Project) -> Area | None:
        """Return the area or keep-out in hand: the one that was chosen, else the plane's first."""
        surface = self.surface(project)
        if surface is None or not isinstance(surface.how, PlaneFollow):
            return None
        items = (*surface.how.areas, *surface.how.keep_outs)
        return next((item for item in items if item.shape.id == self.area_id), items[0])

    @property
    def marked_frames(self) -> Frames | None:
        """The marked frames."""
        return Frames(first=self.marked[0], last=self.marked[1]) if self.marked else None

    def fix(self, project: Project) -> Fix | None:
        """Return the fix in hand."""
        shot = self.shot(project)
        return next((one for one in shot.fixes if one.id == self.fix_id), None) if shot else None

    def plate(self, project: Project) -> CleanPlate | None:
        """Return the clean plate in hand."""
        shot = self.shot(project)
        return next((one for one in shot.clean_plates if one.id == self.plate_id), None) if shot else None

    @property
    def paint_tool(self) -> Tool | None:
        """The brush that is in hand, if one is."""
        return Tool(self.tool) if self.tool in set(Tool) else None
