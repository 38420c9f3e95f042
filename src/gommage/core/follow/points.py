"""Follow spots: small patterns found frame by frame, and the motion of the surface that they share."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Aim, FrameRange, MotionModel, PointsFollow, Spot, Surface
from gommage.core.follow.align import MOTIONS, SIMPLER, motion_matrix
from gommage.core.follow.patterns import Pattern, Seen, local_turn, looked_for, pattern_at
from gommage.core.follow.steps import (
    Direction,
    FollowStep,
    SpotFound,
    Surroundings,
    beginning,
    laid_between,
    moved_px,
    ways,
)
from gommage.core.follow.walk import Walk, along
from gommage.core.geometry import Matrix, Points, apply_matrix, translation
from gommage.core.picture import Picture
from gommage.errors import FollowError

__all__ = ["aimed", "follow_points", "motion_of_spots"]

FRESH, CERTAIN, CALM_PX = 0.88, 0.73, 6.0
"""A spot less alike than the first is followed by a pattern taken anew, where that is allowed: if it is no less alike
than the second, and did not move by more than the third. What is blurred looks otherwise for a while only."""
ODD_ONE_OUT_PX = 1.5
"""A spot that is further than this from where the others have it, and than three times its error, is not believed."""
ODD_OF_THREE_PX = 5.0
"""With but one or two others, which tell a shift against the guess, it may be so far."""
ALIKE_SURE_PX = 0.3
TOLD_WELL_PX = 0.5
"""A motion is solved for where the spots' own errors would let the corners be off by no more than this."""
GUESS_ERROR_PX = 3.0
"""By how much the corners may be off, on one frame, where they would be if the surface went on as it went."""


def motion_of_spots(count: int, wanted: MotionModel | None) -> MotionModel:
    """Return the motion that so many spots determine, no more than is wanted."""
    allowed = (MotionModel.SHIFT, MotionModel.SIMILARITY, MotionModel.AFFINE, MotionModel.PERSPECTIVE)[
        min(count, 4) - 1
    ]
    if wanted is None or len(MOTIONS[wanted]) > len(MOTIONS[allowed]):
        return allowed
    return wanted


def follow_points(
    read: Callable[[int], Picture],
    surface: Surface,
    frames: FrameRange,
    start_frame: int,
    direction: Direction = Direction.BOTH,
    check: Callable[[], None] = lambda: None,
    surroundings: Surroundings | None = None,
) -> Iterator[FollowStep]:
    """Follow a surface's spots and yield each frame as it is found; see `follow_plane`.

    Each spot is looked for around where the others, or its own way so far, lead one to expect it; first by the
    correlation of its pattern, then to a fraction of a pixel by alignment. The surface's motion is fitted to the spots
    by their errors; a spot that contradicts the others is not believed, a hidden one gets its place from them.

    Raises
    ------
    FollowError
        If no spot can be followed at all.
    FootageError
        If the frame to begin with cannot be read.
    """
    rest = surroundings or Surroundings()
    start_frame = beginning(surface, start_frame, rest)
    follower = _PointFollower(read, surface, check, rest)
    if start_frame == surface.home_frame:
        yield follower.at_home()
    for way in ways(start_frame, frames, direction):
        yield from along(follower, follower.walk, start_frame, way)


@dataclass(frozen=True, slots=True)
class SpotsSeen:
    """Where the spots are on a frame (by id), the motion that fits them, and where the surface was on the last."""

    home_to_frame: Matrix
    corner_slip_px: NDArray[np.float64]
    seen: dict[str, Seen]
    picture: Picture
    last: Matrix


class _PointFollower:
    """The patterns, and what is remembered of each spot from frame to frame."""

    def __init__(
        self, read: Callable[[int], Picture], surface: Surface, check: Callable[[], None], rest: Surroundings
    ) -> None:
        assert isinstance(surface.how, PointsFollow)
        self._read, self._surface, self._check = read, surface, check
        self.walk = Walk(surface, rest)
        self._how = surface.how
        self._home = {spot.id: np.array([spot.x, spot.y]) for spot in self._how.spots}

    def at_home(self) -> FollowStep:
        """Return the step of the home frame, where spots are where they were set."""
        spots = {spot.id: SpotFound(spot.x, spot.y, 1.0) for spot in self._how.spots}
        return FollowStep(self._surface.home_frame, np.eye(3), np.zeros(4), 1.0, spots=spots)

    # -- patterns -----------------------------------------------------------------------------------------------

    def _feature_on(self, spot: Spot, frame: int, placed: Points) -> tuple[Points, tuple[float, float]]:
        """Return where the feature is that a spot is followed by on a frame, and what leads from it to the spot."""
        aim = self._aim_on(spot, frame)
        if aim is None:
            return placed, (0.0, 0.0)
        return placed - (aim.dx, aim.dy), (aim.dx, aim.dy)

    @staticmethod
    def _aim_on(spot: Spot, frame: int) -> Aim | None:
        earlier = [aim for aim in spot.aims if aim.frame <= frame]
        return max(earlier, key=lambda aim: aim.frame) if earlier else None

    def _first_patterns(self, frame: int, picture: Picture, home_to_frame: Matrix) -> dict[str, Pattern]:
        patterns: dict[str, Pattern] = {}
        fault: FollowError | None = None
        for spot in self._how.spots:
            placed = self._known(spot, frame, home_to_frame)
            feature, offset = self._feature_on(spot, frame, placed)
            try:
                x, y = float(feature[0]), float(feature[1])
                patterns[spot.id] = pattern_at(picture, x, y, home_to_frame, offset, spot.pattern_px)
            except FollowError as error:
                fault = error
        if not patterns:
            raise fault or FollowError("There is no spot to follow.")
        return patterns

    def _known(self, spot: Spot, frame: int, home_to_frame: Matrix) -> Points:
        path = spot.path
        if path is not None and 0 <= frame - path.first_frame < len(path.certainty):
            row = frame - path.first_frame
            if path.certainty.values[row] > 0:
                return path.positions.values[row]
        return apply_matrix(home_to_frame, self._home[spot.id])

    # -- one way --------------------------------------------------------------------------------------------------

    def begin(self, start_frame: int, step: int, placed: Matrix) -> None:
        """Take the patterns."""
        self._going = step
        self._patterns = self._first_patterns(start_frame, self._read(start_frame), placed)
        self._speeds = dict.fromkeys(self._patterns, 8.0)
        self._own_turns: dict[str, Matrix] = {}

    def find(self, frame: int, guess: Matrix, last: Matrix) -> tuple[SpotsSeen | None, str]:
        """Return where the spots are on a frame and what motion fits them, or None and why not."""
        self._check()
        picture = self._read(frame)
        self._patterns |= self._aimed(frame, picture, last)
        # Spots that move the surface by a shift alone tell nothing of each other's turn: each keeps its own.
        has_turn = motion_of_spots(len(self._how.spots), self._how.motion) is not MotionModel.SHIFT
        seen: dict[str, Seen] = {}
        for spot in self._how.spots:
            pattern = self._patterns.get(spot.id)
            if pattern is None:
                continue
            self._check()
            turned = _turned_since(pattern, guess) if has_turn else self._own_turns.get(spot.id, np.eye(3))
            expected = apply_matrix(guess, self._home[spot.id])
            moved = float(np.hypot(*(expected - apply_matrix(last, self._home[spot.id]))))
            found = looked_for(picture, pattern, expected, spot.search_px, self._speeds[spot.id], turned, moved)
            seen |= {spot.id: found} if found is not None else {}
        seen = self._believed(seen, guess)
        if not seen:
            return None, "no spot is seen any more"
        here, slip = self._fit(seen, guess)
        return SpotsSeen(here, np.hypot(slip, self._unexplained(seen, here)), seen, picture, last), ""

    def is_gone(self, guess: Matrix) -> bool:
        """Return False: of a few spots one never knows."""
        return False

    def search(
        self, remaining: Iterator[int], held: list[FollowStep], last: Matrix, *, gone: bool
    ) -> Generator[FollowStep, None, tuple[int, SpotsSeen] | None]:
        """Give up: so small patterns are found again anywhere."""
        yield held[0]
        return None

    def settle(self, frame: int, place: SpotsSeen, guess: Matrix) -> Matrix:
        """Remember how far spots were off and how they turned, and take patterns anew where that is wanted."""
        for name, found in place.seen.items():
            off = float(np.hypot(*(apply_matrix(guess, self._home[name]) - (found.x, found.y))))
            self._speeds[name] = 0.7 * self._speeds[name] + 0.6 * off + 2
        self._own_turns |= {name: found.turned for name, found in place.seen.items()}
        if self._how.is_refreshed:
            fresh = self._fresh(place)
            self._patterns |= fresh
            self._own_turns |= dict.fromkeys(fresh, np.eye(3))
        return place.home_to_frame

    def guess(self, frame: int, previous: int, before: Matrix, last: Matrix) -> Matrix:
        """Return where the surface should be if it goes on as it went, on what it rides on."""
        then, now = self.walk.carried_between(previous, frame)
        if self._surface.rides_on:
            onward = now @ np.linalg.inv(then) @ last
        else:
            # On by a shift, turn and growth as from the frame before: more than that would magnify its errors.
            corners = self._surface.corners
            onward = _similar(apply_matrix(before, corners), apply_matrix(last, corners)) @ last
        return onward / onward[2, 2]

    def _aimed(self, frame: int, picture: Picture, last: Matrix) -> dict[str, Pattern]:
        """Return fresh patterns of spots whose feature changes on this frame."""
        out: dict[str, Pattern] = {}
        for spot in self._how.spots:
            if self._aim_on(spot, frame) is self._aim_on(spot, frame - self._going):
                continue
            aim = self._aim_on(spot, frame)
            if aim is not None and aim.frame == frame:
                out[spot.id] = pattern_at(picture, aim.x, aim.y, last, (aim.dx, aim.dy), spot.pattern_px)
            else:  # going backwards out of an aim: the feature before it, where the spot is now
                x, y = self._known(spot, frame, last)
                offset = (aim.dx, aim.dy) if aim is not None else (0.0, 0.0)
                out[spot.id] = pattern_at(picture, x - offset[0], y - offset[1], last, offset, spot.pattern_px)
        return out

    def _believed(self, seen: dict[str, Seen], guess: Matrix) -> dict[str, Seen]:
        """Return the spots without those that contradict the others.

        Which one is wrong is seen by what is left without it: the one is left out whose absence lets the others agree
        best. (That it is far from where the others have it says little: one that is right is far too, if a wrong one
        is among them and it lies far out.)
        """
        # Of what moves by itself each spot may be very sure: here all count about alike.
        believed = {name: replace(spot, slip_px=max(spot.slip_px, ALIKE_SURE_PX)) for name, spot in seen.items()}
        while len(believed) >= 2:
            # A motion that the others determine with nothing to spare would put the blame on any of them.
            motion = motion_of_spots(min(max(len(believed) - 2, 1), 3), self._how.motion)
            doubted: dict[str, float] = {}
            for name, spot in believed.items():
                others = {other: found for other, found in believed.items() if other != name}
                matrix = self._fitted(others, guess, motion)
                away = float(np.hypot(*(apply_matrix(matrix, self._home[name]) - (spot.x, spot.y))))
                most = ODD_ONE_OUT_PX if len(others) >= 3 else ODD_OF_THREE_PX
                if away > max(most, 3 * spot.slip_px):
                    _, weights, off = self._system(others, matrix, motion)
                    doubted[name] = float((weights * off**2).sum())
            if not doubted:
                break
            del believed[min(doubted, key=lambda name: doubted[name])]
        return {name: seen[name] for name in believed}

    def _fit(self, seen: dict[str, Seen], guess: Matrix) -> tuple[Matrix, NDArray[np.float64]]:
        """Return the motion that fits the seen spots, and the corners' expected error."""
        motion = self._determined(seen, guess)
        matrix = self._fitted(seen, guess, motion)
        design, weights, off = self._system(seen, matrix, motion)
        spare = len(off) - design.shape[1]
        # What the spots disagree by says more than what each thinks of itself.
        scale = max(1.0, float((weights * off**2).sum()) / spare) if spare > 0 else 1.0
        corners = apply_matrix(matrix, self._surface.corners)
        at = _derivatives(corners, motion) / _units(corners, motion)
        covariance = np.linalg.inv(design.T @ (design * weights[:, None]) + np.eye(design.shape[1]) / GUESS_ERROR_PX**2)
        variance = np.einsum("nki,ij,nkj->n", at, covariance, at)
        return matrix, np.sqrt(np.maximum(variance * scale, 0))

    def _unexplained(self, seen: dict[str, Seen], matrix: Matrix) -> NDArray[np.float64]:
        """Return by how much corners may be off (4,) since fewer than four spots tell not all of a plane's motion.

        Each pattern shows how the plane is turned and stretched around its spot; what the motion found has of that is
        less, and the corners are as far off as that makes them, seen from the nearest spot.
        """
        if len(seen) >= 4:
            return np.zeros(4)
        away = []
        for name, found in seen.items():
            home = self._home[name]
            shown = found.stretched @ local_turn(self._patterns[name].placed, home)[:2, :2]
            left_out = shown - local_turn(matrix, home)[:2, :2]
            away.append(np.hypot(*(left_out @ (self._surface.corners - home).T)))
        return np.asarray(np.min(away, axis=0))

    def _determined(self, seen: dict[str, Seen], guess: Matrix) -> MotionModel:
        """Return the fullest motion that the spots, as they lie, tell well enough at the corners."""
        motion = motion_of_spots(len(seen), self._how.motion)
        while motion in SIMPLER:
            design, weights, _ = self._system(seen, guess, motion)
            corners = apply_matrix(guess, self._surface.corners)
            at = _derivatives(corners, motion) / _units(corners, motion)
            normal = design.T @ (design * weights[:, None])
            covariance = np.linalg.inv(normal + 1e-9 * np.trace(normal) * np.eye(len(normal)))
            if np.sqrt(np.einsum("nki,ij,nkj->n", at, covariance, at).mean()) < TOLD_WELL_PX:
                break
            motion = SIMPLER[motion]
        return motion

    def _system(self, seen: dict[str, Seen], matrix: Matrix, motion: MotionModel) -> tuple[Points, Points, Points]:
        """Return how spots move with the parameters (each counted in pixels at the corners), weights, and misses."""
        names = list(seen)
        here = apply_matrix(matrix, np.stack([self._home[name] for name in names]))
        corners = apply_matrix(matrix, self._surface.corners)
        about = _derivatives(here, motion, corners) / _units(corners, motion)
        off = np.array([(seen[name].x, seen[name].y) for name in names]) - here
        weights = np.repeat([2 / seen[name].slip_px ** 2 for name in names], 2)
        return about.reshape(2 * len(names), -1), weights, off.ravel()

    def _fitted(self, seen: dict[str, Seen], guess: Matrix, motion: MotionModel) -> Matrix:
        """Return the guess moved, by no more than the motion allows, so that it fits the spots.

        Gauss-Newton with the guess as prior: what the spots do not tell, since they lie in one line or nearly, stays as
        it was guessed.
        """
        matrix, total = guess, np.zeros(len(MOTIONS[motion]))
        for _ in range(6):
            design, weights, off = self._system(seen, matrix, motion)
            prior = np.eye(len(total)) / GUESS_ERROR_PX**2
            right = design.T @ (weights * off) - prior @ total
            step = np.linalg.solve(design.T @ (design * weights[:, None]) + prior, right)
            corners = apply_matrix(matrix, self._surface.corners)
            middle = corners.mean(axis=0)
            to, back = translation(*middle), translation(*(-value for value in middle))
            matrix = to @ _motion_matrix(step / _units(corners, motion), motion) @ back @ matrix
            matrix, total = matrix / matrix[2, 2], total + step
            if not np.isfinite(apply_matrix(matrix, self._surface.corners)).all():
                return guess  # it folded up: the spots contradict each other beyond repair
            if np.abs(step).max() < 1e-6:
                break
        return matrix

    # -- what comes out -----------------------------------------------------------------------------------------------

    def _places(self, matrix: Matrix, seen: dict[str, Seen]) -> dict[str, SpotFound]:
        out: dict[str, SpotFound] = {}
        for name, home in self._home.items():
            if name in seen:
                out[name] = SpotFound(seen[name].x, seen[name].y, max(seen[name].correlation, 0.01))
            else:
                x, y = apply_matrix(matrix, home)
                out[name] = SpotFound(float(x), float(y), 0.0)
        return out

    def step(self, frame: int, place: SpotsSeen) -> FollowStep:
        """Return what is yielded of a frame."""
        seen, matrix = place.seen, place.home_to_frame
        hidden = len(self._home) - len(seen)
        reason = f"{hidden} of {len(self._home)} spots hidden" if hidden else ""
        sure = float(
            np.mean([found.correlation for found in seen.values()]) * (0.5 + 0.5 * len(seen) / len(self._home))
        )
        row = self.walk.row(frame, matrix)
        return FollowStep(frame, row, place.corner_slip_px, sure, reason, spots=self._places(matrix, seen))

    def between(self, frame: int, home_to_frame: Matrix, last: Matrix, place: SpotsSeen) -> FollowStep:
        """Return what is yielded of a frame that was laid between its neighbours."""
        moved = moved_px(last, place.home_to_frame, self._surface.corners)
        return laid_between(frame, self.walk.row(frame, home_to_frame), moved, self._places(home_to_frame, {}))

    def _fresh(self, place: SpotsSeen) -> dict[str, Pattern]:
        """Return patterns taken anew of spots that do not look as they did any more."""
        out: dict[str, Pattern] = {}
        for spot in self._how.spots:
            found = place.seen.get(spot.id)
            if found is None or not CERTAIN <= found.correlation < FRESH:
                continue
            if np.hypot(*(apply_matrix(place.last, self._home[spot.id]) - (found.x, found.y))) > CALM_PX:
                continue
            dx, dy = self._patterns[spot.id].offset
            try:
                out[spot.id] = pattern_at(
                    place.picture, found.x - dx, found.y - dy, place.home_to_frame, (dx, dy), spot.pattern_px
                )
            except FollowError:
                continue  # at the picture's rim: the old one must do
        return out


def _turned_since(pattern: Pattern, guess: Matrix) -> Matrix:
    """Return how a pattern is turned and stretched since it was taken, about its feature, as the surface is."""
    return local_turn(guess @ np.linalg.inv(pattern.placed), np.array([pattern.x, pattern.y]) + pattern.origin)


def _similar(source: Points, target: Points) -> Matrix:
    """Return the shift, turn and growth (3, 3) that takes points (N, 2) nearest to others."""
    one, other = (points[:, 0] + 1j * points[:, 1] for points in (source, target))
    by, to = one.mean(), other.mean()
    turn = np.vdot(one - by, other - to) / max(np.vdot(one - by, one - by).real, 1e-9)
    shift = to - turn * by
    return np.array([[turn.real, -turn.imag, shift.real], [turn.imag, turn.real, shift.imag], [0, 0, 1.0]])


def _derivatives(points: Points, motion: MotionModel, about: Points | None = None) -> NDArray[np.float64]:
    """Return how points (N, 2) move with a motion's parameters about the middle of others (or their own): (N, 2, K)."""
    p, q = (points - (points if about is None else about).mean(axis=0)).T
    zero, one = np.zeros(len(p)), np.ones(len(p))
    across = [one, zero, -q, p, p, q, -p * p, -p * q]
    down = [zero, one, p, q, -q, p, -p * q, -q * q]
    chosen = MOTIONS[motion]
    return np.stack([np.stack([way[k] for k in chosen], axis=-1) for way in (across, down)], axis=1)


def _units(corners: Points, motion: MotionModel) -> NDArray[np.float64]:
    """Return by how many pixels the corners (4, 2) move for one of each parameter: (K,)."""
    return np.maximum(np.abs(_derivatives(corners, motion)).max(axis=(0, 1)), 1e-9)


def _motion_matrix(step: Points, motion: MotionModel) -> Matrix:
    full = np.zeros(8)
    full[list(MOTIONS[motion])] = step
    return motion_matrix(full)


def aimed(spot: Spot, frame: int, feature: Points, place: Points) -> Aim:
    """Return the aim that follows a spot by another feature from a frame on, without a jump.

    Parameters
    ----------
    spot : Spot
    frame : int
    feature : (2,) float64
        The new feature, in pixels of the frame.
    place : (2,) float64
        Where the spot is on the frame.
    """
    dx, dy = np.asarray(place, float) - feature
    return Aim(frame=frame, x=float(feature[0]), y=float(feature[1]), dx=float(dx), dy=float(dy))
