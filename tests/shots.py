"""The paper theatre's shots as the tests have them: few frames of each, and all of them in whole journeys."""

import os
from functools import cache
from pathlib import Path

from msgspec.structs import replace

from gommage.core.document import Project, Shot, edits, store
from gommage.core.engine import Engine, solve_camera
from gommage.demo.backstage import make_backstage
from gommage.demo.crosses import make_crosses
from gommage.demo.filming import FilmedShot
from gommage.demo.footlights import make_footlights, make_turned_footlights
from gommage.demo.moth import make_rod_shadow
from gommage.demo.passer_by import make_passer_by
from gommage.demo.reel import make_reel
from gommage.demo.shot import make_demo
from gommage.demo.stage_hand import make_stage_hand
from gommage.demo.strings import make_strings

IS_WHOLE = "GOMMAGE_JOURNEYS" in os.environ
"""Whether journeys go over all frames of their shots, as `make journeys` has it."""
KEPT = Path(__file__).parents[1] / ".pytest_cache" / "d" / "shots"
"""Where shots are kept between runs."""
SHOTS = {
    "crosses": (make_crosses, range(1056, 1062)),
    "backstage": (make_backstage, range(1032, 1068)),
    "label": (make_demo, range(1019, 1043)),
    "passer-by": (make_passer_by, range(1019, 1033)),
    "footlights": (make_footlights, range(1008, 1010)),
    "strings": (make_strings, range(1024, 1034)),
    "old reel": (make_reel, range(1004, 1022)),
}
"""What draws a shot, and the frames of it that the suite looks at."""
SOLVED_WALK = Path(__file__).with_name("engine") / "walk.gommage"
"""The part of the walk backstage, solved: kept, since that takes long. `python -m tests.shots` makes it anew."""
WHOLE = {
    "stage hand": make_stage_hand,
    "rod shadow": make_rod_shadow,
    "footlights turned": make_turned_footlights,
}
"""Shots of whole journeys alone."""


@cache
def shot(name: str, *, is_whole: bool = IS_WHOLE) -> FilmedShot:
    """Return a shot, drawn unless it is there."""
    if name in WHOLE:
        return WHOLE[name](KEPT / "whole")
    make, frames = SHOTS[name]
    return make(KEPT / "whole") if is_whole else part(name, frames)


def part(name: str, frames: range, processes: int = 2) -> FilmedShot:
    """Return some frames of a shot, drawn unless they are there.

    In a folder where nothing but they lie: it is looked through as footage, too.
    """
    make, _ = SHOTS[name]
    return make(KEPT / f"{frames.start}-{frames.stop}-{frames.step}", processes=processes, part=frames)


def keep_solved_walk() -> None:
    """Solve the walk's camera, and keep that."""
    shot_of_walk = Shot(id="theatre", name="Backstage", footage=shot("backstage", is_whole=False).footage)
    project = solve_camera(Engine(), shot_of_walk).edit(Project.of(shot_of_walk), "theatre")
    nowhere = replace(shot_of_walk.footage, path="backstage.####.exr")
    store.save(edits.change_shot(project, "theatre", footage=nowhere), SOLVED_WALK)


def solved_walk() -> Project:
    """Return a project of the walk with its camera solved."""
    footage = shot("backstage", is_whole=False).footage
    return edits.change_shot(store.load(SOLVED_WALK), "theatre", footage=footage)


if __name__ == "__main__":
    keep_solved_walk()
