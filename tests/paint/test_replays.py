"""Strokes laid again after a change: the very pixels of laying all of them, at the cost of what the change reaches."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Array, Blend, Brush, Source, Stroke, Tool
from gommage.core.paint import Canvas, Replay, StrokeSources, plainly, replayed, replays
from gommage.core.paint.canvases import TILE_BYTES
from tests.conftest import texture

CANVAS = texture(400, 640, seed=5)
BLANK = Canvas(CANVAS)


def mixed(count=40, seed=2):
    """Strokes of all tools, close enough to meet."""
    rng = np.random.default_rng(seed)
    found = []
    for number in range(count):
        start = rng.uniform((-10, -10), (650, 410))
        points = np.column_stack([start + np.cumsum(rng.normal(0, 12, (6, 2)), axis=0), rng.uniform(0.5, 1, 6)])
        brush = Brush(
            tool=tuple(Tool)[number % len(Tool)], size_px=float(rng.uniform(6, 30)), flow=float(rng.choice([0.4, 1.0])),
            blend=Blend.ADD if number % 11 == 4 else Blend.OVER, channels="rg" if number % 7 == 3 else "rgb",
        )  # fmt: skip
        dx, dy = rng.uniform(-60, 60, 2) if number % 3 else rng.integers(-60, 60, 2)
        source = Source(dx=float(dx), dy=float(dy), is_fixed=number % 9 == 5)
        found.append(Stroke(id=f"s{number}", points=Array(points), brush=brush, source=source))
    return found


def laid(strokes, earlier=None):
    return replayed(BLANK, tuple(plainly(stroke) for stroke in strokes), StrokeSources(), earlier or Replay())


def wider(strokes, index):
    brush = strokes[index].brush
    return [*strokes[:index], replace(strokes[index], brush=replace(brush, size_px=brush.size_px * 1.3)),
            *strokes[index + 1 :]]  # fmt: skip


CHANGES = {
    "first wider": lambda strokes: wider(strokes, 0),
    "middle wider": lambda strokes: wider(strokes, 17),
    "last wider": lambda strokes: wider(strokes, len(strokes) - 1),
    "one thrown away": lambda strokes: strokes[:9] + strokes[10:],
    "one more": lambda strokes: [*strokes, *mixed(1, seed=8)[:1]][:-1] + [replace(mixed(1, seed=8)[0], id="more")],
    "order": lambda strokes: [*strokes[5:], *strokes[:5]],
    "nothing": lambda strokes: strokes,
    "all gone": lambda strokes: [],
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_change_gives_what_laying_all_of_them_gives(change):
    before = mixed()
    _, earlier = laid(before)
    after = CHANGES[change](before)
    wanted, _ = laid(after)
    found, again = laid(after, earlier)
    np.testing.assert_array_equal(found.whole(), wanted.whole())
    np.testing.assert_array_equal(found.cover(found.bounds), wanted.cover(wanted.bounds))
    assert again.strokes == tuple(plainly(stroke) for stroke in after)


@pytest.fixture
def counted(monkeypatch):
    """The ids of strokes that were laid."""
    names, real = [], replays.stroke_laid
    monkeypatch.setattr(replays, "stroke_laid", lambda *given: names.append(given[2].id) or real(*given))
    return names


def test_what_a_change_does_not_reach_is_not_laid_again(counted):
    """Two strokes in one corner, one on them that takes from them, one far away."""

    def line(name, x, y, dx=0.0):
        points = Array([[x, y, 1], [x + 30, y + 10, 1]])
        return Stroke(id=name, points=points, brush=Brush(size_px=12.0), source=Source(dx=dx, dy=20.0))

    strokes = [line("first", 80, 80), line("far", 500, 300), line("takes", 180, 80, dx=-100.0), line("near", 90, 300)]
    _, earlier = laid(strokes)
    counted.clear()
    found, _ = laid(wider(strokes, 0), earlier)
    assert counted == ["first", "takes"]
    np.testing.assert_array_equal(found.whole(), laid(wider(strokes, 0))[0].whole())


def test_a_stroke_that_shows_the_same_again_ends_it(counted):
    """Restored: whatever happened below, the plate shows; so nobody above has to look again."""

    def stroke(name, tool, size, dx=0.0):
        points = Array([[200, 200, 1], [240, 210, 1]])
        brush = Brush(tool=tool, size_px=size, softness=0.0)
        return Stroke(id=name, points=points, brush=brush, source=Source(dx=dx, dy=0.0))

    strokes = [
        stroke("below", Tool.CLONE, 20.0, 70),
        stroke("over", Tool.RESTORE, 60.0),
        stroke("top", Tool.SOFTEN, 9.0),
    ]
    _, earlier = laid(strokes)
    counted.clear()
    found, _ = laid(wider(strokes, 0), earlier)
    assert counted == ["below", "over"]
    np.testing.assert_array_equal(found.whole(), laid(wider(strokes, 0))[0].whole())


def test_memory_ends_and_the_pixels_stay_right(counted):
    strokes = mixed()
    _, whole = laid(strokes)
    most = whole.nbytes // 2
    small = whole.within(most)
    assert TILE_BYTES < small.nbytes <= most
    assert small.strokes == whole.strokes
    counted.clear()
    found, _ = laid(wider(strokes, len(strokes) - 1), small)
    assert counted == [strokes[-1].id], "what is summed up is not laid again"
    np.testing.assert_array_equal(found.whole(), laid(wider(strokes, len(strokes) - 1))[0].whole())
    counted.clear()
    found, _ = laid(wider(strokes, 0), small)
    assert len(counted) > 1
    np.testing.assert_array_equal(found.whole(), laid(wider(strokes, 0))[0].whole())


def test_laying_can_be_called_off():
    def check():
        raise InterruptedError

    with pytest.raises(InterruptedError):
        replayed(BLANK, (plainly(mixed()[0]),), StrokeSources(), check=check)
