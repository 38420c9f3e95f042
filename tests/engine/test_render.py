"""Rendering: bits, numbers and metadata go through; what cannot be written is said and leaves nothing half."""

import os

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Project, store
from gommage.core.engine import RenderTarget, render, render_in_processes
from gommage.core.picture import open_plates, probe
from gommage.core.picture.writing import STILL_FORMATS, write_still
from gommage.errors import Cancelled, RenderError
from tests.engine.test_engine import clone, with_fix
from tests.picture.test_footage import DEPTHS, stored


@pytest.fixture
def shot(small_shot):
    return with_fix(small_shot, clone(), grain=1.0)


def outside_of(engine, shot, frame, shape):
    patch = engine.patch(shot, shot.fixes[0], frame)
    outside = np.ones(shape, bool)
    outside[patch.window.slices] = patch.alpha <= 0
    return outside


def test_like_the_plate(engine, shot, tmp_path):
    report = render(engine, shot, shot.footage.frames, RenderTarget(tmp_path / "out"))
    assert [path.name for path in report.written] == [f"wall.{frame}.exr" for frame in shot.footage.frames]
    rendered = open_plates(probe(tmp_path / "out").footage)
    for frame in shot.footage.frames:
        raw, new = engine.raw(shot.footage, frame), rendered.read(frame)
        outside = outside_of(engine, shot, frame, (120, 160))
        assert (new.pixels.view(np.uint16)[outside] == raw.pixels.view(np.uint16)[outside]).all()
        assert (new.pixels[~outside] != raw.pixels[~outside]).any()
        assert new.attributes["scene"] == "paper theatre"
        assert new.attributes["FramesPerSecond"] == (25, 1)
        np.testing.assert_array_equal(new.pixels[~outside], engine.result(shot, frame)[~outside].astype(np.float16))


@pytest.mark.parametrize("suffix", [".tif", ".png", ".dpx"])
def test_integer_plates_keep_their_bits_too(engine, small_shot, tmp_path, suffix):
    from gommage.core.document import Footage

    dtype, bits = DEPTHS[suffix]
    folder = tmp_path / "ints"
    folder.mkdir()
    for frame in (1001, 1002):
        picture = np.tile(stored(dtype, bits, frame), (5, 5, 1))[:120, :160]
        write_still(folder / f"p.{frame}{suffix}", np.ascontiguousarray(picture), bits=bits)
    footage = probe(folder).footage
    assert isinstance(footage, Footage)
    shot = with_fix(replace(small_shot, footage=footage), clone())
    render(engine, shot, [1002], RenderTarget(tmp_path / "out"))
    new = open_plates(probe(tmp_path / "out").footage).read(1002 if suffix else 1)
    raw = engine.raw(footage, 1002)
    outside = outside_of(engine, shot, 1002, (120, 160))
    assert new.bits == raw.bits
    np.testing.assert_array_equal(new.pixels[outside], raw.pixels[outside])
    assert (new.pixels != raw.pixels).any()


@pytest.mark.parametrize("name", STILL_FORMATS)
def test_every_format_can_be_chosen(engine, shot, tmp_path, name):
    report = render(engine, shot, [1002], RenderTarget(tmp_path, name, name="clean"))
    kind = STILL_FORMATS[name]
    assert report.written == (tmp_path / f"clean.1002{kind.suffix}",)
    raw = open_plates(probe(report.written[0]).footage).read(1002)
    assert (raw.pixels.dtype.name, raw.bits) == (kind.dtype, kind.bits)


def test_alpha_goes_along_when_asked(engine, small_shot, tmp_path):
    folder = tmp_path / "with-alpha"
    folder.mkdir()
    picture = np.tile(stored(np.float16), (5, 5, 1))[:120, :160]
    alpha = np.linspace(0, 1, 120 * 160).reshape(120, 160).astype(np.float16)
    write_still(folder / "p.1001.exr", np.ascontiguousarray(picture), bits=16, alpha=alpha)
    footage = probe(folder).footage
    for keep in (False, True):
        out = tmp_path / f"out-{keep}"
        render(engine, replace(small_shot, footage=replace(footage, keep_alpha=keep)), [1001], RenderTarget(out))
        found = open_plates(probe(out).footage).read(1001).alpha
        assert (found is not None) == keep
    np.testing.assert_array_equal(found, alpha)


@pytest.mark.parametrize("suffix", [".mkv", ".mov"])
def test_a_movie(engine, shot, tmp_path, suffix):
    report = render(engine, shot, shot.footage.frames, RenderTarget(tmp_path / f"out{suffix}"))
    assert report.written == (tmp_path / f"out{suffix}",)
    footage = probe(report.written[0]).footage
    assert len(footage.frames) == 6
    assert (footage.width, footage.height) == (160, 120)


def test_gaps_are_left_out_and_named(engine, shot, tmp_path):
    gap = replace(shot, footage=replace(shot.footage, missing=(1003,)))
    (tmp_path / "plate" / "wall.1003.exr").unlink()
    report = render(engine, gap, range(1002, 1005), RenderTarget(tmp_path / "out"))
    assert [path.name for path in report.written] == ["wall.1002.exr", "wall.1004.exr"]
    assert report.left_out == ((1003, "Frame 1003 is missing: wall.1003.exr is not there."),)
    movie = render(engine, gap, range(1002, 1005), RenderTarget(tmp_path / "m.mkv"))
    assert "stands in" in movie.left_out[0][1]
    assert len(probe(tmp_path / "m.mkv").footage.frames) == 3


def test_the_plate_is_never_overwritten(engine, shot, tmp_path):
    before = (tmp_path / "plate" / "wall.1001.exr").read_bytes()
    with pytest.raises(RenderError, match="would overwrite the plate"):
        render(engine, shot, [1001], RenderTarget(tmp_path / "plate"))
    assert (tmp_path / "plate" / "wall.1001.exr").read_bytes() == before


def test_stopping_keeps_whole_frames_and_drops_half_movies(engine, shot, tmp_path):
    def stopping_after(count):
        done = 0

        def progress(frames, total):
            nonlocal done
            done = frames

        def check():
            if done == count:
                raise Cancelled

        return {"progress": progress, "check": check}

    with pytest.raises(Cancelled):
        render(engine, shot, shot.footage.frames, RenderTarget(tmp_path / "out"), **stopping_after(2))
    assert sorted(os.listdir(tmp_path / "out")) == ["wall.1001.exr", "wall.1002.exr"]
    with pytest.raises(Cancelled):
        render(engine, shot, shot.footage.frames, RenderTarget(tmp_path / "m" / "a.mkv"), **stopping_after(2))
    assert os.listdir(tmp_path / "m") == []


def test_what_cannot_be_written_is_a_sentence(engine, shot, tmp_path, monkeypatch):
    (tmp_path / "file").write_text("")
    with pytest.raises(RenderError, match="could not be made.*Choose another folder"):
        render(engine, shot, [1001], RenderTarget(tmp_path / "file" / "out"))
    with pytest.raises(RenderError, match="no frames"):
        render(engine, shot, [], RenderTarget(tmp_path))

    def full(descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(RenderError, match=r"wall.1001.exr could not be written: the disk is full"):
        render(engine, shot, [1001], RenderTarget(tmp_path / "out"))
    assert os.listdir(tmp_path / "out") == []


def test_several_processes_write_the_same_bits(engine, shot, tmp_path):
    store.save(Project.of(shot), tmp_path / "p.gommage")
    report = render_in_processes(tmp_path / "p.gommage", shot, shot.footage.frames, RenderTarget(tmp_path / "two"), 2)
    render(engine, shot, shot.footage.frames, RenderTarget(tmp_path / "one"))
    assert len(report.written) == 6
    one, two = open_plates(probe(tmp_path / "one").footage), open_plates(probe(tmp_path / "two").footage)
    for frame in shot.footage.frames:
        np.testing.assert_array_equal(one.read(frame).pixels, two.read(frame).pixels)
