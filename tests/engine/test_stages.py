"""Whatever runs can be called off soon: every job asks again and again whether it is still wanted.

How long it works between two questions is measured by `python -m benchmarks.holding`.
"""

from pathlib import Path

import pytest
from msgspec.structs import replace

from gommage.core.document import CleanPlate, FrameRange, Painting, PointsFollow, Spot, Surface
from gommage.core.engine import (
    Engine,
    Look,
    RenderTarget,
    SheetRequest,
    ViewRequest,
    follow_surface,
    render,
    sheet_pixels,
    summarised,
    view_pixels,
)
from gommage.core.follow import Direction
from gommage.core.geometry import scaling
from gommage.demo.job import HOME_FRAME, recorded_strokes


class Questions:
    """A check that counts how often it is asked."""

    def __init__(self):
        self.count = 0

    def __call__(self):
        self.count += 1


def job_of_view(engine, shot, demo, check, out):
    view_pixels(engine, ViewRequest(shot, 1040, Look.RESULT, scaling(1.4), (1280, 720)), check)


def job_of_small_view(engine, shot, demo, check, out):
    view_pixels(engine, ViewRequest(shot, 1041, Look.RESULT, scaling(0.3), (400, 220)), check)


def job_of_painting(engine, shot, demo, check, out):
    plate = CleanPlate(id="new", name="New", surface_id="column", home_frame=HOME_FRAME,
                       painting=Painting(strokes=recorded_strokes(demo)[:12]))  # fmt: skip
    engine.painted(shot, plate, check)


def job_of_measuring(engine, shot, demo, check, out):
    few = FrameRange(first=HOME_FRAME - 3, last=HOME_FRAME + 4)
    shot = replace(shot, footage=replace(shot.footage, frames=few))
    engine.check(shot, shot.fixes[0], check)


def job_of_rendering(engine, shot, demo, check, out):
    render(engine, shot, range(1038, 1042), RenderTarget(out), check=check)


def job_of_sheet(engine, shot, demo, check, out):
    sheet_pixels(engine, SheetRequest(shot, "column", (900, 500)), check)


def job_of_following(engine, shot, demo, check, out):
    for count, _ in enumerate(follow_surface(engine, shot, shot.surfaces[0], HOME_FRAME, Direction.BOTH, None, check)):
        if count > 8:
            return


def job_of_following_points(engine, shot, demo, check, out):
    corners = demo.column_corners(HOME_FRAME)
    spots = tuple(Spot(id=str(k), x=float(x), y=float(y)) for k, (x, y) in enumerate(corners))
    surface = Surface(id="spots", name="Spots", home_frame=HOME_FRAME, how=PointsFollow(spots=spots))
    shot = replace(shot, surfaces=(*shot.surfaces, surface))
    for count, _ in enumerate(follow_surface(engine, shot, surface, HOME_FRAME, Direction.BOTH, None, check)):
        if count > 8:
            return


def job_of_summary(engine, shot, demo, check, out):
    summarised(shot, {}, check=check)


JOBS = {
    job_of_view: 190, job_of_small_view: 180, job_of_painting: 14, job_of_measuring: 480, job_of_rendering: 280,
    job_of_sheet: 70, job_of_following: 92, job_of_following_points: 64, job_of_summary: 2,
}  # fmt: skip
"""How often each asks at least. Two threads that want the same at once make it a few times more or fewer."""


@pytest.mark.parametrize("job", JOBS, ids=lambda job: job.__name__.removeprefix("job_of_"))
def test_every_job_asks_again_and_again_whether_it_is_still_wanted(job, cleaned_project, demo, tmp_path: Path):
    questions = Questions()
    job(Engine(10**9), cleaned_project.shots[0], demo, questions, tmp_path / "out")
    assert questions.count >= JOBS[job]
