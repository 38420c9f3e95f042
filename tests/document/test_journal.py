"""The recovery journal: kills, full disks, deleted folders, damage; and who has a project open."""

import errno
import json
import os
import shutil
import signal
import subprocess
import sys
import textwrap

import pytest

from gommage.core.document import Project, edits, store
from gommage.core.document import journal as journal_module
from gommage.core.document.journal import Base, Journal, JournalWriter
from gommage.core.document.locks import ProjectLock
from gommage.core.document.recovery import left_behind, recover, throw_away
from gommage.errors import ProjectError, ProjectInUseError
from tests.waiting import wait


def renamed(project, name):
    return edits.change_surface(project, "shot", "wall", name=name)


def name_of(project):
    return project.shots[0].surfaces[0].name


@pytest.fixture
def project(small_shot):
    return Project.of(small_shot)


def lines_of(folder):
    (path,) = folder.glob("edits-*.jsonl")
    return path


def test_the_journal_gives_back_every_edit(tmp_path, project):
    journal = Journal(tmp_path / "j", Base(project, "/saved/at.gommage", "abc"))
    for name in ("One", "Two", "Three"):
        project = renamed(project, name)
        journal.record(project)
    found = recover(tmp_path / "j")
    assert found.project == project
    assert (found.edits, found.saved_at, found.fingerprint, found.lost) == (3, "/saved/at.gommage", "abc", 0)
    journal.rebase(Base(project))
    assert recover(tmp_path / "j").edits == 0
    journal.close()
    assert not (tmp_path / "j").exists()


def test_a_line_cut_off_by_a_crash_is_left_out(tmp_path, project):
    journal = Journal(tmp_path / "j", Base(project))
    one = renamed(project, "One")
    journal.record(one)
    journal.record(renamed(one, "Two"))
    journal.close(keep=True)
    lines = lines_of(tmp_path / "j")
    lines.write_bytes(lines.read_bytes()[:-9])
    found = recover(tmp_path / "j")
    assert (found.project, found.lost) == (one, 0)


@pytest.mark.parametrize(
    "line",
    [
        b"hello",
        b'[{"at": ["shots", 7], "set": 1}]',
        b'[{"at": ["shots", 0, "name"], "set": 5}]',
        b'[{"at": ["shots", 0, "surfaces"], "splice": [5, 900, []]}]',
        b"[" * 100_000,
        b'{"at": 5}',
    ],
)
def test_good_lines_before_a_bad_one_are_taken_up(tmp_path, project, line):
    journal = Journal(tmp_path / "j", Base(project))
    for number in range(20):
        project = renamed(project, str(number))
        journal.record(project)
    journal.close(keep=True)
    path = lines_of(tmp_path / "j")
    lines = path.read_bytes().splitlines()
    path.write_bytes(b"\n".join([*lines[:13], line, *lines[13:]]) + b"\n")
    found = recover(tmp_path / "j")
    assert name_of(found.project) == "12"
    assert (found.edits, found.lost) == (13, 8)


def test_a_journal_of_an_older_version_is_read(tmp_path, project):
    (tmp_path / "j").mkdir()
    base = {"saved_at": "", "project": project}
    (tmp_path / "j" / "base.json").write_bytes(store.encoded(base))
    (tmp_path / "j" / "edits.jsonl").write_text('[{"at": ["shots", 0, "name"], "set": "Old"}]\n')
    found = recover(tmp_path / "j")
    assert (found.project.shots[0].name, found.edits) == ("Old", 1)
    assert [one.edits for one in left_behind([tmp_path])] == [1]


def test_a_damaged_base_is_one_sentence(tmp_path, project):
    Journal(tmp_path / "j", Base(project)).close(keep=True)
    (tmp_path / "j" / "base.json").write_text("{")
    with pytest.raises(ProjectError, match="The recovery journal .*j is damaged: its base.json is cut off"):
        recover(tmp_path / "j")


# -- kills ------------------------------------------------------------------------------------------------------


def test_a_kill_loses_nothing_that_was_committed(tmp_path, project):
    """A process that is killed without warning, in the middle of committing, leaves all edits it reported."""
    store.save(project, tmp_path / "p.gommage")
    script = textwrap.dedent(
        """
        import sys
        from pathlib import Path
        from gommage.core.document import edits, store
        from gommage.core.document.journal import Base, Journal
        folder = Path(sys.argv[1])
        project = store.load(folder / "p.gommage")
        journal = Journal(folder / "journals" / "j", Base(project))
        for number in range(100000):
            project = edits.change_surface(project, "shot", "wall", name=str(number))
            journal.record(project)
            print(number, flush=True)
        """
    )
    process = subprocess.Popen([sys.executable, "-c", script, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    for _ in range(50):
        last = int(process.stdout.readline())
    process.send_signal(signal.SIGKILL)
    rest = process.stdout.read().split()
    process.wait()
    process.stdout.close()
    last = int(rest[-1]) if rest else last
    (found,) = left_behind([tmp_path / "journals"])
    assert int(name_of(recover(found.folder).project)) >= last


# -- disks ------------------------------------------------------------------------------------------------------


class Full:
    """A disk that takes so many more bytes, and then half of what it is given."""

    def __init__(self, monkeypatch):
        self.room = 10**9
        self._write = os.write
        monkeypatch.setattr(os, "write", self.write)

    def write(self, descriptor, data):
        if len(data) <= self.room:
            self.room -= len(data)
            return self._write(descriptor, data)
        if not self.room:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        part, self.room = self.room, 0
        return self._write(descriptor, bytes(data[:part]))


def test_a_line_that_failed_is_not_written_twice(tmp_path, project, monkeypatch):
    disk = Full(monkeypatch)
    journal = Journal(tmp_path / "j", Base(project))
    one = renamed(project, "One")
    journal.record(one)
    disk.room = 10
    two = renamed(one, "Two")
    with pytest.raises(OSError, match="No space"):
        journal.record(two)
    assert recover(tmp_path / "j").project == one
    disk.room = 10**9
    three = edits.change_shot(two, "shot", name="Three")
    journal.record(three)
    found = recover(tmp_path / "j")
    assert (found.project, found.edits, found.lost) == (three, 2, 0)
    journal.close()


def test_a_full_disk_is_said_once_and_made_good_when_there_is_room(tmp_path, project, monkeypatch):
    monkeypatch.setattr(journal_module, "RETRY_S", 0.02)
    disk, told = Full(monkeypatch), []
    writer = JournalWriter((tmp_path / "root",), Base(project), lambda words, is_fault: told.append((words, is_fault)))
    assert writer.flush()
    disk.room = 0
    for name in ("One", "Two", "Three"):
        project = renamed(project, name)
        writer.record(project)
    assert not writer.flush()
    assert [is_fault for _, is_fault in told] == [True]
    assert "the disk is full" in told[0][0]
    disk.room = 10**9
    wait(lambda: len(told) == 2)
    assert told[1] == ("The recovery journal can be written again, and has everything.", False)
    (folder,) = (tmp_path / "root").iterdir()
    assert recover(folder).project == project
    writer.close()
    assert not folder.exists()


def test_a_new_base_that_does_not_fit_leaves_the_old_one_whole(tmp_path, project, monkeypatch):
    disk = Full(monkeypatch)
    writer = JournalWriter((tmp_path / "root",), Base(project))
    one = renamed(project, "One")
    writer.record(one)
    assert writer.flush()
    disk.room = 100
    writer.rebase(Base(one, "/saved"))
    writer.record(renamed(one, "Two"))
    writer.flush()
    (folder,) = (tmp_path / "root").iterdir()
    assert recover(folder).project == one
    disk.room = 10**9
    writer.record(renamed(one, "Three"))
    assert writer.flush()
    found = recover(folder)
    assert (name_of(found.project), found.saved_at) == ("Three", "/saved")
    writer.close()


def test_a_deleted_journal_is_told_and_begun_anew(tmp_path, project, monkeypatch):
    monkeypatch.setattr(journal_module, "RETRY_S", 0.02)
    told = []
    writer = JournalWriter((tmp_path / "root",), Base(project), lambda words, is_fault: told.append((words, is_fault)))
    one = renamed(project, "One")
    writer.record(one)
    assert writer.flush()
    shutil.rmtree(tmp_path / "root")
    wait(lambda: told)
    assert "was deleted" in told[0][0]
    (folder,) = (tmp_path / "root").iterdir()
    found = recover(folder)
    assert (found.project, found.edits) == (one, 1)
    shutil.rmtree(tmp_path / "root")
    two = renamed(one, "Two")
    writer.record(two)
    assert writer.flush()
    (crash,) = left_behind_though_alive(tmp_path / "root")
    assert recover(crash).project == two
    writer.close()


def left_behind_though_alive(root):
    return [folder for folder in root.iterdir() if recover(folder).edits]


def test_where_the_first_place_cannot_be_written_the_second_is_taken(tmp_path, project):
    (tmp_path / "file").write_text("")
    writer = JournalWriter((tmp_path / "file" / "a", tmp_path / "second"), Base(project))
    assert writer.flush()
    assert writer.folder.parent == tmp_path / "second"
    writer.close()


def test_a_planted_place_is_not_taken(tmp_path, project):
    (tmp_path / "victim").mkdir()
    (tmp_path / "first").symlink_to(tmp_path / "victim")
    writer = JournalWriter((tmp_path / "first", tmp_path / "second"), Base(project))
    assert writer.flush()
    assert writer.folder.parent == tmp_path / "second"
    assert list((tmp_path / "victim").iterdir()) == []
    writer.close()


def test_no_place_at_all_is_told_and_closing_works(tmp_path, project):
    (tmp_path / "file").write_text("")
    told = []
    writer = JournalWriter((tmp_path / "file" / "a",), Base(project), lambda words, is_fault: told.append(words))
    writer.record(renamed(project, "One"))
    assert not writer.flush()
    assert len(told) == 1
    assert "The recovery journal could not be written" in told[0]
    writer.close()


# -- what is left behind ----------------------------------------------------------------------------------------


def crashed(folder, project, *names, **fields):
    journal = Journal(folder, Base(project, **fields))
    for name in names:
        project = renamed(project, name)
        journal.record(project)
    journal.close(keep=True)
    return project


def test_all_crashes_are_listed_and_a_damaged_one_hides_none(tmp_path, project):
    root = tmp_path / "root"
    crashed(root / "a", project, "One", saved_at="/jobs/first.gommage")
    crashed(root / "b", project, "One", "Two")
    crashed(root / "c", project, "One")
    crashed(root / "empty", project)
    (root / "c" / "base.json").write_text("{")
    for age, name in enumerate(("a", "b", "c")):
        for path in (root / name).iterdir():
            os.utime(path, (1e9 + age, 1e9 + age))
    alive = Journal(root / "alive", Base(project))
    alive.record(renamed(project, "One"))
    found = left_behind([root, tmp_path / "nowhere"])
    assert [(one.name, one.edits, bool(one.fault), one.edited_s) for one in found] == [
        (project.shots[0].name, 2, False, 1e9 + 1),
        ("first", 1, False, 1e9),
        ("", 0, True, 1e9 + 2),
    ]
    assert not (root / "empty").exists()
    alive.close()


def test_a_journal_without_its_lines_is_kept_and_said_to_be_damaged(tmp_path, project):
    """Another base's lines are not taken for them, and nothing is thrown away unasked."""
    root = tmp_path / "root"
    crashed(root / "a", project, "One")
    lines = lines_of(root / "a")
    lines.rename(lines.with_name("edits-0123456789ab.jsonl"))
    (one,) = left_behind([root])
    assert "edits of the recovery journal" in one.fault
    assert recover(root / "a").project == project


def test_a_folder_that_cannot_be_synced_is_written_all_the_same(tmp_path, project, monkeypatch):
    """Some file systems of networks know no syncing of folders."""
    fsync = os.fsync

    def of_files_alone(descriptor):
        if os.path.isdir(f"/proc/self/fd/{descriptor}"):
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))
        fsync(descriptor)

    monkeypatch.setattr(os, "fsync", of_files_alone)
    store.save(project, tmp_path / "p.gommage")
    crashed(tmp_path / "root" / "a", project, "One")
    assert recover(tmp_path / "root" / "a").edits == 1


def test_work_that_was_taken_up_is_listed_once_and_kept_until_it_is_saved(tmp_path, project):
    root = tmp_path / "root"
    after = crashed(root / "a", project, "One", "Two")
    taken = Journal(root / "b", Base(after, continues=str(root / "a"), edits=2))
    assert left_behind([root]) == ()
    taken.record(renamed(after, "Three"))
    taken.close(keep=True)
    (one,) = left_behind([root])
    assert (one.folder, one.edits) == (root / "b", 3)
    (root / "b" / "base.json").write_text("{")
    assert {found.folder for found in left_behind([root])} == {root / "a", root / "b"}, "damaged: the copy is needed"


def test_throwing_away_takes_what_had_been_taken_up_and_nothing_else(tmp_path, project):
    root, other = tmp_path / "root", tmp_path / "other"
    crashed(other, project, "Mine")
    crashed(root / "a", project, "One", continues=str(other))
    crashed(root / "b", project, "Two", continues=str(root / "a"))
    throw_away(root / "b", [root])
    assert list(root.iterdir()) == []
    assert (other / "base.json").exists()


def test_the_base_says_what_lies_in_which_file(tmp_path, project):
    journal = Journal(tmp_path / "j", Base(project))
    before = json.loads((tmp_path / "j" / "base.json").read_text())["lines"]
    journal.rebase(Base(project))
    after = json.loads((tmp_path / "j" / "base.json").read_text())["lines"]
    assert before != after
    assert not (tmp_path / "j" / before).exists()
    journal.close()


# -- who has it open --------------------------------------------------------------------------------------------


def test_a_project_is_open_once(tmp_path):
    first = ProjectLock(tmp_path)
    with pytest.raises(ProjectInUseError, match=rf"is open in another Gommage: .*process {os.getpid()}, since"):
        ProjectLock(tmp_path)
    assert first.is_mine()
    second = ProjectLock(tmp_path, takes_over=True)
    assert second.is_mine()
    assert not first.is_mine()
    first.release()
    assert second.is_mine(), "who was taken over leaves the other's lock"
    second.release()
    assert list(tmp_path.iterdir()) == []
    ProjectLock(tmp_path).release()


def test_where_nothing_can_be_written_nobody_is_in_the_way(tmp_path):
    lock = ProjectLock(tmp_path / "nowhere")
    assert lock.is_mine()
    lock.release()


def test_a_planted_lock_is_not_followed(tmp_path):
    (tmp_path / "victim").write_text("mine")
    (tmp_path / ".open").symlink_to(tmp_path / "victim")
    lock = ProjectLock(tmp_path)
    lock.release()
    assert (tmp_path / "victim").read_text() == "mine"
