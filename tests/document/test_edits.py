"""Edits: each is one step, keeps what it does not touch, refuses in words, survives the disk and the journal."""

import json

import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Area,
    Array,
    Channel,
    CleanPlate,
    Cover,
    Fix,
    Frames,
    History,
    MotionModel,
    Pin,
    Project,
    Still,
    Stroke,
    Surface,
    Tool,
    edits,
    store,
)
from gommage.core.document.journal import differences
from gommage.errors import EditError
from tests.conftest import plane, rectangle, shape_of


@pytest.fixture
def project(small_shot) -> Project:
    plate = CleanPlate(id="plate", name="Clean", surface_id="wall", home_frame=1001)
    cover = Cover(shapes=(shape_of(rectangle(40, 40, 60, 60), 1001, "cover"),))
    fixes = (
        Fix(id="f1", name="Nail", surface_id="wall", cover=cover),
        Fix(id="f2", name="Hook", surface_id="wall"),
    )
    return Project.of(replace(small_shot, clean_plates=(plate,), fixes=fixes))


def stroke(stroke_id="s1"):
    return Stroke(id=stroke_id, tool=Tool.CLONE, points=Array([[5, 5, 1]]), size_px=8)


with_stroke = lambda p: edits.add_stroke(p, "shot", "plate", stroke())  # noqa: E731


def area(name, size):
    return Area(shape=shape_of(rectangle(0, 0, size, size), 1001, name))


def pin(frame):
    return Pin(frame=frame, home=Array([[20, 20]]), placed=Array([[23, 19]]))


def two(project):
    return edits.add_surface(
        project, "shot", Surface(id="n", name="N", home_frame=1002, how=plane(rectangle(0, 0, 9, 9)))
    )


EDITS = {
    "add_surface": lambda p: edits.add_surface(
        p, "shot", Surface(id="n", name="New", home_frame=1002, how=plane(rectangle(0, 0, 9, 9)))
    ),
    "change_surface": lambda p: edits.change_surface(p, "shot", "wall", name="Brick wall"),
    "change_follow": lambda p: edits.change_follow(p, "shot", "wall", motion=MotionModel.SHIFT, channel=Channel.RED),
    "move_surface": lambda p: edits.move_surface(two(p), "shot", "n", 0),
    "set_area": lambda p: edits.set_area(p, "shot", "wall", area("more", 60)),
    "remove_area": lambda p: edits.remove_area(
        edits.set_area(p, "shot", "wall", area("x", 9), is_keep_out=True), "shot", "wall", "x"
    ),
    "set_area_key": lambda p: edits.set_area_key(p, "shot", "wall", "area", 1004, Array(rectangle(1, 1, 9, 9))),
    "remove_area_key": lambda p: edits.remove_area_key(
        edits.set_area_key(p, "shot", "wall", "area", 1004, Array(rectangle(1, 1, 9, 9))), "shot", "wall", "area", 1001
    ),
    "trim_track": lambda p: edits.trim_track(p, "shot", "wall", Frames(first=1002, last=1009)),
    "set_pin": lambda p: edits.set_pin(p, "shot", "wall", pin(1004)),
    "remove_pin": lambda p: edits.remove_pin(edits.set_pin(p, "shot", "wall", pin(1004)), "shot", "wall", 1004),
    "set_rides_on": lambda p: edits.set_rides_on(two(p), "shot", "n", "wall"),
    "set_track": lambda p: edits.set_track(p, "shot", "wall", None),
    "add_clean_plate": lambda p: edits.add_clean_plate(
        p, "shot", CleanPlate(id="q", name="Q", surface_id="wall", home_frame=1004)
    ),
    "remove_clean_plate": lambda p: edits.remove_clean_plate(p, "shot", "plate"),
    "add_stroke": with_stroke,
    "replace_stroke": lambda p: edits.replace_stroke(with_stroke(p), "shot", "plate", replace(stroke(), opacity=0.3)),
    "remove_stroke": lambda p: edits.remove_stroke(
        edits.add_stroke(with_stroke(p), "shot", "plate", stroke("s2")), "shot", "plate", "s1"
    ),
    "add_fix": lambda p: edits.add_fix(p, "shot", Fix(id="f3", name="Dust", surface_id="wall")),
    "remove_fix": lambda p: edits.remove_fix(p, "shot", "f1"),
    "move_fix": lambda p: edits.move_fix(p, "shot", "f2", 0),
    "change_fix": lambda p: edits.change_fix(p, "shot", "f1", frames=Frames(first=1002, last=1003), is_on=False),
    "change_match": lambda p: edits.change_match(p, "shot", "f1", grain=0.5),
    "set_cover": lambda p: edits.set_cover(p, "shot", "f1", softness_px=3.0),
    "set_fill": lambda p: edits.set_fill(p, "shot", "f1", ("plate",)),
    "set_shape_key": lambda p: edits.set_shape_key(p, "shot", "f1", "cover", 1004, Array(rectangle(41, 40, 61, 60))),
    "remove_shape_key": lambda p: edits.remove_shape_key(
        edits.set_shape_key(p, "shot", "f1", "cover", 1004, Array(rectangle(41, 40, 61, 60))),
        "shot", "f1", "cover", 1001,
    ),
    "remove_surface": lambda p: edits.remove_surface(
        edits.add_surface(p, "shot", Surface(id="n", name="N", home_frame=1002, how=plane(rectangle(0, 0, 9, 9)))),
        "shot", "n",
    ),
    "relink_footage": lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, path="/x/wall.####.exr")),
    "add_shot": lambda p: edits.add_shot(p, replace(p.shots[0], id="other")),
}  # fmt: skip


def test_every_public_edit_is_in_the_contract():
    assert set(EDITS) == set(edits.__all__)


@pytest.mark.parametrize("name", EDITS)
def test_contract(project, name, tmp_path):
    before = store.to_plain(project)
    after = EDITS[name](project)
    assert store.to_plain(project) == before, "the project that went in was changed"
    if name not in ("remove_surface", "add_shot"):
        assert after.shots[0].footage.frames is project.shots[0].footage.frames
    history = History.of(project).push(name, after)
    assert history.undo().present is project
    assert history.undo().redo().present is after
    plain = json.loads(json.dumps(before))
    from gommage.core.document.journal import _apply

    for operation in json.loads(json.dumps(differences(project, after))):
        plain = _apply(plain, operation)
    assert store.from_plain(plain) == after
    store.save(after, tmp_path / "p.gommage")
    assert store.load(tmp_path / "p.gommage") == after


def test_an_edit_that_changes_nothing_makes_no_step(project):
    same = edits.set_cover(project, "shot", "f1", softness_px=project.shots[0].fixes[0].cover.softness_px)
    assert same is project
    assert History.of(project).push("Nothing", same).undo_label is None


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        (lambda p: edits.remove_surface(p, "shot", "wall"), "Wall carries Nail, Hook, Clean"),
        (lambda p: edits.remove_area(p, "shot", "wall", "area"), "This is the only area of Wall"),
        (lambda p: edits.set_pin(p, "shot", "wall", pin(1001)), "is at home on frame 1001"),
        (lambda p: edits.set_pin(p, "shot", "wall", pin(900)), "outside the shot"),
        (lambda p: edits.trim_track(p, "shot", "wall", Frames(first=1100, last=1110)), "nothing of that would be left"),
        (lambda p: edits.trim_track(two(p), "shot", "n", Frames(first=1001, last=1002)), "has not been followed"),
        (lambda p: edits.set_rides_on(p, "shot", "wall", "wall"), "cannot ride on what rides on it"),
        (lambda p: edits.set_rides_on(two(p), "shot", "wall", "n"), "N is not followed to frame 1001"),
        (lambda p: edits.remove_surface(edits.set_rides_on(two(p), "shot", "n", "wall"), "shot", "wall"), "Clean, N"),
        (
            lambda p: edits.set_area(
                edits.change_surface(p, "shot", "wall", how=Still(corners=Array(rectangle(0, 0, 9, 9)))),
                "shot",
                "wall",
                area("x", 9),
            ),
            "is not followed as a plane",
        ),
        (lambda p: edits.remove_shape_key(p, "shot", "f1", "cover", 1001), "is the only one"),
        (lambda p: edits.remove_fix(p, "shot", "gone"), "'gone'"),
        (lambda p: edits.change_match(p, "shot", "gone", grain=1), "'gone'"),
        (
            lambda p: edits.add_surface(
                p, "shot", Surface(id="n", name="N", home_frame=2000, how=plane(rectangle(0, 0, 9, 9)))
            ),
            "Frame 2000 is outside the shot",
        ),
        (
            lambda p: edits.add_clean_plate(
                p, "shot", CleanPlate(id="q", name="Q", surface_id="wall", home_frame=1900)
            ),
            "was not followed to frame 1900",
        ),
        (
            lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, width=99)),
            "99 x 120; the shot was made on 160 x 120",
        ),
        (
            lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, frames=Frames(first=1, last=6))),
            "frames 1–6; the shot has 1001–1006",
        ),
        (lambda p: edits.add_shot(p, p.shots[0]), "already"),
    ],
)
def test_refusals_are_sentences(project, edit, words):
    with pytest.raises(EditError, match=words):
        edit(project)


def test_a_removed_plate_is_no_longer_used(project):
    project = edits.set_fill(project, "shot", "f1", ("plate",))
    project = edits.remove_clean_plate(project, "shot", "plate")
    assert project.shots[0].fix("f1").fill.plate_ids == ()


def test_history_forgets_what_was_undone(project):
    one = edits.remove_fix(project, "shot", "f1")
    other = edits.remove_fix(project, "shot", "f2")
    history = History.of(project).push("One", one).undo().push("Other", other)
    assert history.redo_label is None
    assert history.undo_label == "Other"
    assert history.present is other
