"""Merged clean plates: many frames brought along a surface to one, the thing left out, as far as any frame reaches."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on
from gommage.core.document import CleanPlate, Merged, Shot, is_within, mappings_of
from gommage.core.fill.blocking import blocked_on
from gommage.core.fill.choosing import DonorAt, blocked_of, is_clean_at
from gommage.core.fill.gathering import LightBetween, Stack
from gommage.core.fill.scene import Scene
from gommage.core.geometry import Mapping, Points, Window, around, growth, scaling, spanning, then
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, Splines, sampled_at
from gommage.errors import FootageError

__all__ = ["MERGED_AT_ONCE", "merged_from", "merged_window", "merge"]

Check = Callable[[], None]
Mask = NDArray[np.bool_]
MOST_FRAMES, MERGED_AT_ONCE = 64, 16
"""So many frames, spread over all, are looked at; a pixel is the mean of so many that agree."""
LARGEST = 3.0
"""So many times as wide and as high as the picture a merged plate is at most."""
GRID_PX, DARKEST, LEAST_POINTS = 12, 1e-3, 40
STACK_BYTES = 256 * 2**20
SPLINE_TAPS, SPLINE_REACH_PX = 13, 8
ALIGNED_PX = 64


@lru_cache(maxsize=64)
def merged_from(shot: Shot, plate: CleanPlate) -> tuple[DonorAt, ...]:
    """Return the frames that a clean plate is merged from, as they lie on its home frame; none for any other plate.

    The home frame comes first, then those that halve what lies between, so that the first few are spread over all.
    """
    if not isinstance(plate.base, Merged):
        return ()
    mapping_of = mappings_of(shot)
    home = mapping_of(plate.surface_id, plate.home_frame)
    if home is None:
        return ()
    allowed = [
        frame
        for frame in shot.footage.frames
        if frame not in shot.footage.missing and is_within(plate.base.frames, frame)
    ]
    found = []
    for frame in _spread(allowed, plate.home_frame):
        there = mapping_of(plate.surface_id, frame)
        if there is not None:
            out = (matte_on(shot, plate.base.left_out, frame),) if plate.base.left_out.parts else ()
            blocked: tuple[MatteAt, ...] = (*blocked_on(shot, frame), *out)
            donor = DonorAt(frame=frame, frame_from_donor=then(there.inverse(), home), blocked=blocked, nearer=())
            found.append(donor)
    return tuple(found)


def _spread(frames: list[int], home: int) -> list[int]:
    """Return frames, the home frame first, then each as far from those before it as can be; so many at most."""
    if len(frames) > MOST_FRAMES:
        at = np.unique(np.linspace(0, len(frames) - 1, MOST_FRAMES).round().astype(int))
        frames = [frames[one] for one in at]
    left = [frame for frame in frames if frame != home]
    found = [home] if home in frames else []
    if not found and left:
        found = [left.pop(len(left) // 2)]
    away = np.array([min(abs(one - other) for other in found) for one in left])
    while left:
        most = int(np.argmax(away))
        found.append(left.pop(most))
        away = np.minimum(np.delete(away, most), np.abs(np.array(left) - found[-1]))
    return found


def merged_window(shot: Shot, surface_id: str, home_frame: int) -> Window | None:
    """Return how far a surface is seen over all frames, in pixels of a home frame; None where it is not known there.

    In whole tiles, and no more than some times as large as the picture.
    """
    mapping_of = mappings_of(shot)
    bounds = shot.footage.bounds
    home = mapping_of(surface_id, home_frame)
    if home is None:
        return None
    wide = Window(
        round(-bounds.width * (LARGEST - 1) / 2), round(-bounds.height * (LARGEST - 1) / 2),
        round(bounds.width * (LARGEST + 1) / 2), round(bounds.height * (LARGEST + 1) / 2),
    )  # fmt: skip
    found = bounds
    for frame in shot.footage.frames:
        there = mapping_of(surface_id, frame)
        if there is not None:
            corners = spanning(then(there.inverse(), home), bounds)
            if np.isfinite(corners).all():
                found |= around(corners) & wide
    return found.aligned(ALIGNED_PX) if found != bounds else bounds


def merge(
    key: CanvasKey, scene: Scene, check: Check = lambda: None, told: Callable[[float], object] = lambda share: None
) -> tuple[Picture, Mask]:
    """Return a merged plate: its pixels (h, w, 3), and where any frame shows it, (h, w) bool.

    Light is brought to the home frame's, frame by frame, by the medians of the ratios where frames overlap with what is
    known so far; then each pixel is the mean of those frames that agree with their median.

    Parameters
    ----------
    key : CanvasKey
        Of a plate that is merged.
    scene : Scene
        At full size.
    check : callable
        Called for each frame; raises `Cancelled` to stop.
    told : callable
        Called with how far it is, 0 to 1.
    """
    lights = _lights(key, scene, check, lambda share: told(share / 3))
    window, bounds = key.window, key.footage.bounds
    pixels = np.zeros((window.height, window.width, 3), np.float32)
    known = np.zeros(pixels.shape[:2], bool)
    rows = max(STACK_BYTES // (window.width * MERGED_AT_ONCE * 14), 32)
    for top in range(window.top, window.bottom, rows):
        band = Window(window.left, top, window.right, min(top + rows, window.bottom))
        stack = Stack(band, np.ones((band.height, band.width), bool), MERGED_AT_ONCE)
        for donor in _sharpest_first(key):
            check()
            lacking = stack.lacking
            if lacking.is_empty:
                break
            mapping = _back(donor, key)
            corners = spanning(mapping, lacking)
            needed = around(corners, SPLINE_REACH_PX) & bounds if np.isfinite(corners).all() else bounds
            if needed.is_empty or donor.frame not in lights:
                continue
            blocked = blocked_of(donor, key.footage, scene)
            splines = Splines.of(scene.plate(key.footage, donor.frame, needed), needed, SPLINE_TAPS)
            stack.take(splines, mapping, bounds, (blocked.window, blocked.mask), lights[donor.frame], 0)
        found = stack.gathered()
        inside = band.within(window)
        pixels[inside], known[inside] = found.pixels, found.count > 0
        told((1 + 2 * (band.bottom - window.top) / window.height) / 3)
    return continued(pixels, known), known


def continued(pixels: Picture, known: Mask) -> Picture:
    """Return a picture (h, w, 3) whose unknown pixels are what is around them, ever coarser the farther they are.

    What is unknown is painted by hand; until then, and at the rim of that, nothing may be fitted to, or blurred into, a
    black hole. Pull and push: S. Gortler et al., The Lumigraph, SIGGRAPH 1996, doi:10.1145/237170.237200.
    """
    if known.all() or not known.any():
        return pixels
    height, width = known.shape
    share = known.astype(np.float32)
    small = (max((width + 1) // 2, 1), max((height + 1) // 2, 1))
    mean = cv2.resize(pixels * share[..., None], small, interpolation=cv2.INTER_AREA)
    count = cv2.resize(share, small, interpolation=cv2.INTER_AREA)
    coarse = mean / np.maximum(count, 1e-6)[..., None]
    coarse = continued(coarse, count > 0)
    return np.where(known[..., None], pixels, cv2.resize(coarse, (width, height), interpolation=cv2.INTER_LINEAR))


def _back(donor: DonorAt, key: CanvasKey) -> Mapping:
    """Return where in a donor each pixel of a plate is."""
    donor_from_home = donor.frame_from_donor.inverse()
    return donor_from_home if key.scale == 1 else then(scaling(1 / key.scale), donor_from_home)


def _sharpest_first(key: CanvasKey) -> tuple[DonorAt, ...]:
    """Return the donors as they are spread; of a plate that is larger than its frame, those that are nearer first."""
    if key.scale <= 1:
        return key.merged
    middle = np.array([(key.window.left + key.window.right) / 2, (key.window.top + key.window.bottom) / 2])

    def coarseness(donor: DonorAt) -> float:
        size = growth(_back(donor, key), middle)
        return -round(2 * float(np.log2(size))) if np.isfinite(size) and size > 0 else np.inf

    return tuple(sorted(key.merged, key=coarseness))


def _lights(key: CanvasKey, scene: Scene, check: Check, told: Callable[[float], object]) -> dict[int, LightBetween]:
    """Return for each frame that overlaps with others what brings it to the home frame's light."""
    window, bounds = key.window, key.footage.bounds
    step = GRID_PX * key.scale
    x = np.arange(window.left + step / 2, window.right, step)
    y = np.arange(window.top + step / 2, window.bottom, step)
    points: Points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    summed, count = np.zeros((len(points), 3)), np.zeros(len(points))
    found: dict[int, LightBetween] = {}
    for number, donor in enumerate(key.merged):
        check()
        told(number / len(key.merged))
        clean = is_clean_at(donor, key.footage, scene, points / key.scale)
        both = clean & (count > 0)
        logs = np.zeros(3)
        if not clean.any():
            continue
        there = _back(donor, key)(points[clean])
        try:
            seen = np.log(np.maximum(sampled_at(scene.plate(key.footage, donor.frame, bounds), there), DARKEST))
        except FootageError:
            continue  # it says so itself when one goes there; without a light it is left out
        if found:
            if both.sum() < LEAST_POINTS:
                continue
            logs = np.median(summed[both] / count[both, None] - seen[both[clean]], axis=0)
        summed[clean] += seen + logs
        count[clean] += 1
        found[donor.frame] = LightBetween.even(logs)
    return found
