"""What the strip shows of the surface and the fix in hand; gathered from the session, in arrays."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from gommage.app.session import Session
from gommage.core.document import FrameRange, Frames, Scribbled, Stroke
from gommage.core.engine import Step
from gommage.core.engine.steps import SLIP_TO_LOOK_AT_PX

__all__ = ["StripData", "strip_data"]


@dataclass(frozen=True, slots=True, eq=False)
class StripData:
    """What the strip shows.

    Attributes
    ----------
    first, last : int
        The shot's frames.
    sure_from : int
        Frame of the first of `sure`, (N,) 0 to 1: how well each frame was followed, NaN where it was not.
    slips : (N,) float64
        By how many pixels the surface may be off there, with `reasons` why.
    keys : tuple of int
        Frames with keys of the part in hand; `chosen_keys` of them, which are being dragged by `keys_by` frames.
    homes : tuple of int
        Home frames: of the surface, then of the plates.
    strokes : dict of int to int
        How many strokes were painted on a plate at home there.
    laid : dict of int to int
        How many strokes of the fix in hand live on a frame; `chosen_laid` are those of chosen strokes.
    figures : dict of int to float
        Per cent, for the check lane.
    drift : dict of int to float
        How far scribbles drifted while they were carried, 0 to 1.
    seen : dict of int to float
        How much of the cover of the fix in hand donors show, 0 to 1.
    scribbled : tuple of int
        Frames with scribbles of the part in hand.
    span : (first, last) or None
        Where the fix in hand lives.
    pins : tuple of int
        Frames corrected by hand.
    marked : (first, last) or None
        Marked frames.
    camera_from : int
        Frame of the first of `camera`, (N,) px: by how much the solved camera is off; below 0 where it was not solved.
    """

    first: int = 1
    last: int = 0
    missing: tuple[int, ...] = ()
    sure_from: int = 0
    sure: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    slips: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    reasons: tuple[str, ...] = ()
    keys: tuple[int, ...] = ()
    chosen_keys: tuple[int, ...] = ()
    keys_by: int = 0
    homes: tuple[int, ...] = ()
    strokes: dict[int, int] = field(default_factory=dict)
    laid: dict[int, int] = field(default_factory=dict)
    chosen_laid: frozenset[int] = frozenset()
    figures: dict[int, float] = field(default_factory=dict)
    drift: dict[int, float] = field(default_factory=dict)
    seen: dict[int, float] = field(default_factory=dict)
    scribbled: tuple[int, ...] = ()
    span: tuple[int, int] | None = None
    pins: tuple[int, ...] = ()
    marked: tuple[int, int] | None = None
    camera_from: int = 0
    camera: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    step: Step = Step.FOLLOW

    def slip(self, frame: int) -> float | None:
        """Return by how many pixels the surface may be off on a frame, None where it is not."""
        row = frame - self.sure_from
        return float(self.slips[row]) if 0 <= row < len(self.slips) and np.isfinite(self.sure[row]) else None

    def reason(self, frame: int) -> str:
        """Return why the surface may be off on a frame."""
        row = frame - self.sure_from
        return self.reasons[row] if 0 <= row < len(self.reasons) else ""


def strip_data(session: Session) -> StripData:
    """Return what the frame strip shows of the surface and the fix in hand."""
    desk, project, shot = session.desk, session.shown, session.shot
    if shot is None:
        return StripData()
    frames = shot.footage.frames
    surface, fix = desk.surface(project), desk.fix(project)
    found = session.surface_summary(surface.id) if surface is not None else None
    sure, slips, sure_from = np.zeros(0), np.zeros(0), 0
    reasons: tuple[str, ...] = ()
    if found is not None and found.is_known:
        slips, reasons, sure_from = found.slip_px, found.reasons, found.first
        sure = np.where(found.is_placed, found.certainty / (1 + (slips / SLIP_TO_LOOK_AT_PX) ** 2), np.nan)
    shape, part = desk.shape(project), desk.part(project)
    marks = part.source.marks if part is not None and isinstance(part.source, Scribbled) else ()
    lives = [one for life in fix.frames if (one := life.within(frames))] if fix is not None else []
    span = (min(one.first for one in lives), max(one.last for one in lives)) if lives else (frames.first, frames.last)
    figures = {one.frame: one.worst for one in session.measures(fix.id)} if fix is not None else {}
    return StripData(
        first=frames.first,
        last=frames.last,
        missing=shot.footage.missing,
        sure_from=sure_from,
        sure=sure,
        slips=slips,
        reasons=reasons,
        keys=tuple(key.frame for key in shape.keys) if shape is not None else (),
        chosen_keys=desk.keys,
        homes=(surface.home_frame,) if surface is not None else (),
        strokes={p.home_frame: len(p.painting.strokes) for p in shot.clean_plates if p.painting.strokes},
        laid=_laid(fix.touch_up.strokes, frames) if fix is not None else {},
        chosen_laid=frozenset(_laid(desk.strokes(session.shown), frames)) if desk.paints_shot else frozenset(),
        figures=figures,
        drift=session.drift(part.id) if part is not None else {},
        seen=session.seen(fix.id) if fix is not None else {},
        scribbled=tuple(sorted({mark.frame for mark in marks})),
        span=span if fix is not None else None,
        pins=tuple(pin.frame for pin in surface.pins) if surface is not None else (),
        marked=desk.marked,
        camera_from=shot.camera.first_frame if shot.camera is not None else 0,
        camera=shot.camera.frame_error_px.values if shot.camera is not None else np.zeros(0),
        step=desk.step,
    )


def _laid(strokes: tuple[Stroke, ...], frames: FrameRange) -> dict[int, int]:
    """Return how many strokes live on each frame that has any."""
    counts = np.zeros(len(frames), np.int64)
    for stroke in strokes:
        if not stroke.is_on:
            continue
        for one in stroke.frames or (Frames(),):
            within = one.within(frames)
            if within is not None:
                counts[within.first - frames.first : within.last - frames.first + 1] += 1
    return {frames.first + int(at): int(counts[at]) for at in np.nonzero(counts)[0]}
