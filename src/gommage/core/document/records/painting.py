"""Painting: brushes, sources in place and time, strokes, groups."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays
from gommage.core.document.records.times import Frames, Keyed

__all__ = [
    "BelowPicture",
    "Blend",
    "Brush",
    "CleanPlatePicture",
    "FixPicture",
    "FrameOffset",
    "Group",
    "Painting",
    "PinnedFrame",
    "PlatePicture",
    "Pressure",
    "Source",
    "SourcePicture",
    "SourceTime",
    "Stroke",
    "Tones",
    "Tool",
]


class Tool(StrEnum):
    """The brushes."""

    CLONE = "clone"
    HEAL = "heal"
    RESTORE = "restore"
    ERASE = "erase"
    SMEAR = "smear"
    SOFTEN = "soften"
    SHARPEN = "sharpen"
    LIGHTEN = "lighten"
    DARKEN = "darken"
    COLOUR = "colour"


class Pressure(StrEnum):
    """What the pen's pressure sets."""

    SIZE = "size"
    OPACITY = "opacity"


class Blend(StrEnum):
    """How paint meets what lies below, in linear light."""

    OVER = "over"
    ADD = "add"
    MULTIPLY = "multiply"
    LIGHTER = "lighter"
    DARKER = "darker"


class Tones(StrEnum):
    """Which tones a brush that lightens or darkens works on."""

    ALL = "all"
    SHADOWS = "shadows"
    MIDDLE = "middle"
    HIGHLIGHTS = "highlights"


class Brush(Record, frozen=True):
    """A brush as it was in the hand.

    Attributes
    ----------
    size_px : float
        Diameter at full pressure.
    softness : float
        0: sharp rim, 1: falls off from the centre.
    opacity, flow : float
        0 to 1: of the whole stroke, and of each dab: below 1 dabs build up on one another.
    spacing : float
        Distance of dabs, in diameters.
    pressure : tuple of Pressure
        What pressure sets.
    strength : float
        0 to 1, of brushes that change what is there.
    tones : Tones
        Which tones they change, where they lighten or darken.
    colour : tuple of float
        Scene-linear, of the colour brush.
    channels : str
        Those of red, green and blue that are painted on.
    """

    tool: Tool = Tool.CLONE
    size_px: float = 30.0
    softness: float = 0.5
    opacity: float = 1.0
    flow: float = 1.0
    spacing: float = 0.12
    pressure: tuple[Pressure, ...] = (Pressure.SIZE,)
    strength: float = 0.5
    tones: Tones = Tones.ALL
    colour: tuple[float, float, float] = (0.18, 0.18, 0.18)
    blend: Blend = Blend.OVER
    channels: str = "rgb"

    def __post_init__(self) -> None:
        shares = self.softness, self.opacity, self.flow, self.strength
        if not (self.size_px > 0 and self.spacing > 0 and all(0 <= share <= 1 for share in shares)):
            raise ValueError(
                f"a brush needs a size and spacing above 0 and softness, opacity, flow and strength from 0 to 1, "
                f"got {self.size_px}, {self.spacing}, {shares}"
            )


class PlatePicture(Record, frozen=True, tag="plate"):
    """The shot as it was filmed."""


class BelowPicture(Record, frozen=True, tag="below"):
    """What lies below the stroke: on a clean plate the plate as it was before, else the result so far."""


class CleanPlatePicture(Record, frozen=True, tag="clean plate"):
    """A clean plate."""

    plate_id: str


class FixPicture(Record, frozen=True, tag="fix"):
    """What another fix lays."""

    fix_id: str


SourcePicture = BelowPicture | PlatePicture | CleanPlatePicture | FixPicture


class FrameOffset(Record, frozen=True, tag="offset"):
    """So many frames before (below 0) or after."""

    frames: int = 0


class PinnedFrame(Record, frozen=True, tag="pinned"):
    """Always that frame."""

    frame: int


SourceTime = FrameOffset | PinnedFrame


class Source(Record, frozen=True):
    """Where a stroke takes its pixels.

    Attributes
    ----------
    dx, dy : float
        So many pixels to the right and down from where they are laid.
    turn_deg, scale, is_mirrored
        The source turned about the place it is taken from, made larger, mirrored.
    is_fixed : bool
        Whether the place stays while the stroke goes on.
    runs_along : bool
        Whether another frame is brought into register by the surface.
    """

    picture: SourcePicture = BelowPicture()
    dx: float = 0.0
    dy: float = 0.0
    turn_deg: float = 0.0
    scale: float = 1.0
    is_mirrored: bool = False
    is_fixed: bool = False
    time: SourceTime = FrameOffset()
    runs_along: bool = True


class Stroke(Record, frozen=True):
    """One movement of a brush.

    Attributes
    ----------
    points : Array
        (N, 3): x, y in pixels of what is painted on, pressure 0 to 1.
    surface_id : str
        What it rides on; empty: the pixels of what is painted on.
    frames : tuple of Frames
        On which it exists; none: on all.
    """

    id: str
    points: Array
    brush: Brush = Brush()
    source: Source = Source()
    surface_id: str = ""
    frames: tuple[Frames, ...] = ()
    group_id: str = ""
    is_on: bool = True
    is_locked: bool = False

    def __post_init__(self) -> None:
        as_arrays(self, "points")
        values = self.points.values
        if values.ndim != 2 or values.shape[1] != 3 or not len(values) or not np.isfinite(values).all():
            raise ValueError(f"a stroke needs finite points (x, y, pressure), got an array {values.shape}")


class Group(Record, frozen=True):
    """Strokes that are named, moved, switched and timed together."""

    id: str
    name: str
    is_on: bool = True
    opacity: Keyed = 1.0
    frames: tuple[Frames, ...] = ()


class Painting(Record, frozen=True):
    """Strokes, first to last, and their groups."""

    strokes: tuple[Stroke, ...] = ()
    groups: tuple[Group, ...] = ()
