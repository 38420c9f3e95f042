"""What the window is looking at and what is chosen in it: a value of its own, never undone."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, TypeVar

from gommage.app.laid_out import FoundList, KeptSource, Offered
from gommage.core.document import (
    Brush,
    CleanPlate,
    Combine,
    Drawn,
    Fix,
    FrameRange,
    MattePart,
    Painting,
    Placed,
    PlaneFollow,
    Project,
    Shape,
    Shot,
    Source,
    Stroke,
    Surface,
    Texture,
    Tool,
)
from gommage.core.document.edits import OF_FILL, Reach, Slot
from gommage.core.document.records.base import HasId
from gommage.core.engine import Look, Step
from gommage.core.geometry import Lens
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display

__all__ = ["BRUSHES", "Desk", "Draws", "Offered", "on_shot", "Life", "Lists", "ToolKind"]


class Life(StrEnum):
    """For which frames the next stroke lives."""

    THIS = "this"
    ON = "on"
    UP_TO = "up to"
    ALL = "all"
    MARKED = "marked"


class Lists(StrEnum):
    """Which strokes are listed."""

    ALL = "all"
    FRAME = "frame"
    PEN = "pen"
    TOOL = "tool"
    DOTS = "dots"


ToolKind = str
"""hand, draw, edit, mould, pin, or the name of a brush."""
Draws = str
"""surface, points, still, by hand, scene plane, around (all: another surface); area, keep-out, extent (of the one in
hand)."""
BRUSHES = tuple(tool.value for tool in Tool)

_Item = TypeVar("_Item", bound=HasId)
DRAWN_IN_STEP = {Slot.LIGHT_AREA: Step.MATCH} | dict.fromkeys(OF_FILL, Step.FILL)
"""In which step alone what goes to some mattes is drawn and edited."""


def on_shot(shot: Shot, frame: int) -> dict[str, Any]:
    """Return what of the desk another shot, or another view of a panorama, changes: what lies in front is in hand."""
    fix_id = shot.fixes[-1].id if shot.fixes else ""
    return {
        "shot_id": shot.id,
        "frame": frame,
        "surface_id": shot.surfaces[-1].id if shot.surfaces else "",
        "fix_id": fix_id,
        "fix_ids": (fix_id,) if fix_id else (),
        "plate_id": shot.clean_plates[-1].id if shot.clean_plates else "",
        "part_id": "",
        "part_ids": (),
        "stroke_ids": (),
        "vertices": (),
        "keys": (),
        "look": Look.RESULT,
        "tool": "hand" if shot.footage.is_panorama else "edit" if shot.surfaces else "draw",
    }


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
        The part of a matte, or the spot, that is in hand; empty: the first. `part_ids` are others chosen with it.
    vertices : tuple of int
        Chosen vertices of the part in hand.
    keys : tuple of int
        Frames of its chosen keys.
    slot : Slot
        Which matte of the fix new shapes go to: its cover, its hold-outs, its area for light, or lines and areas of its
        fill. `combine` is what they do there.
    draws_by : str
        points, freehand, ellipse or box; round or with corners, open or closed; on the picture instead of a surface;
        along a wire.
    reach : Reach
        Which keys a change by hand reaches.
    mould, mould_px, mould_adds
        What soft reshape does, how wide (in pixels of the frame), whether it adds vertices where it needs them.
    softens, has_box : bool
        Whether softness of single vertices is in hand, and the box around what is chosen.
    solo_id : str
        The part that alone is looked at.
    proposal, proposal_sure
        On which frame a key is proposed, and how well it agrees with the edge, 0 to 1.
    backdrop : str
        On what paint alone is looked at.
    veil, veil_colour
        How strong the veil of the matte is, 0 to 1, and its colour by name.
    dot_px : float
        How large vertices are drawn.
    stroke_ids : tuple of str
        Chosen strokes of what is painted on.
    lists : Lists
        Which strokes are listed; `under_pen` are those that the pen was over last, while these are.
    outlines_strokes : bool
        Whether all strokes of the frame are outlined.
    redraws : str
        The stroke whose path is drawn anew by the next press.
    tilts : bool
        Whether the pen's tilt takes the place of its pressure. `simulates_pen`: a mouse is pressed as a pen would be.
    sizes_brush : bool
        Whether a drag sets size and softness, while a key is held.
    brushes : tuple of (key, tool, Brush, Life)
        Brushes that are kept on keys. `sources` are sources that are.
    candidates : tuple of KeptSource
        Sources that were found for the next stroke, the best first; `candidate` is the number of the one in the brush.
    steps_on : bool
        Whether the next frame comes by itself after each stroke on the shot.
    paints_shot : bool
        Whether the brush paints on the shot, as strokes of the fix in hand, instead of on a clean plate.
    rides : bool
        Whether a stroke on the shot rides on the fix's surface; else it stays put in the picture.
    life : Life
        For which frames a stroke on the shot lives.
    kept : tuple of (tool, Brush, Life)
        What the other brushes were last set to.
    draws : str
        What a shape drawn in the Follow step becomes: see `Draws`.
    lens : Lens or None
        What the next solve of the camera begins from; None: found.
    shows_points : bool
        Whether the solved camera's points are shown.
    scene_outline, pick_px
        What was drawn round for a plane of the solved scene, in pixels of the frame, and how near to its points one has
        to click to mean them.
    pin_points : tuple
        Own points, in home-frame pixels, that the pin tool moves; empty: the surface's corners.
    marked : (first, last) or None
        Marked frames: what follows, smooths and trims a part of the shot works on them.
    source, source_at
        Where the brush takes its pixels: from a distance, or from a place (in pixels of what is painted on) whose
        distance the next touch fixes.
    source_frames, source_pinned
        From so many frames before or after, or always from one frame. `source_along` brings that into register by the
        surface.
    source_base : Source
        What picture the brush takes from, turned, scaled, mirrored or fixed; its place and time are the fields above.
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
    part_ids: tuple[str, ...] = ()
    vertices: tuple[int, ...] = ()
    keys: tuple[int, ...] = ()
    slot: Slot = Slot.COVER
    combine: Combine = Combine.ADD
    draws_by: str = "points"
    draws_round: bool = False
    draws_open: bool = False
    draws_wire: bool = False
    found: FoundList | None = None
    offered: Offered | None = None
    proposed: int | None = None
    proposed_why: str = ""
    draws_on_picture: bool = False
    reach: Reach = Reach.THIS
    mould: str = "pull"
    mould_px: float = 120.0
    mould_adds: bool = False
    softens: bool = False
    has_box: bool = False
    solo_id: str = ""
    proposal: int | None = None
    proposal_sure: float = 0.0
    backdrop: str = "grey"
    veil: float = 0.5
    veil_colour: str = "pink"
    dot_px: float = 4.0
    stroke_ids: tuple[str, ...] = ()
    lists: Lists = Lists.ALL
    under_pen: tuple[str, ...] = ()
    outlines_strokes: bool = False
    redraws: str = ""
    tilts: bool = False
    simulates_pen: bool = False
    sizes_brush: bool = False
    brushes: tuple[tuple[int, str, Brush, Life], ...] = ()
    sources: tuple[tuple[int, KeptSource], ...] = ()
    candidates: tuple[KeptSource, ...] = ()
    candidate: int = 0
    steps_on: bool = False
    paints_shot: bool = False
    rides: bool = True
    life: Life = Life.ALL
    kept: tuple[tuple[str, Brush, Life], ...] = ()
    draws: Draws = "surface"
    lens: Lens | None = None
    shows_points: bool = False
    scene_outline: tuple[tuple[float, float], ...] = ()
    pick_px: float = 8.0
    pin_points: tuple[tuple[float, float], ...] = ()
    marked: tuple[int, int] | None = None
    step: Step = Step.FOLLOW
    tool: ToolKind = "draw"
    brush: Brush = field(default_factory=Brush)
    source: Source | None = None
    source_at: tuple[float, float] | None = None
    source_frames: int = 0
    source_pinned: int | None = None
    source_along: bool = True
    source_base: Source = field(default_factory=Source)
    shows_source: bool = False
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

    @property
    def offers(self) -> Offered | None:
        """The surfaces that propose themselves, while none of the shot's is in hand."""
        return self.offered if not self.surface_id else None

    @property
    def edits_strokes(self) -> bool:
        """Whether what is edited are strokes: in Fill, unless a guide or an area of the fill is in hand."""
        return self.tool == "edit" and self.step is Step.FILL and self.slot not in OF_FILL

    @property
    def settled(self) -> Desk:
        """The desk without what its step does not do: areas for light are drawn in Match alone, guides in Fill."""
        if self.draws_wire and (self.tool != "draw" or self.step not in (Step.COVER, Step.FILL)):
            return replace(self, draws_wire=False).settled
        if self.slot is Slot.SUBJECT and self.tool != "scribble":
            return replace(self, slot=Slot.COVER).settled
        if self.offered is not None and self.step is not Step.FOLLOW:
            return replace(self, offered=None).settled
        if DRAWN_IN_STEP.get(self.slot, self.step) is self.step:
            return self
        tool = "edit" if self.tool == "draw" else self.tool
        return replace(self, slot=Slot.COVER, tool=tool, draws_open=False, combine=Combine.ADD)

    def shot(self, project: Project) -> Shot | None:
        """Return the shot on the desk."""
        try:
            return project.shot(self.shot_id)
        except KeyError:
            return None

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
        """Return the parts that the step works on: areas, keep-outs and extent in Follow, else the mattes of the fix.

        What shared mattes are made of comes after the part that uses them.
        """
        shot, surface, fix = self.shot(project), self.surface(project), self.fix(project)
        if shot is None:
            return ()
        if self.step is Step.FOLLOW:
            if surface is None or not isinstance(surface.how, PlaneFollow):
                return ()
            how = surface.how
            return shot.unfolded((*how.areas.parts, *how.keep_outs.parts, *surface.extent.parts))
        if fix is None:
            return ()
        light = fix.light_area.parts if self.step is Step.MATCH else ()
        of_fill = fix.fill.mattes if self.step is Step.FILL and isinstance(fix.fill, Texture | Placed) else ()
        own = tuple(part for matte in of_fill for part in matte.parts)
        if self.slot in OF_FILL:
            return own
        return shot.unfolded((*fix.cover.parts, *fix.hold_outs.parts, *light, *own))

    def part(self, project: Project) -> MattePart | None:
        """Return the part in hand: the one that was chosen, else the first."""
        parts = self.parts(project)
        return _found(parts, self.part_id) or (parts[0] if parts else None)

    def shape(self, project: Project) -> Shape | None:
        """Return the shape in hand."""
        part = self.part(project)
        return part.source.shape if part is not None and isinstance(part.source, Drawn) else None

    def chosen_vertices(self, part_id: str) -> tuple[int, ...]:
        """Return the chosen vertices of a part; those of any but the one in hand are not chosen."""
        return self.vertices if part_id == self.part_id else ()

    def painting(self, project: Project) -> tuple[str, Painting]:
        """Return what is painted: whose it is (empty: nobody's), and its strokes."""
        fix, plate = self.fix(project), self.plate(project)
        if self.paints_shot:
            return ("", Painting()) if fix is None else (fix.id, fix.touch_up)
        return ("", Painting()) if plate is None else (plate.id, plate.painting)

    def strokes(self, project: Project) -> tuple[Stroke, ...]:
        """Return the chosen strokes."""
        return tuple(stroke for stroke in self.painting(project)[1].strokes if stroke.id in self.stroke_ids)

    @property
    def kept_source(self) -> KeptSource:
        """The source of the next stroke, to keep."""
        return KeptSource(self.source, self.source_frames, self.source_pinned, self.source_along, self.source_base)

    def with_brush(self, tool: str) -> dict[str, Any]:
        """Return what of the desk another tool in hand changes: each brush is as it was last set."""
        changes: dict[str, Any] = {"tool": tool}
        if tool == self.tool or tool not in BRUSHES:
            return changes
        kept = {name: (brush, life) for name, brush, life in self.kept}
        if self.tool in BRUSHES:
            kept[self.tool] = self.brush, self.life
        brush, life = kept.get(tool, (self.brush, self.life))
        changes["kept"] = tuple((name, one, other) for name, (one, other) in kept.items())
        return changes | {"brush": brush, "life": life}

    @property
    def marked_frames(self) -> FrameRange | None:
        """The marked frames."""
        return FrameRange(first=self.marked[0], last=self.marked[1]) if self.marked else None

    @property
    def paint_tool(self) -> Tool | None:
        """The brush that is in hand, if one is."""
        return Tool(self.tool) if self.tool in BRUSHES else None
