"""Measure every row of the budget table that exists: `python -m benchmarks [--json FILE] [--compare FILE]`.

Times are given as they are and as multiples of a yardstick (one linear warp of a 1920 x 1080 float picture, measured
in the same run), so that two runs, perhaps on two machines, can be compared: `--compare` prints the ratios.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import cv2
import numpy as np
from msgspec.structs import replace

from benchmarks.donors import crossing_shot, seconds_a_frame
from benchmarks.painting import touch_up_seconds
from benchmarks.shots import FIRST, filmed, motion, rectangle, shot_on_disk, texture
from gommage.app.warming import warm_up
from gommage.core.cover import matte_at, matte_pixels
from gommage.core.cover.parts import _line
from gommage.core.document import (
    Array,
    Channel,
    Fix,
    FrameRange,
    Matte,
    MotionModel,
    Painted,
    Painting,
    PlaneFollow,
    Project,
    Shape,
    Shot,
    Stroke,
    Surface,
    Track,
    VertexKind,
    edits,
    store,
)
from gommage.core.engine import Engine, Look, Step, ViewRequest, panorama_view, view_pixels
from gommage.core.follow import follow_plane, with_step
from gommage.core.follow.align import align, make_pyramid, make_template
from gommage.core.follow.masks import polygon_mask
from gommage.core.follow.sight import choose_sight
from gommage.core.geometry import IDENTITY, Window, apply_matrix, from_matrix

WIDTH, HEIGHT = 1920, 1080


@dataclass(frozen=True)
class Row:
    """One figure; `seconds` is what the yardstick is held against."""

    name: str
    figure: float
    unit: str
    must: str
    aim: str
    seconds: float | None = None


def best_of(times: int, call: Callable[[], object]) -> float:
    """Return the shortest of several runs, in seconds."""
    shortest = np.inf
    for _ in range(times):
        begin = time.perf_counter()
        call()
        shortest = min(shortest, time.perf_counter() - begin)
    return shortest


def yardstick() -> float:
    picture = texture(WIDTH, HEIGHT)
    matrix = motion(5, WIDTH, HEIGHT)
    return best_of(7, lambda: cv2.warpPerspective(picture, matrix, (WIDTH, HEIGHT)))


def follow_rows() -> list[Row]:
    count = 25
    base = texture(WIDTH, HEIGHT, 2)
    frames = {FIRST + k: filmed(base, motion(k, WIDTH, HEIGHT), 0.01, k) for k in range(count)}
    area = rectangle(760, 390, 400, 300)
    surface = Surface(id="s", name="S", home_frame=FIRST, how=PlaneFollow(areas=Matte.of(area, surface_id="s")))

    def follow(last: int) -> Track:
        track: Track | None = None
        for step in follow_plane(frames.__getitem__, surface, FrameRange(first=FIRST, last=last), FIRST):
            track = with_step(track, step)
        assert track is not None
        return track

    follow(FIRST + 1)  # compiles
    span = FrameRange(first=FIRST, last=FIRST + count - 1)
    begin = time.perf_counter()
    track = follow(span.last)
    spent = (time.perf_counter() - begin) / (count - 1)
    assert track.frames == span
    corners = area.points_at(FIRST)
    errors = [
        np.hypot(*(apply_matrix(track.row(f), corners) - apply_matrix(motion(f - FIRST, WIDTH, HEIGHT), corners)).T)
        for f in list(span)[1:]
    ]
    return [
        Row("follow 400x300 px, perspective", 1 / spent, "frames/s", "40", "60", spent),
        Row("corner error of that follow", float(np.mean(errors)), "px", "0.10", ""),
        Row("corner error over the Cramer-Rao limit, 300x200 px", over_the_limit(), "x", "2", "1.25"),
    ]


def over_the_limit(grain: float = 0.02, runs: int = 24) -> float:
    """Return the alignment's error over the least that any method can have on two grainy pictures (Cramer-Rao)."""
    width, height = 640, 480
    corners = np.array([[170.0, 140], [470, 140], [470, 340], [170, 340]])
    mask = polygon_mask([corners], Window.of(width, height))
    squares, limits = [], []
    for run in range(runs):
        base, moved = texture(width, height, run % 4), motion(3 + run % 7, width, height)
        home, frame = filmed(base, np.eye(3), grain, 100 + run), filmed(base, moved, grain, 200 + run)
        sight = choose_sight(home, mask, Channel.GREEN)
        template = make_template(home, mask, corners, sight)
        found = align(template, make_pyramid(frame, len(template.levels), sight), moved, MotionModel.PERSPECTIVE)
        squares.append(((apply_matrix(found.matrix, corners) - apply_matrix(moved, corners)) ** 2).sum(axis=1).mean())
        limits.append(least_variance(base[..., 1], mask, corners, grain) * abs(np.linalg.det(moved)))
    return float(np.sqrt(np.mean(squares) / np.mean(limits)))


def least_variance(clean: np.ndarray, mask: np.ndarray, corners: np.ndarray, grain: float) -> float:
    """Return the Cramer-Rao limit of the corners' squared error, for motion, gain and offset unknown."""
    spectrum = np.fft.fft2(clean)
    slope_y = np.fft.ifft2(spectrum * np.fft.fftfreq(clean.shape[0])[:, None] * 2j * np.pi).real[mask > 0]
    slope_x = np.fft.ifft2(spectrum * np.fft.fftfreq(clean.shape[1])[None] * 2j * np.pi).real[mask > 0]
    rows, columns = np.nonzero(mask)
    middle = corners.mean(axis=0)

    def ways(p: np.ndarray, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        zero, one = np.zeros(len(p)), np.ones(len(p))
        across = np.stack([one, zero, -q, p, p, q, -p * p, -p * q])
        return across, np.stack([zero, one, p, q, -q, p, -p * q, -q * q])

    across, down = ways((columns + 0.5 - middle[0]) / 150, (rows + 0.5 - middle[1]) / 150)
    values = clean[mask > 0]
    design = np.vstack([across * slope_x + down * slope_y, values, np.ones(len(values))])
    covariance = np.linalg.inv(design @ design.T)[:8, :8] * 2 * grain**2
    across, down = ways(*((corners - middle) / 150).T)
    return float(sum(np.einsum("ic,ij,jc->c", way, covariance, way).mean() for way in (across, down)))


def evaluate_row(folder: Path) -> Row:
    shot = shot_on_disk(folder, WIDTH, HEIGHT, 4, 3, 10).shots[0]
    warm = Engine()
    warm.result(shot, FIRST + 1)
    plates = [warm.painted(shot, plate) for plate in shot.clean_plates]
    spent = []
    for frame in range(FIRST + 1, FIRST + 4):
        engine = Engine()
        for plate in shot.clean_plates:  # painting them is not part of evaluating a frame
            engine.painted(shot, plate)
        engine.grain(shot, shot.surfaces[0])
        engine.result(shot, FIRST)
        begin = time.perf_counter()
        engine.result(shot, frame)
        spent.append(time.perf_counter() - begin)
    assert len(plates) == 3
    return Row("one frame with three fixes, cold, its file read", min(spent) * 1000, "ms", "200", "80", min(spent))


def open_window(project: Project) -> Any:
    """Return a window of 1920x1080 on a project, at rest."""
    from gommage.app.main_window import MainWindow
    from gommage.app.start import make_application

    make_application()
    state = Path(tempfile.mkdtemp())
    window = MainWindow(Engine(), (state / "journals",), state)
    window.resize(1920, 1080)
    window.show()
    window.session.begin(project)
    settle(window)
    return window


def settle(window: Any) -> None:
    from PySide6.QtWidgets import QApplication

    calm = 0
    while calm < 3:
        QApplication.processEvents()
        calm = calm + 1 if window.session.jobs.is_idle() else 0
        time.sleep(0.002)


def close(window: Any) -> None:
    from PySide6.QtWidgets import QApplication

    window.session.saved = window.session.project
    window.close()
    while window.isVisible():
        QApplication.processEvents()


def window_rows(folder: Path) -> list[Row]:
    from PySide6.QtWidgets import QApplication

    project = shot_on_disk(folder, WIDTH, HEIGHT, 12, 2, 5)
    window = open_window(project)
    frames = list(project.shots[0].footage.frames)
    for frame in frames:
        window.session.go_to(frame)
        settle(window)

    def step(frame: int) -> float:
        begin = time.perf_counter()
        window.session.go_to(frame)
        QApplication.processEvents()  # all that has to be drawn is drawn here
        return time.perf_counter() - begin

    steps = [step(frame) for _ in range(4) for frame in frames]
    begin = time.perf_counter()
    for _ in range(3):
        for frame in frames:
            window.session.go_to(frame)
            QApplication.processEvents()
    rate = 3 * len(frames) / (time.perf_counter() - begin)
    close(window)
    late = float(np.percentile(steps[len(frames) :], 95))
    return [
        Row("step to a cached frame, p95", late * 1000, "ms", "16", "8", late),
        Row("play from cache, 1920x1080 window", rate, "frames/s", "48", "60", 1 / rate),
    ]


class Screen:
    """Tells when the viewer has painted what it was given last."""

    def __init__(self, viewer: Any, *names: str) -> None:
        from PySide6.QtCore import QEvent, QEventLoop, QObject, QTimer

        screen = self
        self._loop = QEventLoop()
        self._is_given = False

        class Watch(QObject):
            def eventFilter(self, watched: QObject, event: QEvent) -> bool:
                if event.type() == QEvent.Type.Paint and screen._is_given:
                    screen._is_given = False
                    QTimer.singleShot(0, screen._loop.quit)  # after this very paint
                return False

        for name in names:
            self._watch_call(viewer, name)
        self._watch = Watch()
        viewer.installEventFilter(self._watch)

    def _watch_call(self, viewer: Any, name: str) -> None:
        call = getattr(viewer, name)

        def given(*arguments: Any, **fields: Any) -> None:
            call(*arguments, **fields)
            self._is_given = True

        setattr(viewer, name, given)

    def seconds(self, act: Callable[[], object]) -> float:
        """Return how long it takes from an act to the repainted widget."""
        begin = time.perf_counter()
        act()
        self._loop.exec()
        return time.perf_counter() - begin


def looked_down(project: Project, painting: Painting) -> tuple[Project, str]:
    """Return a panorama of a project's footage with strokes in a flat view straight down, and that view's id."""
    footage = replace(project.shots[0].footage, is_panorama=True)
    whole = Shot(id="round", name="Round", footage=footage)
    view = panorama_view(whole, footage.width / 2, footage.height, 100.0, "Down")
    strokes = tuple(replace(stroke, surface_id="") for stroke in painting.strokes)
    fix = Fix(id="paint", name="Paint", fill=Painted(), touch_up=replace(painting, strokes=strokes))
    return edits.add_fix(edits.add_view(Project.of(whole), whole.id, view), view.id, fix), view.id


def pen_rows(
    folder: Path, width: int, height: int, must: str, aim: str, on_shot: bool = False, in_panorama: bool = False
) -> list[Row]:
    """Strokes through the window's real events, on a plate with 200 strokes, on the shot, or on a flat view of a
    panorama; then each is undone.
    """
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    project = shot_on_disk(folder, width, height, 2, 1, 200)
    painting = project.shots[0].clean_plates[0].painting
    view_id = ""
    if in_panorama:
        project, view_id = looked_down(project, painting)
    elif on_shot:
        fix = Fix(id="paint", name="Paint", surface_id="wall", fill=Painted(), touch_up=painting)
        project = edits.add_fix(project, project.shots[0].id, fix)
    window = open_window(project)
    if in_panorama:
        window.of_steps.panoramas.go_to_view(view_id)
    if on_shot:
        window.session.set_desk(fix_id="paint", fix_ids=("paint",))
        window.call("paint_on_shot")
    else:
        window.views.go_to_step(Step.FILL)
    look = Look.RESULT if on_shot else Look.CLEAN_PLATE
    source = painting.strokes[0].source
    window.session.set_desk(source=source, look=look, brush=replace(window.desk.brush, size_px=60.0))
    settle(window)
    viewer = window.viewer
    screen, undone = Screen(viewer, "add_live"), Screen(viewer, "set_picture")
    kinds = {"press": QEvent.Type.MouseButtonPress, "move": QEvent.Type.MouseMove}
    left, none = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton

    def send(kind: QEvent.Type, at: QPointF) -> None:
        buttons = none if kind == QEvent.Type.MouseButtonRelease else left
        event = QMouseEvent(kind, at, viewer.mapToGlobal(at), left, buttons, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(viewer, event)

    downs, moves, undos = [], [], []
    for stroke in range(12):
        for step in range(20):
            at = QPointF(360 + 9.0 * step, viewer.height() / 2 - 90 + 14 * stroke + 4 * np.sin(step))
            spent = screen.seconds(partial(send, kinds["move" if step else "press"], at))
            (moves if step else downs).append(spent)
        send(QEvent.Type.MouseButtonRelease, at)
        settle(window)
    for _ in range(8):
        undos.append(undone.seconds(window.items.undo))
        settle(window)
    close(window)
    down, late = float(np.max(downs[2:])), float(np.percentile(downs[2:] + moves[40:], 95))
    undo = float(np.median(undos))
    where = ", in a flat view of a panorama" if in_panorama else ", on the shot" if on_shot else ""
    what = f"{width}x{height}, 200 strokes below{where}"
    worst_must, worst_aim = (one.split("/")[1] for one in (must, aim))
    return [
        Row(
            f"pen event to repainted widget, {what}, p95",
            late * 1000,
            "ms",
            must.split("/")[0],
            aim.split("/")[0],
            late,
        ),
        Row(f"worst of its pen-downs, {what}", down * 1000, "ms", worst_must, worst_aim, down),
        Row(f"undo after a stroke, to the screen, {what}", undo * 1000, "ms", "30", "16", undo),
    ]


START = """
import time; begin = time.perf_counter()
from PySide6.QtCore import QTimer
from gommage.app.start import make_window
from pathlib import Path; import tempfile
state = Path(tempfile.mkdtemp()); window = make_window((state / "j",), state); window.show()
from PySide6.QtWidgets import QApplication
def done():
    print(time.perf_counter() - begin); window.close(); QApplication.quit()
QTimer.singleShot(0, done); QApplication.exec()
"""


def start_row() -> Row:
    runs = [
        float(subprocess.run([sys.executable, "-c", START], capture_output=True, text=True, check=True).stdout)
        for _ in range(3)
    ]
    return Row("window usable after start", min(runs), "s", "3", "1.2", min(runs))


MEMORY = """
import re, sys
from pathlib import Path
from benchmarks.donors import crossing_shot
from benchmarks.shots import FIRST, shot_on_disk
from gommage.core.engine import Engine, RenderTarget, render
folder = Path(sys.argv[1])
engine = Engine(2 * 1024**3)
if sys.argv[2] == "plates":
    shot = shot_on_disk(folder, 3840, 2160, 2, 5, 5).shots[0]
    for _ in range(20):
        render(engine, shot, [FIRST, FIRST + 1], RenderTarget(folder / "out"))
else:
    shot = crossing_shot(folder, 3840, 2160, 60, 4)
    for frame in shot.footage.frames:
        engine.result(shot, frame)
# What `resource` tells of a child is at least what its parent held when it was started.
print(int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) / 1024**2)
"""


def memory_row(folder: Path, what: str = "plates") -> Row:
    command = [sys.executable, "-c", MEMORY, str(folder), what]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    if what == "plates":
        return Row("resident, 40 frames of 3840x2160 with five fixes", float(done.stdout), "GB", "8", "4")
    return Row("resident, 60 frames of 3840x2160 filled from other frames", float(done.stdout), "GB", "4", "")


def view_row(folder: Path) -> Row:
    """Show a 4K frame in a 1000-pixel viewer, cold but for the frame itself."""
    shot = shot_on_disk(folder, 3840, 2160, 1, 0, 0).shots[0]
    engine = Engine()
    engine.plate(shot.footage, FIRST)

    def look() -> None:
        view = from_matrix(np.diag([0.26, 0.26, 1.0]) + np.random.default_rng().uniform(0, 1e-9))
        view_pixels(engine, ViewRequest(shot, FIRST, Look.PLATE, view, (1000, 562)))

    look()
    spent = best_of(5, look)
    return Row("a 4K frame into a 1000 px viewer", spent * 1000, "ms", "", "", spent)


def project_rows(folder: Path) -> list[Row]:
    """Write and read a project of 2000 strokes of 120 points and five surfaces over 300 frames."""
    rng = np.random.default_rng(3)
    shot = shot_on_disk(folder, 64, 64, 1, 1, 0).shots[0]
    many = tuple(
        Stroke(id=f"s{number}", points=Array(rng.uniform(0, (2000, 2000, 1), (120, 3)))) for number in range(2000)
    )
    plate = replace(shot.clean_plates[0], painting=Painting(strokes=many))
    matrices = np.stack([motion(step, WIDTH, HEIGHT) for step in range(300)])
    track = Track(first_frame=FIRST, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((300, 4), 0.1)),
                  certainty=Array(np.full(300, 0.9)), reasons=("",) * 300)  # fmt: skip
    others = tuple(replace(shot.surfaces[0], id=f"w{number}", track=track) for number in range(4))
    footage = replace(shot.footage, frames=FrameRange(first=FIRST, last=FIRST + 299))
    surfaces = replace(shot.surfaces[0], track=track), *others
    project = Project.of(replace(shot, footage=footage, clean_plates=(plate,), surfaces=surfaces))
    saved = best_of(3, lambda: store.save(project, folder / "many.gommage"))
    loaded = best_of(3, lambda: store.load(folder / "many.gommage"))
    assert store.load(folder / "many.gommage") == project
    return [
        Row("save a project of 2000 strokes", saved, "s", "1", "", saved),
        Row("load it", loaded, "s", "1", "", loaded),
    ]


def matte_rows() -> list[Row]:
    """Return how long 100 shapes of 40 vertices take, all anew and with one vertex moved."""
    rng = np.random.default_rng(0)
    angle, shapes = np.arange(40) * 2 * np.pi / 40, []
    for number in range(100):
        radius = rng.uniform(30, 200) * (1 + 0.03 * rng.standard_normal(40))
        middle = rng.uniform((100, 100), (WIDTH - 100, HEIGHT - 100))
        points = middle + radius[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])
        shapes.append(Shape.of(str(number), FIRST, points, VertexKind.SMOOTH))
    window, kept = Window.of(WIDTH, HEIGHT), {}

    def keep(name: Any, make: Callable[[], Any]) -> Any:
        if name not in kept:
            kept[name] = make()
        return kept[name]

    def drawn(moved: float) -> np.ndarray:
        one = shapes[50]
        points = one.points_at(FIRST) + np.eye(40)[7][:, None] * moved
        matte = Matte.of(*shapes[:50], Shape.of(one.id, FIRST, points, VertexKind.SMOOTH), *shapes[51:])
        return matte_pixels(matte_at(matte, FIRST, lambda surface_id, frame: IDENTITY), window, 1.0, keep)

    def anew() -> np.ndarray:
        kept.clear()
        _line.cache_clear()
        return drawn(0.0)

    warm_up(lambda: None)  # as the application does beside its window
    anew()
    cold = best_of(5, anew)
    moves = iter(range(1, 20))
    moved = best_of(9, lambda: drawn(float(next(moves))))
    return [
        Row("100 shapes of 40 vertices, 1920x1080, cold", cold * 1000, "ms", "40", "15", cold),
        Row("one vertex of them moved", moved * 1000, "ms", "8", "", moved),
    ]


def touch_up_rows(folder: Path) -> list[Row]:
    cold, last, first = touch_up_seconds(folder, WIDTH, HEIGHT)
    what = "500 strokes of all tools on a 1920x1080 frame"
    return [
        Row(f"{what}, cold", cold * 1000, "ms", "400", "150", cold),
        Row(f"{what}, the last one changed", last * 1000, "ms", "20", "", last),
        Row(f"{what}, the first one changed", first * 1000, "ms", "60", "", first),
    ]


def donor_rows(folder: Path) -> list[Row]:
    """Return how fast a cover of 400 x 300 px that crosses is filled from other frames, on two threads."""
    shot = crossing_shot(folder, WIDTH, HEIGHT, 40)
    engine = Engine(3 * 10**9)
    engine.result(shot, FIRST + 20)  # what is compiled is compiled
    first, _ = seconds_a_frame(Engine(3 * 10**9), shot, range(FIRST + 20, FIRST + 22))
    for frame in shot.footage.frames:
        engine.plate(shot.footage, frame)
    alone = min(seconds_a_frame(engine, shot, range(FIRST + 12, FIRST + 17)))
    frames = range(FIRST + 20, FIRST + 28)
    begin = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda frame: engine.result(shot, frame), frames))
    seconds = (time.perf_counter() - begin) / len(frames)
    return [
        Row("400x300 px filled from other frames, 1920x1080", 1 / seconds, "frames/s", "8", "15", seconds),
        Row("one such frame on one core", 1000 * alone, "ms", "", "", alone),
        Row("the first such frame, its donors read", first, "s", "1", "", first),
    ]


def measure() -> list[Row]:
    rows = [*follow_rows(), *matte_rows()]
    pen_hd = partial(pen_rows, width=WIDTH, height=HEIGHT, must="12/20", aim="8/12")
    pen_shot = partial(pen_rows, width=WIDTH, height=HEIGHT, must="16/20", aim="10/12", on_shot=True)
    pen_shot_4k = partial(pen_rows, width=3840, height=2160, must="30/35", aim="16/16", on_shot=True)
    pen_round = partial(pen_rows, width=2880, height=1440, must="16/20", aim="10/12", on_shot=True, in_panorama=True)
    pen_4k = partial(pen_rows, width=3840, height=2160, must="20/35", aim="10/16")
    for make in (
        pen_hd,
        pen_4k,
        pen_shot,
        pen_shot_4k,
        pen_round,
        touch_up_rows,
        donor_rows,
        evaluate_row,
        window_rows,
        view_row,
        project_rows,
        memory_row,
        partial(memory_row, what="donors"),
    ):
        with tempfile.TemporaryDirectory() as folder:
            made = make(Path(folder))
            rows.extend(made if isinstance(made, list) else [made])
    return [*rows, start_row()]


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("--json", type=Path, help="write the figures to this file")
    parser.add_argument("--compare", type=Path, help="print ratios to the figures in this file")
    options = parser.parse_args()
    stick = yardstick()
    rows = measure()
    before = json.loads(options.compare.read_text()) if options.compare else {}
    print(
        f"yardstick: {stick * 1000:.1f} ms; peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MB\n"
    )
    print("| what | measured | must | aim | yardsticks |" + (" now / then |" if before else ""))
    print("|---|---|---|---|---|" + ("---|" if before else ""))
    figures = {}
    for row in rows:
        sticks = row.seconds / stick if row.seconds is not None else None
        figures[row.name] = sticks if sticks is not None else row.figure
        line = f"| {row.name} | {row.figure:.3g} {row.unit} | {row.must} | {row.aim} | {sticks or 0:.2f} |".replace(
            "| 0.00 |", "| |"
        )
        if before:
            line += f" {figures[row.name] / before[row.name]:.2f} |" if row.name in before else " new |"
        print(line)
    if options.json:
        options.json.write_text(json.dumps(figures, indent=1))


if __name__ == "__main__":
    main()
