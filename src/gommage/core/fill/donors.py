"""What a fill from other frames depends on: donor frames, and the surfaces along which they are brought."""

from __future__ import annotations

from itertools import takewhile

import numpy as np

from gommage.core.cover import MappingOf, MatteAt, matte_on, reach_of
from gommage.core.document import (
    Donors,
    Fix,
    Footage,
    Matte,
    PlaneFollow,
    Plates,
    ScenePlane,
    Shape,
    Shot,
    Span,
    Surface,
    mappings_of,
    placement,
)
from gommage.core.document.records import Record
from gommage.core.fill.blocking import blocked_on
from gommage.core.fill.blurring import excess_px, passing_on
from gommage.core.fill.choosing import (
    DonorAt,
    PlaneAt,
    nearest_first,
)
from gommage.core.fill.pieces import FRAMES_AWAY
from gommage.core.fill.plates import PlatesAt, plates_at
from gommage.core.fill.spans import SpanAt, span_at
from gommage.core.geometry import IDENTITY, Mapping, Points, then
from gommage.core.paint import CanvasKey

__all__ = ["DonorsAt", "donors_at", "surfaces_behind"]


class DonorsAt(Record, frozen=True):
    """The donors of a fill on one frame: everything that its pixels depend on.

    Attributes
    ----------
    footage : Footage
    frame : int
    cover : MatteAt
        What is filled.
    others : tuple of MatteAt
        What else does not show the background on this frame.
    planes : tuple of PlaneAt
        Back to front; one without a surface: each piece of the cover is filled by itself.
    reach_px : float
        How far left-over motion may be.
    rest : PlatesAt or None
        What fills what no frame shows.
    lines : SpanAt or None
        The cover's open lines: what is still lacking of them is closed from both sides.
    is_blurred : bool
        Whether it is made as blurred as the frame.
    """

    footage: Footage
    frame: int
    cover: MatteAt
    others: tuple[MatteAt, ...]
    planes: tuple[PlaneAt, ...]
    reach_px: float
    rest: PlatesAt | None
    lines: SpanAt | None = None
    is_blurred: bool = True

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: the clean plates of the rest."""
        return () if self.rest is None else self.rest.canvases

    @property
    def as_shot(self) -> DonorsAt:
        """The same: its light is its own matter."""
        return self


def donors_at(fill: Donors, shot: Shot, fix: Fix, frame: int) -> DonorsAt | None:
    """Return the donors of a frame, or None where none of the surfaces is."""
    planes: list[PlaneAt] = []
    mapping_of = mappings_of(shot)
    cover = matte_on(shot, fix.cover, frame)
    if not fill.surface_ids:
        planes = [PlaneAt(surface_id="", extent=None, donors=_beside(fill, shot, frame))]
    middle = reach_of(cover, shot.footage.bounds).corners.mean(axis=0)
    surfaces = [shot.surface(surface_id) for surface_id in fill.surface_ids]
    for number, surface in enumerate(surfaces):
        here = mapping_of(surface.id, frame)
        if here is None:
            continue
        donors, passing = [], passing_on(shot, surface.id, frame)
        for other in nearest_first(fill, shot.footage, frame):
            there = mapping_of(surface.id, other)
            if there is not None:
                in_front = surfaces[number + 1 :]
                nearer = tuple(_reach_on(shot, one, other) for one in in_front)
                donors.append(
                    DonorAt(
                        frame=other,
                        frame_from_donor=then(there.inverse(), here),
                        blocked=blocked_on(shot, other),
                        nearer=tuple(one for one in nearer if one is not None),
                        excess_px=excess_px(passing_on(shot, surface.id, other), passing),
                        apart_px=_apart_px(then(there.inverse(), here), in_front, mapping_of, frame, other, middle),
                    )
                )
        if donors:
            extent = _reach_on(shot, surface, frame) if planes else None
            planes.append(PlaneAt(surface_id=surface.id, extent=extent, donors=tuple(donors), passing=passing))
    if not planes:
        return None
    rest = plates_at(Plates(plate_ids=fill.rest_plate_ids), shot, fix, frame) if fill.rest_plate_ids else None
    others = tuple(matte for matte in blocked_on(shot, frame) if matte != cover)
    return DonorsAt(
        footage=shot.footage, frame=frame, cover=cover, others=others, planes=tuple(planes), reach_px=fill.reach_px,
        rest=rest, lines=span_at(Span(), shot, fix, frame), is_blurred=fix.match.sharpness_px is None,
    )  # fmt: skip


def _beside(fill: Donors, shot: Shot, frame: int) -> tuple[DonorAt, ...]:
    """Return the nearest frames as they are, for pieces that are each looked for by themselves."""
    near = takewhile(
        lambda other: abs(other - frame) <= FRAMES_AWAY * fill.step, nearest_first(fill, shot.footage, frame)
    )
    return tuple(
        DonorAt(frame=other, frame_from_donor=IDENTITY, blocked=blocked_on(shot, other), nearer=()) for other in near
    )


def _apart_px(
    frame_from_donor: Mapping, in_front: list[Surface], mapping_of: MappingOf, frame: int, other: int, place: Points
) -> float:
    """Return how far apart surfaces in front and one behind them have gone at a place between two frames."""
    found = 0.0
    for surface in in_front:
        here, there = mapping_of(surface.id, frame), mapping_of(surface.id, other)
        if here is not None and there is not None:
            donor = frame_from_donor.inverse()(place[None])
            found = max(found, float(np.hypot(*(then(there.inverse(), here)(donor) - place)[0])))
    return found


def surfaces_behind(shot: Shot, fix: Fix) -> tuple[str, ...]:
    """Return the followed surfaces that may lie behind a thing, back to front.

    Those that neither it nor its cover rides on; if there are none, those that it does: then it moves before them.
    """
    followed = [one.id for one in shot.surfaces if placement(shot, one) is not None]
    own = {fix.surface_id, *(drawn.surface_id for _, drawn in fix.cover.drawn)}
    return tuple(one for one in followed if one not in own) or tuple(one for one in followed if one in own)


def _reach_on(shot: Shot, surface: Surface, frame: int) -> MatteAt | None:
    """Return where a surface in front of another is seen: its extent, or else what it was followed by."""
    matte = surface.extent
    if not matte.parts and isinstance(surface.how, PlaneFollow):
        matte = surface.how.areas
    if not matte.parts and isinstance(surface.how, ScenePlane):
        outline = Shape.of("outline", surface.home_frame, surface.outline)
        matte = Matte.of(outline, surface_id=surface.id)
    return matte_on(shot, matte, frame) if matte.parts else None
