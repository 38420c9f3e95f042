"""Find a wire near a rough line, and find it again on other frames."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points, evenly, lengths_along, plain
from gommage.core.picture import Picture, encoded

__all__ = ["Wire", "find_wire", "known_wire", "smooth_line", "wire_again"]

Values = NDArray[np.float64]
MIXTURES = np.array([[0.3, 0.5, 0.2], [1.0, -1.0, 0.0], [-0.5, -0.5, 1.0]])
"""What of a picture is looked at: luma, red against green, blue against both."""
WIDTHS_PX = (1.5, 3.0, 6.0, 12.0)
SIDE_GAP_PX, SIDE_PX = 1.5, 3.0
"""A wire is compared with strips on both sides that begin so far off its rim and are so wide."""
CLICK_PX, STROKE_PX, MOST_SAG, LEAST_SAG_PX = 6, 12, 0.1, 12
"""So far off a click or a stroke a wire is looked for; and it sags by that share of its length."""
MOVE_PX, SAG_MOVE_PX, BEND_PX = 7, 5, 2
"""From frame to frame its ends may differ so much from what was expected, its sag and its bend."""
KNOT_PX, SNAP_PX, STIFFNESS, MOST_SNAPPED = 120, 1.5, 0.005, 1.2
POINT_PX = 56
"""Points on a wire are so far apart: a smooth curve through them is within a tenth of a pixel of it."""
CLIP = 3.0
ALONG_PX = 41
LEAST_SHARE, MOST_SHARE, LEAST_CLEAR, LEAST_VOTE = 0.45, 1.9, 2.0, 1.4
"""Of its contrast as expected, of its peak over the spread beside it, and of its vote over all others': below or beyond
these a wire is not believed."""
STEADY = 0.15
"""So fast what is expected of its contrast follows what is seen."""


@dataclass(frozen=True, slots=True)
class Wire:
    """A wire on a frame.

    Attributes
    ----------
    points : (K, 2) float64
        On its middle, at even shares of its length; a smooth curve runs through them.
    width_px, covering_px : float
        Between the flanks at half its contrast, and as far as it can be seen.
    mixture : (3,) float64
        Of channels, in which it is darker than what is beside it.
    contrast : (S,) float64
        How much, along it, at even shares: as expected.
    seen : float
        Share of its length that was found as expected, 0 to 1.
    doubt : str
        What speaks against it, in words; empty if nothing does.
    """

    points: Points
    width_px: float
    covering_px: float
    mixture: Values
    contrast: Values
    seen: float = 1.0
    doubt: str = ""


@dataclass(frozen=True, slots=True)
class _Band:
    """What lies along a line, straightened: `pixels` (rows, S, 3) encoded, `shown` (rows, S); see `banded`."""

    line: Points
    normals: Points
    pixels: Picture
    shown: NDArray[np.bool_]

    @property
    def middle(self) -> int:
        """The row of the line itself."""
        return (self.pixels.shape[0] - 1) // 2

    def at(self, rows: Values) -> Points:
        """Return places (S, 2) in the picture, given a row in each column."""
        return self.line + (rows - self.middle)[:, None] * self.normals


def _band(picture: Picture, at: tuple[int, int], line: Points, reach: int) -> _Band:
    from gommage.core.picture.kernels import banded  # compiled code is loaded late

    ahead = np.gradient(line, axis=0)
    ahead /= np.maximum(np.hypot(*ahead.T), 1e-9)[:, None]
    normals = np.column_stack([ahead[:, 1], -ahead[:, 0]])
    known = np.ones(picture.shape[:2], bool)
    pixels, shown = banded(plain(picture), known, line - at, normals, reach)
    return _Band(line, normals, encoded(pixels), shown)


def even_line(points: Points) -> Points:
    """Return points (S, 2) a pixel apart along straight pieces between points (N, 2)."""
    return evenly(points, max(int(np.ceil(lengths_along(points)[-1])) + 1, 16))


def smooth_line(points: Points) -> Points:
    """Return points (S, 2) a pixel apart along the smooth curve through points (K, 2)."""
    if len(points) < 3:
        return even_line(points)
    at = lengths_along(points)
    from scipy.interpolate import make_interp_spline

    fine = make_interp_spline(at, points, k=min(3, len(points) - 1))(np.linspace(0, at[-1], max(int(at[-1] / 2), 32)))
    return even_line(np.asarray(fine))


# -- responses ----------------------------------------------------------------------------------------------


def _response(values: Picture, shown: NDArray[np.bool_], width_px: float) -> Picture:
    """Return by how much each place of a band is darker than both of its sides, (rows, S)."""
    inner = _strip(values, 0.0, width_px)
    off = width_px / 2 + SIDE_GAP_PX + SIDE_PX / 2
    sides = [_strip(values, sign * off, SIDE_PX) for sign in (-1, 1)]
    found = np.minimum(sides[0], sides[1]) - inner
    found[~shown] = 0
    return cv2.blur(found, (7, 1))


def _strip(values: Picture, off: float, wide: float) -> Picture:
    """Return means across a strip of rows, so far off and so wide."""
    reach = int(np.ceil(abs(off) + wide / 2)) + 1
    rows = np.arange(-reach, reach + 1)
    low, high = off - wide / 2, off + wide / 2
    kernel = np.clip(np.minimum(rows + 0.5, high) - np.maximum(rows - 0.5, low), 0, 1)
    return cv2.filter2D(values, -1, (kernel / kernel.sum())[:, None], borderType=cv2.BORDER_REPLICATE)


def _spread(response: Picture, shown: NDArray[np.bool_]) -> float:
    """Return how far responses spread where anything is shown."""
    values = response[shown][::7]
    return float(1.4826 * np.median(np.abs(values - np.median(values)))) + 1e-5 if len(values) else 1e-5


def _clipped(response: Picture, spread: float) -> Picture:
    return np.clip(response, -spread, CLIP * spread)


# -- the first frame ----------------------------------------------------------------------------------------


def find_wire(picture: Picture, stroke: Points, at: tuple[int, int] = (0, 0)) -> Wire | None:
    """Return the wire that two clicks or a rough stroke mean; None if nothing like one is there.

    Its whole length votes for offsets of both ends, a sag and a bend, of each width, dark and light, in luma and in
    colour; what wins is laid along what responds most.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Scene-linear.
    stroke : (N, 2) float64
    at : tuple of int
        Where the picture's first pixel lies.
    """
    is_clicked = len(stroke) == 2
    line = even_line(np.asarray(stroke, np.float64))
    ends = CLICK_PX if is_clicked else STROKE_PX
    most_sag = max(MOST_SAG * len(line), LEAST_SAG_PX) if is_clicked else STROKE_PX
    band = _band(picture, at, line, int(most_sag) + ends + 24)
    best: tuple[float, Values, Values, float] | None = None
    for mixture in MIXTURES:
        for sign in (1.0, -1.0):
            mixed = np.ascontiguousarray(band.pixels @ (sign * mixture).astype(np.float32))
            for width in WIDTHS_PX:
                found = _voted(mixed, band, width, float(ends), most_sag)
                if found is not None and (best is None or found[0] > best[0]):
                    best = found[0], found[1], sign * mixture, width
    if best is None or best[0] < LEAST_VOTE:
        return None
    _, rows, mixture, width = best
    mixed = np.ascontiguousarray(band.pixels @ mixture.astype(np.float32))
    rows = _snap(_response(mixed, band.shown, width), band.shown, rows)
    return _told(band, rows, mixture)


def _voted(mixed: Picture, band: _Band, width: float, ends: float, most_sag: float) -> tuple[float, Values] | None:
    """Return how clearly a wire of some width is voted for, and its rows."""
    from gommage.core.follow.wires.kernels import most_votes  # compiled code is loaded late

    response = _response(mixed, band.shown, width)
    spread = _spread(response, band.shown)
    clipped = _clipped(response, spread)
    step = max(len(band.line) // 96, 1)
    about = np.arange(-ends, ends + 0.5, 2.0)
    sags = np.arange(-most_sag, most_sag + 0.5, 2.0)
    votes = most_votes(clipped, float(band.middle), about, about, sags, np.zeros(1), step)
    clear = (float(votes.max()) - float(votes.mean())) / max(float(votes.std()), 1e-6)
    start, end, sag, _ = (int(one) for one in np.unravel_index(int(votes.argmax()), votes.shape))
    offsets = _refined(clipped, float(band.middle), [about[start], about[end], sags[sag], 0.0], step)
    rows = _rows_of(offsets, len(band.line), band.middle)
    height = float(votes.max()) / spread
    return (min(clear / 2, height), rows) if height > 0 else None


def _refined(clipped: Picture, middle: float, offsets: list[float], step: int) -> list[float]:
    """Return offsets (start, end, sag, bend) nearer to where most votes are."""
    from gommage.core.follow.wires.kernels import most_votes  # compiled code is loaded late

    for pace in (1.0, 0.5, 0.25):
        about = [offset + np.array([-pace, 0.0, pace]) for offset in offsets]
        for _ in range(3):
            votes = most_votes(clipped, middle, *about, max(step // 2, 1))
            best = np.unravel_index(int(votes.argmax()), votes.shape)
            about = [one[where] + np.array([-pace, 0.0, pace]) for one, where in zip(about, best, strict=True)]
        offsets = [float(one[1]) for one in about]
    return offsets


def _rows_of(offsets: list[float], count: int, middle: int) -> Values:
    """Return the row in each column of a line with offsets (start, end, sag, bend)."""
    start, end, sag, bend = offsets
    u = np.linspace(0, 1, count)
    return middle + start + (end - start) * u + sag * 4 * u * (1 - u) + bend * 10.39 * u * (1 - u) * (1 - 2 * u)


def _snap(response: Picture, shown: NDArray[np.bool_], rows: Values) -> Values:
    """Return rows along what responds most near those given."""
    from gommage.core.follow.wires.kernels import snapped  # compiled code is loaded late

    spread, count = _spread(response, shown), len(rows)
    at = np.clip(rows.round().astype(int), 2, response.shape[0] - 3)
    peaks = np.max([response[at + by, np.arange(count)] for by in range(-2, 3)], axis=0)
    most = max(MOST_SNAPPED * float(np.quantile(peaks, 0.75)), CLIP * spread)  # no single place outweighs the others
    knots = np.unique(np.linspace(0, count - 1, max(round(count / KNOT_PX), 2) + 1).round().astype(np.int64))
    for reach, pace in ((SNAP_PX, 0.5), (0.5, 0.125)):
        moves = np.arange(-reach, reach + pace / 2, pace)
        by = snapped(np.clip(response, -spread, most) / most, rows, knots, moves, STIFFNESS)
        rows = rows + _through(knots, by, count)
    return rows


def _through(knots: NDArray[np.int64], by: Values, count: int) -> Values:
    if len(knots) < 3:
        return np.interp(np.arange(count), knots, by)
    from scipy.interpolate import PchipInterpolator

    return np.asarray(PchipInterpolator(knots, by)(np.arange(count)))


# -- what is told of it -------------------------------------------------------------------------------------


def _told(band: _Band, rows: Values, mixture: Values, before: Wire | None = None) -> Wire:
    """Return a wire that lies at some rows of a band, with its width and contrast."""
    count = len(rows)
    mixed = np.ascontiguousarray(band.pixels @ mixture.astype(np.float32))
    profile = _profile(mixed, band.shown, rows)
    width, covering = _widths(profile) if before is None else (before.width_px, before.covering_px)
    along = _along(_response(mixed, band.shown, width), rows)
    places = band.at(rows)
    knots = max(round(count / POINT_PX), 2) + 1 if before is None else len(before.points)
    shares = np.linspace(0, count - 1, knots)
    points = np.column_stack([np.interp(shares, np.arange(count), places[:, k]) for k in range(2)])
    return Wire(points, width, covering, mixture, along)


def _profile(mixed: Picture, shown: NDArray[np.bool_], rows: Values, reach: int = 14) -> Values:
    """Return the median of what lies across a line, (2 reach + 1,), the line itself in the middle."""
    columns = np.arange(len(rows))
    found = []
    for off in range(-reach, reach + 1):
        at = np.clip(rows + off, 0, mixed.shape[0] - 1.001)
        row, part = at.astype(int), at - at.astype(int)
        values = mixed[row, columns] * (1 - part) + mixed[row + 1, columns] * part
        here = shown[row, columns]
        found.append(float(np.median(values[here])) if here.any() else np.nan)
    return np.nan_to_num(np.array(found), nan=float(np.nanmedian(found)) if np.isfinite(found).any() else 0.0)


def _widths(profile: Values) -> tuple[float, float]:
    """Return how wide a dark line is at half its contrast, and at an eighth."""
    reach = (len(profile) - 1) // 2
    beside = float(np.median(np.concatenate([profile[: reach // 2], profile[-(reach // 2) :]])))
    depth = beside - profile
    deepest = float(depth[reach - 2 : reach + 3].max())
    if deepest <= 0:
        return WIDTHS_PX[0], WIDTHS_PX[0] + 2

    def width_at(share: float) -> float:
        ends = []
        for way in (-1, 1):
            for step in range(1, reach + 1):
                here, last = depth[reach + way * step], depth[reach + way * (step - 1)]
                if here < share * deepest:
                    ends.append(step - 1 + (last - share * deepest) / max(last - here, 1e-9))
                    break
            else:
                ends.append(float(reach))
        return float(sum(ends))

    return max(width_at(0.5), 1.0), max(width_at(0.125), 2.0)


def _along(response: Picture, rows: Values) -> Values:
    """Return the response along a line, smoothed: (S,)."""
    at = np.clip(rows, 0, response.shape[0] - 1.001)
    row, part, columns = at.astype(int), at - at.astype(int), np.arange(len(rows))
    values = response[row, columns] * (1 - part) + response[row + 1, columns] * part
    side = min(ALONG_PX, len(values) // 2 * 2 - 1)
    return np.asarray(cv2.blur(values.astype(np.float32)[None], (side, 1))[0], np.float64)


# -- other frames -------------------------------------------------------------------------------------------


def wire_again(picture: Picture, wire: Wire, expected: Points, at: tuple[int, int] = (0, 0)) -> Wire:
    """Return a wire on another frame, near where it is expected; where it is not believed it says why and stays there.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Scene-linear.
    wire : Wire
        As it was found before.
    expected : (K, 2) float64
        Where its points would be.
    at : tuple of int
        Where the picture's first pixel lies.
    """
    from gommage.core.follow.wires.kernels import most_votes  # compiled code is loaded late

    band = _band(picture, at, smooth_line(expected), MOVE_PX + SAG_MOVE_PX + BEND_PX + 20)
    mixed = np.ascontiguousarray(band.pixels @ wire.mixture.astype(np.float32))
    response = _response(mixed, band.shown, wire.width_px)
    count, spread = len(band.line), _spread(response, band.shown)
    wanted = np.interp(np.linspace(0, 1, count), np.linspace(0, 1, len(wire.contrast)), wire.contrast)
    usual = np.maximum(wanted, spread).astype(np.float32)
    clipped = np.clip(response / usual, -0.5, 1.5)
    clipped *= np.minimum(usual / spread, CLIP)  # where little contrast is expected little is voted
    step = max(count // 96, 1)
    about, sags = np.arange(-MOVE_PX, MOVE_PX + 0.5), np.arange(-SAG_MOVE_PX, SAG_MOVE_PX + 0.5)
    bends = np.array([-float(BEND_PX), 0.0, float(BEND_PX)])
    votes = most_votes(clipped, float(band.middle), about, about, sags, bends, step)
    best = np.unravel_index(int(votes.argmax()), votes.shape)
    clear = (float(votes.max()) - float(votes.mean())) / max(float(votes.std()), 1e-6)
    values = [float(one[where]) for one, where in zip((about, about, sags, bends), best, strict=True)]
    rows = _rows_of(_refined(clipped, float(band.middle), values, step), count, band.middle)
    rows = _snap(response, band.shown, rows)
    along = _along(response, rows)
    share = along / np.maximum(wanted, 1e-6)
    inside = band.shown[np.clip(rows.round().astype(int), 0, band.shown.shape[0] - 1), np.arange(count)]
    believed = (share > LEAST_SHARE) & (share < MOST_SHARE) & (along > LEAST_CLEAR * spread / np.sqrt(7))
    seen = float(believed[inside].mean()) if inside.any() else 0.0
    found = replace(_told(band, rows, wire.mixture, wire), contrast=wire.contrast, seen=seen)
    doubt = partial(replace, found, points=np.asarray(expected, np.float64))
    if not inside.any():
        return doubt(doubt="it is out of the picture")
    if seen < 0.5:
        return doubt(doubt="most of it is hidden, or looks like what is behind it")
    if clear < LEAST_VOTE:
        return doubt(doubt="something else beside it looks as much like it")
    usual_now = np.where(believed, wanted + STEADY * (along - wanted), wanted)
    return replace(found, contrast=usual_now)


def known_wire(picture: Picture, line: Points, count: int, width_px: float, at: tuple[int, int] = (0, 0)) -> Wire:
    """Return the wire that lies along a line, as a hand has put it: what it looks like there.

    Parameters
    ----------
    picture : (h, w, 3) float32
    line : (N, 2) float64
        Many points along it.
    count : int
        So many points it shall have, at even shares of its length.
    width_px : float
        About how wide it is at half its contrast.
    at : tuple of int
        Where the picture's first pixel lies.
    """
    band = _band(picture, at, even_line(np.asarray(line, np.float64)), 24)
    rows = np.full(len(band.line), float(band.middle))
    seen = band.shown[band.middle]
    best: tuple[float, Values, Values] | None = None
    for mixture in MIXTURES:
        for sign in (1.0, -1.0):
            mixed = np.ascontiguousarray(band.pixels @ (sign * mixture).astype(np.float32))
            response = _response(mixed, band.shown, width_px)
            near = _snap(response, band.shown, rows)
            spread = _spread(response, band.shown)
            along = _along(_clipped(response, spread), near)
            score = float(along[seen].mean()) / spread if seen.any() else 0.0
            if best is None or score > best[0]:
                best = score, near, sign * mixture
    assert best is not None
    found = _told(band, best[1], best[2])
    shares = np.linspace(0, len(band.line) - 1, count)
    places = band.at(best[1])
    points = np.column_stack([np.interp(shares, np.arange(len(places)), places[:, k]) for k in range(2)])
    return replace(found, points=points)
