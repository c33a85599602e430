"""A camera that switches itself off, and exposures that are shorter than it can."""

import copy

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.device_settings import check_setting
from wyntaxis.core.rig.store import validated


def rig_of(camera=None, *, guide=None, focuser=None, plan_s=300.0, guide_s=2.0):
    document = copy.deepcopy(EXAMPLE)
    kept = []
    for kind, settings in (("camera", camera), ("guide_camera", guide), ("focuser", focuser)):
        own = {key: {"value": value} for key, value in (settings or {}).items()}
        kept.append({"id": f"own_{kind}", "kind": kind, "name": kind, "settings": own})
    document["devices"] = kept
    document["plan"] = {"exposure_s": plan_s, "frames": 10}
    document["guiding"]["settings"] = {"exposure_s": guide_s}
    return validated(document)


def finding(rig, name):
    return next((found for found in evaluate(rig).findings if found.id == name), None)


@pytest.mark.parametrize(
    ("minutes", "verdict"), [(0, "holds"), (5, "fails"), (4.9, "fails"), (5.1, "tight"), (30, "tight")]
)
def test_a_body_that_sleeps(minutes, verdict):
    """The longest exposure is 300 s, which is 5 min: a body that sleeps after as long does not end it."""
    found = finding(rig_of({"switch_off_min": minutes}), "camera.switch_off")
    assert found.verdict == verdict
    if verdict != "holds":
        cured = edit.apply(rig_of({"switch_off_min": minutes}), found.remedy.change)
        assert finding(cured, "camera.switch_off").verdict == "holds"


def test_a_guide_camera_that_sleeps_and_one_of_which_nothing_is_known():
    assert finding(rig_of(), "camera.switch_off") is None
    assert finding(rig_of(guide={"switch_off_min": 2}), "camera.switch_off").verdict == "tight", "it exposes 2 s"
    assert finding(rig_of(guide={"switch_off_min": 2}, guide_s=120.0), "camera.switch_off").verdict == "fails"


@pytest.mark.parametrize(
    ("camera", "others", "verdict"),
    [
        ({"shortest_exposure_s": 300}, {}, "holds"),
        ({"shortest_exposure_s": 300.001}, {}, "fails"),
        ({"shortest_exposure_s": 1}, {"focuser": {"focus_exposure_s": 0.5}}, "fails"),
        ({"shortest_exposure_s": 1}, {"focuser": {"run_exposure_s": 1}}, "holds"),
        ({"shortest_exposure_s": 1}, {"guide_s": 0.1}, "holds"),
        (None, {"guide": {"shortest_exposure_s": 2.5}}, "fails"),
        (None, {"guide": {"shortest_exposure_s": 2.0}}, "holds"),
    ],
)
def test_exposures_shorter_than_the_camera_can(camera, others, verdict):
    assert finding(rig_of(camera, **others), "camera.shortest_exposure").verdict == verdict


@pytest.mark.parametrize(
    ("kind", "key", "good", "bad"),
    [
        ("camera", "warming_ramp_c_min", 2.0, -1.0),
        ("camera", "ramp_step_c", 5.0, 61.0),
        ("camera", "ramp_pause_s", 30.0, "30 s"),
        ("guide_camera", "cooling_timeout_min", 20.0, True),
        ("camera", "traffic_sense", "slower", "sideways"),
        ("focuser", "refocus_every_frames", 10.0, -1.0),
        ("mount", "stop_before_meridian_min", 5.0, 241.0),
        ("mount", "wait_after_flip_s", 30.0, 3601.0),
    ],
)
def test_what_the_settings_take(kind, key, good, bad):
    check_setting(kind, key, good)
    with pytest.raises(ValueError, match=f"settings.{key}"):
        check_setting(kind, key, bad)
