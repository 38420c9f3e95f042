"""The commands of the brush in hand: its size, brushes and sources kept on keys, sources found for it."""

from __future__ import annotations

from functools import partial, partialmethod

import numpy as np
from msgspec.structs import replace

from gommage.app.desk import Desk
from gommage.app.hands.brush import SIZES_PX
from gommage.app.hands.next_stroke import painted_on, source_of, takes_source
from gommage.app.laid_out import KeptSource
from gommage.app.picture.stage import Stage
from gommage.app.session import Session
from gommage.core.engine import Priority, found_sources
from gommage.core.geometry import IDENTITY, Mapping, Points, growth, then
from gommage.core.paint import Candidate

__all__ = ["KEYS", "BrushCommands"]

KEYS = (1, 2, 3, 4)
"""So many brushes, and so many sources, are kept on keys."""
BRUSH_STEP, SOFT_STEP = 1.2, 0.1
MOULD_SIZES_PX = (4.0, 2000.0)


class BrushCommands:
    """What keys do with the brush in hand."""

    def __init__(self, session: Session, stage: Stage) -> None:
        self._session, self._stage = session, stage
        self._after: tuple[float, float] | None = None

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    # -- size and softness ----------------------------------------------------------------------------------

    def _scale(self, factor: float) -> None:
        if self._desk.tool == "mould":
            self._session.set_desk(mould_px=float(np.clip(self._desk.mould_px * factor, *MOULD_SIZES_PX)))
            return
        brush = self._desk.brush
        self._session.set_desk(brush=replace(brush, size_px=float(np.clip(brush.size_px * factor, *SIZES_PX))))

    def brush_smaller(self) -> None:
        """Smaller."""
        self._scale(1 / BRUSH_STEP)

    def brush_larger(self) -> None:
        """Larger."""
        self._scale(BRUSH_STEP)

    def _soften(self, by: float) -> None:
        brush = self._desk.brush
        self._session.set_desk(brush=replace(brush, softness=float(np.clip(brush.softness + by, 0, 1))))

    def brush_softer(self) -> None:
        """Softer."""
        self._soften(SOFT_STEP)

    def brush_harder(self) -> None:
        """Harder."""
        self._soften(-SOFT_STEP)

    # -- kept on keys ---------------------------------------------------------------------------------------

    def _keep_brush(self, key: int) -> None:
        desk = self._desk
        if desk.paint_tool is None:
            self._session.error_shown.emit("Take a brush to keep it on a key.")
            return
        others = tuple(one for one in desk.brushes if one[0] != key)
        self._session.set_desk(brushes=(*others, (key, desk.tool, desk.brush, desk.life)))
        self._session.note_shown.emit(f"{desk.tool.capitalize()}, {desk.brush.size_px:.0f} px, kept as brush {key}")

    def _take_brush(self, key: int) -> None:
        kept = next((one for one in self._desk.brushes if one[0] == key), None)
        if kept is None:
            self._session.error_shown.emit(f"No brush is kept as {key} yet.")
            return
        _, tool, brush, life = kept
        self._session.set_desk(**self._desk.with_brush(tool) | {"brush": brush, "life": life})

    def _keep_source(self, key: int) -> None:
        others = tuple(one for one in self._desk.sources if one[0] != key)
        self._session.set_desk(sources=(*others, (key, self._desk.kept_source)))
        self._session.note_shown.emit(f"Kept as source {key}")

    def _take_source(self, key: int) -> None:
        kept = next((source for number, source in self._desk.sources if number == key), None)
        if kept is None:
            self._session.error_shown.emit(f"No source is kept as {key} yet.")
        else:
            self._session.set_desk(**kept.on_desk, source_at=None)

    # -- found ----------------------------------------------------------------------------------------------

    def find_source(self) -> None:
        """Find the best sources for where the brush is; once more: the next of them."""
        desk = self._desk
        if desk.candidates and self._is_in_brush():
            self._show((desk.candidate + 1) % len(desk.candidates))
            return
        ground, pen = self._stage.ground(), self._stage.pen_at
        on = painted_on(ground)
        if not takes_source(desk.paint_tool) or ground.shot is None:
            self._session.error_shown.emit("Take a clone or heal brush to find a source for it.")
            return
        if isinstance(on, str) or on.view is None or pen is None:
            self._session.error_shown.emit("Hold the brush over what is to be painted away.")
            return
        # Sources are looked for in pixels of the frame that is painted on, and set in those of the stroke.
        canvas_from_frame = then(ground.view_from_frame, on.view.inverse()) if on.is_shot else IDENTITY
        at, frame = canvas_from_frame.inverse()(on.view.inverse()(pen)), ground.painted_frame
        scale = growth(canvas_from_frame, at)
        radius = desk.brush.size_px / 2 / (scale if np.isfinite(scale) else 1.0)
        place = float(at[0]), float(at[1])
        find = partial(found_sources, self._session.engine, ground.shot, on.holder_id, frame, place, radius)
        self._session.call_off("found")
        came = partial(self._came, canvas_from_frame, at, frame)
        self._session.submit(("found", on.holder_id, frame, place), Priority.SCREEN, find, came)

    def previous_source(self) -> None:
        """Back to the found source before."""
        desk = self._desk
        if desk.candidates:
            self._show((desk.candidate - 1) % len(desk.candidates))
        else:
            self._session.error_shown.emit("No sources were found yet.")

    def _is_in_brush(self) -> bool:
        """Return whether the source in the brush is the one that was found: nothing else was set since."""
        desk = self._desk
        return desk.candidates[desk.candidate].on_desk == desk.kept_source.on_desk and desk.last_point == self._after

    def _came(self, canvas: Mapping, at: Points, frame: int, found: tuple[Candidate, ...]) -> None:
        if not found:
            self._session.error_shown.emit("Nothing near here, and on no other frame, is like these surroundings.")
            return
        desk, begun = self._desk, canvas(at)
        kept = []
        for one in found:
            by = canvas(at + (one.dx, one.dy)) - begun
            away = one.frame - frame
            source = replace(source_of(desk, float(by[0]), float(by[1])), runs_along=True)
            kept.append(KeptSource(source, away, None, True, desk.source_base, one.mismatch))
        self._after = desk.last_point
        self._session.set_desk(candidates=tuple(kept))
        self._show(0)

    def _show(self, number: int) -> None:
        """Take a found source into the brush."""
        found = self._desk.candidates
        chosen = found[number]
        self._session.set_desk(**chosen.on_desk, source_at=None, candidate=number)
        self._session.note_shown.emit(
            f"Source {number + 1} of {len(found)}, surroundings differ by {chosen.mismatch:.1%}. "
            "Paint takes it; Alt+S is the next, Alt+A the one before"
        )


for _key in KEYS:
    for _what in ("brush", "source"):
        for _does in ("keep", "take"):
            _method = getattr(BrushCommands, f"_{_does}_{_what}")
            setattr(BrushCommands, f"{_does}_{_what}_{_key}", partialmethod(_method, _key))
