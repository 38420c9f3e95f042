"""What the documents say holds: the script runs, the pictures are there, the figures are filled in."""

import re
from pathlib import Path

from gommage.core.document import store
from gommage.core.picture import probe
from gommage.demo.job import HOME_FRAME, label_cover, recorded_strokes

ROOT = Path(__file__).parents[1]


def test_the_script_of_the_scripting_page_does_the_whole_job(demo, tmp_path, capsys):
    page = (ROOT / "docs" / "scripting.md").read_text()
    script = "\n".join(re.findall(r"```python\n(.*?)```", page, re.S))
    names = {
        "footage": demo.plate_path,
        "area": demo.column_corners(HOME_FRAME),
        "cover": label_cover(demo).keys[0].points,
        "strokes": recorded_strokes(demo),
        "out": tmp_path,
    }
    exec(compile(script, "docs/scripting.md", "exec"), names)
    assert "1019" in capsys.readouterr().out
    assert names["worst"].worst < 3
    assert probe(tmp_path).footage.frames == type(names["track"].frames)(first=1038, last=1041)
    assert store.load(tmp_path / "label.gommage").shots[0].fixes[0].name == "Price label"


def test_pictures_of_the_readme_are_there_and_all_are_linked():
    text = (ROOT / "README.md").read_text()
    linked = set(re.findall(r"\((docs/screenshots/[^)]+\.png)\)", text))
    there = {str(path.relative_to(ROOT)) for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert linked == there


def test_links_between_documents_lead_somewhere():
    for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name} links {target}"
