"""First proposals on fresh covers of all shots, each beside everything else that the cover could be filled from."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Array,
    Borrow,
    Donors,
    Fix,
    Frames,
    Matte,
    Place,
    Plates,
    Project,
    Rim,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Span,
    Still,
    Surface,
    Texture,
    edits,
)
from gommage.core.document.records import Fill
from gommage.core.engine import (
    Engine,
    Look,
    Proposal,
    ViewRequest,
    first_look,
    found_places,
    mappings_of,
    proposed_fills,
    view_pixels,
)
from gommage.core.fill import surfaces_behind
from gommage.core.geometry import Points, scaling
from gommage.demo.crosses import FRONT, make_crosses
from gommage.demo.fills import moth_filled, passer_by_filled
from gommage.demo.here import (
    cross_example,
    crosses_followed,
    reel_followed,
    sign_closed,
    strings_closed,
    strings_from_frames,
)
from gommage.demo.job import cleaned
from gommage.demo.moth import make_moth
from gommage.demo.passer_by import make_passer_by
from gommage.demo.reel import DUST, make_reel
from gommage.demo.shot import make_demo
from gommage.demo.sign import make_sign
from gommage.demo.stage_hand import arm_line, make_stage_hand
from gommage.demo.strings import make_strings

__all__ = ["COVERS", "FirstFigures", "first_markdown", "judged_first"]

NAMES: dict[type, str] = {
    Borrow: "borrowed", Donors: "other frames", Rim: "rim", Span: "both sides", Texture: "texture",
}  # fmt: skip
ARM_HALF_PX, ARM_KEY_EVERY = 104.0, 2
FRAMES_JUDGED = 3
VIEWPORT = 728, 566
"""Of a window of 1280 x 800."""
Mask = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class FreshCover:
    """A cover that nothing is said of yet: its shot, the project with it, and where it is judged."""

    make: Callable[..., Any]
    covered: Callable[[Engine, Any], Project]
    where: Callable[[Any, int], Mask] | None = None


@dataclass(frozen=True, slots=True)
class FirstFigures:
    """What was proposed for a cover, and what everything else would have been worth.

    Attributes
    ----------
    psnr_db : dict of str to float
        By way of filling, mean of some frames, in the cover.
    seconds : float
        From the question to the first look at it.
    """

    name: str
    first: str
    psnr_db: dict[str, float]
    seconds: float

    @property
    def best(self) -> str:
        """The way that is best."""
        return max(self.psnr_db, key=lambda name: self.psnr_db[name])


# -- covers -------------------------------------------------------------------------------------------------


def _alone(project: Project, fix: Fix) -> Project:
    """Return the project of a job with a fix as it is before it is filled, and no other."""
    (shot,) = project.shots
    bare = replace(fix, fill=Plates())
    return Project(shots=(replace(shot, fixes=(bare,), clean_plates=()),))


def _of_job(job: Callable[[Engine, Any], Project]) -> Callable[[Engine, Any], Project]:
    def covered(engine: Engine, demo: Any) -> Project:
        project = job(engine, demo)
        return _alone(project, project.shots[0].fixes[0])

    return covered


def _one_string(job: Callable[..., Project]) -> Callable[[Engine, Any], Project]:
    """Return what covers one string of a job of all of them."""

    def covered(engine: Engine, demo: Any) -> Project:
        project = job(engine, demo)
        fix = project.shots[0].fixes[0]
        return _alone(project, replace(fix, cover=replace(fix.cover, parts=fix.cover.parts[-1:])))

    return covered


def _one_cross(engine: Engine, demo: Any) -> Project:
    project = crosses_followed(engine, demo)
    fix = project.shots[0].fix("marks")
    example = cross_example(demo, mappings_of(project.shots[0]), 2, 1051)
    return _alone(project, replace(fix, cover=replace(fix.cover, parts=(example,))))


def _one_speck(engine: Engine, demo: Any) -> Project:
    project, dust = reel_followed(engine, demo), DUST[len(DUST) // 2]
    angle = np.linspace(0, 2 * np.pi, 10, endpoint=False)
    line = np.column_stack([np.cos(angle), np.sin(angle)]) * (dust.radius_px + 4) + (dust.x, dust.y)
    cover = Matte.of(Shape.of("speck", dust.frame, line), softness=Softness(outwards_px=2.0))
    on = (Frames(first=dust.frame, last=dust.frame),)
    return _alone(project, Fix(id="speck", name="Speck", surface_id="sky", cover=cover, frames=on))


def _arm(engine: Engine, demo: Any) -> Project:
    frames = demo.numbers
    keys = sorted({*frames[::ARM_KEY_EVERY], frames[-1]})
    shape = Shape.of("arm", keys[0], _around_arm(keys[0]))
    shape = replace(shape, keys=tuple(ShapeKey.of(frame, _around_arm(frame)) for frame in keys))
    size = np.array([[0, 0], [demo.filming.width, 0], [demo.filming.width, demo.filming.height],
                     [0, demo.filming.height]], float)  # fmt: skip
    stage = Surface(id="stage", name="Stage", home_frame=frames[0], how=Still(corners=Array(size)))
    fix = Fix(id="arm", name="Arm", surface_id="stage", cover=Matte.of(shape, softness=Softness(outwards_px=4.0)))
    shot = Shot(id="theatre", name="Stage hand", footage=demo.footage, surfaces=(stage,))
    return _alone(Project(shots=(shot,)), fix)


def _around_arm(frame: int) -> Points:
    line = arm_line(frame)[::3] + (16.0, 9.0)
    top = line[:1] - (0, 60)
    side = np.array([ARM_HALF_PX, 0.0])
    return np.vstack([top - side, line - side, line[-1:] + (0, ARM_HALF_PX / 2), line[::-1] + side, top + side])


def _open_sky(demo: Any, frame: int) -> Mask:
    return np.maximum.reduce([demo.matte(name, frame) for name in FRONT]) < 0.01


COVERS = {
    "price label": FreshCover(make_demo, _of_job(cleaned)),
    "a red cross": FreshCover(make_crosses, _one_cross, _open_sky),
    "a speck of the reel": FreshCover(make_reel, _one_speck),
    "stage hand's arm": FreshCover(make_stage_hand, _arm),
    "passer-by": FreshCover(make_passer_by, _of_job(passer_by_filled)),
    "moth on a rod": FreshCover(make_moth, _of_job(moth_filled)),
    "a string": FreshCover(make_strings, _one_string(strings_closed)),
    "a string, what is behind followed": FreshCover(make_strings, _one_string(strings_from_frames)),
    "sign on brick": FreshCover(make_sign, _of_job(sign_closed)),
}


# -- the judge ----------------------------------------------------------------------------------------------


def judged_first(name: str, root: Path) -> FirstFigures:
    """Return what is proposed first for one of `COVERS`, and what each way of filling it is worth."""
    one = COVERS[name]
    demo = one.make(root)
    project = one.covered(Engine(), demo)
    shot = project.shots[0]
    fix, frames = shot.fixes[0], _frames(shot, shot.fixes[0])
    frame, engine = frames[len(frames) // 2], Engine()
    _proposed(Engine(), project, frame)  # what is compiled is read from the disk
    proposals, seconds = _proposed(engine, project, frame)
    first = proposals[0]
    worth = {
        NAMES[type(fill)]: _psnr(engine, project, demo, fill, frames, one.where)
        for fill in _ways(engine, shot, fix, frame, proposals)
    }
    return FirstFigures(name, NAMES[type(first.fill)], worth, seconds)


def _proposed(engine: Engine, project: Project, frame: int) -> tuple[tuple[Proposal, ...], float]:
    """Return what is proposed for the cover of a project, and after how many seconds the first of it is seen."""
    shot = project.shots[0]
    fix, bounds = shot.fixes[0], shot.footage.bounds
    engine.plate(shot.footage, frame)  # it is on the screen when the cover is closed
    began = time.monotonic()
    proposals = proposed_fills(engine, shot, fix, frame)
    look = first_look(fix, proposals[0].fill)
    shown = edits.change_fix(project, shot.id, fix.id, fill=look.fill, match=look.match).shots[0]
    scale = min(VIEWPORT[0] / bounds.width, VIEWPORT[1] / bounds.height)
    view_pixels(engine, ViewRequest(shown, frame, Look.RESULT, scaling(scale), VIEWPORT))
    return proposals, time.monotonic() - began


def _frames(shot: Shot, fix: Fix) -> list[int]:
    on = [one.within(shot.footage.frames) for one in fix.frames]
    first, last = (on[0].first, on[0].last) if on and on[0] is not None else (
        shot.footage.frames.first, shot.footage.frames.last)  # fmt: skip
    inner = np.linspace(first, last, FRAMES_JUDGED + 2)[1:-1].round().astype(int)
    return sorted({int(frame) for frame in inner})


def _ways(engine: Engine, shot: Shot, fix: Fix, frame: int, proposals: tuple[Proposal, ...]) -> Iterator[Fill]:
    """Yield one fill of each kind that the cover allows."""
    seen = {type(one.fill): one.fill for one in reversed(proposals)}
    behind = surfaces_behind(shot, fix)
    if behind:
        seen.setdefault(Donors, Donors(surface_ids=behind))
        seen.setdefault(Texture, Texture(home_frame=frame))
    places = found_places(engine, shot, replace(fix, fill=Borrow()), "", Place(), frame)
    if places:
        seen[Borrow] = Borrow(places=(places[0].place,))
    else:
        seen.pop(Borrow, None)
    yield from seen.values()


def _psnr(
    engine: Engine, project: Project, demo: Any, fill: Fill, frames: list[int],
    where: Callable[[Any, int], Mask] | None,
) -> float:  # fmt: skip
    (shot,) = project.shots
    filled = edits.change_fix(project, shot.id, shot.fixes[0].id, fill=fill).shots[0]
    errors = []
    for frame in frames:
        inside = engine.matte(shot, shot.fixes[0].cover, frame) > 0.5
        if where is not None:
            inside &= where(demo, frame)
        errors.append(((engine.result(filled, frame) - demo.clean(frame))[inside] ** 2).mean())
    return float(-10 * np.log10(np.mean(errors)))


def first_markdown(figures: list[FirstFigures]) -> str:
    """Return the figures as a Markdown table."""
    lines = ["| cover | proposed first | its PSNR | the best way | its PSNR | all ways | first look |",
             "|---|---|---|---|---|---|---|"]  # fmt: skip
    for one in figures:
        others = ", ".join(f"{name} {db:.1f}" for name, db in sorted(one.psnr_db.items(), key=lambda item: -item[1]))
        mine = f"{one.psnr_db[one.first]:.1f} dB"
        lines.append(
            f"| {one.name} | {one.first} | {mine} | {one.best} | {one.psnr_db[one.best]:.1f} dB | {others} | "
            f"{one.seconds:.1f} s |"
        )
    return "\n".join(lines)
