"""Follow spots: small patterns found frame by frame, and the motion of the surface that they share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Aim, FrameRange, MotionModel, PointsFollow, Spot, Surface
from gommage.core.follow.align import (
    MOTIONS,
    SIMPLER,
    Alignment,
    Template,
    align,
    make_pyramid,
    make_template,
    motion_matrix,
)
from gommage.core.follow.sight import Sight, choose_sight, noise_of
from gommage.core.follow.steps import Direction, FollowStep, SpotFound, Surroundings, beginning, ways
from gommage.core.follow.walk import Walk
from gommage.core.geometry import Matrix, Points, Window, apply_matrix, around, translation
from gommage.core.picture import Picture, luminance
from gommage.errors import FollowError, FootageError

__all__ = ["aimed", "choose_pattern", "detect_spots", "follow_points", "motion_of_spots", "spots_near"]

PATTERN_SIDES_PX = (15, 21, 27, 35, 45)
WANTED_ERROR_PX = 0.05
"""The smallest pattern is taken whose texture promises to be found this well."""
SMALLEST_SEARCH_PX = 16.0
LARGEST_SEARCH_PX = 96.0
WIDEST_SEARCH_PX = 160.0
CLEAR, CLEARER = 0.95, 0.1
"""A place less alike than this is looked for further away too, and left for another that is so much more alike."""
WORTH_TURNING = 0.0005
"""A pattern's turn and growth are taken where they make it so much more alike."""
SEEN = 0.70
"""Correlation above which a spot counts as seen."""
FRESH = 0.88
"""Correlation below which a pattern is taken anew, where that is allowed."""
DOUBT_AT_THE_RIM = 0.25
"""By how much more alike a place at the rim of the search must be than one where the spot is expected."""
ALIKE = 0.03
"""A pattern that turned or grew by less than this is looked for as it is."""
ODD_ONE_OUT_PX = 1.5
"""A spot that is further than this from where the others have it, and than three times its error, is not believed."""
NEAR_PX = 90.0
"""Spots are looked for at least this far around the middle of those there are."""
TOLD_WELL_PX = 0.5
"""A motion is solved for where the spots' own errors would let the corners be off by no more than this."""
GUESS_ERROR_PX = 3.0
"""By how much the corners may be off, on one frame, where they would be if the surface went on as it went."""
STUMBLES = 3


def choose_pattern(picture: Picture, x: float, y: float) -> float:
    """Return the side in pixels of the square around a spot that is worth comparing.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear.
    x, y : float
        The spot, in pixels.

    Notes
    -----
    The error of a found position is about ``noise * sqrt(2 / lambda)``, lambda being the lesser eigenvalue of the sum
    of the gradients' outer products: J. Shi and C. Tomasi, Good Features to Track, CVPR 1994.
    """
    bounds = Window.of(picture.shape[1], picture.shape[0])
    largest = _square(x, y, PATTERN_SIDES_PX[-1] + 4) & bounds
    if largest.is_empty:
        raise FollowError("The spot is outside the picture.")
    crop = luminance(np.ascontiguousarray(picture[largest.slices]))
    noise = max(noise_of(crop, np.ones(crop.shape, np.uint8)), 1e-6)
    soft = cv2.GaussianBlur(crop, (0, 0), 0.8)
    gx = cv2.Sobel(soft, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(soft, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    for side in PATTERN_SIDES_PX:
        inner = (_square(x, y, side) & bounds).within(largest)
        a, b, c = (float((one * other)[inner].sum()) for one, other in ((gx, gx), (gx, gy), (gy, gy)))
        lesser = (a + c) / 2 - np.hypot((a - c) / 2, b)
        if lesser > 0 and noise * np.sqrt(2 / lesser) < WANTED_ERROR_PX:
            return float(side)
    return float(PATTERN_SIDES_PX[-1])


def detect_spots(picture: Picture, outline: Points, count: int = 12) -> NDArray[np.float64]:
    """Return up to `count` places (N, 2) inside an outline that will be easy to follow, best first.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear.
    outline : (M, 2) float64
        In pixels.

    References
    ----------
    J. Shi and C. Tomasi, Good Features to Track, CVPR 1994.
    """
    light = luminance(picture)
    mask = np.zeros(light.shape, np.uint8)
    cv2.fillPoly(mask, [np.round(outline - 0.5).astype(np.int32)], 255)
    inside = around(outline) & Window.of(light.shape[1], light.shape[0])
    if inside.is_empty:
        return np.empty((0, 2))
    apart = max(np.sqrt(mask.astype(bool).sum() / max(count, 1)) * 0.6, 8.0)
    soft = cv2.GaussianBlur(np.sqrt(np.maximum(light, 0)), (0, 0), 1.2)
    found = cv2.goodFeaturesToTrack(soft, count, 0.02, apart, mask=mask, blockSize=9)
    return np.empty((0, 2)) if found is None else found[:, 0].astype(float) + 0.5


def spots_near(picture: Picture, surface: Surface, count: int = 12) -> NDArray[np.float64]:
    """Return places (N, 2), on the home frame, for more spots of a surface: around and between those there are.

    Parameters
    ----------
    picture : (H, W, 3) float32
        The home frame.
    surface : Surface
        Of kind points.
    """
    corners = surface.corners
    middle = corners.mean(axis=0)
    wide = middle + (corners - middle) * np.maximum(1.0, NEAR_PX / np.maximum(np.abs(corners - middle), 1.0))
    assert isinstance(surface.how, PointsFollow)
    known = np.array([(spot.x, spot.y) for spot in surface.how.spots])
    found = detect_spots(picture, wide, count + len(known))
    far = [place for place in found if np.hypot(*(known - place).T).min() > 8]
    return np.array(far[:count]).reshape(-1, 2)


def motion_of_spots(count: int, wanted: MotionModel | None) -> MotionModel:
    """Return the motion that so many spots determine, no more than is wanted."""
    allowed = (MotionModel.SHIFT, MotionModel.SIMILARITY, MotionModel.AFFINE, MotionModel.PERSPECTIVE)[
        min(count, 4) - 1
    ]
    if wanted is None or len(MOTIONS[wanted]) > len(MOTIONS[allowed]):
        return allowed
    return wanted


def _square(x: float, y: float, side: float) -> Window:
    half = side / 2
    return around(np.array([[x - half, y - half], [x + half, y + half]]))


@dataclass(frozen=True, slots=True)
class _Pattern:
    """A spot's looks on one frame: from its feature there, `offset` leads to the spot.

    `patch` is the picture around it, blurred; `x`, `y` count in its pixels, of which the first is `origin` in the
    frame; `placed` is where the surface was.
    """

    template: Template
    patch: Picture
    x: float
    y: float
    origin: tuple[int, int]
    placed: Matrix
    offset: tuple[float, float]
    side: float


@dataclass(frozen=True, slots=True)
class _Seen:
    """One spot on one frame."""

    x: float
    y: float
    slip_px: float
    correlation: float
    turned: Matrix


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
        yield from follower.run(start_frame, way)


class _PointFollower:
    def __init__(
        self, read: Callable[[int], Picture], surface: Surface, check: Callable[[], None], rest: Surroundings
    ) -> None:
        assert isinstance(surface.how, PointsFollow)
        self._read, self._surface, self._check = read, surface, check
        self._walk = Walk(surface, rest)
        self._how = surface.how
        self._home = {spot.id: np.array([spot.x, spot.y]) for spot in self._how.spots}

    def at_home(self) -> FollowStep:
        """Return the step of the home frame, where spots are where they were set."""
        spots = {spot.id: SpotFound(spot.x, spot.y, 1.0) for spot in self._how.spots}
        return FollowStep(self._surface.home_frame, np.eye(3), np.zeros(4), 1.0, spots=spots)

    # -- patterns -----------------------------------------------------------------------------------------------

    def _pattern(
        self, picture: Picture, spot: Spot, x: float, y: float, offset: tuple[float, float], placed: Matrix
    ) -> _Pattern:
        side = spot.pattern_px or choose_pattern(picture, x, y)
        bounds = Window.of(picture.shape[1], picture.shape[0])
        window = _square(x, y, side) & bounds
        wide = window.grown(16) & bounds
        crop = np.ascontiguousarray(picture[wide.slices])
        mask = np.zeros(crop.shape[:2], np.uint8)
        mask[window.within(wide)] = 1
        sight: Sight = choose_sight(crop, mask)
        here = np.array([[x, y]] * 4) - (wide.left, wide.top)
        template = make_template(crop, mask, here, sight)
        patch = sight.blurred(sight.one_channel(crop))
        return _Pattern(template, patch, x - wide.left, y - wide.top, (wide.left, wide.top), placed, offset, side)

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

    def _patterns(self, frame: int, picture: Picture, home_to_frame: Matrix) -> dict[str, _Pattern]:
        patterns: dict[str, _Pattern] = {}
        fault: FollowError | None = None
        for spot in self._how.spots:
            placed = self._known(spot, frame, home_to_frame)
            feature, offset = self._feature_on(spot, frame, placed)
            try:
                patterns[spot.id] = self._pattern(
                    picture, spot, float(feature[0]), float(feature[1]), offset, home_to_frame
                )
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

    def run(self, start_frame: int, frames: range) -> Iterator[FollowStep]:
        """Follow along frames; the last step yielded may be an end."""
        if not frames:
            return
        picture = self._read(start_frame)
        last = self._walk.begin(start_frame)
        patterns = self._patterns(start_frame, picture, last)
        before, missed = last, 0
        speeds = dict.fromkeys(patterns, 8.0)
        has_turn = motion_of_spots(len(self._how.spots), self._how.motion) not in (MotionModel.SHIFT,)
        own_turns: dict[str, Matrix] = {}
        for frame in frames:
            self._check()
            try:
                picture = self._read(frame)
            except FootageError as error:
                missed += 1
                if missed >= STUMBLES:
                    yield FollowStep(frame, None, np.full(4, np.inf), 0.0, ended=str(error))
                    return
                yield self._guessed(frame, last @ np.linalg.inv(before) @ last)
                continue
            patterns |= self._aimed(frame, frames.step, picture, last)
            guess = self._guess(frame, frame - frames.step, before, last)
            # Spots that move the surface by a shift alone tell nothing of each other's turn: each keeps its own.
            turns = {
                name: _turned(pattern, guess) if has_turn else own_turns.get(name, np.eye(3))
                for name, pattern in patterns.items()
            }
            seen = {
                spot.id: found
                for spot in self._how.spots
                if spot.id in patterns
                and (found := self._look(picture, patterns[spot.id], spot, guess, speeds[spot.id], turns[spot.id]))
            }
            seen = self._believed(seen, guess)
            missed = 0 if seen else missed + 1
            if missed >= STUMBLES:
                yield FollowStep(frame, None, np.full(4, np.inf), 0.0, ended="no spot is seen any more")
                return
            if not seen:
                yield self._guessed(frame, guess)
                continue
            here, slip = self._fit(seen, guess)
            for name, found in seen.items():
                expected = apply_matrix(guess, self._home[name])
                speeds[name] = 0.7 * speeds[name] + 0.6 * float(np.hypot(*(expected - (found.x, found.y)))) + 2
            yield self._step(frame, here, slip, seen)
            own_turns |= {name: found.turned for name, found in seen.items()}
            if self._how.is_refreshed:
                fresh = self._fresh(picture, patterns, seen, here)
                patterns |= fresh
                own_turns |= dict.fromkeys(fresh, np.eye(3))
            before, last = last, here

    def _guess(self, frame: int, previous: int, before: Matrix, last: Matrix) -> Matrix:
        then, now = self._walk.carried_between(previous, frame)
        if self._surface.rides_on:
            onward = now @ np.linalg.inv(then) @ last
        else:
            # On by a shift, turn and growth as from the frame before: more than that would magnify its errors.
            corners = self._surface.corners
            onward = _similar(apply_matrix(before, corners), apply_matrix(last, corners)) @ last
        return onward / onward[2, 2]

    def _aimed(self, frame: int, step: int, picture: Picture, last: Matrix) -> dict[str, _Pattern]:
        """Return fresh patterns of spots whose feature changes on this frame."""
        out: dict[str, _Pattern] = {}
        for spot in self._how.spots:
            if self._aim_on(spot, frame) is self._aim_on(spot, frame - step):
                continue
            aim = self._aim_on(spot, frame)
            if aim is not None and aim.frame == frame:
                out[spot.id] = self._pattern(picture, spot, aim.x, aim.y, (aim.dx, aim.dy), last)
            else:  # going backwards out of an aim: the feature before it, where the spot is now
                x, y = self._known(spot, frame, last)
                offset = (aim.dx, aim.dy) if aim is not None else (0.0, 0.0)
                out[spot.id] = self._pattern(picture, spot, float(x) - offset[0], float(y) - offset[1], offset, last)
        return out

    def _look(
        self, picture: Picture, pattern: _Pattern, spot: Spot, guess: Matrix, speed: float, turned: Matrix
    ) -> _Seen | None:
        """Return where a spot's feature is around its expected place, or None if it is not seen."""
        self._check()
        expected = apply_matrix(guess, self._home[spot.id]) - pattern.offset
        search = spot.search_px or float(np.clip(2 * speed + 8, SMALLEST_SEARCH_PX, LARGEST_SEARCH_PX))
        bounds = Window.of(picture.shape[1], picture.shape[0])
        patch, feature = _seen_patch(pattern, turned)
        sight = pattern.template.sight
        place = _searched(picture, patch, feature, expected, search, sight)
        if not spot.search_px and (place is None or place[2] < CLEAR):
            wider = _searched(picture, patch, feature, expected, WIDEST_SEARCH_PX, sight)
            if wider is not None and (place is None or wider[2] > place[2] + CLEARER):
                place, search = wider, WIDEST_SEARCH_PX
        if place is None or place[2] < SEEN - 0.15:
            return None
        x, y, _ = place
        start = translation(x, y) @ turned @ translation(-pattern.x, -pattern.y)
        near = _square(x, y, pattern.side + 24) & bounds
        pyramid = make_pyramid(picture, 1, sight, near)
        found = align(pattern.template, pyramid, start, MotionModel.SHIFT, levels=1)
        if pattern.side >= 15 and _alike(found) >= SEEN:
            # A pattern that turned or grew is found better by a motion that allows for it; it must not run away.
            freer = align(pattern.template, pyramid, found.matrix, MotionModel.SIMILARITY, levels=1)
            if _alike(freer) > _alike(found) + WORTH_TURNING:
                found = freer
        if _alike(found) < SEEN or not np.isfinite(found.slip_px):
            return None
        x, y = apply_matrix(found.matrix, np.array([pattern.x, pattern.y])) + pattern.offset
        if max(abs(x - pattern.offset[0] - expected[0]), abs(y - pattern.offset[1] - expected[1])) > search + 2:
            return None
        linear = np.eye(3)
        linear[:2, :2] = found.matrix[:2, :2]
        return _Seen(float(x), float(y), max(found.slip_px, 0.005), _alike(found), linear)

    def _believed(self, seen: dict[str, _Seen], guess: Matrix) -> dict[str, _Seen]:
        """Return the spots without those that contradict the others."""
        believed = dict(seen)
        while len(believed) >= 4:
            # A motion that the others determine with nothing to spare would put the blame on any of them.
            motion = motion_of_spots(min(len(believed) - 2, 3), self._how.motion)
            worst, off = "", 0.0
            for name, spot in believed.items():
                others = {other: found for other, found in believed.items() if other != name}
                matrix = self._fitted(others, guess, motion)
                away = float(np.hypot(*(apply_matrix(matrix, self._home[name]) - (spot.x, spot.y))))
                if away > max(ODD_ONE_OUT_PX, 3 * spot.slip_px) and away > off:
                    worst, off = name, away
            if not worst:
                return believed
            del believed[worst]
        return believed

    def _fit(self, seen: dict[str, _Seen], guess: Matrix) -> tuple[Matrix, NDArray[np.float64]]:
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

    def _determined(self, seen: dict[str, _Seen], guess: Matrix) -> MotionModel:
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

    def _system(self, seen: dict[str, _Seen], matrix: Matrix, motion: MotionModel) -> tuple[Points, Points, Points]:
        """Return how spots move with the parameters (each counted in pixels at the corners), weights, and misses."""
        names = list(seen)
        here = apply_matrix(matrix, np.stack([self._home[name] for name in names]))
        corners = apply_matrix(matrix, self._surface.corners)
        about = _derivatives(here, motion, corners) / _units(corners, motion)
        off = np.array([(seen[name].x, seen[name].y) for name in names]) - here
        weights = np.repeat([2 / seen[name].slip_px ** 2 for name in names], 2)
        return about.reshape(2 * len(names), -1), weights, off.ravel()

    def _fitted(self, seen: dict[str, _Seen], guess: Matrix, motion: MotionModel) -> Matrix:
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

    def _places(self, matrix: Matrix, seen: dict[str, _Seen]) -> dict[str, SpotFound]:
        out: dict[str, SpotFound] = {}
        for name, home in self._home.items():
            if name in seen:
                out[name] = SpotFound(seen[name].x, seen[name].y, max(seen[name].correlation, 0.01))
            else:
                x, y = apply_matrix(matrix, home)
                out[name] = SpotFound(float(x), float(y), 0.0)
        return out

    def _step(self, frame: int, matrix: Matrix, slip: NDArray[np.float64], seen: dict[str, _Seen]) -> FollowStep:
        hidden = len(self._home) - len(seen)
        reason = f"{hidden} of {len(self._home)} spots hidden" if hidden else ""
        sure = float(
            np.mean([found.correlation for found in seen.values()]) * (0.5 + 0.5 * len(seen) / len(self._home))
        )
        return FollowStep(frame, self._walk.row(frame, matrix), slip, sure, reason, spots=self._places(matrix, seen))

    def _guessed(self, frame: int, guess: Matrix) -> FollowStep:
        matrix = self._walk.row(frame, guess)
        return FollowStep(
            frame, matrix, np.full(4, 2.0), 0.0, "all spots hidden: carried on", spots=self._places(guess, {})
        )

    def _fresh(
        self, picture: Picture, patterns: dict[str, _Pattern], seen: dict[str, _Seen], placed: Matrix
    ) -> dict[str, _Pattern]:
        """Return patterns taken anew of spots that do not look as they did any more."""
        out: dict[str, _Pattern] = {}
        for spot in self._how.spots:
            found = seen.get(spot.id)
            if found is None or found.correlation >= FRESH:
                continue
            dx, dy = patterns[spot.id].offset
            try:
                out[spot.id] = self._pattern(picture, spot, found.x - dx, found.y - dy, (dx, dy), placed)
            except FollowError:
                continue  # at the picture's rim: the old one must do
        return out


def _searched(
    picture: Picture, patch: Picture, feature: tuple[float, float], expected: Points, search: float, sight: Sight
) -> tuple[float, float, float] | None:
    """Return where a pattern's feature is most likely, around where it is expected, and how alike it is.

    None where the search lies outside the picture. Of two places alike the one is taken that is nearer.
    """
    height, width = patch.shape
    bounds = Window.of(picture.shape[1], picture.shape[0])
    window = _square(float(expected[0]), float(expected[1]), max(height, width) + 2 * search) & bounds
    if window.is_empty or window.width <= width or window.height <= height:
        return None
    wide = sight.blurred(sight.one_channel(np.ascontiguousarray(picture[window.slices])))
    answer = np.nan_to_num(cv2.matchTemplate(wide, patch, cv2.TM_CCOEFF_NORMED), nan=-1.0)
    rows, columns = np.ogrid[: answer.shape[0], : answer.shape[1]]
    away_x, away_y = columns + window.left + feature[0] - expected[0], rows + window.top + feature[1] - expected[1]
    nearer = answer - DOUBT_AT_THE_RIM * (away_x**2 + away_y**2) / search**2
    _, _, _, (left, top) = cv2.minMaxLoc(nearer)
    return window.left + left + feature[0], window.top + top + feature[1], float(answer[top, left])


def _alike(found: Alignment) -> float:
    """Return how much a pattern looks as it did: what was voted out of so small a square counts against it."""
    return found.correlation * found.agreeing


def _seen_patch(pattern: _Pattern, turned: Matrix) -> tuple[Picture, tuple[float, float]]:
    """Return a pattern's square as it should look, turned and stretched, and where its feature is in it."""
    height, width = pattern.patch.shape
    inner = _square(pattern.x, pattern.y, pattern.side) & Window.of(width, height)
    if np.abs(turned - np.eye(3)).max() < ALIKE:
        return pattern.patch[inner.slices], (pattern.x - inner.left, pattern.y - inner.top)
    side = int(pattern.side)
    patch_from_pattern = translation(side / 2, side / 2) @ turned @ translation(-pattern.x, -pattern.y)
    to_integer_centres = translation(-0.5, -0.5) @ patch_from_pattern @ translation(0.5, 0.5)
    border = cv2.BORDER_REFLECT_101
    patch = cv2.warpAffine(
        pattern.patch, to_integer_centres[:2], (side, side), flags=cv2.INTER_LINEAR, borderMode=border
    )
    return patch, (side / 2, side / 2)


def _turned(pattern: _Pattern, guess: Matrix) -> Matrix:
    """Return how a pattern is turned and stretched since it was taken, about its feature, as the surface is."""
    frame_from_pattern = guess @ np.linalg.inv(pattern.placed)
    at = np.array([pattern.x, pattern.y]) + pattern.origin
    depth = float(frame_from_pattern[2, :2] @ at + frame_from_pattern[2, 2])
    moved = apply_matrix(frame_from_pattern, at)
    out = np.eye(3)
    out[:2, :2] = (frame_from_pattern[:2, :2] - np.outer(moved, frame_from_pattern[2, :2])) / depth
    return out if np.isfinite(out).all() else np.eye(3)


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
