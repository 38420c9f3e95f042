"""Surfaces that propose themselves round the things of several shots, held against the true planes."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import PlaneFollow, Project, Surface, edits, placement
from gommage.core.document.records import Matte, Shape
from gommage.core.engine import Engine, find_pieces, followed
from gommage.core.geometry import Points
from gommage.demo.shots import SHOTS

__all__ = ["CASES", "PieceFigures", "judged_pieces", "pieces_markdown"]

EVERY = 6
SPREAD = 5


@dataclass(frozen=True, slots=True)
class Case:
    """A thing on a frame, and where points of the plane behind it truly are on another frame.

    Attributes
    ----------
    shot, frame : str, int
    thing : callable
        From the shot to what is drawn round it, (N, 2).
    moved : callable
        From the shot, points (N, 2) of the frame and another frame to where they truly are.
    """

    shot: str
    frame: int
    plane: str
    thing: Callable[[Any], Points]
    moved: Callable[[Any, Points, int], Points]


@dataclass(frozen=True, slots=True)
class PieceFigures:
    """The first surface that proposed itself: how far it is off the true plane as it is followed, after how long."""

    name: str
    plane: str
    offered: int
    seconds: float
    trust_px: float
    off_px: float
    frames: int

    @property
    def is_right(self) -> bool:
        """Whether it is the plane that it should be: another one would be pixels off."""
        return self.off_px < 1.0


def _grown(points: Points, by: float) -> Points:
    middle = points.mean(axis=0)
    return np.asarray(middle + by * (points - middle), np.float64)


CASES = {
    "price label": Case(
        "label", 1036, "the proscenium", lambda demo: _grown(demo.label_corners(1036), 1.4),
        lambda demo, points, frame: demo.motion(frame, 1036)(points),
    ),
    "a cross": Case(
        "crosses", 1048, "the sky", lambda demo: _grown(demo.outlines("crosses", 1048)[1], 1.5),
        lambda demo, points, frame: demo.planes(1048, frame)[0][0](points),
    ),
    "the moth's rod": Case(
        "moth on a rod", 1024, "the near backdrop", lambda demo: demo.rod_outline(1024),
        lambda demo, points, frame: demo.near_motion(1024, frame)(points),
    ),
    "a crate": Case(
        "backstage", 1050, "the floor", lambda demo: _grown(demo.crate_outline(0, 1050), 1.2),
        lambda demo, points, frame: demo.moved("floor", points, frame, 1050),
    ),
    "another crate": Case(
        "backstage", 1070, "the floor", lambda demo: _grown(demo.crate_outline(1, 1070), 1.2),
        lambda demo, points, frame: demo.moved("floor", points, frame, 1070),
    ),
}  # fmt: skip


def judged_pieces(root: Path) -> list[PieceFigures]:
    """Return the figures of all cases."""
    return [judged_case(name, root) for name in CASES]


def judged_case(name: str, root: Path) -> PieceFigures:
    """Return the figures of a case: asked once for the compiled code, then timed with nothing read yet."""
    case = CASES[name]
    demo = SHOTS[case.shot].make(root)
    shot = SHOTS[case.shot].project(root).shots[0]
    thing = case.thing(demo)
    find_pieces(Engine(), shot, case.frame, thing)
    engine = Engine()
    begun = time.perf_counter()
    pieces = find_pieces(engine, shot, case.frame, thing)
    seconds = time.perf_counter() - begun
    best = pieces[0]
    areas = Matte.of(Shape.of("area", case.frame, best.outline), surface_id="found")
    surface = Surface(id="found", name="Found", home_frame=case.frame, how=PlaneFollow(areas=areas))
    project = edits.add_surface(Project.of(shot), shot.id, surface)
    project = followed(engine, project, shot.id, "found")
    placed = placement(project.shots[0], project.shots[0].surface("found"))
    assert placed is not None
    points, off = _inside(best.outline, thing), []
    for frame in range(placed.frames.first, placed.frames.last + 1, EVERY):
        mapping = placed.mapping(frame)
        if mapping is not None:
            true = case.moved(demo, points, frame)
            seen = ((true > 0) & (true < (shot.footage.width, shot.footage.height))).all(axis=1)
            off.append(np.hypot(*(mapping(points) - true)[seen].T))
    found: NDArray[np.float64] = np.concatenate(off)
    return PieceFigures(
        name, case.plane, len(pieces), seconds, best.trust_px, float(np.median(found)), len(placed.frames)
    )


def _inside(outline: Points, thing: Points) -> Points:
    """Return a grid of points of a piece near the thing, (N, 2)."""
    low, high = _grown(thing, 2.5).min(axis=0), _grown(thing, 2.5).max(axis=0)
    x, y = (np.linspace(a, b, 3 * SPREAD) for a, b in zip(low, high, strict=True))
    points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    line = outline.astype(np.float32)
    inside = [cv2.pointPolygonTest(line, (float(px), float(py)), False) > 0 for px, py in points]
    return points[inside]


def pieces_markdown(figures: list[PieceFigures]) -> str:
    """Return figures as a table."""
    lines = [
        "| drawn round | the first is | offered | after | trust it tells | off the true plane, as followed |",
        "|---|---|---|---|---|---|",
    ]
    lines += [
        f"| {one.name} | {one.plane if one.is_right else 'another plane'} | {one.offered} | {one.seconds:.1f} s | "
        f"{one.trust_px:.2f} px | {one.off_px:.3f} px in the middle, {one.frames} frames |"
        for one in figures
    ]
    return "\n".join(lines)
