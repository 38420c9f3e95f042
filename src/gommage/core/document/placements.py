"""Where a surface is: what was measured, carried by what it rides on, corrected by its pins.

::

    track (measured)      R_t   relative to what the surface rides on
    carried               M_t = P_t inverse(P_home) R_t     P: placement of the surface it rides on
    corrected             W_t = M_t C_t                     C: home to home, exact at each pin, smooth between
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records import ByHand, Frames, PlaneFollow, PointsFollow, Shot, Surface, Track

__all__ = ["correction", "fitted", "moved", "placement", "relative_to"]

Matrix = NDArray[np.float64]
AnyPoints = NDArray[np.floating[Any]]
PIN_SLIP_PX = 0.3
"""How well a hand places a corner."""
BY_HAND = "placed by hand"


def placement(shot: Shot, surface: Surface) -> Track | None:
    """Return where a surface is on all frames on which that is known, or None if it was not followed.

    The same surface gives the same object, so it can stand in cache keys.
    """
    carrier = _carrier(shot, surface)
    if surface.rides_on and carrier is None:
        return None
    return _placed(surface, carrier, shot.footage.frames)


def relative_to(shot: Shot, surface: Surface, frame: int) -> Matrix | None:
    """Return the motion (3, 3) that a surface gets from what it rides on: home to frame; None where there is none."""
    if not surface.rides_on:
        return np.eye(3)
    carrier = _carrier(shot, surface)
    if carrier is None or not (carrier.is_placed(frame) and carrier.is_placed(surface.home_frame)):
        return None
    return _normal(carrier.matrix(frame) @ np.linalg.inv(carrier.matrix(surface.home_frame)))


def _carrier(shot: Shot, surface: Surface) -> Track | None:
    return placement(shot, shot.surface(surface.rides_on)) if surface.rides_on else None


@lru_cache(maxsize=512)
def _placed(surface: Surface, carrier: Track | None, frames: Frames) -> Track | None:
    track = surface.track
    if track is None and not isinstance(surface.how, PlaneFollow | PointsFollow):
        track = _resting(frames)
    if track is None and surface.pins:
        track = _resting(Frames(first=surface.home_frame, last=surface.home_frame))
    if track is None:
        return None
    if carrier is not None:
        track = _carried(track, carrier, surface.home_frame)
    if track is not None and surface.pins:
        track = _corrected(track, surface)
    return track


def _resting(frames: Frames) -> Track:
    count = len(frames)
    return Track(
        first_frame=frames.first,
        home_to_frame=Array(np.repeat(np.eye(3)[None], count, axis=0)),
        corner_slip_px=Array(np.zeros((count, 4))),
        certainty=Array(np.ones(count)),
        reasons=("",) * count,
    )


def _carried(track: Track, carrier: Track, home_frame: int) -> Track | None:
    first, last = max(track.frames.first, carrier.frames.first), min(track.frames.last, carrier.frames.last)
    if first > last or not carrier.is_placed(home_frame):
        return None
    part, under = track.part(Frames(first=first, last=last)), carrier.part(Frames(first=first, last=last))
    matrices = under.home_to_frame.values @ np.linalg.inv(carrier.matrix(home_frame)) @ part.home_to_frame.values
    slip = np.hypot(part.corner_slip_px.values, under.corner_slip_px.values)
    return replace(
        part,
        home_to_frame=Array(matrices / matrices[:, 2:, 2:]),
        corner_slip_px=Array(slip),
        certainty=Array(np.minimum(part.certainty.values, under.certainty.values)),
        reasons=tuple(own or other for own, other in zip(part.reasons, under.reasons, strict=True)),
    )


def _reaching(track: Track, frames: Frames) -> Track:
    """Return the track carried on, at rest, as far as frames that were placed by hand."""
    head, tail = max(track.frames.first - frames.first, 0), max(frames.last - track.frames.last, 0)
    if not head and not tail:
        return track

    def grown(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.concatenate([np.repeat(values[:1], head, axis=0), values, np.repeat(values[-1:], tail, axis=0)])

    certainty = grown(track.certainty.values)
    certainty[:head] = 0
    certainty[len(certainty) - tail :] = 0
    return replace(
        track,
        first_frame=track.first_frame - head,
        home_to_frame=Array(grown(track.home_to_frame.values)),
        corner_slip_px=Array(grown(track.corner_slip_px.values)),
        certainty=Array(certainty),
        reasons=(BY_HAND,) * head + track.reasons + (BY_HAND,) * tail,
    )


def _corrected(track: Track, surface: Surface) -> Track:
    track = _reaching(track, _span(surface, track))
    frames = np.arange(track.frames.first, track.frames.last + 1)
    change = _corrections(track, surface, frames)
    matrices = track.home_to_frame.values @ change
    slip, reasons, certainty = track.corner_slip_px.values.copy(), list(track.reasons), track.certainty.values.copy()
    for pin in surface.pins:
        row = pin.frame - track.first_frame
        slip[row], reasons[row], certainty[row] = PIN_SLIP_PX, "", 1.0
    if isinstance(surface.how, ByHand):
        reasons, certainty[:] = [""] * len(frames), 1.0
    return replace(
        track,
        home_to_frame=Array(matrices / matrices[:, 2:, 2:]),
        corner_slip_px=Array(slip),
        certainty=Array(certainty),
        reasons=tuple(reasons),
    )


def correction(carried: Track, surface: Surface, frame: int) -> Matrix:
    """Return C (3, 3), home to home, that the surface's pins ask for on a frame of its carried track."""
    if not surface.pins:
        return np.eye(3)
    matrix: Matrix = _corrections(_reaching(carried, _span(surface, carried)), surface, np.array([frame]))[0]
    return matrix


def _span(surface: Surface, track: Track) -> Frames:
    """Return the frames from the first that is pinned or measured to the last."""
    first, last = surface.pins[0].frame, surface.pins[-1].frame
    return Frames(first=min(first, track.frames.first), last=max(last, track.frames.last))


def _corrections(track: Track, surface: Surface, frames: NDArray[np.int64]) -> Matrix:
    """Return (N, 3, 3) corrections: each pin's, spread smoothly between pins and the home frame."""
    from scipy.interpolate import PchipInterpolator  # loaded late: it costs the start of the program 0.2 s

    corners = surface.corners
    knots = {surface.home_frame: np.zeros((4, 2))} if surface.home_frame in track.frames else {}
    for pin in surface.pins:
        belongs = moved(np.linalg.inv(track.matrix(pin.frame)), pin.placed.values)
        knots[pin.frame] = moved(fitted(pin.home.values, belongs), corners) - corners
    at = sorted(knots)
    values = np.stack([knots[frame] for frame in at])
    if len(at) == 1:
        spread = np.repeat(values, len(frames), axis=0)
    else:
        spread = PchipInterpolator(at, values, axis=0)(np.clip(frames, at[0], at[-1]))
    return np.stack([fitted(corners, corners + by) for by in spread])


def moved(matrix: NDArray[np.floating[Any]], points: AnyPoints) -> AnyPoints:
    """Return points (N, 2) moved by a matrix (3, 3)."""
    out: AnyPoints = points @ matrix[:, :2].T + matrix[:, 2]
    return out[:, :2] / out[:, 2:]


def fitted(source: AnyPoints, target: AnyPoints) -> Matrix:
    """Return the matrix that takes one to four points (K, 2) exactly to others, moving no more than they ask for.

    One point shifts, two also turn and scale, three also shear, four also give perspective.
    """
    count = len(source)
    if count == 1 or np.array_equal(source, target):
        out = np.eye(3)
        out[:2, 2] = (target - source)[0]
        return out
    if count == 2:
        along, there = complex(*(source[1] - source[0])), complex(*(target[1] - target[0]))
        turn = there / along if along else 1.0 + 0j
        out = np.array([[turn.real, -turn.imag, 0], [turn.imag, turn.real, 0], [0, 0, 1.0]])
        out[:2, 2] = target[0] - out[:2, :2] @ source[0]
        return out
    if count == 3:
        flat = np.column_stack([source, np.ones(3)])
        return np.vstack([np.linalg.lstsq(flat, target, rcond=None)[0].T, [0, 0, 1.0]])
    (x, y), (u, v) = source.T, target.T
    zero, one = np.zeros(4), np.ones(4)
    left = np.vstack([
        np.column_stack([x, y, one, zero, zero, zero, -u * x, -u * y]),
        np.column_stack([zero, zero, zero, x, y, one, -v * x, -v * y]),
    ])  # fmt: skip
    return np.append(np.linalg.lstsq(left, np.r_[u, v], rcond=None)[0], 1.0).reshape(3, 3)


def _normal(matrix: Matrix) -> Matrix:
    return matrix / matrix[2, 2]
