"""A matte as it is on one frame: its parts where their surfaces are, with numbers in place of curves."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.document import Array, Combine, Drawn, Matte, MattePart, is_within, outline_at, value_at
from gommage.core.document.records import Record
from gommage.core.geometry import Mapping, Points

__all__ = ["PART_KINDS", "MatteAt", "PartAt", "matte_at"]

MappingOf = Callable[[str], Mapping | None]
"""Gives for a surface's id where its home pixels are on the frame; None where the surface is not."""


class PartAt(Record, frozen=True):
    """A part on one frame.

    Attributes
    ----------
    outline : Array
        (M, 2) in pixels of the frame.
    grow_px, inwards_px, outwards_px : float
        Pixels of the frame.
    """

    outline: Array
    combine: Combine
    is_inverted: bool
    grow_px: float
    inwards_px: float
    outwards_px: float


class MatteAt(Record, frozen=True):
    """A matte on one frame: everything that its pixels depend on."""

    parts: tuple[PartAt, ...]

    @property
    def outlines(self) -> list[Points]:
        """The outlines of the parts that add, (M, 2) each."""
        return [part.outline.values for part in self.parts if part.combine is Combine.ADD and not part.is_inverted]


def _drawn(part: MattePart, frame: int, mapping_of: MappingOf) -> Points | None:
    assert isinstance(part.source, Drawn)
    mapping = mapping_of(part.source.surface_id)
    if mapping is None:
        return None
    moved = mapping(outline_at(part.source.shape, frame))
    moved = moved[np.isfinite(moved).all(axis=1)]  # points behind the camera are left out
    return moved if len(moved) >= 3 else None


PART_KINDS: dict[type, Callable[[MattePart, int, MappingOf], Points | None]] = {Drawn: _drawn}
"""By the record of its source: what gives a part's outline on a frame."""


def matte_at(matte: Matte, frame: int, mapping_of: MappingOf) -> MatteAt:
    """Return a matte as it is on a frame; parts that do not exist there are left out.

    Parameters
    ----------
    matte : Matte
    frame : int
    mapping_of : callable
        From a surface's home pixels to the frame's; for the empty id the identity.
    """
    found = []
    for part in matte.parts:
        if not part.is_on or not is_within(part.frames, frame):
            continue
        line = PART_KINDS[type(part.source)](part, frame, mapping_of)
        if line is not None:
            found.append(_part_at(matte, part, frame, line))
    return MatteAt(parts=tuple(found))


def _part_at(matte: Matte, part: MattePart, frame: int, line: Points) -> PartAt:
    return PartAt(
        outline=Array(line),
        combine=part.combine,
        is_inverted=part.is_inverted,
        grow_px=value_at(matte.grow_px, frame) + value_at(part.grow_px, frame),
        inwards_px=value_at(matte.softness.inwards_px, frame) + value_at(part.softness.inwards_px, frame),
        outwards_px=value_at(matte.softness.outwards_px, frame) + value_at(part.softness.outwards_px, frame),
    )
