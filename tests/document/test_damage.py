"""Kills, damage and full disks, seeded and quick; the long form is `python -m benchmarks.durability`."""

import json
import subprocess
import sys

import numpy as np
import pytest
from benchmarks.durability.kills import work
from benchmarks.durability.mutations import damaged_bytes, damaged_json, damaged_lines
from benchmarks.durability.subjects import stroke, subject

from gommage.core.document import Project, edits, store
from gommage.core.document.journal import Base, Journal
from gommage.core.document.recovery import left_behind, recover
from gommage.core.engine import Engine
from gommage.core.picture import open_plates, probe
from gommage.core.picture.writing import STILL_FORMATS, write_still
from gommage.errors import FootageError, GommageError, ProjectError

pytestmark = pytest.mark.timeout(300)  # none of what is damaged makes it hang


@pytest.fixture(scope="module")
def everything(tmp_path_factory):
    """A project with every kind of record that can be evaluated, its pictures on disk."""
    return subject(tmp_path_factory.mktemp("plate"))


def test_a_kill_at_any_step_loses_nothing_and_doubles_nothing(tmp_path):
    """At every seventh call of the system; in a process of its own, since it forks."""
    script = (
        "import sys; from pathlib import Path\n"
        "from benchmarks.durability.kills import kill, steps_of\n"
        "from benchmarks.durability.subjects import subject\n"
        "root = Path(sys.argv[1]); project = subject(root / 'plate')\n"
        "for step in range(1, steps_of(project, root / 'count') + 1, 7):\n"
        "    told, fault = kill(project, root / str(step), step)\n"
        "    print(step, told, fault)\n"
    )
    run = subprocess.run([sys.executable, "-c", script, str(tmp_path)], capture_output=True, text=True, check=True)
    rows = [line.split(maxsplit=2) for line in run.stdout.splitlines()]
    assert len(rows) > 15
    assert max(int(row[1]) for row in rows) > 8, "the work was nearly done in the last of them"
    assert [row for row in rows if len(row) > 2] == []


def test_the_work_that_is_killed_ends_well_if_it_is_not(tmp_path, everything):
    told = []
    work(everything, tmp_path, told.append)
    assert told == list(range(1, 13))
    assert len(store.load(tmp_path / "job.gommage").shots[0].clean_plates[0].painting.strokes) == 18


def whole(act):
    """Do something that may refuse in one sentence; return what came of it."""
    words, came = "", None
    try:
        came = act()
    except GommageError as error:
        words = str(error)
    assert len(words) < 700
    assert not words or words.isprintable()
    return came


def evaluated(project: Project) -> None:
    """Use what was read as the window would."""
    engine = Engine(10**8)
    for shot in project.shots[:1]:
        for frame in (shot.footage.frames.first, shot.footage.frames.last):
            whole(lambda shot=shot, frame=frame: engine.result(shot, frame))


def test_damaged_projects_are_projects_or_sentences(tmp_path, everything):
    folder = tmp_path / "p.gommage"
    store.save(everything, folder)
    plain = json.loads((folder / "project.json").read_text())
    opened = 0
    for seed in range(80):
        (folder / "project.json").write_bytes(damaged_json(np.random.default_rng(seed), plain))
        project = whole(lambda: store.load(folder))
        if project is not None:
            opened += 1
            evaluated(project)
            assert store.from_plain(json.loads(store.encoded(project))) == project
    assert 8 < opened < 72, "the damage is neither too much nor too little"


def test_damaged_journals_give_back_what_was_good(tmp_path, everything):
    project, told = everything, [everything]
    journal = Journal(tmp_path / "sample", Base(project))
    for number in range(12):
        project = edits.add_stroke(project, "shot", "plate", stroke(100 + number))
        journal.record(project)
        told.append(project)
    journal.close(keep=True)
    base = json.loads((tmp_path / "sample" / "base.json").read_text())
    lines = (tmp_path / "sample" / base["lines"]).read_bytes().splitlines()
    target = tmp_path / "root" / "j"
    target.mkdir(parents=True)
    (target / "base.json").write_text(json.dumps(base))
    for seed in range(40):
        data = damaged_lines(np.random.default_rng(seed), lines)
        (target / base["lines"]).write_bytes(data)
        good = 0
        while data.splitlines()[good : good + 1] == lines[good : good + 1] and good < len(lines):
            good += 1
        found = whole(lambda: recover(target))
        assert found is not None
        assert found.edits >= good - 1, "the last line may have lost its end"
        if found.edits <= good:
            assert found.project == told[found.edits]
        assert len(left_behind([tmp_path / "root"])) <= 1
        target.mkdir(exist_ok=True)
        (target / "base.json").write_text(json.dumps(base))


@pytest.mark.parametrize("name", STILL_FORMATS)
def test_damaged_pictures_are_pictures_or_sentences(tmp_path, name):
    kind = STILL_FORMATS[name]
    levels = np.iinfo(kind.dtype).max if kind.dtype.startswith("u") else 1.0
    pixels = (np.random.default_rng(0).random((48, 64, 3)) * levels).astype(kind.dtype)
    write_still(tmp_path / f"whole{kind.suffix}", pixels, bits=kind.bits, attributes={"scene": "paper theatre"})
    data = (tmp_path / f"whole{kind.suffix}").read_bytes()
    for seed in range(24):
        path = tmp_path / f"a.{seed:04d}{kind.suffix}"
        rng = np.random.default_rng(seed)
        path.write_bytes(damaged_bytes(rng, data, head=400 if seed % 2 else 0))
        report = whole(lambda path=path: probe(path))
        if report is not None:
            frame = report.footage.frames.first
            raw = whole(lambda report=report, frame=frame: open_plates(report.footage).read(frame))
            assert raw is None or raw.pixels.ndim == 3
        path.unlink()


def test_a_damaged_project_says_where(everything):
    plain = store.to_plain(everything)
    plain["shots"][0]["surfaces"][2]["rides_on"] = "still"
    with pytest.raises(ProjectError, match=r"shots\[0\]\.surfaces\[2\]: rides on itself"):
        store.from_plain(json.loads(json.dumps(plain)))


# -- footage that was made to hang ------------------------------------------------------------------------------


def black(path):
    path.parent.mkdir(exist_ok=True)
    write_still(path, np.zeros((12, 16, 3), np.uint8), bits=8)
    return path


def test_numbers_that_are_dates_are_not_frames(tmp_path):
    for number in (1, 2, 4, 20260101):
        black(tmp_path / f"scan_{number}.png")
    report = probe(tmp_path / "scan_1.png")
    assert (report.footage.frames.first, report.footage.frames.last, report.footage.missing) == (1, 4, (3,))
    assert report.notes[1] == "1 file is left out: the numbers are far from these frames."
    dated = probe(tmp_path / "scan_20260101.png").footage
    assert dated.frames.first == dated.frames.last == 20260101
    assert open_plates(dated).read(20260101).pixels.shape == (12, 16, 3)


def test_numbers_of_many_digits_are_names(tmp_path):
    footage = probe(black(tmp_path / "a20260101123456789.png")).footage
    assert (footage.frames.first, footage.frames.last) == (1, 1)
    assert open_plates(footage).read(1).pixels.shape == (12, 16, 3)


@pytest.mark.parametrize(
    ("names", "chosen", "frames", "first"),
    [
        (("a.0998.png", "a.0999.png", "a.1000.png", "a.1001.png"), "a.1001.png", (998, 1001), "a.0998.png"),
        (("a.1.png", "a.0001.png", "a.0002.png"), "a.0001.png", (1, 2), "a.0001.png"),
        (("a.1.png", "a.0001.png", "a.0002.png"), "a.1.png", (1, 1), "a.1.png"),
        (("a.9.png", "a.10.png", "a.100.png"), "a.10.png", (9, 100), "a.9.png"),
        (("a.1001.png", "a.1002.PNG"), "a.1001.png", (1001, 1002), "a.1001.png"),
    ],
)
def test_files_are_of_one_sequence_if_their_numbers_are_written_alike(tmp_path, names, chosen, frames, first):
    for name in names:
        black(tmp_path / name)
    footage = probe(tmp_path / chosen).footage
    assert (footage.frames.first, footage.frames.last) == frames
    assert open_plates(footage).file_of(footage.frames.first) == str(tmp_path / first)


def test_what_cannot_be_a_name_is_refused(tmp_path):
    for name, words in (
        ("a\udcff.png", "is not UTF-8 text"),
        ("a\nb.png", "letters in its name that cannot be shown"),
        ("a#.0001.png", "has a # in its name"),
    ):
        black(tmp_path / "plain.png").rename(tmp_path / name)
        with pytest.raises(FootageError, match=words):
            probe(tmp_path / name)
