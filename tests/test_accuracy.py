"""The promises on the demo shot, judged against its truth. Tolerances are the product's promises."""

import numpy as np

from gommage.demo.accuracy import follow_figures, markdown, point_figures, repair_figures
from gommage.demo.shot import demo_at
from tests import shots


def test_the_column_is_followed(cleaned_project, demo):
    figures = follow_figures(cleaned_project.shots[0], demo)
    assert figures.frames == len(demo.numbers)
    assert figures.mean_px < 0.02
    assert figures.worst_px < 0.06
    assert 2 / 3 < figures.slip_over_error < 2.0  # one home frame's grain is in all of them: a wide margin
    assert figures.within_one > 0.5
    assert figures.within_two > 0.9


def test_spots_on_the_village_are_found_and_followed(engine, demo):
    figures = point_figures(engine, demo)
    assert figures.frames == len(demo.numbers)
    assert figures.mean_px < 0.03
    assert figures.worst_px < 0.06
    assert figures.slip_px > figures.mean_px / 2


def test_the_label_is_gone(engine, cleaned_project, demo):
    figures = repair_figures(engine, cleaned_project, demo)
    assert figures.psnr_db > figures.oracle_db - 3
    assert figures.bare_psnr_db > figures.bare_oracle_db - 3
    assert figures.changed_outside == 0
    assert figures.flicker < 1.3 * figures.true_flicker
    assert 0.85 < figures.grain_ratio < 1.15  # a supervisor's eye begins to see a difference near a sixth
    table = markdown(follow_figures(cleaned_project.shots[0], demo), point_figures(engine, demo), figures)
    assert f"{figures.psnr_db:.2f} dB" in table


def test_check_finds_little_on_a_good_fix_and_much_on_a_bad_one(engine, cleaned_project):
    from gommage.core.document import LightMatch, edits

    shot = cleaned_project.shots[0]
    good = engine.check(shot, shot.fixes[0])
    dark = edits.change_match(cleaned_project, shot.id, shot.fixes[0].id, light=LightMatch(is_measured=False)).shots[0]
    bad = engine.check(dark, dark.fixes[0])
    assert max(one.seam_percent for one in good) < 3
    assert max(one.flicker_percent for one in good) < 1.5
    assert max(one.seam_percent for one in bad) > 8


def test_the_demo_is_what_it_says(demo):
    footage = demo_at(shots.KEPT).footage
    assert (footage.width, footage.height, footage.frames.first, footage.frames.last) == (1280, 720, 1001, 1072)
    from gommage.core.picture.footage import read_picture

    begin, end = demo.numbers[0], demo.numbers[-1]
    first, last = (read_picture(demo.folder / "plate" / f"theatre.{frame}.exr") for frame in (begin, end))
    clean_first, clean_last = demo.clean(begin, grain=False), demo.clean(end, grain=False)
    matte = demo.matte(begin)
    assert abs((first - demo.clean(begin))[matte == 0]).max() < 0.02  # half-float rounding at highlights
    assert 0.6 < matte.max() <= 1
    dimming = clean_last[250:600, 450:800].mean(axis=(0, 1)) / clean_first[250:600, 450:800].mean(axis=(0, 1))
    light = [1 - np.array([0.21, 0.25, 0.33]) * (frame - 1001) / 71 for frame in (begin, end)]
    np.testing.assert_allclose(dimming, light[1] / light[0], rtol=0.05)  # it flickers, and the camera moves on
    assert last.shape == (720, 1280, 3)
