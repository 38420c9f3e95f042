"""Smooth what was measured."""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace

from gommage.core.document import Array, FrameRange, Surface, Track
from gommage.core.geometry import Points, fitted_stack, moved, normal

__all__ = ["smoothed"]


def smoothed(track: Track, surface: Surface, frames: FrameRange, strength_frames: float) -> Track:
    """Return a track with a range of frames made smoother; outside the range nothing changes.

    The surface's corners are averaged along the frames with a Gaussian. A straight line stays as it is, and at the
    ends of the range the change fades to nothing.

    Parameters
    ----------
    track : Track
    surface : Surface
        Its corners are what is averaged.
    frames : FrameRange
        The range.
    strength_frames : float
        Deviation of the Gaussian.

    Raises
    ------
    ValueError
        If the range holds less than three followed frames or the strength is not above 0.
    """
    if strength_frames <= 0:
        raise ValueError(f"the strength must be above 0 frames, got {strength_frames}")
    first, last = max(frames.first, track.frames.first), min(frames.last, track.frames.last)
    if last - first < 2:
        raise ValueError(f"there are less than three followed frames in {frames.first}–{frames.last}")
    corners = surface.corners
    low, high = first - track.first_frame, last - track.first_frame + 1
    matrices = track.home_to_frame.values.copy()
    paths = moved(matrices[low:high], corners)
    smooth = _local_lines(paths, strength_frames)
    fade = np.minimum(np.arange(high - low), np.arange(high - low)[::-1]) / max(2 * strength_frames, 1.0)
    share = np.clip(fade, 0, 1)[:, None, None]
    matrices[low:high] = normal(fitted_stack(corners, paths + (smooth - paths) * share))
    return replace(track, home_to_frame=Array(matrices))


def _local_lines(paths: Points, deviation: float) -> Points:
    """Return paths (N, ...) with each value taken from a line fitted to its neighbours, weighed by a Gaussian."""
    count = len(paths)
    at = np.arange(count)
    flat = paths.reshape(count, -1)
    out = np.empty_like(flat)
    for index in range(count):
        weight = np.exp(-0.5 * ((at - index) / deviation) ** 2)
        design = np.column_stack([np.ones(count), at - index])
        normal = design.T @ (design * weight[:, None])
        out[index] = np.linalg.solve(normal + 1e-12 * np.eye(2), design.T @ (flat * weight[:, None]))[0]
    return out.reshape(paths.shape)
