"""The next stroke, as the desk has it: on what it is painted, for which frames it lives, where and when its pixels are
from.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from msgspec.structs import replace

from gommage.app.desk import Desk, Life
from gommage.app.hands.ground import Ground
from gommage.core.document import (
    FrameOffset,
    Frames,
    PinnedFrame,
    Source,
    SourceTime,
    Tool,
)
from gommage.core.engine import Look
from gommage.core.geometry import IDENTITY, Mapping, then
from gommage.core.paint import TOOLS

__all__ = ["LIFE_WORDS", "PaintedOn", "frames_of", "other_frame", "painted_on", "source_of", "source_words",
           "takes_source", "view_of_source"]  # fmt: skip

LIFE_WORDS = {
    Life.THIS: "This frame",
    Life.ON: "From here on",
    Life.UP_TO: "Up to here",
    Life.ALL: "All frames",
    Life.MARKED: "Marked frames",
}


class Why(StrEnum):
    """Why nothing can be painted."""

    NO_PLATE = "There is no clean plate to paint on. Make one of a good frame first."
    NO_FIX = "There is no fix in hand whose strokes these could be."


@dataclass(frozen=True)
class PaintedOn:
    """What is painted on.

    Attributes
    ----------
    holder_id : str
        The clean plate, or the fix whose strokes are laid on the shot.
    view : Mapping or None
        Where its pixels are in the viewport; None where they are not.
    surface_id : str
        What strokes ride on.
    is_shot : bool
    """

    holder_id: str
    name: str
    view: Mapping | None
    surface_id: str
    is_shot: bool


def painted_on(ground: Ground) -> PaintedOn | Why:
    """Return what the brush in hand paints on, or why on nothing."""
    if not ground.desk.paints_shot:
        plate = ground.plate
        if plate is None:
            return Why.NO_PLATE
        return PaintedOn(plate.id, plate.name, ground.view_from_plate, "", is_shot=False)
    fix = ground.fix
    if fix is None:
        return Why.NO_FIX
    surface_id = fix.surface_id if ground.desk.rides else ""
    return PaintedOn(fix.id, fix.name, ground.view_from(surface_id), surface_id, is_shot=True)


def takes_source(tool: Tool | None) -> bool:
    """Return whether a brush takes its pixels from somewhere."""
    return tool is not None and TOOLS[tool].takes_source


def other_frame(ground: Ground) -> int:
    """Return from which frame the brush takes its pixels."""
    pinned = ground.desk.source_pinned
    return pinned if pinned is not None else ground.painted_frame + ground.desk.source_frames


def source_of(desk: Desk, dx: float, dy: float) -> Source:
    """Return a source of the desk's frame and picture, from beside."""
    time: SourceTime = FrameOffset(frames=desk.source_frames)
    if desk.source_pinned is not None:
        time = PinnedFrame(frame=desk.source_pinned)
    return replace(desk.source_base, dx=dx, dy=dy, time=time, runs_along=desk.source_along)


def frames_of(desk: Desk) -> tuple[Frames, ...]:
    """Return the frames on which the next stroke exists."""
    here = desk.frame
    if desk.life is Life.MARKED and desk.marked is not None:
        return (Frames(first=desk.marked[0], last=desk.marked[1]),)
    return {
        Life.THIS: (Frames(first=here, last=here),),
        Life.ON: (Frames(first=here),),
        Life.UP_TO: (Frames(last=here),),
    }.get(desk.life, ())


def source_words(ground: Ground) -> str:
    """Return in words where the brush in hand takes its pixels from."""
    desk = ground.desk
    tool = desk.paint_tool
    if tool is Tool.RESTORE:
        return "brings the plate back" if desk.paints_shot else "brings the untouched frame back"
    if tool is Tool.ERASE:
        return "takes this fix's paint away" if desk.paints_shot else "takes the paint away"
    if not takes_source(tool):
        return "changes what is there" if tool is not Tool.COLOUR else "Alt-click takes a colour"
    words = []
    other = other_frame(ground)
    if other != ground.painted_frame:
        words.append(f"frame {other}" + ("" if desk.source_along else ", as filmed"))
    if desk.source is not None and (desk.source.dx or desk.source.dy or not words):
        words.append(f"{desk.source.dx:+.3g}, {desk.source.dy:+.3g} px from the brush")
    elif desk.source_at is not None:
        words.append("set; the first touch fixes its distance")
    return ", ".join(words) or "none yet: Alt-click on the picture"


def view_of_source(ground: Ground, frame: int) -> Mapping | None:
    """Return the view in which another frame lies as it is taken from, in register with the one on screen."""
    here = ground.view_of(ground.frame)
    plate = ground.plate
    surface_id = ground.fix.surface_id if ground.desk.paints_shot and ground.fix is not None else ""
    if not ground.desk.paints_shot and plate is not None:
        surface_id = plate.surface_id
    if not ground.desk.source_along or not surface_id:
        return here
    now, then_ = ground.home_to_frame(surface_id, ground.frame), ground.home_to_frame(surface_id, frame)
    if now is None or then_ is None:
        return None
    return then(then(then_.inverse(), now), here) if then_ is not IDENTITY else here


def is_seen(ground: Ground) -> bool:
    """Return whether the source's frame is another than the one on screen, so that it is to be shown in the brush."""
    is_other = other_frame(ground) != ground.painted_frame
    return takes_source(ground.desk.paint_tool) and is_other and ground.look is not Look.SHEET
