"""Polish a solved camera on the pictures: planes' own texture is aligned, and all is adjusted to it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Channel, MotionModel, SolvedCamera
from gommage.core.follow.align import Template, align, make_pyramid, make_template
from gommage.core.follow.masks import Mask, polygon_mask
from gommage.core.follow.scene.camera import with_cameras
from gommage.core.follow.scene.planes import FittedPlane, fitted_plane, inverse_depths
from gommage.core.follow.scene.tracks import Tracks
from gommage.core.follow.sight import choose_sight
from gommage.core.geometry import Lens, Matrix, Points, ThroughLens, Window, apply_matrix, plane_motion
from gommage.core.picture import Picture, resample
from gommage.errors import FollowError

__all__ = ["PlaneToPolish", "Polished", "polished"]

Floats = NDArray[np.float64]
GRID = 7
EVERY = 3
LEVELS = 3
LEAST_LIKE, LARGEST_SLIP_PX = 0.6, 0.5
"""An alignment is believed from so much correlation on, and up to such an error."""
LEAST_VISIBLE = 0.25
FREEDOMS = 8
"""Of an alignment: a grid's points say no more than so many would."""
WEIGHT = 4.0
"""What one point of the grid counts, against a feature: it is surer, but its neighbours say the same."""
INSET_PX = 4.0


@dataclass(frozen=True, slots=True)
class PlaneToPolish:
    """A plane of a solved scene.

    Attributes
    ----------
    home_frame : int
    area : (N, 2) float64
        What is looked at, home-frame pixels of the picture.
    plane : (3,) float64
        See `gommage.core.follow.scene.planes`.
    """

    home_frame: int
    area: Points
    plane: Floats


@dataclass(frozen=True, slots=True)
class Polished:
    """A solve and planes that agree better with the pictures.

    `before_px` and `after_px` are medians of how far planes were and are off where their texture was found.
    """

    camera: SolvedCamera
    planes: tuple[FittedPlane, ...]
    before_px: float
    after_px: float

    @property
    def is_better(self) -> bool:
        """Whether it is worth taking."""
        return self.after_px < self.before_px


def polished(
    read: Callable[[int], Picture],
    tracks: Tracks,
    camera: SolvedCamera,
    planes: Sequence[PlaneToPolish],
    hidden: Callable[[int], Mask | None] = lambda frame: None,
    progress: Callable[[float], object] = lambda share: None,
    check: Callable[[], None] = lambda: None,
) -> Polished:
    """Return a solve whose planes lie as their texture does.

    Each plane's texture is aligned directly on every third frame, from where the solve puts it; a grid of points that
    move as the alignment says is adjusted together with the features; planes go through their grids.

    Raises
    ------
    FollowError
        If no plane's texture could be aligned.
    """
    grids = [_grid(one, camera.lens) for one in planes]
    count = len(camera.turns)
    rows = sorted({*range(0, count, EVERY), count - 1, *(one.home_frame - camera.first_frame for one in planes)})
    rows = [row for row in rows if camera.frame_error_px.values[row] >= 0]
    looking = _Looking(read, camera, planes, hidden, check)
    places = [np.full((len(grid), count, 2), np.nan) for grid in grids]
    for number, row in enumerate(rows):
        check()
        for one, grid, own in zip(planes, grids, places, strict=True):
            motion = looking.aligned(one, row)
            if motion is not None:
                there = apply_matrix(motion, grid)
                inside = looking.is_inside(there)
                own[inside, row] = camera.lens.bent(there[inside])
        progress(0.8 * (number + 1) / len(rows))
    if not any(np.isfinite(own).any() for own in places):
        raise FollowError(
            "None of these planes could be found on other frames: too little texture, or too much in front."
        )
    before = _plane_errors(camera, planes, [one.plane for one in planes], places)
    better = with_cameras(tracks, camera, np.concatenate(places), np.full(sum(map(len, grids)), WEIGHT), check)
    fresh = _refitted(better.camera, planes, grids, better.extra, places)
    progress(1.0)
    after = _plane_errors(better.camera, planes, [one.plane for one in fresh], places)
    return Polished(better.camera, tuple(fresh), before, after)


def _grid(one: PlaneToPolish, lens: Lens) -> Floats:
    """Return the grid's points inside the area, (K, 2) straight home pixels."""
    low, high = one.area.min(axis=0) + INSET_PX, one.area.max(axis=0) - INSET_PX
    x, y = np.linspace(low[0], high[0], GRID), np.linspace(low[1], high[1], GRID)
    points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    outline = one.area.astype(np.float32)
    inside = [cv2.pointPolygonTest(outline, (float(px), float(py)), False) >= 0 for px, py in points]
    return lens.straightened(points[inside])


class _Looking:
    """Straight pictures, and planes' templates on their home frames."""

    def __init__(
        self,
        read: Callable[[int], Picture],
        camera: SolvedCamera,
        planes: Sequence[PlaneToPolish],
        hidden: Callable[[int], Mask | None],
        check: Callable[[], None],
    ) -> None:
        self._read, self._camera, self._hidden, self._check = read, camera, hidden, check
        self._row, self._picture = -1, np.zeros((0, 0, 3), np.float32)
        self._mask: Mask | None = None
        self._templates = {id(one): self._template(one) for one in planes}

    def _open(self, row: int) -> None:
        if row == self._row:
            return
        frame, lens = self._camera.first_frame + row, self._camera.lens
        picture, mask = self._read(frame), self._hidden(frame)
        bounds = Window.of(picture.shape[1], picture.shape[0])
        if not lens.is_straight:
            bend = _Bend(lens)
            picture = resample(picture, bend.from_straight, bounds)[0]
            if mask is not None:
                mask = bend.mask(mask, bounds)
        self._row, self._picture, self._mask, self._bounds = row, picture, mask, bounds

    def _template(self, one: PlaneToPolish) -> Template | None:
        self._open(one.home_frame - self._camera.first_frame)
        mask = polygon_mask([self._camera.lens.straightened(one.area)], self._bounds)
        if self._mask is not None:
            mask &= (self._mask == 0).astype(np.uint8)
        try:
            sight = choose_sight(self._picture, mask, Channel.BEST)
            return make_template(self._picture, mask, None, sight)
        except FollowError:
            return None

    def is_inside(self, points: Points) -> NDArray[np.bool_]:
        size = self._bounds.width, self._bounds.height
        inside: NDArray[np.bool_] = np.asarray(((points > 1) & (points < np.array(size) - 1)).all(axis=1))
        return inside

    def aligned(self, one: PlaneToPolish, row: int) -> Matrix | None:
        """Return where a plane's straight home pixels are on a frame, by its texture; None where that is not clear."""
        template, camera = self._templates[id(one)], self._camera
        if template is None:
            return None
        self._open(row)
        self._check()
        home = one.home_frame - camera.first_frame
        start = plane_motion(camera.lens, camera.pose(one.home_frame), camera.pose(camera.first_frame + row), one.plane)
        if row == home:
            return np.eye(3)
        if self.is_inside(apply_matrix(start, template.points_inside)).mean() < LEAST_VISIBLE:
            return None
        mask = self._mask

        def allowed(points: Points) -> NDArray[np.bool_]:
            assert mask is not None
            at = np.nan_to_num(points, nan=-1.0).astype(np.intp).clip(0, (mask.shape[1] - 1, mask.shape[0] - 1))
            free: NDArray[np.bool_] = mask[at[:, 1], at[:, 0]] == 0
            return free

        pyramid = make_pyramid(self._picture, min(len(template.levels), LEVELS), template.sight)
        found = align(template, pyramid, start, MotionModel.PERSPECTIVE, levels=LEVELS,
                      allowed=None if mask is None else allowed, check=self._check)  # fmt: skip
        is_clear = found.correlation > LEAST_LIKE and found.slip_px < LARGEST_SLIP_PX
        return found.matrix if is_clear else None


class _Bend:
    """From straight pixels to the picture's."""

    def __init__(self, lens: Lens) -> None:
        from gommage.core.geometry import FieldMapping

        self.from_straight = FieldMapping(("bend", lens.numbers), lens.bent, lens.straightened)

    def mask(self, mask: Mask, bounds: Window) -> Mask:
        there = self.from_straight.field(bounds).astype(np.float32) - np.float32(0.5)
        return cv2.remap(mask, there[..., 0], there[..., 1], cv2.INTER_NEAREST)


def _plane_errors(
    camera: SolvedCamera,
    planes: Sequence[PlaneToPolish],
    values: Sequence[Floats],
    places: Sequence[Floats],
) -> float:
    """Return the median of how far planes are off where their texture was found, px."""
    off = []
    for one, plane, own in zip(planes, values, places, strict=True):
        home = one.home_frame - camera.first_frame
        for row in np.nonzero(np.isfinite(own).any(axis=(0, 2)))[0]:
            motion = plane_motion(
                camera.lens, camera.pose(one.home_frame), camera.pose(camera.first_frame + int(row)), plane
            )
            moved = ThroughLens(camera.lens, motion)(own[:, home])
            off.append(np.hypot(*(moved - own[:, row]).T))
    return float(np.nanmedian(np.concatenate(off)))


def _refitted(
    camera: SolvedCamera,
    planes: Sequence[PlaneToPolish],
    grids: Sequence[Floats],
    points: Floats,
    places: Sequence[Floats],
) -> list[FittedPlane]:
    """Return planes through the points of their grids."""
    out, start = list[FittedPlane](), 0
    for one, grid, own in zip(planes, grids, places, strict=True):
        part = points[start : start + len(grid)]
        start += len(grid)
        directions, inverse = inverse_depths(*camera.pose(one.home_frame), part)
        known = np.isfinite(own[..., 0]).sum(axis=1) >= 3
        fitted = fitted_plane(directions[known], inverse[known], np.ones(int(known.sum())))
        out.append(replace(fitted, covariance=fitted.covariance * (GRID**2 / FREEDOMS)))
    return out
