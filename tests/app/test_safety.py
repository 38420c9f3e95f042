"""Nothing is lost and nothing let in, in the window: crashes, two windows, full disks, errors that nobody expected."""

import errno
import os
import re
import shutil
import sys
import threading
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QLabel, QPlainTextEdit, QPushButton

from gommage.app import start
from gommage.app.dialogs.details import DetailsDialog
from gommage.app.dialogs.question import QuestionDialog
from gommage.app.dialogs.recovery import RecoveryDialog
from gommage.app.faults import Faults
from gommage.core.document import Project, edits, store
from gommage.core.document.journal import Base, Journal
from gommage.core.document.locks import ProjectLock
from gommage.core.document.recovery import left_behind, recover
from gommage.core.picture import colour, probe, stills
from gommage.core.picture.writing import write_still
from tests.app.driving import CTRL, answer, find, press
from tests.conftest import settle, wait_until


def test_what_a_journal_s_thread_says_is_shown_as_an_error_if_it_is_one(window, hear):
    errors, notes = [], []
    hear(window.session.error_shown, errors.append)
    hear(window.session.note_shown, notes.append)
    for words, is_fault in (("The disk is full.", True), ("Recording goes on.", False)):
        thread = threading.Thread(target=window.session._on_told, args=(words, is_fault))
        thread.start()
        thread.join()
    wait_until(lambda: errors and notes)
    assert (errors, notes) == (["The disk is full."], ["Recording goes on."])


def crash(root, project, *names, saved_at="", fingerprint=""):
    """Leave a journal behind in which the wall was renamed."""
    journal = Journal(root, Base(project, str(saved_at), fingerprint))
    for name in names:
        project = edits.change_surface(project, "shot", "wall", name=name)
        journal.record(project)
    journal.close(keep=True)


def choose(words):
    """Press a button of the next question."""
    answer(QuestionDialog, lambda dialog: find(dialog, QPushButton, words).click())


def wall(window):
    return window.shot.surfaces[0].name


@pytest.fixture
def window(own_window):
    return own_window


@pytest.fixture
def root(tmp_path):
    return tmp_path / "journals"


@pytest.fixture
def saved(small_shot, tmp_path):
    """A project on disk: its folder and its fingerprint."""
    folder = tmp_path / "job.gommage"
    return folder, store.save(Project.of(small_shot), folder)


# -- what a crash left ------------------------------------------------------------------------------------------


def test_all_that_was_left_behind_is_listed_and_one_is_taken_up(window, small_shot, root):
    crash(root / "a", Project.of(small_shot), "Old")
    crash(root / "b", Project.of(small_shot), "One", "Two")
    crash(root / "c", Project.of(small_shot), "Lost")
    (root / "c" / "base.json").write_text("{")
    for age, name in enumerate("abc"):
        for path in (root / name).iterdir():
            os.utime(path, (1e9 + age, 1e9 + age))
    seen = []

    def take(dialog: RecoveryDialog):
        table = dialog.table
        seen.extend([table.item(row, 2).text() for row in range(table.rowCount())])
        table.selectRow(2)
        assert not dialog.take_button.isEnabled(), "what is damaged cannot be taken up"
        dialog.throw_button.click()
        assert table.rowCount() == 2
        dialog.take_button.click()

    answer(RecoveryDialog, take)
    window.projects.recover_work(lambda: seen.append("went on"))
    settle(window)
    assert seen == ["2", "1", "damaged"]
    assert wall(window) == "Two"
    assert window.session.has_unsaved
    assert not (root / "c").exists()
    assert (root / "b").exists(), "a copy stays until it is saved"


def test_work_that_was_taken_up_and_saved_is_offered_no_more(window, saved, root):
    folder, fingerprint = saved
    crash(root / "a", store.load(folder), "Recovered", saved_at=folder, fingerprint=fingerprint)
    answer(RecoveryDialog, lambda dialog: dialog.take_button.click())
    window.projects.recover_work()
    settle(window)
    assert window.session.folder == folder
    press(window, (Qt.Key.Key_S, CTRL))
    settle(window)
    assert store.load(folder).shots[0].surfaces[0].name == "Recovered"
    assert not (root / "a").exists()
    assert [one.folder for one in left_behind([root])] == []


def test_work_that_was_taken_up_is_not_left_without_a_question(window, small_shot, root):
    crash(root / "a", Project.of(small_shot), "One")
    answer(RecoveryDialog, lambda dialog: dialog.take_button.click())
    window.projects.recover_work()
    settle(window)
    choose("Back")
    window.close()
    assert window.isVisible()
    assert (root / "a").exists()


def test_recovered_work_does_not_overwrite_newer_work_unasked(window, saved, root, small_shot):
    folder, fingerprint = saved
    crash(root / "a", store.load(folder), "Recovered", saved_at=folder, fingerprint=fingerprint)
    newer = edits.change_surface(store.load(folder), "shot", "wall", name="Newer")
    store.save(newer, folder)
    answer(RecoveryDialog, lambda dialog: dialog.take_button.click())
    window.projects.recover_work()
    settle(window)
    choose("Back")
    press(window, (Qt.Key.Key_S, CTRL))
    settle(window)
    assert store.load(folder).shots[0].surfaces[0].name == "Newer"
    assert (root / "a").exists()


def test_opening_a_project_offers_what_was_left_of_it(window, saved, root, small_shot):
    folder, fingerprint = saved
    crash(root / "a", store.load(folder), "Recovered", saved_at=folder, fingerprint=fingerprint)
    crash(root / "b", Project.of(small_shot), "Another")
    rows = []

    def later(dialog: RecoveryDialog):
        rows.append(dialog.table.rowCount())
        dialog.reject()

    answer(RecoveryDialog, later)
    window.projects.open_project(folder)
    settle(window)
    assert rows == [1]
    assert wall(window) == "Wall"
    window.projects.open_project(folder)  # put off: not asked again
    settle(window)
    assert rows == [1]


def test_the_good_lines_of_a_damaged_journal_are_taken_up_and_the_rest_is_said(window, small_shot, root):
    crash(root / "a", Project.of(small_shot), "One", "Two")
    (lines,) = (root / "a").glob("edits-*.jsonl")
    lines.write_bytes(lines.read_bytes() + b"rubbish\n")
    answer(RecoveryDialog, lambda dialog: dialog.take_button.click())
    window.projects.recover_work()
    settle(window)
    assert wall(window) == "Two"
    assert "1 of the last edits could not be read; 2 were taken up" in window.words.text()


def test_nothing_left_behind_is_said_when_asked_and_goes_on_when_not(window):
    window.call("recover_work")
    settle(window)
    assert window.words.text() == "Nothing was left behind."
    went = []
    window.projects.recover_work(lambda: went.append(True))
    settle(window)
    assert went == [True]


# -- two windows ------------------------------------------------------------------------------------------------


def open_with(window, folder, words):
    choose(words)
    window.projects.open_project(folder)
    settle(window)


def test_a_project_that_is_open_elsewhere_is_opened_to_look(window, saved, tmp_path, monkeypatch):
    folder, _ = saved
    other = ProjectLock(folder)
    open_with(window, folder, "Open to look")
    assert wall(window) == "Wall"
    assert "(to look at)" in window.windowTitle()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "mine"), ""))
    window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Mine")
    window.projects.save()
    settle(window)
    assert store.load(folder).shots[0].surfaces[0].name == "Wall"
    assert store.load(tmp_path / "mine.gommage").shots[0].surfaces[0].name == "Mine"
    assert other.is_mine()
    other.release()


def test_a_project_is_not_opened_twice_if_one_goes_back(window, saved):
    folder, _ = saved
    other = ProjectLock(folder)
    open_with(window, folder, "Back")
    assert window.shot is None
    other.release()


def test_a_project_that_was_taken_over_asks_before_it_is_saved(window, saved):
    folder, _ = saved
    window.projects.open_project(folder)
    settle(window)
    taken = ProjectLock(folder, takes_over=True)
    window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Mine")
    asked = []

    def over(dialog):
        asked.append(find(dialog, QLabel, "Question").text())
        find(dialog, QPushButton, "Save over it").click()

    answer(QuestionDialog, over)
    window.projects.save()
    settle(window)
    assert "taken over by another Gommage" in asked[0]
    assert store.load(folder).shots[0].surfaces[0].name == "Mine"
    assert not taken.is_mine()


def test_saving_over_what_somebody_else_saved_asks(window, saved):
    folder, _ = saved
    window.projects.open_project(folder)
    settle(window)
    store.save(edits.change_surface(store.load(folder), "shot", "wall", name="Theirs"), folder)
    window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Mine")
    choose("Back")
    window.projects.save()
    settle(window)
    assert store.load(folder).shots[0].surfaces[0].name == "Theirs"
    assert window.session.has_unsaved
    choose("Save over it")
    window.projects.save()
    settle(window)
    assert store.load(folder).shots[0].surfaces[0].name == "Mine"
    window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Mine again")
    window.projects.save()
    settle(window)
    assert not window.session.has_unsaved, "one's own save is no surprise"


def test_a_project_can_be_opened_again_in_its_own_window(window, saved):
    folder, _ = saved
    for _ in range(2):
        window.projects.open_project(folder)
        settle(window)
    assert window.session.place.lock.is_mine()
    assert not window.session.place.is_to_look


def test_saves_that_are_asked_for_while_one_runs_come_after_it(window, saved):
    folder, _ = saved
    window.projects.open_project(folder)
    settle(window)
    done = []
    for name in ("One", "Two", "Three"):
        window.session.commit("Rename", edits.change_surface, "shot", "wall", name=name)
        window.projects.save(done.append)
    settle(window)
    assert done == [True, True, True]
    assert store.load(folder).shots[0].surfaces[0].name == "Three"
    assert not window.session.has_unsaved


# -- disks ------------------------------------------------------------------------------------------------------


def test_a_full_disk_keeps_the_window_working_and_lets_it_close(opened, tmp_path, monkeypatch):
    write = os.write

    def full(descriptor, data):
        if b"Screw" in bytes(data):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        return write(descriptor, data)

    monkeypatch.setattr(os, "write", full)
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Screw")
    wait_until(lambda: "The recovery journal could not be written: the disk is full" in opened.words.text())
    choose("Leave without")
    opened.close()
    wait_until(lambda: not opened.isVisible())


def test_a_deleted_journal_is_told_and_begun_anew(opened, root):
    wait_until(lambda: root.exists() and list(root.glob("*/base.json")))
    opened.session._journal.flush()
    shutil.rmtree(root)
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Screw")
    wait_until(lambda: "was deleted. A new one is" in opened.words.text())
    (folder,) = root.iterdir()
    assert recover(folder).project.shots[0].fixes[0].name == "Screw"


# -- errors that nobody expected --------------------------------------------------------------------------------


@pytest.fixture
def faults(opened):
    caught = Faults(opened.session.report)
    caught.install()
    yield caught
    caught.remove()


def boom():
    raise ZeroDivisionError("nobody thought of this")


@pytest.mark.parametrize("where", ["slot", "job", "answer", "thread"])
def test_what_nobody_expected_is_shown_with_details_to_copy(opened, faults, where, capfd):
    if where == "slot":
        QTimer.singleShot(0, boom)
    elif where == "job":
        opened.session.submit(("boom",), 1, lambda check: boom(), lambda _: None)
    elif where == "answer":
        opened.session.submit(("boom",), 1, lambda check: None, lambda _: boom())
    else:
        threading.Thread(target=boom).start()
    wait_until(lambda: "ZeroDivisionError: nobody thought of this" in opened.words.text())
    settle(opened)
    assert "Your work is safe" in opened.words.text()
    assert opened.details_button.isVisible()
    seen = []

    def copy(dialog):
        seen.append(find(dialog, QPlainTextEdit, "Details").toPlainText())
        find(dialog, QPushButton, "Copy").click()
        dialog.reject()

    answer(DetailsDialog, copy)
    opened.details_button.click()
    assert "in boom" in seen[0]
    assert QGuiApplication.clipboard().text() == seen[0]
    opened.session.commit("Rename", edits.change_fix, "shot", "fix", name="Still works")
    settle(opened)
    assert opened.shot.fixes[0].name == "Still works"
    opened.session.note_shown.emit("Something else")
    assert not opened.details_button.isVisible()


def test_a_fault_that_comes_again_and_again_is_told_once(opened, faults, capfd):
    told = []
    opened.session.fault_shown.connect(lambda words, details: told.append(words))
    for _ in range(20):
        QTimer.singleShot(0, boom)
    wait_until(lambda: told)
    settle(opened)
    assert len(told) == 1


def test_hooks_are_put_back(opened):
    before = sys.excepthook, threading.excepthook, sys.unraisablehook
    caught = Faults(opened.session.report)
    caught.install()
    assert sys.excepthook is not before[0]
    caught.remove()
    assert (sys.excepthook, threading.excepthook, sys.unraisablehook) == before


# -- what comes from outside ------------------------------------------------------------------------------------


def test_a_colour_configuration_that_cannot_be_used_is_said_and_stays_said(window, small_shot, monkeypatch):
    monkeypatch.setenv("OCIO", "/nowhere/config.ocio")
    colour._configured.cache_clear()
    try:
        window.stand(colour.configuration_fault())
        assert "The colour configuration /nowhere/config.ocio could not be used" in window.words.text()
        window.session.begin(Project.of(small_shot))
        settle(window)
        assert "The built-in one is used" in window.words.text()
    finally:
        colour._configured.cache_clear()


def test_a_large_picture_tells_how_far_it_is_and_can_be_stopped(window, small_shot, tmp_path, monkeypatch):
    from gommage.app.picture import views

    monkeypatch.setattr(stills, "LINES_A_STRIP", 1)
    monkeypatch.setattr(stills, "STRIP_VALUES", 1)
    gate = threading.Event()
    read = stills.oiio.ImageInput.open
    write_still(tmp_path / "wide.exr", np.zeros((400, 64, 3), np.float16), bits=16)
    footage = probe(tmp_path / "wide.exr").footage

    class Slow:
        """A file that gives ten strips and then waits."""

        def __init__(self, source):
            self._source, self._strips = source, 0

        def __getattr__(self, name):
            return getattr(self._source, name)

        def read_scanlines(self, *arguments):
            self._strips += 1
            if self._strips > 100:
                gate.wait(0.02)
            return self._source.read_scanlines(*arguments)

    class Input:
        open = staticmethod(lambda *arguments: Slow(read(*arguments)))

    monkeypatch.setattr(stills.oiio, "ImageInput", Input)
    monkeypatch.setattr(views, "READING_MS", 20)
    shot = replace(small_shot, footage=footage, surfaces=(), clean_plates=(), fixes=())
    window.stage.views._telling.setInterval(20)
    window.session.begin(Project.of(shot))

    def share():
        told = re.fullmatch(r"Reading wide\.exr: (\d+)%.*", window.viewer.message)
        return int(told[1]) if told else 0

    # The first hundred strips of four hundred take no time; a loaded machine tells of them while they are read.
    wait_until(lambda: share() >= 20)
    assert share() < 100
    press(window, Qt.Key.Key_Escape)
    assert "Frame 1 was not read" in window.viewer.message
    wait_until(window.session.jobs.is_idle)
    assert window.session.engine.reading(footage, 1) is None
    gate.set()


def test_opening_hostile_things_is_one_sentence(window, tmp_path):
    fifo = tmp_path / "a.0001.exr"
    os.mkfifo(fifo)
    project = tmp_path / "p.gommage"
    project.mkdir()
    os.mkfifo(project / "project.json")
    for act, words in (
        (lambda: window.files.open_footage(fifo), "is a pipe or a device"),
        (lambda: window.files.open_footage(Path("/dev/zero")), "is a pipe or a device"),
        (lambda: window.projects.open_project(project), "it is a pipe or a device"),
        (lambda: window.files.open_footage(Path("/" + "x" * 5000)), "its name is too long"),
    ):
        act()
        wait_until(lambda words=words: words in window.words.text())
        assert len(window.words.text()) < 700
    settle(window)


def test_starting_offers_what_was_left_and_then_goes_on(window, saved, root, small_shot):
    crash(root / "a", Project.of(small_shot), "One")
    answer(RecoveryDialog, lambda dialog: dialog.reject())
    window.projects.recover_work(lambda: start._begin(window, saved[0], None, False))
    settle(window)
    assert window.session.folder == saved[0]
