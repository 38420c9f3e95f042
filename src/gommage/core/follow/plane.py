"""Follow a plane through a shot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.core.document import Array, Frames, MotionModel, Surface, Track
from gommage.core.follow.align import Alignment, Pyramid, Template, align, make_pyramid, make_template
from gommage.core.follow.sparse import Features, features_of, start_from_features, start_from_neighbour
from gommage.core.picture import Matrix, Picture, Points, apply_matrix
from gommage.errors import FootageError

__all__ = ["Direction", "FollowStep", "follow_plane", "luminance", "track_plane", "with_step"]

SURE = 0.80
"""Correlation above which the first start is taken as it is."""
LOST = 0.45
"""Correlation below which the plane is not recognised."""
LEAST_VISIBLE = 0.12
"""Share of the area that must be in the picture."""
LARGEST_STRETCH = 1.5
"""By how much a plane may grow or shrink, along any direction, from one followed frame to the next."""
LARGEST_SLIP_PX = 3.0
"""A place that may be off by more than this is no place."""
STUMBLES = 3
"""Frames in a row that cannot be recognised or read before the follow ends."""


class Direction(StrEnum):
    """Which way to follow from the frame one is on."""

    FORWARDS = "forwards"
    BACKWARDS = "backwards"
    BOTH = "both"


@dataclass(frozen=True, slots=True)
class FollowStep:
    """One frame's outcome; `ended` says in words why there is none and the follow stops here."""

    frame: int
    home_to_frame: Matrix | None
    slip_px: float
    certainty: float
    ended: str = ""


def luminance(picture: Picture) -> Picture:
    """Return the luminance (H, W) of scene-linear Rec. 709 colour."""
    return cv2.transform(picture, np.array([[0.2126, 0.7152, 0.0722]], np.float32))


def follow_plane(
    read: Callable[[int], Picture],
    surface: Surface,
    frames: Frames,
    start_frame: int,
    direction: Direction = Direction.BOTH,
    check: Callable[[], None] = lambda: None,
) -> Iterator[FollowStep]:
    """Follow a surface's area, always against its home frame, and yield each frame as it is found.

    Parameters
    ----------
    read : callable
        Gives a frame's scene-linear (H, W, 3) float32.
    surface : Surface
        Its area is read on the home frame; a track it has gives the start.
    frames : Frames
        The shot's.
    start_frame : int
        Where to begin; must be the home frame or already followed.
    direction : Direction
    check : callable
        Called between stages; raises `Cancelled` to stop.

    Raises
    ------
    FollowError
        If the area cannot be followed at all.
    FootageError
        If the home frame cannot be read.
    """
    home = luminance(read(surface.home_frame))
    follower = _Follower(read, surface, home, check)
    begin = np.eye(3) if surface.track is None else None
    if surface.track is not None and start_frame in surface.track.frames:
        begin = surface.track.matrix(start_frame)
    elif surface.track is not None or start_frame != surface.home_frame:
        start_frame, begin = surface.home_frame, np.eye(3)
    assert begin is not None
    if start_frame == surface.home_frame:
        yield FollowStep(start_frame, np.eye(3), 0.0, 1.0)
    if direction in (Direction.FORWARDS, Direction.BOTH):
        yield from follower.run(start_frame, range(start_frame + 1, frames.last + 1), begin)
    if direction in (Direction.BACKWARDS, Direction.BOTH):
        yield from follower.run(start_frame, range(start_frame - 1, frames.first - 1, -1), begin)


class _Follower:
    """What stays the same from frame to frame."""

    def __init__(
        self, read: Callable[[int], Picture], surface: Surface, home: Picture, check: Callable[[], None]
    ) -> None:
        self._read = read
        self._check = check
        self._motion = surface.motion
        self._home = home
        area = surface.area.points_at(surface.home_frame)
        self._template: Template = make_template(home, area)
        self._home_features: Features | None = None

    def run(self, start_frame: int, frames: range, begin: Matrix) -> Iterator[FollowStep]:
        """Follow along frames; the last step yielded may be an end."""
        before, last = begin, begin
        neighbour = self._home if np.allclose(begin, np.eye(3)) else luminance(self._read(start_frame))
        held: list[FollowStep] = []
        for frame in frames:
            self._check()
            guess = last @ np.linalg.inv(before) @ last
            step, picture = self._follow_frame(frame, guess / guess[2, 2], last, neighbour)
            if step.home_to_frame is not None:
                yield from _bridged(held, last, step)
                held = []
                before, last, neighbour = last, step.home_to_frame, picture
                yield step
                continue
            held.append(step)
            gone = self._is_outside(guess)
            if gone or len(held) >= STUMBLES:
                yield _end(held[0], "the plane has left the picture" if gone else held[0].ended)
                return
        if held:
            yield held[0]

    def _is_outside(self, guess: Matrix) -> bool:
        height, width = self._home.shape
        corners = apply_matrix(guess, self._template.points_inside)
        inside = (corners >= 0).all(axis=1) & (corners < (width, height)).all(axis=1)
        return float(inside.mean()) < LEAST_VISIBLE

    def _follow_frame(self, frame: int, guess: Matrix, last: Matrix, neighbour: Picture) -> tuple[FollowStep, Picture]:
        try:
            picture = luminance(self._read(frame))
        except FootageError as error:
            return FollowStep(frame, None, np.inf, 0.0, str(error)), neighbour
        self._check()
        pyramid = make_pyramid(picture, len(self._template.levels))
        self._check()
        best = align(self._template, pyramid, guess, self._motion)
        if not self._is_sure(best):
            best = self._try_harder(best, picture, pyramid, last, neighbour)
        if best.visible < LEAST_VISIBLE:
            return FollowStep(frame, None, np.inf, 0.0, "the plane has left the picture"), picture
        if best.correlation < LOST or best.slip_px > LARGEST_SLIP_PX or not self._is_plausible(best, last):
            return FollowStep(frame, None, np.inf, 0.0, "the area is not recognised any more"), picture
        certainty = float(
            np.clip(best.correlation, 0, 1) * min(1.0, 0.5 + best.visible) * min(1.0, 0.4 + best.agreeing)
        )
        return FollowStep(frame, best.home_to_frame, best.slip_px, certainty), picture

    @staticmethod
    def _is_sure(alignment: Alignment) -> bool:
        return alignment.correlation >= SURE and alignment.visible > LEAST_VISIBLE and alignment.agreeing > 0.5

    def _is_plausible(self, found: Alignment, last: Matrix) -> bool:
        """Return whether the plane kept about its shape since the last frame: a lost one often folds into a line."""
        here = stretches(found.home_to_frame, self._template.points_inside)
        before = stretches(last, self._template.points_inside)
        with np.errstate(divide="ignore", invalid="ignore"):
            change = np.median(here, axis=0) / np.median(before, axis=0)
        return bool((change > 1 / LARGEST_STRETCH).all() and (change < LARGEST_STRETCH).all())

    def _try_harder(
        self, best: Alignment, picture: Picture, pyramid: Pyramid, last: Matrix, neighbour: Picture
    ) -> Alignment:
        """Begin again from corners of the last frame, then from features of the home frame."""
        area = apply_matrix(last, self._template.area_points)
        start = start_from_neighbour(neighbour, picture, area, last) if np.isfinite(area).all() else None
        for attempt in (start, last):
            self._check()
            if attempt is not None and not self._is_sure(best):
                best = _better(best, align(self._template, pyramid, self._allowed(attempt), self._motion))
        if not self._is_sure(best):
            if self._home_features is None:
                self._home_features = features_of(self._home, self._template.area_points)
            start = start_from_features(self._home_features, features_of(picture))
            self._check()
            if start is not None:
                best = _better(best, align(self._template, pyramid, self._allowed(start), self._motion))
        return best

    def _allowed(self, start: Matrix) -> Matrix:
        """Return the start with no more motion than the surface may have."""
        if self._motion is MotionModel.PERSPECTIVE:
            return start
        source = self._template.corners
        target = apply_matrix(start, source)
        if not np.isfinite(target).all():
            return start
        if self._motion is MotionModel.SHIFT:
            out = np.eye(3)
            out[:2, 2] = (target - source).mean(axis=0)
            return out
        estimate = cv2.estimateAffine2D if self._motion is MotionModel.AFFINE else cv2.estimateAffinePartial2D
        fitted, _ = estimate(source, target, method=cv2.LMEDS)
        return start if fitted is None else np.vstack([fitted, [0, 0, 1.0]])


def stretches(matrix: Matrix, points: Points) -> Points:
    """Return by how much a mapping stretches around points (N, 2): the greater and the lesser factor, (N, 2).

    The singular values of the mapping's derivative. Points behind the camera give NaN.
    """
    x, y = np.asarray(points, float).T
    depth = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
    moved = apply_matrix(matrix, points)
    derivative = (matrix[None, :2, :2] - moved[:, :, None] * matrix[None, 2:, :2]) / depth[:, None, None]
    derivative[~np.isfinite(derivative).all(axis=(1, 2))] = 0.0
    return np.linalg.svd(derivative, compute_uv=False)


def _better(one: Alignment, other: Alignment) -> Alignment:
    return other if other.correlation * other.visible > one.correlation * one.visible else one


def _bridged(held: list[FollowStep], last: Matrix, step: FollowStep) -> Iterator[FollowStep]:
    """Yield frames that were missing or not recognised, laid between their neighbours."""
    assert step.home_to_frame is not None
    for index, gap in enumerate(held, 1):
        share = index / (len(held) + 1)
        between = last * (1 - share) + step.home_to_frame * share
        yield FollowStep(gap.frame, between / between[2, 2], 2.0, 0.0)


def _end(step: FollowStep, reason: str) -> FollowStep:
    return FollowStep(step.frame, None, step.slip_px, step.certainty, reason)


def track_plane(
    read: Callable[[int], Picture],
    surface: Surface,
    frames: Frames,
    start_frame: int | None = None,
    direction: Direction = Direction.BOTH,
    check: Callable[[], None] = lambda: None,
) -> Track | None:
    """Return a surface's track after following it to the end; see `follow_plane`.

    Without a start frame it begins on the surface's home frame.
    """
    track = surface.track
    begin = surface.home_frame if start_frame is None else start_frame
    for step in follow_plane(read, surface, frames, begin, direction, check):
        track = with_step(track, step)
    return track


def with_step(track: Track | None, step: FollowStep) -> Track | None:
    """Return a track with one more frame, replaced or added at either end; an end adds only its reason.

    Raises
    ------
    ValueError
        If the frame touches neither end.
    """
    if step.home_to_frame is None:
        if track is None:
            return None
        return replace(track, **{"after" if step.frame > track.frames.last else "before": step.ended})
    matrix, slip, sure = step.home_to_frame[None], [step.slip_px], [step.certainty]
    if track is None:
        return Track(first_frame=step.frame, home_to_frame=Array(matrix), slip_px=Array(slip), certainty=Array(sure))
    matrices, slips, certainty = track.home_to_frame.values, track.slip_px.values, track.certainty.values
    first, index = track.first_frame, step.frame - track.first_frame
    if not -1 <= index <= len(slips):
        raise ValueError(f"frame {step.frame} does not touch the followed {track.frames.first}–{track.frames.last}")
    head = max(index, 0)
    tail = max(index + 1, 0)
    return replace(
        track,
        first_frame=min(first, step.frame),
        home_to_frame=Array(np.concatenate([matrices[:head], matrix, matrices[tail:]])),
        slip_px=Array(np.concatenate([slips[:head], slip, slips[tail:]])),
        certainty=Array(np.concatenate([certainty[:head], sure, certainty[tail:]])),
        before="" if index < 0 else track.before,
        after="" if index == len(slips) else track.after,
    )
