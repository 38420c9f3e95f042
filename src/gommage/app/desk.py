"""What the window is looking at and what is chosen in it: a value of its own, never undone."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar

from gommage.core.document import (
    Brush,
    CleanPlate,
    Drawn,
    Fix,
    FrameRange,
    MattePart,
    PlaneFollow,
    Project,
    Shape,
    Shot,
    Source,
    Stroke,
    Surface,
    Tool,
)
from gommage.core.document.records.base import HasId
from gommage.core.engine import Look, Step
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display

__all__ = ["BRUSHES", "Desk", "Draws", "ToolKind"]

ToolKind = str
"""hand, draw, edit, pin, or the name of a brush."""
Draws = str
"""surface, points, still, by hand (all: another surface), area or keep-out (of the one in hand)."""
BRUSHES = tuple(tool.value for tool in Tool)

_Item = TypeVar("_Item", bound=HasId)


def _found(items: tuple[_Item, ...], wanted: str) -> _Item | None:
    return next((item for item in items if item.id == wanted), None)


@dataclass(frozen=True, slots=True)
class Desk:
    """Selection, frame, step, tool and view.

    Attributes
    ----------
    fix_ids : tuple of str
        All fixes that are chosen; `fix_id` is the one in hand.
    part_id : str
        The part of a matte, or the spot, that is in hand; empty: the first.
    stroke_ids : tuple of str
        Chosen strokes of the clean plate in hand.
    draws : str
        What a shape drawn in the Follow step becomes: see `Draws`.
    pin_points : tuple
        Own points, in home-frame pixels, that the pin tool moves; empty: the surface's corners.
    marked : (first, last) or None
        Marked frames: what follows, smooths and trims a part of the shot works on them.
    source, source_at
        Where the brush takes its pixels: from a distance, or from a place (in pixels of the clean plate) whose distance
        the next touch fixes.
    last_point : (x, y) or None
        Where the last stroke ended, in pixels of the clean plate.
    wipe : float
        Where the wipe's line is, as a share of the width.
    """

    shot_id: str = ""
    frame: int = 0
    surface_id: str = ""
    fix_id: str = ""
    fix_ids: tuple[str, ...] = ()
    plate_id: str = ""
    part_id: str = ""
    stroke_ids: tuple[str, ...] = ()
    draws: Draws = "surface"
    pin_points: tuple[tuple[float, float], ...] = ()
    marked: tuple[int, int] | None = None
    step: Step = Step.FOLLOW
    tool: ToolKind = "draw"
    brush: Brush = field(default_factory=Brush)
    source: Source | None = None
    source_at: tuple[float, float] | None = None
    last_point: tuple[float, float] | None = None
    look: Look = Look.RESULT
    is_steady: bool = False
    is_square_on: bool = False
    has_lattice: bool = True
    has_test_card: bool = False
    has_trails: bool = False
    has_wipe: bool = False
    wipe: float = 0.5
    is_flicked: bool = False
    hides_overlays: bool = False
    display: Display = DEFAULT_DISPLAY

    def shot(self, project: Project) -> Shot | None:
        """Return the shot on the desk."""
        return _found(project.shots, self.shot_id)

    def surface(self, project: Project) -> Surface | None:
        """Return the surface in hand."""
        shot = self.shot(project)
        return _found(shot.surfaces, self.surface_id) if shot else None

    def fix(self, project: Project) -> Fix | None:
        """Return the fix in hand."""
        shot = self.shot(project)
        return _found(shot.fixes, self.fix_id) if shot else None

    def plate(self, project: Project) -> CleanPlate | None:
        """Return the clean plate in hand."""
        shot = self.shot(project)
        return _found(shot.clean_plates, self.plate_id) if shot else None

    def parts(self, project: Project) -> tuple[MattePart, ...]:
        """Return the parts that the step works on: areas and keep-outs in Follow, else the cover's."""
        if self.step is Step.FOLLOW:
            surface = self.surface(project)
            how = surface.how if surface is not None else None
            return (*how.areas.parts, *how.keep_outs.parts) if isinstance(how, PlaneFollow) else ()
        fix = self.fix(project)
        return fix.cover.parts if fix is not None else ()

    def part(self, project: Project) -> MattePart | None:
        """Return the part in hand: the one that was chosen, else the first."""
        parts = self.parts(project)
        return _found(parts, self.part_id) or (parts[0] if parts else None)

    def shape(self, project: Project) -> Shape | None:
        """Return the shape in hand."""
        part = self.part(project)
        return part.source.shape if part is not None and isinstance(part.source, Drawn) else None

    def strokes(self, project: Project) -> tuple[Stroke, ...]:
        """Return the chosen strokes."""
        plate = self.plate(project)
        chosen = plate.painting.strokes if plate is not None else ()
        return tuple(stroke for stroke in chosen if stroke.id in self.stroke_ids)

    @property
    def marked_frames(self) -> FrameRange | None:
        """The marked frames."""
        return FrameRange(first=self.marked[0], last=self.marked[1]) if self.marked else None

    @property
    def paint_tool(self) -> Tool | None:
        """The brush that is in hand, if one is."""
        return Tool(self.tool) if self.tool in BRUSHES else None
