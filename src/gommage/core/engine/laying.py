"""Pictures that are laid on a surface: what their files are, and where they lie to begin with."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from gommage.core.cover import matte_on
from gommage.core.document import Array, Fix, Footage, FrameOffset, PinnedFrame, Placed, Shot, mappings_of
from gommage.core.engine.plate_files import stamp_of
from gommage.core.geometry import Mapping, Points, box_of, from_matrix, square_on, then
from gommage.core.picture import probe
from gommage.errors import FootageError

__all__ = ["find_picture", "fitted_corners", "near_frame", "picture_stamp", "watched_file"]

MOST_SHARE = 0.6
"""A picture that nothing says where to lay is at most so large a share of the frame."""
Check = Callable[[], None]


def find_picture(shot: Shot, fix: Fix | None, surface_id: str, path: Path, frame: int, check: Check) -> Placed:
    """Return how a picture is laid that was made elsewhere.

    One of the shot's size shows the shot: numbered ones lie frame on frame, a still where it was filmed on the frame in
    hand. All others are fitted to the cover, or laid in the middle of the surface.

    Parameters
    ----------
    shot : Shot
    fix : Fix or None
        Whose cover it is fitted to.
    surface_id : str
        That it is laid on; empty: the frame.
    path : Path
        A still, any file of a numbered sequence, or a movie.
    frame : int
    check : callable

    Raises
    ------
    FootageError
        If it cannot be read.
    """
    footage = probe(path, check).footage
    footage = replace(footage, keep_alpha=True, stamp=picture_stamp(footage))
    is_of_shot = (footage.width, footage.height) == (shot.footage.width, shot.footage.height)
    count, first = len(footage.frames), footage.frames.first
    time = PinnedFrame(frame=first) if count == 1 else FrameOffset(frames=_offset(footage, shot.footage))
    if is_of_shot and count > 1:
        corners = Array(footage.bounds.corners)
        return Placed(corners=corners, footage=footage, time=time, runs_along=False, is_of_shot=True)
    fill = Placed(corners=Array(footage.bounds.corners), footage=footage, time=time, is_of_shot=is_of_shot)
    if is_of_shot:
        return replace(fill, corners=Array(_home_to(shot, surface_id, frame).inverse()(footage.bounds.corners)))
    return replace(fill, corners=Array(fitted_corners(footage, shot, fix, surface_id, frame)))


def _home_to(shot: Shot, surface_id: str, frame: int) -> Mapping:
    found = mappings_of(shot)(surface_id, frame)
    if found is None:
        name = shot.surface(surface_id).name
        raise FootageError(f"{name} is not followed to frame {frame}; nothing can lie there.", "")
    return found


def _offset(footage: Footage, of_shot: Footage) -> int:
    """Return by how many a picture's numbers are the shot's."""
    own, others = footage.frames, of_shot.frames
    return 0 if own.first <= others.last and others.first <= own.last else own.first - others.first


def watched_file(footage: Footage) -> Path:
    """Return what changes on disk when a picture is saved anew: its file, or the folder of numbered ones."""
    path = Path(footage.path)
    return path.parent if "#" in path.name else path


def picture_stamp(footage: Footage) -> str:
    """Return what tells one state of a picture's files from another: of numbered ones how many there are, and when the
    last was written; what else lies in their folder does not matter.
    """
    path = Path(footage.path)
    if "#" not in path.name:
        return stamp_of(path)
    written = []
    for one in path.parent.glob(path.name.replace("#", "?")):
        with contextlib.suppress(OSError):  # it was taken away meanwhile
            written.append(one.stat().st_mtime_ns)
    return f"{max(written, default=0):x}-{len(written):x}"


def near_frame(shot: Shot, surface_id: str, frame: int, laid: int) -> Placed:
    """Return how another frame of the shot is laid over one: in register along the surface, always that frame."""
    is_known = not surface_id or None not in (mappings_of(shot)(surface_id, one) for one in (frame, laid))
    return Placed(corners=Array(shot.footage.bounds.corners), time=PinnedFrame(frame=laid), is_of_shot=True,
                  runs_along=is_known)  # fmt: skip


def fitted_corners(footage: Footage, shot: Shot, fix: Fix | None, surface_id: str, frame: int) -> Points:
    """Return where a picture's corners lie in home pixels of a surface, (4, 2), so that it fills the box of a cover.

    It keeps its proportions as seen square-on. Without a cover it lies in the middle of the surface, or of the frame.

    Raises
    ------
    FootageError
        If the surface is not followed to the frame.
    """
    here = _home_to(shot, surface_id, frame)
    surface = shot.surface(surface_id) if surface_id else None
    level: Mapping = from_matrix(square_on(surface.corners) if surface is not None else np.eye(3))
    wide, high = footage.width * footage.pixel_aspect, float(footage.height)
    lines = [] if fix is None else matte_on(shot, fix.cover, frame).outlines
    box: Points
    if lines:
        box = box_of(then(here.inverse(), level)(np.vstack(lines)))
        scale = float(max(np.ptp(box[:, 0]) / wide, np.ptp(box[:, 1]) / high))
    else:
        box = box_of(level(surface.corners)) if surface is not None else shot.footage.bounds.corners
        most = MOST_SHARE if surface is None else 1.0
        fits = most * float(min(np.ptp(box[:, 0]) / wide, np.ptp(box[:, 1]) / high))
        scale = fits if surface is not None else min(fits, 1.0)
    half = scale * np.array([wide, high]) / 2
    corners = box.mean(axis=0) + half * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]])
    return np.asarray(level.inverse()(corners))
