"""Something rich before something plain: what most of the area speaks for."""

import numpy as np
import pytest

from gommage.core.follow.align import TILE_PX, make_pyramid, make_template
from gommage.core.follow.masks import AROUND_PX, polygon_mask, without
from gommage.core.follow.sight import Sight
from gommage.core.follow.votes import differing, likely_shifts, shifted, votes_ahead
from gommage.core.geometry import apply_matrix, from_matrix, translation
from gommage.core.picture import resample
from tests.conftest import rectangle, shape_of, texture
from tests.follow.test_follow import OFFSET, SIZE, corner_error, follow, riding, surface_of

AREA = rectangle(40, 30, 260, 210)
BOARD = 0.4 + 0.1 * (texture(480, 560, seed=5, fine=0.8) - 0.4)
"""A tooth of 2.5 % and of a pixel or two."""
RICH = texture(120, 70, seed=6, fine=3.0) * np.float32([1.6, 0.9, 0.5])
PASSES_PX = 9
"""What passes moves so far from frame to frame, the board by one."""


def board(by, grain=0.006, seed=0, lantern=None):
    """A frame on which the board has moved by (x, y), a lantern before it at a place."""
    picture = resample(BOARD, from_matrix(OFFSET @ translation(-by[0], -by[1])), SIZE).pixels
    if lantern is not None:
        left, top = lantern
        picture[top : top + RICH.shape[0], left : left + RICH.shape[1]] = RICH
    return (picture + grain * np.random.default_rng(seed).standard_normal(picture.shape)).astype(np.float32)


def a_shot(count=8, inside=True):
    """Motions of the board by frame, and what reads the frames on which a lantern passes over it."""
    motions = {1010 + k: translation(1.0 * k, 0.4 * k) for k in range(count)}

    def read(frame):
        k = frame - 1010
        return board((1.0 * k, 0.4 * k), seed=frame, lantern=(200 - PASSES_PX * k, 70) if inside else None)

    return motions, read


def test_a_lantern_that_passes_does_not_take_a_plain_board_along():
    """It would, by 70 px: all there is to follow is on it, on the frame at home as well."""
    motions, read = a_shot()
    track, _ = follow(motions, read, surface_of(areas=riding(shape_of(AREA, 1010, "area"))))
    assert track.frames.last == 1017
    assert max(corner_error(track.row(frame), true, AREA) for frame, true in motions.items()) < 0.3


def test_what_most_of_an_area_does_not_look_like_is_said():
    """A board that stands, and on the next frame another: it is followed by its lantern alone."""
    other = 0.4 + 0.1 * (texture(480, 560, seed=9, fine=0.8)[:240, :320] - 0.4)

    def read(frame):
        picture = board((0, 0), seed=frame, lantern=(120, 60))
        if frame > 1010:
            mask = np.ones(picture.shape[:2], bool)
            mask[60:180, 120:190] = False
            picture[mask] = other[mask]
        return picture

    track, _ = follow(
        {1010 + k: np.eye(3) for k in range(3)}, read, surface_of(areas=riding(shape_of(AREA, 1010, "area")))
    )
    assert track.reasons[1:] == ("most of the area looks like something else here",) * 2
    assert (
        max(track.certainty.values[1:]) < 0.75
    )  # the half of what a lantern that does not move would be, and a little


def seen_alike(frame):
    """A template of the board with a lantern on it, and another frame, both as they are seen without slow light."""
    home, mask = board((0, 0), seed=1, lantern=(150, 70)), polygon_mask([AREA], SIZE)
    sight = Sight(sigma_px=0.9, noise=0.006).levelled(home, mask)
    template = make_template(home, mask, AREA, sight)
    return template, make_pyramid(frame, 1, sight)


def test_votes_are_those_of_the_board_whatever_is_rich():
    """220 x 180 px, of which the lantern has a fifth."""
    seen = seen_alike(board((3, 1), seed=2, lantern=(158, 75)))
    with_board, with_lantern, nowhere = translation(3, 1), translation(8, 5), translation(-9, 6)
    ahead = votes_ahead(*seen, with_lantern, with_board)
    assert ahead > 5
    assert votes_ahead(*seen, with_board, with_lantern) == pytest.approx(-ahead)
    assert votes_ahead(*seen, nowhere, with_board) > ahead
    assert votes_ahead(*seen, with_board, with_board) < 0  # none is for a place that is no better


def test_shifts_are_those_by_which_pictures_are_alike_the_likeliest_first():
    rng = np.random.default_rng(3)
    reference, mask = rng.standard_normal((90, 120)), np.zeros((90, 120), np.uint8)
    mask[10:80, 10:110] = 1
    seen = np.roll(reference, (5, -12), (0, 1)) + 0.5 * np.roll(reference, (-20, 30), (0, 1))
    first, second = likely_shifts(reference.astype(np.float32), seen.astype(np.float32), mask, 2)
    assert first.tolist() == [-12, 5]
    assert second.tolist() == [30, -20]


@pytest.mark.parametrize("by", [(0, 0), (9, -6), (-17, 12)])
def test_a_guess_is_shifted_to_where_the_board_is(by):
    """Not to where the lantern is; to the pixel, from where no descent would find it."""
    home, mask = board((0, 0), seed=1, lantern=(150, 70)), polygon_mask([AREA], SIZE)
    sight = Sight(sigma_px=0.9, noise=0.006).levelled(home, mask)
    template = make_template(home, mask, AREA, sight)
    frame = board(by, seed=2, lantern=(139, 66))
    found = shifted(template, home, mask, frame, make_pyramid(frame, 1, sight), np.eye(3))
    np.testing.assert_allclose(found, translation(*by), atol=1e-9)


def test_where_nothing_is_in_sight_there_are_no_votes():
    seen = seen_alike(board((0, 0), seed=2))
    assert votes_ahead(*seen, translation(900, 0), translation(0, 900)) == 0


def test_what_differs_at_a_place_is_what_has_gone_from_there_and_what_has_come():
    home, mask, sight = board((0, 0), seed=1, lantern=(60, 70)), polygon_mask([AREA], SIZE), Sight(sigma_px=0.9)
    template = make_template(home, mask, AREA, sight)
    there = make_pyramid(board((2, 1), seed=2, lantern=(182, 71)), 1, sight)
    points = differing(template, there, translation(2, 1))
    boxes = [rectangle(60, 70, 130, 190), apply_matrix(translation(-2, -1), rectangle(182, 71, 252, 191))]
    near = without(np.ones_like(mask), points) == 0
    assert all(
        near[polygon_mask([box], SIZE) > 0].mean() > 0.9 for box in boxes
    )  # but for tiles that share little of it
    away = [np.maximum(np.maximum(box[0] - points, points - box[2]).max(axis=1), 0) for box in boxes]
    assert np.min(away, axis=0).max() <= TILE_PX
    assert not len(differing(template, make_pyramid(home, 1, sight), np.eye(3)))


def test_a_mask_loses_what_lies_around_points():
    mask = np.ones((60, 80), np.uint8)
    left = without(mask, np.array([[30.5, 20.5]]))
    assert mask.all()
    assert left.sum() == mask.sum() - (2 * AROUND_PX + 1) ** 2
    assert not left[20 - AROUND_PX : 21 + AROUND_PX, 30 - AROUND_PX : 31 + AROUND_PX].any()
