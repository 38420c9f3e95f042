"""The command line: the whole job without a window, and one sentence for what goes wrong."""

import json

import pytest
from click.testing import CliRunner

from gommage.cli import benches
from gommage.cli import main as cli
from gommage.core.document import Project, store
from tests.engine.test_engine import clone, with_fix


@pytest.fixture
def project(small_shot, tmp_path):
    folder = tmp_path / "job.gommage"
    store.save(Project.of(with_fix(small_shot, clone())), folder)
    return folder


def run(*arguments):
    return CliRunner().invoke(cli.main, [str(argument) for argument in arguments], catch_exceptions=False)


def test_info_on_footage(project, tmp_path):
    (tmp_path / "plate" / "wall.1003.exr").unlink()
    text = run("info", tmp_path / "plate").output
    assert "frames 1001–1006, 1 missing" in text
    assert "160 x 120, 16-bit float, 25 frames/s" in text
    assert "1 frame is missing: 1003" in text


def test_info_on_a_project(project):
    text = run("info", project).output
    assert "surface Wall: followed 1001–1006, slip 0.00 px at most" in text
    assert "clean plate Clean: home frame 1001, 1 strokes" in text
    assert "fix Nail: on" in text


def test_info_on_the_system():
    assert "numpy" in run("info", "--system").output


def test_render_some_frames(project, tmp_path):
    result = run("render", project, "--out", tmp_path / "out", "--frames", "1002-1003,1005", "--format", "png-8")
    assert result.exit_code == 0
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == [
        "wall.1002.png",
        "wall.1003.png",
        "wall.1005.png",
    ]


def test_render_tells_what_was_left_out(project, tmp_path):
    (tmp_path / "plate" / "wall.1003.exr").unlink()
    result = run("render", project, "--out", tmp_path / "out")
    assert result.exit_code == 2
    assert "left out: Frame 1003 is missing" in result.stderr
    assert "5 written" in result.stdout


def test_check_as_words_and_as_json(project):
    assert "Nail: worst is frame" in run("check", project).output
    figures = json.loads(run("check", project, "--json").output)
    assert [row["frame"] for row in figures["fixes"][0]["frames"]] == list(range(1001, 1007))
    assert set(figures["fixes"][0]["frames"][0]) == {"frame", "seam_percent", "flicker_percent"}


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("info", "nowhere.exr"), "is not there"),
        (("render", "nowhere.gommage", "--out", "x"), "could not be opened"),
        (("check", "{project}", "--shot", "Other"), "there is no shot 'Other'"),
        (("render", "{project}", "--out", "x", "--frames", "1,2"), "frame 1 is outside the shot"),
        (("render", "{project}", "--out", "x", "--frames", "some"), "frames are written like"),
    ],
)
def test_faults_are_one_sentence(project, arguments, words):
    result = run(*(argument.replace("{project}", str(project)) for argument in arguments))
    assert result.exit_code == 1
    assert words in result.stderr
    assert result.stderr.count("\n") == 1


@pytest.mark.parametrize("arguments", [("demo",), ("open", "x.exr"), ()])
def test_without_a_display_it_says_how_to_get_one(monkeypatch, arguments):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    result = run(*arguments)
    assert result.exit_code == 1
    assert "xvfb-run gommage demo" in result.stderr


def test_schema_is_printed():
    assert json.loads(run("schema").output)["$ref"].endswith("Project")


def test_bench_writes_between_its_marks(monkeypatch, tmp_path):
    from gommage.demo import accuracy

    monkeypatch.setattr(benches, "_demo_shot", lambda: None)
    monkeypatch.setattr(accuracy, "judge", lambda demo: (None, None, None))
    monkeypatch.setattr(accuracy, "markdown", lambda *figures: "| figures |")
    page = tmp_path / "accuracy.md"
    page.write_text("above\n<!-- figures -->\nold\n<!-- end of figures -->\nbelow\n")
    run("bench", "--write", page)
    assert page.read_text() == "above\n<!-- figures -->\n| figures |\n<!-- end of figures -->\nbelow\n"
    page.write_text("no marks")
    assert run("bench", "--write", page).exit_code == 1


def test_follow_and_tracks_there_and_back(project, tmp_path):
    assert "surface Wall: followed 1001–1006" in run("follow", project, "--surface", "Wall").output
    assert "6 frames of Wall written" in run("write-track", project, "Wall", tmp_path / "wall.csv").output
    before = store.load(project).shots[0].surfaces[0].track
    assert "on 1001–1006" in run("read-track", project, "Wall", tmp_path / "wall.csv").output
    after = store.load(project).shots[0].surfaces[0].track
    assert after.frames == before.frames
    assert "there is no surface 'Floor'" in run("write-track", project, "Floor", tmp_path / "x.csv").stderr


def test_render_held_still(project, tmp_path):
    assert (
        run("render", project, "--out", tmp_path / "out", "--held-still", "Wall", "--frames", "1001-1002").exit_code
        == 0
    )
    assert "there is no surface" in run("render", project, "--out", tmp_path / "o", "--held-still", "Sky").stderr


def test_mattes_are_written_and_never_over_the_plate(project, tmp_path):
    result = run("matte", project, "--out", tmp_path / "m" / "nail.png", "--fix", "Nail", "--frames", "1002-1003",
                 "--format", "png-16")  # fmt: skip
    assert result.exit_code == 0
    assert sorted(path.name for path in (tmp_path / "m").iterdir()) == ["nail.1002.png", "nail.1003.png"]
    assert run("matte", project, "--out", tmp_path / "m" / "x", "--fix", "Hook").stderr.startswith(
        "gommage: there is no fix"
    )
    over = run("matte", project, "--out", tmp_path / "plate" / "wall.exr")
    assert over.exit_code == 1
    assert "would overwrite the plate" in over.stderr
    one = run(
        "matte", project, "--out", tmp_path / "p" / "one.exr", "--fix", "Nail", "--part", "cover", "--frames", "1001"
    )
    assert "1 written" in one.stdout
