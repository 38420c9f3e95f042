"""Evaluate a shot: fixes from back to front, each inside its own window, on what lies below it."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from gommage.core.check import FrameMeasures, Sample, held_cells, measures, seam
from gommage.core.cover import cover_matte, outline
from gommage.core.document import CleanPlate, Fix, Footage, Shot, Surface, placement
from gommage.core.engine.cache import Cache, default_budget_bytes
from gommage.core.fill import PlatePixels, carried, plate_weights
from gommage.core.follow import luminance
from gommage.core.match import Grain, Light, add_grain, apply_light, match_light, measure_grain, without_grain
from gommage.core.paint import lay_stroke
from gommage.core.picture import (
    Matrix,
    Picture,
    Plates,
    RawFrame,
    Window,
    around,
    open_plates,
    read_linear,
    read_picture,
    translation,
    view,
    warp,
)
from gommage.errors import FootageError

__all__ = ["Engine", "Patch", "fix_inputs", "home_to_frame"]

RING_PX = 26
PLATE_MARGIN_PX = 40
GRAIN_NEIGHBOURS = (-3, -2, -1, 1, 2, 3)
HELD_SIDE_PX = 144


@dataclass(frozen=True, slots=True)
class Patch:
    """What a fix lays on a frame.

    Attributes
    ----------
    window : Window
    pixels : (h, w, 3) float32
        Scene-linear.
    alpha : (h, w) float32
    light : Light
        What the match found.
    """

    window: Window
    pixels: Picture
    alpha: Picture
    light: Light


@dataclass(frozen=True, slots=True)
class _Filled:
    """A fill over the cover's window and a margin around it."""

    window: Window
    wide: Window
    pixels: Picture
    alpha: Picture
    valid: Picture
    below: Picture
    light: Light
    grain: Grain | None


def home_to_frame(shot: Shot, surface: Surface, frame: int) -> Matrix | None:
    """Return where a surface is on a frame, or None if that is not known."""
    placed = placement(shot, surface)
    return placed.matrix(frame) if placed is not None and placed.is_placed(frame) else None


def plates_of(shot: Shot, fix: Fix) -> tuple[CleanPlate, ...]:
    """Return the clean plates of a fix that exist and lie on followed frames of its surface."""
    known = {plate.id: plate for plate in shot.clean_plates}
    chosen = [known[plate_id] for plate_id in fix.fill.plate_ids if plate_id in known]
    return tuple(
        plate for plate in chosen if home_to_frame(shot, shot.surface(plate.surface_id), plate.home_frame) is not None
    )


def fix_inputs(shot: Shot, fix: Fix) -> Hashable:
    """Return the part of the document that a fix's pixels depend on, as a cache key."""
    plates = tuple(
        (replace(plate, name=""), placement(shot, shot.surface(plate.surface_id))) for plate in plates_of(shot, fix)
    )
    return replace(fix, name=""), placement(shot, shot.surface(fix.surface_id)), plates


class Engine:
    """Everything that is computed of shots, kept in one cache. All methods may be called from any thread."""

    def __init__(self, budget_bytes: int | None = None) -> None:
        self.cache = Cache(budget_bytes or default_budget_bytes())

    # -- the plate ------------------------------------------------------------------------------------------

    def plates(self, footage: Footage) -> Plates:
        """Return the opened footage."""
        return self.cache.get_or_make(("open", footage), lambda: open_plates(footage))

    def raw(self, footage: Footage, frame: int) -> RawFrame:
        """Return a frame as its file holds it (not cached; `plate` is)."""
        return self.plates(footage).read(frame)

    def plate(self, footage: Footage, frame: int) -> Picture:
        """Return a frame of the plate: (H, W, 3) float32, scene-linear. Not to be modified."""
        key = ("plate", footage, frame)
        return self.cache.get_or_make(key, lambda: read_linear(self.raw(footage, frame), footage.colour_space))

    # -- clean plates ---------------------------------------------------------------------------------------

    def untouched(self, shot: Shot, plate: CleanPlate) -> Picture:
        """Return a clean plate before any stroke: the shot's frame, or the picture it was given."""
        if not plate.picture:
            return self.plate(shot.footage, plate.home_frame)

        def load() -> Picture:
            picture = read_picture(Path(plate.picture))
            wanted = shot.footage.height, shot.footage.width
            if picture.shape[:2] != wanted:
                raise FootageError(
                    f"The picture of {plate.name} is {picture.shape[1]} x {picture.shape[0]}, the shot is "
                    f"{wanted[1]} x {wanted[0]}.",
                    plate.picture,
                )
            return picture

        return self.cache.get_or_make(("picture", plate.picture, shot.footage), load)

    def canvas(self, shot: Shot, plate: CleanPlate) -> Picture:
        """Return a clean plate with its strokes: (H, W, 3) float32. Not to be modified.

        Begins from the longest run of strokes that is in the cache, so that a new stroke costs one stroke.
        """
        if not plate.strokes:
            return self.untouched(shot, plate)

        def key(count: int) -> Hashable:
            return ("canvas", shot.footage, plate.picture, plate.home_frame, plate.strokes[:count])

        def paint() -> Picture:
            untouched = self.untouched(shot, plate)
            done, canvas = 0, untouched
            for count in range(len(plate.strokes) - 1, 0, -1):
                found = self.cache.get(key(count))
                if found is not None:
                    done, canvas = count, found
                    break
            canvas = canvas.copy()
            for stroke in plate.strokes[done:]:
                laid = lay_stroke(canvas, untouched, stroke)
                if laid is not None:
                    canvas[laid.window.slices] = laid.pixels
            return canvas

        return self.cache.get_or_make(key(len(plate.strokes)), paint)

    def _plate_pixels(self, shot: Shot, fix: Fix, plate: CleanPlate, grain: Grain | None) -> PlatePixels:
        """Return the part of a plate that a fix shows, freed of grain as far as new grain will be put on."""
        footage = shot.footage
        surface = shot.surface(plate.surface_id)
        window = self._plate_window(shot, fix, surface, plate)
        share = min(fix.match.grain, 1.0) if grain is not None else 0.0
        key = ("plate pixels", footage, replace(plate, name=""), window, share, grain)

        def prepare() -> PlatePixels:
            pixels = self.canvas(shot, plate)[window.slices]
            if share and grain is not None:
                pixels = pixels + np.float32(share) * (without_grain(pixels, grain) - pixels)
            return PlatePixels.of(pixels, window)

        return self.cache.get_or_make(key, prepare)

    @staticmethod
    def _plate_window(shot: Shot, fix: Fix, surface: Surface, plate: CleanPlate) -> Window:
        """Return the window of the plate that any key of the cover can ask for."""
        to_plate = home_to_frame(shot, surface, plate.home_frame)
        assert to_plate is not None
        points = [
            outline(key.points.values, is_smooth=shape.is_smooth) for shape in fix.cover.shapes for key in shape.keys
        ]
        stacked = np.vstack(points)
        moved = np.column_stack([stacked, np.ones(len(stacked))]) @ to_plate.T
        margin = PLATE_MARGIN_PX + fix.cover.softness_px + max(fix.cover.grow_px, 0)
        window = around(moved[:, :2] / moved[:, 2:], margin) & Window.of(shot.footage.width, shot.footage.height)
        return window if not window.is_empty else Window(0, 0, 8, 8)

    def grain(self, shot: Shot, surface: Surface) -> Grain | None:
        """Return the shot's grain, measured on a surface near its home frame; None if it cannot be measured."""
        key = ("grain", shot.footage, placement(shot, surface), surface.how, surface.home_frame)
        return self.cache.get_or_make(key, lambda: (self._measured_grain(shot, surface),))[0]

    def _measured_grain(self, shot: Shot, surface: Surface) -> Grain | None:
        bounds = Window.of(shot.footage.width, shot.footage.height)
        window = around(surface.outline) & bounds
        if window.is_empty:
            return None
        use = np.ones((window.height, window.width), bool)
        neighbours = []
        for offset in GRAIN_NEIGHBOURS:
            matrix = home_to_frame(shot, surface, surface.home_frame + offset)
            if matrix is None or surface.home_frame + offset in shot.footage.missing:
                continue
            frame = self.plate(shot.footage, surface.home_frame + offset)
            reach = around(np.array([[window.left, window.top], [window.right, window.bottom]]), 160) & bounds
            pixels, inside = warp(frame[reach.slices], translation(-reach.left, -reach.top) @ matrix, window)
            use &= inside > 0.5
            neighbours.append(pixels)
        home = self.plate(shot.footage, surface.home_frame)[window.slices]
        return measure_grain(home, neighbours, use)

    # -- fixes ----------------------------------------------------------------------------------------------

    def matte(self, shot: Shot, fix: Fix, frame: int) -> tuple[Window, Picture] | None:
        """Return a fix's alpha on a frame and its window, or None where the fix is not."""
        if fix.frames is not None and frame not in fix.frames:
            return None
        matrix = home_to_frame(shot, shot.surface(fix.surface_id), frame)
        if matrix is None:
            return None
        bounds = Window.of(shot.footage.width, shot.footage.height)
        key = ("matte", fix.cover, matrix.tobytes(), frame, bounds)
        return self.cache.get_or_make(key, lambda: (cover_matte(fix.cover, frame, matrix, bounds),))[0]

    def patch(self, shot: Shot, fix: Fix, frame: int) -> Patch | None:
        """Return what a fix lays on a frame, or None if it does nothing there."""
        if not fix.is_on or not plates_of(shot, fix) or not fix.cover.shapes:
            return None
        key = ("patch", shot.footage, self._below(shot, fix), fix_inputs(shot, fix), frame)
        return self.cache.get_or_make(key, lambda: (self._made_patch(shot, fix, frame),))[0]

    @staticmethod
    def _below(shot: Shot, fix: Fix) -> tuple[Hashable, ...]:
        index = [one.id for one in shot.fixes].index(fix.id)
        return tuple(fix_inputs(shot, one) for one in shot.fixes[:index] if one.is_on)

    def _made_patch(self, shot: Shot, fix: Fix, frame: int) -> Patch | None:
        laid = self._fill(shot, fix, frame)
        if laid is None:
            return None
        inner = laid.pixels[laid.window.within(laid.wide)]
        if laid.grain is not None and fix.match.is_grain_laid:
            inner = add_grain(inner, laid.grain, (zlib.crc32(fix.id.encode()), frame), fix.match.grain)
        alpha = laid.alpha[laid.window.within(laid.wide)]
        return Patch(laid.window, np.ascontiguousarray(inner), np.ascontiguousarray(alpha), laid.light)

    def _fill(self, shot: Shot, fix: Fix, frame: int) -> _Filled | None:
        """Return the fill of a fix on a frame, lit, without grain, with a margin around the cover."""
        covered = self.matte(shot, fix, frame)
        if covered is None:
            return None
        window, matte = covered
        wide = window.grown(RING_PX) & Window.of(shot.footage.width, shot.footage.height)
        alpha = np.zeros((wide.height, wide.width), np.float32)
        alpha[window.within(wide)] = matte
        below = self._composited(shot, frame, wide, before=fix)
        grain = self.grain(shot, shot.surface(fix.surface_id)) if fix.match.grain > 0 else None
        total, valid = np.zeros_like(below), np.ones_like(alpha)
        light = Light.none()
        plates = plates_of(shot, fix)
        for plate, weight in zip(plates, plate_weights(tuple(p.home_frame for p in plates), frame), strict=True):
            if weight == 0:
                continue
            rides_on = shot.surface(plate.surface_id)
            from_home, to_plate = (home_to_frame(shot, rides_on, at) for at in (frame, plate.home_frame))
            if from_home is None or to_plate is None:
                return None
            pixels = self._plate_pixels(shot, fix, plate, grain)
            fill, inside = carried(pixels, from_home @ np.linalg.inv(to_plate), wide)
            valid = np.minimum(valid, inside)
            if fix.match.is_light_matched:
                light = match_light(
                    self._lit_by(shot, fix, plate, fill, from_home, to_plate, wide), below, alpha, inside
                )
            total += apply_light(fill, light, fix.match.light_stops) * np.float32(weight)
        return _Filled(window, wide, total, alpha, valid, below, light, grain)

    def _lit_by(
        self, shot: Shot, fix: Fix, plate: CleanPlate, fill: Picture, from_home: Matrix, to_plate: Matrix, wide: Window
    ) -> Picture:
        """Return what the light is measured with: the home frame as it was shot.

        It shows the same as the frame all round the cover, whatever was painted there. Only a picture from elsewhere
        has nothing but itself to compare.
        """
        if plate.picture:
            return fill
        window = self._plate_window(shot, fix, shot.surface(plate.surface_id), plate)
        key = ("untouched pixels", shot.footage, plate.home_frame, window)
        untouched = self.untouched(shot, plate)
        pixels = self.cache.get_or_make(key, lambda: PlatePixels.of(untouched[window.slices], window))
        return carried(pixels, from_home @ np.linalg.inv(to_plate), wide)[0]

    def _composited(self, shot: Shot, frame: int, window: Window, before: Fix | None = None) -> Picture:
        """Return a window of the result of all fixes, or of those behind one: a fresh (h, w, 3)."""
        out = self.plate(shot.footage, frame)[window.slices].copy()
        for fix in shot.fixes:
            if before is not None and fix.id == before.id:
                break
            patch = self.patch(shot, fix, frame)
            if patch is not None:
                _composite(out, window, patch)
        return out

    def result(self, shot: Shot, frame: int) -> Picture:
        """Return the result of all fixes on a frame: (H, W, 3) float32. Not to be modified."""
        inputs = tuple(fix_inputs(shot, fix) for fix in shot.fixes if fix.is_on)
        if not inputs:
            return self.plate(shot.footage, frame)
        full = Window.of(shot.footage.width, shot.footage.height)
        key = ("result", shot.footage, inputs, frame)
        return self.cache.get_or_make(key, lambda: self._composited(shot, frame, full))

    def peek(self, shot: Shot, frame: int, look: str) -> Picture | None:
        """Return the picture of a look if it is in the cache already, computing nothing."""
        if look == "plate" or not any(fix.is_on for fix in shot.fixes):
            return self.cache.get(("plate", shot.footage, frame))
        if look != "result":
            return None
        inputs = tuple(fix_inputs(shot, fix) for fix in shot.fixes if fix.is_on)
        return self.cache.get(("result", shot.footage, inputs, frame))

    def patches(self, shot: Shot, frame: int) -> list[Patch]:
        """Return what all fixes lay on a frame, back to front."""
        found = (self.patch(shot, fix, frame) for fix in shot.fixes)
        return [patch for patch in found if patch is not None]

    # -- check ----------------------------------------------------------------------------------------------

    def check(
        self,
        shot: Shot,
        fix: Fix,
        check: Callable[[], None] = lambda: None,
        progress: Callable[[float], None] = lambda share: None,
    ) -> tuple[FrameMeasures, ...]:
        """Measure seam and flicker of a fix on every frame it is on."""
        frames = [frame for frame in shot.footage.frames if frame not in shot.footage.missing]
        samples: dict[int, Sample] = {}
        for count, frame in enumerate(frames, 1):
            check()
            try:
                sample = self._sample(shot, fix, frame)
            except FootageError:
                sample = None  # a frame that cannot be read has nothing to measure; the strip shows it as a gap
            if sample is not None:
                samples[frame] = sample
            progress(count / len(frames))
        return measures(samples)

    def _sample(self, shot: Shot, fix: Fix, frame: int) -> Sample | None:
        if self.patch(shot, fix, frame) is None:
            return None
        key = (
            "sample",
            shot.footage,
            tuple(fix_inputs(shot, one) for one in shot.fixes if one.is_on),
            fix.id,
            frame,
        )
        return self.cache.get_or_make(key, lambda: self._measured_sample(shot, fix, frame))

    def _measured_sample(self, shot: Shot, fix: Fix, frame: int) -> Sample:
        laid = self._fill(shot, fix, frame)
        matrix = home_to_frame(shot, shot.surface(fix.surface_id), frame)
        assert laid is not None
        assert matrix is not None
        alpha, wide = laid.alpha, laid.wide
        result = luminance(self._composited(shot, frame, wide))
        home = around(fix.cover.shapes[0].keys[0].points.values)
        scale = HELD_SIDE_PX / max(home.width, home.height)
        held_from_home = np.diag([scale, scale, 1.0]) @ translation(-home.left, -home.top)
        held_from_wide = held_from_home @ np.linalg.inv(matrix) @ translation(wide.left, wide.top)
        size = max(round(home.width * scale), 8), max(round(home.height * scale), 8)
        held, held_alpha = view(result, held_from_wide, size), view(alpha, held_from_wide, size)
        return Sample(
            seam(luminance(laid.pixels), luminance(laid.below), alpha, laid.valid),
            held_cells(result, alpha, held, held_alpha),
        )


def _composite(out: Picture, window: Window, patch: Patch) -> None:
    """Lay a patch over a window of the picture, in place; where alpha is 0 nothing is touched."""
    shared = patch.window & window
    if shared.is_empty:
        return
    region = out[shared.within(window)]
    alpha = patch.alpha[shared.within(patch.window)][..., None]
    region += (patch.pixels[shared.within(patch.window)] - region) * alpha
