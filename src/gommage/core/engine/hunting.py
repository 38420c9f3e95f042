"""Find dirt and scratches over a shot."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.core.cover.dirt import DirtFrame, dirt_frame, dirt_on, seen_luma
from gommage.core.cover.found import Found
from gommage.core.document import (
    Drawn,
    Footage,
    FrameRange,
    Frames,
    MattePart,
    Shape,
    ShapeKey,
    Shot,
    VertexKind,
    new_id,
)
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.lines import follow_line, snapped_line
from gommage.core.picture import Picture
from gommage.errors import EditError, FollowError, FootageError

__all__ = ["AHEAD", "found_dirt", "found_scratches", "part_of", "plate_if_there"]

Check = Callable[[], None]
Told = Callable[[float], object]
LEAST_DIRT = 4.0
"""Below so many spreads nothing is listed."""
AHEAD = 2
SCRATCH_EVERY, SCRATCH_CLEAR, SCRATCH_APART_PX = 4, 9.0, 14
"""Every so many frames it is asked whether a column stands out so clearly; so far a scratch wanders between."""
ROWS_IN_ONE = 4
"""Scratches are upright: so many rows are looked at as one."""


def plate_if_there(engine: Engine, footage: Footage, frame: int, check: Check) -> Picture | None:
    """Return a frame of the plate; None if there is none that can be read."""
    if frame not in footage.frames or frame in footage.missing:
        return None
    try:
        return engine.plate(footage, frame, check)
    except FootageError:
        return None  # it says so itself when one goes there


def found_dirt(
    engine: Engine, shot: Shot, frames: FrameRange | None = None, check: Check = lambda: None,
    told: Told = lambda share: None,
) -> tuple[Found, ...]:  # fmt: skip
    """Return dust and hairs that are on one frame alone, by frame.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    frames : FrameRange, optional
        The whole shot if left out.
    check : callable
    told : callable
        Called with how far it is, 0 to 1.
    """
    whole, footage = frames or shot.footage.frames, shot.footage
    numbers = list(whole)
    found: list[Found] = []
    ready = _Ready(lambda frame: plate_if_there(engine, footage, frame, check))

    def one(frame: int) -> list[Found]:
        check()
        here = ready.at(frame)
        if here is None:
            return []
        before, after = ready.at(frame - 1), ready.at(frame + 1)
        if before is None or after is None:  # on one side alone two frames tell as much
            before, after = (after, ready.at(frame + 2)) if before is None else (before, ready.at(frame - 2))
        pieces = dirt_on(before, here, after, LEAST_DIRT)
        return [Found(((frame, outline),), score, words) for outline, score, words in pieces]

    with ThreadPoolExecutor(AHEAD, "dirt") as pool:  # what is compiled lets go of the interpreter
        for number, items in enumerate(pool.map(one, numbers), 1):
            check()
            found += items
            ready.let_go(numbers[number - 1] - 1)
            told(number / len(numbers))
    return tuple(found)


class _Ready:
    """Frames made ready for finding dirt, each once, as long as their neighbours want them. For several threads."""

    def __init__(self, plate: Callable[[int], Picture | None]) -> None:
        self._plate = plate
        self._lock = threading.Lock()
        self._frames: dict[int, Future[DirtFrame | None]] = {}
        self._spare: list[DirtFrame] = []

    def at(self, frame: int) -> DirtFrame | None:
        """Return a frame; None if it cannot be read."""
        with self._lock:
            known = self._frames.get(frame)
            if known is None:
                made = self._frames[frame] = Future()
        if known is not None:
            return known.result()
        try:
            made.set_result(self._made(frame))
        except BaseException as error:
            made.set_exception(error)  # whoever waits for it fails as well
            raise
        return made.result()

    def _made(self, frame: int) -> DirtFrame | None:
        plate = self._plate(frame)
        if plate is None:
            return None
        with self._lock:
            fits = [one for one in self._spare if one.luma.shape == plate.shape[:2]]
            self._spare = fits[:-1]
        return dirt_frame(plate, fits[-1] if fits else None)

    def let_go(self, before: int) -> None:
        """Take back the memory of frames before one: nobody asks for them any more."""
        with self._lock:
            old = [one for one in self._frames if one < before]
            found = [self._frames.pop(one) for one in old]
        done = [one.result() for one in found if one.done() and one.exception() is None]
        with self._lock:
            self._spare += [one for one in done if one is not None]


def found_scratches(
    engine: Engine, shot: Shot, frames: FrameRange | None = None, check: Check = lambda: None
) -> tuple[Found, ...]:
    """Return scratches that run on over frames at the same place of the film: upright lines, each followed, keyed on
    each frame on which they are, in pixels of the frame.
    """
    whole = frames or shot.footage.frames
    seen: list[tuple[int, float]] = []
    for frame in range(whole.first, whole.last + 1, SCRATCH_EVERY):
        check()
        plate = plate_if_there(engine, shot.footage, frame, check)
        if plate is not None:
            seen += [(frame, x) for x in _upright(seen_luma(plate))]
    found = []
    for run in _runs(seen):
        check()
        part = _followed_scratch(engine, shot, run, whole, check)
        if part is not None and isinstance(part.source, Drawn):
            keys = tuple((key.frame, key.points) for key in part.source.shape.keys)
            found.append(Found(keys, SCRATCH_CLEAR, "scratch", part=part))
    return tuple(found)


def _upright(luma: Picture) -> list[float]:
    """Return columns in which an upright line stands out over the whole height."""
    found: list[float] = []
    luma = cv2.resize(luma, (luma.shape[1], -(-luma.shape[0] // ROWS_IN_ONE)), interpolation=cv2.INTER_AREA)
    for sign in (1.0, -1.0):
        values = sign * luma
        left, right = np.roll(values, 4, axis=1), np.roll(values, -4, axis=1)
        inner = cv2.blur(values, (3, 1))
        response = inner - np.maximum(cv2.blur(left, (3, 1)), cv2.blur(right, (3, 1)))
        spread = 1.4826 * float(np.median(np.abs(response))) + 1e-6
        profile = np.clip(response, -2 * spread, 2 * spread).mean(axis=0)
        profile[:8] = profile[-8:] = profile.min()
        middle = float(np.median(profile))
        clear = (profile - middle) / (1.4826 * float(np.median(np.abs(profile - middle))) + 1e-9)
        peaks = np.flatnonzero((clear > SCRATCH_CLEAR) & (profile > 0.5 * spread))
        for x in peaks:
            if clear[x] == clear[max(x - 6, 0) : x + 7].max():
                found.append(float(x) + 0.5)
    return found


def _runs(seen: list[tuple[int, float]]) -> list[list[tuple[int, float]]]:
    """Return what is seen at nearly the same column on several frames in a row."""
    runs: list[list[tuple[int, float]]] = []
    for frame, x in seen:
        for run in runs:
            if frame - run[-1][0] <= 2 * SCRATCH_EVERY and abs(x - run[-1][1]) < SCRATCH_APART_PX:
                run.append((frame, x))
                break
        else:
            runs.append([(frame, x)])
    return [run for run in runs if len(run) > 1]


def _followed_scratch(
    engine: Engine, shot: Shot, run: list[tuple[int, float]], whole: FrameRange, check: Check
) -> MattePart | None:
    frame, x = run[len(run) // 2]
    ends = np.array([[x, 2.0], [x, shot.footage.height - 2.0]])
    shape = Shape(id=new_id(), name="Scratch", keys=(ShapeKey.of(frame, ends),), kinds=(VertexKind.SMOOTH,) * 2,
                  is_closed=False)  # fmt: skip
    part = MattePart(id=shape.id, source=Drawn(shape=shape))
    try:
        part = snapped_line(engine, shot, part, frame, check)
    except (EditError, FollowError):
        return None
    assert isinstance(part.source, Drawn)
    steps = follow_line(engine, shot, part, frame, frames=whole, check=check)
    first, last = run[0][0] - SCRATCH_EVERY, run[-1][0] + SCRATCH_EVERY
    keys = {step.frame: step.key for step in steps if step.key is not None and first < step.frame < last}
    if not keys:
        return None
    ordered = tuple(keys[one] for one in sorted(keys))
    line = replace(part.source.shape, keys=ordered, kinds=(VertexKind.SMOOTH,) * len(part.source.shape.kinds))
    lives = (Frames(first=ordered[0].frame, last=ordered[-1].frame),)
    return replace(part, source=replace(part.source, shape=line), frames=lives)


def part_of(found: Found) -> MattePart:
    """Return what was found as a part of a cover."""
    if found.part is not None:
        return found.part
    keys = tuple(ShapeKey(frame=frame, vertices=ShapeKey.of(frame, line).vertices, is_measured=True)
                 for frame, line in found.keys)  # fmt: skip
    count = min(len(line) for _, line in found.keys)
    assert all(len(line) == count for _, line in found.keys)
    shape = Shape(id=new_id(), name=f"{found.words} {found.frame}".capitalize(), keys=keys,
                  kinds=(VertexKind.CORNER,) * count)  # fmt: skip
    lives = () if found.is_lasting else (Frames(first=found.keys[0][0], last=found.keys[-1][0]),)
    return MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=found.surface_id), frames=lives)
