"""Compiled loops of spans: slants that are known, pictures that go on along them."""

import numpy as np
import pytest

from gommage.core.fill.spans.kernels import BOTH, LEFT, MOST_SLANT, RIGHT, bridged, slanted

COUNT, ROWS, GAP = 160, 10, 4.0
EDGE_PX = 8.0
"""At the ends of a line slants lead out of what is compared."""


def pattern(places):
    """Smooth tones (..., 3) along a line, with no period that is short enough to be taken for another."""
    tones = [np.sin(places / 5.3 + c) + np.sin(places / 3.1 + 2 * c) + np.sin(places / 8.7) for c in range(3)]
    return (0.5 + 0.12 * np.stack(tones, axis=-1)).astype(np.float32)


def band_of(slant_at):
    """A band (2 rows + 1, S, 3) in which tones go through along slants, and where it is shown: beyond the gap."""
    away, n = np.mgrid[-ROWS : ROWS + 1, :COUNT].astype(float)
    return pattern(n - slant_at * away), np.abs(away) >= GAP - 1


def wide(px=GAP):
    return np.full(COUNT, px)


@pytest.mark.parametrize("slant", [-1.4, -0.5, 0.0, 0.3, 1.1, MOST_SLANT])
def test_the_slant_along_which_both_sides_agree_is_found(slant):
    """Within the step in which slants are tried."""
    found = slanted(*band_of(slant), wide(), wide(), 1.0, 0.1)
    inner = slice(int(EDGE_PX), COUNT - int(EDGE_PX))
    np.testing.assert_allclose(found[inner], slant, atol=0.1)


def test_slants_that_change_along_a_line_are_followed():
    slant = np.linspace(-0.6, 0.6, COUNT)
    found = slanted(*band_of(slant), wide(), wide(), 1.0, 0.02)
    inner = slice(int(EDGE_PX), COUNT - int(EDGE_PX))
    assert np.abs(found - slant)[inner].mean() < 0.1


def test_where_nothing_is_shown_a_line_is_crossed_straight():
    band, shown = band_of(0.8)
    np.testing.assert_allclose(slanted(band, shown & False, wide(), wide(), 1.0, 0.1), 0, atol=1e-6)


# -- pixels -------------------------------------------------------------------------------------------------

WIDTH, HEIGHT, MIDDLE = 140, 40, 20.0
CUBIC_PX = 2
"""So far reading between pixels reaches."""


def across_a_line(slant, ways=BOTH, hidden=None, part=np.s_[:, :]):
    """Return a picture whose tones cross a level line along a slant, and what closing the line gives: its pixels, where
    they are new, and how much grain they lack.
    """
    y, x = np.mgrid[:HEIGHT, :WIDTH] + 0.5
    points = np.column_stack([np.arange(10.0, WIDTH - 10), np.full(WIDTH - 20, MIDDLE)])
    normals, many = np.tile([0.0, -1.0], (len(points), 1)), np.ones(len(points))
    behind = pattern(x - slant * (MIDDLE - y))
    known = np.abs(y - MIDDLE) > GAP - CUBIC_PX
    if hidden is not None:
        known &= ~hidden(x, y)
    seen = np.where((np.abs(y - MIDDLE) < GAP - CUBIC_PX)[..., None], np.float32(0), behind).astype(np.float32)
    out = np.full_like(seen[part], -1)
    valid, fresh = np.zeros((2, *out.shape[:2]), np.float32)
    bridged(seen, known, points, normals, GAP * many, GAP * many, GAP * many, np.full(len(points), ways, np.int8),
            slant * many, part[1].start or 0, part[0].start or 0, out, valid, fresh)  # fmt: skip
    return behind[part], out, valid, fresh


INNER = np.s_[:, 25:-25]
"""Where slants do not lead beyond the ends of the line."""


@pytest.mark.parametrize("slant", [-1.2, 0.0, 0.7])
def test_tones_go_through_along_their_slant(slant):
    """To what reading between pixels costs, and they are new within reach of the line and nowhere else."""
    behind, out, valid, _ = across_a_line(slant)
    new = valid[INNER] > 0
    assert np.abs(out - behind)[INNER][new].max() < 0.01
    rows = np.abs(np.arange(HEIGHT) + 0.5 - MIDDLE) <= GAP
    np.testing.assert_array_equal(new, np.repeat(rows[:, None], new.shape[1], axis=1))
    assert (out[valid == 0] == -1).all()


def test_grain_is_lacked_most_where_both_sides_count_alike():
    """A mean of two that know nothing of each other keeps the root of the sum of their squared shares."""
    _, _, valid, fresh = across_a_line(0.0)
    rows = np.flatnonzero(valid[:, WIDTH // 2])
    share = (GAP + (MIDDLE - rows - 0.5)) / (2 * GAP)
    np.testing.assert_allclose(fresh[rows, WIDTH // 2], np.sqrt(1 - share**2 - (1 - share) ** 2), atol=1e-6)


@pytest.mark.parametrize("ways", [LEFT, RIGHT])
def test_a_side_alone_gives_its_own_pixels_mirrored_with_all_their_grain(ways):
    behind, out, _, fresh = across_a_line(0.0, ways)
    assert not fresh.any()
    sign = -1 if ways == LEFT else 1  # the normals of a line that goes right point up
    for row in range(int(MIDDLE - GAP), int(MIDDLE + GAP)):
        mirrored = 2 * (MIDDLE + sign * GAP) - (row + 0.5)
        np.testing.assert_allclose(out[INNER][row], behind[INNER][int(np.floor(mirrored))], atol=1e-5)


def test_a_side_that_is_hidden_leaves_it_to_the_other():
    behind, out, valid, fresh = across_a_line(0.0, hidden=lambda x, y: (y < MIDDLE) & (np.abs(x - 70) < 12))
    left_to_one = np.s_[int(MIDDLE - GAP + 1) : int(MIDDLE + GAP - 1), 62:78]
    assert (valid[left_to_one] == 1).all()
    assert not fresh[left_to_one].any()
    np.testing.assert_allclose(out[left_to_one], behind[left_to_one], atol=0.01)


def test_where_no_side_is_known_nothing_is_made_up():
    _, out, valid, _ = across_a_line(0.0, hidden=lambda x, y: np.abs(x - 70) < 12)
    assert not valid[:, 62:78].any()
    assert (out[:, 62:78] == -1).all()
    assert valid[:, 40:50].any()


def test_a_part_of_the_frame_holds_the_same_pixels():
    part = np.s_[12:31, 33:90]
    for whole, own in zip(across_a_line(0.7), across_a_line(0.7, part=part), strict=True):
        np.testing.assert_array_equal(own, whole[part])
