"""Follows as files and back; smoothing."""

import csv
import io
import json

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import NOT_SEEN, Array, FrameRange, Surface, Track
from gommage.core.follow import read_track, smoothed, write_track
from gommage.core.geometry import moved
from gommage.errors import FollowError
from tests.conftest import placed_as, plane, rectangle

CORNERS = rectangle(20, 20, 120, 90)
ROUNDING_PX = 1e-3  # corners are written to a ten-thousandth of a pixel


def track_of(count=6, noise=0.0):
    rng = np.random.default_rng(3)
    matrices = np.stack(
        [np.array([[1 + 0.01 * k, 0.002 * k, 3.0 * k], [0, 1, k], [1e-5 * k, 0, 1]]) for k in range(count)]
    )
    matrices[:, :2, 2] += noise * rng.standard_normal((count, 2))
    return Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((count, 4), 0.05)),
                 certainty=Array(np.full(count, 0.9)), reasons=("",) * (count - 1) + ("partly hidden",))  # fmt: skip


SURFACE = Surface(id="wall", name="Wall", home_frame=1001, how=plane(CORNERS))


@pytest.mark.parametrize("suffix", [".csv", ".json"])
def test_there_and_back(tmp_path, suffix):
    path = tmp_path / f"wall{suffix}"
    write_track(path, SURFACE, placed_as(SURFACE, track_of()), (160, 120))
    back = read_track(path, SURFACE)
    np.testing.assert_allclose(back.home_to_frame.values, track_of().home_to_frame.values, atol=1e-9)
    np.testing.assert_allclose(back.corner_slip_px.values, 0.05)
    assert back.reasons == track_of().reasons
    assert back.frames == track_of().frames


def test_a_file_with_corners_alone_will_do(tmp_path):
    path = tmp_path / "wall.csv"
    write_track(path, SURFACE, placed_as(SURFACE, track_of()), (160, 120))
    rows = list(csv.DictReader(io.StringIO(path.read_text())))
    names = ["frame", *[name for name in rows[0] if name.startswith("corner")]]
    with (tmp_path / "corners.csv").open("w") as file:
        writer = csv.DictWriter(file, names, extrasaction="ignore")
        writer.writeheader()
        writer.writerows(rows)
    back = read_track(tmp_path / "corners.csv", SURFACE)
    for frame in back.frames:
        want = moved(track_of().row(frame), CORNERS)
        np.testing.assert_allclose(moved(back.row(frame), CORNERS), want, atol=ROUNDING_PX)


def test_json_says_what_it_is(tmp_path):
    write_track(tmp_path / "wall.json", SURFACE, placed_as(SURFACE, track_of()), (160, 120))
    plain = json.loads((tmp_path / "wall.json").read_text())
    assert (plain["format"], plain["version"], plain["name"], plain["home_frame"]) == ("gommage-track", 1, "Wall", 1001)
    assert plain["home_corners"] == CORNERS.tolist()
    assert len(plain["frames"]) == 6


def test_frames_where_nothing_is_are_left_out(tmp_path):
    lost = replace(track_of(), reasons=("", "", NOT_SEEN, "", "", ""))
    write_track(tmp_path / "wall.csv", SURFACE, placed_as(SURFACE, lost), (160, 120))
    assert "1003" not in (tmp_path / "wall.csv").read_text().split()
    with pytest.raises(FollowError, match="do not follow each other"):
        read_track(tmp_path / "wall.csv", SURFACE)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("a.json", "{}", "it does not say"),
        ("a.json", "shopping list", "not a follow that can be read"),
        ("a.json", '{"format": "gommage-track", "version": 9, "frames": []}', "of version 9"),
        ("a.json", '{"format": "gommage-track", "version": 1, "frames": []}', "holds no frames"),
        ("a.csv", "frame,m11\n1001,1\n", "not a follow"),
        ("a.csv", "milk,eggs\n1,2\n", "not a follow"),
        (
            "a.json",
            '{"format": "gommage-track", "version": 1, "frames": [{"frame": 1, "home_to_frame": '
            "[[0, 0, 0], [0, 0, 0], [0, 0, 1]]}]}",
            "no motion of a plane",
        ),
    ],
)
def test_what_is_no_follow_is_said_in_one_sentence(tmp_path, name, text, words):
    (tmp_path / name).write_text(text)
    with pytest.raises(FollowError, match=words) as caught:
        read_track(tmp_path / name, SURFACE)
    assert "\n" not in str(caught.value)


def test_files_that_cannot_be(tmp_path):
    with pytest.raises(FollowError, match=r"written as \.csv or \.json"):
        write_track(tmp_path / "a.txt", SURFACE, placed_as(SURFACE, track_of()), (160, 120))
    with pytest.raises(FollowError, match="could not be written"):
        write_track(tmp_path / "none" / "a.csv", SURFACE, placed_as(SURFACE, track_of()), (160, 120))
    with pytest.raises(FollowError, match="could not be read"):
        read_track(tmp_path / "gone.csv", SURFACE)
    (tmp_path / "b.csv").write_bytes(b"\xff\xfe\x00\x80")
    with pytest.raises(FollowError, match="it is not text"):
        read_track(tmp_path / "b.csv", SURFACE)


def test_smoothing_takes_jitter_and_leaves_the_way():
    rough, calm = track_of(30, noise=0.4), track_of(30)
    smooth = smoothed(rough, SURFACE, FrameRange(first=1001, last=1030), 2.0)
    want = np.stack([moved(matrix, CORNERS) for matrix in calm.home_to_frame.values])

    def roughness(track):
        return np.stack([moved(m, CORNERS) for m in track.home_to_frame.values]) - want

    middle = slice(6, -6)
    assert roughness(smooth)[middle].std() < 0.6 * roughness(rough)[middle].std()
    np.testing.assert_allclose(smooth.row(1001), rough.row(1001), atol=1e-9)
    np.testing.assert_allclose(smoothed(calm, SURFACE, FrameRange(first=1005, last=1020), 2.0).row(1012),
                               calm.row(1012), atol=0.05)  # fmt: skip


def test_smoothing_a_range_leaves_the_rest_alone():
    rough = track_of(30, noise=0.4)
    smooth = smoothed(rough, SURFACE, FrameRange(first=1010, last=1020), 2.0)
    for frame in (*range(1001, 1011), *range(1020, 1031)):
        np.testing.assert_allclose(smooth.row(frame), rough.row(frame), atol=1e-9)
    assert not np.allclose(smooth.row(1015), rough.row(1015))
    with pytest.raises(ValueError, match="less than three"):
        smoothed(rough, SURFACE, FrameRange(first=1010, last=1011), 2.0)
    with pytest.raises(ValueError, match="above 0"):
        smoothed(rough, SURFACE, FrameRange(first=1010, last=1020), 0.0)
