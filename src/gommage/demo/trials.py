"""Trials of the follow: planes under known motions, each with one trouble of the job, and how far a follow is off.

Beside each figure stands the limit (Cramer and Rao) that no estimate from these pictures can beat, and what OpenCV's
ECC reaches on the same frames.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import lru_cache, partial
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import NOT_SEEN, FrameRange, Matte, PlaneFollow, Shape, Surface
from gommage.core.follow import follow_plane
from gommage.core.follow.masks import polygon_mask
from gommage.core.geometry import (
    Matrix,
    Points,
    Window,
    apply_matrix,
    around,
    fitted,
    from_matrix,
    shift,
    then,
    translation,
)
from gommage.core.picture import Picture, Splines, luminance, resample
from gommage.demo.painting import paper_grain, smooth_noise
from gommage.errors import FollowError

__all__ = ["TRIALS", "Trial", "TrialFigures", "judged", "trial_markdown", "with_pictures"]

WIDTH, HEIGHT = 960, 540
FIRST, COUNT = 1001, 41
HOME = 1011
"""Not the first: a follow goes both ways."""
AREA = np.array([[300.0, 140.0], [680.0, 150.0], [670.0, 400.0], [310.0, 390.0]])
MARGIN = 160
"""Pixels of the picture beyond the frame, so that a moving plane still fills it."""
FOCAL = 1100.0
BLUR_SAMPLES = 13
FRAMES = FrameRange(first=FIRST, last=FIRST + COUNT - 1)


# -- pictures ---------------------------------------------------------------------------------------------------


def _sized(picture: Picture) -> Picture:
    """Return a picture filling the frame and its margin."""
    wanted = WIDTH + 2 * MARGIN, HEIGHT + 2 * MARGIN
    scale = max(wanted[0] / picture.shape[1], wanted[1] / picture.shape[0])
    if scale != 1:
        way = cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC
        picture = cv2.resize(picture, None, fx=scale, fy=scale, interpolation=way)
    top, left = (picture.shape[0] - wanted[1]) // 2, (picture.shape[1] - wanted[0]) // 2
    return np.ascontiguousarray(picture[top : top + wanted[1], left : left + wanted[0]], np.float32)


@lru_cache(maxsize=8)
def wall(seed: int = 1) -> Picture:
    """Return a papered wall: patches with edges, stains, tooth; (H, W, 3) float32, scene-linear."""
    rng = np.random.default_rng(seed)
    size = WIDTH + 2 * MARGIN, HEIGHT + 2 * MARGIN
    picture = np.ones((size[1], size[0], 3), np.float32) * np.array([0.32, 0.24, 0.17], np.float32)
    for _ in range(260):
        middle = rng.uniform((0, 0), size)
        outline = middle + rng.uniform(8, 60) * rng.standard_normal((int(rng.integers(3, 7)), 2))
        colour = rng.uniform(0.05, 0.7, 3).astype(np.float32)
        window = around(outline, 8) & Window.of(*size)
        if window.is_empty:
            continue
        mask = polygon_mask([cv2.convexHull(outline.astype(np.float32))[:, 0].astype(float)], window)
        soft = cv2.GaussianBlur(mask.astype(np.float32), (0, 0), 0.7)[..., None]
        picture[window.slices] = picture[window.slices] * (1 - soft) + soft * colour
    picture *= np.exp(0.15 * smooth_noise(size, 40, rng))[..., None]
    return (picture * paper_grain(size, rng, 0.12)[..., None]).astype(np.float32)


@lru_cache(maxsize=8)
def pale(seed: int = 2) -> Picture:
    """Return a surface with next to no texture, another in each channel; (H, W, 3) float32, scene-linear."""
    rng = np.random.default_rng(seed)
    size = WIDTH + 2 * MARGIN, HEIGHT + 2 * MARGIN
    layers = [0.35 * (1 + 0.035 * smooth_noise(size, 7, rng) + 0.03 * smooth_noise(size, 30, rng)) for _ in range(3)]
    return np.dstack(layers).astype(np.float32)


@lru_cache(maxsize=8)
def board(seed: int = 3) -> Picture:
    """Return a painted board: wide shades, and a tooth of 2 %; (H, W, 3) float32, scene-linear."""
    rng = np.random.default_rng(seed)
    size = WIDTH + 2 * MARGIN, HEIGHT + 2 * MARGIN
    tone = 0.35 * (1 + 0.08 * smooth_noise(size, 120, rng)) * (1 + 0.02 * smooth_noise(size, 2, rng))
    return (tone[..., None] * np.array([1.0, 0.9, 0.75])).astype(np.float32)


def read_pictures(folder: Path) -> list[Picture]:
    """Return the photographs of a folder, scene-linear, large enough for a frame."""
    from gommage.core.picture import read_picture

    return [_sized(read_picture(path)) for path in sorted(folder.iterdir()) if path.suffix.lower() in {".png", ".jpg"}]


@lru_cache(maxsize=8)
def _ready(picture: Callable[[], Picture]) -> Splines:
    return Splines.of(picture())


# -- motions: home to frame at a time in frames from home -------------------------------------------------------


def seen(
    turn_deg: float = 0.0, tilt_deg: float = 0.0, roll_deg: float = 0.0, by: tuple[float, float] = (0.0, 0.0),
    near: float = 1.0,
) -> Matrix:  # fmt: skip
    """Return the motion of a plane that lay square-on, and is turned about its middle, rolled, moved, brought near."""
    turn, tilt, roll = np.deg2rad([turn_deg, tilt_deg, roll_deg])
    rotation = cv2.Rodrigues(np.array([0, turn, 0.0]))[0] @ cv2.Rodrigues(np.array([tilt, 0, 0.0]))[0]
    rotation = cv2.Rodrigues(np.array([0, 0, roll]))[0] @ rotation
    place = np.array([by[0] / FOCAL, by[1] / FOCAL, 1.0 / near])
    camera = np.array([[FOCAL, 0, WIDTH / 2], [0, FOCAL, HEIGHT / 2], [0, 0, 1.0]])
    plane = np.column_stack([rotation[:, 0], rotation[:, 1], place])
    matrix = camera @ plane @ np.diag([1.0, 1.0, FOCAL]) @ np.array(
        [[1, 0, -WIDTH / 2], [0, 1, -HEIGHT / 2], [0, 0, 1.0]]
    )  # fmt: skip
    return matrix / matrix[2, 2]


def drifting(t: float) -> Matrix:
    """Move slowly, with a little of everything."""
    return seen(0.3 * t, -0.2 * t, 0.25 * t, (2.3 * t, 1.1 * np.sin(t / 3)), 1 + 0.004 * t)


def turning(t: float) -> Matrix:
    """Turn away and come nearer."""
    return seen(1.1 * t, 0.35 * t, 0.3 * np.sin(t / 4), (1.5 * t, 0.6 * t), 1 + 0.006 * t)


def handheld(t: float) -> Matrix:
    """Shake, by up to 20 px from frame to frame."""
    by = 30 * np.sin(0.55 * t + 0.6) + 3 * np.sin(1.3 * t), 14 * np.sin(0.7 * t)
    return seen(0.4 * np.sin(t / 3), 0.3 * np.sin(t / 4), 0.6 * np.sin(0.5 * t), by, 1 + 0.02 * np.sin(t / 3))


def fast(t: float) -> Matrix:
    """Move by about 50 px a frame, to and fro."""
    return seen(0.2 * t, 0.0, 0.1 * t, (150 * np.sin(t / 3), 30 * np.sin(t / 5)), 1 + 0.003 * t)


def leaving(t: float) -> Matrix:
    """Go out of the picture and come back."""
    away = 780 * np.exp(-(((t - 14) / 6) ** 2))
    return seen(0.3 * t, 0.0, 0.1 * t, (away, 0.5 * t), 1.0)


# -- troubles ---------------------------------------------------------------------------------------------------


def shadow(t: float) -> Picture:
    """Return what is left of the light, (H, W), by the edge of a shadow that wanders across the plane."""
    x = np.arange(WIDTH, dtype=np.float32)[None] + 0.35 * np.arange(HEIGHT, dtype=np.float32)[:, None]
    shade = 1 / (1 + np.exp((x - (350 + 14 * t)) / 18))
    return (1 - 0.55 * shade).astype(np.float32)


def passer(t: float) -> Picture:
    """Return 0 where something is in front that nobody marked, 1 elsewhere, (H, W)."""
    outline = np.array([[0, 0], [120, 20], [150, 330], [40, 350]]) + (_across(t), 90)
    mask = polygon_mask([outline], Window.of(WIDTH, HEIGHT)).astype(np.float32)
    return (1 - cv2.GaussianBlur(mask, (0, 0), 1.0)).astype(np.float32)


def _across(t: float) -> float:
    return 250 + 13 * (t + 10)


def shaded(picture: Picture, t: float) -> Picture:
    """Lay the shadow over a frame."""
    return picture * shadow(t)[..., None]


def hidden(picture: Picture, t: float) -> Picture:
    """Let something pass in front, as textured as the plane."""
    free = passer(t)[..., None]
    from_own = np.array([[1, 0, _across(t) - 500], [0, 1, 0.0], [0, 0, 1.0]])
    other = cv2.warpPerspective(wall(7), from_own, (WIDTH, HEIGHT), borderMode=cv2.BORDER_REFLECT)
    return picture * free + other * (1 - free)


@dataclass(frozen=True, slots=True)
class Trial:
    """A plane under a known motion.

    Attributes
    ----------
    grain : tuple of float
        Deviation of white grain in each channel.
    shutter : float
        For what share of a frame's time it is open.
    trouble : callable
        Takes a frame and its time, and returns it as it is filmed.
    left : callable
        Gives for a time what is left of the plane's light, (H, W): 0 where it is hidden.
    """

    name: str
    picture: Callable[[], Picture]
    motion: Callable[[float], Matrix]
    grain: tuple[float, float, float] = (0.01, 0.01, 0.01)
    shutter: float = 0.0
    trouble: Callable[[Picture, float], Picture] | None = None
    left: Callable[[float], Picture] = lambda t: np.ones((HEIGHT, WIDTH), np.float32)
    frames: FrameRange = FRAMES

    def truth(self, frame: int) -> Matrix:
        """Return where home-frame pixels truly are on a frame: in the middle of what they pass while it is exposed."""
        from_home = self._passed(HOME)
        there = self._passed(frame)
        motion = then(from_matrix(from_home).inverse(), from_matrix(there)).matrix
        assert motion is not None
        return motion / motion[2, 2]

    def _passed(self, frame: int) -> Matrix:
        times = frame - HOME + self.shutter * np.linspace(-0.5, 0.5, BLUR_SAMPLES)
        places = np.mean([apply_matrix(self.motion(float(time)), AREA) for time in times], axis=0)
        return fitted(AREA, places)

    def bare(self, frame: int) -> Picture:
        """Return the plane on a frame without grain and trouble, (H, W, 3) float32."""
        t = float(frame - HOME)
        times = t + self.shutter * np.linspace(-0.5, 0.5, BLUR_SAMPLES) if self.shutter else np.array([t])
        source = _ready(self.picture)
        total = np.zeros((HEIGHT, WIDTH, 3), np.float32)
        for time in times:  # not by OpenCV's warp, which rounds places to 1/32 px
            picture_to_frame = then(shift(-MARGIN, -MARGIN), from_matrix(self.motion(time)))
            total += resample(source, picture_to_frame.inverse(), Window.of(WIDTH, HEIGHT)).pixels
        return total / len(times)

    def clean(self, frame: int) -> Picture:
        """Return a frame without grain, (H, W, 3) float32."""
        picture = self.bare(frame)
        return self.trouble(picture, float(frame - HOME)) if self.trouble is not None else picture

    def read(self, frame: int) -> Picture:
        """Return a frame as it is filmed: (H, W, 3) float32."""
        rng = np.random.default_rng(frame)
        noise = rng.standard_normal((HEIGHT, WIDTH, 3), dtype=np.float32) * np.array(self.grain, np.float32)
        return self.clean(frame) + noise

    @property
    def surface(self) -> Surface:
        """The plane, with its area on the home frame."""
        area = Matte.of(Shape.of("area", HOME, AREA), surface_id="plane")
        return Surface(id="plane", name=self.name, home_frame=HOME, how=PlaneFollow(areas=area))


TRIALS: tuple[Trial, ...] = (
    Trial("textured, slow", wall, drifting),
    Trial("textured, turning", wall, turning),
    Trial("something in front, unmarked", wall, turning, trouble=hidden, left=passer),
    Trial("a plain board, something rich in front", board, turning, (0.004, 0.004, 0.004), trouble=hidden, left=passer),
    Trial("a shadow across", wall, turning, trouble=shaded, left=shadow),
    Trial("weak texture, strong grain", pale, drifting, (0.05, 0.02, 0.035)),
    Trial("next to no grain", wall, drifting, (0.0008, 0.0008, 0.0008)),
    Trial("handheld, shutter half open", wall, handheld, shutter=0.5),
    Trial("50 px a frame, little blur", wall, fast, shutter=0.08),
    Trial("leaves and comes back", wall, leaving),
)


def with_pictures(folder: Path) -> tuple[Trial, ...]:
    """Return the trials on photographs of a folder, one after the other, in place of drawn walls."""
    pictures = read_pictures(folder)
    out = []
    for index, trial in enumerate(TRIALS):
        chosen = pictures[index % len(pictures)]
        is_weak = trial.picture is pale
        picture = (0.35 + 0.1 * (chosen - chosen.mean(axis=(0, 1)))).astype(np.float32) if is_weak else chosen
        out.append(replace(trial, picture=partial(_same, picture)))
    return tuple(out)


def _same(picture: Picture) -> Picture:
    return picture


# -- judging ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class TrialFigures:
    """How far a follow was off its truth at the area's corners, in pixels of the frame, and what was said of it.

    Attributes
    ----------
    frames, possible : int
        Frames that were followed, and on which at least a third of the area is in the picture.
    limit_px : float
        The mean error of the best estimate there can be from home frame and frame (median over the frames).
    within_one, within_two : float
        Share of corners within one and two slips.
    worst_slips : float
        The largest error, in slips.
    ecc_px : float
        The mean error of OpenCV's ECC, begun from the frame before; infinite where it gave up.
    """

    name: str
    frames: int
    possible: int
    mean_px: float
    worst_px: float
    limit_px: float
    within_one: float
    within_two: float
    worst_slips: float
    ecc_px: float
    reasons: tuple[str, ...] = field(default=())


def limit_of(trial: Trial, frame: int) -> float:
    """Return the mean error of the corners that no unbiased estimate of all eight freedoms falls below.

    References
    ----------
    D. Robinson and P. Milanfar, Fundamental Performance Limits in Image Registration, IEEE TIP 13(9), 2004,
    doi:10.1109/TIP.2004.832923.
    """
    matrix = trial.truth(frame)
    clean = trial.bare(HOME)
    mask = polygon_mask([AREA], Window.of(WIDTH, HEIGHT)) > 0
    rows, columns = np.nonzero(mask)
    places = np.column_stack([columns, rows]) + 0.5
    there = apply_matrix(matrix, places)
    inside = (there >= 2).all(axis=1) & (there < (WIDTH - 2, HEIGHT - 2)).all(axis=1)
    middle, reach = AREA.mean(axis=0), np.abs(AREA - AREA.mean(axis=0)).max()
    p, q = ((places[inside] - middle) / reach).T
    x, y = there[inside].astype(np.intp).T
    home, here = trial.left(0.0)[rows, columns][inside], trial.left(float(frame - HOME))[y, x]
    # Of two pictures that show a share of the light each, with the same grain: half, if both show all of it.
    share = (home * here) ** 2 / np.maximum(home**2 + here**2, 1e-9)
    known = np.zeros((8, 8))
    for channel, sigma in enumerate(trial.grain):
        gx = cv2.Sobel(clean[..., channel], cv2.CV_64F, 1, 0, ksize=3, scale=1 / 8)[rows, columns][inside]
        gy = cv2.Sobel(clean[..., channel], cv2.CV_64F, 0, 1, ksize=3, scale=1 / 8)[rows, columns][inside]
        slopes = np.stack([gx, gy, -q * gx + p * gy, p * gx + q * gy, p * gx - q * gy, q * gx + p * gy,
                           -p * (p * gx + q * gy), -q * (p * gx + q * gy)])  # fmt: skip
        known += (slopes * share) @ slopes.T / sigma**2
    covariance = np.linalg.solve(known, np.eye(8))
    p, q = ((AREA - middle) / reach).T
    zero, one = np.zeros(4), np.ones(4)
    across = np.array([one, zero, -q, p, p, q, -p * p, -p * q])
    down = np.array([zero, one, p, q, -q, p, -p * q, -q * q])
    variance = sum(np.einsum("ic,ij,jc->c", way, covariance, way) for way in (across, down))
    grown = np.sqrt(abs(np.linalg.det(matrix)))
    return float(
        np.sqrt(np.asarray(variance) * np.pi / 4).mean() * grown
    )  # the mean length, for the root of its square


def _is_possible(trial: Trial, frame: int) -> bool:
    places = apply_matrix(trial.truth(frame), AREA.mean(axis=0) + (AREA[:, None] - AREA.mean(axis=0)) * np.linspace(
        0.1, 1, 8)[:, None])  # fmt: skip
    flat = places.reshape(-1, 2)
    return float(((flat >= 0) & (flat < (WIDTH, HEIGHT))).all(axis=1).mean()) > 1 / 3


def ecc_error(trial: Trial) -> float:
    """Return the mean corner error of OpenCV's ECC on a trial's possible frames; infinite if it gave up on one."""
    home = luminance(trial.read(HOME))
    mask = polygon_mask([AREA], Window.of(WIDTH, HEIGHT)) * np.uint8(255)
    criteria = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 60, 1e-6)
    errors = []
    for way in (range(HOME + 1, trial.frames.last + 1), range(HOME - 1, trial.frames.first - 1, -1)):
        warp = np.eye(3, dtype=np.float32)
        for frame in way:
            if not _is_possible(trial, frame):
                break
            try:
                light = luminance(trial.read(frame))
                _, warp = cv2.findTransformECC(home, light, warp, cv2.MOTION_HOMOGRAPHY, criteria, mask, 5)
            except cv2.error:
                return np.inf
            found = translation(0.5, 0.5) @ warp.astype(float) @ translation(-0.5, -0.5)
            errors.append(_off(found, trial.truth(frame)).mean())
    return float(np.mean(errors)) if errors else np.inf


def _off(found: Matrix, truth: Matrix) -> Points:
    return np.hypot(*(apply_matrix(found, AREA) - apply_matrix(truth, AREA)).T)


def judged(trial: Trial, *, with_ecc: bool = True) -> TrialFigures:
    """Follow a trial's plane with what is set by default, and measure."""
    found: dict[int, tuple[Matrix, NDArray[np.float64]]] = {}
    reasons = {}
    try:
        for step in follow_plane(lru_cache(trial.read), trial.surface, trial.frames, HOME):
            if step.home_to_frame is not None and np.isfinite(step.corner_slip_px).all() and step.reason != NOT_SEEN:
                found[step.frame] = step.home_to_frame, step.corner_slip_px
                reasons[step.frame] = step.reason
    except FollowError as error:
        reasons[HOME] = str(error)
    possible = [frame for frame in trial.frames if frame != HOME and _is_possible(trial, frame)]
    known = [frame for frame in possible if frame in found]
    off, share = np.full((1, 4), np.inf), np.full((1, 4), np.inf)
    if known:
        off = np.array([_off(found[frame][0], trial.truth(frame)) for frame in known])
        share = off / np.maximum(np.array([found[frame][1] for frame in known]), 1e-6)
    return TrialFigures(
        trial.name, len(known), len(possible), float(off.mean()), float(off.max()),
        float(np.median([limit_of(trial, frame) for frame in possible[::8]])),
        float((share <= 1).mean()), float((share <= 2).mean()), float(share.max()),
        ecc_error(trial) if with_ecc else np.nan, tuple(sorted(set(reasons.values()) - {""})),
    )  # fmt: skip


def trial_markdown(figures: list[TrialFigures]) -> str:
    """Return the figures as the table that stands in docs/accuracy.md."""
    heads = "plane", "frames", "mean", "worst", "limit", "mean / limit", "within 1 slip", "2", "worst in slips", "ECC"
    lines = [f"| {' | '.join(heads)} |", "|---" * len(heads) + "|"]
    for one in figures:
        ecc = f"{one.ecc_px:.4f} px" if np.isfinite(one.ecc_px) else "gave up"
        lines.append(
            f"| {one.name} | {one.frames} of {one.possible} | {one.mean_px:.4f} px | {one.worst_px:.3f} px | "
            f"{one.limit_px:.4f} px | {one.mean_px / one.limit_px:.1f} | {one.within_one:.0%} | {one.within_two:.0%} | "
            f"{one.worst_slips:.1f} | {ecc} |"
        )
    return "\n".join(lines)
