"""Things that were made to hang, to fill the memory or to lead elsewhere, given to the real window one by one.

``python -m benchmarks.durability.inputs NAME FOLDER`` gives one of them; a process each, so that memory can be told.
"""

from __future__ import annotations

import json
import os
import resource
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
import OpenImageIO as oiio
from msgspec.structs import replace
from PySide6.QtCore import QEventLoop, QTimer

from benchmarks.durability.subjects import subject
from benchmarks.durability.window import Host, settle
from gommage.core.document import FrameRange, store
from gommage.core.picture.writing import MovieWriter, write_still

__all__ = ["INPUTS", "given"]

Act = Callable[[Host], Callable[[], object]]


def _project(folder: Path, data: bytes) -> Act:
    target = folder / "p.gommage"
    target.mkdir(exist_ok=True)
    (target / store.FILE_NAME).write_bytes(data)
    return lambda host: lambda: host.window.projects.open_project(target)


def _footage(path: Path) -> Act:
    return lambda host: lambda: host.window.files.open_footage(path)


def huge_lists(folder: Path) -> Act:
    """Give a project of 60 MB of numbers."""
    return _project(folder, b'{"version": 3, "shots": [' + b"1," * 30_000_000 + b"1]}")


def huge_array(folder: Path) -> Act:
    """Give a project with an array of 3.9 million listed numbers."""
    plain = store.to_plain(subject(folder / "plate"))
    plain["shots"][0]["surfaces"][2]["how"]["corners"] = "CORNERS"
    text = json.dumps(plain).replace('"CORNERS"', "[" + "1.5," * 3_900_000 + "1]")
    return _project(folder, text.encode())


def deep_nesting(folder: Path) -> Act:
    """Give a project nested a million levels deep."""
    return _project(folder, b'{"version": 3, "shots": ' + b"[" * 1_000_000)


def lone_surrogate(folder: Path) -> Act:
    """Give a project with half a letter in a name."""
    text = json.dumps(store.to_plain(subject(folder / "plate"))).replace('"name": "Wall"', '"name": "\\ud800"')
    return _project(folder, text.encode())


def million_frames(folder: Path) -> Act:
    """Give a project of a shot of a million frames."""
    project = subject(folder / "plate")
    shot = project.shots[0]
    footage = replace(shot.footage, frames=FrameRange(first=1, last=1_000_000))
    text = json.dumps(store.to_plain(replace(project, shots=(replace(shot, footage=footage),))))
    return _project(folder, text.encode())


def many_shots(folder: Path) -> Act:
    """Give a project of 2000 shots."""
    project = subject(folder / "plate")
    shots = tuple(replace(project.shots[0], id=f"s{number}", name=f"Shot {number}") for number in range(2000))
    return _project(folder, json.dumps(store.to_plain(replace(project, shots=shots))).encode())


def dates(folder: Path) -> Act:
    """Give pictures numbered by a count and by dates: scan_1, scan_2, scan_20260101."""
    for number in (1, 2, 20260101, 20270101):
        write_still(folder / f"scan_{number}.png", np.zeros((48, 64, 3), np.uint8), bits=8)
    return _footage(folder / "scan_1.png")


def far_frames(folder: Path) -> Act:
    """Give two pictures, the first and the two-millionth frame."""
    for number in (1, 2_000_000):
        write_still(folder / f"a.{number:07d}.png", np.zeros((48, 64, 3), np.uint8), bits=8)
    return _footage(folder / "a.0000001.png")


def many_files(folder: Path) -> Act:
    """Give a folder of 300 000 numbered pictures."""
    write_still(folder / "a.0000001.png", np.zeros((48, 64, 3), np.uint8), bits=8)
    for number in range(2, 300_001):
        os.symlink("a.0000001.png", folder / f"a.{number:07d}.png")
    return _footage(folder / "a.0000001.png")


def no_text_in_header(folder: Path) -> Act:
    """Give an EXR whose header has text that is not UTF-8."""
    path = folder / "a.0001.exr"
    write_still(path, np.zeros((48, 64, 3), np.float16), bits=16, attributes={"scene": "paper theatre"})
    path.write_bytes(path.read_bytes().replace(b"paper theatre", b"p\xe4p\xffr \xfehe\xe4tre"))
    return _footage(path)


def no_text_in_name(folder: Path) -> Act:
    """Give a file whose name is not UTF-8."""
    write_still(folder / "b.exr", np.zeros((48, 64, 3), np.float16), bits=16)
    name = os.fsencode(folder) + b"/a\xff.0001.exr"
    os.rename(folder / "b.exr", name)
    return _footage(Path(os.fsdecode(name)))


def unknown_codec(folder: Path) -> Act:
    """Give a movie whose codec nobody knows."""
    movie = MovieWriter(folder / "a.mov", (64, 48), Fraction(24))
    movie.add(np.zeros((48, 64, 3), np.uint16))
    movie.finish()
    path = folder / "a.mov"
    path.write_bytes(path.read_bytes().replace(b"ap4h", b"zzzz"))
    return _footage(path)


def pipe(folder: Path) -> Act:
    """Give a pipe as footage."""
    os.mkfifo(folder / "a.0001.exr")
    return _footage(folder / "a.0001.exr")


def device(folder: Path) -> Act:
    """Give a device as footage."""
    (folder / "a.0001.exr").symlink_to("/dev/zero")
    return _footage(folder / "a.0001.exr")


def pipe_in_sequence(folder: Path) -> Act:
    """Give a sequence in which one frame is a pipe."""
    for number in (1, 2, 3):
        write_still(folder / f"a.{number:04d}.exr", np.zeros((48, 64, 3), np.float16), bits=16)
    (folder / "a.0003.exr").unlink()
    os.mkfifo(folder / "a.0003.exr")
    return _footage(folder / "a.0001.exr")


def pipe_as_project(folder: Path) -> Act:
    """Give a pipe as a project."""
    (folder / "p.gommage").mkdir()
    os.mkfifo(folder / "p.gommage" / store.FILE_NAME)
    return lambda host: lambda: host.window.projects.open_project(folder / "p.gommage")


def playlist(folder: Path) -> Act:
    """Give a playlist, called a movie, that has the decoder open another file."""
    (folder / "secret.mkv").write_bytes(b"x")
    movie = MovieWriter(folder / "secret.mkv", (64, 48), Fraction(24))
    movie.add(np.zeros((48, 64, 3), np.uint16))
    movie.finish()
    (folder / "a.mov").write_text(f"ffconcat version 1.0\nfile {folder}/secret.mkv\n")
    return _footage(folder / "a.mov")


def bomb(folder: Path) -> Act:
    """Give a small file that claims to be 32 000 pixels square, in four float channels."""
    spec = oiio.ImageSpec(64, 48, 4, "float")
    output = oiio.ImageOutput.create(str(folder / "a.0001.exr"))
    output.open(str(folder / "a.0001.exr"), spec)
    output.write_image(np.zeros((48, 64, 4), np.float32))
    output.close()
    data = (folder / "a.0001.exr").read_bytes()
    window = np.array([0, 0, 63, 47], "<i4").tobytes()
    (folder / "a.0001.exr").write_bytes(data.replace(window, np.array([0, 0, 31999, 31999], "<i4").tobytes()))
    return _footage(folder / "a.0001.exr")


INPUTS = {
    one.__name__: one
    for one in (
        huge_lists, huge_array, deep_nesting, lone_surrogate, million_frames, many_shots, dates, far_frames,
        many_files, no_text_in_header, no_text_in_name, unknown_codec, pipe, device, pipe_in_sequence,
        pipe_as_project, playlist, bomb,
    )
}  # fmt: skip


def large_picture(folder: Path) -> dict[str, object]:
    """Open a picture of 20 000 x 20 000, see that it tells how far it is, and stop it."""
    spec = oiio.ImageSpec(20_000, 20_000, 3, "half")
    spec.attribute("compression", "zips")
    output = oiio.ImageOutput.create(str(folder / "large.exr"))
    output.open(str(folder / "large.exr"), spec)
    lines = np.random.default_rng(0).random((50, 20_000, 3)).astype(np.float16)
    for top in range(0, 20_000, 50):
        output.write_scanlines(top, top + 50, 0, lines)
    output.close()
    host = Host(folder)
    began = time.monotonic()
    host.window.files.open_footage(folder / "large.exr")
    longest, last = 0.0, time.monotonic()
    while not host.window.viewer.message.startswith("Reading") and time.monotonic() - began < 20:
        loop = QEventLoop()
        QTimer.singleShot(5, loop.quit)
        loop.exec()
        longest, last = max(longest, time.monotonic() - last), time.monotonic()
    told_s = time.monotonic() - began
    words = host.window.viewer.message
    stopped = time.monotonic()
    host.window.call("stop")
    settle(host.window)
    return {
        "outcome": "stopped" if words.startswith("Reading") else "hang", "seconds": round(told_s, 2),
        "words": f"{words} Stopped in {time.monotonic() - stopped:.2f} s; the window was held {longest:.2f} s at most.",
    }  # fmt: skip


def given(name: str, folder: Path) -> dict[str, object]:
    """Give one input to a window of its own process; return how it went, with memory."""
    shutil.rmtree(folder, ignore_errors=True)
    run = subprocess.run(
        [sys.executable, "-m", "benchmarks.durability.inputs", name, str(folder)], stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL, text=True, check=False, timeout=300,
    )  # fmt: skip
    shutil.rmtree(folder, ignore_errors=True)
    lines = [line for line in run.stdout.splitlines() if line.startswith("{")]
    return json.loads(lines[-1]) if lines else {"outcome": f"ended with {run.returncode}", "seconds": 0.0, "words": ""}


def main(name: str, folder: str) -> None:
    """Give one input to the window."""
    where = Path(folder)
    where.mkdir(parents=True, exist_ok=True)
    if name == "large_picture":
        found = large_picture(where)
    else:
        act = INPUTS[name](where)
        host = Host(where / "state")
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        found = host.give(act(host))
        found["grown_mb"] = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024
    print(json.dumps(found), flush=True)
    os._exit(0)


if __name__ == "__main__":
    main(*sys.argv[1:])
