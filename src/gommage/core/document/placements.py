"""Where a surface is: what was measured, carried by what it rides on, corrected by its pins.

::

    track (measured)      R_t   relative to what the surface rides on
    carried               M_t = P_t inverse(P_home) R_t     P: placement of the surface it rides on
    corrected             W_t = M_t C_t                     C: home to home, exact at each pin, smooth between

A scene plane has no track of its own: its motion is the solved camera's, of straight pixels, seen through its lens.

One frame costs one frame: a placement is made of what was measured and the pins, and computes a frame's motion when it
is asked for. The arrays of all frames are made on demand, once.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, lru_cache

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records import (
    NOT_SEEN,
    ByHand,
    FrameRange,
    PlaneFollow,
    PointsFollow,
    ScenePlane,
    Shot,
    SolvedCamera,
    Surface,
    Track,
)
from gommage.core.geometry import (
    IDENTITY,
    Lens,
    Mapping,
    Points,
    ThroughLens,
    carried_stack,
    composed,
    fitted,
    fitted_stack,
    from_matrix,
    identity_stack,
    monotone_cubic,
    normal,
    plane_motion,
    then,
)

__all__ = ["Placement", "carried_by", "placement", "without_pins"]

PIN_SLIP_PX = 0.3
"""How well a hand places a corner."""
BY_HAND = "placed by hand"
POSE_FREEDOMS, RELATED = 6, 4.0
"""A camera's freedoms; so many of the points beside each other are off alike."""
OFF_PX = 1.0
"""A camera that is off by more on a frame is doubted there."""


def placement(shot: Shot, surface: Surface) -> Placement | None:
    """Return where a surface is on all frames on which that is known, or None if it was not followed.

    The same surface gives the same object, so it can stand in cache keys.
    """
    carrier = _carrier(shot, surface)
    if surface.rides_on and carrier is None:
        return None
    camera = shot.camera if isinstance(surface.how, ScenePlane) else None
    return _placed(surface, carrier, shot.footage.frames, camera)


def mappings_of(shot: Shot) -> Callable[[str, int], Mapping | None]:
    """Return what gives, for a surface's id and a frame, where its home pixels are there; None where it is not."""

    def mapping(surface_id: str, frame: int) -> Mapping | None:
        if not surface_id:
            return IDENTITY
        placed = placement(shot, shot.surface(surface_id))
        return None if placed is None else placed.mapping(frame)

    return mapping


def without_pins(shot: Shot, surface: Surface) -> Placement | None:
    """Return where a surface is by what was measured alone."""
    return placement(shot, replace(surface, pins=()))


def carried_by(shot: Shot, surface: Surface, frame: int) -> Mapping | None:
    """Return the motion that a surface gets from what it rides on: home to frame; None where there is none."""
    if not surface.rides_on:
        return IDENTITY
    carrier = _carrier(shot, surface)
    there, home = (carrier.mapping(at) for at in (frame, surface.home_frame)) if carrier else (None, None)
    return None if there is None or home is None else then(home.inverse(), there)


def _carrier(shot: Shot, surface: Surface) -> Placement | None:
    return placement(shot, shot.surface(surface.rides_on)) if surface.rides_on else None


@lru_cache(maxsize=128)
def _placed(
    surface: Surface, carrier: Placement | None, whole: FrameRange, camera: SolvedCamera | None
) -> Placement | None:
    track = surface.track
    if isinstance(surface.how, ScenePlane):
        if camera is None or not camera.is_solved(surface.home_frame):
            return None
        track = scene_track(camera, surface.home_frame, surface.corners, surface.how)
    frames = _known_frames(surface, track, whole)
    if frames is not None and carrier is not None:
        first, last = max(frames.first, carrier.frames.first), min(frames.last, carrier.frames.last)
        is_carried = first <= last and carrier.is_placed(surface.home_frame)
        frames = FrameRange(first=first, last=last) if is_carried else None
    lens = camera.lens if camera is not None and not camera.lens.is_straight else None
    return None if frames is None else Placement(surface, carrier, frames, track, lens)


def scene_track(camera: SolvedCamera, home_frame: int, corners: Points, how: ScenePlane) -> Track:
    """Return the motion of a scene plane's straight pixels, as though it had been measured.

    Its slip is what the points of the solve leave unsure: where the camera is on the frame, and where the plane lies.
    """
    lens, home = camera.lens, camera.pose(home_frame)
    frames = camera.frames
    matrices = np.stack([plane_motion(lens, home, camera.pose(frame), how.plane.values) for frame in frames])
    errors = camera.frame_error_px.values
    known = errors >= 0
    rows = np.column_stack([(lens.straightened(corners) - (lens.middle_x, lens.middle_y)) / lens.focal_px, np.ones(4)])
    depth_unsure = np.sqrt(np.maximum(np.einsum("ci,ij,cj->c", rows, how.unsure.values, rows), 0.0))
    turns = camera.turns.values
    moved = camera.moves.values - np.einsum("nij,j->ni", turns @ home[0].T, home[1])
    by_plane = lens.focal_px * np.linalg.norm(moved, axis=1)[:, None] * depth_unsure
    first, last = camera.seen_on.values.T
    counts = np.array([((first <= frame) & (frame <= last)).sum() for frame in frames])
    by_camera = np.maximum(errors, 0.0) * np.sqrt(RELATED * POSE_FREEDOMS / np.maximum(2 * counts, POSE_FREEDOMS))
    return Track(
        first_frame=camera.first_frame,
        home_to_frame=Array(matrices),
        corner_slip_px=Array(np.hypot(by_plane, by_camera[:, None])),
        certainty=Array(np.where(known, 1 / (1 + np.maximum(errors, 0.0) ** 2), 0.0)),
        reasons=tuple(_reason_of(float(error)) for error in errors),
    )


def _reason_of(error: float) -> str:
    if error < 0:
        return NOT_SEEN
    return f"the camera is off by {error:.1f} px here" if error > OFF_PX else ""


def _known_frames(surface: Surface, track: Track | None, whole: FrameRange) -> FrameRange | None:
    """Return the frames that were measured, or on which nothing has to be measured, and those between pins."""
    if track is not None:
        frames = track.frames
    elif not isinstance(surface.how, PlaneFollow | PointsFollow):
        frames = whole
    elif surface.pins:
        frames = FrameRange(first=surface.home_frame, last=surface.home_frame)
    else:
        return None
    if not surface.pins:
        return frames
    first, last = surface.pins[0].frame, surface.pins[-1].frame
    return FrameRange(first=min(first, frames.first), last=max(last, frames.last))


class Placement:
    """Where a surface is, frame by frame; `placement` makes it. Compared by identity.

    Attributes
    ----------
    surface : Surface
    frames : FrameRange
        The frames on which it is known, or was lost in between.
    """

    def __init__(
        self,
        surface: Surface,
        carrier: Placement | None,
        frames: FrameRange,
        track: Track | None,
        lens: Lens | None = None,
    ) -> None:
        self.surface, self.frames = surface, frames
        self._carrier = carrier
        self._track = track
        self._lens = lens
        self._memory: dict[int, Mapping] = {}
        self._pinned = {pin.frame for pin in surface.pins}

    def is_placed(self, frame: int) -> bool:
        """Return whether the surface is known to be somewhere on a frame."""
        if frame not in self.frames:
            return False
        if frame in self._pinned:
            return True
        own = self._track is None or self._track.reasons[self._row(frame)] != NOT_SEEN
        return own and (self._carrier is None or self._carrier.is_placed(frame))

    def home_to_frame(self, frame: int) -> Mapping:
        """Return where home-frame pixels are on a frame.

        Raises
        ------
        ValueError
            If the surface is not known there.
        """
        if frame not in self.frames:
            raise ValueError(
                f"{self.surface.name} is not known on frame {frame} ({self.frames.first}–{self.frames.last} are)"
            )
        found = self._memory.get(frame)
        if found is None:
            found = self._memory[frame] = self._computed(frame)
        return found

    def mapping(self, frame: int) -> Mapping | None:
        """Return where home-frame pixels are on a frame, or None where the surface is not placed."""
        return self.home_to_frame(frame) if self.is_placed(frame) else None

    def from_frame(self, frame: int, other: int) -> Mapping | None:
        """Return where one frame's pixels are on another, along the surface; None where either is not placed."""
        here, there = self.mapping(frame), self.mapping(other)
        return None if here is None or there is None else then(here.inverse(), there)

    def __contains__(self, frame: object) -> bool:
        return isinstance(frame, int) and frame in self.frames

    # -- one frame ------------------------------------------------------------------------------------------

    def _row(self, frame: int) -> int:
        """Return the track's row of a frame; beyond its ends, where only pins are, that of the end."""
        assert self._track is not None
        return min(max(frame - self._track.first_frame, 0), len(self._track.certainty) - 1)

    def _carried(self, frame: int) -> Mapping:
        own = IDENTITY if self._track is None else self._moved_by(self._track.home_to_frame.values[self._row(frame)])
        if self._carrier is None:
            return own
        under = self._carrier.home_to_frame(self.surface.home_frame).inverse()
        return composed(own, under, self._carrier.home_to_frame(frame))

    def _moved_by(self, matrix: NDArray[np.float64]) -> Mapping:
        return from_matrix(matrix) if self._lens is None else ThroughLens(self._lens, matrix)

    @property
    def is_flat(self) -> bool:
        """Whether matrices tell its motion exactly: no lens bends it, nor what it rides on."""
        return self._lens is None and (self._carrier is None or self._carrier.is_flat)

    def _computed(self, frame: int) -> Mapping:
        carried = self._carried(frame)
        if not self._pinned:
            return carried
        return then(self._correction(frame), carried)

    def _correction(self, frame: int) -> Mapping:
        at, values = self._knots
        by = monotone_cubic(at, values, np.array([frame]))[0]
        corners = self.surface.corners
        return from_matrix(fitted(corners, corners + by))

    def correction(self, frame: int) -> Mapping:
        """Return the change, home to home, that the surface's pins ask for on a frame."""
        return self._correction(frame) if self._pinned else IDENTITY

    @cached_property
    def _knots(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the frames (K,) on which the correction is set and how far the corners go (K, 4, 2)."""
        surface, corners = self.surface, self.surface.corners
        knots: dict[int, Points] = {}
        if self._track is None or surface.home_frame in self._track.frames:
            knots[surface.home_frame] = np.zeros((4, 2))
        for pin in surface.pins:
            belongs = self._carried(pin.frame).inverse()(pin.placed.values)
            knots[pin.frame] = from_matrix(fitted(pin.home.values, belongs))(corners) - corners
        at = sorted(knots)
        return np.array(at, np.float64), np.stack([knots[frame] for frame in at])

    # -- all frames -----------------------------------------------------------------------------------------

    @cached_property
    def matrices(self) -> NDArray[np.float64]:
        """Where it is on all its frames, (N, 3, 3): for files, curves and sums over the shot.

        What is seen through a lens is no matrix: then those that take its corners where they go.
        """
        frames = np.arange(self.frames.first, self.frames.last + 1)
        if not self.is_flat:
            return np.stack([self._through_corners(int(frame)) for frame in frames])
        stack = identity_stack(len(frames)) if self._track is None else self._spread(self._track.home_to_frame.values)
        if self._carrier is not None:
            low = self.frames.first - self._carrier.frames.first
            under = self._carrier.matrices[low : low + len(frames)]
            home = self._carrier.matrices[self.surface.home_frame - self._carrier.frames.first]
            stack = carried_stack(under, home, stack)
        if not self._pinned:
            return stack
        at, values = self._knots
        corners = self.surface.corners
        changes = fitted_stack(corners, corners + monotone_cubic(at, values, frames))
        return normal(stack @ changes)

    def _through_corners(self, frame: int) -> NDArray[np.float64]:
        corners = self.surface.corners
        matrix: NDArray[np.float64] = np.asarray(fitted(corners, self.home_to_frame(frame)(corners)), np.float64)
        return matrix

    def _spread(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the track's rows for all frames of the placement; beyond its ends the end rests."""
        assert self._track is not None
        rows = np.arange(self.frames.first, self.frames.last + 1) - self._track.first_frame
        return values[np.clip(rows, 0, len(self._track.certainty) - 1)]

    def _pinned_rows(self) -> NDArray[np.int64]:
        pinned = [frame - self.frames.first for frame in self._pinned if frame in self.frames]
        return np.array(sorted(pinned), np.int64)

    @cached_property
    def corner_slip_px(self) -> NDArray[np.float64]:
        """Expected error of each corner, (N, 4) pixels."""
        if self._track is None:
            slip = np.zeros((len(self.frames), 4))
        else:
            slip = self._spread(self._track.corner_slip_px.values).copy()
        if self._carrier is not None:
            low = self.frames.first - self._carrier.frames.first
            slip = np.hypot(slip, self._carrier.corner_slip_px[low : low + len(self.frames)])
        slip[self._pinned_rows()] = PIN_SLIP_PX
        return slip

    @cached_property
    def slip_px(self) -> NDArray[np.float64]:
        """Expected error of the corners together, (N,) pixels."""
        return np.sqrt((self.corner_slip_px**2).mean(axis=1))

    @cached_property
    def certainty(self) -> NDArray[np.float64]:
        """How well the picture agrees with the home frame, (N,) 0 to 1."""
        count = len(self.frames)
        sure = np.ones(count) if self._track is None else self._spread(self._track.certainty.values).copy()
        sure[self._beyond] = 0.0
        if self._carrier is not None:
            low = self.frames.first - self._carrier.frames.first
            sure = np.minimum(sure, self._carrier.certainty[low : low + count])
        if self._pinned:
            sure[self._pinned_rows()] = 1.0
            if isinstance(self.surface.how, ByHand):
                sure[:] = 1.0
        return sure

    @cached_property
    def _beyond(self) -> NDArray[np.bool_]:
        """Whether a frame lies beyond what was measured, between pins."""
        frames = np.arange(self.frames.first, self.frames.last + 1)
        home = self.surface.home_frame
        if self._track is not None:
            own = self._track.frames
        elif isinstance(self.surface.how, PlaneFollow | PointsFollow):
            own = FrameRange(first=home, last=home)
        else:
            own = self.frames
        return (frames < own.first) | (frames > own.last)

    @cached_property
    def reasons(self) -> tuple[str, ...]:
        """Why each frame may be off, in words; empty where there is nothing to say."""
        count, low = len(self.frames), self.frames.first
        found = [BY_HAND if beyond else "" for beyond in self._beyond]
        if self._track is not None:
            start = self._track.first_frame - low
            for index, reason in enumerate(self._track.reasons, start):
                if 0 <= index < count:
                    found[index] = reason
        if self._carrier is not None:
            shift = low - self._carrier.frames.first
            under = self._carrier.reasons
            found = [own or under[index + shift] for index, own in enumerate(found)]
        for row in self._pinned_rows():
            found[row] = ""
        return tuple(found)

    @cached_property
    def is_placed_rows(self) -> NDArray[np.bool_]:
        """Whether it is placed, (N,)."""
        return np.array([reason != NOT_SEEN for reason in self.reasons])

    @property
    def before(self) -> str:
        """Why the follow went no further towards the start."""
        return self._track.before if self._track is not None else ""

    @property
    def after(self) -> str:
        """Why the follow went no further towards the end."""
        return self._track.after if self._track is not None else ""

    def as_track(self) -> Track:
        """Return the placement as though it had been measured so: in the picture, pins and all."""
        return Track(
            first_frame=self.frames.first,
            home_to_frame=Array(self.matrices),
            corner_slip_px=Array(self.corner_slip_px),
            certainty=Array(self.certainty),
            reasons=self.reasons,
            before=self.before,
            after=self.after,
        )
