"""What a follow yields frame by frame, what it must know of the rest of the shot, and how a track is made of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    NOT_SEEN,
    Array,
    FrameRange,
    Placement,
    PointsFollow,
    SpotPath,
    Surface,
    Track,
)
from gommage.core.follow.masks import Mask, Undrawn
from gommage.core.geometry import IDENTITY, Mapping, Matrix, Points, Window, apply_matrix

__all__ = [
    "Direction",
    "FollowStep",
    "SpotFound",
    "Surroundings",
    "beginning",
    "ended",
    "laid_between",
    "moved_px",
    "unseen",
    "ways",
    "with_spots",
    "with_step",
]

NOWHERE_PX = 99.0
"""The slip of frames on which nothing is known."""
BETWEEN_PX, BETWEEN_SHARE = 2.0, 0.15
"""The slip of what is laid between two frames: in pixels, and of how far it moves between them."""


class Direction(StrEnum):
    """Which way to follow from the frame one is on."""

    FORWARDS = "forwards"
    BACKWARDS = "backwards"
    BOTH = "both"


@dataclass(frozen=True, slots=True)
class SpotFound:
    """Where a spot is on a frame, in pixels; certainty 0 where it was not seen and its place comes from the others."""

    x: float
    y: float
    certainty: float


@dataclass(frozen=True, slots=True)
class FollowStep:
    """One frame's outcome; `ended` says in words why there is none and the follow stops here.

    Attributes
    ----------
    home_to_frame : (3, 3) float64 or None
        As a track has it: relative to what the surface rides on, without pins.
    corner_slip_px : (4,) float64
    reason : str
        Why it may be off, in words.
    spots : dict of str to SpotFound
        By id, for a surface of points.
    """

    frame: int
    home_to_frame: Matrix | None
    corner_slip_px: NDArray[np.float64]
    certainty: float
    reason: str = ""
    ended: str = ""
    spots: dict[str, SpotFound] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a follow must know of the rest of the shot.

    Attributes
    ----------
    placed : Placement or None
        Where the surface is now, pins and all; a follow may begin on any of its frames.
    measured : Placement or None
        The same without pins.
    in_front : callable or None
        Gives for a frame, where the surface is taken to be on it (home to frame) and a window of it, 1 where
        something is in front, (h, w) uint8; None: nothing ever is.
    undrawn : callable or None
        Gives the same for a part of areas or keep-outs that is not drawn: a matte from files, scribbles, a shared
        matte; without it such parts are nothing.
    carried : callable
        Gives for a frame the motion of what the surface rides on, home to frame; None where that is not known.
    """

    placed: Placement | None = None
    measured: Placement | None = None
    in_front: Callable[[int, Mapping, Window], Mask] | None = None
    undrawn: Undrawn | None = None
    carried: Callable[[int], Mapping | None] = lambda frame: IDENTITY


def beginning(surface: Surface, start_frame: int, rest: Surroundings) -> int:
    """Return the frame a follow begins on: the wanted one if the surface is placed there, else its home frame."""
    is_known = rest.placed is not None and rest.placed.is_placed(start_frame)
    return start_frame if is_known else surface.home_frame


def ways(start_frame: int, frames: FrameRange, direction: Direction) -> list[range]:
    """Return the frames to go through, one range each way."""
    forwards = range(start_frame + 1, frames.last + 1)
    backwards = range(start_frame - 1, frames.first - 1, -1)
    return {
        Direction.FORWARDS: [forwards],
        Direction.BACKWARDS: [backwards],
        Direction.BOTH: [forwards, backwards],
    }[direction]


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
    slip = np.minimum(np.asarray(step.corner_slip_px, float), NOWHERE_PX)[None]
    if track is None:
        return Track(
            first_frame=step.frame,
            home_to_frame=Array(step.home_to_frame[None]),
            corner_slip_px=Array(slip),
            certainty=Array([step.certainty]),
            reasons=(step.reason,),
        )
    first, count, index = track.first_frame, len(track.certainty), step.frame - track.first_frame
    if not -1 <= index <= count:
        raise ValueError(f"frame {step.frame} does not touch the followed {track.frames.first}–{track.frames.last}")
    head, tail = max(index, 0), max(index + 1, 0)

    def spliced(values: Points, new: Points) -> Array:
        return Array(np.concatenate([values[:head], new, values[tail:]]))

    return replace(
        track,
        first_frame=min(first, step.frame),
        home_to_frame=spliced(track.home_to_frame.values, step.home_to_frame[None]),
        corner_slip_px=spliced(track.corner_slip_px.values, slip),
        certainty=spliced(track.certainty.values, np.array([step.certainty])),
        reasons=(*track.reasons[:head], step.reason, *track.reasons[tail:]),
        before="" if index < 0 else track.before,
        after="" if index == count else track.after,
    )


def with_spots(surface: Surface, step: FollowStep) -> Surface:
    """Return a surface of points with the places of its spots on one more frame."""
    how = surface.how
    if not step.spots or not isinstance(how, PointsFollow):
        return surface
    spots = tuple(
        replace(spot, path=_longer(spot.path, step.frame, step.spots[spot.id])) if spot.id in step.spots else spot
        for spot in how.spots
    )
    return replace(surface, how=replace(how, spots=spots))


def _longer(path: SpotPath | None, frame: int, found: SpotFound) -> SpotPath:
    place, sure = np.array([[found.x, found.y]]), np.array([found.certainty])
    if path is None or not path.first_frame - 1 <= frame <= path.first_frame + len(path.certainty):
        return SpotPath(first_frame=frame, positions=Array(place), certainty=Array(sure))
    index = frame - path.first_frame
    head, tail = max(index, 0), max(index + 1, 0)
    old, certainty = path.positions.values, path.certainty.values
    return SpotPath(
        first_frame=min(path.first_frame, frame),
        positions=Array(np.concatenate([old[:head], place, old[tail:]])),
        certainty=Array(np.concatenate([certainty[:head], sure, certainty[tail:]])),
    )


def unseen(frame: int, matrix: Matrix) -> FollowStep:
    """Return the step of a frame that lies between a loss and the place where the surface was found again."""
    return FollowStep(frame, matrix, np.full(4, NOWHERE_PX), 0.0, NOT_SEEN)


def ended(frame: int, reason: str) -> FollowStep:
    """Return the step that says why a follow ends on a frame."""
    return FollowStep(frame, None, np.full(4, np.inf), 0.0, ended=reason)


def moved_px(one: Matrix, other: Matrix, points: Points) -> NDArray[np.float64]:
    """Return by how many pixels points (N, 2) move from one place to another, (N,)."""
    return np.hypot(*(apply_matrix(other, points) - apply_matrix(one, points)).T)


def laid_between(
    frame: int, matrix: Matrix, moved_px: NDArray[np.float64], spots: dict[str, SpotFound] | None = None
) -> FollowStep:
    """Return the step of a frame that was missing or not recognised, by the place between its neighbours.

    The further corners went meanwhile (`moved_px`, (4,)), the less is known of where they were.
    """
    slip = np.hypot(BETWEEN_PX, BETWEEN_SHARE * np.nan_to_num(moved_px, nan=NOWHERE_PX))
    return FollowStep(frame, matrix, slip, 0.0, "laid between its neighbours", spots=spots or {})
