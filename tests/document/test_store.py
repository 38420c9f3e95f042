"""Projects on disk: written whole or not at all, old ones read, damaged and hostile ones refused in words."""

import json
import os
import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from msgspec.structs import replace

from gommage.core.disk import whole_file
from gommage.core.document import Project, edits, store
from gommage.errors import EditError, ProjectChangedError, ProjectError
from tests.strategies import projects

SAMPLE_V1 = "tests/document/project-v1.json"


DANGLING = (
    '{"version": 3, "shots": [{"id": "s", "name": "S", "footage": {"path": "a.exr", "frames": {"first": 1, "last": 2}, '
    '"width": 8, "height": 8}, "fixes": [{"id": "x", "name": "X", "surface_id": "air"}]}]}'
)


@given(projects())
@settings(max_examples=40)
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
    sample = json.loads(Path("tests/document/project-v3.json").read_text())
    written = json.loads(store.encoded(store.to_plain(project)))
    assert without_what_is_new(written, sample) == sample


def without_what_is_new(written, sample):
    """Return what is written without the fields that the sample's version did not have yet."""
    if isinstance(written, dict):
        return {name: without_what_is_new(written[name], one) for name, one in sample.items() if name in written}
    if isinstance(written, list):
        return [without_what_is_new(one, other) for one, other in zip(written, sample, strict=True)]
    return written


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
        (DANGLING, r"it cannot be used: shots\[0\]: X refers to the surface 'air'"),
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
    with pytest.raises(ProjectError, match="the disk is full.*still open"):
        store.save(replace(project, shots=()), folder)
    assert (folder / "project.json").read_bytes() == before
    assert os.listdir(folder) == ["project.json"]


def test_an_unwritable_place_is_named(tmp_path, small_shot):
    (tmp_path / "file").write_text("")
    with pytest.raises(ProjectError, match="could not be saved.*save it somewhere else"):
        store.save(Project.of(small_shot), tmp_path / "file" / "p.gommage")


def test_saving_clears_what_a_killed_process_left(tmp_path, small_shot):
    folder = tmp_path / "p.gommage"
    folder.mkdir()
    (folder / ".project.json.4711.part").write_text("half")
    (folder / ".other.json.4711.part").write_text("half")
    with whole_file(folder / "project.json") as being_written:
        store.save(Project.of(small_shot), folder)
        assert len(list(folder.glob(".project.json.*.part"))) == 1, "what somebody writes just now stays"
        being_written.write(b"{}")
    assert sorted(os.listdir(folder)) == [".other.json.4711.part", "project.json"]


def test_a_planted_link_is_replaced_and_never_followed(tmp_path, small_shot):
    folder, victim = tmp_path / "p.gommage", tmp_path / "victim"
    folder.mkdir()
    victim.write_text("mine")
    (folder / "project.json").symlink_to(victim)
    store.save(Project.of(small_shot), folder)
    assert victim.read_text() == "mine"
    assert not (folder / "project.json").is_symlink()
    assert len(store.load(folder).shots) == 1


def test_a_project_that_somebody_else_saved_is_not_overwritten(tmp_path, small_shot):
    folder, project = tmp_path / "p.gommage", Project.of(small_shot)
    first = store.save(project, folder, "")
    assert store.opened(folder).fingerprint == first
    store.save(replace(project, shots=()), folder, first)
    with pytest.raises(ProjectChangedError, match="p.gommage was changed on disk by someone else"):
        store.save(project, folder, first)
    with pytest.raises(ProjectChangedError, match="There is a project in .*p.gommage already"):
        store.save(project, folder, "")
    assert store.load(folder).shots == ()


# -- hostile ones -----------------------------------------------------------------------------------------------


def refused(folder, text):
    """Return the sentence with which a project file is refused."""
    folder.mkdir(exist_ok=True)
    (folder / "project.json").write_bytes(text if isinstance(text, bytes) else text.encode())
    with pytest.raises(ProjectError) as caught:
        store.load(folder)
    words = str(caught.value)
    assert len(words) < 700
    assert words.isprintable()
    return words


def test_what_is_no_file_is_refused_at_once(tmp_path):
    folder = tmp_path / "p.gommage"
    folder.mkdir()
    os.mkfifo(folder / "project.json")
    with pytest.raises(ProjectError, match="it is a pipe or a device"):
        store.load(folder)
    (folder / "project.json").unlink()
    (folder / "project.json").symlink_to("/dev/zero")
    with pytest.raises(ProjectError, match="it is a pipe or a device"):
        store.load(folder)
    (folder / "project.json").unlink()
    with (folder / "project.json").open("wb") as file:
        file.truncate(store.LARGEST_FILE + 1)
    with pytest.raises(ProjectError, match="it is too large"):
        store.load(folder)
    (folder / "project.json").unlink()
    (folder / "project.json").mkdir()
    with pytest.raises(ProjectError, match="Is a directory"):
        store.load(folder)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (b"[" * 200_000, "project.json is nested too deep"),
        (b'{"version": 3, "shots": ' + b'[{"a":' * 100_000, "is nested too deep"),
        (b'{"version": 3, "shots": [' + b"1," * 5_000_000 + b"1]}", "project.json has 5000001 values"),
        (b'{"version": 2, "shots": 5}', "contents are damaged"),
        (b'{"version": -5, "shots": []}', "contents are damaged"),
        (b'{"version": 3, "shots": [{"id": "' + b"x" * 100_000 + b'"}]}', r"shots\[0\]"),
        (b'{"version": 3, "shots": [{"id": "\\ud800"}]}', "cut off or not JSON"),
        (b"\xff\xfe{}", "is cut off or not JSON|not UTF-8"),
    ],
)
def test_hostile_text_is_refused_in_a_sentence(tmp_path, text, words):
    assert re.search(words, refused(tmp_path / "p.gommage", text))


def sample():
    return json.loads(Path("tests/document/project-v3.json").read_text())


def put(plain, path, value):
    *way, last = path
    for step in way:
        plain = plain[step]
    plain[last] = value


SHOT, SURFACE, PLATE, FIX = (
    ("shots", 0),
    ("shots", 0, "surfaces", 0),
    ("shots", 0, "clean_plates", 0),
    ("shots", 0, "fixes", 0),
)
TRACK, STROKE = (*SURFACE, "track"), (*PLATE, "painting", "strokes", 0)


@pytest.mark.parametrize(
    ("path", "value", "words"),
    [
        ((*SURFACE, "rides_on"), "wall", r"shots\[0\].surfaces\[0\]: rides on itself"),
        ((*SURFACE, "id"), "", r"surfaces\[0\]: has no id"),
        (("shots", 1, "id"), "one", r"shots\[1\]: has the id 'one'"),
        ((*SHOT, "footage", "width"), 0, r"shots\[0\].footage: pictures are 0 x"),
        ((*SHOT, "footage", "width"), 10**12, "footage"),
        ((*SHOT, "footage", "rate"), [0, 1], "its rate is 0/1"),
        ((*SHOT, "footage", "pixel_aspect"), 1e9, "its pixels are"),
        ((*SHOT, "footage", "frames"), {"first": 1, "last": 10**8}, "frames; 1000000 are the most"),
        ((*SHOT, "footage", "path"), "a\u0000b", "letters that cannot be shown"),
        ((*SHOT, "footage", "path"), "x" * 300 + ".exr", "longer than file systems hold"),
        ((*SHOT, "footage", "missing"), [5, 5], "missing frames"),
        ((*SHOT, "name"), "x" * 100_000, "a text of 100000 letters"),
        ((*SURFACE, "home_frame"), 5, r"surfaces\[0\]: frame 5 is not within the footage"),
        ((*TRACK, "first_frame"), 10**8, "is not within the footage"),
        ((*TRACK, "home_to_frame"), [[[0, 0, 0]] * 3] * 4, "cannot be inverted"),
        ((*TRACK, "certainty"), [None] * 4, "numbers alone"),
        ((*TRACK, "certainty"), ["a"] * 4, "numbers alone"),
        ((*TRACK, "certainty"), {"shape": [4], "float64": "////////738AAAAA"}, "base64|finite"),
        ((*PLATE, "home_frame"), -7, r"clean_plates\[0\]: frame -7"),
        ((*STROKE, "points"), [[0, 0, 1], [1e300, 0, 1]], "px long"),
        ((*STROKE, "points"), [[0, 0, 1], [9e8, 0, 1]], "px long"),
        ((*STROKE, "points"), [[0, 0, 7]], "pressure"),
        ((*STROKE, "brush", "size_px"), 1e8, "its brush is 1e\\+08 px large"),
        ((*STROKE, "id"), "", "has no id"),
        ((*FIX, "opacity"), 7, "opacity is 7"),
        ((*FIX, "cover", "grow_px"), 1e7, "grow_px is 1e\\+07"),
        ((*FIX, "match"), {"light": {"exposure_stops": 5000}}, "exposure_stops is 5000"),
        ((*FIX, "surface_id"), "air", r"shots\[0\]: .* refers to the surface 'air'"),
    ],
)
def test_what_no_program_could_have_meant_is_refused_with_its_place(tmp_path, path, value, words):
    plain = sample()
    put(plain, path, value)
    found = refused(tmp_path / "p.gommage", json.dumps(plain))
    assert re.search(words, found), found


def test_surfaces_that_lie_nowhere_are_refused(tmp_path):
    plain = sample()
    plain["shots"][0]["surfaces"][0]["pins"] = [
        {"frame": 1002, "home": [[0, 0], [9, 0], [9, 9], [0, 9]], "placed": [[0, 0], [0, 0], [0, 0], [0, 0]]}
    ]
    assert re.search(r"shots\[0\].surfaces\[0\]: its pins", refused(tmp_path / "p.gommage", json.dumps(plain)))


def test_edits_keep_to_what_can_be_read_again(small_shot):
    project = Project.of(small_shot)
    with pytest.raises(EditError, match="frame 7 is not within the footage"):
        edits.change_surface(project, "shot", "wall", home_frame=7)
    with pytest.raises(EditError, match="letters that cannot be shown"):
        edits.change_surface(project, "shot", "wall", name="two\nlines")
