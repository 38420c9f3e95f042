"""Clean plates, carried along their surface."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from msgspec.structs import replace

from gommage.core.document import CleanPlate, Fix, Plates, Shot, Texture, mappings_of, placement
from gommage.core.document.records import Record
from gommage.core.fill.blurring import passing_on
from gommage.core.fill.merging import merged_from
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.fill.texture import closing_of_fix, closing_of_plate, home_of_texture
from gommage.core.geometry import IDENTITY, Mapping, Window, around, growth, scaling, spanning, then
from gommage.core.paint import CanvasKey, on_larger, strokes_at
from gommage.core.picture import Filter, resample, scale_of

__all__ = [
    "PlateAt",
    "PlatesAt",
    "canvas_key",
    "fill_from_plates",
    "plate_on_frame",
    "plate_weights",
    "plates_at",
    "read_through",
    "texture_at",
    "usable_plates",
]

SPLINE_REACH_PX = 3
ALL_KNOWN = 0.999
MOST_LEVELS, FINER = 6, 0.3
"""A plate is averaged down where many of its pixels are one of the picture's; a third of an octave finer is fine."""


class PlateAt(Record, frozen=True):
    """A clean plate on one frame: where it lies and its share, and how its surface passes there, in pixels a frame."""

    canvas: CanvasKey
    frame_from_plate: Mapping
    weight: float
    passing: tuple[float, float] = (0.0, 0.0)


class PlatesAt(Record, frozen=True):
    """The clean plates of a fill on one frame: everything that its pixels depend on."""

    plates: tuple[PlateAt, ...]

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on."""
        return tuple(plate.canvas for plate in self.plates)

    @property
    def passing(self) -> tuple[tuple[float, float], ...]:
        """How the surface of each passes, in pixels a frame."""
        return tuple(plate.passing for plate in self.plates)

    @property
    def as_shot(self) -> PlatesAt:
        """The same plates as light is measured with: the home frame as it was shot, whatever was painted there."""
        return PlatesAt(plates=tuple(_as_shot(plate) for plate in self.plates))


def _as_shot(plate: PlateAt) -> PlateAt:
    return replace(plate, canvas=plate.canvas.as_shot)


@lru_cache(maxsize=256)
def canvas_key(shot: Shot, plate: CleanPlate, within: frozenset[str] = frozenset()) -> CanvasKey:
    """Return what a clean plate's pixels depend on.

    Parameters
    ----------
    shot : Shot
    plate : CleanPlate
    within : frozenset of str
        Plates that are painted from this one: it does not paint from them in turn.
    """
    within = within | {plate.id}
    strokes = strokes_at(
        plate.painting, shot.footage, plate.home_frame, mappings_of(shot), along=plate.surface_id,
        plate=lambda plate_id: None if plate_id in within else plate_on_frame(shot, plate_id, plate.home_frame, within),
    )  # fmt: skip
    window = Window(*plate.window) if plate.window is not None else shot.footage.bounds
    return CanvasKey(
        footage=shot.footage, home_frame=plate.home_frame, base=plate.base,
        strokes=tuple(on_larger(stroke, plate.scale) for stroke in strokes), window=window.scaled(plate.scale),
        merged=merged_from(shot, plate), scale=plate.scale, closing=closing_of_plate(shot, plate),
    )  # fmt: skip


def plate_on_frame(
    shot: Shot, plate_id: str, frame: int, within: frozenset[str] = frozenset()
) -> tuple[CanvasKey, Mapping] | None:
    """Return a clean plate's canvas and where its pixels lie on a frame; None where they do not."""
    plate = shot.clean_plate(plate_id)
    mapping = _to_frame(shot, plate, frame)
    return None if mapping is None else (canvas_key(shot, plate, within), _from_canvas(plate, mapping))


def _from_canvas(plate: CleanPlate, frame_from_home: Mapping) -> Mapping:
    """Return where a plate's own pixels lie on a frame, by where those of its home frame do."""
    return frame_from_home if plate.scale == 1 else then(scaling(1 / plate.scale), frame_from_home)


def _to_frame(shot: Shot, plate: CleanPlate, frame: int) -> Mapping | None:
    """Return where a plate's pixels lie on a frame; None where its surface is not known on either."""
    if not plate.surface_id:
        return IDENTITY
    placed = placement(shot, shot.surface(plate.surface_id))
    return None if placed is None else placed.from_frame(plate.home_frame, frame)


def usable_plates(shot: Shot, fill: Plates) -> tuple[CleanPlate, ...]:
    """Return the clean plates of a fill whose home frame is known on their surface."""
    chosen = [shot.clean_plate(plate_id) for plate_id in fill.plate_ids]
    return tuple(plate for plate in chosen if _to_frame(shot, plate, plate.home_frame) is not None)


def plates_at(fill: Plates, shot: Shot, fix: Fix, frame: int) -> PlatesAt | None:
    """Return the plates of a fill as they lie on a frame, or None where they do not."""
    plates = usable_plates(shot, fill)
    if not plates:
        return None
    found = []
    weights = plate_weights(tuple(plate.home_frame for plate in plates), frame)
    for plate, weight in zip(plates, weights, strict=True):
        if not weight:
            continue
        laid = _plate_at(shot, plate, canvas_key(shot, plate), frame, weight)
        if laid is None:
            return None
        found.append(laid)
    return PlatesAt(plates=tuple(found))


def _plate_at(shot: Shot, plate: CleanPlate, key: CanvasKey, frame: int, weight: float = 1.0) -> PlateAt | None:
    mapping = _to_frame(shot, plate, frame)
    if mapping is None:
        return None
    passing = passing_on(shot, plate.surface_id, frame) if plate.surface_id else (0.0, 0.0)
    return PlateAt(canvas=key, frame_from_plate=_from_canvas(plate, mapping), weight=weight, passing=passing)


def texture_at(fill: Texture, shot: Shot, fix: Fix, frame: int) -> PlatesAt | None:
    """Return a still whose cover is closed with pieces of it as it lies on a frame, or None where it does not."""
    plate = CleanPlate(id="", name="", surface_id=fix.surface_id, home_frame=home_of_texture(fill, shot, fix))
    closing = closing_of_fix(fill, shot, fix)
    if closing is None:
        return None
    key = CanvasKey(footage=shot.footage, home_frame=plate.home_frame, base=plate.base, window=shot.footage.bounds,
                    closing=closing)  # fmt: skip
    laid = _plate_at(shot, plate, key, frame)
    return None if laid is None else PlatesAt(plates=(laid,))


def plate_weights(home_frames: tuple[int, ...], frame: int) -> tuple[float, ...]:
    """Return each plate's share on a frame: the two that lie around it blend, before and after one is alone.

    Raises
    ------
    ValueError
        If there is no plate.
    """
    if not home_frames:
        raise ValueError("there is no plate to weigh")
    before = [(home, index) for index, home in enumerate(home_frames) if home <= frame]
    after = [(home, index) for index, home in enumerate(home_frames) if home > frame]
    weights = [0.0] * len(home_frames)
    if before and after:
        (first, i), (last, j) = max(before), min(after)
        share = (frame - first) / (last - first)
        weights[i], weights[j] = 1 - share, share
    else:
        weights[(max(before) if before else min(after))[1]] = 1.0
    return tuple(weights)


def read_through(frame_from_picture: Mapping, scene: Scene, window: Window) -> tuple[Mapping, int, Window]:
    """Return how a picture is read over a window of a frame at a scene's scale: the mapping to its pixels, by how many
    halves it is averaged down to be no finer than what is made of it, and what of it is needed, both in these pixels.
    """
    picture_from_frame = then(scaling(1 / scene.scale), frame_from_picture.inverse())
    middle = np.array([(window.left + window.right) / 2, (window.top + window.bottom) / 2])
    finer = float(growth(picture_from_frame, middle))
    is_known = np.isfinite(finer) and finer > 0
    level = int(np.clip(np.floor(np.log2(finer) + FINER), 0, MOST_LEVELS)) if is_known else 0
    if level:
        picture_from_frame = then(picture_from_frame, scaling(scale_of(level)))
    return picture_from_frame, level, around(spanning(picture_from_frame, window), SPLINE_REACH_PX)


def fill_from_plates(at: PlatesAt, scene: Scene, window: Window, check: Callable[[], None] = lambda: None) -> Filled:
    """Bring the plates to a frame, each resampled once.

    Parameters
    ----------
    at : PlatesAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale.
    check : callable
        Called between plates; raises `Cancelled` to stop.
    """
    layers, shown = [], None
    for plate in at.plates:
        check()
        plate_from_frame, level, needed = read_through(plate.frame_from_plate, scene, window)
        splines = scene.prepared(plate.canvas, needed, level)
        pixels, valid = resample(splines, plate_from_frame, window)
        known = scene.known(plate.canvas, needed, level)
        if known is not None:
            share = resample(known, plate_from_frame, window, at=splines.window, filter=Filter.LOOK).pixels
            seen = (share > ALL_KNOWN).astype(np.float32)
            valid, shown = valid * seen, seen if shown is None else np.minimum(shown, seen)
        layers.append(Layer(pixels, valid, plate.weight))
    return Filled(tuple(layers), shown=shown)
