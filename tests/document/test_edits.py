"""Edits: each is one step, keeps what it does not touch, refuses in words, survives the disk and the journal."""

import json

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Blend,
    Brush,
    Channel,
    CleanPlate,
    Drawn,
    Fix,
    FixPicture,
    Footage,
    FrameRange,
    Frames,
    GrainMatch,
    Group,
    History,
    MattePart,
    MotionModel,
    Pin,
    Placed,
    Plates,
    Project,
    ScenePlane,
    ShapeKey,
    SharedMatte,
    Shot,
    Softness,
    SolvedCamera,
    Source,
    Sphere,
    Still,
    Stroke,
    Surface,
    TurnedView,
    VertexKind,
    edits,
    store,
)
from gommage.core.document.edits import Slot
from gommage.core.document.journal import differences
from gommage.core.geometry import Lens, axis_turn
from gommage.errors import EditError
from tests.conftest import plane, rectangle, shape_of


@pytest.fixture
def project(small_project) -> Project:
    return small_project


def stroke(stroke_id="s1", **fields):
    return Stroke(id=stroke_id, points=Array([[5, 5, 1]]), **{"brush": Brush(size_px=8), **fields})


def with_stroke(project):
    return edits.add_stroke(project, "shot", "plate", stroke())


def part(name, size):
    return MattePart(id=name, source=Drawn(shape=shape_of(rectangle(0, 0, size, size), 1001, name), surface_id="wall"))


def pin(frame):
    return Pin(frame=frame, home=Array([[20, 20]]), placed=Array([[23, 19]]))


def surface(home=1002, **fields):
    how = plane(rectangle(0, 0, 9, 9), surface_id="n")
    return Surface(**{"id": "n", "name": "N", "home_frame": home, "how": how, **fields})


def two(project):
    return edits.add_surface(project, "shot", surface())


def shared(project):
    return edits.change_shot(project, "shot", mattes=(SharedMatte(id="m", name="M"),))


def two_strokes(project):
    return edits.add_stroke(with_stroke(project), "shot", "plate", stroke("s2"))


def grouped(project):
    return edits.group_strokes(two_strokes(project), "shot", "plate", ("s1", "s2"), Group(id="g", name="First pass"))


def keyed(project, shape_id="cover", frame=1004):
    return edits.set_shape_key(project, "shot", shape_id, ShapeKey.of(frame, rectangle(41, 40, 61, 60)))


def at_frame(project, frame=1003, shape_id="cover"):
    (shape,) = project.shots[0].fix("f1").cover.shapes
    assert shape.id == shape_id
    return shape.vertices_at(frame)


def camera(**fields):
    """Return a camera that walks to the right over the shot's first frames."""
    count = 6
    moves = np.column_stack([-0.1 * np.arange(count), np.zeros(count), np.zeros(count)])
    points = np.array([[0.0, 0.0, 1.0, 0.2], [0.1, 0.2, 0.97, 0.3], [-0.2, 0.1, 0.97, 0.25]])
    return SolvedCamera(
        **{
            "first_frame": 1001, "turns": np.repeat(np.eye(3)[None], count, axis=0), "moves": moves,
            "lens": Lens(200.0, 80.0, 60.0, -0.05), "points": points, "point_error_px": np.full(3, 0.1),
            "seen_on": np.array([[1001, 1006]] * 3), "frame_error_px": np.full(count, 0.1), **fields,
        }
    )  # fmt: skip


FLOOR = ScenePlane(outline=rectangle(20, 70, 140, 110), plane=[0.0, 1.0, 0.1], unsure=np.eye(3) * 1e-8)
WALL = ScenePlane(outline=rectangle(30, 10, 120, 50), plane=[0.1, 0.05, 0.2], unsure=np.eye(3) * 1e-8)


def in_scene(project):
    """Return the project with a solved camera, a floor that is the ground, and a wall."""
    project = edits.set_camera(project, "shot", camera())
    for name, how in (("floor", FLOOR), ("flat", WALL)):
        project = edits.add_surface(project, "shot", Surface(id=name, name=name.capitalize(), home_frame=1002, how=how))
    return edits.set_ground(project, "shot", "floor")


def panorama(project):
    """Return the project as one of a panorama with a flat view of it."""
    footage = replace(project.shots[0].footage, width=160, height=80, is_panorama=True)
    whole = replace(project.shots[0], footage=footage, surfaces=(), clean_plates=(), fixes=())
    return edits.add_view(Project.of(whole), "shot", view_of(whole))


def view_of(whole, view_id="down"):
    turned = TurnedView(panorama_width=160, panorama_height=80, turn=np.eye(3), focal_px=40.0)
    return Shot(
        id=view_id, name="Down", footage=replace(whole.footage, width=64, height=64, is_panorama=False, turned=turned)
    )


EDITS = {
    "set_camera": lambda p: edits.set_camera(p, "shot", camera()),
    "set_ground": in_scene,
    "nudge_plane": lambda p: edits.nudge_plane(in_scene(p), "shot", "flat", 2.0, -1.0, 0.1),
    "stand_upright": lambda p: edits.stand_upright(in_scene(p), "shot", "flat"),
    "add_view": panorama,
    "remove_view": lambda p: edits.remove_view(panorama(p), "shot", "down"),
    "set_sphere": lambda p: edits.set_sphere(panorama(p), "shot", Sphere.plain()),
    "add_surface": two,
    "change_surface": lambda p: edits.change_surface(p, "shot", "wall", name="Brick wall"),
    "change_follow": lambda p: edits.change_follow(p, "shot", "wall", motion=MotionModel.SHIFT, channel=Channel.RED),
    "move_surface": lambda p: edits.move_surface(two(p), "shot", "n", 0),
    "trim_track": lambda p: edits.trim_track(p, "shot", "wall", FrameRange(first=1002, last=1009)),
    "set_pin": lambda p: edits.set_pin(p, "shot", "wall", pin(1004)),
    "remove_pin": lambda p: edits.remove_pin(edits.set_pin(p, "shot", "wall", pin(1004)), "shot", "wall", 1004),
    "set_rides_on": lambda p: edits.set_rides_on(two(p), "shot", "n", "wall"),
    "remove_surface": lambda p: edits.remove_surface(two(p), "shot", "n"),
    "add_part": lambda p: edits.add_part(p, "shot", "wall", Slot.KEEP_OUTS, part("more", 60)),
    "change_part": lambda p: edits.change_part(p, "shot", "cover", is_on=False, grow_px=2.0),
    "remove_part": lambda p: edits.remove_part(
        edits.add_part(p, "shot", "wall", Slot.AREAS, part("x", 9)), "shot", "area"
    ),
    "move_part": lambda p: edits.move_part(edits.add_part(p, "shot", "f1", Slot.COVER, part("x", 9)), "shot", "x", 0),
    "change_matte": lambda p: edits.change_matte(
        p, "shot", "f1", Slot.COVER, softness=Softness(outwards_px=3.0), grow_px=-2.0
    ),
    "rename_matte": lambda p: edits.rename_matte(shared(p), "shot", "m", "Hair"),
    "change_shape": lambda p: edits.change_shape(p, "shot", "cover", kinds=(VertexKind.SMOOTH,) * 4),
    "set_shape_key": keyed,
    "remove_shape_keys": lambda p: edits.remove_shape_keys(keyed(p, "area"), "shot", "area", (1001,)),
    "move_shape_keys": lambda p: edits.move_shape_keys(keyed(p), "shot", "cover", (1004,), 2),
    "copy_shape_keys": lambda p: edits.copy_shape_keys(keyed(p), "shot", "cover", (1001, 1004), 5),
    "mirror_shape_keys": lambda p: edits.mirror_shape_keys(keyed(p), "shot", "cover", (1001, 1004)),
    "reshape": lambda p: edits.reshape(p, "shot", "cover", 1003, at_frame(p) + 1, edits.Reach.ALL),
    "insert_vertex": lambda p: edits.insert_vertex(keyed(p), "shot", "cover", 1.5),
    "remove_vertices": lambda p: edits.remove_vertices(keyed(p), "shot", "cover", (2,)),
    "set_vertex_kinds": lambda p: edits.set_vertex_kinds(p, "shot", "cover", VertexKind.HANDLES, (1, 2)),
    "switch_part": lambda p: edits.switch_part(p, "shot", "cover", 1004, is_on=False),
    "move_part_to": lambda p: edits.move_part_to(p, "shot", "cover", "f2", Slot.HOLD_OUTS),
    "set_part_surface": lambda p: edits.set_part_surface(p, "shot", "cover", "", 1003),
    "add_clean_plate": lambda p: edits.add_clean_plate(
        p, "shot", CleanPlate(id="q", name="Q", surface_id="wall", home_frame=1004)
    ),
    "change_clean_plate": lambda p: edits.change_clean_plate(p, "shot", "plate", home_frame=1003),
    "remove_clean_plate": lambda p: edits.remove_clean_plate(p, "shot", "plate"),
    "add_stroke": with_stroke,
    "change_strokes": lambda p: edits.change_strokes(two_strokes(p), "shot", "plate", ("s1", "s2"), is_on=False),
    "change_brush": lambda p: edits.change_brush(two_strokes(p), "shot", "plate", ("s2",), opacity=0.3),
    "move_stroke": lambda p: edits.move_stroke(two_strokes(p), "shot", "plate", "s2", 0),
    "remove_strokes": lambda p: edits.remove_strokes(two_strokes(p), "shot", "plate", ("s1",)),
    "add_strokes": lambda p: edits.add_strokes(p, "shot", "plate", (stroke("s1"), stroke("s2"))),
    "change_sources": lambda p: edits.change_sources(two_strokes(p), "shot", "plate", ("s2",), scale=0.5),
    "place_strokes": lambda p: edits.place_strokes(
        two_strokes(p), "shot", "plate", {"s1": Array([[9.0, 9.0, 1.0]])}, {"s1": Source(dx=7.0)}
    ),
    "group_strokes": lambda p: grouped(p),
    "ungroup_strokes": lambda p: edits.ungroup_strokes(grouped(p), "shot", "plate", ("s1",)),
    "change_group": lambda p: edits.change_group(grouped(p), "shot", "plate", "g", opacity=0.5),
    "add_fix": lambda p: edits.add_fix(p, "shot", Fix(id="f3", name="Dust", surface_id="wall")),
    "remove_fixes": lambda p: edits.remove_fixes(p, "shot", ("f1", "f2")),
    "move_fix": lambda p: edits.move_fix(p, "shot", "f2", 0),
    "lay_picture": lambda p: edits.lay_picture(p, "shot", "f1", PICTURE, "outline", 1002),
    "change_picture": lambda p: edits.change_picture(
        edits.lay_picture(p, "shot", "f1", PICTURE, "outline", 1002), "shot", "f1", blend=Blend.MULTIPLY
    ),
    "change_fix": lambda p: edits.change_fix(
        p, "shot", "f1", frames=(Frames(first=1002),), is_on=False, fill=Plates(plate_ids=("plate",))
    ),
    "change_match": lambda p: edits.change_match(p, "shot", "f1", grain=GrainMatch(amount=0.5)),
    "relink_footage": lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, path="/x/wall.####.exr")),
    "add_shot": lambda p: edits.add_shot(p, replace(p.shots[0], id="other")),
    "change_shot": lambda p: edits.change_shot(p, "shot", name="The other wall"),
    "move_shot": lambda p: edits.move_shot(edits.add_shot(p, replace(p.shots[0], id="other")), "other", 0),
    "remove_shot": lambda p: edits.remove_shot(p, "shot"),
}
PICTURE = Placed(
    corners=np.array([[0.0, 0], [9, 0], [9, 5], [0, 5]]),
    footage=Footage(path="/pictures/card.png", frames=FrameRange(first=1, last=1), width=90, height=50),
)
QUERIES = {"OF_FILL", "Reach", "Slot", "matte_in", "slot_of"}


def test_every_public_edit_is_in_the_contract():
    assert set(EDITS) == set(edits.__all__) - QUERIES


@pytest.mark.parametrize("name", EDITS)
def test_contract(project, name, tmp_path):
    before = store.to_plain(project)
    after = EDITS[name](project)
    assert store.to_plain(project) == before, "the project that went in was changed"
    assert after is not project
    history = History.of(project).push(name, after)
    assert history.undo().present is project
    assert history.undo().redo().present is after
    plain = json.loads(json.dumps(before))
    from gommage.core.document.recovery import _apply

    for operation in json.loads(json.dumps(differences(project, after))):
        plain = _apply(plain, operation)
    assert store.from_plain(plain) == after
    store.save(after, tmp_path / "p.gommage")
    assert store.load(tmp_path / "p.gommage") == after


def test_an_edit_that_changes_nothing_makes_no_step(project):
    same = edits.change_matte(project, "shot", "f1", Slot.COVER, grow_px=0.0)
    assert same is project
    assert History.of(project).push("Nothing", same).undo_label is None


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        (lambda p: edits.remove_surface(p, "shot", "wall"), "Wall carries Nail, Hook, Clean"),
        (lambda p: edits.remove_part(p, "shot", "area"), "This is the only area of its surface"),
        (lambda p: edits.set_pin(p, "shot", "wall", pin(1001)), "is at home on frame 1001"),
        (lambda p: edits.set_pin(p, "shot", "wall", pin(900)), "outside the shot"),
        (lambda p: edits.trim_track(p, "shot", "wall", FrameRange(first=1100, last=1110)), "nothing of that would"),
        (lambda p: edits.trim_track(two(p), "shot", "n", FrameRange(first=1001, last=1002)), "has not been followed"),
        (lambda p: edits.set_rides_on(p, "shot", "wall", "wall"), "cannot ride on what rides on it"),
        (lambda p: edits.set_rides_on(two(p), "shot", "wall", "n"), "N is not followed to frame 1001"),
        (lambda p: edits.remove_surface(edits.set_rides_on(two(p), "shot", "n", "wall"), "shot", "wall"), "Clean, N"),
        (
            lambda p: edits.add_part(
                edits.change_surface(p, "shot", "wall", how=Still(corners=Array(rectangle(0, 0, 9, 9)))),
                "shot", "wall", Slot.AREAS, part("x", 9),
            ),
            "Wall has no areas",
        ),
        (lambda p: edits.remove_shape_keys(p, "shot", "cover", (1001,)), "is all that this shape has"),
        (lambda p: edits.remove_fixes(p, "shot", ("gone",)), "'gone'"),
        (lambda p: edits.change_match(p, "shot", "gone", grain=GrainMatch()), "'gone'"),
        (lambda p: edits.change_part(p, "shot", "gone", is_on=False), "'gone'"),
        (lambda p: edits.remove_strokes(p, "shot", "plate", ("gone",)), "no stroke 'gone'"),
        (lambda p: edits.add_stroke(p, "shot", "gone", stroke()), "'gone'"),
        (lambda p: edits.remove_shot(p, "gone"), "no shot 'gone'"),
        (lambda p: with_stroke(with_stroke(p)), "a stroke of the id 's1' in this shot already"),
        (lambda p: edits.add_surface(p, "shot", surface(2000)), "Frame 2000 is outside the shot"),
        # references to nothing
        (lambda p: edits.add_surface(p, "shot", surface(rides_on="air")), "N refers to the surface 'air'"),
        (lambda p: edits.add_fix(p, "shot", Fix(id="x", name="X", surface_id="air")), "X refers to the surface 'air'"),
        (lambda p: edits.change_fix(p, "shot", "f1", fill=Plates(plate_ids=("no",))), "Nail refers to the clean plate"),
        (
            lambda p: edits.add_part(p, "shot", "f1", Slot.COVER, replace(part("x", 9), source=Drawn(
                shape=shape_of(rectangle(0, 0, 9, 9)), surface_id="air"))),
            "Nail refers to the surface 'air'",
        ),
        # what comes later
        (lambda p: edits.change_picture(p, "shot", "f1", runs_along=False), "not filled with a picture"),
        (
            lambda p: edits.add_stroke(p, "shot", "plate", stroke(source=Source(picture=FixPicture(fix_id="gone")))),
            "'gone'",
        ),
        (
            lambda p: edits.add_clean_plate(
                p, "shot", CleanPlate(id="q", name="Q", surface_id="wall", home_frame=1900)
            ),
            "Frame 1900 is outside the shot",
        ),
        (
            lambda p: edits.add_clean_plate(
                edits.trim_track(p, "shot", "wall", FrameRange(first=1001, last=1003)), "shot",
                CleanPlate(id="q", name="Q", surface_id="wall", home_frame=1005),
            ),
            "was not followed to frame 1005",
        ),
        (
            lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, width=99)),
            "99 x 120; the shot was made on 160 x 120",
        ),
        (
            lambda p: edits.relink_footage(p, "shot", replace(p.shots[0].footage, frames=FrameRange(first=1, last=6))),
            "frames 1–6; the shot has 1001–1006",
        ),
        (lambda p: edits.add_shot(p, p.shots[0]), "already"),
    ],
)  # fmt: skip
def test_refusals_are_sentences(project, edit, words):
    with pytest.raises(EditError, match=words):
        edit(project)


def test_names_keep_their_capitals_in_refusals(project):
    named = edits.change_surface(two(project), "shot", "n", name="McKay's WALL")
    with pytest.raises(EditError, match="McKay's WALL has not been followed"):
        edits.trim_track(named, "shot", "n", FrameRange(first=1001, last=1002))


def test_a_removed_plate_is_no_longer_used(project):
    project = edits.change_fix(project, "shot", "f1", fill=Plates(plate_ids=("plate",)))
    project = edits.remove_clean_plate(project, "shot", "plate")
    assert project.shots[0].fix("f1").fill.plate_ids == ()


def test_mattes_and_parts_are_found_by_id(project):
    shot = project.shots[0]
    assert edits.slot_of(shot, "cover") == ("f1", Slot.COVER)
    assert edits.slot_of(shot, "area") == ("wall", Slot.AREAS)
    assert edits.matte_in(shot, "f1", Slot.COVER) is shot.fix("f1").cover
    with pytest.raises(KeyError):
        edits.slot_of(shot, "gone")


def test_two_shots_do_not_know_of_each_other(project):
    both = edits.add_shot(project, replace(project.shots[0], id="other"))
    after = edits.change_surface(both, "other", "wall", name="Elsewhere")
    assert after.shots[0] is both.shots[0]
    assert after.shot("other").surface("wall").name == "Elsewhere"


def test_history_forgets_what_was_undone(project):
    one = edits.remove_fixes(project, "shot", ("f1",))
    other = edits.remove_fixes(project, "shot", ("f2",))
    history = History.of(project).push("One", one).undo().push("Other", other)
    assert history.redo_label is None
    assert history.undo_label == "Other"
    assert history.present is other


def test_groups_go_with_their_last_stroke(project):
    project = edits.ungroup_strokes(grouped(project), "shot", "plate", ("s1",))
    assert [group.id for group in project.shots[0].clean_plates[0].painting.groups] == ["g"]
    project = edits.remove_strokes(project, "shot", "plate", ("s2",))
    assert project.shots[0].clean_plates[0].painting.groups == ()


def test_strokes_are_placed_by_their_ids(project):
    project = edits.place_strokes(two_strokes(project), "shot", "plate", {"s2": Array([[1.0, 2.0, 0.5]])})
    first, second = project.shots[0].clean_plates[0].painting.strokes
    np.testing.assert_array_equal(first.points.values, [[5, 5, 1]])
    np.testing.assert_array_equal(second.points.values, [[1, 2, 0.5]])
    with pytest.raises(EditError, match="no stroke 'gone'"):
        edits.place_strokes(project, "shot", "plate", {"gone": Array([[1.0, 2.0, 0.5]])})


# -- the solved scene ---------------------------------------------------------------------------------------


def plane_of(project, surface_id):
    return project.shots[0].surface(surface_id).how.plane.values


def test_a_plane_is_tilted_about_the_middle_of_its_outline(project):
    begun = in_scene(project)
    lens = begun.shots[0].camera.lens
    flat = (lens.straightened(WALL.outline.values.mean(axis=0)) - (80, 60)) / 200
    ray = np.array([*flat, 1.0])
    tilted = edits.nudge_plane(begun, "shot", "flat", lean_deg=3.0)
    assert plane_of(tilted, "flat") @ ray == pytest.approx(WALL.plane.values @ ray), "its middle stays where it is"
    turned = axis_turn(np.deg2rad([3.0, 0.0, 0.0])) @ WALL.plane.values
    assert np.abs(np.cross(plane_of(tilted, "flat"), turned)).max() < 1e-9, "its normal is turned, no more"
    moved = edits.nudge_plane(begun, "shot", "flat", away=0.25)
    assert plane_of(moved, "flat") == pytest.approx(WALL.plane.values / 1.25)
    with pytest.raises(EditError, match="from its edge"):
        edits.nudge_plane(begun, "shot", "flat", lean_deg=115.0)


def test_upright_planes_stand_on_the_ground(project):
    begun = in_scene(project)
    up = plane_of(begun, "floor")
    stood = plane_of(edits.stand_upright(begun, "shot", "flat"), "flat")
    assert abs(stood @ up) < 1e-9
    assert abs(WALL.plane.values @ up) > 0.01
    with pytest.raises(EditError, match="lies as the ground does"):
        edits.stand_upright(begun, "shot", "floor")
    with pytest.raises(EditError, match="Name a plane the ground first"):
        edits.stand_upright(edits.set_ground(begun, "shot", ""), "shot", "flat")


def test_a_scene_and_its_planes_go_together(project):
    begun = in_scene(project)
    with pytest.raises(EditError, match="would lie nowhere without the solved camera"):
        edits.set_camera(begun, "shot", None)
    with pytest.raises(EditError, match="in the new solve"):
        edits.set_camera(begun, "shot", camera(moving=4), {"floor": FLOOR})
    again = edits.set_camera(begun, "shot", camera(moving=4), {"floor": FLOOR, "flat": WALL})
    assert again.shots[0].camera.moving == 4
    bare = edits.remove_surface(begun, "shot", "floor")
    assert bare.shots[0].camera.ground_id == "", "the ground went with its plane"
    with pytest.raises(EditError, match="no camera is solved on frame"):
        edits.add_surface(project, "shot", Surface(id="x", name="X", home_frame=1002, how=FLOOR))
    unsolved = np.array([0.1, 0.1, 0.1, -1.0, 0.1, 0.1])
    late = edits.set_camera(project, "shot", camera(frame_error_px=unsolved))
    with pytest.raises(EditError, match="no camera is solved on frame 1004"):
        edits.add_surface(late, "shot", Surface(id="x", name="X", home_frame=1004, how=FLOOR))


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"turns": np.repeat(2 * np.eye(3)[None], 6, axis=0)}, "a turn that is none"),
        ({"lens": Lens(0.0, 80.0, 60.0)}, "bends more than lenses do"),
        ({"lens": Lens(200.0, float("nan"), 60.0)}, "not finite"),
        ({"first_frame": 2001}, "not within the footage"),
        ({"ground_id": "nobody"}, "which is not in this shot"),
    ],
)
def test_cameras_that_no_program_could_have_solved_are_refused(project, fields, words):
    with pytest.raises(EditError, match=words):
        edits.set_camera(project, "shot", camera(**fields))


def test_views_are_found_and_changed_as_shots_are(project):
    begun = panorama(project)
    assert begun.shot("down").name == "Down"
    assert begun.whole_of("down").id == "shot"
    fixed = edits.add_fix(begun, "down", Fix(id="f", name="Tripod"))
    assert fixed.shots[0].views[0].fixes[0].name == "Tripod"
    assert not fixed.shots[0].fixes
    other = replace(view_of(begun.shots[0], "x").footage, path="/elsewhere.####.exr")
    with pytest.raises(EditError, match="other pictures"):
        edits.add_view(begun, "shot", Shot(id="x", name="X", footage=other))
    with pytest.raises(EditError, match="no panorama"):
        edits.add_view(project, "shot", view_of(begun.shots[0]))
    with pytest.raises(EditError, match="no panorama"):
        edits.set_sphere(project, "shot", Sphere.plain())


def test_views_that_ride_on_the_turn_do_so_anew(project):
    begun, turns = panorama(project), np.repeat(np.eye(3)[None], 6, axis=0)
    riding = replace(begun.shots[0].views[0].footage.turned, camera_turns=Array(turns), first_frame=1001)
    view = replace(view_of(begun.shots[0], "rides"), footage=replace(begun.shot("down").footage, turned=riding))
    begun = edits.add_view(begun, "shot", view)
    fresh = np.stack([np.roll(np.eye(3), k, axis=0) for k in (0, 1, 2, 0, 1, 2)])
    after = edits.set_sphere(begun, "shot", Sphere(level=np.eye(3), first_frame=1001, turns=fresh))
    assert (after.shot("rides").footage.turned.camera_turns.values == fresh).all()
    assert after.shot("down").footage.turned.camera_turns is None


def test_what_a_way_of_following_does_not_have_is_not_changed(project):
    with pytest.raises(EditError, match="has no is refreshed: it is followed in another way"):
        edits.change_follow(project, "shot", "wall", is_refreshed=True)
