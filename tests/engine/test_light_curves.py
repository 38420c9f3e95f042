"""Light that is found over the shot, and taken over as keys by hand."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import GrainMatch, Keys, LightMatch, value_at
from gommage.core.match import by_hand
from tests.engine.test_engine import clone, with_fix


@pytest.fixture
def shot(small_shot):
    filled = with_fix(small_shot, clone())
    (fix,) = filled.fixes
    return replace(filled, fixes=(replace(fix, match=replace(fix.match, grain=GrainMatch(amount=0.0))),))


def test_what_is_found_is_the_shots_own_light(engine, shot):
    """The small shot dims by a tenth a frame."""
    found = engine.lights_found(shot, shot.fixes[0])
    home = shot.clean_plates[0].home_frame
    assert set(found) == set(shot.footage.frames)
    for frame, stops in found.items():
        assert stops == pytest.approx((np.log2(0.9) * (frame - home),) * 3, abs=0.03)


def test_taken_over_by_hand_it_looks_the_same(engine, shot):
    (fix,) = shot.fixes
    found = engine.lights_found(shot, fix)
    light = by_hand(found, fix.match.light)
    assert not light.is_measured
    assert isinstance(light.exposure_stops, Keys)
    keyed = replace(shot, fixes=(replace(fix, match=replace(fix.match, light=light)),))
    for frame in (1002, 1005):
        np.testing.assert_allclose(engine.result(keyed, frame), engine.result(shot, frame), rtol=0.03, atol=0.01)


def test_taken_over_from_a_frame_on_the_rest_is_found_as_before(engine, shot):
    (fix,) = shot.fixes
    light = by_hand(engine.lights_found(shot, fix), replace(fix.match.light, exposure_stops=0.25), since=1004)
    assert light.is_measured
    keyed = replace(shot, fixes=(replace(fix, match=replace(fix.match, light=light)),))
    before = replace(shot, fixes=(replace(fix, match=replace(fix.match, light=replace(light, by_hand=()))),))
    brighter = replace(fix.match.light, exposure_stops=0.25)
    wanted = replace(shot, fixes=(replace(fix, match=replace(fix.match, light=brighter)),))
    for frame in (1001, 1003):
        np.testing.assert_array_equal(engine.result(keyed, frame), engine.result(wanted, frame))
    for frame in (1004, 1006):
        np.testing.assert_allclose(engine.result(keyed, frame), engine.result(wanted, frame), rtol=0.03, atol=0.01)
        assert (engine.result(before, frame) != engine.result(keyed, frame)).any()
    with pytest.raises(ValueError, match="from frame 1009 on"):
        by_hand({1001: (0.0, 0.0, 0.0)}, light, since=1009)


def test_few_keys_tell_a_curve():
    frames = range(1001, 1101)
    found = {frame: (0.5 * (frame > 1050), 0.0, -0.5 * (frame > 1050)) for frame in frames}
    light = by_hand(found, LightMatch(saturation=0.8))
    assert len(light.temperature.keys) == 4
    assert light.exposure_stops == 0
    assert light.saturation == 0.8
    assert [value_at(light.temperature, frame) for frame in (1001, 1050, 1051, 1100)] == pytest.approx([0, 0, 0.5, 0.5])
