"""Pictures laid on a surface: from files, or a frame of the shot itself."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gommage.core.cover import MatteAt, PartAt, matte_on
from gommage.core.cover.parts import LineAt
from gommage.core.document import (
    Array,
    Blend,
    Combine,
    Fix,
    Footage,
    FrameOffset,
    Placed,
    Shot,
    SourceTime,
    mappings_of,
)
from gommage.core.document.records import Record
from gommage.core.fill.blurring import SHUTTER, passing_on
from gommage.core.fill.plates import read_through
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.geometry import (
    Mapping,
    Points,
    Window,
    composed,
    fitted,
    from_matrix,
    then,
)
from gommage.core.match.sharpness import Blur, blurred
from gommage.core.paint import CanvasKey
from gommage.core.paint.canvases import CutOut
from gommage.core.picture import Filter, resample

__all__ = ["PlacedAt", "corners_seen", "fill_from_placed", "frame_at", "frame_from_picture", "frame_laid", "placed_at"]

EDGE_PX = 0.75
"""So far beyond its own edge a picture reaches: a cover that ends there is not thinned by it."""
SIDE_POINTS = 12
"""A side is drawn with so many points: it need not be straight on the frame."""
LEAST_ALPHA = 1e-4
Check = Callable[[], None]


class PlacedAt(Record, frozen=True):
    """A picture as it lies on one frame: everything that its pixels depend on.

    Attributes
    ----------
    outline : MatteAt
        Where it reaches.
    blurred_by : (x, y)
        The way that it is blurred along while the shutter is open, in pixels of the frame.
    passing : (x, y)
        How its surface passes, in pixels a frame.
    is_moving : bool
        Whether each frame has a picture of its own: then grain lives in it already.
    """

    canvas: CanvasKey
    footage: Footage
    frame_from_picture: Mapping
    outline: MatteAt
    blend: Blend
    is_of_shot: bool
    is_moving: bool
    blurred_by: tuple[float, float] = (0.0, 0.0)
    passes: tuple[float, float] = (0.0, 0.0)

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What it is read from."""
        return (self.canvas,)

    @property
    def passing(self) -> tuple[tuple[float, float], ...]:
        """How its surface passes, in pixels a frame."""
        return (self.passes,)

    @property
    def as_shot(self) -> PlacedAt:
        """The same: nothing is painted on it."""
        return self


def frame_at(time: SourceTime, frame: int) -> int:
    """Return the frame that something is taken from on a frame."""
    return frame + time.frames if isinstance(time, FrameOffset) else time.frame


def frame_laid(fill: Placed, shot: Shot, frame: int) -> int | None:
    """Return the number of the picture that is laid on a frame; None where there is none."""
    footage = fill.footage or shot.footage
    if len(footage.frames) == 1:
        return footage.frames.first
    found = frame_at(fill.time, frame)
    return found if found in footage.frames and found not in footage.missing else None


def frame_from_picture(fill: Placed, shot: Shot, surface_id: str, frame: int) -> Mapping | None:
    """Return where on a frame each pixel of a laid picture is; None where that is not known.

    Parameters
    ----------
    fill : Placed
    shot : Shot
    surface_id : str
        On which it lies, if it runs along.
    frame : int
    """
    laid = frame_laid(fill, shot, frame)
    mapping_of, along = mappings_of(shot), surface_id if fill.runs_along else ""
    here = mapping_of(along, frame)
    if here is None or laid is None:
        return None
    bounds = (fill.footage or shot.footage).bounds
    placed = from_matrix(fitted(bounds.corners, fill.corners.values))
    if fill.footage is not None:
        return then(placed, here)
    there = mapping_of(along, laid)
    return None if there is None else composed(there.inverse(), placed, here)


def corners_seen(fill: Placed, shot: Shot, surface_id: str, frame: int) -> Points | None:
    """Return where the corners of a laid picture are on a frame, (4, 2); None where it is not."""
    mapping = frame_from_picture(fill, shot, surface_id, frame)
    return None if mapping is None else mapping((fill.footage or shot.footage).bounds.corners)


def placed_at(fill: Placed, shot: Shot, fix: Fix, frame: int) -> PlacedAt | None:
    """Return a picture as it lies on a frame; None where it does not."""
    laid = frame_laid(fill, shot, frame)
    mapping = frame_from_picture(fill, shot, fix.surface_id, frame)
    if laid is None or mapping is None:
        return None
    footage = fill.footage or shot.footage
    subject = matte_on(shot, fill.subject, laid)
    is_moving = len(footage.frames) > 1 and isinstance(fill.time, FrameOffset)
    base = CutOut(subject=subject, has_alpha=fill.footage is not None and footage.keep_alpha,
                  has_grain=fill.is_of_shot and not is_moving)  # fmt: skip
    line = mapping(_rim(footage.bounds.corners))
    if not np.isfinite(line).all():
        return None
    passing = passing_on(shot, fix.surface_id, frame) if fix.surface_id and fill.runs_along else (0.0, 0.0)
    is_blurred = not fill.is_of_shot and fix.match.sharpness_px is None
    return PlacedAt(
        canvas=CanvasKey(footage=footage, home_frame=laid, base=base, window=footage.bounds),
        footage=shot.footage, frame_from_picture=mapping, outline=MatteAt(parts=(_whole(line),)), blend=fill.blend,
        is_of_shot=fill.is_of_shot, is_moving=is_moving,
        blurred_by=(SHUTTER * passing[0], SHUTTER * passing[1]) if is_blurred else (0.0, 0.0), passes=passing,
    )  # fmt: skip


def _rim(corners: Points) -> Points:
    """Return points all along the sides of a quad, (4 * SIDE_POINTS, 2)."""
    share = np.linspace(0, 1, SIDE_POINTS, endpoint=False)[:, None]
    return np.vstack([(1 - share) * corners[k] + share * corners[(k + 1) % 4] for k in range(4)])


def _whole(line: Points) -> PartAt:
    return PartAt(source=LineAt(points=Array(line)), combine=Combine.ADD, is_inverted=False, grow_px=EDGE_PX,
                  inwards_px=0.0, outwards_px=0.0)  # fmt: skip


# -- pixels -------------------------------------------------------------------------------------------------


def fill_from_placed(at: PlacedAt, scene: Scene, window: Window, check: Check = lambda: None) -> Filled:
    """Bring a picture to a frame, resampled once, with its alpha.

    Parameters
    ----------
    at : PlacedAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale.
    check : callable
    """
    blur = Blur(*at.blurred_by).scaled(scene.scale)
    wide = window.grown(blur.reach_px)
    picture_from_frame, level, needed = read_through(at.frame_from_picture, scene, wide)
    splines = scene.prepared(at.canvas, needed, level)
    check()
    pixels = resample(splines, picture_from_frame, wide).pixels
    shown = scene.matte(at.footage, at.outline, wide)
    known = scene.known(at.canvas, needed, level)
    alpha = shown
    if known is not None:
        own = resample(known, picture_from_frame, wide, at=splines.window, filter=Filter.LOOK).pixels
        pixels, alpha = _straight(pixels, own), shown * own
    if blur:
        everywhere = np.ones(alpha.shape, bool)
        pixels = blurred(pixels * alpha[..., None], everywhere, blur)
        alpha = blurred(alpha, everywhere, blur)
        pixels = _straight(pixels, alpha)
    inside = window.within(wide)
    pixels, alpha = np.ascontiguousarray(pixels[inside]), np.ascontiguousarray(alpha[inside])
    keeps_grain = at.blend is not Blend.OVER or (at.is_of_shot and at.is_moving)
    return Filled(
        (Layer(pixels, (alpha > 0.5).astype(np.float32)),),
        fresh_grain=np.zeros_like(alpha) if keeps_grain else None, shown=alpha, blend=at.blend,
    )  # fmt: skip


def _straight(pixels: np.ndarray, alpha: np.ndarray) -> np.ndarray:
    """Return colours of which a share was stored, (h, w, 3), as they are; none where next to nothing was."""
    return np.where(alpha[..., None] > LEAST_ALPHA, pixels / np.maximum(alpha, LEAST_ALPHA)[..., None], np.float32(0))
