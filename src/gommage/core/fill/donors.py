"""Donor frames: what the thing hides on one frame, brought from others that show it, along the surfaces behind it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on
from gommage.core.document import Donors, Fix, Footage, Shot, is_within, mappings_of
from gommage.core.document.records import Record
from gommage.core.fill.gathering import (
    GAMMA,
    RING_GAP_PX,
    RING_WIDTH_PX,
    gathered,
    left_over_motion,
    lit_alike,
    ring_of,
)
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.geometry import IDENTITY, Mapping, Window, around, composed, scaling, shift, spanning, then
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, resample

__all__ = ["DonorAt", "DonorsAt", "PlaneAt", "donors_at", "fill_from_donors"]

Mask = NDArray[np.bool_]
MOST_CANDIDATES, ENOUGH, MOST_DONORS = 32, 8, 16
"""So many frames are looked at; a pixel with so many clean ones needs no more; so many are held at once."""
SPLINE_REACH_PX, MARGIN_PX = 6, 4
COVERED, EDGE_PX = 1 / 64, 2
"""What is covered by more than this is not taken, nor what is this near to the edge of a plane in front."""
LEAST_SIGMA = 0.002
GRAIN_LEFT = 0.6
"""An average of N donors keeps so much of a donor's variance over N, sampling between pixels counted."""


class DonorAt(Record, frozen=True):
    """Another frame, as it lies on the one that is filled.

    Attributes
    ----------
    frame : int
    frame_from_donor : Mapping
    blocked : tuple of MatteAt
        What must not be taken there: what fixes cover and hold out.
    nearer : tuple of MatteAt
        Where planes in front of this one are seen there.
    """

    frame: int
    frame_from_donor: Mapping
    blocked: tuple[MatteAt, ...]
    nearer: tuple[MatteAt, ...]


class PlaneAt(Record, frozen=True):
    """One of the surfaces behind the thing: where it is seen (None: everywhere), and who shows it."""

    extent: MatteAt | None
    donors: tuple[DonorAt, ...]


class DonorsAt(Record, frozen=True):
    """The donors of a fill on one frame: everything that its pixels depend on.

    Attributes
    ----------
    footage : Footage
    frame : int
    cover : MatteAt
        What is filled.
    others : tuple of MatteAt
        What else does not show the background on this frame.
    planes : tuple of PlaneAt
        Back to front.
    reach_px : float
        How far left-over motion may be.
    """

    footage: Footage
    frame: int
    cover: MatteAt
    others: tuple[MatteAt, ...]
    planes: tuple[PlaneAt, ...]
    reach_px: float

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: nothing."""
        return ()

    @property
    def as_shot(self) -> DonorsAt:
        """The same without paint."""
        return self


def donors_at(fill: Donors, shot: Shot, fix: Fix, frame: int) -> DonorsAt | None:
    """Return the donors of a frame, or None where none of the surfaces is."""
    planes: list[PlaneAt] = []
    mapping_of = mappings_of(shot)
    for number, surface_id in enumerate(fill.surface_ids):
        here = mapping_of(surface_id, frame)
        if here is None:
            continue
        surface, in_front = shot.surface(surface_id), fill.surface_ids[number + 1 :]
        extent = matte_on(shot, surface.extent, frame) if surface.extent.parts and number else None
        donors = []
        for other in _nearest_first(fill, shot.footage, frame):
            there = mapping_of(surface_id, other)
            if there is not None:
                nearer = tuple(
                    matte_on(shot, shot.surface(one).extent, other)
                    for one in in_front
                    if shot.surface(one).extent.parts
                )
                moved, blocked = then(there.inverse(), here), _blocked(shot, other)
                donors.append(DonorAt(frame=other, frame_from_donor=moved, blocked=blocked, nearer=nearer))
        if donors:
            planes.append(PlaneAt(extent=extent, donors=tuple(donors)))
    if not planes:
        return None
    cover = matte_on(shot, fix.cover, frame)
    others = tuple(matte for matte in _blocked(shot, frame) if matte != cover)
    return DonorsAt(
        footage=shot.footage, frame=frame, cover=cover, others=others, planes=tuple(planes), reach_px=fill.reach_px
    )


def _nearest_first(fill: Donors, footage: Footage, frame: int) -> Iterator[int]:
    """Yield the frames that may be taken from: the nearest first, one from before and one from after in turn."""
    count = 0
    for away in range(1, len(footage.frames)):
        for other in (frame - away, frame + away):
            is_there = other in footage.frames and other not in footage.missing
            if is_there and (not fill.frames or is_within(fill.frames, other)):
                yield other
                count += 1
                if count == MOST_CANDIDATES:
                    return


@lru_cache(maxsize=4096)
def _blocked(shot: Shot, frame: int) -> tuple[MatteAt, ...]:
    """Return what does not show the background on a frame: what fixes cover and what they hold out."""
    found: list[MatteAt] = []
    for fix in shot.fixes:
        if fix.is_on and is_within(fix.frames, frame):
            found.extend(matte_on(shot, matte, frame) for matte in (fix.cover, fix.hold_outs) if matte.parts)
    return tuple(dict.fromkeys(found))


def fill_from_donors(at: DonorsAt, scene: Scene, window: Window, check: Callable[[], None] = lambda: None) -> Filled:
    """Bring the background from other frames, plane by plane, each pixel from those that agree.

    Parameters
    ----------
    at : DonorsAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale.
    check : callable
        Called for each donor; raises `Cancelled` to stop.
    """
    bounds = at.footage.bounds.scaled(scene.scale)
    wide = window.grown(RING_GAP_PX + RING_WIDTH_PX + MARGIN_PX) & bounds
    inside = window.within(wide)
    frame = scene.plate(at.footage, at.frame, wide)
    hole = scene.matte(at.footage, at.cover, wide) > COVERED
    known = ~hole & ~_any(at.others, at.footage, scene, wide)
    pixels = frame.copy()  # what no frame shows stays as it is
    count, valid = np.zeros((wide.height, wide.width), np.float32), np.zeros((wide.height, wide.width), np.float32)
    for plane in at.planes:
        seen = None if plane.extent is None else scene.matte(at.footage, plane.extent, wide)
        if seen is not None and not (seen[hole] > 0).any():
            continue
        found = _plane(plane, at, scene, wide, frame, hole, known if seen is None else known & (seen > 0.99), check)
        if found is None:
            continue
        there = (found[1] > 0).astype(np.float32)
        share = there if seen is None else seen * there
        pixels += (found[0] - pixels) * share[..., None]
        count += (found[1] - count) * share
        valid = np.maximum(valid, share)
    lacking = np.sqrt(np.clip(1 - GRAIN_LEFT / np.maximum(count, 1), 0, 1)).astype(np.float32)
    missing = np.where(count > 0, lacking, np.float32(0))
    return Filled((Layer(pixels[inside], valid[inside]),), missing[inside])


def _any(mattes: tuple[MatteAt, ...], footage: Footage, scene: Scene, window: Window) -> Mask:
    """Return where any of some mattes is, grown by a pixel."""
    found: Mask = np.zeros((window.height, window.width), bool)
    for matte in mattes:
        found |= scene.matte(footage, matte, window) > COVERED
    return cv2.dilate(found.view(np.uint8), np.ones((3, 3), np.uint8)).view(bool)


def _plane(
    plane: PlaneAt, at: DonorsAt, scene: Scene, wide: Window, frame: Picture, hole: Mask, known: Mask,
    check: Callable[[], None],
) -> tuple[Picture, Picture] | None:  # fmt: skip
    """Return what the donors of a plane show of a window, and how many they are for each pixel; None: none of it."""
    ring = ring_of(hole, known)
    brought: list[tuple[Picture, Mask, int]] = []
    counts = np.zeros(hole.shape, np.int16)
    for donor in plane.donors:
        check()
        if len(brought) == MOST_DONORS or (counts[hole] >= ENOUGH).all():
            break
        one = _brought(donor, at, scene, wide, IDENTITY)
        if one is None or not (one[1] & hole & (counts < ENOUGH)).any():
            continue
        pixels, clean = one
        left = left_over_motion(pixels, frame, ring & clean, at.reach_px * scene.scale)
        if left is not IDENTITY:
            again = _brought(donor, at, scene, wide, left)
            pixels, clean = again if again is not None else one
        brought.append((lit_alike(pixels, frame, ring & clean), clean, donor.frame - at.frame))
        counts += clean
    if not brought:
        return None
    sigma = _grain_seen([pixels for pixels, _, _ in brought], frame, ring)
    out = gathered([one[0] for one in brought], [one[1] for one in brought], [one[2] for one in brought], sigma)
    return out.pixels, out.count


def _brought(donor: DonorAt, at: DonorsAt, scene: Scene, wide: Window, left: Mapping) -> tuple[Picture, Mask] | None:
    """Return a donor in a window of the frame, and where it may be taken; None if it shows nothing of it."""
    local = composed(shift(-wide.left, -wide.top), left, shift(wide.left, wide.top))
    donor_from_frame = composed(scaling(1 / scene.scale), donor.frame_from_donor.inverse(), scaling(scene.scale))
    mapping = donor_from_frame if left is IDENTITY else then(local, donor_from_frame)
    spanned = spanning(mapping, wide)
    if not np.isfinite(spanned).all():
        return None
    needed = around(spanned, SPLINE_REACH_PX) & at.footage.bounds.scaled(scene.scale)
    if needed.is_empty:
        return None
    pixels, inside = resample(scene.plate(at.footage, donor.frame, needed), mapping, wide, at=needed)
    blocked = _any(donor.blocked, at.footage, scene, needed)
    if donor.nearer:
        nearer = _any(donor.nearer, at.footage, scene, needed).view(np.uint8)
        blocked |= cv2.dilate(nearer, np.ones((2 * EDGE_PX + 1, 2 * EDGE_PX + 1), np.uint8)).view(bool)
    clean: Mask = np.asarray(inside) > 0.5
    if blocked.any():
        share = resample(blocked.astype(np.float32), mapping, wide, at=needed).pixels
        clean &= share < COVERED
    return pixels, clean


def _grain_seen(donors: list[Picture], frame: Picture, ring: Mask) -> tuple[float, float, float]:
    """Return the grain of each channel as it is seen: by how far donors and frame differ on the ring."""
    if not ring.any():
        return (LEAST_SIGMA,) * 3
    seen = np.power(np.maximum(frame[ring], 0), np.float32(GAMMA))
    spreads = []
    for donor in donors:
        off = np.power(np.maximum(donor[ring], 0), np.float32(GAMMA)) - seen
        spreads.append(1.4826 * np.median(np.abs(off - np.median(off, axis=0)), axis=0) / np.sqrt(2))
    red, green, blue = np.maximum(np.median(spreads, axis=0), LEAST_SIGMA).tolist()
    return red, green, blue
