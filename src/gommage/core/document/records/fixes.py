"""Fixes: one thing that is removed, and how its new pixels are fitted in."""

from __future__ import annotations

from gommage.core.document.records.base import Record
from gommage.core.document.records.fills import Fill, Placed, Plates, Texture
from gommage.core.document.records.painting import Painting
from gommage.core.document.records.shapes import Matte, Softness
from gommage.core.document.records.times import Frames, Keyed

__all__ = ["COVER_SOFTNESS", "Fix", "GrainMatch", "LightMatch", "Match"]

COVER_SOFTNESS = Softness(outwards_px=6.0)
"""What a cover begins with."""


class LightMatch(Record, frozen=True):
    """Brightness and colour of the new pixels.

    Attributes
    ----------
    is_measured : bool
        Whether they follow the pixels around the cover, frame by frame.
    by_hand : tuple of Frames
        On which they do not, though it is measured on others.
    exposure_stops, temperature, tint, contrast, saturation, lift, gain : Keyed
        By hand, on top.
    """

    is_measured: bool = True
    by_hand: tuple[Frames, ...] = ()
    exposure_stops: Keyed = 0.0
    temperature: Keyed = 0.0
    tint: Keyed = 0.0
    contrast: Keyed = 1.0
    saturation: Keyed = 1.0
    lift: Keyed = 0.0
    gain: Keyed = 1.0


class GrainMatch(Record, frozen=True):
    """Grain of the new pixels.

    Attributes
    ----------
    amount : Keyed
        Share of the shot's measured grain that is put on; 1 is as in the plate, 0 leaves the fill as it is.
    is_laid : bool
        False shows the fill freed of its grain with none put on, to judge it by.
    """

    amount: Keyed = 1.0
    is_laid: bool = True


class Match(Record, frozen=True):
    """How new pixels are fitted in; None: found by itself.

    Attributes
    ----------
    edge : Softness or None
        Of the cover's edge, in place of the cover's own.
    sharpness_px : Keyed or None
        Blur that is put on.
    is_joined : bool
        Whether new pixels meet the picture around the cover without a step: only their gradients are kept.
    """

    edge: Softness | None = None
    light: LightMatch = LightMatch()
    grain: GrainMatch = GrainMatch()
    sharpness_px: Keyed | None = None
    is_joined: bool = False


class Fix(Record, frozen=True):
    """One thing that is removed or mended.

    Attributes
    ----------
    surface_id : str
        What it rides on, if nothing of it says otherwise; empty: the pixels of the frame.
    cover, hold_outs : Matte
        Where the picture is replaced, and where the plate stays in front of that. Without a cover a fix is its strokes.
    light_area : Matte
        Where light is looked at; empty: around the cover.
    touch_up : Painting
        Strokes over the fill.
    frames : tuple of Frames
        On which it exists; none: on all.
    """

    id: str
    name: str
    surface_id: str = ""
    colour: str = ""
    cover: Matte = Matte(softness=COVER_SOFTNESS)
    hold_outs: Matte = Matte()
    light_area: Matte = Matte()
    fill: Fill = Plates()
    touch_up: Painting = Painting()
    match: Match = Match()
    frames: tuple[Frames, ...] = ()
    opacity: Keyed = 1.0
    is_on: bool = True

    @property
    def mattes(self) -> tuple[Matte, ...]:
        """All its mattes."""
        own = self.fill.mattes if isinstance(self.fill, Texture | Placed) else ()
        return self.cover, self.hold_outs, self.light_area, *own
