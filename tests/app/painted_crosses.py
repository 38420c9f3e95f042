"""A journey: crosses cured with strokes that sample anew on each frame, behind what is held out; judged by truth."""

import cv2
import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from gommage.app.desk import Life
from gommage.core.document import FrameRange, Shot
from gommage.demo.crosses import CROSSES, FIRST_FRAME, FRAMES, FRONT
from tests.app.counting import Hand
from tests.app.driving import ALT, CTRL, SHIFT, at_view
from tests.conftest import settle

LAST = FIRST_FRAME + FRAMES - 1
SPAN = FrameRange(first=FIRST_FRAME, last=LAST)
ACTIONS_A_CROSS = 12
BRUSH_PX = 110
TAPE_LEFT = 0.08  # of the tape's contrast to the sky: less than its clouds have
LIGHT = 0.06  # the shot's light falls by a fifth; what is seen of half-hidden crosses differs by their clouds
RED_BUT = 3  # every third is white
LOOKED_AT = range(SPAN.first, SPAN.last + 1, 8)


def shot_of(crosses):
    """Return shot 2."""
    return Shot(id="crosses", name="Crosses", footage=crosses.footage)


def in_front(crosses, frame):
    return np.maximum.reduce([crosses.matte(name, frame) for name in FRONT])


def cure(window, crosses):
    """Paint on the shot whose front is held out already, and judge what comes of it."""
    hand = Hand(window, "painted crosses")
    hand.key("paint on the shot", (Qt.Key.Key_C, CTRL | SHIFT))
    hand.key("take the heal brush", Qt.Key.Key_V)
    hand.in_line("a brush as wide as a cross", "Size", BRUSH_PX)
    hand.in_line("a firm rim", "Softness", 40)
    hand.in_line("it lives on all frames", "Frames of the next stroke", Life.ALL)
    fronts = {frame: in_front(crosses, frame) for frame in LOOKED_AT}
    for index in range(len(CROSSES)):
        frame = clearest_frame(crosses, index, fronts)
        begun = hand.count
        hand.frame(frame)
        outline = crosses.outlines("crosses", frame)[index]
        middle = outline.mean(axis=0)
        hand.zoom(middle, 1.5)
        QTest.mouseMove(window.viewer, at_view(window, middle))
        window.viewer.pen_at = QPointF(at_view(window, middle))
        hand.key("a source is found", (Qt.Key.Key_S, ALT))
        hand.key("another, for where the first will be hidden", (Qt.Key.Key_S, ALT))
        hand.drag("dab the cross", [middle - (2, 0), middle + (2, 0)])
        hand.key("back to the first", (Qt.Key.Key_A, ALT))
        hand.drag("dab the cross", [middle - (2, 0), middle + (2, 0)])
        assert hand.count - begun <= ACTIONS_A_CROSS
    settle(window)
    rows = judged(window, crosses)
    hand.note(
        f"Cure {len(CROSSES)} crosses over {len(SPAN)} frames with live heal strokes behind what is held out",
        ("cross", "tape left, worst frame", "light off by, spread over frames"),
        [
            (f"{index + 1}", "white on white" if left is None else f"{left:.1%}", f"{spread:.2%}")
            for index, (left, spread) in enumerate(rows)
        ],
    )
    for left, spread in rows:
        assert left is None or left < TAPE_LEFT
        assert spread < LIGHT
    assert_front_untouched(window, crosses)


def clearest_frame(crosses, index, fronts):
    """Return the frame on which the most of a cross is seen."""

    def hidden(frame):
        x, y = (int(one) for one in crosses.outlines("crosses", frame)[index].mean(axis=0))
        if not (40 <= x < 1880 and 40 <= y < 1040):
            return 1.0
        return float(fronts[frame][y - 40 : y + 40, x - 40 : x + 40].mean())

    return min(fronts, key=hidden)


def judged(window, crosses):
    """Return for each cross how much of its tape is left at worst, and how far the repair's level strays over frames.

    White tape on white clouds differs from them by less than clouds do: of that the level alone is judged.
    """
    engine, shot = window.session.engine, window.shot
    lefts, ratios = ([[] for _ in CROSSES] for _ in range(2))
    for frame in LOOKED_AT:
        result, truth, plate = engine.result(shot, frame), crosses.clean(frame), engine.plate(shot.footage, frame)
        tape, front = crosses.matte("crosses", frame), in_front(crosses, frame)
        for index, outline in enumerate(crosses.outlines("crosses", frame)):
            x, y = (int(one) for one in outline.mean(axis=0))
            if not (50 <= x < 1870 and 50 <= y < 1030):
                continue
            square = (slice(y - 44, y + 44), slice(x - 44, x + 44))
            free = front[square] < 0.005
            there, rim = (tape[square] > 0.5) & free, (tape[square] > 0.02) & (tape[square] < 0.5) & free
            if there.sum() < 300:
                continue
            off = (result - truth)[square]
            tint = (plate - truth)[square][there].mean(axis=0)  # what tape does to the sky
            ratios[index].append(float(result[square][there].mean() / truth[square][there].mean()))
            if index % RED_BUT:
                more = off[there].mean(axis=0) - off[rim].mean(axis=0)
                lefts[index].append(abs(float(more @ tint / (tint @ tint))))
    return [(max(left, default=None), float(np.std(ratio))) for left, ratio in zip(lefts, ratios, strict=True)]


def assert_front_untouched(window, crosses):
    engine, shot = window.session.engine, window.shot
    for frame in (1031, 1066):
        solid = cv2.erode((in_front(crosses, frame) > 0.999).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        np.testing.assert_array_equal(engine.result(shot, frame)[solid], engine.plate(shot.footage, frame)[solid])
