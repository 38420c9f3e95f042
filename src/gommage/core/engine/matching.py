"""What a fix's new pixels are matched by: light, sharpness and grain, measured on the frame around it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from functools import partial

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, pieces_of, reach_of
from gommage.core.engine.cache import Cache
from gommage.core.engine.grain import measured_grain
from gommage.core.engine.inputs import RING_PX, FixInputs, GrainInputs, LightInputs
from gommage.core.engine.pictures import NOTHING_IN_HAND, Freed, Pictures, ahead, never_freed
from gommage.core.engine.scenes import ShotScene
from gommage.core.fill import RECIPES
from gommage.core.geometry import Window
from gommage.core.match import Beside, Blur, Grain, Light, apply_light, blur_lacking, match_light, steadied
from gommage.core.picture import Picture, scale_of
from gommage.errors import FootageError

__all__ = ["BY_NAME", "HIDDEN", "Matching"]

Check = Callable[[], None]
Composited = Callable[..., Picture]
BY_NAME = {kind.__name__: recipe for kind, recipe in RECIPES.items()}
LIGHT_LEVEL = 1
HIDDEN = 0.5
MOST_PIECES = 4
"""Of a cover with more pieces sharpness is measured around the largest of them."""


def _never() -> None:
    """Call nothing off."""


class Matching:
    """Measures what fixes are matched by, given their inputs; `composited` gives what lies below one.

    See `Patches.composited`.
    """

    def __init__(self, cache: Cache, pictures: Pictures, composited: Composited) -> None:
        self._cache, self._pictures, self._composited = cache, pictures, composited

    def grain(self, inputs: GrainInputs | None, check: Check = _never) -> Grain | None:
        """Return the shot's grain, measured on a surface near its home frame; None if it cannot be measured."""
        if inputs is None:
            return None
        return self._cache.get_or_make(
            ("grain", inputs), lambda: (measured_grain(self._pictures, inputs, check),), check
        )[0]

    def measure_ahead(self, inputs: GrainInputs | None, check: Check = _never) -> None:
        """Begin to measure grain that will be asked for, if it is not known yet."""
        if inputs is not None and ("grain", inputs) not in self._cache:
            ahead(self.grain, inputs, check)

    def lights(self, inputs: FixInputs, level: int = 0, check: Check = _never) -> tuple[Light, ...]:
        """Return the light of each layer of a fix's fill; one that changes nothing where none is to be found.

        Light changes slowly over the picture: it is measured at half size at most, on averages of four pixels. It is
        measured on the frame as it was filmed, away from all that is covered; only where nothing else is left, on what
        lies below. What too few pixels tell is steadied by the frames beside it.
        """
        lighting, level = inputs.lighting, max(level, LIGHT_LEVEL)
        found = self._light_on(lighting, level, check)
        if inputs.below and not all(light.trusted for light in found):
            held = (inputs.hold_outs,) if inputs.hold_outs.parts else ()
            return self._light_on(replace(lighting, left_out=held, below=inputs.below), level, check)
        if not any(light.needs_others for light in found):
            return found
        canvases = lighting.fill.canvases
        beside: list[dict[int, Light]] = [{} for _ in canvases]
        for by, other in inputs.beside:
            check()
            with suppress(FootageError):  # the others tell enough
                for canvas, light in zip(other.fill.canvases, self._light_on(other, level, check), strict=True):
                    if canvas in canvases:
                        beside[canvases.index(canvas)][by] = light
        return tuple(map(steadied, found, beside))

    def _light_on(self, inputs: LightInputs, level: int, check: Check) -> tuple[Light, ...]:
        return self._cache.get_or_make(("light", inputs, level), lambda: self._found(inputs, level, check), check)

    def _found(self, inputs: LightInputs, level: int, check: Check) -> tuple[Light, ...]:
        scale = scale_of(level)
        window = _light_window(inputs, level)
        alpha = self._pictures.matte(inputs.footage, inputs.cover, window, scale, check)
        area = (
            self._pictures.matte(inputs.footage, inputs.area, window, scale, check) > HIDDEN
            if inputs.area.parts
            else None
        )
        below = self._composited(inputs.footage, inputs.frame, window, level, inputs.below, check=check)
        hidden = self.hidden(inputs, window, level, check)
        check()
        scene = ShotScene(self._cache, self._pictures, level, never_freed, NOTHING_IN_HAND, check)
        filled = BY_NAME[inputs.fill_kind].evaluate(inputs.fill, scene, window, check)
        check()
        return tuple(
            match_light(layer.pixels, below, alpha, layer.valid * ~hidden, window, scale, area)
            for layer in filled.layers
        )

    def hidden(self, inputs: LightInputs, window: Window, level: int, check: Check) -> NDArray[np.bool_]:
        """Return where the frame does not show what is behind, the cover left aside."""
        found: NDArray[np.bool_] = np.zeros((window.height, window.width), bool)
        for matte in inputs.left_out:
            reach = reach_of(matte, inputs.footage.bounds).scaled(scale_of(level)) & window
            if not reach.is_empty:
                inside = reach.within(window)
                found[inside] |= self._pictures.matte(inputs.footage, matte, reach, scale_of(level), check) > HIDDEN
        return found

    def blurs(self, inputs: FixInputs, check: Check = _never) -> tuple[Blur, ...]:
        """Return the blur that each layer of a fix's fill lacks to be as sharp as the frame around its cover."""
        if not inputs.is_blurred or BY_NAME[inputs.fill_kind].is_lit_already:
            return ()
        lit_by = inputs.lighting, inputs.below, inputs.hold_outs, inputs.beside
        key = ("blurs", lit_by, inputs.grain, inputs.grain_amount)
        return self._cache.get_or_make(key, lambda: self._blurs(inputs, check), check)

    def _blurs(self, inputs: FixInputs, check: Check) -> tuple[Blur, ...]:
        lighting, footage = inputs.lighting, inputs.footage
        scene = ShotScene(self._cache, self._pictures, 0, partial(self.freed, inputs, 0, check), NOTHING_IN_HAND, check)
        lights = self.lights(inputs, 0, check)
        beside: list[list[Beside]] = [[] for _ in lights]
        for strip in _strips_around(inputs.cover, footage.bounds):
            check()
            frame = self._pictures.plate(footage, inputs.frame, 0, check)[strip.slices]
            hidden = self.hidden(lighting, strip, 0, check)
            hidden |= self._pictures.matte(footage, inputs.cover, strip, 1.0, check) > 0
            filled = BY_NAME[inputs.fill_kind].evaluate(lighting.fill, scene, strip, check)
            for found, layer, light in zip(beside, filled.layers, lights, strict=True):
                shown = layer.valid > HIDDEN
                found.append(Beside(apply_light(layer.pixels, light, strip, 1.0), frame, shown, shown & ~hidden))
        return tuple(blur_lacking(found, passing) for found, passing in zip(beside, lighting.fill.passing, strict=True))

    def freed(self, inputs: FixInputs, level: int, check: Check) -> Freed | None:
        """Return the grain that a fix's clean plates are freed of."""
        grain = self.grain(inputs.grain, check)
        return None if grain is None else Freed(grain.averaged(level), min(inputs.grain_amount, 1.0))


def _light_window(inputs: LightInputs, level: int) -> Window:
    """Return the window of a cover and the ring around it, or of the area that is looked at instead, at a level."""
    scale, bounds = scale_of(level), inputs.footage.bounds
    area = reach_of(inputs.area, bounds) & bounds
    wide = (reach_of(inputs.cover, bounds).grown(RING_PX) if area.is_empty else area) & bounds
    return wide.scaled(scale) & bounds.scaled(scale)


def _strips_around(cover: MatteAt, bounds: Window) -> list[Window]:
    """Return four windows around each of the largest pieces of a cover, within a picture."""
    strips = list[Window]()
    for piece in sorted(pieces_of(cover, bounds, 2 * RING_PX), key=lambda one: -one.area)[:MOST_PIECES]:
        wide = piece.grown(RING_PX)
        strips += (
            Window(wide.left, wide.top, wide.right, piece.top),
            Window(wide.left, piece.bottom, wide.right, wide.bottom),
            Window(wide.left, piece.top, piece.left, piece.bottom),
            Window(piece.right, piece.top, wide.right, piece.bottom),
        )
    return [inside for strip in strips if not (inside := strip & bounds).is_empty]
