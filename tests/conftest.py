"""What all tests share: the demo shot, pictures with known content, a window that leaves nothing behind."""

import os
import threading
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QEvent, QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from gommage.app.look.theme import DARK, theme
from gommage.app.main_window import MainWindow
from gommage.app.start import make_application
from gommage.core.document import (
    Array,
    CleanPlate,
    Fix,
    Footage,
    FrameRange,
    Matte,
    Placement,
    PlaneFollow,
    Project,
    Shape,
    Shot,
    Softness,
    Surface,
    Track,
    placement,
)
from gommage.core.engine import Engine
from gommage.core.picture.writing import write_still
from gommage.demo import DemoShot, make_demo
from gommage.demo.backstage import VERSION as BACKSTAGE_VERSION
from gommage.demo.backstage import BackstageShot, backstage_at, draw_backstage
from gommage.demo.crosses import CrossesShot, make_crosses
from gommage.demo.filming import draw_frames
from gommage.demo.job import cleaned


@pytest.fixture(scope="session")
def demo(request) -> DemoShot:
    """The paper theatre, drawn once and kept in pytest's cache."""
    return make_demo(request.config.cache.mkdir("demo"))


@pytest.fixture(scope="session")
def crosses(request) -> CrossesShot:
    """The paper theatre's second shot, drawn once and kept in pytest's cache."""
    return make_crosses(request.config.cache.mkdir("demo"))


WALK_FRAMES = FrameRange(first=1032, last=1067)


@pytest.fixture(scope="session")
def walk(request) -> BackstageShot:
    """The part of the walk backstage in which the stage hand passes behind the crates, drawn once and kept."""
    shot = backstage_at(request.config.cache.mkdir("demo") / "some")
    frames = range(WALK_FRAMES.first, WALK_FRAMES.last + 1)
    draw_frames(shot.folder, frames, BACKSTAGE_VERSION, draw_backstage, ("plate", "clean", "crates", "hand"))
    return shot


@pytest.fixture(scope="session")
def engine() -> Engine:
    return Engine(2 * 1024**3)


@pytest.fixture(scope="session")
def cleaned_project(engine, demo) -> Project:
    """The demo with the whole job done by script."""
    return cleaned(engine, demo)


def texture(height: int, width: int, seed: int = 0, fine: float = 2.0) -> np.ndarray:
    """Return smooth random colour (H, W, 3) around 0.4, read-only so that a change to it fails loudly."""
    import cv2

    rng = np.random.default_rng(seed)
    picture = sum(
        cv2.GaussianBlur(rng.standard_normal((height, width, 3)).astype(np.float32), (0, 0), fine * 2**k) * 2**k
        for k in range(3)
    )
    picture = (0.4 + 0.09 * picture / picture.std()).clip(0.02, 1.5).astype(np.float32)
    picture.setflags(write=False)
    return picture


def rectangle(left: float, top: float, right: float, bottom: float) -> np.ndarray:
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], float)


def shape_of(points: np.ndarray, frame: int = 1001, shape_id: str = "shape") -> Shape:
    return Shape.of(shape_id, frame, points)


def cover_of(*shapes: Shape, softness: float = 6.0, surface_id: str = "wall", **fields) -> Matte:
    """A cover that rides on a surface."""
    matte = Matte.of(*shapes, surface_id=surface_id, softness=Softness(outwards_px=softness))
    return replace(matte, **fields)


def plane(points: np.ndarray, frame: int = 1001, surface_id: str = "wall", **fields) -> PlaneFollow:
    """A plane of one area."""
    return PlaneFollow(areas=Matte.of(shape_of(points, frame, "area"), surface_id=surface_id), **fields)


def placed_as(surface: Surface, track: Track) -> Placement:
    """Where a surface is if this is what was measured of it."""
    footage = Footage(path="none.####.exr", frames=track.frames, width=320, height=240, colour_space="Raw")
    surface = replace(surface, track=track)
    found = placement(Shot(id="alone", name="Alone", footage=footage, surfaces=(surface,)), surface)
    assert found is not None
    return found


SMALL_FRAMES = FrameRange(first=1001, last=1006)


@pytest.fixture
def small_shot(tmp_path) -> Shot:
    """A 160 x 120 still camera over six grainless frames that dim by a tenth each, on disk as half-float EXR."""
    folder = tmp_path / "plate"
    folder.mkdir()
    base = texture(120, 160, seed=3)
    for frame in SMALL_FRAMES:
        light = 0.9 ** (frame - 1001)
        write_still(folder / f"wall.{frame}.exr", (base * light).astype(np.float16), bits=16,
                    attributes={"FramesPerSecond": (25, 1), "scene": "paper theatre"})  # fmt: skip
    footage = Footage(
        path=str(folder / "wall.####.exr"),
        frames=SMALL_FRAMES,
        width=160,
        height=120,
        colour_space="Linear Rec.709 (sRGB)",
    )
    count = len(SMALL_FRAMES)
    track = Track(
        first_frame=1001,
        home_to_frame=Array(np.repeat(np.eye(3)[None], count, axis=0)),
        corner_slip_px=Array(np.zeros((count, 4))),
        certainty=Array([1.0] * count),
        reasons=("",) * count,
    )
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=plane(rectangle(10, 10, 150, 110)), track=track)
    return Shot(id="shot", name="Wall", footage=footage, surfaces=(surface,))


@pytest.fixture
def small_project(small_shot) -> Project:
    """The small shot with a clean plate and two fixes, one of them covered."""
    plate = CleanPlate(id="plate", name="Clean", surface_id="wall", home_frame=1001)
    cover = cover_of(shape_of(rectangle(40, 40, 60, 60), 1001, "cover"))
    fixes = (
        Fix(id="f1", name="Nail", surface_id="wall", cover=cover),
        Fix(id="f2", name="Hook", surface_id="wall"),
    )
    return Project.of(replace(small_shot, clean_plates=(plate,), fixes=fixes))


def wait_until(condition, timeout_s: float = 120.0) -> None:  # in a fresh clone code is compiled first
    """Run the event loop until a condition holds; the loop itself lets worker threads run, unlike QTest.qWait."""
    end = time.monotonic() + timeout_s
    while not condition():
        assert time.monotonic() < end, "waited too long"
        loop = QEventLoop()
        QTimer.singleShot(10, loop.quit)
        assert loop.exec() == 0, "the application was told to quit: nothing would ever come"


def settle(window: MainWindow) -> None:
    """Wait until nothing waits or runs, all answers have come, and none of them has asked for more."""
    quiet = 0
    while quiet < 3:
        wait_until(window.session.jobs.is_idle)
        QApplication.processEvents()
        quiet = quiet + 1 if window.session.jobs.is_idle() else 0


def _threads() -> list[str]:
    return [thread.name for thread in threading.enumerate() if thread.name.startswith(("job-", "journal"))]


@pytest.fixture
def window(tmp_path, qapp):
    """An empty main window; afterwards no thread of it may be left."""
    if theme() is not DARK or not qapp.styleSheet():  # once for all tests: every widget there is would be styled again
        make_application()
    made = MainWindow(Engine(1024**3), (tmp_path / "journals",), tmp_path / "state")
    made.show()
    made.activateWindow()
    wait_until(made.isActiveWindow)
    yield made
    made.session.saved = made.session.project  # nothing asks about unsaved work
    made.close()
    wait_until(lambda: not made.isVisible())
    wait_until(lambda: not _threads())  # a slow disk may still be syncing the journal
    made.session.engine.cache.clear()  # else pictures of windows that are not collected yet add up over all tests
    made.deleteLater()
    QApplication.sendPostedEvents(made, QEvent.Type.DeferredDelete)  # else it would be there until the last test
    QApplication.processEvents()
