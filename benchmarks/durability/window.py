"""The real window, offscreen, that is given one damaged thing after another.

``python -m benchmarks.durability.window KIND FIRST COUNT FOLDER`` prints a line of JSON for each: how it went, and how
long it took. A process of its own, since a decoder may end it.
"""

from __future__ import annotations

import faulthandler
import json
import os
import resource
import shutil
import sys
import time
from collections.abc import Callable
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication, QDialog

from benchmarks.durability.mutations import damaged_bytes, damaged_json, damaged_lines
from benchmarks.durability.subjects import stroke, subject
from gommage.app import files, projects
from gommage.app.dialogs.recovery import RecoveryDialog
from gommage.app.faults import Faults
from gommage.app.main_window import MainWindow
from gommage.app.start import make_application
from gommage.core.document import Project, edits, store
from gommage.core.document.journal import Base, Journal
from gommage.core.engine import Engine, Look, Step
from gommage.core.picture.writing import STILL_FORMATS, MovieWriter, write_still

__all__ = ["Host", "settle"]

BUDGET = 200 * 2**20
LONGEST_S = 20.0
USED_EVERY = 4
"""Of what opens, every so many is looked at in every step and view; the others are shown as they open."""
NOTHING_LEFT = "Nothing was left behind."


def settle(window: MainWindow, until: Callable[[], bool] = lambda: True, timeout_s: float = LONGEST_S) -> bool:
    """Run the event loop until nothing runs any more and something holds; return whether it came to that."""
    end, quiet = time.monotonic() + timeout_s, 0
    while quiet < 2:
        if time.monotonic() > end:
            return False
        loop = QEventLoop()
        QTimer.singleShot(1, loop.quit)
        loop.exec()
        quiet = quiet + 1 if window.session.jobs.is_idle() and until() else 0
    return True


class Host:
    """A window that answers its own dialogs and notes what it says.

    Attributes
    ----------
    said : list of str
        Errors that were shown.
    faults : list of str
        Errors that nobody expected.
    """

    def __init__(self, folder: Path) -> None:
        make_application()
        self.window = MainWindow(Engine(BUDGET), (folder / "journals",), folder / "state")
        self.said: list[str] = []
        self.faults: list[str] = []
        self.is_open = False
        self._opened = 0
        session = self.window.session
        session.error_shown.connect(self.said.append)
        session.note_shown.connect(lambda words: self.said.append(words) if words == NOTHING_LEFT else None)
        session.fault_shown.connect(lambda words, details: self.faults.append(details))
        session.begun.connect(lambda: setattr(self, "is_open", True))
        Faults(session.report).install()
        projects.ask = lambda parent, title, words, *answers: answers[-2] if title == "Unsaved work" else answers[-1]
        files.FootageDialog.exec = lambda dialog: QDialog.DialogCode.Accepted
        RecoveryDialog.exec = lambda dialog: self._answer(dialog)
        self.window.show()
        settle(self.window)

    def _answer(self, dialog: RecoveryDialog) -> None:
        """Take up the first that was left behind, or note why that cannot be."""
        one = dialog.chosen()
        if one is not None and one.fault:
            self.said.append(one.fault)
        dialog.take_button.click()

    def give(self, act: Callable[[], object]) -> dict[str, object]:
        """Have the window open something and work in it; return how it went."""
        self.said.clear()
        self.faults.clear()
        self.is_open = False
        began = time.monotonic()
        act()
        came = settle(self.window, lambda: self.is_open or bool(self.said) or bool(self.faults))
        seconds = time.monotonic() - began
        self._opened += self.is_open
        if came and self.is_open and not self.faults and self._opened % USED_EVERY == 0:
            came = self._use()
        outcome = "fault" if self.faults else "hang" if not came else "opened" if self.is_open else "refused"
        words = max(self.said, key=len, default="")
        if len(words) > 700 or not words.isprintable():
            outcome = "long"
        detail = self.faults[0][-1500:] if self.faults else words[:300]
        return {"outcome": outcome, "seconds": round(seconds, 3), "words": detail}

    def _use(self) -> bool:
        """Look at what is open in every way."""
        window, session = self.window, self.window.session
        shot = session.shot
        if shot is None:
            return True
        for step in Step:
            session.set_desk(step=step)
            QApplication.processEvents()
        frames = shot.footage.frames
        for frame, look in ((frames.first, Look.RESULT), (frames.last, Look.MATTE), (frames.first + len(frames) // 2,
                            Look.CLEAN_PLATE), (frames.first, Look.SHEET)):  # fmt: skip
            session.go_to(frame)
            session.set_desk(look=look)
            if not settle(window):
                return False
        session.set_desk(look=Look.RESULT, has_lattice=True, has_test_card=True, has_trails=True, step=Step.FOLLOW)
        for change in ({"is_steady": True}, {"is_square_on": True}, {"is_steady": False, "is_square_on": False}):
            session.set_desk(**change)
            if not settle(window):
                return False
        return True

    def leave(self) -> None:
        """Put an empty project on the desk, so that nothing is asked of the last one."""
        session = self.window.session
        session.begin(Project())
        settle(self.window)


# -- what is damaged --------------------------------------------------------------------------------------------


def projects_of(folder: Path, host: Host) -> Callable[[int], Callable[[], object]]:
    """Return what makes the n-th damaged project and opens it."""
    target = folder / "p.gommage"
    store.save(subject(folder / "plate"), target)
    plain = json.loads((target / store.FILE_NAME).read_text())

    def nth(number: int) -> Callable[[], object]:
        data = damaged_json(np.random.default_rng(number), plain)
        (target / store.FILE_NAME).write_bytes(data)
        return lambda: host.window.projects.open_project(target)

    return nth


def journals_of(folder: Path, host: Host) -> Callable[[int], Callable[[], object]]:
    """Return what makes the n-th damaged journal and takes it up."""
    project, root = subject(folder / "plate"), folder / "journals"
    journal = Journal(folder / "sample", Base(project))
    for number in range(12):
        project = edits.add_stroke(project, "shot", "plate", stroke(100 + number))
        project = edits.change_fix(project, "shot", "fix", name=f"Nail {number}", opacity=number / 12)
        journal.record(project)
    journal.close(keep=True)
    base = json.loads((folder / "sample" / "base.json").read_text())
    lines = (folder / "sample" / base["lines"]).read_bytes().splitlines()

    def nth(number: int) -> Callable[[], object]:
        rng = np.random.default_rng(number)
        target = root / "j"
        shutil.rmtree(target, ignore_errors=True)
        target.mkdir(parents=True)
        is_base = rng.random() < 0.3
        (target / "base.json").write_bytes(damaged_json(rng, base) if is_base else json.dumps(base).encode())
        (target / base["lines"]).write_bytes(b"\n".join(lines) + b"\n" if is_base else damaged_lines(rng, lines))
        return lambda: host.window.projects.recover_work()

    return nth


def pictures_of(folder: Path, host: Host) -> Callable[[int], Callable[[], object]]:
    """Return what makes the n-th damaged picture or movie and opens it as footage."""
    samples = _samples(folder / "samples")

    def nth(number: int) -> Callable[[], object]:
        rng = np.random.default_rng(number)
        sample = samples[number % len(samples)]
        shutil.rmtree(folder / f"in-{number - 1}", ignore_errors=True)
        target = folder / f"in-{number}"  # what was read is kept by its path
        target.mkdir(exist_ok=True)
        head = 600 if rng.random() < 0.5 else 0
        path = target / f"a.0001{sample.suffix}"
        path.write_bytes(damaged_bytes(rng, sample.read_bytes(), head=head))
        return lambda: host.window.files.open_footage(path)

    return nth


def _samples(folder: Path) -> list[Path]:
    """Write a small picture or movie of every kind that is read."""
    from fractions import Fraction

    import OpenImageIO as oiio

    from benchmarks.shots import texture

    folder.mkdir(parents=True, exist_ok=True)
    picture, found = texture(96, 64), []
    for name, kind in STILL_FORMATS.items():
        levels = np.iinfo(kind.dtype).max if kind.dtype.startswith("u") else 1.0
        path = folder / f"{name}{kind.suffix}"
        write_still(path, (picture.clip(0, 1) * levels).astype(kind.dtype), bits=kind.bits,
                    attributes={"scene": "paper theatre", "FramesPerSecond": (25, 1)})  # fmt: skip
        found.append(path)
    small = (picture.clip(0, 1) * 255).astype(np.uint8)
    for name, suffix, options in (("jpeg", ".jpg", {}), ("tiled", ".exr", {"tile_width": 32, "tile_height": 32}),
                                  ("piz", ".exr", {"compression": "piz"}), ("dwaa", ".exr", {"compression": "dwaa"}),
                                  ("lzw", ".tif", {"compression": "lzw"})):  # fmt: skip
        kind = "half" if suffix == ".exr" else "uint8"
        spec = oiio.ImageSpec(96, 64, 3, kind)
        for key in ("tile_width", "tile_height"):
            setattr(spec, key, options.get(key, 0))
        if "compression" in options:
            spec.attribute("compression", options["compression"])
        output = oiio.ImageOutput.create(str(folder / f"{name}{suffix}"))
        output.open(str(folder / f"{name}{suffix}"), spec)
        if spec.tile_width:
            output.write_image(picture.astype(np.float16))
        else:
            output.write_image(picture.astype(np.float16) if kind == "half" else small)
        output.close()
        found.append(folder / f"{name}{suffix}")
    for suffix in MovieWriter.CODECS:
        movie = MovieWriter(folder / f"movie{suffix}", (96, 64), Fraction(24))
        for step in range(6):
            movie.add((np.roll(picture, step, axis=1).clip(0, 1) * 65535).astype(np.uint16))
        movie.finish()
        found.append(folder / f"movie{suffix}")
    return found


KINDS = {"projects": projects_of, "journals": journals_of, "pictures": pictures_of}


def main(kind: str, first: str, count: str, folder: str) -> None:
    """Give the window so many damaged things of a kind."""
    faulthandler.enable()
    where = Path(folder)
    where.mkdir(parents=True, exist_ok=True)
    host = Host(where)
    nth = KINDS[kind](where, host)
    for number in range(int(first), int(first) + int(count)):
        act = nth(number)
        print(json.dumps({"begun": number}), flush=True)
        found = host.give(act)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(json.dumps({"number": number, "peak_mb": peak, **found}), flush=True)
        if found["outcome"] == "hang":
            os._exit(3)
        host.leave()
    host.window.close()
    os._exit(0)


if __name__ == "__main__":
    main(*sys.argv[1:])
