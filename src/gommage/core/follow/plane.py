"""Follow a plane through a shot."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import replace
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import (
    FrameRange,
    MotionModel,
    PlaneFollow,
    Surface,
)
from gommage.core.follow.align import SIMPLER, Pyramid, align, make_pyramid, make_template
from gommage.core.follow.masks import changes, matte_mask, without
from gommage.core.follow.shutter import MOST_TRIED, Passing, best_shutter, blurred_along, is_blurred, passings
from gommage.core.follow.sight import Sight, choose_sight
from gommage.core.follow.sparse import Features, features_of, start_from_features, start_from_neighbour
from gommage.core.follow.stations import (
    LEAST_VISIBLE,
    SURE,
    Found,
    OpenedFrame,
    Station,
    are_apart,
    fused,
    keeps_shape,
    with_rest,
)
from gommage.core.follow.steps import (
    Direction,
    FollowStep,
    Surroundings,
    beginning,
    ended,
    laid_between,
    moved_px,
    unseen,
    ways,
)
from gommage.core.follow.votes import CLEAR_MAJORITY, FARTHEST_PX, differing, shifted, votes_ahead
from gommage.core.follow.walk import Walk, along
from gommage.core.geometry import Matrix, Points, Window, apply_matrix, around, from_matrix
from gommage.core.picture import Picture
from gommage.errors import FollowError, FootageError

__all__ = ["follow_plane"]

LOST = 0.45
"""Correlation below which the plane is not recognised."""
LARGEST_SLIP_PX = 4.0
"""A place that may be off by more than this is no place."""
SEARCH_STEP = 2
"""While the plane is gone, every so many frames are searched for it."""
FOUND_AGAIN_SLIP_PX = 0.8
WEAK_SLIP_PX = 0.95
"""Above this error a simpler motion is tried on the frame, and taken where it is surer by half."""
MOSTLY_SEEN = 0.75
LIGHT_JUMP = 1.5
"""With less than so much of the area agreeing, or light that jumps by more than this in one frame, simpler motions are
tried, and taken where they agree with at least `ABOUT_AS_GOOD` as much."""
LEVELLED_FROM_PX, LEVELLED_SURER, LEVELLED_CLEAR = 0.019, 0.8, 0.9
"""Above this error a frame is compared without slow light as well, and that believed where its error is so much less.
Where nothing is sure with the light, so much correlation is asked for: what is dark and flat is nothing without it."""
LEVELLED_AGREEING = 0.3
"""So much of it must agree: what is flat and grainy agrees with nothing once contrast is made even."""
DEPARTURE_PX, DEPARTURES, FIRST_DEPARTURE_PX = 1.0, 3.0, 8.0
"""Only places that depart from the guess by more than the first, and than so many times the last departure, are doubted
so; the third stands for the last departure where a follow begins."""
EXPLAINED, MOST_REST_PX = 3.0, 2.0
"""So many slips of the full motion are no reason to doubt a simpler one; and it is the simpler one that is believed."""
ABOUT_AS_GOOD = 0.9
RECOGNISED, HARDLY_RECOGNISED = 0.75, 0.3
"""Correlation within tiles below which it is asked where most of the area would be, and below which that is said."""
FRESH_SHARE = 0.6
"""When a template shows less than this share of what could be seen, the frame becomes one more template."""
MARGIN_PX = 28
SAID_AS = {
    MotionModel.SHIFT: "a shift",
    MotionModel.SHIFT_SCALE: "shift and scale",
    MotionModel.SHIFT_TURN: "shift and turn",
    MotionModel.SIMILARITY: "shift, turn and scale",
    MotionModel.AFFINE: "no perspective",
    MotionModel.PERSPECTIVE: "perspective",
}


def follow_plane(
    read: Callable[[int], Picture],
    surface: Surface,
    frames: FrameRange,
    start_frame: int,
    direction: Direction = Direction.BOTH,
    check: Callable[[], None] = lambda: None,
    surroundings: Surroundings | None = None,
) -> Iterator[FollowStep]:
    """Follow a plane, against its home frame as long as that is recognised, and yield each frame as it is found.

    Where the home frame shows too little of what is seen (the plane turned another part to the camera, or the areas
    stay put in the picture), frames on the way become templates as well; what both tell is put together by their
    errors. Pinned frames are trusted: from a pin on, frames are compared with the pinned one. Where the plane moved so
    fast that motion blur differs, frames are yielded once more at the end, compared with pictures blurred alike.

    Parameters
    ----------
    read : callable
        Gives a frame's scene-linear (H, W, 3) float32.
    surface : Surface
        Of kind plane.
    frames : FrameRange
        How far to follow.
    start_frame : int
        Where to begin: the home frame or any on which the surface is placed; others begin at the home frame.
    direction : Direction
    check : callable
        Called between stages; raises `Cancelled` to stop.
    surroundings : Surroundings, optional
        The rest of the shot; nothing if left out.

    Raises
    ------
    FollowError
        If the area cannot be followed at all.
    FootageError
        If the frame to begin with cannot be read.
    """
    rest = surroundings or Surroundings()
    start_frame = beginning(surface, start_frame, rest)
    follower = _Follower(read, surface, check, rest)
    if start_frame == surface.home_frame:
        yield FollowStep(start_frame, np.eye(3), np.zeros(4), 1.0)
    for way in ways(start_frame, frames, direction):
        yield from along(follower, follower.walk, start_frame, way)
    yield from follower.evened()


class _Follower:
    """What stays the same from frame to frame."""

    def __init__(
        self,
        read: Callable[[int], Picture],
        surface: Surface,
        check: Callable[[], None],
        rest: Surroundings,
    ) -> None:
        assert isinstance(surface.how, PlaneFollow)
        self._read, self._surface, self._check = read, surface, check
        self.walk = Walk(surface, rest)
        self._how = surface.how
        self._pinned = {pin.frame for pin in surface.pins}
        self._in_front = rest.in_front if self._how.leaves_out_front else None
        self._undrawn = rest.undrawn
        self._has_masks = (
            bool(self._how.keep_outs.parts)
            or self._in_front is not None
            or any(part.frames or not part.is_on or changes(part) for part in self._how.areas.parts)
        )
        self._sight: Sight | None = None
        self._features: Features | None = None
        self._lights: dict[int, tuple[float, float]] = {}
        self._is_weak = False
        self._level_stations: dict[int, Station | None] = {}
        self._bounds = Window(0, 0, 0, 0)
        self._kept: dict[int, tuple[Found, Matrix]] = {}
        """What was found on each frame, and what pins did there."""

    # -- pictures and masks -------------------------------------------------------------------------------------

    def _open(self, frame: int) -> OpenedFrame:
        opened = OpenedFrame(self._read(frame))
        self._bounds = opened.bounds
        return opened

    def _mask(self, frame: int, home_to_frame: Matrix, window: Window) -> NDArray[np.uint8]:
        """Return where on a frame there is something to look at: areas without keep-outs, (h, w) uint8."""
        mapping = from_matrix(home_to_frame)
        mask = matte_mask(self._how.areas, frame, mapping, window, self._undrawn)
        if self._how.keep_outs.parts:
            mask &= 1 - matte_mask(self._how.keep_outs, frame, mapping, window, self._undrawn)
        if self._in_front is not None:
            mask &= 1 - self._in_front(frame, mapping, window)
        return mask

    def _allowed(self, frame: int, home_to_frame: Matrix) -> Callable[[Points], NDArray[np.bool_]] | None:
        if not self._has_masks:
            return None
        mask = self._mask(frame, home_to_frame, self._bounds)

        def look_up(points: Points) -> NDArray[np.bool_]:
            known = np.nan_to_num(points, nan=-1.0)
            x = np.clip(known[:, 0], 0, mask.shape[1] - 1).astype(np.intp)
            y = np.clip(known[:, 1], 0, mask.shape[0] - 1).astype(np.intp)
            inside: NDArray[np.bool_] = mask[y, x] > 0
            return inside

        return look_up

    def _station(self, frame: int, opened: OpenedFrame, home_to_frame: Matrix, slip: NDArray[np.float64]) -> Station:
        mask = self._mask(frame, home_to_frame, opened.bounds)
        if self._sight is None:
            self._check()
            self._sight = self._chosen_sight(opened, mask)
        self._check()
        corners = apply_matrix(home_to_frame, self._surface.corners)
        template = make_template(opened.picture, mask, corners, self._sight)
        self._check()
        return Station(frame, template, home_to_frame, slip)

    def _chosen_sight(self, opened: OpenedFrame, mask: NDArray[np.uint8]) -> Sight:
        rows, columns = np.nonzero(mask)
        if not len(rows):
            raise FollowError("The area is too small or outside the picture. Draw it at least 8 pixels across, inside.")
        box = Window(int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
        return choose_sight(np.ascontiguousarray(opened.picture[box.slices]), mask[box.slices], self._how.channel)

    # -- one way --------------------------------------------------------------------------------------------------

    def begin(self, start_frame: int, step: int, placed: Matrix) -> None:
        """Make the first template."""
        self._opened = self._neighbour = self._open(start_frame)
        self._lights = {start_frame: (1.0, 0.0)}  # where it is itself a station: the light is its own
        self._stations = [self._anchor(start_frame, step, self._opened, placed)]
        self._error = np.inf

    def find(self, frame: int, guess: Matrix, last: Matrix) -> tuple[Found | None, str]:
        """Return where the plane is on a frame, or None and why not."""
        self._check()
        self._opened = self._open(frame)
        self._check()
        return self._find(frame, self._opened, guess, last)

    def settle(self, frame: int, found: Found, guess: Matrix) -> Matrix:
        """Remember light, error and place, and make templates that are wanted."""
        self._kept[frame] = found, self.walk.correction
        self._error = self._off(guess, found.home_to_frame)
        self._is_weak = found.slip_px > WEAK_SLIP_PX or found.alignment.motion is not self._how.motion
        self._neighbour = opened = self._opened
        if not self._is_doubtful(found):
            self._lights[found.station.frame] = found.alignment.gain, found.alignment.offset
        if frame in self._pinned:
            pinned = self.walk.passed_pin(frame, found.home_to_frame)
            self._stations = [self._station(frame, opened, pinned, np.zeros(4))]
            return pinned
        if self._wants_station(frame, found):
            self._stations = [
                self._stations[0], *self._stations[1:][-1:], *self._fresh(frame, opened, found)
            ]  # fmt: skip
        return found.home_to_frame

    def _anchor(self, start_frame: int, step: int, opened: OpenedFrame, placed: Matrix) -> Station:
        """Return the frame that is trusted at a start: the last pin behind it, else the home frame."""
        behind = [frame for frame in self._pinned if (start_frame - frame) * step >= 0]
        towards_home = (start_frame - self._surface.home_frame) * step >= 0
        if towards_home:
            behind.append(self._surface.home_frame)
        choice = min(behind, key=lambda frame: abs(start_frame - frame)) if behind else self._surface.home_frame
        if choice == start_frame:
            return self._station(start_frame, opened, placed, np.zeros(4))
        return self._station(choice, self._open(choice), self.walk.placed(choice), np.zeros(4))

    def guess(self, frame: int, previous: int, before: Matrix, last: Matrix) -> Matrix:
        """Return where the plane should be if it goes on as it went, on what it rides on."""
        then, now = self.walk.carried_between(previous, frame)
        own = np.linalg.inv(then) @ last
        earlier = self.walk.carried(previous - 1 if frame > previous else previous + 1)
        own_before = np.linalg.inv(then if earlier is None else earlier) @ before if before is not last else own
        guess = now @ own @ np.linalg.inv(own_before) @ own
        return guess / guess[2, 2]

    def _off(self, guess: Matrix, found: Matrix) -> float:
        corners = self._surface.corners
        off = np.abs(apply_matrix(guess, corners) - apply_matrix(found, corners))
        return float(off.max()) if np.isfinite(off).all() else np.inf

    def is_gone(self, guess: Matrix) -> bool:
        """Return whether the plane should be outside the picture."""
        station = self._stations[-1]
        seen = apply_matrix(guess @ np.linalg.inv(station.home_to_station), station.template.points_inside)
        inside = (seen >= 0).all(axis=1) & (seen < (self._bounds.right, self._bounds.bottom)).all(axis=1)
        return float(inside.mean()) < LEAST_VISIBLE

    def step(self, frame: int, found: Found, correction: Matrix | None = None) -> FollowStep:
        """Return what is yielded of a place."""
        one = found.alignment
        sure = np.clip(one.correlation, 0, 1) * min(1.0, 0.5 + one.visible) * min(1.0, 0.4 + one.agreeing)
        sure *= np.clip(0.5 + one.typical, 0.5, 1)
        matrix = self.walk.row(frame, found.home_to_frame, correction)
        return FollowStep(frame, matrix, found.corner_slip_px, float(sure), self._reason(found))

    def _reason(self, found: Found) -> str:
        one = found.alignment
        if one.motion is not self._how.motion and one.agreeing < MOSTLY_SEEN:
            return f"partly hidden: followed with {SAID_AS[one.motion]}"
        if one.motion is not self._how.motion:
            return f"too little texture for {SAID_AS[self._how.motion]}: followed with {SAID_AS[one.motion]}"
        if one.visible < 0.75:
            return "partly out of the picture"
        if one.agreeing < 0.75:
            return "partly hidden"
        if one.typical < HARDLY_RECOGNISED:
            return "most of the area looks like something else here"
        if not 0.5 < one.gain < 2:
            return "the light is another than at home"
        return "too little texture" if found.slip_px > WEAK_SLIP_PX else ""

    def between(self, frame: int, home_to_frame: Matrix, last: Matrix, place: Found) -> FollowStep:
        """Return what is yielded of a frame that was laid between its neighbours."""
        moved = moved_px(last, place.home_to_frame, self._surface.corners)
        return laid_between(frame, self.walk.row(frame, home_to_frame), moved)

    # -- one frame --------------------------------------------------------------------------------------------------

    def _find(self, frame: int, opened: OpenedFrame, guess: Matrix, last: Matrix) -> tuple[Found | None, str]:
        stations, error = self._stations, self._error
        best = self._levelled(self._against(frame, opened, stations[-1], guess, error), frame, opened, guess, error)
        if not best.is_sure:
            best = self._try_harder(best, frame, opened, last)
        for other in stations[:-1]:
            if best.alignment.visible > LEAST_VISIBLE:
                found = self._against(frame, opened, other, best.home_to_frame, 1.0)
                best = fused(best, found, self._surface.corners)
        departs = self._departs(guess, best, error)
        if departs or self._is_weak or not np.isfinite(error):
            best = self._simpler(best, frame, opened, guess)
        if departs and self._is_doubtful(best):
            best = self._steadier(best, frame, opened, guess)
        if best.alignment.visible < LEAST_VISIBLE:
            return None, "the plane has left the picture"
        best = self._by_most(best, frame, opened, guess, error)
        lost = best.alignment.correlation < LOST or not best.slip_px < LARGEST_SLIP_PX
        if lost or not keeps_shape(best.home_to_frame, last, self._surface.outline):
            return None, "the area is not recognised any more"
        return best, ""

    def _against(
        self,
        frame: int,
        opened: OpenedFrame,
        station: Station,
        guess: Matrix,
        error: float,
        motion: MotionModel | None = None,
    ) -> Found:
        """Align a frame with a station from a guess that is off by about `error` pixels."""
        self._check()
        template, start = station.template, guess @ np.linalg.inv(station.home_to_station)
        error = min(error, template.reach)
        levels = int(np.ceil(np.log2(max(error, 0.75) * 2))) + 1
        for _ in range(2):
            seen = apply_matrix(start, template.points_inside)
            seen = seen[np.isfinite(seen).all(axis=1)]
            margin = MARGIN_PX + min(2 * error, 0.5 * template.reach)
            window = around(seen, margin) & opened.bounds if len(seen) else Window(0, 0, 0, 0)
            if window.is_empty or min(window.width, window.height) < 12:
                window = opened.bounds
            pyramid = make_pyramid(opened.picture, len(template.levels), template.sight, window)
            self._check()
            found = align(
                template, pyramid, start, motion or self._how.motion, levels=levels,
                allowed=self._allowed(frame, guess),
                light=None if template.sight.level_floor else self._lights.get(station.frame), check=self._check,
            )  # fmt: skip
            moved = np.abs(
                apply_matrix(found.matrix, template.points_inside) - apply_matrix(start, template.points_inside)
            )
            if not np.nanmax(moved, initial=0) > 0.7 * margin or window == opened.bounds:
                break
            start, levels = found.matrix, 99  # it went to the window's rim: look again around there
        matrix = found.matrix @ station.home_to_station
        grown = np.sqrt(abs(np.linalg.det(found.matrix)))
        slip = np.hypot(found.corner_slip_px, station.corner_slip_px * grown)
        return Found(matrix / matrix[2, 2], found, slip, station)

    def _levelled(self, found: Found, frame: int, opened: OpenedFrame, guess: Matrix, error: float) -> Found:
        """Return the place that pictures without slow light give, where that is clearly surer: under moving shade."""
        if found.is_sure and found.slip_px < LEVELLED_FROM_PX:
            return found
        station = self._level_station(found.station)
        if station is None:
            return found
        start, off = (found.home_to_frame, 1.0) if found.is_sure else (guess, error)
        other = self._against(frame, opened, station, start, off)
        least = SURE if found.is_sure else LEVELLED_CLEAR
        seen = other.alignment
        is_clear = seen.correlation > least and seen.agreeing > LEVELLED_AGREEING and seen.visible > LEAST_VISIBLE
        if not (is_clear and other.slip_px < LEVELLED_SURER * found.slip_px):
            return found
        one = found.alignment  # of the light it says nothing, of what agrees too little
        agreeing = max(one.agreeing, seen.agreeing, MOSTLY_SEEN)
        alignment = replace(other.alignment, gain=one.gain, offset=one.offset, agreeing=agreeing)
        return replace(other, alignment=alignment, station=found.station)

    def _by_most(self, found: Found, frame: int, opened: OpenedFrame, guess: Matrix, error: float) -> Found:
        """Return the place that most of the area speaks for, where something rich in it leads elsewhere.

        Where most of it speaks for neither, a place may be off by what the other is apart.
        """
        station = self._level_station(found.station) if found.alignment.typical < RECOGNISED else None
        if station is None:
            return found
        corners, area = self._surface.corners, self._surface.outline
        window = around(np.vstack([found.at(area), apply_matrix(guess, area)]), MARGIN_PX + FARTHEST_PX) & opened.bounds
        seen = make_pyramid(opened.picture, 1, station.template.sight, opened.bounds if window.is_empty else window)
        other = self._elsewhere(station, frame, opened, seen, guess)
        if not are_apart(found, other, corners):
            return found
        lead = votes_ahead(station.template, seen, found.station_to_frame, other.station_to_frame)
        departs, follows = self._departs(guess, found, error), not self._departs(guess, other, error)
        if lead <= (0 if departs and follows else CLEAR_MAJORITY):
            most_px = np.inf if departs else MOST_REST_PX
            return found if lead < -CLEAR_MAJORITY else with_rest(found, other, corners, EXPLAINED, most_px)
        steady = self._without_what_differs(found.station, frame, opened, other)
        again = votes_ahead(station.template, seen, other.station_to_frame, steady.station_to_frame)
        is_sure = steady.alignment.correlation > SURE and steady.slip_px < WEAK_SLIP_PX
        if is_sure and (again > 0 or not are_apart(steady, other, corners)):
            return steady
        return replace(other, alignment=replace(found.alignment, matrix=other.alignment.matrix), station=found.station)

    def _elsewhere(self, station: Station, frame: int, opened: OpenedFrame, seen: Pyramid, guess: Matrix) -> Found:
        """Return where most of the area is about a guess, by a station of pictures without slow light.

        Of the motions the fullest that is carried there; where none is, the guess itself, as far as it may be off.
        """
        source, template, to_home = self._open(station.frame), station.template, np.linalg.inv(station.home_to_station)
        mask = self._mask(station.frame, station.home_to_station, source.bounds)
        start = shifted(template, source.picture, mask, opened.picture, seen, guess @ to_home) @ station.home_to_station
        motion, found = self._how.motion, self._against(frame, opened, station, start, 0.0)
        while not found.slip_px < WEAK_SLIP_PX and motion in SIMPLER:
            motion = SIMPLER[motion]
            found = self._against(frame, opened, station, start, 0.0, motion)
        begun = replace(found, home_to_frame=start, corner_slip_px=np.full(4, WEAK_SLIP_PX))
        is_carried = found.slip_px < WEAK_SLIP_PX
        is_carried &= votes_ahead(template, seen, begun.station_to_frame, found.station_to_frame) >= 0
        return found if is_carried else begun

    def _without_what_differs(self, station: Station, frame: int, opened: OpenedFrame, place: Found) -> Found:
        """Return the place beside another by what of a station looks alike there."""
        source, template = self._open(station.frame), station.template
        window = around(place.at(self._surface.outline), MARGIN_PX) & opened.bounds
        out = differing(template, make_pyramid(opened.picture, 1, template.sight, window), place.station_to_frame)
        mask = without(self._mask(station.frame, station.home_to_station, source.bounds), out)
        try:
            template = make_template(source.picture, mask, template.corners, template.sight)
        except FollowError:
            return replace(place, corner_slip_px=np.full(4, np.inf))  # next to nothing is alike
        rest = replace(station, template=template)
        return replace(self._against(frame, opened, rest, place.home_to_frame, 0.0), station=station)

    def _level_station(self, station: Station) -> Station | None:
        """Return a station as it looks without slow light; None where nothing is left of it."""
        if station.frame not in self._level_stations:
            opened = self._open(station.frame)
            mask = self._mask(station.frame, station.home_to_station, opened.bounds)
            sight = station.template.sight.levelled(opened.picture, mask)
            try:
                template = make_template(opened.picture, mask, station.template.corners, sight)
                made = replace(station, template=template)
            except FollowError:
                made = None
            self._level_stations[station.frame] = made
        return self._level_stations[station.frame]

    def _departs(self, guess: Matrix, found: Found, error: float) -> bool:
        """Return whether a place is so far from the guess that a full motion may have fitted the wrong thing."""
        usual = error if np.isfinite(error) else FIRST_DEPARTURE_PX
        return self._off(guess, found.home_to_frame) > max(DEPARTURE_PX, DEPARTURES * usual)

    def _simpler(self, found: Found, frame: int, opened: OpenedFrame, guess: Matrix) -> Found:
        """Return the place with a simpler motion where the texture does not carry the full one."""
        motion = self._how.motion
        while found.slip_px > WEAK_SLIP_PX and found.alignment.correlation >= LOST and motion in SIMPLER:
            motion = SIMPLER[motion]
            simple = self._against(frame, opened, found.station, guess, 2.0, motion)
            simple = with_rest(simple, found, self._surface.corners, EXPLAINED, MOST_REST_PX)
            if (
                simple.slip_px < found.slip_px / 1.5
                and simple.alignment.correlation > 0.9 * found.alignment.correlation
            ):
                found = simple
        return found

    def _is_doubtful(self, found: Found) -> bool:
        """Return whether so much is hidden, or the light jumped so far, that a full motion may fit the wrong thing."""
        one = found.alignment
        before, _ = self._lights.get(found.station.frame, (one.gain, 0.0))
        return one.agreeing < MOSTLY_SEEN or not 1 / LIGHT_JUMP < one.gain / before < LIGHT_JUMP

    def _steadier(self, found: Found, frame: int, opened: OpenedFrame, guess: Matrix) -> Found:
        """Return the place with the simplest motion that agrees with about as much of the picture."""
        motion, full = self._how.motion, found
        while motion in SIMPLER:
            motion = SIMPLER[motion]
            simple = self._against(frame, opened, found.station, guess, 3.0, motion)
            simple = with_rest(simple, full, self._surface.corners, 1.0, LARGEST_SLIP_PX / 2)
            if simple.agreement >= ABOUT_AS_GOOD * full.agreement and np.isfinite(simple.slip_px):
                found = simple
        return found

    def _try_harder(self, best: Found, frame: int, opened: OpenedFrame, last: Matrix) -> Found:
        """Begin again from corners of the last frame, then from features of the first station."""
        stations = self._stations
        area = apply_matrix(last, self._surface.outline)
        start = None
        if np.isfinite(area).all():
            start = start_from_neighbour(self._neighbour.light, opened.light, area, last)
        for attempt in (start, last):
            if attempt is not None and not best.is_sure:
                best = best.or_better(self._against(frame, opened, stations[-1], self._within(attempt, last), np.inf))
        if not best.is_sure:
            start = self._from_features(opened, stations[0])
            if start is not None:
                best = best.or_better(self._against(frame, opened, stations[0], self._within(start, last), np.inf))
        return best

    def _from_features(self, opened: OpenedFrame, station: Station) -> Matrix | None:
        self._check()
        if self._features is None:
            outline = apply_matrix(station.home_to_station, self._surface.outline)
            self._features = features_of(self._open(station.frame).light, outline)
        start = start_from_features(self._features, features_of(opened.light))
        return None if start is None else start @ station.home_to_station

    def _within(self, start: Matrix, last: Matrix) -> Matrix:
        """Return a start with no more motion against the last place than the surface may have."""
        motion = self._how.motion
        if motion is MotionModel.PERSPECTIVE:
            return start
        source, target = apply_matrix(last, self._surface.corners), apply_matrix(start, self._surface.corners)
        if not (np.isfinite(target).all() and np.isfinite(source).all()):
            return start
        if motion in (MotionModel.SHIFT, MotionModel.SHIFT_SCALE, MotionModel.SHIFT_TURN):
            change = np.eye(3)
            change[:2, 2] = (target - source).mean(axis=0)
            return change @ last
        estimate = cv2.estimateAffine2D if motion is MotionModel.AFFINE else cv2.estimateAffinePartial2D
        fitted, _ = estimate(source, target, method=cv2.LMEDS)
        return start if fitted is None else np.vstack([fitted, [0, 0, 1.0]]) @ last

    # -- blurred alike --------------------------------------------------------------------------------------------

    def evened(self) -> Iterator[FollowStep]:
        """Compare frames once more, both pictures blurred by each other's motion, where that makes a difference."""
        places = {frame: found.home_to_frame for frame, (found, _) in self._kept.items()}
        stations = [found.station for found, _ in self._kept.values()]
        places |= {station.frame: station.home_to_station for station in stations if station.frame not in places}
        compared = {frame: found.station.frame for frame, (found, _) in self._kept.items() if self._is_whole(found)}
        blurred = passings(places, compared, self._surface.outline.mean(axis=0))
        if len(blurred) < MOST_TRIED:
            return
        fastest = sorted(blurred, key=lambda one: -one.difference_px)[:MOST_TRIED]
        opened: dict[int, OpenedFrame] = {}

        def mismatch(share: float, some: list[Passing] = fastest) -> float:
            tried = [self._blurred_alike(one, share, opened) for one in some]
            return float(np.mean([1 - found.alignment.correlation for found in tried]))

        share = best_shutter(mismatch) if is_blurred(partial(mismatch, some=fastest[:2])) else 0.0
        for one in sorted(blurred, key=lambda one: one.frame) if share else ():
            before, correction = self._kept[one.frame]
            found = self._blurred_alike(one, share, opened)
            if one.frame not in compared.values():
                del opened[one.frame]  # what others are compared with stays open, all else would fill the memory
            if found.is_sure and found.alignment.correlation > before.alignment.correlation:
                yield self.step(one.frame, found, correction)

    def _is_whole(self, found: Found) -> bool:
        return found.is_sure and found.alignment.motion is self._how.motion

    def _blurred_alike(self, passing: Passing, share: float, opened: dict[int, OpenedFrame]) -> Found:
        """Return the place on a frame by pictures that are blurred as if both had moved as both did."""
        before, _ = self._kept[passing.frame]
        station, sight = before.station, before.station.template.sight
        here, there = passing.blur(share)
        for one in (station.frame, passing.frame):
            opened[one] = opened.get(one) or self._open(one)
        mask = self._mask(station.frame, station.home_to_station, opened[station.frame].bounds)
        corners = station.template.corners
        home = self._blurred(opened[station.frame], sight, there, station.home_to_station)
        station = replace(station, template=make_template(home, mask, corners, sight))
        frame = OpenedFrame(self._blurred(opened[passing.frame], sight, here, before.home_to_frame))
        return self._against(passing.frame, frame, station, before.home_to_frame, 0.0)

    def _blurred(self, opened: OpenedFrame, sight: Sight, motion_px: Points, placed: Matrix) -> Picture:
        window = around(apply_matrix(placed, self._surface.outline), 2 * MARGIN_PX) & opened.bounds
        return blurred_along(sight.one_channel(opened.picture), motion_px, window)

    # -- stations -----------------------------------------------------------------------------------------------------

    def _wants_station(self, frame: int, found: Found) -> bool:
        """Return whether a template made here would show a good deal more than those there are."""
        one = found.alignment
        if found.slip_px > WEAK_SLIP_PX or one.correlation < LOST:
            return False
        if one.correlation < SURE:
            return True
        if not self._has_masks:
            return False
        mask = self._mask(frame, found.home_to_frame, self._bounds)
        to_station = found.station.home_to_station @ np.linalg.inv(found.home_to_frame)
        rows, columns = np.nonzero(mask[::4, ::4])
        if not len(rows):
            return False
        there = apply_matrix(to_station, np.column_stack([columns, rows]) * 4.0 + 0.5)
        known = self._mask(found.station.frame, found.station.home_to_station, self._bounds)
        inside = (there >= 0).all(axis=1) & (there < (self._bounds.right, self._bounds.bottom)).all(axis=1)
        x, y = there[inside].astype(np.intp).T
        return float((known[y, x] > 0).sum()) / len(rows) < FRESH_SHARE

    def _fresh(self, frame: int, opened: OpenedFrame, found: Found) -> list[Station]:
        try:
            return [self._station(frame, opened, found.home_to_frame, found.corner_slip_px)]
        except FollowError:
            return []  # too little of it is here: the templates there are must do

    # -- gone, and found again ----------------------------------------------------------------------------------------

    def search(
        self, remaining: Iterator[int], held: list[FollowStep], last: Matrix, *, gone: bool
    ) -> Generator[FollowStep, None, tuple[int, Found] | None]:
        """Look for the plane on the frames that remain; yields either an end, or the frames it was away and more."""
        station = self._stations[0]
        first = held[0].frame
        away = [step.frame for step in held]
        for count, frame in enumerate(remaining):
            away.append(frame)
            self._check()
            again = None if count % SEARCH_STEP else self._again(frame, station)
            if again is None:
                continue
            skipped = self._again(away[-2], station) if count else None  # it may have come back a frame before
            for lost in away[: -1 if skipped is None else -2]:
                yield unseen(lost, self.walk.row(lost, last))
            if skipped is not None:
                self._kept[away[-2]] = skipped[1], self.walk.correction
                yield self.step(away[-2], skipped[1])
            self._opened, found = again
            return frame, found
        yield ended(first, "the plane has left the picture" if gone else held[0].ended)
        return None

    def _again(self, frame: int, station: Station) -> tuple[OpenedFrame, Found] | None:
        """Return where the plane is on a frame, with nothing known of where it was; None if there is any doubt."""
        try:
            opened = self._open(frame)
        except FootageError:
            return None
        start = self._from_features(opened, station)
        found = None if start is None else self._against(frame, opened, station, start, np.inf)
        return (opened, found) if found is not None and self._is_found_again(found, station) else None

    def _is_found_again(self, found: Found, station: Station) -> bool:
        """Return whether there is no doubt: what was lost is easily taken for something alike."""
        clear = found.is_sure and found.slip_px < FOUND_AGAIN_SLIP_PX and found.alignment.visible > 0.3
        return clear and keeps_shape(found.home_to_frame, station.home_to_station, self._surface.outline)
