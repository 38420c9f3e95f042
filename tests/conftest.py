"""What all tests share: the demo shot, pictures with known content, a window that leaves nothing behind."""

import os
import shutil
import threading
from dataclasses import fields
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import pytest
from hypothesis import settings
from msgspec.structs import replace
from PySide6.QtCore import QEvent, QEventLoop, QObject, QTimer
from PySide6.QtWidgets import QApplication, QToolButton

from gommage.app.desk import Desk
from gommage.app.main_window import MainWindow
from gommage.app.picture import views
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
from gommage.demo import DemoShot
from gommage.demo.backstage import BackstageShot
from gommage.demo.crosses import CrossesShot
from gommage.demo.job import cleaned
from tests import shots
from tests.waiting import told, wait

pytest_plugins = ("tests.measuring",)
settings.register_profile("suite", deadline=None)  # the first call may compile, and the machine may be busy
settings.load_profile("suite")


@pytest.fixture(scope="session")
def demo() -> DemoShot:
    """The paper theatre's first shot."""
    return shots.shot("label")


@pytest.fixture(scope="session")
def crosses() -> CrossesShot:
    """Its second shot."""
    return shots.shot("crosses")


@pytest.fixture(scope="session")
def walk() -> BackstageShot:
    """The walk backstage, as far as the stage hand passes behind the crates."""
    return shots.shot("backstage", is_whole=False)


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


@pytest.fixture(scope="session")
def small_footage(tmp_path_factory) -> Footage:
    """What `footage_in` films, of all tests."""
    return footage_in(tmp_path_factory.mktemp("small") / "plate")


def footage_in(folder: Path) -> Footage:
    """Film a 160 x 120 still camera over six grainless frames that dim by a tenth each, on disk as half-float EXR."""
    folder.mkdir()
    base = texture(120, 160, seed=3)
    for frame in SMALL_FRAMES:
        light = 0.9 ** (frame - 1001)
        write_still(folder / f"wall.{frame}.exr", (base * light).astype(np.float16), bits=16,
                    attributes={"FramesPerSecond": (25, 1), "scene": "paper theatre"})  # fmt: skip
    return Footage(
        path=str(folder / "wall.####.exr"),
        frames=SMALL_FRAMES,
        width=160,
        height=120,
        colour_space="Linear Rec.709 (sRGB)",
    )


@pytest.fixture
def own_shot(small_footage, tmp_path) -> Shot:
    """The small footage, its files in ``plate`` of the test's own folder, with its wall followed."""
    shutil.copytree(Path(small_footage.path).parent, tmp_path / "plate")
    return wall_followed(replace(small_footage, path=str(tmp_path / "plate" / "wall.####.exr")))


@pytest.fixture
def small_shot(own_shot) -> Shot:
    """The same: a test may change its files."""
    return own_shot


def wall_followed(footage: Footage) -> Shot:
    count = len(footage.frames)
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


def wait_until(condition) -> None:
    """Run the event loop until a condition holds; the loop itself lets worker threads run, unlike QTest.qWait."""

    def turn():
        loop = QEventLoop()
        QTimer.singleShot(10, loop.quit)
        assert loop.exec() == 0, f"the application was told to quit: {told(condition)} would never come"

    wait(condition, turn)


def settle(window: MainWindow, turn=None) -> None:
    """Wait until nothing waits or runs, all answers have come, and none of them has asked for more.

    A ``turn`` of the event loop of one's own sees everything that is done meanwhile.
    """
    session, quiet = window.session, 0

    def is_idle():
        return session.jobs.is_idle() and not session._summarising.isActive()

    def is_quiet():
        nonlocal quiet
        (turn or QApplication.processEvents)()
        quiet = quiet + 1 if is_idle() else 0
        return quiet > 3

    wait(is_quiet, *[] if turn else [lambda: wait_until(is_idle)])


def threads_of_windows() -> list[str]:
    return [thread.name for thread in threading.enumerate() if thread.name.startswith(("job-", "journal"))]


def open_window(folder: Path) -> MainWindow:
    """Return a window that keeps its journals and its state in a folder, on the screen and in use."""
    made = MainWindow(Engine(1024**3), (folder / "journals",), folder / "state")
    made.show()
    made.activateWindow()
    wait_until(made.isActiveWindow)
    return made


def close_window(made: MainWindow) -> None:
    """Close a window, and see that nothing of it is left."""
    made.session.saved = made.session.project  # nothing asks about unsaved work
    made.close()
    wait_until(lambda: not made.isVisible())
    wait_until(lambda: not threads_of_windows())  # a slow disk may still be syncing the journal
    made.session.engine.cache.clear()  # else pictures of windows that are not collected yet add up over all tests
    made.deleteLater()
    QApplication.sendPostedEvents(made, QEvent.Type.DeferredDelete)  # else it would be there until the last test
    QApplication.processEvents()


@pytest.fixture(scope="session")
def application(qapp):
    """The application, dressed."""
    return make_application()


@pytest.fixture(scope="module")
def window_of_module(tmp_path_factory, application):
    """A window that the tests of a module have one after the other, and how its folds are to begin with.

    It makes two neighbours of a frame ready instead of seven: the others take as much time and the same code.
    """
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(views, "NEIGHBOURS", (1, -1))
        made = open_window(tmp_path_factory.mktemp("window"))
        yield made, {button: button.isChecked() for button in folds(made)}
        close_window(made)


@pytest.fixture
def window(window_of_module):
    """The module's window, empty and as if it were new."""
    made, folded = window_of_module
    empty(made)
    for button, is_folded in folded.items():
        button.setChecked(is_folded)
    return made


def folds(window: MainWindow) -> list[QToolButton]:
    return [button for button in window.findChildren(QToolButton) if button.property("fold")]


def empty(window: MainWindow) -> None:
    """Begin with nothing, and look at it as one does at first."""
    window.frames.halt()
    window.stage.cancel()
    first = Desk()
    window.session.set_desk(**{field.name: getattr(first, field.name) for field in fields(first)})
    window.session.begin(Project())
    settle(window)
    window.viewer.pen_at = None
    window.resize(1280, 800)
    window.activateWindow()
    window.viewer.setFocus()
    wait_until(window.isActiveWindow)


@pytest.fixture
def own_window(tmp_path, application):
    """A window of the test's own, for what begins or ends with it; afterwards no thread of it may be left."""
    made = open_window(tmp_path)
    yield made
    close_window(made)


@pytest.fixture
def hear():
    """Return what connects a signal to a slot for as long as the test lasts: the window goes on to the next."""
    connections = []
    yield lambda signal, slot: connections.append(signal.connect(slot))
    for connection in connections:
        QObject.disconnect(connection)
