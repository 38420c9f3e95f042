"""The second shot of the paper theatre is what it says: outlines, mattes, what is clean, when the cross comes out."""

import numpy as np
import pytest

from gommage.core.cover import matte_at, matte_pixels
from gommage.core.document import Matte, Shape, Softness
from gommage.core.geometry import IDENTITY, Window
from gommage.core.picture.footage import read_picture
from gommage.demo.crosses import FIRST_FRAME, MATTES

LENS = Softness(inwards_px=1.5, outwards_px=1.5)  # about as soft as the lens makes an edge
BLUR_IOU = 0.95  # of the lantern, whose outline is that of the middle of the shutter


@pytest.mark.parametrize("frame", [1056, 1059, 1061])
def test_the_true_outlines_are_those_of_the_mattes(crosses, frame):
    bounds = Window.of(crosses.footage.width, crosses.footage.height)
    for name in MATTES:
        shapes = [Shape.of(str(number), frame, line) for number, line in enumerate(crosses.outlines(name, frame))]
        drawn = matte_pixels(matte_at(Matte.of(*shapes, softness=LENS), frame, lambda *_: IDENTITY), bounds)
        true = crosses.matte(name, frame)
        assert drawn.sum() == pytest.approx(true.sum(), rel=0.02), name
        overlap = np.minimum(drawn, true).sum() / np.maximum(drawn, true).sum()
        assert overlap > (BLUR_IOU if name in ("lantern", "hair") else 0.97), name


def test_the_clean_shot_differs_where_crosses_are_seen_alone(crosses):
    frame = 1060
    plate = read_picture(crosses.folder / "plate" / f"crosses.{frame}.exr", "Linear Rec.709 (sRGB)")
    off = np.abs(plate - crosses.clean(frame)).max(axis=2)
    tape = crosses.matte("crosses", frame)
    assert off[tape < 1e-3].max() < 0.01  # half floats, and grain that depends on the level
    assert np.median(off[tape > 0.999]) > 0.05


def test_the_cross_comes_out_on_the_known_frame(crosses):
    known = crosses.uncovered_frame()
    assert FIRST_FRAME < known < FIRST_FRAME + 95
    for frame, is_hidden in ((known - 1, True), (known + 4, False)):  # just before, and well out of it
        x, y = crosses.outlines("crosses", frame)[4].mean(axis=0)
        in_front = np.maximum(crosses.matte("head", frame), crosses.matte("hair", frame))
        assert (in_front[int(y), int(x)] > 0.5) == is_hidden
