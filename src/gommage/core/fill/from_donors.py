"""Donor frames: what the thing hides on one frame, brought from others that show it, along the surfaces behind it."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.fill.choosing import (
    DonorAt,
    PlaneAt,
    blocked_of,
    chosen_of,
    mixed_alike,
    places_of,
    points_at,
    scaled_back,
)
from gommage.core.fill.donors import DonorsAt
from gommage.core.fill.gathering import (
    ENOUGH,
    Gathered,
    LightBetween,
    Places,
    Ring,
    Stack,
    left_over_motion,
    light_between,
    ring_of,
    ring_points,
)
from gommage.core.fill.holes import RIM_PX, Hole, wider
from gommage.core.fill.pieces import fill_by_piece
from gommage.core.fill.plates import PlatesAt, fill_from_plates
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.fill.spans import fill_span
from gommage.core.geometry import IDENTITY, Mapping, Points, Window, around, spanning, then
from gommage.core.match import NO_BLUR, Beside, apply_light, blur_lacking, blurred, match_light
from gommage.core.picture import Picture, Splines, encoded, sampled_at, whole_steps
from gommage.errors import FootageError

__all__ = ["fill_from_donors"]

Mask = NDArray[np.bool_]
Check = Callable[[], None]
SPLINE_TAPS, SPLINE_REACH_PX = 9, 8
POINTS_TO_CHOOSE_BY, WORTH = 1500, 0.3
ON_PLANE, MIXED_PX, EDGE_SOFT_PX = 0.99, 1, 0.6
AGREED, LEAST_UNSURE, UNSURE_SHARE = 0.7, 40, 0.004
MANY, WORTH_MANY, MOST_UNSURE = 24, 0.1, 500_000
"""Where fewer of the donors agree, so many are asked."""
AVERAGED, GIVEN = 0.6, 0.99
AROUND_PX, LEAST_AROUND, UNLIKE, LEAST_UNLIKE = 4.0, 0.02, 3.0, 0.03
"""Of a line what is so far around is compared; what differs, as the eye sees it, so many times as much as along most of
it, and by so much, is something else."""
GRAIN_LEFT = 0.3
"""An average of N donors keeps about so much of a donor's variance over N, sampling between pixels counted; of that
some is the same on the frames beside it, and not alive: half is counted."""


def fill_from_donors(at: DonorsAt, scene: Scene, window: Window, check: Check = lambda: None) -> Filled:
    """Bring the background from other frames, plane by plane, each pixel from those that agree.

    Parameters
    ----------
    at : DonorsAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale, within it. Which donors there are and how they are lit depends on
        the cover alone, so that a pixel is the same in every window.
    check : callable
        Called for each donor; raises `Cancelled` to stop.
    """
    place = Hole.of(at.footage, at.frame, at.cover, at.others, scene)
    if not at.planes[0].surface_id:
        return _by_piece(at, scene, place, window, check)
    pixels = place.frame[place.window.within(place.wide)].copy()  # what no frame shows stays as it is
    count, valid = np.zeros((2, place.window.height, place.window.width), np.float32)
    lights: dict[int, LightBetween] = {}
    for band in place.bands():
        inner = band.window.within(place.window)
        out, many, known = pixels[inner], count[inner], valid[inner]  # parts of these, changed in place
        for plane in at.planes:
            found = _plane(plane, at, scene, band, lights, check)
            if found is None:
                continue
            there = (found[0].count > 0).astype(np.float32)
            share = there if found[1] is None else found[1] * there
            out += (found[0].pixels - out) * share[..., None]
            many += (found[0].count - many) * share
            np.maximum(known, share, out=known)
    lacking = np.sqrt(np.clip(1 - GRAIN_LEFT / np.maximum(count, 1), 0, 1)).astype(np.float32)
    lacking[count == 0] = 0
    trusted = valid * _alike_around(place, pixels, valid, scene.scale) if at.lines is not None else valid
    if at.rest is not None and (valid < 1).any():
        rest = _rest(at.rest, place, pixels, valid, scene, check)
        without = (1 - valid) * rest.valid
        pixels += (rest.pixels - pixels) * without[..., None]
        lacking += (1 - lacking) * without
        valid, trusted = np.maximum(valid, rest.valid), trusted + without
    valid = _close_lines(at, scene, place.window, pixels, valid, trusted, lacking, check)
    return _cut(pixels, valid, lacking, place.window, scene.plate(at.footage, at.frame, window), window)


def _by_piece(at: DonorsAt, scene: Scene, place: Hole, window: Window, check: Check) -> Filled:
    """Return a fill of which each piece is looked for by itself; it brings its grain with it."""
    found = fill_by_piece(
        at.planes[0].donors, at.footage, scene, place.wide, place.frame, place.hole, place.known, place.window, RIM_PX,
        check,
    )  # fmt: skip
    frame = place.frame[place.window.within(place.wide)]
    valid = (found.count > 0).astype(np.float32)
    pixels, lacking = np.where(valid[..., None] > 0, found.pixels, frame), np.zeros_like(valid)
    valid = _close_lines(at, scene, place.window, pixels, valid, valid, lacking, check)
    return _cut(pixels, valid, lacking, place.window, scene.plate(at.footage, at.frame, window), window)


def _close_lines(
    at: DonorsAt, scene: Scene, window: Window, pixels: Picture, valid: Picture, trusted: Picture, lacking: Picture,
    check: Check,
) -> Picture:  # fmt: skip
    """Close from both sides, in place, what of lines is not trusted; returns where something is shown now.

    What else is covered stays as other frames show it.
    """
    if at.lines is None or (trusted >= 1).all():
        return valid
    span = fill_span(at.lines, scene, window, check)
    closed, fresh = span.layers[0], span.fresh_grain
    without = np.clip(1 - trusted, 0, 1) * closed.valid
    pixels += (closed.pixels - pixels) * without[..., None]
    lacking += ((0 if fresh is None else fresh) - lacking) * without
    return np.maximum(valid, closed.valid)


def _alike_around(place: Hole, pixels: Picture, valid: Picture, scale: float) -> Picture:
    """Return how much what other frames show of a line is to be trusted, 1 to 0, by how unlike the frame it is on the
    line's sides: where something passes they show what is behind that.
    """
    inner = place.window.within(place.wide)
    known = place.known[inner] & (valid > 0)
    off = np.abs(encoded(np.maximum(pixels, 0)) - encoded(np.maximum(place.frame[inner], 0))).mean(axis=2)
    many = cv2.GaussianBlur(known.astype(np.float32), (0, 0), AROUND_PX * scale)
    unlike = cv2.GaussianBlur(np.where(known, off, np.float32(0)), (0, 0), AROUND_PX * scale)
    unlike /= np.maximum(many, np.float32(LEAST_AROUND))
    covered = place.hole[inner] & (valid > 0)
    if not covered.any():
        return np.ones_like(valid)
    most = max(UNLIKE * float(np.median(unlike[covered])), LEAST_UNLIKE)
    return np.where(covered, np.clip(2 - unlike / np.float32(most), 0, 1), np.float32(1))


def _cut(pixels: Picture, valid: Picture, lacking: Picture, at: Window, frame: Picture, window: Window) -> Filled:
    """Return a fill over another window than it was made in; beyond it is the frame."""
    if at == window:
        return Filled((Layer(pixels, valid),), lacking)
    out, known, grain = frame.copy(), *np.zeros((2, window.height, window.width), np.float32)
    shared = at & window
    if not shared.is_empty:
        for whole, part in ((out, pixels), (known, valid), (grain, lacking)):
            whole[shared.within(window)] = part[shared.within(at)]
    return Filled((Layer(out, known),), grain)


def _plane(
    plane: PlaneAt, at: DonorsAt, scene: Scene, place: Hole, lights: dict[int, LightBetween], check: Check
) -> tuple[Gathered, Picture | None] | None:
    """Return what the donors of a plane show of a place, and its share there (None: all of it); None: none of it.

    `lights` has the light of each donor frame as it was found on the planes behind; a plane without surroundings of
    its own takes it from there. On the edge of a plane in front no donor is clean: each shows something else behind it.
    There the two that are nearest in time are taken, with what they show behind, which has moved least.
    """
    hole, known, wanted = place.hole, place.known, place.wanted
    inner = place.window.within(place.wide)
    share, edge = None, None
    if plane.extent is not None:
        extent = scene.matte(at.footage, plane.extent, place.wide)
        known = known & (extent > ON_PLANE)
        reach, beyond = wider(extent > 0.5, MIXED_PX), wider(extent < 0.5, MIXED_PX)
        hole = hole & reach
        if not hole.any():
            return None
        share = cv2.GaussianBlur(reach.astype(np.float32), (0, 0), EDGE_SOFT_PX)[inner]
        wanted, edge = wanted & (share > 0), (reach & beyond)[inner]
    ring = ring_points(place.frame, place.wide, ring_of(place.hole, known))
    stack = Stack(place.window, wanted)
    inside = hole[inner]
    # First what gives much, by some places of the hole; then whatever gives anything to those that have nothing yet.
    passed = _take(plane.donors, places_of(inside, POINTS_TO_CHOOSE_BY), ENOUGH, WORTH, at, scene, ring, stack, lights,
                   check)  # fmt: skip
    everywhere = places_of(inside, max(inside.size, 1))
    empty = stack.has(everywhere) == 0
    if empty.any():
        rest = (everywhere[0][empty], everywhere[1][empty])
        _take(tuple(passed), rest, 1, 0.0, at, scene, ring, stack, lights, check)
        left = stack.has(rest) == 0
        if left.any():
            mixed = (rest[0][left], rest[1][left])
            _take(mixed_alike(plane.donors), mixed, 1, 0.0, at, scene, ring, stack, lights, check, is_strict=False)
    found = stack.gathered()
    _settle(found, plane, at, scene, place.window, wanted, ring, lights, check)
    shown = found.count > 0
    both = place.known[inner] & known[inner] & shown
    count = float(found.count[both].mean()) if both.any() else 1.0
    beside = Beside(found.pixels, place.frame[inner], shown, both)
    passing = _times(plane.passing, scene.scale)
    lacking = blur_lacking([beside], passing, AVERAGED / max(count, 1.0)) if at.is_blurred else NO_BLUR
    if lacking:
        found.pixels[:] = blurred(found.pixels, shown, lacking)
    if edge is not None and edge.any():
        near = stack.first(2)
        found.pixels[edge], found.count[edge] = near.pixels[edge], near.count[edge]
    return found, share


def _settle(
    found: Gathered, plane: PlaneAt, at: DonorsAt, scene: Scene, window: Window, wanted: Mask, ring: Ring,
    lights: dict[int, LightBetween], check: Check,
) -> None:  # fmt: skip
    """Ask many more donors, in place, if those that were taken contradict each other: something passes that nobody has
    covered. What all of the few agree on may be that thing: so all is asked anew.
    """
    assert found.agreeing is not None
    unsure = wanted & (found.agreeing < AGREED) & (found.count > 0)
    unsure = cv2.morphologyEx(unsure.view(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)).view(bool)
    if unsure.sum() < max(LEAST_UNSURE, UNSURE_SHARE * wanted.sum()):
        return
    rows = max(MOST_UNSURE // max(window.width, 1), 32)
    for top in range(0, window.height, rows):
        band = Window(0, top, window.width, min(top + rows, window.height))
        part = np.ascontiguousarray(wanted[band.slices])
        stack = Stack(band.shifted(window.left, window.top), part, MANY)
        places = places_of(part, POINTS_TO_CHOOSE_BY)
        _take(plane.donors, places, MANY, WORTH_MANY, at, scene, ring, stack, lights, check)
        more = stack.gathered()
        better = part & (more.count > 0)
        found.pixels[band.slices][better], found.count[band.slices][better] = more.pixels[better], more.count[better]


def _times(passing: tuple[float, float], scale: float) -> tuple[float, float]:
    return passing[0] * scale, passing[1] * scale


def _take(
    donors: tuple[DonorAt, ...], places: Places, enough: int, worth: float, at: DonorsAt, scene: Scene, ring: Ring,
    stack: Stack, lights: dict[int, LightBetween], check: Check, is_strict: bool = True,
) -> list[DonorAt]:  # fmt: skip
    """Take from donors in turn until some places have enough; returns those that were passed.

    Passed is who gives less than a share, `worth`, of the places, and what is left of them. Who is taken from is chosen
    before any is read, so that they can be read side by side.
    """
    points = points_at(places, stack.window)
    chosen, passed, rest = chosen_of(
        donors, points, stack.has(places), enough, worth, at.footage, scene, check, is_strict=is_strict
    )
    scene.ahead(at.footage, [donor.frame for donor in chosen])
    is_whole = True
    for donor in chosen:
        check()
        try:
            _bring(donor, at, scene, ring, stack, lights, is_strict)
        except FootageError:  # gives nothing; it says so itself when one goes there
            is_whole = False
    if not is_whole and rest:
        passed += _take(rest, places, enough, worth, at, scene, ring, stack, lights, check, is_strict)
    return passed


def _bring(
    donor: DonorAt, at: DonorsAt, scene: Scene, ring: Ring, stack: Stack, lights: dict[int, LightBetween],
    is_strict: bool,
) -> None:  # fmt: skip
    """Take from a donor what is lacking, in place and light of the frame."""
    mapping = scaled_back(donor, scene.scale)
    bounds = at.footage.bounds.scaled(scene.scale)
    picture = scene.plate(at.footage, donor.frame, bounds)
    blocked = blocked_of(donor, at.footage, scene, is_strict=is_strict)
    if len(ring):
        ringed = mapping(ring.points)
        on_both = blocked.is_clean(ringed) & _is_inside(ringed, bounds)
        steps = whole_steps(mapping)
        if steps is None or steps != (0, 0):  # a camera that stands leaves no motion
            left = left_over_motion(ring, picture, bounds, mapping, on_both, at.reach_px * scene.scale)
            mapping = mapping if left is IDENTITY else then(left, mapping)
        light = light_between(ring, sampled_at(picture, mapping(ring.points), bounds), on_both)
        if light is not None:
            lights[donor.frame] = light
    needed = _spanned(mapping, stack.lacking) & bounds
    if not needed.is_empty:
        splines = Splines.of(picture[needed.slices], needed, SPLINE_TAPS)
        light = lights.get(donor.frame)
        stack.take(splines, mapping, bounds, (blocked.window, blocked.mask), light, donor.frame - at.frame)


def _is_inside(points: Points, window: Window) -> Mask:
    above = (points > (window.left, window.top)).all(axis=1)
    return np.asarray(above & (points < (window.right, window.bottom)).all(axis=1))


def _spanned(mapping: Mapping, window: Window) -> Window:
    corners = spanning(mapping, window)
    return around(corners, SPLINE_REACH_PX) if np.isfinite(corners).all() else Window(0, 0, 0, 0)


def _rest(rest: PlatesAt, place: Hole, pixels: Picture, valid: Picture, scene: Scene, check: Check) -> Layer:
    """Return what clean plates show of a place, under the frame's light.

    That is told by what donors gave beside it (`pixels`, where `valid`), else by what is around the whole hole.
    """
    window, inner = place.window, place.window.within(place.wide)
    total, shown = np.zeros((window.height, window.width, 3), np.float32), np.ones((window.height, window.width))
    frame, known, lacks = place.frame.copy(), place.known.copy(), np.zeros_like(place.hole)
    given = valid > GIVEN
    frame[inner][given] = pixels[given]
    known[inner] |= given
    lacks[inner] = place.hole[inner] & ~given
    for here, there in zip(
        fill_from_plates(rest, scene, window, check).layers,
        fill_from_plates(rest, scene, place.wide, check).layers,
        strict=True,
    ):
        light = match_light(there.pixels, frame, lacks.astype(np.float32), there.valid * known, place.wide, scene.scale)
        if not light.trusted:
            whole, seen = place.hole.astype(np.float32), there.valid * place.known
            light = match_light(there.pixels, place.frame, whole, seen, place.wide, scene.scale)
        total += apply_light(here.pixels, light, window, scene.scale) * np.float32(here.weight)
        shown = np.minimum(shown, here.valid)
    return Layer(total, shown.astype(np.float32))
