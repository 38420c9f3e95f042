"""What every project must keep to, whoever wrote it: finite and sane numbers, names and ids that can be used.

Edits ask of what they change, found by identity, so that an edit costs its own size; reading asks of the whole. What
is wrong is said with its place: ``shots[0].surfaces[2]: rides on itself``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from itertools import pairwise
from typing import Any

import numpy as np
from msgspec import Struct

from gommage.core.document.arrays import Array
from gommage.core.document.placements import placement
from gommage.core.document.records import (
    ByHand,
    CleanPlate,
    Fix,
    Footage,
    FrameRange,
    GrainMatch,
    Key,
    Keyed,
    LightMatch,
    Match,
    Matte,
    MattePart,
    Painting,
    PlaneFollow,
    PointsFollow,
    Project,
    ScenePlane,
    Shape,
    Shot,
    Softness,
    SolvedCamera,
    Still,
    Stroke,
    Surface,
    Track,
)
from gommage.core.document.records.base import HasId
from gommage.core.document.records.fills import Donors, Placed, Rim
from gommage.core.geometry import box_of, is_quad

__all__ = ["LARGEST_SIDE", "MOST_FRAMES", "MOST_SHOTS", "at", "unplaceable", "unsound"]

LARGEST_SIDE, LEAST_SCALE, MOST_SCALE = 32768, 0.125, 8
"""Pixels; more than any camera."""
MOST_FRAMES, MOST_FRAMES_IN_ALL = 1_000_000, 4_000_000
"""Of a shot (half a day), and of a project."""
MOST_SHOTS, MOST_STEADIED = 1000, 20
LARGEST_NUMBER = 1e9
LARGEST_RATE = 100_000
LONGEST_TEXT, LONGEST_FILE_NAME = 4096, 255
LONGEST_STROKE = 5_000_000
"""Dabs."""
MOST_PX = 10_000.0
"""Of a softness, a growth, a brush."""
MOST_REACH_PX = 50.0
MOST_STOPS = 30.0
MOST_BEND = 10.0
"""Of a lens's terms."""
SMALLEST_SIZE_PX = 1e-3
_REST = re.compile(r"\w+\[\d+\]")
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")

Check = Callable[[Any], Iterator[str]]


def unsound(record: Project | Shot, before: Project | Shot | None = None, where: str = "") -> str:
    """Return a sentence about the first thing that no program could have meant, empty if all is well.

    Parameters
    ----------
    record : Project or Shot
    before : Project or Shot, optional
        One that was all well; what is the same in both is not looked at again.
    where : str
        The place of the record.
    """
    return next((at(place.lstrip("."), fault) for place, fault in _walk(record, before, where)), "")


def at(place: str, fault: str) -> str:
    """Return what is wrong with its place in front; a fault may begin with the rest of the place."""
    if not place:
        return fault
    return f"{place}{'.' if _REST.match(fault) else ': '}{fault}"


def unplaceable(shot: Shot) -> str:
    """Return a sentence about the first surface that lies nowhere once pins and carriers are counted in, or empty."""
    for index, surface in enumerate(shot.surfaces):
        try:
            placed = placement(shot, surface)
            if placed is None or (_is_regular(placed.matrices) and np.isfinite(placed.corner_slip_px).all()):
                continue
        except (np.linalg.LinAlgError, ValueError, IndexError):
            pass
        return f"surfaces[{index}]: its pins, or what it rides on, put it nowhere"
    return ""


# -- walking ----------------------------------------------------------------------------------------------------


def _walk(new: Any, old: Any, where: str) -> Iterator[tuple[str, str]]:
    """Yield the places and faults of a value and of all inside it that is not the same in an older one."""
    if new is old:
        return
    kind = type(new)
    if kind is tuple and new and type(new[0]) in (int, float):
        yield from ((where, fault) for fault in {_of_value(Array(new))} if fault)
    elif kind is tuple and new and type(new[0]) is str:  # a thousand frames have few reasons
        yield from ((f"{where}[{new.index(one)}]", fault) for one in dict.fromkeys(new) if (fault := _of_value(one)))
    elif kind is tuple:
        known = {id(one) for one in old} if type(old) is tuple else set()
        pairs = old if type(old) is tuple and len(old) == len(new) else (None,) * len(new)
        for index, (one, other) in enumerate(zip(new, pairs, strict=True)):
            if id(one) not in known:
                yield from _walk(one, other, f"{where}[{index}]")
    elif isinstance(new, Struct):
        for fault in CHECKS[kind](new) if kind in CHECKS else ():
            yield where, fault
        other = old if type(old) is kind else None
        for name in new.__struct_fields__:
            yield from _walk(getattr(new, name), getattr(other, name, None), f"{where}.{name}")
    else:
        fault = _of_value(new)
        if fault:
            yield where, fault


def _of_value(value: Any) -> str:
    if isinstance(value, Array):
        is_sane = bool((np.abs(value.values) <= LARGEST_NUMBER).all())  # neither is NaN
        return "" if is_sane else "holds numbers that are not finite, or too large"
    if isinstance(value, str):
        return _of_text(value)
    if isinstance(value, int | float) and not abs(value) <= LARGEST_NUMBER:
        return "is not a finite number of a sane size"
    return ""


def _of_text(value: str) -> str:
    if len(value) > LONGEST_TEXT:
        return f"is a text of {len(value)} letters; {LONGEST_TEXT} are the most"
    if _CONTROL.search(value) or not _is_unicode(value):
        return "is a text with letters that cannot be shown"
    return ""


def _is_unicode(value: str) -> bool:
    try:
        value.encode()
    except UnicodeEncodeError:
        return False
    return True


# -- records ----------------------------------------------------------------------------------------------------


def _of_project(project: Project) -> Iterator[str]:
    yield from _unique("shots", project.shots)
    if len(project.shots) > MOST_SHOTS:
        yield f"it has {len(project.shots)} shots; {MOST_SHOTS} are the most"
    counts = [len(shot.footage.frames) for shot in project.shots]
    if max(counts, default=0) <= MOST_FRAMES and sum(counts) > MOST_FRAMES_IN_ALL:
        yield f"its shots have more than {MOST_FRAMES_IN_ALL} frames in all"


def _of_shot(shot: Shot) -> Iterator[str]:
    for name in ("surfaces", "clean_plates", "mattes", "fixes"):
        yield from _unique(name, getattr(shot, name))
    frames = shot.footage.frames
    if shot.camera is not None:
        own = shot.camera.frames
        if fault := _outside([own.first, own.last], frames):
            yield f"camera: {fault}"
    for index, surface in enumerate(shot.surfaces):
        if isinstance(surface.how, ScenePlane) and (
            shot.camera is None or not shot.camera.is_solved(surface.home_frame)
        ):
            yield f"surfaces[{index}]: lies in a solved scene, and no camera is solved on frame {surface.home_frame}"
    carriers = {surface.id: surface.rides_on for surface in shot.surfaces}
    for index, surface in enumerate(shot.surfaces):
        for fault in (_ring(surface.id, carriers), _outside(_frames_of(surface), frames)):
            if fault:
                yield f"surfaces[{index}]: {fault}"
    for index, plate in enumerate(shot.clean_plates):
        if plate.home_frame not in frames:
            yield f"clean_plates[{index}]: {_outside([plate.home_frame], frames)}"


def _unique(name: str, items: Iterable[HasId]) -> Iterator[str]:
    seen: set[str] = set()
    for index, item in enumerate(items):
        if not item.id:
            yield f"{name}[{index}]: has no id"
        if item.id in seen:
            yield f"{name}[{index}]: has the id {item.id!r}, which another one has"
        seen.add(item.id)


def _ring(surface_id: str, carriers: dict[str, str]) -> str:
    above, steps = carriers.get(surface_id, ""), 0
    while above and above != surface_id and steps < len(carriers):
        above, steps = carriers.get(above, ""), steps + 1
    return "rides on itself" if above == surface_id else ""


def _frames_of(surface: Surface) -> list[int]:
    """Return the frames that must lie within the footage."""
    found = [surface.home_frame, *(pin.frame for pin in surface.pins)]
    if surface.track is not None:
        found += [surface.track.frames.first, surface.track.frames.last]
    if isinstance(surface.how, PointsFollow):
        for spot in surface.how.spots:
            found += [aim.frame for aim in spot.aims]
            if spot.path is not None:
                found += [spot.path.first_frame, spot.path.first_frame + len(spot.path.positions) - 1]
    return found


def _outside(found: Iterable[int], frames: FrameRange) -> str:
    lost = next((frame for frame in found if frame not in frames), None)
    return "" if lost is None else f"frame {lost} is not within the footage ({frames.first}–{frames.last})"


def _of_footage(footage: Footage) -> Iterator[str]:
    if not (1 <= footage.width <= LARGEST_SIDE and 1 <= footage.height <= LARGEST_SIDE):
        yield f"pictures are {footage.width} x {footage.height}; the most is {LARGEST_SIDE}"
    if not all(1 <= number <= LARGEST_RATE for number in footage.rate):
        yield f"its rate is {footage.rate[0]}/{footage.rate[1]}"
    if not 0.1 <= footage.pixel_aspect <= 10:
        yield f"its pixels are {footage.pixel_aspect} as wide as high"
    if len(footage.frames) > MOST_FRAMES:
        yield f"it has {len(footage.frames)} frames; {MOST_FRAMES} are the most"
    elif not _is_rising_within(footage.missing, footage.frames):
        yield "its missing frames are not in order, or not its own"
    if not footage.path:
        yield "its path is empty"
    if any(len(name.encode(errors="replace")) > LONGEST_FILE_NAME for name in footage.path.split("/")):
        yield "its path has a name longer than file systems hold"


def _is_rising_within(missing: tuple[int, ...], frames: FrameRange) -> bool:
    if not missing:
        return True
    rises = all(one < other for one, other in pairwise(missing))
    return rises and missing[0] in frames and missing[-1] in frames


def _of_surface(surface: Surface) -> Iterator[str]:
    how = surface.how
    if isinstance(how, Still | ByHand) and how.corners.values.shape != (4, 2):
        yield f"its corners are an array {how.corners.values.shape}, not four points"
        return
    if isinstance(how, PlaneFollow):
        width, height = np.ptp(box_of(surface.outline), axis=0)
        if not (width >= SMALLEST_SIZE_PX and height >= SMALLEST_SIZE_PX):
            yield "its area is a line or a point"
            return
    if isinstance(how, PointsFollow):
        yield from _unique("spots", how.spots)
        return
    if isinstance(how, Still | ByHand) and not is_quad(surface.corners):
        yield "three of its corners lie on a line"


def _of_camera(camera: SolvedCamera) -> Iterator[str]:
    turns = camera.turns.values
    if not np.allclose(turns @ np.swapaxes(turns, 1, 2), np.eye(3), atol=1e-6) or not (np.linalg.det(turns) > 0).all():
        yield "it has a turn that is none"
    lens = camera.lens
    if not (lens.focal_px >= 1 and abs(lens.first) <= MOST_BEND and abs(lens.second) <= MOST_BEND):
        yield "its lens bends more than lenses do"
    if not all(abs(number) <= LARGEST_NUMBER for number in lens.numbers):
        yield "its lens has a number that is not finite, or too large"


def _is_regular(matrices: Any) -> bool:
    """Whether matrices (..., 3, 3) can be inverted, for pictures of up to `LARGEST_SIDE`."""
    with np.errstate(all="ignore"):
        scale = np.abs(matrices).max(axis=(-2, -1))
        determinants = np.linalg.det(matrices / scale[..., None, None])
    return bool((np.abs(determinants) > 1e-15).all())


def _of_track(track: Track) -> Iterator[str]:
    if not _is_regular(track.home_to_frame.values):
        yield "it has a matrix that cannot be inverted"
    if not (track.corner_slip_px.values >= 0).all():
        yield "it has a slip below 0"


def _of_painting(painting: Painting) -> Iterator[str]:
    yield from _unique("strokes", painting.strokes)
    yield from _unique("groups", painting.groups)


def _of_stroke(stroke: Stroke) -> Iterator[str]:
    brush, points = stroke.brush, stroke.points.values
    if not SMALLEST_SIZE_PX <= brush.size_px <= MOST_PX:
        yield f"its brush is {brush.size_px:g} px large"
    with np.errstate(all="ignore"):
        length = np.hypot(*np.diff(points[:, :2], axis=0).T).sum()
    if not length <= LONGEST_STROKE * max(brush.spacing * brush.size_px, 0.5):
        yield f"it is {length:.3g} px long"
    if not ((points[:, 2] >= 0) & (points[:, 2] <= 1)).all():
        yield "its pressure is not from 0 to 1"


def _of_matte(matte: Matte) -> Iterator[str]:
    yield from _unique("parts", matte.parts)
    yield from _within("grow_px", matte.grow_px, -MOST_PX, MOST_PX)


def _of_part(part: MattePart) -> Iterator[str]:
    yield from _within("grow_px", part.grow_px, -MOST_PX, MOST_PX)


def _of_softness(softness: Softness) -> Iterator[str]:
    yield from _within("inwards_px", softness.inwards_px, 0, MOST_PX)
    yield from _within("outwards_px", softness.outwards_px, 0, MOST_PX)


def _of_light(light: LightMatch) -> Iterator[str]:
    for name in ("exposure_stops", "temperature", "tint"):
        yield from _within(name, getattr(light, name), -MOST_STOPS, MOST_STOPS)
    for name in ("contrast", "saturation", "gain"):
        yield from _within(name, getattr(light, name), 0, 100)
    yield from _within("lift", light.lift, -10, 10)


def _of_grain(grain: GrainMatch) -> Iterator[str]:
    yield from _within("amount", grain.amount, 0, 100)


def _of_match(match: Match) -> Iterator[str]:
    if match.sharpness_px is not None:
        yield from _within("sharpness_px", match.sharpness_px, 0, MOST_REACH_PX)


def _of_fix(fix: Fix) -> Iterator[str]:
    yield from _within("opacity", fix.opacity, 0, 1)


def _of_donors(fill: Donors) -> Iterator[str]:
    if not 0 <= fill.reach_px <= MOST_REACH_PX:
        yield f"its left-over motion is up to {fill.reach_px:g} px; the most is {MOST_REACH_PX}"
    if not 1 <= fill.step <= MOST_FRAMES:
        yield f"it takes every {fill.step}th frame"


def _of_rim(fill: Rim) -> Iterator[str]:
    if not 0 <= fill.steadied_by <= MOST_STEADIED:
        yield f"it is steadied by {fill.steadied_by} frames; the most are {MOST_STEADIED}"


def _of_placed(fill: Placed) -> Iterator[str]:
    if fill.corners.values.shape != (4, 2) or not is_quad(fill.corners.values):
        yield "its corners are no quad"


def _of_plate(plate: CleanPlate) -> Iterator[str]:
    if not LEAST_SCALE <= plate.scale <= MOST_SCALE:
        yield f"its scale is {plate.scale:g}"
    if plate.window is not None:
        left, top, right, bottom = plate.window
        width, height = (right - left) * plate.scale, (bottom - top) * plate.scale
        if not (0 < width <= LARGEST_SIDE and 0 < height <= LARGEST_SIDE):
            yield f"it is {width:.0f} x {height:.0f} pixels; {LARGEST_SIDE} each way are the most"
        if max(abs(one) for one in plate.window) > LARGEST_SIDE:
            yield f"it lies at {left}, {top}; {LARGEST_SIDE} pixels are the farthest"


def _of_shape(shape: Shape) -> Iterator[str]:
    if not all((key.vertices.values[:, 6:] >= 0).all() for key in shape.keys):
        yield "a vertex has a softness below 0"


def _within(name: str, keyed: Keyed, least: float, most: float) -> Iterator[str]:
    values: tuple[float | Key, ...] = (keyed,) if isinstance(keyed, int | float) else keyed.keys
    for value in values:
        number = value.value if isinstance(value, Key) else value
        if not least <= number <= most:
            yield f"{name} is {number:g}, not from {least:g} to {most:g}"
            return


CHECKS: dict[type, Check] = {
    Project: _of_project,
    Shot: _of_shot,
    SolvedCamera: _of_camera,
    Footage: _of_footage,
    Surface: _of_surface,
    Track: _of_track,
    Painting: _of_painting,
    Stroke: _of_stroke,
    Matte: _of_matte,
    MattePart: _of_part,
    Softness: _of_softness,
    LightMatch: _of_light,
    GrainMatch: _of_grain,
    Fix: _of_fix,
    Match: _of_match,
    Donors: _of_donors,
    Rim: _of_rim,
    Placed: _of_placed,
    CleanPlate: _of_plate,
    Shape: _of_shape,
}
"""What is asked of each kind of record, beyond what its constructor asks and what is asked of every value."""
