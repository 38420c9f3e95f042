"""What a viewport shows: the look that was asked for, through one mapping, as pixels for the screen."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from enum import StrEnum

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Array, Shot
from gommage.core.document.placements import fitted
from gommage.core.engine.evaluate import Engine, fix_inputs
from gommage.core.picture import Matrix, Picture, Points, translation, view
from gommage.core.picture.card import test_card
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display, show

__all__ = ["Look", "ViewRequest", "square_on", "view_inputs", "view_key", "view_pixels"]

SURROUND = 0x3A
"""The neutral grey level around the picture."""


class Look(StrEnum):
    """What to look at."""

    RESULT = "result"
    PLATE = "plate"
    CLEAN_PLATE = "clean plate"
    PAINT_ALONE = "paint alone"
    MATTE = "matte"
    DIFFERENCE = "difference"
    SHEET = "sheet"


@dataclass(frozen=True, slots=True)
class ViewRequest:
    """Everything that a picture on the screen depends on.

    Attributes
    ----------
    view_from_frame : Array
        (3, 3): frame pixels to viewport pixels (zoom, steady and all).
    plate_id : str
        The clean plate for `Look.CLEAN_PLATE`.
    card : Array or None
        (3, 3): test card pixels to viewport pixels, where one is laid over the picture.
    """

    shot: Shot
    frame: int
    look: Look
    view_from_frame: Array
    size_wh: tuple[int, int]
    display: Display = DEFAULT_DISPLAY
    plate_id: str = ""
    card: Array | None = None


def view_inputs(request: ViewRequest) -> Hashable:
    """Return those parts of the document that a request's look depends on, whatever the frame."""
    shot = request.shot
    if request.look is Look.CLEAN_PLATE:
        return shot.clean_plate(request.plate_id) if request.plate_id else ()
    if request.look is Look.PLATE:
        return ()
    return tuple(fix_inputs(shot, fix) for fix in shot.fixes if fix.is_on)


def view_key(request: ViewRequest, inputs: Hashable = None) -> Hashable:
    """Return the request as a cache key; who asks for many frames passes the `view_inputs` once."""
    inputs = view_inputs(request) if inputs is None else inputs
    rest = request.frame, request.look, request.view_from_frame, request.size_wh, request.display, request.card
    return ("view", request.shot.footage, inputs, *rest)


def view_pixels(engine: Engine, request: ViewRequest) -> NDArray[np.uint8]:
    """Return the viewport's pixels: (h, w, 4) uint8, see `gommage.core.picture.colour.show`."""
    return engine.cache.get_or_make(view_key(request), lambda: _drawn(engine, request))


def _drawn(engine: Engine, request: ViewRequest) -> NDArray[np.uint8]:
    picture = _looked_at(engine, request)
    matrix = request.view_from_frame.values
    seen = view(picture, matrix, request.size_wh, outside=np.nan)
    display = request.display
    if request.look in (Look.MATTE, Look.DIFFERENCE):
        display = Display(display.device, display.view, 0.0, display.gamma)
    off = np.isnan(seen[..., 0])
    seen[off] = 0.0
    pixels = show(seen, display)
    pixels[off] = (SURROUND, SURROUND, SURROUND, 255)
    if request.card is not None:
        _lay_card(pixels, request.card.values)
    return pixels


def _lay_card(pixels: NDArray[np.uint8], view_from_card: Matrix) -> None:
    """Lay the test card over pixels of the viewport, in place."""
    height, width = pixels.shape[:2]
    matrix = translation(-0.5, -0.5) @ view_from_card @ translation(0.5, 0.5)
    card = cv2.warpPerspective(test_card(), matrix, (width, height), flags=cv2.INTER_AREA)
    alpha = card[..., 3:].astype(np.uint16)
    mixed = (card[..., :3] * alpha + pixels[..., :3] * (255 - alpha) + 127) // 255
    pixels[..., :3] = mixed.astype(np.uint8)


def square_on(corners: Points) -> Matrix:
    """Return the matrix (3, 3) that shows a surface without perspective, in place of its home frame.

    Its corners (4, 2), in home-frame pixels, become a rectangle of their mean side lengths about their middle.
    """
    sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
    wide, high = (sides[0] + sides[2]) / 2, (sides[1] + sides[3]) / 2
    upright = np.array([[-wide, -high], [wide, -high], [wide, high], [-wide, high]]) / 2
    return fitted(corners, upright + corners.mean(axis=0))


def _looked_at(engine: Engine, request: ViewRequest) -> Picture:
    shot, frame = request.shot, request.frame
    if request.look is Look.PLATE:
        return engine.plate(shot.footage, frame)
    if request.look is Look.CLEAN_PLATE and request.plate_id:
        return engine.canvas(shot, shot.clean_plate(request.plate_id))
    if request.look is Look.MATTE:
        return _matte(engine, shot, frame)
    if request.look is Look.PAINT_ALONE:
        return np.where(_matte(engine, shot, frame) > 0, engine.result(shot, frame), np.float32(0.18))
    if request.look is Look.DIFFERENCE:
        return np.abs(engine.result(shot, frame) - engine.plate(shot.footage, frame)) * 4
    return engine.result(shot, frame)


def _matte(engine: Engine, shot: Shot, frame: int) -> Picture:
    """Return the union of all mattes as grey (H, W, 3)."""
    out = np.zeros((shot.footage.height, shot.footage.width), np.float32)
    for fix in shot.fixes:
        found = engine.matte(shot, fix, frame) if fix.is_on else None
        if found is not None:
            region = out[found[0].slices]
            np.maximum(region, found[1], out=region)
    return np.repeat(out[..., None], 3, axis=2)
