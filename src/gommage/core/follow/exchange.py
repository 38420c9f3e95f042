"""Follows as files for other programs: CSV and JSON, one row a frame; see docs/tracks.md."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from gommage.core.disk import read_file, reason, write_whole
from gommage.core.document import Array, FrameRange, Placement, Surface, Track, store
from gommage.core.geometry import fitted, moved
from gommage.errors import FollowError

__all__ = ["read_track", "write_track"]

LARGEST_FILE = 200 * 2**20
FORMAT = "gommage-track"
VERSION = 1
CORNERS = [f"corner{number}_{axis}" for number in range(1, 5) for axis in "xy"]
MATRIX = [f"m{row}{column}" for row in range(1, 4) for column in range(1, 4)]
SLIPS = [f"slip{number}" for number in range(1, 5)]
COLUMNS = ["frame", *CORNERS, *MATRIX, *SLIPS, "certainty", "reason"]


def write_track(path: Path, surface: Surface, placed: Placement, size_wh: tuple[int, int]) -> None:
    """Write where a surface is to a file, by its ending: ``.csv`` or ``.json``.

    Parameters
    ----------
    path : Path
    surface : Surface
        Its name, home frame and corners go along.
    placed : Placement
        Its placement.
    size_wh : tuple of int
        The shot's size in pixels.

    Raises
    ------
    FollowError
        If the file cannot be written or the ending is another.
    """
    rows = list(_rows(surface, placed))
    if path.suffix.lower() == ".csv":
        text = _as_csv(rows).encode()
    elif path.suffix.lower() == ".json":
        text = _as_json(rows, surface, size_wh)
    else:
        raise FollowError(f"{path.name}: a follow is written as .csv or .json.")
    try:
        write_whole(path, text)
    except OSError as error:
        raise FollowError(f"{path.name} could not be written: {reason(error, path)}.") from error


def _rows(surface: Surface, placed: Placement) -> Iterable[dict[str, Any]]:
    corners = surface.corners
    for frame in placed.frames:
        if not placed.is_placed(frame):
            continue
        row = frame - placed.frames.first
        matrix = placed.matrices[row]
        yield {
            "frame": frame,
            "corners": [[round(float(value), 4) for value in point] for point in moved(matrix, corners)],
            "home_to_frame": [[float(f"{value:.12g}") for value in line] for line in matrix],
            "corner_slip_px": [round(float(value), 4) for value in placed.corner_slip_px[row]],
            "certainty": round(float(placed.certainty[row]), 4),
            "reason": placed.reasons[row],
        }


def _as_csv(rows: list[dict[str, Any]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for row in rows:
        flat = [value for point in row["corners"] for value in point]
        flat += [value for line in row["home_to_frame"] for value in line]
        writer.writerow([row["frame"], *flat, *row["corner_slip_px"], row["certainty"], row["reason"]])
    return out.getvalue()


def _as_json(rows: list[dict[str, Any]], surface: Surface, size_wh: tuple[int, int]) -> bytes:
    plain = {
        "format": FORMAT,
        "version": VERSION,
        "name": surface.name,
        "home_frame": surface.home_frame,
        "width": size_wh[0],
        "height": size_wh[1],
        "home_corners": surface.corners.tolist(),
        "frames": rows,
    }
    return store.encoded(plain, is_readable=True)


def read_track(path: Path, surface: Surface, within: FrameRange | None = None) -> Track:
    """Read a track for a surface from a file that `write_track` or another program wrote.

    Matrices are taken where there are any; with corners alone, those of the surface's home frame are where it is at
    home. Frames must follow each other.

    Parameters
    ----------
    path : Path
    surface : Surface
        Whose track it becomes. In a file with matrices the home frame must be the same.
    within : FrameRange, optional
        The shot's frames; others are left out.

    Raises
    ------
    FollowError
        If the file is not there, not a follow, or does not fit.
    """
    try:
        text = read_file(path, LARGEST_FILE).decode()
    except OSError as error:
        raise FollowError(f"{path.name} could not be read: {reason(error, path)}.") from error
    except ValueError as error:
        raise FollowError(f"{path.name} could not be read: it is not text.") from error
    try:
        rows = _from_json(text) if path.suffix.lower() == ".json" else _from_csv(text)
        track = _track(rows, surface)
    except (*store.DAMAGED, csv.Error) as error:
        raise FollowError(f"{path.name} is not a follow that can be read ({error}).") from error
    return track if within is None else _cut(track, within, path)


def _cut(track: Track, within: FrameRange, path: Path) -> Track:
    own = track.frames
    first, last = max(own.first, within.first), min(own.last, within.last)
    if first > last:
        raise FollowError(
            f"{path.name} has frames {own.first}–{own.last}; the shot has {within.first}–{within.last}, none of them."
        )
    return track.part(FrameRange(first=first, last=last))


def _from_json(text: str) -> list[dict[str, Any]]:
    plain = store.decoded(text.encode())
    if not isinstance(plain, dict) or plain.get("format") != FORMAT:
        raise ValueError(f'it does not say "format": "{FORMAT}"')
    if plain["version"] > VERSION:
        raise ValueError(f"it is of version {plain['version']}, this program reads up to {VERSION}")
    return list(plain["frames"])


def _from_csv(text: str) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = []
    for line in csv.DictReader(io.StringIO(text)):
        row: dict[str, Any] = {"frame": int(line["frame"])}
        if all(line.get(name) for name in MATRIX):
            row["home_to_frame"] = np.array([float(line[name]) for name in MATRIX]).reshape(3, 3).tolist()
        else:
            row["corners"] = np.array([float(line[name]) for name in CORNERS]).reshape(4, 2).tolist()
        if all(line.get(name) for name in SLIPS):
            row["corner_slip_px"] = [float(line[name]) for name in SLIPS]
        row["certainty"] = float(line.get("certainty") or 1.0)
        row["reason"] = line.get("reason") or ""
        rows.append(row)
    return rows


def _track(rows: list[dict[str, Any]], surface: Surface) -> Track:
    if not rows:
        raise ValueError("it holds no frames")
    rows = sorted(rows, key=lambda row: row["frame"])
    frames = [int(row["frame"]) for row in rows]
    if len(frames) != frames[-1] - frames[0] + 1 or frames != list(FrameRange(first=frames[0], last=frames[-1])):
        raise ValueError("its frames do not follow each other")
    matrices = np.array([_matrix(row, surface) for row in rows])
    if not np.isfinite(matrices).all() or (np.abs(np.linalg.det(matrices)) < 1e-12).any():
        raise ValueError("a matrix in it is no motion of a plane")
    certainty = [min(max(float(row.get("certainty", 1.0)), 0.0), 1.0) for row in rows]
    slips = [row.get("corner_slip_px", [0.0] * 4) for row in rows]
    if not all(math.isfinite(value) for line in slips for value in line):
        raise ValueError("a slip in it is not a number")
    return Track(
        first_frame=frames[0],
        home_to_frame=Array(matrices / matrices[:, 2:, 2:]),
        corner_slip_px=Array(slips),
        certainty=Array(certainty),
        reasons=tuple(str(row.get("reason", "")) for row in rows),
    )


def _matrix(row: dict[str, Any], surface: Surface) -> Any:
    if "home_to_frame" in row:
        return np.array(row["home_to_frame"], float).reshape(3, 3)
    return fitted(surface.corners, np.array(row["corners"], float).reshape(4, 2))
