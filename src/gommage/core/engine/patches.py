"""Fixes to pixels: each inside its own window, on what lies below it, at one scale."""

from __future__ import annotations

import os
from collections.abc import Callable, Hashable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import lru_cache, partial, reduce
from operator import or_

import cv2
import numpy as np

from gommage.core.cover import MatteAt
from gommage.core.document import Blend, Footage
from gommage.core.engine.cache import Cache
from gommage.core.engine.fronts import Fronts
from gommage.core.engine.inputs import RING_PX, FixInputs, FixMatte, Inputs, WrittenBack
from gommage.core.engine.laid import Laid, Patch, composite
from gommage.core.engine.matching import BY_NAME, HIDDEN, Matching
from gommage.core.engine.pictures import (
    NOTHING_IN_HAND,
    InHand,
    Pictures,
)
from gommage.core.engine.scenes import ShotScene
from gommage.core.engine.windows import part_of, windows_of
from gommage.core.fill import Filled
from gommage.core.geometry import Window
from gommage.core.match import (
    NO_BLUR,
    Blur,
    Light,
    add_grain,
    apply_light,
    blurred,
    graded,
)
from gommage.core.paint import (
    RIM_PX,
    Canvas,
    Read,
    ShotFrame,
    StrokeAt,
    StrokeInHand,
    StrokeSources,
    heal,
    scaled,
)
from gommage.core.paint.tools import BLENDS
from gommage.core.picture import Picture, scale_of
from gommage.core.picture.panoramas import written_back

__all__ = ["MARGIN_OF_PAINT_PX", "NOTHING_IN_HAND", "InHand", "Patches"]

Check = Callable[[], None]
MOST_HELPERS = 3
MARGIN_OF_PAINT_PX = 32
"""Around paint, as far as freeing from grain and the spline spread it."""


def _never() -> None:
    """Call nothing off."""


@lru_cache(maxsize=1)
def _helpers() -> ThreadPoolExecutor:
    """Return the threads that help whoever evaluates a frame. They take patches alone, and those ask for no help."""
    return ThreadPoolExecutor(max(min((os.cpu_count() or 2) - 1, MOST_HELPERS), 1), "patch")


@dataclass(frozen=True, slots=True)
class _Made:
    """New pixels (h, w, 3) without grain, the fill that they are made of, and its lights."""

    filled: Filled
    pixels: Picture
    lights: tuple[Light, ...]

    def cut(self, window: Window, at: Window) -> _Made:
        """Return a window of what lies at another."""
        if window == at:
            return self
        inner, filled = window.within(at), self.filled
        layers = tuple(replace(one, pixels=one.pixels[inner], valid=one.valid[inner]) for one in filled.layers)
        grain, shown = (None if one is None else one[inner] for one in (filled.fresh_grain, filled.shown))
        return _Made(Filled(layers, grain, shown, filled.blend), np.ascontiguousarray(self.pixels[inner]), self.lights)


class Patches:
    """Evaluates fixes, given their inputs."""

    def __init__(self, cache: Cache, pictures: Pictures) -> None:
        self._cache, self._pictures = cache, pictures
        self.matching = Matching(cache, pictures, self.composited)
        self._fronts = Fronts(cache, pictures, self.composited)

    # -- mattes ---------------------------------------------------------------------------------------------

    def alpha(self, inputs: FixInputs | FixMatte, window: Window, level: int = 0, check: Check = _never) -> Picture:
        """Return a fix's alpha over a window at a level: cover without hold-outs, by its opacity."""
        alpha = self.matte(inputs.footage, inputs.cover, window, level, check)
        if inputs.hold_outs.parts:
            alpha = alpha * (1 - self.matte(inputs.footage, inputs.hold_outs, window, level, check))
        return alpha if inputs.opacity == 1 else alpha * np.float32(inputs.opacity)

    def matte(self, footage: Footage, matte: MatteAt, window: Window, level: int = 0, check: Check = _never) -> Picture:
        """Return a window of a matte at a level: (h, w) float32."""
        return self._pictures.matte(footage, matte, window, scale_of(level), check)

    # -- patches --------------------------------------------------------------------------------------------

    def pixels(
        self, inputs: FixInputs, window: Window, level: int = 0, in_hand: InHand = NOTHING_IN_HAND,
        check: Check = _never,
    ) -> tuple[Picture, tuple[Light, ...], Picture | None]:  # fmt: skip
        """Return the new pixels of a fix over a window at a level, lit and grained, their lights, and where they show
        anything (None: everywhere).
        """
        made = self._made(inputs, window, level, in_hand, check)
        total, filled = made.pixels, made.filled
        grain = self.matching.grain(inputs.grain, check)
        if grain is not None and inputs.is_grain_laid:
            check()
            seed = (inputs.seed, inputs.frame)
            for part in filled.parts(window):
                own = part.within(window)
                lacks = None if filled.fresh_grain is None else filled.fresh_grain[own]
                total[own] = add_grain(total[own], grain.averaged(level), seed, inputs.grain_amount, part, lacks)
        return total, made.lights, filled.shown

    def _made(self, inputs: FixInputs, window: Window, level: int, in_hand: InHand, check: Check) -> _Made:
        """Return a fix's new pixels before any grain: lit, blurred, joined.

        For blur they are made with a margin, and for a join as a whole, so that a pixel is the same in every window.
        """
        scale = scale_of(level)
        bounds = inputs.footage.bounds.scaled(scale)
        self.matching.measure_ahead(inputs.grain, check)
        blurs = tuple(blur.scaled(scale) for blur in self.matching.blurs(inputs, check))
        sigma = inputs.blur_px * scale
        whole = window
        if inputs.is_joined:
            pieces = [one for one in windows_of(inputs, level) if not (one & window).is_empty]
            whole = reduce(or_, pieces, window).grown(RIM_PX) & bounds
        wide = whole.grown(max([round(3 * sigma), *(blur.reach_px for blur in blurs)]) + 1) & bounds
        wide = wide if blurs or sigma else whole
        freed = partial(self.matching.freed, inputs, level, check)
        scene = ShotScene(self._cache, self._pictures, level, freed, in_hand, check)
        filled = BY_NAME[inputs.fill_kind].evaluate(inputs.fill, scene, wide, check)
        check()
        total, lights = self._lit(inputs, filled, wide, level, blurs, check)
        total = graded(total, inputs.grade)
        if sigma:
            total = cv2.GaussianBlur(total, (0, 0), sigma)
        made = _Made(filled, total, lights).cut(whole, wide)
        if filled.blend is not Blend.OVER:
            below = self.composited(inputs.footage, inputs.frame, whole, level, inputs.below, check=check)
            made = replace(made, pixels=BLENDS[filled.blend](below, made.pixels))
        if inputs.is_joined:
            check()
            made = replace(made, pixels=self._joined(inputs, made, whole, level, check)).cut(window, whole)
        return made

    def _lit(
        self, inputs: FixInputs, filled: Filled, window: Window, level: int, blurs: tuple[Blur, ...], check: Check
    ) -> tuple[Picture, tuple[Light, ...]]:
        """Return a fill's layers, each as blurred and as lit as the frame, added up."""
        lights = tuple(Light.none(window) for _ in filled.layers)
        if inputs.is_lit:
            lights = self.matching.lights(inputs, level, check)
        total: Picture = np.zeros((1, 1, 3), np.float32)
        for layer, light, blur in zip(filled.layers, lights, blurs or (NO_BLUR,) * len(lights), strict=True):
            pixels = blurred(layer.pixels, layer.valid > HIDDEN, blur) if blur else layer.pixels
            lit = apply_light(pixels, light, window, scale_of(level))
            total = lit if layer.weight == 1 else total + lit * np.float32(layer.weight)
        return total, lights

    def _joined(self, inputs: FixInputs, made: _Made, window: Window, level: int, check: Check) -> Picture:
        """Return new pixels (h, w, 3) that meet what lies below without a step, but for what is in front of it."""
        alpha = self.matte(inputs.footage, inputs.cover, window, level, check)
        left_out = self.matching.hidden(inputs.lighting, window, level, check).astype(np.float32)
        for one in (made.filled.shown, *(layer.valid for layer in made.filled.layers)):
            if one is not None:
                np.maximum(left_out, 1 - one, out=left_out)
        below = self.composited(inputs.footage, inputs.frame, window, level, inputs.below, check=check)
        return heal(below, made.pixels, alpha, left_out, follows_grain=False)

    def patches(self, inputs: Inputs, level: int = 0, check: Check = _never) -> tuple[Patch, ...]:
        """Return what a fix lays on its frame: one patch, or one for each piece of a scattered cover; none where its
        alpha is nothing. What is written back from a flat view comes in blocks.
        """
        if isinstance(inputs, WrittenBack):
            back = inputs
            return self._cache.get_or_make(
                ("patches", back, level), lambda: self._written_back(back, level, check), check
            )

        def make() -> tuple[Patch, ...]:
            if inputs.strokes:
                canvas = self.touched_up(inputs, level, check)
                window = inputs.window.scaled(scale_of(level)) & canvas.bounds
                patch = self._over(inputs, canvas, window, level, check)
                return (patch,) if patch.alpha.any() else ()
            found = []
            for window in windows_of(inputs, level):
                alpha = self.alpha(inputs, window, level, check)
                if alpha.any():
                    pixels, lights, shown = self.pixels(inputs, window, level, check=check)
                    pixels = self._fronts.kept(inputs, pixels, window, level, check)
                    found.append(Patch(window, pixels, alpha if shown is None else alpha * shown, lights))
            return tuple(found)

        return self._cache.get_or_make(("patches", inputs, level), make, check)

    def _written_back(self, inputs: WrittenBack, level: int, check: Check) -> tuple[Patch, ...]:
        """Return what the fixes of a flat view lay on it, as it lies in the panorama."""
        laid = [patch for fix in inputs.fixes for patch in self.patches(fix, level, check)]
        turned, scale = inputs.view.turned, scale_of(level)
        if not laid or turned is None:
            return ()
        at = reduce(or_, (patch.window for patch in laid))
        pixels, alpha = np.zeros((at.height, at.width, 3), np.float32), np.zeros((at.height, at.width), np.float32)
        for patch in laid:
            inside = patch.window.within(at)
            own = patch.alpha
            together = own + alpha[inside] * (1 - own)
            share = (own / np.maximum(together, np.float32(1e-6)))[..., None]
            pixels[inside] += (patch.pixels - pixels[inside]) * share
            alpha[inside] = together
        bounds = inputs.footage.bounds.scaled(scale)
        view = turned.view_from_panorama(inputs.frame, (inputs.view.width, inputs.view.height)).scaled(scale)
        blocks = written_back(pixels, alpha, at, view, (bounds.width, bounds.height), check)
        return tuple(Patch(window, own, covered, (Light.none(window),)) for window, own, covered in blocks)

    def patches_if_there(self, inputs: Inputs, level: int) -> tuple[Patch, ...] | None:
        """Return a fix's patches if they are in the cache, else None."""
        return self._cache.get(("patches", inputs, level))

    def prepare(self, fixes: tuple[Inputs, ...], level: int, check: Check = _never) -> None:
        """Make the patches of several fixes side by side: what they are made of lets go of the interpreter."""
        missing = [inputs for inputs in fixes if not self._is_ready(inputs, level)]
        if len(missing) < 2:
            return
        beside = [_helpers().submit(self._ready, inputs, level, check) for inputs in missing[1:]]
        try:
            self._ready(missing[0], level, check)
            for one in beside:
                one.result()
        finally:
            for one in beside:
                one.cancel()

    def laid_if_there(self, out: Picture, window: Window, inputs: Inputs, level: int) -> Picture | None:
        """Return a window of the picture with a fix laid on it, in place; None if that is not in the cache."""
        if isinstance(inputs, FixInputs) and inputs.strokes:
            canvas = self.touched_up_if_there(inputs, level)
            if canvas is None or not self._are_edges_there(inputs, canvas, window, level):
                return None
            self._lay_canvas(out, window, inputs, canvas, level, _never)
            return out
        found = self.patches_if_there(inputs, level)
        for patch in found or ():
            composite(out, window, patch)
        return None if found is None else out

    def _are_edges_there(self, inputs: FixInputs, canvas: Canvas, window: Window, level: int) -> bool:
        """Return whether nothing need be computed to lay a fix whose strokes are on a canvas over a window."""
        part, fill = part_of(inputs, canvas, window, level), inputs.untouched
        if part.is_empty or not inputs.hold_outs.parts:
            return True
        held = self.matte(inputs.footage, inputs.hold_outs, part, level)
        is_filled = fill.cover_window.is_empty or self.patches_if_there(fill, level) is not None
        return is_filled and self._fronts.are_there(inputs, held, part, level)

    def _is_ready(self, inputs: Inputs, level: int) -> bool:
        if isinstance(inputs, FixInputs) and inputs.strokes:
            return self.touched_up_if_there(inputs, level) is not None
        return self.patches_if_there(inputs, level) is not None

    def _ready(self, inputs: Inputs, level: int, check: Check) -> None:
        """Make what a fix is composited from."""
        if isinstance(inputs, FixInputs) and inputs.strokes:
            self.touched_up(inputs, level, check)
        else:
            self.patches(inputs, level, check)

    # -- strokes over the fill ------------------------------------------------------------------------------

    def touched_up(self, inputs: FixInputs, level: int, check: Check = _never) -> Canvas:
        """Return a frame with what lies below a fix, its fill and its strokes, at a level."""
        blank, sources = self.blank(inputs, level, check)
        return self._pictures.painted(_name_of(inputs, level), blank, _strokes(inputs, level), sources, check)

    def touched_up_if_there(self, inputs: FixInputs, level: int) -> Canvas | None:
        """Return a frame with a fix's strokes if it is in the cache."""
        return self._pictures.painted_if_there(_name_of(inputs, level), _strokes(inputs, level))

    def blank(self, inputs: FixInputs, level: int, check: Check = _never) -> tuple[Canvas, StrokeSources]:
        """Return what a fix's strokes are laid on, and what they look at."""
        footage, frame = inputs.footage, inputs.frame
        plate = self._pictures.plate(footage, frame, level, check)
        bounds = Window.of(plate.shape[1], plate.shape[0])

        def make() -> Canvas:
            fill = inputs.untouched
            under = (*inputs.below, *(() if fill.cover_window.is_empty else (fill,)))
            return Canvas(self.composited(footage, frame, bounds, level, under, check=check) if under else plate)

        def origin(stroke: StrokeAt) -> Read | None:
            other = stroke.origin
            if isinstance(other, ShotFrame) and other.below:
                return Read(
                    lambda window: self.composited(footage, other.frame, window, level, other.below, check=check),
                    bounds,
                )
            return self._pictures.origin(other, footage, level, check)

        blank = self._cache.get_or_make(("canvas", _name_of(inputs, level)), make, check)
        filmed = Read(lambda window: plate[window.slices], bounds)
        matte = partial(self._pictures.matte_over, footage=footage, scale=scale_of(level), check=check)
        return blank, StrokeSources(origin, matte, filmed)

    def keep_touched_up(self, inputs: FixInputs, level: int, before: Canvas, hand: StrokeInHand) -> None:
        """Keep what the hand painted, as the touch-up of a fix at a level."""
        self._pictures.keep_painted(_name_of(inputs, level), _strokes(inputs, level), before, hand)

    def _over(self, inputs: FixInputs, canvas: Canvas, window: Window, level: int, check: Check) -> Patch:
        """Return a window of a fix whose strokes are on a canvas: what covers the picture below, and how far."""
        from gommage.core.paint.kernels import told_apart  # compiled code is loaded late

        cover, lights = self._covered(inputs, canvas, window, level, check)
        below = self.composited(inputs.footage, inputs.frame, window, level, inputs.below, check=check)
        pixels = np.empty_like(below)
        told_apart(canvas.read(window), below, cover, pixels)
        alpha = cover * np.float32(inputs.opacity)
        if inputs.hold_outs.parts:
            alpha = alpha * (1 - self.matte(inputs.footage, inputs.hold_outs, window, level, check))
        return Patch(window, self._fronts.kept(inputs, pixels, window, level, check), alpha, lights)

    def _covered(
        self, inputs: FixInputs, canvas: Canvas, window: Window, level: int, check: Check
    ) -> tuple[Picture, tuple[Light, ...]]:
        """Return how far a fix whose strokes are on a canvas covers a window, and the lights of its fill."""
        fill = inputs.untouched
        cover: Picture = np.zeros((window.height, window.width), np.float32)
        lights: tuple[Light, ...] = (Light.none(window),)
        if not fill.cover_window.is_empty:
            for patch in self.patches(fill, level, check):
                shared = patch.window & window
                cover[shared.within(window)] = patch.alpha[shared.within(patch.window)]
                lights = patch.lights
        return np.float32(1) - (1 - cover) * (1 - canvas.cover(window)), lights

    def laid(self, inputs: FixInputs, check: Check = _never) -> Laid | None:
        """Return a fix's fill with a margin around its cover, lit, without grain; its strokes with it."""
        wide = inputs.window.grown(RING_PX) & inputs.footage.bounds
        if inputs.strokes:
            whole = self._over(inputs, self.touched_up(inputs, 0, check), wide, 0, check)
            below = self.composited(inputs.footage, inputs.frame, wide, 0, inputs.below, check=check)
            return Laid(inputs.window, wide, whole.pixels, whole.alpha, np.ones_like(whole.alpha), below)
        alpha = self.alpha(inputs, wide, check=check)
        if not alpha.any():
            return None
        made = self._made(inputs, wide, 0, NOTHING_IN_HAND, check)
        below = self.composited(inputs.footage, inputs.frame, wide, 0, inputs.below, check=check)
        valid = np.minimum.reduce([layer.valid for layer in made.filled.layers])
        return Laid(inputs.window, wide, made.pixels, alpha, valid, below)

    def composited(
        self,
        footage: Footage,
        frame: int,
        window: Window,
        level: int,
        fixes: tuple[Inputs, ...],
        in_hand: InHand = NOTHING_IN_HAND,
        check: Check = _never,
    ) -> Picture:
        """Return a window of the plate with fixes laid on it: a fresh (h, w, 3)."""
        out = self._pictures.plate(footage, frame, level, check)[window.slices].copy()
        for inputs in fixes:
            # A canvas holds what lay below it when it was painted: over what is in the hand only its paint is laid.
            own = inputs if isinstance(inputs, FixInputs) else None
            if own is not None and (own in in_hand or (own.strokes and not in_hand)):
                canvas = in_hand.get(own) or self.touched_up(own, level, check)
                self._lay_canvas(out, window, own, canvas, level, check)
                continue
            is_renewed = own is not None and bool(in_hand) and any(key in in_hand for key in own.fill.canvases)
            for patch in self.patches(inputs, level, check):
                if own is not None and is_renewed:
                    patch = self._renewed(own, patch, window, level, in_hand, check)
                composite(out, window, patch)
        return out

    def _lay_canvas(
        self, out: Picture, window: Window, inputs: FixInputs, canvas: Canvas, level: int, check: Check
    ) -> None:
        """Lay what a fix's strokes are painted on over a window of the picture, in place: tiles and fill alone.

        The canvas holds what lies below as well: so how far paint covers it need not be known.
        """
        from gommage.core.paint.kernels import lay_over  # compiled code is loaded late

        fill = inputs.untouched.cover_window.scaled(scale_of(level)) & window
        if inputs.opacity == 1 and not inputs.hold_outs.parts:
            if not fill.is_empty:
                out[fill.within(window)] = canvas.read(fill)
            canvas.paste(out, window)
            return
        part = part_of(inputs, canvas, window, level)
        if not part.is_empty:
            share = np.full((part.height, part.width), np.float32(inputs.opacity))
            held = self.matte(inputs.footage, inputs.hold_outs, part, level, check)
            edges = self._fronts.edges(inputs, held, part, level, check)
            lay_over(out[part.within(window)], canvas.read(part), share * (1 - held))
            if edges is not None:
                cover, _ = self._covered(inputs, canvas, part, level, check)
                out[part.within(window)] += edges * (cover * np.float32(inputs.opacity))[..., None]

    def _renewed(
        self, inputs: FixInputs, patch: Patch, window: Window, level: int, in_hand: InHand, check: Check
    ) -> Patch:
        """Return the part of a patch that a window shows, with what is in the hand."""
        shared = patch.window & window
        if shared.is_empty:
            return patch
        pixels, lights, shown = self.pixels(inputs, shared, level, in_hand, check)
        pixels = self._fronts.kept(inputs, pixels, shared, level, check)
        alpha = patch.alpha[shared.within(patch.window)]
        if shown is not None:  # what was bare before may be painted now
            alpha = self.alpha(inputs, shared, level, check) * shown
        return Patch(shared, pixels, alpha, lights)


def _name_of(inputs: FixInputs, level: int) -> Hashable:
    """Return all that what a fix's strokes are laid on depends on."""
    return "touch-up", inputs.untouched, level


def _strokes(inputs: FixInputs, level: int) -> tuple[StrokeAt, ...]:
    """Return a fix's strokes in pixels of a level."""
    return inputs.strokes if level == 0 else tuple(_smaller(stroke, scale_of(level)) for stroke in inputs.strokes)


@lru_cache(maxsize=8192)
def _smaller(stroke: StrokeAt, scale: float) -> StrokeAt:
    return scaled(stroke, scale)
