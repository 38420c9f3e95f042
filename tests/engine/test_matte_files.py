"""Mattes from files and to files, and mattes that several share."""

from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.cover import matte_on
from gommage.core.cover.files import numbering
from gommage.core.document import (
    Array,
    Combine,
    Drawn,
    Fix,
    FrameRange,
    FromFile,
    Matte,
    MattePart,
    Project,
    Scribbled,
    ScribbleMark,
    Shared,
    SharedMatte,
    edits,
    store,
)
from gommage.core.engine import MatteTarget, carried_over, find_matte, write_mattes
from gommage.core.geometry import Window
from gommage.core.picture.footage import read_picture
from gommage.core.picture.writing import write_still
from gommage.errors import EditError, FootageError
from tests.conftest import rectangle, shape_of

HALF = 1e-3  # what a half float rounds near 1


def drawn(name, points, combine=Combine.ADD):
    return MattePart(id=name, source=Drawn(shape=shape_of(points, shape_id=name), surface_id="wall"), combine=combine)


def from_file(path, channel="R", offset=0, **fields):
    return MattePart(id="file", source=FromFile(path=str(path), channel=channel, frame_offset=offset), **fields)


def with_cover(shot, *parts, **fields):
    return replace(shot, fixes=(Fix(id="f", name="Nail", surface_id="wall", cover=Matte(parts=parts), **fields),))


def written_squares(folder, frames, size=(120, 160), alpha=False):
    """Write a matte in which a square moves 5 px a frame from the left."""
    folder.mkdir()
    for index, frame in enumerate(frames):
        matte = np.zeros(size, np.float16)
        matte[40:80, 20 + 5 * index : 60 + 5 * index] = 1
        colour = np.zeros((*size, 3), np.float16)
        colour[..., 0] = matte
        write_still(folder / f"key.{frame}.exr", colour, bits=16, alpha=1 - matte if alpha else None)
    return folder / "key.####.exr"


def test_a_channel_of_numbered_pictures_is_a_part(engine, small_shot, tmp_path):
    path = written_squares(tmp_path / "m", range(1, 7), alpha=True)
    shot = with_cover(small_shot, from_file(path, "R", -1000), drawn("cut", rectangle(0, 0, 40, 120), Combine.SUBTRACT))
    matte = engine.matte(shot, shot.fixes[0].cover, 1003)
    expected = np.zeros((120, 160))
    expected[40:80, 40:70] = 1
    np.testing.assert_allclose(matte, expected, atol=HALF)
    window = Window(30, 30, 90, 90)
    np.testing.assert_array_equal(engine.matte(shot, shot.fixes[0].cover, 1003, window), matte[window.slices])
    half = engine.matte(shot, shot.fixes[0].cover, 1003, scale=0.5)
    np.testing.assert_allclose(half, expected.reshape(60, 2, 80, 2).mean(axis=(1, 3)), atol=HALF)
    other = with_cover(small_shot, from_file(path, "A", -1000))
    assert engine.matte(other, other.fixes[0].cover, 1001)[60, 30] == 0
    assert engine.matte(other, other.fixes[0].cover, 1001)[10, 10] == 1


def test_it_grows_and_softens_and_ends_with_its_frames(engine, small_shot, tmp_path):
    path = written_squares(tmp_path / "m", range(1001, 1004))
    grown = with_cover(small_shot, from_file(path, grow_px=4.0))
    matte = engine.matte(grown, grown.fixes[0].cover, 1001)
    assert (matte[60, [17, 62]] == 1).all()
    assert (matte[60, [14, 65]] == 0).all()
    assert engine.matte(grown, grown.fixes[0].cover, 1005).max() == 0
    smaller = written_squares(tmp_path / "small", range(1001, 1004), size=(60, 80))
    shot = with_cover(small_shot, from_file(smaller))
    assert engine.matte(shot, shot.fixes[0].cover, 1001)[100, 60] == pytest.approx(1, abs=HALF)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda folder: folder / "gone.####.exr", "is not there"),
        (lambda folder: written_squares(folder / "w", (1001,), size=(120, 120)), "of other proportions"),
        (lambda folder: written_squares(folder / "n", (1001,)), "has no alpha"),
    ],
)
def test_files_that_do_not_fit_are_refused_in_words(engine, small_shot, tmp_path, make, words):
    shot = with_cover(small_shot, from_file(make(tmp_path), "A"))
    with pytest.raises(FootageError, match=words):
        engine.matte(shot, shot.fixes[0].cover, 1001)


def test_numbers_are_found(engine, small_shot, tmp_path):
    same = find_matte(engine, small_shot, str(written_squares(tmp_path / "a", range(1001, 1007))))
    assert (same.numbering.offset, same.numbering.is_sure, same.channels) == (0, True, ("R", "G", "B", "L"))
    counted = find_matte(engine, small_shot, str(written_squares(tmp_path / "b", range(1, 7), alpha=True)))
    assert (counted.numbering.offset, counted.channels[0]) == (-1000, "A")
    still = find_matte(engine, small_shot, str(written_squares(tmp_path / "c", (7,)).parent / "key.7.exr"))
    assert still.numbering.is_sure


@pytest.mark.parametrize("offset", [0, -7, 12])
def test_numbers_are_found_by_what_moves(offset):
    rng = np.random.default_rng(offset + 20)
    spots = [rng.random((20, 30)).astype(np.float32) * (rng.random((20, 30)) > 0.9) for _ in range(40)]
    plate = {1001 + n: one + rng.random((20, 30)).astype(np.float32) * 0.2 for n, one in enumerate(spots)}
    matte = {1001 + n + offset: spots[n] for n in range(6, 28)}
    found = numbering(
        FrameRange(first=1000, last=1040), FrameRange(first=1006 + offset, last=1028 + offset), plate, matte
    )
    assert (found.offset, found.is_sure) == (offset, True)
    noise = {frame: rng.random((20, 30)).astype(np.float32) for frame in matte}
    lost = numbering(
        FrameRange(first=1000, last=1040), FrameRange(first=1006 + offset, last=1028 + offset), plate, noise
    )
    assert not lost.is_sure


def test_a_shared_matte_serves_several(engine, small_shot):
    shared = SharedMatte(id="hair", name="Hair", matte=Matte(parts=(drawn("a", rectangle(50, 40, 80, 70)),)))
    project = edits.change_shot(Project.of(small_shot), "shot", mattes=(shared,))
    for name in ("one", "two"):
        part = MattePart(id=f"p-{name}", source=Shared(matte_id="hair"))
        project = edits.add_fix(project, "shot", Fix(id=name, name=name, cover=Matte(parts=(part,))))
    shot = project.shots[0]
    first, second = (engine.matte(shot, fix.cover, 1002) for fix in shot.fixes)
    np.testing.assert_array_equal(first, second)
    assert first[50, 60] == 1
    by = np.array([20, 20, 0, 0, 0, 0, 0, 0])
    moved = edits.reshape(project, "shot", "a", 1001, shared.matte.shapes[0].vertices_at(1001) + by)
    assert engine.matte(moved.shots[0], moved.shots[0].fix("two").cover, 1002)[50, 60] == 0
    assert matte_on(shot, shot.fix("one").cover, 1002) == matte_on(shot, shot.fix("two").cover, 1002)
    ring = replace(
        shared, id="ring", name="Ring", matte=Matte(parts=(MattePart(id="r", source=Shared(matte_id="hair")),))
    )
    with pytest.raises(EditError, match="made of shared mattes"):
        edits.change_shot(project, "shot", mattes=(shared, ring))
    with pytest.raises(EditError, match="refers to the matte 'gone'"):
        edits.add_part(project, "shot", "one", edits.Slot.COVER, MattePart(id="x", source=Shared(matte_id="gone")))
    assert store.from_plain(store.to_plain(project)) == project


@pytest.mark.parametrize("kind", ["exr-half", "png-16", "tiff-8"])
def test_mattes_are_written_with_their_softness(engine, small_shot, tmp_path, kind):
    soft = replace(
        drawn("a", rectangle(50, 40, 80, 70)),
        softness=replace(drawn("b", rectangle(0, 0, 9, 9)).softness, outwards_px=8.0),
    )
    shot = with_cover(small_shot, soft, hold_outs=Matte(parts=(drawn("h", rectangle(60, 40, 70, 70)),)))
    frames, tolerance = FrameRange(first=1002, last=1003), {"tiff-8": 1 / 250}.get(kind, HALF)
    target = MatteTarget(tmp_path / "out", "nail", kind)
    files = write_mattes(engine, shot, target, frames, shot.fixes[0])
    assert [one.stem for one in files] == ["nail.1002", "nail.1003"]
    back = read_picture(files[0], "Linear Rec.709 (sRGB)")[..., 0]
    whole = engine.matte(shot, shot.fixes[0].cover, 1002) * (1 - engine.matte(shot, shot.fixes[0].hold_outs, 1002))
    np.testing.assert_allclose(back, whole, atol=tolerance)
    alone = write_mattes(engine, shot, MatteTarget(tmp_path / "part", "h", kind), frames, shot.fixes[0], ("h",))
    part = read_picture(alone[0], "Linear Rec.709 (sRGB)")[..., 0]
    np.testing.assert_allclose(part, engine.matte(shot, shot.fixes[0].hold_outs, 1002), atol=tolerance)


@pytest.fixture
def walker(small_shot):
    """The small shot with a red square that walks 3 px a frame through it."""
    for index, frame in enumerate(small_shot.footage.frames):
        path = small_shot.footage.path.replace("####", str(frame))
        picture = read_picture(Path(path), "Linear Rec.709 (sRGB)").copy()
        picture[40:80, 50 + 3 * index : 90 + 3 * index] = np.array([0.9, 0.1, 0.1]) * (
            0.8 + 0.2 * picture[40:80, 50:90]
        )
        write_still(Path(path), picture.astype(np.float16), bits=16)
    return small_shot


def mark(frame, points, is_inside=True):
    return ScribbleMark(frame=frame, points=Array(np.array(points, float)), is_inside=is_inside)


def test_scribbles_are_carried_over_the_shot(engine, walker):
    ring = [[20, 20], [140, 20], [140, 100], [20, 100], [20, 20]]
    inside, outside = mark(1002, [[60, 60], [88, 60]]), mark(1002, ring, is_inside=False)

    def with_marks(*marks, shot=walker):
        return with_cover(shot, MattePart(id="s", source=Scribbled(marks=marks)))

    def matte(shot, frame):
        return engine.matte(shot, shot.fixes[0].cover, frame)

    alone, shot = with_marks(inside), with_marks(inside, outside)
    assert not matte(alone, 1004).any()
    assert carried_over(engine, alone, alone.fixes[0].cover.parts[0].source) == {}
    for frame in walker.footage.frames:
        left, true = 50 + 3 * (frame - 1001), np.zeros((120, 160))
        true[40:80, left : left + 40] = 1
        found = matte(shot, frame)
        assert np.minimum(found, true).sum() / np.maximum(found, true).sum() > 0.9, frame
    drifts = carried_over(engine, shot, shot.fixes[0].cover.parts[0].source)
    assert sorted(drifts) == list(walker.footage.frames)
    assert drifts[1002] == 0
    assert max(drifts.values()) < 0.3
    corrected = with_marks(inside, outside, mark(1005, [[70, 45], [70, 75]], is_inside=False))
    assert matte(corrected, 1005)[60, 70] == pytest.approx(0, abs=0.3)
    np.testing.assert_array_equal(matte(corrected, 1003), matte(shot, 1003))
    assert (matte(corrected, 1006) != matte(shot, 1006)).any(), "a correction is carried on"
    gap = replace(shot, footage=replace(shot.footage, missing=(1004,)))
    assert not matte(gap, 1006).any(), "no way leads over a missing frame"
