"""A journey: crosses cured with strokes that sample anew on each frame, behind what is held out; judged by truth."""

import cv2
import numpy as np
from PySide6.QtCore import Qt

from gommage.app.desk import Life
from gommage.demo.crosses import CROSSES, FIRST_FRAME, FRAMES, FRONT
from tests.app.counting import Hand
from tests.app.driving import ALT, CTRL, SHIFT
from tests.conftest import settle

LAST = FIRST_FRAME + FRAMES - 1
ACTIONS_A_CROSS = 12
BRUSH_PX = 30
CLEAR_PX = 26
TAPE_LEFT = 0.02  # of the tape's contrast to the sky
LIGHT = 0.01
LOOKED_AT = range(FIRST_FRAME, LAST + 1, 5)


def in_front(crosses, frame):
    return np.maximum.reduce([crosses.matte(name, frame) for name in FRONT])


def beside(crosses, index, fronts, tapes):
    """Return from where an artist takes the pixels of a cross: near, on the sky, seldom behind what passes in front."""
    best = None
    for away in (85, 105, 130, 160):
        for angle in np.deg2rad(np.arange(0, 360, 30)):
            by = away * np.array([np.cos(angle), np.sin(angle)])
            hidden = 0
            for frame, front in fronts.items():
                x, y = crosses.outlines("crosses", frame)[index].mean(axis=0)
                if not (0 <= x < 1920 and 0 <= y < 1080) or front[int(y), int(x)] > 0.5:
                    continue
                sx, sy = (int(one) for one in (x + by[0], y + by[1]))
                if not (50 <= sx < 1870 and 50 <= sy < 1030):
                    hidden += 1
                    continue
                around = front[sy - 50 : sy + 50, sx - 50 : sx + 50]
                tape = tapes[frame][sy - 45 : sy + 45, sx - 45 : sx + 45]
                hidden += bool(around.max() > 0.02 or tape.max() > 0.02)
            if best is None or hidden < best[0]:
                best = hidden, by
    return best[1]


def cure(window, crosses):
    """Paint on the shot whose front is held out already, and judge what comes of it."""
    hand = Hand(window, "painted crosses")
    hand.key("paint on the shot", (Qt.Key.Key_C, CTRL | SHIFT))
    hand.in_line("a brush as wide as the tape and its edges", "Size", BRUSH_PX)
    hand.in_line("a firm rim", "Softness", 40)
    hand.in_line("it lives on all frames", "Frames of the next stroke", Life.ALL)
    fronts = {frame: in_front(crosses, frame) for frame in LOOKED_AT}
    tapes = {frame: crosses.matte("crosses", frame) for frame in LOOKED_AT}
    for index in range(len(CROSSES)):
        frame = clearest_frame(crosses, index, fronts)
        begun = hand.count
        hand.frame(frame)
        outline = crosses.outlines("crosses", frame)[index]
        middle = outline.mean(axis=0)
        hand.zoom(middle, 1.5)
        ends = [outline[[0, 1]].mean(axis=0), outline[[6, 7]].mean(axis=0), outline[[9, 10]].mean(axis=0),
                outline[[3, 4]].mean(axis=0)]  # fmt: skip
        hand.drag(
            "a line from the cross to beside it", [middle, middle + beside(crosses, index, fronts, tapes)[1]], ALT
        )
        hand.drag("along one bar", np.linspace(ends[0], ends[1], 8))
        hand.drag("along the other", np.linspace(ends[2], ends[3], 8))
        assert hand.count - begun <= ACTIONS_A_CROSS
    settle(window)
    rows = [judged(window, crosses, index) for index in range(len(CROSSES))]
    hand.note(
        f"Cure {len(CROSSES)} crosses over {FRAMES} frames with live clone strokes behind what is held out",
        ("cross", "tape left, worst frame", "light off by, spread over frames"),
        [(f"{index + 1}", f"{left:.1%}", f"{spread:.2%}") for index, (left, spread) in enumerate(rows)],
    )
    for left, spread in rows:
        assert left < TAPE_LEFT
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


def judged(window, crosses, index):
    """Return how much of the tape is left at worst, and how far the repair's light strays from that of the sky."""
    engine, shot = window.session.engine, window.shot
    lefts, ratios = [0.0], []
    for frame in LOOKED_AT:
        outline = crosses.outlines("crosses", frame)[index]
        x, y = (int(one) for one in outline.mean(axis=0))
        if not (50 <= x < 1870 and 50 <= y < 1030):
            continue
        square = (slice(y - 44, y + 44), slice(x - 44, x + 44))
        tape = crosses.matte("crosses", frame)[square]
        free = in_front(crosses, frame)[square] < 0.005
        result, truth = engine.result(shot, frame)[square], crosses.clean(frame)[square]
        plate = engine.plate(shot.footage, frame)[square]
        there = (tape > 0.5) & free
        if there.sum() < 300:
            continue
        tint = (plate - truth)[there].mean(axis=0)  # what tape does to the sky
        soft = cv2.GaussianBlur(result - truth, (0, 0), 1.0)[there]
        rim = (tape > 0.02) & (tape < 0.5) & free
        shared = (soft @ tint).mean() / (tint @ tint) - ((result - truth)[rim] @ tint).mean() / (tint @ tint)
        lefts.append(abs(float(shared)))
        ratios.append(float(result[there].mean() / truth[there].mean()))
    return max(lefts), float(np.std(ratios)) if ratios else 0.0


def assert_front_untouched(window, crosses):
    engine, shot = window.session.engine, window.shot
    for frame in (1031, 1066):
        solid = cv2.erode((in_front(crosses, frame) > 0.999).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        np.testing.assert_array_equal(engine.result(shot, frame)[solid], engine.plate(shot.footage, frame)[solid])
