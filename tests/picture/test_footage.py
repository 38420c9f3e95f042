"""Footage in: what is found, what is missing, and one sentence for everything that is wrong with it."""

from fractions import Fraction

import av
import numpy as np
import pytest

from gommage.core.document import Footage, FrameRange
from gommage.core.picture import open_plates, probe, read_linear, read_picture
from gommage.core.picture.writing import MovieWriter, write_still
from gommage.errors import FootageError, FrameMissingError
from tests.conftest import texture

DEPTHS = {
    ".exr": (np.float16, 16),
    ".tif": (np.uint16, 16),
    ".png": (np.uint8, 8),
    ".dpx": (np.uint16, 10),
    ".jpg": (np.uint8, 8),
}


def stored(dtype, bits=16, seed=0):
    picture = texture(24, 32, seed).clip(0, 1)
    if np.dtype(dtype).kind == "f":
        return picture.astype(dtype)
    levels = 2**bits - 1
    steps = np.round(picture * levels).astype(np.uint32)
    # 10 bits of 16 are stored in the upper bits, filled up with their own
    return ((steps << 6) | (steps >> 4)).astype(np.uint16) if bits == 10 else steps.astype(dtype)


def write_sequence(folder, suffix, numbers=(1001, 1002, 1003), name="a.{:04d}"):
    dtype, bits = DEPTHS[suffix]
    for number in numbers:
        write_still(folder / f"{name.format(number)}{suffix}", stored(dtype, bits, number), bits=bits)
    return folder / f"{name.format(numbers[0])}{suffix}"


@pytest.mark.parametrize("suffix", DEPTHS)
def test_every_kind_of_still_is_found_and_read(tmp_path, suffix):
    report = probe(write_sequence(tmp_path, suffix))
    footage = report.footage
    assert (footage.frames.first, footage.frames.last, footage.width, footage.height) == (1001, 1003, 32, 24)
    assert footage.path.endswith(f"a.####{suffix}")
    assert not report.has_alpha
    raw = open_plates(footage).read(1002)
    dtype, bits = DEPTHS[suffix]
    assert raw.pixels.dtype == dtype
    assert raw.bits == bits
    if suffix != ".jpg":
        np.testing.assert_array_equal(raw.pixels, stored(dtype, bits, 1002))
    linear = read_linear(raw, footage.colour_space)
    assert linear.dtype == np.float32
    assert linear.shape == (24, 32, 3)


def test_guessed_colour_spaces(tmp_path):
    spaces = {suffix: probe(write_sequence(tmp_path, suffix)).footage.colour_space for suffix in (".exr", ".png")}
    assert spaces == {".exr": "Linear Rec.709 (sRGB)", ".png": "sRGB - Texture"}


def test_gaps_are_named_and_the_rest_works(tmp_path):
    write_sequence(tmp_path, ".exr", (1001, 1002, 1005, 1007))
    report = probe(tmp_path)
    assert report.footage.missing == (1003, 1004, 1006)
    assert report.notes == ("3 frames are missing: 1003–1004, 1006. They are shown as gaps.",)
    plates = open_plates(report.footage)
    assert plates.read(1005).pixels.shape == (24, 32, 3)
    with pytest.raises(FrameMissingError, match=r"Frame 1004 is missing: a.1004.exr is not there") as caught:
        plates.read(1004)
    assert caught.value.frame == 1004


def test_numbers_without_padding_and_other_files_beside(tmp_path):
    write_sequence(tmp_path, ".png", (8, 9, 10), "shot_v2_{}")
    (tmp_path / "notes.txt").write_text("hello")
    write_sequence(tmp_path, ".png", (1,), "other_{}")
    footage = probe(tmp_path / "shot_v2_9.png").footage
    assert (footage.frames.first, footage.frames.last) == (8, 10)
    assert open_plates(footage).read(10).pixels.shape == (24, 32, 3)


def test_a_single_still_is_one_frame(tmp_path):
    write_still(tmp_path / "still.png", stored(np.uint8, 8), bits=8)
    footage = probe(tmp_path / "still.png").footage
    assert len(footage.frames) == 1
    assert open_plates(footage).read(1).pixels.shape == (24, 32, 3)


def test_alpha_is_seen_and_kept_apart(tmp_path):
    alpha = np.full((24, 32), 0.5, np.float16)
    write_still(tmp_path / "a.1001.exr", stored(np.float16), bits=16, alpha=alpha)
    report = probe(tmp_path)
    assert report.has_alpha
    assert not report.footage.keep_alpha
    raw = open_plates(report.footage).read(1001)
    assert raw.pixels.shape == (24, 32, 3)
    np.testing.assert_array_equal(raw.alpha, alpha)


def test_grey_pictures_become_colour(tmp_path):
    import OpenImageIO as oiio

    output = oiio.ImageOutput.create(str(tmp_path / "grey.1.tif"))
    output.open(str(tmp_path / "grey.1.tif"), oiio.ImageSpec(8, 8, 1, "uint8"))
    output.write_image(np.full((8, 8, 1), 99, np.uint8))
    output.close()
    assert (open_plates(probe(tmp_path / "grey.1.tif").footage).read(1).pixels == 99).all()


# -- bad input ----------------------------------------------------------------------------------------------


def test_what_is_not_there(tmp_path):
    with pytest.raises(FootageError, match="is not there. Was it moved or renamed"):
        probe(tmp_path / "gone.exr")
    with pytest.raises(FootageError, match="holds no pictures"):
        probe(tmp_path)


@pytest.mark.parametrize("suffix", [".exr", ".png", ".dpx", ".tif", ".jpg"])
def test_a_text_file_under_a_picture_s_name(tmp_path, suffix):
    (tmp_path / f"a.1001{suffix}").write_text("this is a shopping list\n" * 40)
    with pytest.raises(FootageError, match="a.1001") as caught:
        probe(tmp_path / f"a.1001{suffix}")
    assert "\n" not in str(caught.value)
    assert str(tmp_path) not in str(caught.value)


@pytest.mark.parametrize("suffix", [".exr", ".png", ".tif"])
def test_a_truncated_file_fails_alone(tmp_path, suffix):
    write_sequence(tmp_path, suffix)
    victim = tmp_path / f"a.1002{suffix}"
    victim.write_bytes(victim.read_bytes()[: victim.stat().st_size // 2])
    plates = open_plates(probe(tmp_path).footage)
    with pytest.raises(FootageError, match="a.1002"):
        plates.read(1002)
    assert plates.read(1003).pixels.shape == (24, 32, 3)


def test_an_empty_first_file_does_not_stop_the_import(tmp_path):
    write_sequence(tmp_path, ".exr")
    (tmp_path / "a.1001.exr").write_bytes(b"")
    report = probe(tmp_path)
    assert "a.1001.exr" in report.notes[0]
    assert report.footage.width == 32


def test_an_odd_sized_frame_is_named(tmp_path):
    write_sequence(tmp_path, ".png")
    write_still(tmp_path / "a.1002.png", np.zeros((20, 30, 3), np.uint8), bits=8)
    with pytest.raises(FootageError, match="Frame 1002 is 30 x 20, the shot is 32 x 24: a.1002.png does not belong"):
        open_plates(probe(tmp_path).footage).read(1002)


def test_pictures_with_odd_sides_are_fine(tmp_path):
    write_still(tmp_path / "a.1.png", np.zeros((37, 51, 3), np.uint8), bits=8)
    footage = probe(tmp_path / "a.1.png").footage
    assert (footage.width, footage.height) == (51, 37)


def test_damaged_numbers_become_black(tmp_path):
    pixels = stored(np.float16).copy()
    pixels[3, 4] = np.nan
    write_still(tmp_path / "a.1.exr", pixels, bits=16)
    assert (read_picture(tmp_path / "a.1.exr")[3, 4] == 0).all()


def test_footage_that_has_moved(tmp_path):
    footage = Footage(path=str(tmp_path / "gone" / "a.####.exr"), frames=FrameRange(first=1, last=2), width=8, height=8)
    with pytest.raises(FootageError, match="Was it moved"):
        open_plates(footage)


# -- movies -------------------------------------------------------------------------------------------------


@pytest.fixture
def movie(tmp_path):
    """Ten lossless frames, each of one grey level."""
    writer = MovieWriter(tmp_path / "clip.mkv", (32, 24), Fraction(25))
    for number in range(1, 11):
        writer.add(np.full((24, 32, 3), number * 6000, np.uint16))
    writer.finish()
    return tmp_path / "clip.mkv"


def test_movie_frames_in_any_order(movie):
    report = probe(movie)
    footage = report.footage
    assert (footage.frames.first, footage.frames.last, footage.rate) == (1, 10, (25, 1))
    assert footage.is_movie
    plates = open_plates(footage)
    for number in (1, 2, 9, 3, 10, 1):
        assert (plates.read(number).pixels == number * 6000).all(), number
    with pytest.raises(FrameMissingError, match="ends at 10"):
        plates.read(11)


def test_a_movie_that_was_cut_off_gives_what_it_has(movie, tmp_path):
    short = tmp_path / "short.mkv"
    data = movie.read_bytes()
    short.write_bytes(data[: len(data) * 6 // 10])
    footage = probe(short).footage
    assert 1 <= footage.frames.last < 10
    assert (open_plates(footage).read(1).pixels == 6000).all()


def test_a_movie_without_video(tmp_path):
    path = tmp_path / "voice.mkv"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("pcm_s16le", rate=8000)
        frame = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), format="s16", layout="mono")
        frame.sample_rate = 8000
        for packet in stream.encode(frame):
            container.mux(packet)
    with pytest.raises(FootageError, match="voice.mkv has no video in it"):
        probe(path)


def test_a_text_file_is_no_movie(tmp_path):
    (tmp_path / "list.mov").write_text("milk\n" * 100)
    with pytest.raises(FootageError, match="neither a picture nor a movie"):
        probe(tmp_path / "list.mov")
