"""Projects on disk: written whole or not at all, old ones read, damaged ones refused in words, kills survived."""

import json
import os
import signal
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest
from hypothesis import given, settings
from msgspec.structs import replace

from gommage.core.document import Project, edits, store
from gommage.core.document.journal import Journal, abandoned, recover
from gommage.errors import ProjectError
from tests.strategies import projects

SAMPLE_V1 = "tests/document/project-v1.json"


DANGLING = (
    '{"version": 3, "shots": [{"id": "s", "name": "S", "footage": {"path": "a.exr", "frames": {"first": 1, "last": 2}, '
    '"width": 8, "height": 8}, "fixes": [{"id": "x", "name": "X", "surface_id": "air"}]}]}'
)


@given(projects())
@settings(max_examples=40, deadline=None)
def test_plain_data_round_trip(project):
    assert store.from_plain(json.loads(json.dumps(store.to_plain(project)))) == project


def test_footage_paths_are_relative_where_they_can_be(small_shot, tmp_path):
    folder = tmp_path / "job.gommage"
    store.save(Project.of(small_shot), folder)
    assert json.loads((folder / "project.json").read_text())["shots"][0]["footage"]["path"] == "../plate/wall.####.exr"
    moved = tmp_path.rename(tmp_path.with_name(tmp_path.name + "-moved"))
    assert store.load(moved / "job.gommage").shots[0].footage.path == str(moved / "plate" / "wall.####.exr")
    moved.rename(tmp_path)


def test_a_project_of_version_1_is_read_for_ever():
    project = store.from_plain(json.loads(Path(SAMPLE_V1).read_text()))
    shot = project.shots[0]
    assert shot.fixes[0].fill.plate_ids == ("plate",)
    assert shot.clean_plates[0].painting.strokes[0].brush.size_px == 8.0
    assert shot.surfaces[0].track.row(1001).tolist() == [[1, 0, 0], [0, 1, 0], [0, 0, 1]]
    assert shot.surfaces[0].outline.tolist() == [[0, 0], [9, 0], [9, 9]]
    assert shot.surfaces[0].track.reasons == ("",) * len(shot.surfaces[0].track.frames)


def test_a_project_of_the_second_version_is_read_for_ever():
    shot = store.from_plain(json.loads(Path("tests/document/project-v2.json").read_text())).shots[0]
    assert [type(surface.how).__name__ for surface in shot.surfaces] == [
        "PlaneFollow",
        "PointsFollow",
        "Still",
        "ByHand",
    ]
    assert shot.surface("wall").pins[0].frame == 1002
    assert shot.surface("spots").rides_on == "wall"
    assert shot.surface("wall").track.reasons == ("", "partly hidden")


def test_a_project_of_the_third_version_is_read_for_ever():
    project = store.from_plain(json.loads(Path("tests/document/project-v3.json").read_text()))
    assert [shot.name for shot in project.shots] == ["Theatre", "Theatre, wide"]
    shot = project.shots[0]
    fix, (stroke,) = shot.fix("fix"), shot.clean_plate("plate").painting.strokes
    assert fix.cover.drawn[0][1].surface_id == "wall"
    assert [str(kind) for kind in fix.cover.shapes[0].kinds] == ["smooth"] * 4
    assert fix.hold_outs.drawn[0][1].surface_id == ""
    assert (fix.frames[0].first, fix.frames[0].last) == (None, 1003)
    assert stroke.points.values.tolist() == [[50, 60, 0.5], [60, 62, 1.0]]
    assert (stroke.brush.tool, stroke.source.dx) == ("heal", -30)
    assert shot.surface("wall").track.home_to_frame.values[:, 0, 2].tolist() == [0, 1.25, 2.5, 3.75]
    assert json.loads(store.encoded(store.to_plain(project))) == json.loads(
        Path("tests/document/project-v3.json").read_text()
    )


def test_the_published_schema_is_that_of_the_records():
    assert json.loads(Path("docs/project.schema.json").read_text()) == json.loads(json.dumps(store.json_schema()))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('{"version": 1, "shots": [', "cut off or not JSON"),
        ("hello", "cut off or not JSON"),
        ('{"version": 999, "shots": []}', "newer Gommage"),
        ('{"shots": []}', "no version number"),
        ('{"version": 1, "shots": [{"id": 5}]}', "contents are damaged"),
        (DANGLING, "in the shot S: X refers to the surface 'air'"),
        ("[]", "no version number"),
    ],
)
def test_damaged_projects_are_refused_in_words(tmp_path, text, words):
    folder = tmp_path / "p.gommage"
    folder.mkdir()
    (folder / "project.json").write_text(text)
    with pytest.raises(ProjectError, match=words):
        store.load(folder)


def test_a_missing_project_is_named(tmp_path):
    with pytest.raises(ProjectError, match="nowhere.gommage could not be opened: No such file"):
        store.load(tmp_path / "nowhere.gommage")


def test_a_full_disk_leaves_the_old_project_whole(tmp_path, small_shot, monkeypatch):
    folder = tmp_path / "p.gommage"
    project = Project.of(small_shot)
    store.save(project, folder)
    before = (folder / "project.json").read_bytes()

    def full(descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(ProjectError, match="No space left on device.*still open"):
        store.save(replace(project, shots=()), folder)
    assert (folder / "project.json").read_bytes() == before
    assert os.listdir(folder) == ["project.json"]


def test_an_unwritable_place_is_named(tmp_path, small_shot):
    (tmp_path / "file").write_text("")
    with pytest.raises(ProjectError, match="could not be saved.*save it somewhere else"):
        store.save(Project.of(small_shot), tmp_path / "file" / "p.gommage")


def test_the_journal_gives_back_every_edit(tmp_path, small_shot):
    project = Project.of(small_shot)
    journal = Journal(tmp_path / "j", project, "/saved/at.gommage")
    for name in ("One", "Two", "Three"):
        project = edits.change_surface(project, "shot", "wall", name=name)
        journal.record(project)
    found = recover(tmp_path / "j")
    assert found.project == project
    assert (found.edits, found.saved_at) == (3, "/saved/at.gommage")
    journal.rebase(project)
    assert recover(tmp_path / "j").edits == 0
    journal.close()
    assert not (tmp_path / "j").exists()


def test_a_line_cut_off_by_a_crash_is_left_out(tmp_path, small_shot):
    project = Project.of(small_shot)
    journal = Journal(tmp_path / "j", project)
    one = edits.change_surface(project, "shot", "wall", name="One")
    journal.record(one)
    journal.record(edits.change_surface(one, "shot", "wall", name="Two"))
    journal.close(keep=True)
    edits_file = tmp_path / "j" / "edits.jsonl"
    edits_file.write_bytes(edits_file.read_bytes()[:-9])
    assert recover(tmp_path / "j").project == one


def test_a_journal_that_is_alive_is_not_offered(tmp_path, small_shot):
    project = Project.of(small_shot)
    journal = Journal(tmp_path / "root" / "j", project)
    journal.record(edits.change_surface(project, "shot", "wall", name="One"))
    assert abandoned(tmp_path / "root") == []
    journal.close(keep=True)
    assert abandoned(tmp_path / "root") == [tmp_path / "root" / "j"]
    assert abandoned(tmp_path / "nothing") == []


def test_an_unwritable_journal_says_that_recovery_is_off(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(ProjectError, match="Recovery is off"):
        Journal(tmp_path / "file" / "j", Project())


@pytest.mark.slow
def test_a_kill_loses_nothing_that_was_committed(tmp_path, small_shot):
    """A process that is killed without warning, in the middle of committing, leaves all edits it reported."""
    store.save(Project.of(small_shot), tmp_path / "p.gommage")
    script = textwrap.dedent(
        """
        import sys
        from pathlib import Path
        from gommage.core.document import edits, store
        from gommage.core.document.journal import Journal
        folder = Path(sys.argv[1])
        project = store.load(folder / "p.gommage")
        journal = Journal(folder / "journals" / "j", project)
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
    (found,) = abandoned(tmp_path / "journals")
    assert int(recover(found).project.shots[0].surfaces[0].name) >= last
