"""What a viewport shows: the look that was asked for, through one mapping, as pixels for the screen.

The picture is evaluated at the scale at which it is shown, within the window that is seen, and resampled once.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Shot
from gommage.core.engine.elsewhere import donor_map, striped
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.inputs import frame_inputs, matte_inputs
from gommage.core.engine.pictures import NOTHING_IN_HAND, InHand
from gommage.core.fill import canvas_key
from gommage.core.geometry import Mapping, Window, around, growth, scaling, spanning, then
from gommage.core.picture import Filter, Picture, halved, resample, scale_of
from gommage.core.picture.card import test_card
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display, show

__all__ = [
    "BACKDROPS",
    "SURROUND",
    "Look",
    "Veil",
    "ViewRequest",
    "level_shown",
    "look_pixels",
    "shown_pixels",
    "view_key",
    "view_pixels",
]

SURROUND = 0x3A
"""The neutral grey level around the picture."""
REACH_PX = 3
MOST_LEVELS = 6
Check = Callable[[], None]


def _never() -> None:
    """Call nothing off."""


class Look(StrEnum):
    """What to look at."""

    RESULT = "result"
    PLATE = "plate"
    CLEAN_PLATE = "clean plate"
    PAINT_ALONE = "paint alone"
    MATTE = "matte"
    VEIL = "veil"
    OUTSIDE = "outside dim"
    DIFFERENCE = "difference"
    DONOR_MAP = "donor map"
    SHEET = "sheet"


OF_MATTES = (Look.MATTE, Look.PAINT_ALONE, Look.VEIL, Look.OUTSIDE, Look.DONOR_MAP)
"""Looks that depend on the mattes themselves."""
BACKDROPS = {"black": (0.0, 0.0), "grey": (0.18, 0.18), "checker": (0.06, 0.22)}
"""What paint alone is shown on: two levels, scene-linear, of squares of so many pixels."""
SQUARE_PX = 16
ALL_KNOWN = 0.999
DIMMED = 0.12
"""How bright what lies outside a matte is where that is dimmed."""


@dataclass(frozen=True, slots=True)
class Veil:
    """How a matte is laid over the picture.

    Attributes
    ----------
    fix_id : str
        Whose matte; empty: of all.
    strength : float
        0 to 1.
    covered, held_out : tuple of float
        Colours, scene-linear.
    """

    fix_id: str = ""
    strength: float = 0.5
    covered: tuple[float, float, float] = (0.87, 0.12, 0.22)
    held_out: tuple[float, float, float] = (0.85, 0.55, 0.08)


@dataclass(frozen=True, slots=True)
class ViewRequest:
    """Everything that a picture on the screen depends on.

    Attributes
    ----------
    view_from_frame : Mapping
        Frame pixels to viewport pixels (zoom, steady and all).
    size_wh : tuple of int
        The viewport in pixels of the screen.
    plate_id : str
        The clean plate for `Look.CLEAN_PLATE`.
    view_from_card : Mapping or None
        Test card pixels to viewport pixels, where one is laid over the picture.
    veil : Veil
        For the looks that show a matte over the picture.
    backdrop : str
        On what paint alone is shown: one of `BACKDROPS`.
    """

    shot: Shot
    frame: int
    look: Look
    view_from_frame: Mapping
    size_wh: tuple[int, int]
    display: Display = DEFAULT_DISPLAY
    plate_id: str = ""
    view_from_card: Mapping | None = None
    veil: Veil = Veil()
    backdrop: str = "grey"


def view_key(request: ViewRequest) -> Hashable:
    """Return the request as a cache key: the inputs of what is looked at, and how it is shown."""
    shot = request.shot
    inputs: Hashable = ()
    if request.look is Look.CLEAN_PLATE:
        inputs = canvas_key(shot, shot.clean_plate(request.plate_id)) if request.plate_id else ()
    elif request.look is not Look.PLATE:
        inputs = frame_inputs(shot, request.frame)
    mattes: Hashable = ()
    if request.look in OF_MATTES:
        mattes = matte_inputs(shot, request.frame, _fix_of(request)), request.veil, request.backdrop
    return (
        "view", mattes, shot.footage, inputs, request.frame, request.look, request.view_from_frame, request.size_wh,
        request.display, request.view_from_card,
    )  # fmt: skip


def view_pixels(engine: Engine, request: ViewRequest, check: Check = _never) -> NDArray[np.uint8]:
    """Return the viewport's pixels: (h, w, 4) uint8, see `gommage.core.picture.colour.show`."""
    return engine.cache.get_or_make(view_key(request), lambda: _drawn(engine, request, check), check)


def _drawn(engine: Engine, request: ViewRequest, check: Check) -> NDArray[np.uint8]:
    pixels = shown_pixels(engine, request, Window.of(*request.size_wh), check=check)
    off = pixels[..., 3] == 0
    pixels[off] = (SURROUND, SURROUND, SURROUND, 255)
    if request.view_from_card is not None:
        _lay_card(pixels, request.view_from_card)
    return pixels


def level_shown(view_from_frame: Mapping, size_wh: tuple[int, int]) -> int:
    """Return at which level a viewport's picture is evaluated: the power of two next above what is shown."""
    frame_from_view = view_from_frame.inverse()
    middle = np.array(size_wh) / 2
    spans = growth(frame_from_view, middle)
    if not np.isfinite(spans) or spans < 1 / 0.75:
        return 0
    return int(np.clip(np.ceil(np.log2(spans) - 0.4), 0, MOST_LEVELS))


def shown_pixels(
    engine: Engine, request: ViewRequest, part: Window, in_hand: InHand = NOTHING_IN_HAND, check: Check = _never
) -> NDArray[np.uint8]:
    """Return a part of the viewport: (h, w, 4) uint8; where there is no picture the last number is 0.

    Parameters
    ----------
    engine : Engine
    request : ViewRequest
    part : Window
        Of the viewport.
    in_hand : mapping
        Canvases with a stroke in the hand, in place of those of the document.
    check : callable
    """
    view_from_shown = view_from_shown_of(request)
    level = level_shown(view_from_shown, request.size_wh)
    scaled_from_view = then(view_from_shown.inverse(), scaling(scale_of(level)))
    whole = _bounds_of(request).scaled(scale_of(level))
    seen = spanning(scaled_from_view, part)
    is_known = np.isfinite(seen).all() and not scaled_from_view.wraps
    window = (around(seen, REACH_PX) if is_known else whole) & whole
    if window.is_empty:
        return np.zeros((part.height, part.width, 4), np.uint8)
    picture = look_pixels(engine, request, window, level, in_hand, check)
    check()
    pixels, inside = resample(picture, scaled_from_view, part, at=window, filter=Filter.LOOK)
    display = request.display
    if request.look in (Look.MATTE, Look.DIFFERENCE, Look.DONOR_MAP):
        display = Display(display.device, display.view, 0.0, display.gamma)
    out = show(pixels, display)
    out[inside == 0] = 0
    return out


def view_from_shown_of(request: ViewRequest) -> Mapping:
    """Return where what is looked at lies in the viewport: a clean plate may be finer than its home frame."""
    if request.look is Look.CLEAN_PLATE and request.plate_id:
        scale = request.shot.clean_plate(request.plate_id).scale
        if scale != 1:
            return then(scaling(1 / scale), request.view_from_frame)
    return request.view_from_frame


def _bounds_of(request: ViewRequest) -> Window:
    """Return how far what is looked at reaches: a clean plate may be larger than the picture."""
    if request.look is Look.CLEAN_PLATE and request.plate_id:
        return canvas_key(request.shot, request.shot.clean_plate(request.plate_id)).window
    return request.shot.footage.bounds


def _lay_card(pixels: NDArray[np.uint8], view_from_card: Mapping) -> None:
    """Lay the test card over pixels of the viewport, in place."""
    window = Window.of(pixels.shape[1], pixels.shape[0])
    card, inside = resample(_float_card(), view_from_card.inverse(), window, filter=Filter.LOOK)
    alpha = card[..., 3:] * inside[..., None] / 255
    pixels[..., :3] = np.round(pixels[..., :3] + (card[..., :3] - pixels[..., :3]) * alpha).astype(np.uint8)


@lru_cache(maxsize=1)
def _float_card() -> Picture:
    """Return the test card as `resample` wants it: (h, w, 4) float32, 0 to 255."""
    return test_card().astype(np.float32)


# -- looks --------------------------------------------------------------------------------------------------


def look_pixels(
    engine: Engine, request: ViewRequest, window: Window, level: int, in_hand: InHand, check: Check
) -> Picture:
    """Return a window of what is looked at, at a level: (h, w, 3) float32, scene-linear."""
    shot, footage, frame = request.shot, request.shot.footage, request.frame
    if request.look is Look.CLEAN_PLATE and request.plate_id:
        return _clean_plate(engine, request, window, level, in_hand, check)
    if request.look is Look.PLATE:
        return engine.pictures.plate(footage, frame, level, check)[window.slices]
    if request.look is Look.MATTE:
        return np.repeat(_matte(engine, request, window, level, check)[..., None], 3, axis=2)
    if request.look is Look.DONOR_MAP:
        return _donor_map(engine, request, window, level, check)
    if request.look in (Look.VEIL, Look.OUTSIDE):
        return _veiled(engine, request, window, level, check)
    fixes = frame_inputs(shot, frame)
    result = engine.patches.composited(footage, frame, window, level, fixes, in_hand, check)
    if request.look is Look.PAINT_ALONE:
        alpha = _matte(engine, request, window, level, check)[..., None]
        plate = engine.pictures.plate(footage, frame, level, check)[window.slices]
        backdrop = _backdrop(request.backdrop, window, scale_of(level))
        return np.where(alpha >= 1, result, np.maximum(result + (backdrop - plate) * (1 - alpha), 0))
    if request.look is Look.DIFFERENCE:
        return np.abs(result - engine.pictures.plate(footage, frame, level, check)[window.slices]) * 4
    return result


def _backdrop(name: str, window: Window, scale: float) -> Picture:
    """Return a window of what paint alone is shown on, (h, w, 1)."""
    side = max(SQUARE_PX * scale, 1.0)
    columns = (np.arange(window.left, window.right) // side).astype(int)
    rows = (np.arange(window.top, window.bottom) // side).astype(int)
    even = (rows[:, None] + columns[None]) % 2 == 0
    dark, light = BACKDROPS[name]
    return np.where(even, np.float32(light), np.float32(dark))[..., None]


def _clean_plate(
    engine: Engine, request: ViewRequest, window: Window, level: int, in_hand: InHand, check: Check
) -> Picture:
    key = canvas_key(request.shot, request.shot.clean_plate(request.plate_id))
    canvas = in_hand.get(key) or engine.pictures.canvas(key, check)
    full = window.scaled(2**level) & canvas.bounds
    shown = halved(canvas.read(full), level)
    known = engine.pictures.known(key, window, level, canvas, check)
    if known is None:
        return shown
    whole = engine.pictures.whole_blocks(canvas, window, level)
    lacks = known[(full.scaled(scale_of(level))).within(whole)] < ALL_KNOWN
    return np.where(lacks[..., None], striped(window), shown)


def _fix_of(request: ViewRequest) -> str:
    """Return whose matte is shown: of all fixes where they are looked at together."""
    return request.veil.fix_id if request.look in (Look.VEIL, Look.OUTSIDE) else ""


def _matte(engine: Engine, request: ViewRequest, window: Window, level: int, check: Check) -> Picture:
    """Return the union of all alphas that are looked at over a window, (h, w)."""
    return engine.laid_matte(request.shot, request.frame, _fix_of(request), window, level, check)


def _donor_map(engine: Engine, request: ViewRequest, window: Window, level: int, check: Check) -> Picture:
    """Return the donor map of the fix in hand over a window; the result where it has no donors."""
    shot, fix_id = request.shot, request.veil.fix_id
    fix = shot.fix(fix_id) if fix_id else None
    seen = engine.elsewhere(shot, fix, request.frame, scale_of(level), check) if fix is not None else None
    if seen is None:
        fixes = frame_inputs(shot, request.frame)
        return engine.patches.composited(shot.footage, request.frame, window, level, fixes, check=check)
    plate = engine.pictures.plate(shot.footage, request.frame, level, check)[window.slices]
    return donor_map(seen, plate, window, request.frame)


def _veiled(engine: Engine, request: ViewRequest, window: Window, level: int, check: Check) -> Picture:
    """Return the plate with the matte over it as a veil, hold-outs in a tone of their own, or dimmed outside it."""
    plate = engine.pictures.plate(request.shot.footage, request.frame, level, check)[window.slices]
    matte = _matte(engine, request, window, level, check)[..., None]
    if request.look is Look.OUTSIDE:
        return plate * (DIMMED + (1 - DIMMED) * matte)
    held = np.zeros_like(matte)
    for one in matte_inputs(request.shot, request.frame, _fix_of(request)):
        if one.hold_outs.parts:
            np.maximum(
                held, engine.patches.matte(one.footage, one.hold_outs, window, level, check)[..., None], out=held
            )
    veil, out = request.veil, plate
    for share, colour in ((matte, veil.covered), (held, veil.held_out)):
        out = out + (np.array(colour, np.float32) - out) * share * np.float32(veil.strength)
    return out
