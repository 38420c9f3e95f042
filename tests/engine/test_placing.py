"""Where a cover could be borrowed from, on a print that says which places are right."""

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Borrow,
    Fix,
    Footage,
    FrameOffset,
    FrameRange,
    Matte,
    Place,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    VertexKind,
)
from gommage.core.engine import Engine, found_places
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, STEP, FRAMES = 360, 240, 60, range(1001, 1006)


def print_of(light=1.0):
    """A print that repeats after 60 px across alone: one repeat beside is what was there."""
    rng = np.random.default_rng(3)
    column = cv2.GaussianBlur(np.tile(rng.random((HEIGHT, STEP, 3)).astype(np.float32), (1, 3, 1)), (0, 0), 2.5)
    return np.tile(column[:, STEP : 2 * STEP], (1, WIDTH // STEP, 1)) * 0.6 * light + 0.2


def shot_on(folder, covers, picture_of):
    for frame in FRAMES:
        write_still(folder / f"print.{frame}.exr", picture_of(frame).astype(np.float32), bits=32)
    footage = Footage(path=str(folder / "print.####.exr"), frames=FrameRange(first=FRAMES[0], last=FRAMES[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    cover = Matte.of(*covers, softness=Softness(outwards_px=1.0))
    return Shot(id="s", name="Print", footage=footage, fixes=(Fix(id="f", name="F", cover=cover, fill=Borrow()),))


def best(shot, frame=1003, part_id="", place=None):
    return found_places(Engine(), shot, shot.fixes[0], part_id, place or Place(), frame)


def test_a_long_cover_is_borrowed_from_one_repeat_beside(tmp_path):
    """Told by what is around all of its length; a disc around it would hold half of the picture."""
    thin = shape_of(rectangle(172, 30, 184, 210), 1001, "thin")

    def marked(frame):
        picture = print_of()
        picture[30:210, 172:184] = 0.02
        return picture

    found = best(shot_on(tmp_path, (thin,), marked))
    place = found[0].place
    assert abs(place.dx) % STEP == 0
    assert place.dx != 0
    assert (place.dy, place.time) == (0.0, FrameOffset(frames=0))
    assert found[0].mismatch < 0.02


def test_a_place_must_fit_where_the_cover_moves_to_as_well(tmp_path):
    """Beside it on the right something stands on later frames: what is on the left fits on all."""
    corners = [rectangle(90 + 20 * n, 100, 120 + 20 * n, 130) for n in range(len(FRAMES))]
    keys = tuple(
        ShapeKey(frame=frame, vertices=Array(np.hstack([points, np.zeros((4, 6))])))
        for frame, points in zip(FRAMES, corners, strict=True)
    )
    moving = Shape(id="m", keys=keys, kinds=(VertexKind.CORNER,) * 4)

    def marked(frame):
        picture = print_of()
        picture[60:180, 235:300] = (0.1, 0.6, 0.1)  # in the way of what is borrowed from the right
        left, top = corners[frame - 1001][0].astype(int)
        picture[top : top + 30, left : left + 30] = 0.02
        return picture

    found = best(shot_on(tmp_path, (moving,), marked), frame=1002)
    assert found[0].place.dx == -STEP


def test_what_is_keyed_or_not_looked_for_stays(tmp_path):
    square = shape_of(rectangle(160, 100, 190, 130), 1001, "q")

    def marked(frame):
        picture = print_of()
        picture[100:130, 160:190] = 0.02
        return picture

    shot = shot_on(tmp_path, (square,), marked)
    mirrored = best(shot, place=Place(part_id="q", is_mirrored=True), part_id="q")
    assert all(one.place.is_mirrored and one.place.part_id == "q" for one in mirrored)
    bare = replace(shot, fixes=(replace(shot.fixes[0], cover=Matte()),))
    assert best(bare) == ()
