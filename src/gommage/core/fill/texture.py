"""Texture: what is covered in a still, closed with matching pieces of the same picture, on its surface without
perspective.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.cover.parts import LineAt
from gommage.core.document import CleanPlate, Combine, Fix, Matte, Shot, Surface, Texture, mappings_of, placement
from gommage.core.document.records import Record
from gommage.core.fill.blocking import blocked_on, middle_frame
from gommage.core.fill.patchwork import Offsets, closed, finer, laid, repeated
from gommage.core.fill.scene import Scene
from gommage.core.geometry import (
    IDENTITY,
    Mapping,
    Points,
    Window,
    around,
    from_matrix,
    growth,
    scaling,
    shift,
    spanning,
    square_on,
    then,
)
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, Splines, decoded, encoded, resample, sampled_at

__all__ = ["Closing", "close_still", "closing_of_fix", "closing_of_plate", "home_of_texture"]

Mask = NDArray[np.bool_]
Check = Callable[[], None]
Told = Callable[[float], object]
AROUND_PX = 160
"""Pieces are taken from no farther around a hole than this, or than its own size if that is more."""
PERSPECTIVE = 1.08
"""By so much sizes on a surface differ over what is looked at before it is seen without perspective."""
APART_PX = 48
"""Pieces of a hole that lie farther apart are closed by themselves."""
FIRST_LOOK = 3
"""A first look is taken at a size so many times halved."""
SPLINE_REACH_PX, ALL_TAKEN = 8, 0.99


class Closing(Record, frozen=True):
    """How a still is closed: everything that this depends on besides the still.

    Attributes
    ----------
    hole : MatteAt or None
        What is closed, in pixels of the home frame; None: what the still does not show.
    hidden : tuple of MatteAt
        What else is never taken from.
    take_from : MatteAt or None
        What alone may be taken from.
    not_from : MatteAt or None
        What may not.
    guides : tuple of MatteAt
        Lines that must go through.
    square_from_home : Mapping
        To the surface without perspective.
    proposal : int
    look : int
        So many times halved pieces are found; 0: as they are rendered.
    """

    hole: MatteAt | None
    hidden: tuple[MatteAt, ...] = ()
    take_from: MatteAt | None = None
    not_from: MatteAt | None = None
    guides: MatteAt = MatteAt(parts=())
    square_from_home: Mapping = IDENTITY
    proposal: int = 0
    look: int = 0


def home_of_texture(fill: Texture, shot: Shot, fix: Fix) -> int:
    """Return the frame that is the still of a fill."""
    if fill.home_frame is not None:
        return fill.home_frame
    return shot.surface(fix.surface_id).home_frame if fix.surface_id else middle_frame(shot, fix)


@lru_cache(maxsize=256)
def closing_of_fix(fill: Texture, shot: Shot, fix: Fix) -> Closing | None:
    """Return how a fix's still is closed; None if nothing is covered on it."""
    home = home_of_texture(fill, shot, fix)
    hole = matte_on(shot, fix.cover, home)
    if reach_of(hole, shot.footage.bounds).is_empty:
        return None
    own = {hole}
    take_from, not_from = _taking(shot, fill.take_from, home)
    return Closing(
        hole=hole, hidden=tuple(one for one in blocked_on(shot, home) if one not in own), take_from=take_from,
        not_from=not_from, guides=matte_on(shot, fill.guides, home),
        square_from_home=_square_from(shot, fix.surface_id, home) if fill.is_square_on else IDENTITY,
        proposal=fill.proposal, look=FIRST_LOOK if fill.is_draft else 0,
    )  # fmt: skip


@lru_cache(maxsize=64)
def closing_of_plate(shot: Shot, plate: CleanPlate) -> Closing | None:
    """Return how what a clean plate does not show is closed; None if it is left for paint."""
    if plate.rest is None:
        return None
    square = _square_from(shot, plate.surface_id, plate.home_frame) if plate.rest.is_square_on else IDENTITY
    return Closing(hole=None, square_from_home=square, proposal=plate.rest.proposal)


def _taking(shot: Shot, matte: Matte, frame: int) -> tuple[MatteAt | None, MatteAt | None]:
    """Return what alone may be taken from, and what may not."""
    if not matte.parts:
        return None, None
    at = matte_on(shot, matte, frame)
    if matte.parts[0].combine is not Combine.SUBTRACT:
        return at, None
    other_way = {Combine.SUBTRACT: Combine.ADD, Combine.ADD: Combine.SUBTRACT, Combine.INTERSECT: Combine.INTERSECT}
    return None, MatteAt(parts=tuple(replace(part, combine=other_way[part.combine]) for part in at.parts))


def _square_from(shot: Shot, surface_id: str, frame: int) -> Mapping:
    """Return what takes pixels of a frame to a surface without perspective."""
    if not surface_id:
        return IDENTITY
    surface: Surface = shot.surface(surface_id)
    here = mappings_of(shot)(surface_id, frame)
    if here is None or placement(shot, surface) is None:
        return IDENTITY
    return then(here.inverse(), from_matrix(square_on(surface.corners)))


# -- pixels -------------------------------------------------------------------------------------------------


def close_still(
    key: CanvasKey, still: Picture, known: Mask | None, scene: Scene, check: Check = lambda: None,
    told: Told = lambda share: None,
) -> Picture:  # fmt: skip
    """Return a still with its hole closed; outside of that it is the same, bit for bit.

    Parameters
    ----------
    key : CanvasKey
        With a closing.
    still : (h, w, 3) float32
        Over the key's window.
    known : (h, w) bool or None
        Where the still shows anything; None: everywhere.
    scene : Scene
        At full size.
    check : callable
    told : callable
        Called with how far it is, 0 to 1.
    """
    closing: Closing = key.closing
    hole, taken = _masks(key, known, scene)
    out = still.copy()
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(_grown(hole, APART_PX // 2))
    for number in range(1, count):
        left, top, width, height = boxes[number, :4].tolist()
        own = Window(left, top, left + width, top + height)
        piece = hole[own.slices] & (labels[own.slices] == number)
        rows, columns = np.nonzero(piece)
        box = Window(left + int(columns.min()), top + int(rows.min()), left + int(columns.max()) + 1,
                     top + int(rows.max()) + 1)  # fmt: skip

        def told_of(share: float, number: int = number) -> None:
            told((number - 1 + share) / (count - 1))

        _close_piece(closing, key, still, hole, taken, box, out, check, told_of)
    return out


def _grown(mask: Mask, by_px: int) -> NDArray[np.uint8]:
    return cv2.dilate(mask.view(np.uint8), np.ones((2 * by_px + 1, 2 * by_px + 1), np.uint8))


def _masks(key: CanvasKey, known: Mask | None, scene: Scene) -> tuple[Mask, Mask]:
    """Return what is closed of a still, and what may be taken from."""
    closing: Closing = key.closing
    shape = key.window.height, key.window.width
    taken: Mask = np.ones(shape, bool) if known is None else known.copy()
    hole: Mask = np.zeros(shape, bool) if known is None else ~known
    if closing.hole is not None:
        hole |= scene.matte(key.footage, closing.hole, key.window) > 0
    if closing.take_from is not None:
        taken &= scene.matte(key.footage, closing.take_from, key.window) > 0
    for matte in (*closing.hidden, *((closing.not_from,) if closing.not_from is not None else ())):
        taken &= scene.matte(key.footage, matte, key.window) == 0
    return hole, taken & ~hole


def _close_piece(
    closing: Closing, key: CanvasKey, still: Picture, hole: Mask, taken: Mask, box: Window, out: Picture,
    check: Check, told: Told,
) -> None:  # fmt: skip
    """Close what a box holds of a hole, in place. Windows here are counted from the still's own corner."""
    bounds = Window.of(hole.shape[1], hole.shape[0])
    crop = box.grown(max(box.width, box.height, AROUND_PX)) & bounds
    if closing.take_from is not None and taken.any():
        rows, columns = np.nonzero(taken)
        crop |= Window(int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
    home_from_still = then(shift(key.window.left, key.window.top), scaling(1 / key.scale))
    lines = [part.source for part in closing.guides.parts if isinstance(part.source, LineAt)]
    guides = [home_from_still.inverse()(line.points.values) for line in lines]
    square = _square_of(closing, home_from_still, box, crop)
    inside = hole[box.slices]
    if square is None:
        picture, here = encoded(still[crop.slices]), hole[crop.slices]
        local = [guide - (crop.left, crop.top) for guide in guides]
        offsets = _offsets(closing, picture, here, taken[crop.slices], local, check, told)
        if offsets is None:
            return
        pixels = decoded(laid(picture, here, offsets, check)[0])[box.within(crop)]
        out[box.slices][inside] = pixels[inside]
        return
    window = around(spanning(square, crop)) & around(spanning(square, box)).grown(crop.width + crop.height)
    still_from_square = square.inverse()
    picture, shown = resample(encoded(still), still_from_square, window)
    here = resample(hole.astype(np.float32), still_from_square, window).pixels > 0
    may = resample(taken.astype(np.float32), still_from_square, window).pixels > ALL_TAKEN
    local = [square(guide) - (window.left, window.top) for guide in guides]
    here &= shown > 0
    offsets = _offsets(closing, picture, here, may & (shown > ALL_TAKEN) & ~here, local, check, told)
    if offsets is None:
        return
    added = laid(picture, here, offsets, check)[1]
    # Each pixel is read once, from the still itself: where the piece that it takes lies there.
    rows, columns = np.nonzero(inside)
    places = square(np.stack([columns + box.left + 0.5, rows + box.top + 0.5], axis=1))
    x, y = (np.floor(places) - (window.left, window.top)).astype(int).T
    x, y = np.clip(x, 0, window.width - 1), np.clip(y, 0, window.height - 1)
    from_places = still_from_square(places + offsets[y, x][:, ::-1])
    needed = around(from_places, SPLINE_REACH_PX) & bounds
    taken_from = sampled_at(Splines.of(encoded(still[needed.slices]), needed), from_places)
    out[box.slices][inside] = decoded(taken_from + sampled_at(added, places, window))


def _offsets(
    closing: Closing, picture: Picture, hole: Mask, taken: Mask, guides: list[Points], check: Check,
    told: Told,
) -> Offsets | None:  # fmt: skip
    """Return what each pixel of a hole takes, at full size; None where nothing may be taken.

    Where a pattern repeats exactly, that is the first proposal, and those of patches come after it.
    """
    proposal = closing.proposal
    pattern = None if guides else repeated(picture, hole, taken, check)
    if pattern is not None:
        if proposal == 0:
            return pattern
        proposal -= 1
    try:
        found = closed(picture, hole, taken, guides, proposal, closing.look, check, told)
    except ValueError:
        return None
    return finer(found.offsets, found.level, hole, taken)


def _square_of(closing: Closing, home_from_still: Mapping, box: Window, crop: Window) -> Mapping | None:
    """Return what takes pixels of a still to its surface without perspective, as fine as in the middle of a box; None
    where that makes no difference.
    """
    if closing.square_from_home is IDENTITY:
        return None
    square = then(home_from_still, closing.square_from_home)
    middle = np.array([(box.left + box.right) / 2, (box.top + box.bottom) / 2])
    corners = np.vstack([crop.corners, middle])
    sizes = np.array([growth(square, corner) for corner in corners])
    if not np.isfinite(sizes).all() or not (sizes > 0).all():
        return None
    if sizes.max() / sizes.min() < PERSPECTIVE:
        return None
    return then(square, scaling(1 / float(sizes[-1])))
