"""Fills that no other frame is needed for, each on a shot with known truth, beside spreading."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MappingOf
from gommage.core.document import (
    Borrow,
    Donors,
    Drawn,
    Fix,
    FromFile,
    Matte,
    MattePart,
    Place,
    PlaneFollow,
    Project,
    Rim,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Span,
    Surface,
    Texture,
    VertexKind,
    edits,
)
from gommage.core.engine import (
    Engine,
    follow_line,
    followed,
    found_dirt,
    found_marks,
    found_places,
    found_scratches,
    mappings_of,
    part_of,
    snapped_line,
    with_line,
)
from gommage.core.geometry import Points
from gommage.core.picture import Picture, decoded, encoded
from gommage.demo.board import BoardShot, make_board
from gommage.demo.crosses import FRONT, CrossesShot, make_crosses
from gommage.demo.fills import FillFigures, fill_figures, steps_across
from gommage.demo.filming import with_grain
from gommage.demo.moth import RodShadowShot
from gommage.demo.reel import DUST, HAIRS, ReelShot, make_reel
from gommage.demo.sign import SIGN, WALL, SignShot, make_sign
from gommage.demo.strings import STRINGS, StringsShot, make_strings, string_line

__all__ = [
    "HERE",
    "HereJob",
    "cross_example",
    "crosses_followed",
    "crosses_on_board",
    "found_words",
    "judged_here",
    "line_words",
    "reel_followed",
    "shadow_borrowed",
    "slope_words",
    "sign_closed",
    "strings_closed",
    "strings_from_frames",
]

Box = tuple[float, float, float, float]
Examples = tuple[tuple[int, int], ...]
CLICK_OFF_PX = 2.5
DIRT_LEAST, MARK_LEAST = 7.0, 60.0
GRAIN_SEED = 9
EDGE_FRAMES = range(1051, 1081, 5)
"""On these hair or hat ends before a cross."""
SKY_AREA = ((30, 60), (270, 60), (270, 500), (30, 500))
FACE_AREA = ((380, 60), (565, 60), (565, 330), (500, 400), (440, 400), (380, 330))
DRAWN_WITHIN_PX = 2.0
"""What is followed in shot 7, and how near to it the face's outline is drawn."""


# -- jobs ---------------------------------------------------------------------------------------------------


def strings_closed(engine: Engine, demo: StringsShot) -> Project:
    """Return the project of shot 7: each string clicked at its ends, snapped, followed, closed from both sides."""
    frame = demo.footage.frames.first
    rng = np.random.default_rng(3)
    parts = []
    for index in range(len(STRINGS)):
        line = string_line(index, frame)
        inside = line[(line[:, 1] > 3) & (line[:, 1] < demo.footage.height - 3)]
        ends = inside[[0, -1]] + rng.uniform(-CLICK_OFF_PX, CLICK_OFF_PX, (2, 2))
        shape = Shape(id=f"s{index}", name=f"String {index + 1}", keys=(ShapeKey.of(frame, ends),),
                      kinds=(VertexKind.SMOOTH,) * 2, is_closed=False)  # fmt: skip
        parts.append(MattePart(id=shape.id, source=Drawn(shape=shape)))
    cover = Matte(parts=tuple(parts), softness=Softness(outwards_px=1.5))
    fix = Fix(id="strings", name="Strings", cover=cover, fill=Span())
    project = edits.add_fix(Project.of(Shot(id="theatre", name="Strings", footage=demo.footage)), "theatre", fix)
    for part in parts:
        shot = project.shot("theatre")
        snapped = snapped_line(engine, shot, part, frame)
        project = edits.change_part(project, "theatre", part.id, source=snapped.source, grow_px=snapped.grow_px)
        shot = project.shot("theatre")
        now = next(one for one in shot.fix("strings").cover.parts if one.id == part.id)
        project = with_line(project, "theatre", part.id, tuple(follow_line(engine, shot, now, frame)))
    return project


def strings_from_frames(engine: Engine, demo: StringsShot) -> Project:
    """Return the project of shot 7 with sky and face followed as well, the face's outline drawn round it, and what the
    strings cover brought from other frames: they sway, so these show it.
    """
    project, home = strings_closed(engine, demo), demo.footage.frames.first + len(demo.footage.frames) // 2
    head = demo.planes(home, home + 1)[1][1]
    assert head is not None
    outlines, _ = cv2.findContours((head > 0.5).view(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    outline = cv2.approxPolyDP(max(outlines, key=cv2.contourArea), DRAWN_WITHIN_PX, closed=True)[:, 0] + 0.5
    extents = {"sky": Matte(), "face": Matte.of(Shape.of("outline", home, outline), surface_id="face")}
    for name, area in (("sky", SKY_AREA), ("face", FACE_AREA)):
        areas = Matte.of(Shape.of(f"{name} area", home, np.array(area, float)), surface_id=name)
        surface = Surface(
            id=name, name=name.capitalize(), home_frame=home, how=PlaneFollow(areas=areas), extent=extents[name]
        )
        project = followed(engine, edits.add_surface(project, "theatre", surface), "theatre", name)
    return edits.change_fix(project, "theatre", "strings", fill=Donors(surface_ids=("sky", "face")))


def shadow_borrowed(engine: Engine, demo: RodShadowShot) -> Project:
    """Return the project of the rod's shadow: clicked at its ends, followed, borrowed away from beside it."""
    frame = demo.footage.frames.first + 3
    foot, tip = demo.line(frame)
    shape = Shape(id="shadow", name="Shadow", keys=(ShapeKey.of(frame, np.array([foot + 0.56 * (tip - foot), tip])),),
                  kinds=(VertexKind.SMOOTH,) * 2, is_closed=False)  # fmt: skip
    part = MattePart(id=shape.id, source=Drawn(shape=shape))
    shot = Shot(id="theatre", name="Rod's shadow", footage=demo.footage)
    snapped = snapped_line(engine, shot, part, frame)
    fix = Fix(
        id="shadow", name="Shadow", cover=Matte(parts=(snapped,), softness=Softness(outwards_px=1.5)), fill=Borrow()
    )
    project = edits.add_fix(Project.of(shot), "theatre", fix)
    steps = tuple(follow_line(engine, project.shot("theatre"), snapped, frame))
    project = with_line(project, "theatre", part.id, steps)
    shot = project.shot("theatre")
    best = found_places(engine, shot, shot.fix("shadow"), "", Place(), frame)[0].place
    return edits.change_fix(project, "theatre", "shadow", fill=Borrow(places=(best,)))


def sign_closed(engine: Engine, demo: SignShot) -> Project:
    """Return the project of shot 8: the wall followed, the sign covered on one frame, closed with bricks of it."""
    home = demo.footage.frames.first + len(demo.footage.frames) // 2
    area = Shape.of("area", home, demo.seen(WALL, home))
    surface = Surface(id="wall", name="Wall", home_frame=home, how=PlaneFollow(areas=Matte.of(area, surface_id="wall")))
    project = edits.add_surface(Project.of(Shot(id="theatre", name="Sign", footage=demo.footage)), "theatre", surface)
    project = followed(engine, project, "theatre", "wall")
    cover = demo.seen(_grown(SIGN, 7.0), home)
    matte = Matte.of(Shape.of("cover", home, cover), surface_id="wall", softness=Softness(outwards_px=2.0))
    fix = Fix(id="sign", name="Sign", surface_id="wall", cover=matte, fill=Texture(home_frame=home))
    return edits.add_fix(project, "theatre", fix)


def _grown(corners: Points, by: float) -> Points:
    middle = corners.mean(axis=0)
    return middle + (corners - middle) * (1 + by / np.abs(corners - middle).max(axis=0))


def crosses_followed(engine: Engine, demo: CrossesShot, area: Box = (1150, 20, 1400, 1000)) -> Project:
    """Return the project of shot 2 with the sky followed by an area of it, what is in front held out, and a fix that
    covers nothing.
    """
    home = 1051
    left, top, right, bottom = area
    sky = np.array([[left, top], [right, top], [right, bottom], [left, bottom]], float)
    surface = Surface(id="sky", name="Sky", home_frame=home,
                      how=PlaneFollow(areas=Matte.of(Shape.of("area", home, sky), surface_id="sky")))  # fmt: skip
    project = edits.add_surface(
        Project.of(Shot(id="theatre", name="Crosses", footage=demo.footage)), "theatre", surface
    )
    project = followed(engine, project, "theatre", "sky")
    front = str(demo.folder / "front" / "front.####.exr")  # held out as mattes that came with the shot
    held = tuple(MattePart(id=channel, source=FromFile(path=front, channel=channel)) for channel in "RGB")
    fix = Fix(id="marks", name="Crosses", surface_id="sky", cover=Matte(softness=Softness(outwards_px=2.0)), fill=Rim(),
              hold_outs=Matte(parts=held))  # fmt: skip
    return edits.add_fix(project, "theatre", fix)


def cross_example(demo: CrossesShot, mapping: MappingOf, index: int, frame: int) -> MattePart:
    """Return a cover of one of the crosses, drawn round it on a frame."""
    here = mapping("sky", frame)
    assert here is not None
    hull = cv2.convexHull(_grown(demo.outlines("crosses", frame)[index], 6.0).astype(np.float32))[:, 0]
    line = here.inverse()(hull.astype(np.float64))
    return Matte.of(Shape.of(f"example-{index}", frame, line), surface_id="sky").parts[0]


def crosses_closed(engine: Engine, demo: CrossesShot) -> Project:
    """Return the project of shot 2: the sky followed, a red and a light cross drawn round, all others of each found,
    all closed from the rim.
    """
    return _closed_by_marks(engine, crosses_followed(engine, demo), demo, ((2, 1051), (3, 1030)))


def crosses_on_board(engine: Engine, demo: BoardShot) -> Project:
    """Return the same on a plain board: it is followed by its crosses, since it has little else."""
    project = crosses_followed(engine, demo, (250, 40, 1400, 180))
    return _closed_by_marks(engine, project, demo, ((2, 1051), (3, 1064)))


def _closed_by_marks(engine: Engine, project: Project, demo: CrossesShot, examples: Examples) -> Project:
    """Return a project with crosses drawn round, each a number and a frame, and all others like them found."""
    mapping = mappings_of(project.shot("theatre"))
    for index, frame in examples:
        example = cross_example(demo, mapping, index, frame)
        project = edits.add_part(project, "theatre", "marks", edits.Slot.COVER, example)
        shot = project.shot("theatre")
        for one in found_marks(engine, shot, shot.fix("marks"), example, frame):
            if one.score >= MARK_LEAST:
                project = edits.add_part(project, "theatre", "marks", edits.Slot.COVER, part_of(one))
    return project


def reel_followed(engine: Engine, demo: ReelShot) -> Project:
    """Return the project of shot 3 with the sky followed."""
    home, shot = 1030, Shot(id="theatre", name="Old reel", footage=demo.footage)
    sky = np.array([[120, 60], [540, 60], [540, 480], [120, 480.0]])
    area = Matte.of(Shape.of("area", home, sky), surface_id="sky")
    surface = Surface(id="sky", name="Sky", home_frame=home, how=PlaneFollow(areas=area))
    return followed(engine, edits.add_surface(Project.of(shot), "theatre", surface), "theatre", "sky")


def reel_closed(engine: Engine, demo: ReelShot) -> Project:
    """Return the project of shot 3: the sky followed, dirt and the scratch found, both brought from other frames."""
    project, shot = reel_followed(engine, demo), Shot(id="theatre", name="Old reel", footage=demo.footage)
    dirt = [one for one in found_dirt(engine, shot) if one.score >= DIRT_LEAST]
    for name, found in (("dirt", dirt), ("scratches", list(found_scratches(engine, shot)))):
        cover = Matte(parts=tuple(part_of(one) for one in found), softness=Softness(outwards_px=2.0))
        fix = Fix(id=name, name=name.capitalize(), cover=cover, fill=Donors(surface_ids=("sky",)))
        project = edits.add_fix(project, "theatre", fix)
    return project


# -- the judge ----------------------------------------------------------------------------------------------


def _every(shot: Any, frame: int) -> NDArray[np.bool_]:
    return np.ones((shot.footage.height, shot.footage.width), bool)


def _not_in_front(shot: CrossesShot, frame: int) -> NDArray[np.bool_]:
    """Return where nothing passes in front of the sky: what is held out by hand is not judged here."""
    front = np.maximum.reduce([shot.matte(name, frame) for name in FRONT])
    return np.asarray(cv2.dilate(front, np.ones((9, 9), np.uint8)) < 0.01)


@dataclass(frozen=True, slots=True)
class HereJob:
    """A shot's job, the frames that it is judged on, and where."""

    make: Callable[..., Any]
    fill: Callable[[Engine, Any], Project]
    frames: range
    where: Callable[[Any, int], NDArray[np.bool_]] = _every


HERE = {
    "strings": HereJob(make_strings, strings_closed, range(1020, 1030)),
    "strings by other frames": HereJob(make_strings, strings_from_frames, range(1020, 1030)),
    "sign on brick": HereJob(make_sign, sign_closed, range(1012, 1022)),
    "crosses": HereJob(make_crosses, crosses_closed, range(1060, 1066), _not_in_front),
    "crosses on a board": HereJob(make_board, crosses_on_board, range(1056, 1062), _not_in_front),
    "old reel": HereJob(make_reel, reel_closed, range(1018, 1038)),
}


def judged_here(engine: Engine, project: Project, demo: Any, job: HereJob) -> list[FillFigures]:
    """Return the figures of a job, of its oracle, and of spreading in three ways."""
    shot = project.shots[0]

    @lru_cache(maxsize=64)
    def alpha_of(frame: int) -> Picture:
        return engine.laid_matte(shot, frame)

    @lru_cache(maxsize=64)
    def inside_of(frame: int) -> NDArray[np.bool_]:
        return np.asarray((alpha_of(frame) > 0.5) & job.where(demo, frame))

    def laid(frame: int, drawn: Picture) -> Picture:
        alpha = alpha_of(frame)[..., None]
        return np.asarray(engine.plate(shot.footage, frame) * (1 - alpha) + drawn * alpha)

    def spread(frame: int, way: int) -> Picture:
        plate = encoded(np.maximum(engine.plate(shot.footage, frame), 0))
        hole = (alpha_of(frame) > 0).view(np.uint8)
        seen = (np.clip(plate, 0, 1) * 255).astype(np.uint8)
        return laid(frame, decoded(cv2.inpaint(seen, hole, 5, way).astype(np.float32) / 255))

    ways: dict[str, Callable[[int], Picture]] = {
        "oracle: clean, with grain of its own": lambda frame: laid(
            frame, with_grain(demo.clean(frame, grain=False), (GRAIN_SEED, frame))
        ),
        "Gommage": lambda frame: engine.result(shot, frame),
        "OpenCV, Telea": lambda frame: spread(frame, cv2.INPAINT_TELEA),
        "OpenCV, Navier-Stokes": lambda frame: spread(frame, cv2.INPAINT_NS),
        "biharmonic": lambda frame: laid(frame, biharmonic(engine.plate(shot.footage, frame), alpha_of(frame) > 0)),
    }
    frames = range(job.frames[0], job.frames[-1] + 1)
    return [fill_figures(name, demo, frames, inside_of, lru_cache(maxsize=4)(way)) for name, way in ways.items()]


def biharmonic(picture: Picture, hole: NDArray[np.bool_]) -> Picture:
    """Return a picture whose hole is closed by the biharmonic equation, each piece by itself."""
    from scipy.sparse import csr_matrix
    from scipy.sparse.linalg import spsolve

    stencil = {(0, 0): 20, (0, 1): -8, (1, 0): -8, (0, -1): -8, (-1, 0): -8, (1, 1): 2, (1, -1): 2, (-1, 1): 2,
               (-1, -1): 2, (0, 2): 1, (2, 0): 1, (0, -2): 1, (-2, 0): 1}  # fmt: skip
    out = picture.copy()
    height, width = hole.shape
    rows, columns = np.nonzero(hole)
    if not len(rows):
        return out
    number = np.full(hole.shape, -1)
    number[rows, columns] = np.arange(len(rows))
    at, to, weights = [], [], []
    right = np.zeros((len(rows), 3))
    for (down, across), weight in stencil.items():
        y, x = np.clip(rows + down, 0, height - 1), np.clip(columns + across, 0, width - 1)
        inside = hole[y, x]
        at.append(np.flatnonzero(inside))
        to.append(number[y[inside], x[inside]])
        weights.append(np.full(int(inside.sum()), weight, float))
        right[~inside] -= weight * picture[y[~inside], x[~inside]]
    system = csr_matrix((np.concatenate(weights), (np.concatenate(at), np.concatenate(to))), (len(rows),) * 2)
    out[rows, columns] = np.column_stack([spsolve(system, right[:, c]) for c in range(3)])
    return out


# -- what found itself --------------------------------------------------------------------------------------


def line_words(project: Project, demo: StringsShot) -> str:
    """Return in words how far followed strings are off, over all frames."""
    missed, lost = [], 0
    for index, part in enumerate(project.shots[0].fixes[0].cover.parts):
        assert isinstance(part.source, Drawn)
        keys = part.source.shape.keys
        lost += len(demo.footage.frames) - len(keys)
        for key in keys:
            true = string_line(index, key.frame)
            inside = (key.points[:, 1] > 4) & (key.points[:, 1] < demo.footage.height - 4)
            missed.append(
                np.abs(np.interp(key.points[inside, 1], true[:, 1], true[:, 0]) - key.points[inside, 0]).mean()
            )
    worst = f"{np.max(missed):.2f} px on the worst frame"
    return f"Strings: {np.mean(missed):.2f} px off on average, {worst}; {lost} not found."


def found_words(engine: Engine, project: Project, demo: Any) -> str:
    """Return in words how much of dirt or crosses was found, and how much that is neither."""
    shot = project.shots[0]
    if isinstance(demo, ReelShot):
        wanted = [(one.frame, one.x, one.y) for one in DUST]
        wanted += [(one.frame, *np.mean(one.points, axis=0).tolist()) for one in HAIRS]
        boxes = [(shape.keys[0].frame, shape.keys[0].points) for shape in shot.fix("dirt").cover.shapes]
        hit = 0
        for frame, x, y in wanted:
            hit += any(at == frame and _holds(line, x, y) for at, line in boxes)
        true = sum(int((demo.damage(frame)[_box(line)] > 0.3).any()) for frame, line in boxes)
        scratch = shot.fix("scratches").cover.shapes
        keys = sum(len(shape.keys) for shape in scratch)
        return (f"Dirt: {hit} of {len(wanted)} found, {true} of {len(boxes)} that were found are damage; "
                f"{len(scratch)} scratch on {keys} frames (40).")  # fmt: skip
    cover = shot.fix("marks").cover
    hits, wanted_count, extra, tape, bare = 0, 0, 0, 0.0, 0.0
    for frame in demo.footage.frames:
        covered = engine.matte(shot, cover, frame)
        middles = [line.mean(axis=0) for line in demo.outlines("crosses", frame)]
        size = demo.footage.width, demo.footage.height
        inside = [one for one in middles if (one >= 0).all() and (one < size).all()]
        hits += sum(bool(covered[int(y), int(x)] > 0.5) for x, y in inside)
        wanted_count += len(inside)
        count, labels = cv2.connectedComponents((covered > 0.5).view(np.uint8))
        held = {int(labels[int(y), int(x)]) for x, y in inside}
        extra += sum(number not in held for number in range(1, count))
        seen = demo.matte("crosses", frame) * _not_in_front(demo, frame)
        tape, bare = tape + float(seen.sum()), bare + float((seen * (1 - covered)).sum())
    words = (
        f"Crosses, red and light: {hits} of {wanted_count} covered over all frames; {extra} covers that hold no cross"
    )
    words = f"{words}; {100 * bare / tape:.2f} % of the tape is not covered."
    return f"{words} Where hair, hat and lantern end before tape: {_edge_db(engine, shot, demo):.1f} dB."


def _edge_db(engine: Engine, shot: Shot, demo: CrossesShot) -> float:
    """Return the PSNR where what is in front is seen in part, and tape behind it."""
    missed = []
    for frame in set(EDGE_FRAMES) & set(demo.numbers):
        fix = shot.fix("marks")
        held, covered = engine.matte(shot, fix.hold_outs, frame), engine.matte(shot, fix.cover, frame)
        tape = cv2.dilate(demo.matte("crosses", frame), np.ones((5, 5), np.uint8)) > 0.3
        mixed = (held > 0.02) & (held < 0.98) & (covered > 0.5) & tape
        missed.append((engine.result(shot, frame) - demo.clean(frame))[mixed].ravel())
    return float(-10 * np.log10((np.concatenate(missed) ** 2).mean()))


def slope_words(engine: Engine, project: Project, demo: SignShot, job: HereJob) -> str:
    """Return in words how steep the result is across the cover's edge, and the wall there as it truly is.

    A wall of other bricks than the true ones cannot be told from these by its error; its slopes are those of bricks.
    """
    shot = project.shots[0]
    mine: list[NDArray[np.float32]] = []
    true: list[NDArray[np.float32]] = []
    for frame in job.frames:
        alpha = engine.laid_matte(shot, frame)
        for found, picture in ((mine, engine.result(shot, frame)), (true, demo.clean(frame))):
            found.append(steps_across(cv2.GaussianBlur(picture, (0, 0), 1.0), alpha > 0.5))
    ratio = float(np.sqrt(np.concatenate(mine).mean() / np.concatenate(true).mean()))
    return f"Slopes across the cover's edge: {ratio:.2f} times those of the true wall there (must 1.2)."


def _holds(line: Points, x: float, y: float) -> bool:
    return bool(cv2.pointPolygonTest(line.astype(np.float32), (x, y), measureDist=True) > -6)


def _box(line: Points) -> tuple[slice, slice]:
    low, high = np.floor(line.min(axis=0)).astype(int), np.ceil(line.max(axis=0)).astype(int)
    return slice(max(low[1], 0), high[1] + 1), slice(max(low[0], 0), high[0] + 1)
