"""Following a surface of a shot: what is in front, what carries it; sheets, test card, pictures held still."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Drawn,
    Fix,
    FromFile,
    Matte,
    MattePart,
    PointsFollow,
    Project,
    Shared,
    SharedMatte,
    Spot,
    Still,
    Surface,
    edits,
    placement,
)
from gommage.core.engine import (
    Look,
    RenderTarget,
    Sheet,
    SheetRequest,
    ViewRequest,
    followed,
    render,
    sheet_of,
    sheet_pixels,
    view_pixels,
)
from gommage.core.engine.following import surroundings
from gommage.core.follow.masks import matte_mask
from gommage.core.geometry import IDENTITY, apply_matrix, fitted, from_matrix, shift, square_on
from gommage.core.picture import read_picture
from gommage.core.picture.card import CARD_CORNERS
from gommage.core.picture.writing import write_still
from gommage.errors import Cancelled, EditError, FollowError
from tests.conftest import cover_of, plane, rectangle, shape_of

STILL_TOLERANCE_PX = 0.05  # nothing moves in the small shot


def test_a_surface_of_the_shot_is_followed(engine, small_shot):
    loose = edits.change_surface(Project.of(small_shot), "shot", "wall", track=None)
    done = followed(engine, loose, "shot", "wall").shots[0]
    placed = placement(done, done.surfaces[0])
    assert (placed.frames.first, placed.frames.last) == (1001, 1006)
    for frame in placed.frames:
        off = placed.home_to_frame(frame)(done.surfaces[0].corners) - done.surfaces[0].corners
        assert np.abs(off).max() < STILL_TOLERANCE_PX


def test_points_keep_the_ways_of_their_spots(engine, small_shot):
    spots = Surface(id="spots", name="Spots", home_frame=1002,
                    how=PointsFollow(spots=(Spot(id="a", x=60, y=50), Spot(id="b", x=100, y=70))))  # fmt: skip
    project = edits.add_surface(Project.of(small_shot), "shot", spots)
    done = followed(engine, project, "shot", "spots").shots[0].surface("spots")
    assert len(done.how.spots[0].path.certainty) == 6
    np.testing.assert_allclose(done.how.spots[1].path.positions.values, [[100, 70]] * 6, atol=0.1)


def test_what_stands_still_is_not_followed(engine, small_shot):
    still = Surface(id="s", name="Sky", home_frame=1001, how=Still(corners=Array(rectangle(0, 0, 9, 9))))
    with pytest.raises(FollowError, match="Sky is not followed"):
        followed(engine, edits.add_surface(Project.of(small_shot), "shot", still), "shot", "s")


def test_front_is_what_is_listed_later_and_covers_there_and_here(engine, small_shot):
    back, front = (
        small_shot.surfaces[0],
        replace(small_shot.surfaces[0], id="front", how=plane(rectangle(5, 5, 20, 20), surface_id="front")),
    )
    cover = cover_of(shape_of(rectangle(60, 40, 90, 70)))
    fixes = (
        Fix(id="a", name="A", surface_id="wall", cover=cover),
        Fix(id="b", name="B", surface_id="front", is_on=False),
    )
    shot = replace(small_shot, surfaces=(back, front), fixes=fixes)
    whole = shot.footage.bounds
    behind = surroundings(engine, shot, back).in_front(1003, IDENTITY, whole)
    assert behind[10, 10]
    assert behind[50, 62]
    assert not behind[30, 50]
    assert surroundings(engine, shot, front).in_front is None, "a cover of something behind it is not in front of it"
    moved = surroundings(engine, shot, back).in_front(1003, shift(10, 0), whole)
    assert not moved[50, 62], "a cover of its own rides on where it is thought to be"
    assert moved[50, 92]


def test_mattes_of_every_kind_keep_out_what_is_not_looked_at(engine, small_shot, tmp_path):
    """The wall, half of it hidden by what a shared matte, a file and scribbles tell of."""
    alpha = np.zeros((120, 160, 3), np.float32)
    alpha[:, 120:] = 1
    write_still(tmp_path / "right.exr", alpha, bits=32)
    sources = (
        Shared(matte_id="hair"),
        FromFile(path=str(tmp_path / "right.exr"), channel="R"),
        Drawn(shape=shape_of(rectangle(0, 0, 20, 120)), surface_id=""),
    )
    keep_outs = Matte(parts=tuple(MattePart(id=str(n), source=source) for n, source in enumerate(sources)))
    hair = SharedMatte(id="hair", name="Hair", matte=Matte.of(shape_of(rectangle(60, 40, 90, 70)), surface_id="wall"))
    project = edits.change_shot(Project.of(small_shot), "shot", mattes=(hair,))
    project = edits.change_matte(project, "shot", "wall", edits.Slot.KEEP_OUTS, parts=keep_outs.parts)
    shot = project.shots[0]
    rest = surroundings(engine, shot, shot.surfaces[0])
    mask = matte_mask(keep_outs, 1003, shift(5, 0), shot.footage.bounds, rest.undrawn)
    assert mask[50, [10, 62, 70, 94, 110, 130]].tolist() == [1, 0, 1, 1, 0, 1]
    done = followed(engine, edits.change_surface(project, "shot", "wall", track=None), "shot", "wall").shots[0]
    placed = placement(done, done.surfaces[0])
    assert placed.frames.last == 1006
    lost = edits.change_shot
    with pytest.raises(EditError, match="refers to the matte 'hair'"):
        lost(project, "shot", mattes=())


def test_an_area_from_a_file_is_refused(small_shot):
    part = MattePart(id="f", source=FromFile(path="x.exr", channel="R"))
    with pytest.raises(EditError, match="as an area to follow by"):
        edits.add_part(Project.of(small_shot), "shot", "wall", edits.Slot.AREAS, part)


def test_a_sheet_shows_every_frame_in_a_cell_of_its_own(engine, small_shot):
    request = SheetRequest(small_shot, "wall", (600, 400))
    layout = sheet_of(request)
    assert layout.frames == tuple(range(1001, 1007))
    pixels = sheet_pixels(engine, request)
    assert pixels.shape == (400, 600, 4)
    for index, frame in enumerate(layout.frames):
        x, y = layout.place(index)
        width, height = layout.cell_wh
        assert layout.frame_at(x + width / 2, y + height / 2) == frame
        cell = pixels[y : y + height, x : x + width]
        assert cell.std() > 5
    assert layout.frame_at(599, 399) in (None, 1006)
    first, last = (pixels[layout.place(i)[1] + 20, layout.place(i)[0] + 20].astype(int) for i in (0, 5))
    assert (last[:3] < first[:3]).all(), "the shot dims"


def test_a_sheet_can_be_stopped(small_shot):
    from gommage.core.engine import Engine

    def check():
        raise Cancelled

    with pytest.raises(Cancelled):
        sheet_pixels(Engine(10**8), SheetRequest(small_shot, "wall", (300, 200)), check)


def test_the_test_card_lies_where_it_is_put(engine, small_shot):
    plain = ViewRequest(small_shot, 1001, Look.PLATE, IDENTITY, (160, 120))
    card = from_matrix(fitted(CARD_CORNERS, rectangle(40, 30, 120, 90)))
    without, with_card = view_pixels(engine, plain), view_pixels(engine, replace_request(plain, card))
    changed = (without != with_card).any(axis=-1)
    assert changed[32:88, 42:118].mean() > 0.9
    assert not changed[:28].any()
    assert not changed[:, 124:].any()


def replace_request(request, card):
    from dataclasses import replace

    return replace(request, view_from_card=card)


def test_square_on_makes_a_rectangle():
    corners = np.array([[10.0, 20], [110, 35], [100, 90], [20, 80]])
    seen = apply_matrix(square_on(corners), corners)
    np.testing.assert_allclose(seen.mean(axis=0), corners.mean(axis=0), atol=1e-6)
    assert seen[0, 1] == pytest.approx(seen[1, 1])
    assert seen[1, 0] == pytest.approx(seen[2, 0])
    np.testing.assert_allclose(apply_matrix(square_on(rectangle(5, 5, 25, 15)), rectangle(5, 5, 25, 15)),
                               rectangle(5, 5, 25, 15), atol=1e-9)  # fmt: skip


def test_pictures_are_rendered_with_a_surface_held_still(engine, small_shot, tmp_path):
    """A track that moves by whole pixels: holding it still moves the picture back by as many."""
    matrices = np.repeat(np.eye(3)[None], 6, axis=0)
    matrices[:, 0, 2] = np.arange(6) * 4
    track = replace(small_shot.surfaces[0].track, home_to_frame=Array(matrices))
    shot = edits.change_surface(Project.of(small_shot), "shot", "wall", track=track).shots[0]
    report = render(engine, shot, range(1001, 1005), RenderTarget(tmp_path / "out", held_still="wall"))
    assert len(report.written) == 4
    held = read_picture(tmp_path / "out" / "wall.1004.exr")
    plate = engine.plate(shot.footage, 1004)
    np.testing.assert_allclose(held[:, :140], plate[:, 12:152], atol=2e-3)  # half-float
    assert not held[:, 150:].any(), "black where there is no picture"
    short = edits.trim_track(Project.of(shot), "shot", "wall", type(shot.footage.frames)(first=1001, last=1002)).shots[
        0
    ]
    report = render(engine, short, range(1002, 1004), RenderTarget(tmp_path / "few", held_still="wall"))
    assert report.left_out == ((1003, "Frame 1003 is left out: Wall is not followed there."),)


def test_a_gap_of_a_sheet_belongs_to_the_nearer_cell():
    layout = Sheet((1001, 1002, 1003), 2, (100, 60))
    (x, y), (_, below) = layout.place(1), layout.place(2)
    half = (x - layout.place(0)[0] - 100) / 2
    assert half > 1
    assert [layout.frame_at(x - half + by, y + 5) for by in (-1, 1)] == [1001, 1002]
    assert [layout.frame_at(5, below - half + by) for by in (-1, 1)] == [1001, 1003]
