"""The engine: everything that is computed of shots, kept in one cache."""

from __future__ import annotations

import os
from collections.abc import Callable

import numpy as np

from gommage.core.check import FrameMeasures
from gommage.core.cover import matte_on
from gommage.core.document import CleanPlate, Donors, Fix, Footage, Matte, Shot, Surface
from gommage.core.engine.cache import Cache, default_budget_bytes
from gommage.core.engine.elsewhere import donors_of, elsewhere_at, shares_seen, told_of_place
from gommage.core.engine.inputs import Inputs, WrittenBack, frame_inputs, grain_of_surface, inputs_at, matte_inputs
from gommage.core.engine.laid import Patch, whole_of
from gommage.core.engine.measuring import measured
from gommage.core.engine.patches import Patches
from gommage.core.engine.pictures import Pictures
from gommage.core.fill import PlatesAt, Seen, canvas_key
from gommage.core.geometry import Window
from gommage.core.match import Blur, Grain, Stops
from gommage.core.picture import Picture, Plates, RawFrame, scale_of

__all__ = ["Engine", "level_of"]

Check = Callable[[], None]
MOST_LEVELS, LIGHT_LEVEL = 6, 2
SHARE_OF_REPLAYS = 8
"""So much of the memory, one part in, is for what single strokes did."""


def _never() -> None:
    """Call nothing off."""


def level_of(scale: float) -> int:
    """Return the level of a scale: 1 is level 0, a half is 1, a quarter is 2.

    Raises
    ------
    ValueError
        If the scale is none of these.
    """
    level = round(-np.log2(scale)) if scale > 0 else -1
    if not 0 <= level <= MOST_LEVELS or scale != scale_of(level):
        raise ValueError(f"a picture is evaluated at 1, a half, a quarter and so on, got the scale {scale}")
    return level


class Engine:
    """Gives pictures, patches and figures of shots. All methods may be called from any thread.

    `check` is called between stages of at most some tens of milliseconds; it raises `Cancelled` to stop.
    """

    def __init__(self, budget_bytes: int | None = None) -> None:
        budget = budget_bytes or default_budget_bytes()
        self.cache = Cache(budget - budget // SHARE_OF_REPLAYS)
        self.pictures = Pictures(self.cache, Cache(budget // SHARE_OF_REPLAYS))
        self.patches = Patches(self.cache, self.pictures)

    # -- the plate ------------------------------------------------------------------------------------------

    def plates(self, footage: Footage) -> Plates:
        """Return the opened footage."""
        return self.pictures.plates(footage)

    def raw(self, footage: Footage, frame: int, check: Check = _never) -> RawFrame:
        """Return a frame as its file holds it."""
        return self.pictures.raw(footage, frame, check)

    def plate(self, footage: Footage, frame: int, check: Check = _never) -> Picture:
        """Return a frame of the plate: (H, W, 3) float32, scene-linear. Not to be modified."""
        return self.pictures.plate(footage, frame, 0, check)

    def painted(self, shot: Shot, plate: CleanPlate, check: Check = _never) -> Picture:
        """Return a clean plate with its strokes: (H, W, 3) float32. Not to be modified."""
        return self.pictures.canvas(canvas_key(shot, plate), check).whole()

    def merge(
        self, shot: Shot, plate: CleanPlate, check: Check = _never, told: Callable[[float], object] = lambda share: None
    ) -> float:
        """Merge a clean plate, so that it is there at once from then on; returns how much of it any frame shows."""
        _, known = self.pictures.merged(canvas_key(shot, plate), check, told)
        return float(known.mean())

    def close(
        self, shot: Shot, fix: Fix, frame: int, check: Check = _never,
        told: Callable[[float], object] = lambda share: None,
    ) -> None:  # fmt: skip
        """Close what a fix covers with pieces of its still, so that it is there at once from then on."""
        inputs = inputs_at(shot, fix, frame)
        for key in () if inputs is None else inputs.fill.canvases:
            if key.closing is not None:
                self.pictures.closed(key, check, told)

    def grain(self, shot: Shot, surface: Surface, check: Check = _never) -> Grain | None:
        """Return the shot's grain, measured on a surface near its home frame; None if it cannot be measured."""
        return self.patches.matching.grain(grain_of_surface(shot, surface), check)

    def matte(
        self, shot: Shot, matte: Matte, frame: int, window: Window | None = None, scale: float = 1.0,
        check: Check = _never,
    ) -> Picture:  # fmt: skip
        """Return a window of a matte of a shot on a frame, the whole picture if none is given: (h, w) float32."""
        window = window or shot.footage.bounds.scaled(scale)
        return self.pictures.matte(shot.footage, matte_on(shot, matte, frame), window, scale, check)

    def laid_matte(
        self, shot: Shot, frame: int, fix_id: str = "", window: Window | None = None, level: int = 0,
        check: Check = _never,
    ) -> Picture:  # fmt: skip
        """Return how far a fix covers a window of a frame, strokes with it; all fixes if none is named.

        Returns
        -------
        (h, w) float32
            The union of their alphas, hold-outs taken away.
        """
        window = window or shot.footage.bounds.scaled(scale_of(level))
        out = np.zeros((window.height, window.width), np.float32)
        for matte in matte_inputs(shot, frame, fix_id):
            np.maximum(out, self.patches.alpha(matte, window, level, check), out=out)
        painted = [inputs_at(shot, fix, frame) for fix in shot.fixes if fix.touch_up.strokes and fix_id in ("", fix.id)]
        laid: list[Inputs] = [one for one in painted if one is not None and one.strokes]
        laid += [one for one in frame_inputs(shot, frame) if isinstance(one, WrittenBack)] if not fix_id else []
        for patch in (patch for one in laid for patch in self.patches.patches(one, level, check)):
            shared = patch.window & window
            if not shared.is_empty:
                there = out[shared.within(window)]
                np.maximum(there, patch.alpha[shared.within(patch.window)], out=there)
        return out

    # -- results --------------------------------------------------------------------------------------------

    def patch(self, shot: Shot, fix: Fix, frame: int, check: Check = _never) -> Patch | None:
        """Return what a fix lays on a frame, or None if it does nothing there."""
        inputs = inputs_at(shot, fix, frame)
        return None if inputs is None else whole_of(self.patches.patches(inputs, 0, check))

    def all_patches(self, shot: Shot, frame: int, level: int = 0, check: Check = _never) -> list[Patch]:
        """Return what all fixes lay on a frame, back to front."""
        self.patches.prepare(frame_inputs(shot, frame), level, check)
        fixes = frame_inputs(shot, frame)
        return [patch for inputs in fixes for patch in self.patches.patches(inputs, level, check)]

    def result(
        self, shot: Shot, frame: int, window: Window | None = None, scale: float = 1.0, check: Check = _never
    ) -> Picture:
        """Return the result of all fixes on a frame.

        Parameters
        ----------
        shot : Shot
        frame : int
        window : Window, optional
            In pixels of the scale; the whole picture if left out.
        scale : float
            1, a half, a quarter and so on: fixes are evaluated at that size, not at full size and then made smaller.
        check : callable

        Returns
        -------
        (h, w, 3) float32
            Scene-linear; the caller's own.
        """
        level, footage = level_of(scale), shot.footage
        whole = footage.bounds.scaled(scale)
        wanted = whole if window is None else window & whole
        fixes = tuple(
            inputs for inputs in frame_inputs(shot, frame) if not (inputs.window.scaled(scale) & wanted).is_empty
        )
        self.pictures.plate(footage, frame, level, check)
        self.patches.prepare(fixes, level, check)
        return self.patches.composited(footage, frame, wanted, level, fixes, check=check)

    def reading(self, footage: Footage, frame: int) -> tuple[str, float] | None:
        """Return in words what a frame waits for, its file or frames that are merged, and how much is done, 0 to 1."""
        plates, making = self.pictures.plates_if_there(footage), self.pictures.making
        share = plates.share_read(frame) if plates is not None else None
        if share is None and making is not None:
            return making
        return (
            None if plates is None or share is None else (f"Reading {os.path.basename(plates.file_of(frame))}", share)
        )

    def value_if_there(self, shot: Shot, frame: int, x: float, y: float, *, of_plate: bool) -> Picture | None:
        """Return the colour (3,) of the result, or of the plate, at a place, as far as it has been computed already.

        Nothing is computed: from what is in the cache the finest scale is taken.
        """
        fixes = () if of_plate else frame_inputs(shot, frame)
        for level in range(MOST_LEVELS + 1):
            plate = self.pictures.plate_if_there(shot.footage, frame, level)
            column, row = int(np.floor(x * scale_of(level))), int(np.floor(y * scale_of(level)))
            if plate is None or not (0 <= row < plate.shape[0] and 0 <= column < plate.shape[1]):
                continue
            pixel = Window(column, row, column + 1, row + 1)
            colour: Picture | None = plate[pixel.slices].copy()
            for inputs in fixes:
                colour = None if colour is None else self.patches.laid_if_there(colour, pixel, inputs, level)
            if colour is not None:
                return np.asarray(colour[0, 0])
        return None

    def lights_found(self, shot: Shot, fix: Fix, check: Check = _never) -> dict[int, Stops]:
        """Return the light that is found around a fix's cover on each frame, in stops; frames without are left out.

        Where several clean plates meet, their lights by their shares. At a quarter of the size: light changes slowly.
        """
        found = {}
        for frame in shot.footage.frames:
            check()
            inputs = inputs_at(shot, fix, frame) if frame not in shot.footage.missing else None
            if inputs is None or not inputs.is_lit or not isinstance(inputs.fill, PlatesAt):
                continue
            lights = self.patches.matching.lights(inputs, LIGHT_LEVEL, check)
            if all(light.trusted for light in lights):
                shares = [plate.weight for plate in inputs.fill.plates]
                red, green, blue = np.average([light.stops for light in lights], axis=0, weights=shares).tolist()
                found[frame] = (red, green, blue)
        return found

    def blurs(self, shot: Shot, fix: Fix, frame: int, check: Check = _never) -> tuple[Blur, ...]:
        """Return the blur that each clean plate of a fix lacks on a frame; none where there is nothing to tell."""
        inputs = inputs_at(shot, fix, frame)
        return () if inputs is None else self.patches.matching.blurs(inputs, check)

    # -- donors ---------------------------------------------------------------------------------------------

    def elsewhere(self, shot: Shot, fix: Fix, frame: int, scale: float = 0.25, check: Check = _never) -> Seen | None:
        """Return where else what a fix hides on a frame is seen; None if it is not filled from donors there."""
        at = donors_of(shot, fix, frame)
        return None if at is None else elsewhere_at(self.cache, self.pictures, at, level_of(scale), check)

    def told_of_place(self, shot: Shot, fix: Fix, frame: int, x: float, y: float) -> str:
        """Return from which frame a place comes that a fix fills from donors, in words; nothing is computed."""
        at = donors_of(shot, fix, frame)
        return "" if at is None else told_of_place(self.cache, at, x, y)

    def surface_of_rest(self, shot: Shot, fix: Fix, frame: int, check: Check = _never) -> str:
        """Return the surface on which most lies of what no frame shows; empty if everything is seen."""
        seen = self.elsewhere(shot, fix, frame, 0.25, check)
        at = donors_of(shot, fix, frame)
        if seen is None or at is None or not isinstance(fix.fill, Donors):
            return ""
        rest = seen.plane[seen.hole & (seen.count == 0)]
        return at.planes[int(np.bincount(rest).argmax())].surface_id if len(rest) else ""

    def shares_seen(
        self, shot: Shot, fix: Fix, check: Check = _never,
        told: Callable[[dict[int, float]], object] = lambda found: None,
    ) -> dict[int, float]:  # fmt: skip
        """Return for each frame how much of a fix's cover any donor shows, 0 to 1."""
        return shares_seen(self.cache, self.pictures, shot, fix, check, told)

    # -- check ----------------------------------------------------------------------------------------------

    def check(
        self,
        shot: Shot,
        fix: Fix,
        check: Check = _never,
        progress: Callable[[float], None] = lambda share: None,
    ) -> tuple[FrameMeasures, ...]:
        """Measure seam and flicker of a fix on every frame it is on."""
        return measured(self.cache, self.patches, shot, fix, check, progress)
