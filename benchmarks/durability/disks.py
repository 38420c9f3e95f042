"""Disks that are full or read-only, links that were planted, folders that go away: real ones, on a small file system.

A file system in memory is mounted for it, which needs the right to; without it these are left out.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from fractions import Fraction
from functools import partial
from pathlib import Path

import numpy as np

from benchmarks.durability.subjects import stroke, subject
from benchmarks.shots import texture
from gommage.core.document import Project, edits, store
from gommage.core.document import journal as journal_module
from gommage.core.document.journal import Base, JournalWriter
from gommage.core.document.recovery import left_behind, recover
from gommage.core.engine import Engine, RenderTarget, render
from gommage.core.picture import open_plates, probe, read_picture
from gommage.core.picture.writing import STILL_FORMATS, MovieWriter, write_still
from gommage.errors import GommageError, ProjectError, RenderError

__all__ = ["can_mount", "disk_faults"]

DISK_KB = 1024


@contextlib.contextmanager
def small_disk(folder: Path) -> Iterator[Path]:
    """Mount a disk of one megabyte."""
    folder.mkdir(parents=True, exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_KB}k", "none", str(folder)], check=True)
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


def can_mount(folder: Path) -> bool:
    """Whether a disk may be mounted here."""
    try:
        with small_disk(folder):
            return True
    except (OSError, subprocess.CalledProcessError):
        return False


def fill(disk: Path, leave_kb: int) -> None:
    """Fill a disk up to so much."""
    with (disk / "filling").open("wb") as file, contextlib.suppress(OSError):
        file.truncate(0)
        free = shutil.disk_usage(disk).free - leave_kb * 1024
        file.write(b"\1" * max(free, 0))


def _sentence(act: Callable[[], object], kind: type[GommageError], words: str) -> str:
    try:
        act()
    except kind as error:
        return "" if words in str(error) else f"said {error}"
    return "said nothing"


def _stray(disk: Path, allowed: set[str]) -> str:
    found = {path.name for path in disk.rglob("*") if path.is_file()} - allowed - {"filling"}
    return f"left {sorted(found)}" if found else ""


def full_stills(disk: Path, plate: Path) -> str:
    """Try: still pictures of every format, with room from none to nearly enough."""
    picture = texture(256, 192).clip(0, 1)
    for name, kind in STILL_FORMATS.items():
        levels = np.iinfo(kind.dtype).max if kind.dtype.startswith("u") else 1.0
        pixels = (picture * levels).astype(kind.dtype)
        path = disk / f"{name}{kind.suffix}"
        write_still(path, pixels, bits=kind.bits)
        before, size_kb = path.read_bytes(), path.stat().st_size // 1024
        for leave in (0, 4, size_kb // 4, size_kb // 2, max(size_kb - 8, 0)):
            fill(disk, leave)
            act = partial(write_still, path, pixels[::-1], bits=kind.bits)
            fault = _sentence(act, RenderError, "the disk is full")
            if not fault and path.read_bytes() != before:
                fault = "replaced the old picture"
            fault = fault or _stray(disk, {path.name})
            (disk / "filling").unlink()
            if fault:
                return f"{name} with {leave} KB left: {fault}"
        path.unlink()
    return ""


def full_movies(disk: Path, plate: Path) -> str:
    """Try: movies of every kind."""
    picture = (texture(256, 192).clip(0, 1) * 65535).astype(np.uint16)
    for suffix in MovieWriter.CODECS:
        for leave in (0, 8, 64):
            fill(disk, leave)

            def write(suffix: str = suffix) -> None:
                movie = MovieWriter(disk / f"a{suffix}", (256, 192), Fraction(24))
                try:
                    for step in range(30):
                        movie.add(np.roll(picture, 5 * step, axis=1) ^ np.uint16(step * 997))
                    movie.finish()
                except BaseException:
                    movie.discard()
                    raise

            fault = _sentence(write, RenderError, "the disk is full") or _stray(disk, set())
            (disk / "filling").unlink()
            if fault:
                return f"{suffix} with {leave} KB left: {fault}"
    return ""


def full_project(disk: Path, plate: Path) -> str:
    """Try: a project saved over an older one."""
    project, folder = subject(plate), disk / "p.gommage"
    store.save(Project(), folder)
    fill(disk, 4)
    fault = _sentence(lambda: store.save(project, folder), ProjectError, "the disk is full")
    if not fault and store.load(folder) != Project():
        fault = "the old project is gone"
    return fault or _stray(disk, {"project.json"})


def full_journal(disk: Path, plate: Path) -> str:
    """Try: a journal on a disk that is full for a time: said once, nothing doubled, whole afterwards."""
    retry, journal_module.RETRY_S = journal_module.RETRY_S, 0.05
    told: list[tuple[str, bool]] = []
    try:
        project = subject(plate)
        writer = JournalWriter((disk / "journals",), Base(project), lambda *said: told.append(said))
        for number in range(30):
            if number == 10:
                writer.flush()
                fill(disk, 0)
            if number == 20:
                writer.flush()
                (disk / "filling").unlink()
            project = edits.add_stroke(project, "shot", "plate", stroke(100 + number))
            writer.record(project)
        writer.flush()
        time.sleep(0.3)
        writer.close(keep=True)
    finally:
        journal_module.RETRY_S = retry
    (crash,) = left_behind([disk / "journals"])
    found = recover(crash.folder)
    if found.project != project or found.lost:
        return "the journal is not whole"
    return "" if [is_fault for _, is_fault in told] == [True, False] else f"said {told}"


def read_only(disk: Path, plate: Path) -> str:
    """Try: a read-only disk: projects open, what is written says why not, the journal goes elsewhere."""
    project, folder = subject(plate), disk / "p.gommage"
    store.save(project, folder)
    subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
    engine, told = Engine(10**8), []
    writer = JournalWriter((disk / "journals", plate / "journals"), Base(project), lambda *said: told.append(said))
    is_written = writer.flush()
    writer.close()
    return (
        _sentence(lambda: store.save(project, folder), ProjectError, f"{folder} is read-only")
        or _sentence(lambda: render(engine, project.shots[0], [1001], RenderTarget(disk / "out")), RenderError,
                     f"{disk} is read-only")
        or ("" if store.load(folder).shots == project.shots else "could not be opened")
        or ("" if is_written and not told else f"the journal went nowhere: {told}")
    )  # fmt: skip


def planted_links(disk: Path, plate: Path) -> str:
    """Try: links planted in the way of everything that is written, names that lead elsewhere."""
    project, folder, victim = subject(plate), disk / "p.gommage", disk / "victim"
    victim.write_text("mine")
    folder.mkdir()
    out = disk / "out"
    out.mkdir()
    for name in (folder / "project.json", folder / ".open", out / "wall.1001.exr", out / "movie.mkv"):
        name.symlink_to(victim)
    store.save(project, folder)
    engine = Engine(10**8)
    render(engine, project.shots[0], [1001], RenderTarget(out))
    render(engine, project.shots[0], [1001], RenderTarget(out / "movie.mkv"))
    if victim.read_text() != "mine":
        return "a link was followed"
    for name in ("../x", "/tmp/x", "a/b", "..", ".hidden"):
        fault = _sentence(
            lambda name=name: render(engine, project.shots[0], [1001], RenderTarget(out, name=name)), RenderError,
            "is no name for files",
        )  # fmt: skip
        if fault:
            return f"{name}: {fault}"
    return ""


def onto_the_plate(disk: Path, plate: Path) -> str:
    """Try: stills and movies rendered onto what they are made from: by name, through links."""
    project = subject(disk / "plate")
    shot, engine = project.shots[0], Engine(10**8)
    (disk / "link").symlink_to(disk / "plate")
    (disk / "hard").mkdir()
    os.link(disk / "plate" / "wall.1001.exr", disk / "hard" / "wall.1001.exr")
    for folder in ("plate", "link", "hard"):
        target = RenderTarget(disk / folder)
        fault = _sentence(
            lambda target=target: render(engine, shot, [1001], target), RenderError, "overwrite the plate"
        )
        if fault:
            return f"{folder}: {fault}"
    movie = MovieWriter(disk / "plate.mkv", (192, 144), Fraction(24))
    for step in range(3):
        movie.add(np.full((144, 192, 3), 9000 * step, np.uint16))
    movie.finish()
    before = (disk / "plate.mkv").read_bytes()
    (disk / "other.mkv").symlink_to(disk / "plate.mkv")
    filmed = edits.add_shot(Project(), type(shot)(id="m", name="Movie", footage=probe(disk / "plate.mkv").footage))
    for name in ("plate.mkv", "other.mkv"):
        fault = _sentence(
            lambda name=name: render(engine, filmed.shots[0], [1, 2, 3], RenderTarget(disk / name)), RenderError,
            "overwrite the plate",
        )  # fmt: skip
        if fault or (disk / "plate.mkv").read_bytes() != before:
            return f"{name}: {fault or 'replaced'}"
    return ""


def killed_renders(disk: Path, plate: Path) -> str:
    """Try: renders that are killed: whole files alone under their names, the rest cleared away by the next."""
    project = subject(plate)
    shot, rng = project.shots[0], np.random.default_rng(0)
    for number in range(40):
        child = os.fork()
        if not child:
            with contextlib.suppress(BaseException):
                while True:
                    render(Engine(10**8), shot, shot.footage.frames, RenderTarget(disk / "out"))
            os._exit(0)
        time.sleep(float(rng.uniform(0.05, 0.4)))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        for path in (disk / "out").glob("*.exr") if (disk / "out").exists() else ():
            if read_picture(path).shape != (144, 192, 3):
                return f"run {number}: {path.name} is not whole"
    render(Engine(10**8), shot, shot.footage.frames, RenderTarget(disk / "out"))
    rendered = open_plates(probe(disk / "out").footage)
    rendered.read(1001)
    return _stray(disk / "out", {f"wall.{frame}.exr" for frame in shot.footage.frames})


def deleted_journal(disk: Path, plate: Path) -> str:
    """Try: the journal's folder deleted at work."""
    retry, journal_module.RETRY_S = journal_module.RETRY_S, 0.05
    told: list[tuple[str, bool]] = []
    try:
        project = subject(plate)
        writer = JournalWriter((disk / "journals",), Base(project), lambda *said: told.append(said))
        for number in range(3):
            writer.flush()
            shutil.rmtree(disk / "journals")
            project = edits.add_stroke(project, "shot", "plate", stroke(100 + number))
            writer.record(project)
        writer.flush()
        writer.close(keep=True)
    finally:
        journal_module.RETRY_S = retry
    found = recover(left_behind([disk / "journals"])[0].folder)
    if found.project != project or found.edits != 3:
        return f"{found.edits} edits of 3 are there"
    return "" if told and all("was deleted" in words for words, _ in told) else f"said {told}"


FAULTS = (
    full_stills, full_movies, full_project, full_journal, read_only, planted_links, onto_the_plate, killed_renders,
    deleted_journal,
)  # fmt: skip


def disk_faults(folder: Path) -> list[tuple[str, str]]:
    """Try every fault on a disk of its own; return what each is, and what went wrong (empty: nothing)."""
    found = []
    for number, fault in enumerate(FAULTS):
        with small_disk(folder / f"disk{number}") as disk:
            try:
                wrong = fault(disk, folder / f"plate{number}")
            except (GommageError, OSError) as error:
                wrong = f"{type(error).__name__}: {error}"
        found.append(((fault.__doc__ or "").removeprefix("Try: ").rstrip("."), wrong))
    return found
