"""A key that is proposed for a drawn shape: its outline laid along the edge that it was drawn on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gommage.core.cover.reshaping import moved_together
from gommage.core.cover.snapping import snapped
from gommage.core.document import Drawn, MattePart, Shape, Shot
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.inputs import mappings_of
from gommage.errors import EditError

__all__ = ["proposed_key"]


def proposed_key(
    engine: Engine, shot: Shot, part: MattePart, frame: int, reach_px: float, check: Callable[[], None] = lambda: None
) -> tuple[NDArray[np.float64], float]:
    """Return vertices for a drawn part on a frame, as its edge is there, and how sure they are.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    part : MattePart
        A drawn one.
    frame : int
    reach_px : float
        So far from where the outline is now its edge is looked for, in pixels of the frame.
    check : callable

    Returns
    -------
    vertices : (N, 8) float64
        In pixels of what the part rides on.
    certainty : float
        0 to 1.

    Raises
    ------
    EditError
        If the part was not drawn, or what it rides on is not known on the frame.
    """
    if not isinstance(part.source, Drawn):
        raise EditError("Only what was drawn has an outline that could be laid along an edge.")
    shape, mapping_of = part.source.shape, mappings_of(shot)
    here = mapping_of(part.source.surface_id, frame)
    if here is None:
        raise EditError(f"{shot.surface(part.source.surface_id).name} is not followed to frame {frame}.")
    known = _drawn_on(shape, frame)
    drawn_on = None
    if known is not None:
        there = mapping_of(part.source.surface_id, known)
        if there is not None:
            drawn_on = _moved(shape.vertices_at(known), there), engine.pictures.plate(shot.footage, known, 0, check)
    check()
    picture = engine.pictures.plate(shot.footage, frame, 0, check)
    now = _moved(shape.vertices_at(frame), here)
    found, certainty = snapped(now, shape.kinds, picture, reach_px, is_closed=shape.is_closed, drawn_on=drawn_on)
    check()
    return _moved(found, here.inverse()), certainty


def _drawn_on(shape: Shape, frame: int) -> int | None:
    """Return the frame of the nearest key that was set by hand, but for the frame itself."""
    frames = [key.frame for key in shape.keys if not key.is_measured and key.frame != frame]
    return min(frames, key=lambda one: abs(one - frame)) if frames else None


def _moved(vertices: NDArray[np.float64], mapping: Any) -> NDArray[np.float64]:
    return moved_together(vertices, range(len(vertices)), mapping)
