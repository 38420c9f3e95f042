"""A stroke while it is in the hand: from the pen's points to pixels of the viewport."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from msgspec.structs import replace as msgspec_replace
from numpy.typing import NDArray

from gommage.core.document import Project, Shot, Stroke, edits, mappings_of
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.inputs import FixInputs, frame_inputs, inputs_at
from gommage.core.engine.patches import MARGIN_OF_PAINT_PX
from gommage.core.engine.views import Look, ViewRequest, level_shown, shown_pixels, view_from_shown_of
from gommage.core.fill import canvas_key
from gommage.core.geometry import IDENTITY, Mapping, Window, around, scaling, spanning, then
from gommage.core.paint import CanvasKey, StrokeInHand, StrokeSources, scaled
from gommage.core.picture import scale_of

__all__ = ["LiveStroke", "Shown"]

Check = Callable[[], None]


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Shown:
    """Pixels (h, w, 4) uint8 for a window of the viewport; the last number is 0 where there is no picture."""

    window: Window
    pixels: NDArray[np.uint8]


class LiveStroke:
    """Lay a stroke and show each bit of it, in whatever is looked at.

    Its methods are called one after the other, by one thread.

    Parameters
    ----------
    engine : Engine
    request : ViewRequest
        What the viewport shows, of the shot as it was before the stroke.
    holder_id : str
        The clean plate that is painted on, or the fix whose touch-up it is.
    stroke : Stroke
        Brush and source; of its points the first alone counts.
    """

    def __init__(self, engine: Engine, request: ViewRequest, holder_id: str, stroke: Stroke) -> None:
        shot, ids = request.shot, {plate.id for plate in request.shot.clean_plates}
        whole = edits.add_stroke(Project.of(shot), shot.id, holder_id, stroke).shots[0]
        kind = _OnPlate if holder_id in ids else _OnFrame
        self._on = kind(engine, request, whole, holder_id)
        self._engine, self._request = engine, request
        self._hand: StrokeInHand | None = None

    def add(self, points: NDArray[np.float64], check: Check = _never) -> Shown | None:
        """Lay more points (N, 3) and return what of the viewport changed, or None."""
        hand = self._begun(check)
        if hand is None:
            return None
        changed = hand.add(self._on.moved(points))
        view = self._on.view()
        if changed is None or view is None:
            return None
        seen = spanning(view, changed.grown(self._on.margin_px), 4)
        part = around(seen, 1) & Window.of(*self._request.size_wh)
        if part.is_empty or not np.isfinite(seen).all():
            return None
        pixels = shown_pixels(self._engine, self._on.request, part, {self._on.key: hand.canvas}, check)
        return Shown(part, pixels)

    def _begun(self, check: Check) -> StrokeInHand | None:
        if self._hand is None:
            self._hand = self._on.begin(check)
        return self._hand

    def finish(self, shot: Shot, check: Check = _never) -> None:
        """Keep the tiles that the hand saw, as those of the shot with the stroke committed."""
        hand = self._begun(check)
        if hand is not None:
            hand.finish()
            self._on.keep(shot, hand)


class _OnPlate:
    """A stroke on a clean plate."""

    def __init__(self, engine: Engine, request: ViewRequest, whole: Shot, plate_id: str) -> None:
        self._engine, self.request, self._id = engine, request, plate_id
        self.key: CanvasKey | FixInputs = canvas_key(request.shot, request.shot.clean_plate(plate_id))
        self._strokes = canvas_key(whole, whole.clean_plate(plate_id)).strokes
        self.margin_px = 1 if request.look is Look.CLEAN_PLATE else MARGIN_OF_PAINT_PX

    def begin(self, check: Check) -> StrokeInHand | None:
        """Return the stroke on the plate as it was; None if it is not laid."""
        key, pictures = self.key, self._engine.pictures
        assert isinstance(key, CanvasKey)
        if len(self._strokes) == len(key.strokes):
            return None
        stroke = self._strokes[-1]
        self._before = pictures.canvas(key, check)
        sources = StrokeSources(lambda one: pictures.origin(one.origin, key.footage, 0, check))
        return StrokeInHand(self._before, pictures.canvas(key.untouched, check), stroke, sources)

    def moved(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return points (N, 3) in pixels of the canvas."""
        assert isinstance(self.key, CanvasKey)
        return points if self.key.scale == 1 else points * (self.key.scale, self.key.scale, 1.0)

    def view(self) -> Mapping | None:
        """Return where the plate's pixels are in the viewport: as it is carried to the frame that is looked at."""
        request = self.request
        if request.look is Look.CLEAN_PLATE:
            return view_from_shown_of(request)
        for inputs in frame_inputs(request.shot, request.frame):
            for plate in inputs.plates:
                if plate.canvas == self.key:
                    return then(plate.frame_from_plate, request.view_from_frame)
        return None

    def keep(self, shot: Shot, hand: StrokeInHand) -> None:
        """Keep the painted canvas."""
        key = canvas_key(shot, shot.clean_plate(self._id))
        self._engine.pictures.keep_painted(key.untouched, key.strokes, self._before, hand)


class _OnFrame:
    """A stroke of a fix, laid on the frame that is looked at, at the level at which it is shown."""

    margin_px = 1

    def __init__(self, engine: Engine, request: ViewRequest, whole: Shot, fix_id: str) -> None:
        self._engine, self._id = engine, fix_id
        self._level = level_shown(request.view_from_frame, request.size_wh)
        self._inputs = inputs_at(whole, whole.fix(fix_id), request.frame)
        before = inputs_at(request.shot, request.shot.fix(fix_id), request.frame)
        # As the shot was, so that fixes in front are there already; a fix that did nothing yet is in the new one alone.
        self.request = request if before is not None else replace(request, shot=whole)
        self._in_place_of = before or self._inputs
        self._is_laid = self._inputs is not None and len(self._inputs.strokes) > len(before.strokes if before else ())
        self._home = mappings_of(whole)(whole.fix(fix_id).touch_up.strokes[-1].surface_id, request.frame)

    @property
    def key(self) -> CanvasKey | FixInputs:
        """In place of whose touch-up it is shown."""
        assert self._in_place_of is not None
        return self._in_place_of

    def begin(self, check: Check) -> StrokeInHand | None:
        """Return the stroke on the frame as it was; None if it is not laid there."""
        inputs, patches = self._inputs, self._engine.patches
        if inputs is None or not self._is_laid:
            return None
        self._before = patches.touched_up(msgspec_replace(inputs, strokes=inputs.strokes[:-1]), self._level, check)
        blank, sources = patches.blank(inputs, self._level, check)
        return StrokeInHand(self._before, blank, scaled(inputs.strokes[-1], scale_of(self._level)), sources)

    def moved(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return points (N, 3) in pixels of the canvas."""
        assert self._home is not None
        there, scale = points, scale_of(self._level)
        if self._home is not IDENTITY:
            there = np.column_stack([self._home(points[:, :2]), points[:, 2]])
        return there * (scale, scale, 1.0)

    def view(self) -> Mapping | None:
        """Return where the canvas's pixels are in the viewport."""
        return then(scaling(1 / scale_of(self._level)), self.request.view_from_frame)

    def keep(self, shot: Shot, hand: StrokeInHand) -> None:
        """Keep the painted canvas."""
        inputs = inputs_at(shot, shot.fix(self._id), self.request.frame)
        if inputs is not None:
            self._engine.patches.keep_touched_up(inputs, self._level, self._before, hand)
