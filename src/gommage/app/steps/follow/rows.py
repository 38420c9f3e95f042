"""What the Follow step says of areas, spots and what came of a follow."""

from __future__ import annotations

from pathlib import PurePath

import numpy as np

from gommage.app.lists.rows import Row
from gommage.core.document import (
    ByHand,
    FromFile,
    MattePart,
    ScenePlane,
    Scribbled,
    Shared,
    Shot,
    Spot,
    Still,
    Surface,
)
from gommage.core.engine import SurfaceSummary

__all__ = ["area_row", "facts_of", "spot_row"]


def area_row(shot: Shot, name: str, part: MattePart) -> Row:
    """Return the line of an area or a keep-out."""
    source = part.source
    if isinstance(source, Shared):
        return Row(part.id, name, f"{shot.matte(source.matte_id).name}, shared")
    if isinstance(source, FromFile):
        return Row(part.id, name, PurePath(source.path).name)
    if isinstance(source, Scribbled):
        return Row(part.id, name, "scribbles")
    keys = len(source.shape.keys)
    detail = ("rides" if source.surface_id else "stays put") + (f", {keys} keys" if keys > 1 else "")
    return Row(part.id, name, detail)


def spot_row(number: int, spot: Spot, frame: int) -> Row:
    """Return the line of a spot."""
    sure = np.nan
    if spot.path is not None and 0 <= frame - spot.path.first_frame < len(spot.path.certainty):
        sure = spot.path.certainty.values[frame - spot.path.first_frame]
    words = "" if np.isnan(sure) else "hidden here" if sure == 0 else f"{100 * sure:.0f} % alike"
    return Row(spot.id, f"Spot {number}", words)


def facts_of(surface: Surface, known: SurfaceSummary, frame: int) -> list[str]:
    """Return what is to be said of a surface on a frame, line by line."""
    if isinstance(surface.how, Still):
        return [f"Stands still on {known.first}–{known.last}"]
    way = "In the solved scene" if isinstance(surface.how, ScenePlane) else "Followed"
    followed = "" if isinstance(surface.how, ByHand) else f"{way} {known.first}–{known.last}, "
    pinned = f", {len(surface.pins)} pinned" if surface.pins else ""
    words = [f"{followed}home {surface.home_frame}{pinned}"]
    row = known.row(frame)
    if row is not None:
        words.append(f"Slip {known.slip_px[row]:.2f} px here, {known.worst_px:.2f} px at most")
        if known.reasons[row]:
            words.append(f"Here: {known.reasons[row]}")
    else:
        words.append(f"Not on this frame; slip {known.worst_px:.2f} px at most")
    for reason, end in ((known.before, known.first), (known.after, known.last)):
        if reason:
            words.append(f"Ended at {end}: {reason}")
    return words
