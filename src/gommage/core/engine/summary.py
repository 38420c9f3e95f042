"""What lists, strip and curves show of a shot, gathered in one go beside the interface."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from gommage.core.check import FrameMeasures
from gommage.core.document import Placement, Shot, Still, Surface, placement
from gommage.core.engine.steps import NOT_LOOKED, SLIP_TO_LOOK_AT_PX, Advice, Step, steps_of
from gommage.core.geometry import moved

__all__ = ["ShotSummary", "SurfaceSummary", "summarised", "surface_summary"]

Figures = Mapping[str, tuple[FrameMeasures, ...]]
NOTHING_SEEN: Mapping[str, Mapping[int, float]] = MappingProxyType({})


@dataclass(frozen=True, slots=True, eq=False)
class SurfaceSummary:
    """A surface over the frames on which it is known.

    Attributes
    ----------
    first, last : int
        The frames; last is before first where it was not followed.
    is_placed : (N,) bool
    slip_px, certainty : (N,) float64
    reasons : tuple of str
    x, y, scale_percent, turn_deg : (N,) float64
        Of its middle; NaN where it is not placed.
    before, after : str
        Why the follow ended.
    """

    surface: Surface
    first: int = 1
    last: int = 0
    is_placed: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    slip_px: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    certainty: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    reasons: tuple[str, ...] = ()
    x: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    y: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    scale_percent: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    turn_deg: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    before: str = ""
    after: str = ""

    @property
    def is_known(self) -> bool:
        """Whether it is anywhere."""
        return self.last >= self.first

    def row(self, frame: int) -> int | None:
        """Return the row of a frame on which it is placed, or None."""
        row = frame - self.first
        return row if 0 <= row < len(self.is_placed) and self.is_placed[row] else None

    @property
    def worst_frame(self) -> int:
        """The frame of the greatest slip."""
        return self.first + int(np.argmax(np.where(self.is_placed, self.slip_px, -1.0)))

    @property
    def worst_px(self) -> float:
        """The greatest slip."""
        return float(np.where(self.is_placed, self.slip_px, 0.0).max(initial=0.0))

    @property
    def words(self) -> str:
        """Its slip, or what there is instead, in a word or two."""
        if not self.is_known:
            return "not followed"
        return "still" if isinstance(self.surface.how, Still) else f"slip {self.worst_px:.2f} px"

    @property
    def needs_look(self) -> bool:
        """Whether the slip is worth a look."""
        return self.worst_px > SLIP_TO_LOOK_AT_PX


@dataclass(frozen=True, slots=True, eq=False)
class ShotSummary:
    """All surfaces by id, and the states of all fixes' steps by the fix's id."""

    shot: Shot | None = None
    surfaces: Mapping[str, SurfaceSummary] = field(default_factory=dict)
    steps: Mapping[str, Mapping[Step, Advice]] = field(default_factory=dict)


def surface_summary(surface: Surface, placed: Placement | None) -> SurfaceSummary:
    """Return a surface over its frames."""
    if placed is None:
        return SurfaceSummary(surface)
    middle = surface.corners.mean(axis=0)
    matrices = placed.matrices
    at = moved(matrices, middle[None])[:, 0]
    slopes = (matrices[:, :2, :2] - at[:, :, None] * matrices[:, 2:, :2]) / (
        matrices[:, 2, :2] @ middle + matrices[:, 2, 2]
    )[:, None, None]
    known = placed.is_placed_rows
    determinant = np.abs(slopes[:, 0, 0] * slopes[:, 1, 1] - slopes[:, 0, 1] * slopes[:, 1, 0])

    def where_placed(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.where(known, values, np.nan)

    return SurfaceSummary(
        surface=surface,
        first=placed.frames.first,
        last=placed.frames.last,
        is_placed=known,
        slip_px=placed.slip_px,
        certainty=placed.certainty,
        reasons=placed.reasons,
        x=where_placed(at[:, 0]),
        y=where_placed(at[:, 1]),
        scale_percent=where_placed(100 * np.sqrt(determinant)),
        turn_deg=where_placed(np.rad2deg(np.arctan2(slopes[:, 1, 0], slopes[:, 0, 0]))),
        before=placed.before,
        after=placed.after,
    )


def summarised(
    shot: Shot, figures: Figures, before: ShotSummary | None = None, check: Callable[[], None] = lambda: None,
    seen: Mapping[str, Mapping[int, float]] = NOTHING_SEEN,
) -> ShotSummary:  # fmt: skip
    """Return the summary of a shot; surfaces that are as in an earlier one are taken from there.

    Parameters
    ----------
    shot : Shot
    figures : mapping
        Measurements of fixes, by id.
    before : ShotSummary, optional
    check : callable
        Called between surfaces.
    seen : mapping
        How much of each fix's cover donors show on each frame, by its id.
    """
    surfaces: dict[str, SurfaceSummary] = {}
    old = before.surfaces if before is not None else {}
    earlier = before.shot if before is not None else None
    is_same_below = earlier is not None and earlier.footage == shot.footage and earlier.camera is shot.camera
    for surface in shot.surfaces:
        check()
        known = old.get(surface.id)
        if known is not None and is_same_below and not surface.rides_on and known.surface is surface:
            surfaces[surface.id] = known
        else:
            surfaces[surface.id] = surface_summary(surface, placement(shot, surface))
    steps: dict[str, Mapping[Step, Advice]] = {}
    for fix in shot.fixes:
        check()
        steps[fix.id] = steps_of(shot, fix, tuple(figures.get(fix.id, ())), seen.get(fix.id, NOT_LOOKED))
    return ShotSummary(shot, surfaces, steps)
