"""What the window is looking at: a value of its own, never undone."""

from __future__ import annotations

from dataclasses import dataclass, field

from gommage.core.document import CleanPlate, Fix, Project, Shot, Surface, Tool
from gommage.core.engine import Look, Step
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display

__all__ = ["Brush", "Desk", "ToolKind"]

ToolKind = str
"""hand, draw, edit, clone, heal or restore."""


@dataclass(frozen=True, slots=True)
class Brush:
    """The brush in hand."""

    size_px: float = 30.0
    softness: float = 0.5
    opacity: float = 1.0


@dataclass(frozen=True, slots=True)
class Desk:
    """Selection, frame, step, tool and view."""

    shot_id: str = ""
    frame: int = 0
    surface_id: str = ""
    fix_id: str = ""
    plate_id: str = ""
    step: Step = Step.FOLLOW
    tool: ToolKind = "draw"
    brush: Brush = field(default_factory=Brush)
    look: Look = Look.RESULT
    is_steady: bool = False
    has_lattice: bool = True
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
