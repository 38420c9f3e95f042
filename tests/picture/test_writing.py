"""Pictures out: what is written is read again; what cannot be written is said in a sentence and leaves nothing."""

import os
from fractions import Fraction

import numpy as np
import pytest

from gommage.core.picture.stills import read_still
from gommage.core.picture.writing import STILL_FORMATS, MovieWriter, write_still
from gommage.errors import RenderError
from tests.picture.test_footage import stored


@pytest.mark.parametrize("name", STILL_FORMATS)
def test_round_trip_to_the_bit(tmp_path, name):
    kind = STILL_FORMATS[name]
    pixels = stored(kind.dtype, kind.bits if kind.dtype.startswith("u") else 16)
    write_still(tmp_path / f"a{kind.suffix}", pixels, bits=kind.bits)
    back = read_still(tmp_path / f"a{kind.suffix}")
    assert back.bits == kind.bits
    np.testing.assert_array_equal(back.pixels, pixels)


def test_metadata_goes_along_but_not_what_describes_storage(tmp_path):
    attributes = {"scene": "paper theatre", "FramesPerSecond": (24000, 1001), "focal": 35.0,
                  "compression": "none", "oiio:BitsPerSample": 10,
                  "worldToCamera": np.eye(4, dtype=np.float32), "strange": object()}  # fmt: skip
    write_still(tmp_path / "a.exr", stored(np.float16), bits=16, attributes=attributes)
    back = read_still(tmp_path / "a.exr").attributes
    assert back["scene"] == "paper theatre"
    assert back["FramesPerSecond"] == (24000, 1001)
    assert back["compression"] == "zip"
    assert np.asarray(back["worldToCamera"]).size == 16


def test_a_full_disk_is_said_and_leaves_the_old_file(tmp_path, monkeypatch):
    path = tmp_path / "a.exr"
    write_still(path, stored(np.float16), bits=16)
    before = path.read_bytes()

    def full(descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(RenderError, match="a.exr could not be written: the disk is full"):
        write_still(path, stored(np.float16, seed=5), bits=16)
    assert path.read_bytes() == before
    assert os.listdir(tmp_path) == ["a.exr"]


def test_a_disk_that_is_really_full():
    """Linux's full device refuses every byte; the writer must notice."""
    import subprocess
    import sys

    script = (
        "import resource, signal, sys, numpy as np\n"
        "from pathlib import Path\n"
        "from gommage.core.picture.writing import write_still\n"
        "from gommage.errors import RenderError\n"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (20000, 20000))\n"
        "noise = np.random.default_rng(0).random((200, 300, 3)).astype(np.float16)\n"
        "try:\n"
        "    write_still(Path(sys.argv[1]) / 'a.exr', noise, bits=16)\n"
        "except RenderError as error:\n"
        "    print('said:', error)\n"
    )
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        done = subprocess.run([sys.executable, "-c", script, folder], capture_output=True, text=True, check=False)
        assert done.stdout.startswith("said: a.exr could not be written"), done.stderr
        assert os.listdir(folder) == []


def test_a_folder_that_is_not_there(tmp_path):
    with pytest.raises(RenderError, match="a.png could not be written"):
        write_still(tmp_path / "none" / "a.png", stored(np.uint8, 8), bits=8)


def test_movies_say_what_they_cannot(tmp_path):
    with pytest.raises(RenderError, match="movies are written as"):
        MovieWriter(tmp_path / "a.gif", (32, 24), Fraction(24))
    with pytest.raises(RenderError, match="even width and height, the shot is 31 x 24"):
        MovieWriter(tmp_path / "a.mp4", (31, 24), Fraction(24))


@pytest.mark.parametrize("suffix", [".mov", ".mp4"])
def test_movies_look_like_their_frames(tmp_path, suffix):
    from gommage.core.picture import open_plates, probe

    writer = MovieWriter(tmp_path / f"a{suffix}", (64, 48), Fraction(24))
    for level in (0.2, 0.5, 0.8):
        writer.add(np.full((48, 64, 3), round(level * 65535), np.uint16))
    writer.finish()
    plates = open_plates(probe(tmp_path / f"a{suffix}").footage)
    for number, level in enumerate((0.2, 0.5, 0.8), 1):
        # lossy codecs on flat grey, 8 bit of limited range: within three levels
        assert abs(plates.read(number).pixels.mean() / 65535 - level) < 3 / 255


def test_a_discarded_movie_leaves_nothing(tmp_path):
    writer = MovieWriter(tmp_path / "a.mkv", (32, 24), Fraction(24))
    writer.add(np.zeros((24, 32, 3), np.uint16))
    writer.discard()
    assert os.listdir(tmp_path) == []
