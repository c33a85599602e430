"""The adaptive-optics unit: where it must be, how fast it can correct, how long it stays in range; and its night."""

import copy
import math

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.differences.invalidation import RULES
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.findings.adaptive_optics import plate_range_um
from wyntaxis.core.optics.tip_tilt import minutes_to_end, plate_shift_mm, range_on_sky_arcsec
from wyntaxis.core.quantity_kinds import GLASS_SHIFT
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night import NightRun
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.play import active_faults, applies, played
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.devices import Identity
from wyntaxis.core.rig.store import validated
from wyntaxis.core.train.section import lay_out


def rig_with_unit(settings=None, *, behind=False, part="steady", guiding=None, measured=None):
    """The example with a unit of 24 mm and a plate of 6 mm; its focal length is 513.8 mm."""
    document = copy.deepcopy(EXAMPLE)
    tapped = [own["id"] for own in document["train"]].index(document["guiding"]["taps"])
    unit = {"id": "steady", "kind": "adaptive_optics", "name": "Steady 4", "length_mm": 24.0}
    unit["glass"] = [{"thickness_mm": 6.0, "index": 1.5168}]
    if part is not None:
        document["train"].insert(tapped + behind, unit)
    device = {"id": "tip", "kind": "adaptive_optics", "name": "Steady 4", "part": part}
    device["settings"] = {key: {"value": value} for key, value in (settings or {}).items()}
    document.setdefault("devices", []).append(device)
    document["guiding"] |= guiding or {}
    document["measured"] = (document.get("measured") or {}) | (measured or {})
    return validated(document)


def found(rig, finding):
    return [own for own in evaluate(rig).findings if own.id == f"adaptive_optics.{finding}"]


@pytest.mark.parametrize(
    ("thickness", "index", "tilt", "shift_mm"),
    [
        (6.0, 1.5168, 0.0, 0.0),
        (6.0, 1.5168, 3.4, 0.121473),  # 6 · 0.059306 · (1 − 0.998240 / 1.515640)
        (10.0, 1.5, 60.0, 5.124720),  # 10 · 0.866025 · (1 − 0.5 / 1.224745)
    ],
)
def test_a_tilted_plate_by_hand(thickness, index, tilt, shift_mm):
    assert plate_shift_mm(thickness, index, tilt) == pytest.approx(shift_mm, abs=2e-6)
    assert plate_shift_mm(thickness, index, -tilt) == pytest.approx(-shift_mm, abs=2e-6)


@pytest.mark.parametrize("tilt_deg", [1.0, 10.0, 45.0, 70.0])
@pytest.mark.parametrize("index", [1.3, 1.5168, 2.0])
def test_a_ray_through_both_faces_leaves_as_far_aside(tilt_deg, index):
    """Refract a ray along the axis at two parallel faces by Snell's law in vectors, and see where it comes out."""
    tilt, thick = math.radians(tilt_deg), 6.0
    normal = (math.cos(tilt), math.sin(tilt))

    def refracted(ray, ratio):
        cosine = ray[0] * normal[0] + ray[1] * normal[1]
        root = math.sqrt(1 - ratio**2 * (1 - cosine**2))
        return tuple(ratio * r + (root - ratio * cosine) * n for r, n in zip(ray, normal, strict=True))

    inside = refracted((1.0, 0.0), 1 / index)
    through = thick / (inside[0] * normal[0] + inside[1] * normal[1])
    assert abs(through * inside[1]) == pytest.approx(plate_shift_mm(thick, index, tilt_deg), rel=1e-12)
    assert refracted(inside, index)[1] == pytest.approx(0.0, abs=1e-12)


def test_the_range_on_the_sky_by_hand():
    assert range_on_sky_arcsec(120.0, 513.76) == pytest.approx(48.178, abs=1e-3)  # 0.12 / 513.76 · 206 264.8
    assert minutes_to_end(48.0, -1.5) == 32.0
    assert minutes_to_end(48.0, 0.0) == math.inf


FINDER = {"id": "finder", "focal_length_mm": 200, "aperture_mm": 50}
PLACES = [
    ({}, "holds", "Steady 4 is before Sideglance"),
    ({"behind": True}, "fails", "Steady 4 is behind Sideglance"),
    ({"part": None}, "unproven", "It is not known whether Steady 4"),
    ({"guiding": {"kind": "separate", "taps": None, "telescope": FINDER}}, "fails", "Steady 4 does not move"),
    ({"guiding": {"kind": "none", "taps": None, "path": []}}, "fails", "Steady 4 has no guide star"),
]


@pytest.mark.parametrize(("entries", "verdict", "title"), PLACES)
def test_the_guide_star_must_be_behind_the_plate(entries, verdict, title):
    (own,) = found(rig_with_unit(**entries), "place")
    assert own.verdict == verdict
    assert own.title.startswith(title)
    assert bool(own.remedy.text) == (verdict != "holds")


@pytest.mark.parametrize(
    ("rate_hz", "exposure_s", "verdict"),
    [
        (5.0, 0.16, "holds"),  # 0.8 of the time exactly
        (5.0, 0.161, "tight"),
        (5.0, 0.2, "tight"),  # all of the time
        (5.0, 0.201, "fails"),
        (5.0, None, "unproven"),
        (None, 0.2, "unproven"),
    ],
)
def test_an_exposure_must_fit_between_corrections(rate_hz, exposure_s, verdict):
    settings = {"correction_rate_hz": rate_hz} if rate_hz else {}
    rig = rig_with_unit(settings, guiding={"settings": {"exposure_s": exposure_s} if exposure_s else {}})
    (own,) = found(rig, "rate")
    assert own.verdict == verdict


ERROR = {"polar_error_arcmin": {"value": 5.0, "standard_uncertainty": 0.1}}  # 5′ · 0.2625 = 1.313 ″/min
RANGES = [
    ({"tilt_range_um": 120.0, "mount_moves_percent": 50.0}, {}, ["holds"], "and the mount helps from 50 %"),
    ({"tilt_range_um": 120.0}, {}, ["unproven"], "how long Steady 4 stays in its range of ±48.2″"),
    ({"tilt_range_um": 120.0}, ERROR, ["fails"], "at its end after 37 min"),  # 48.18 / 1.313
    ({"tilt_range_um": 1700.0}, ERROR, ["holds"], "for 520 min, longer than the night"),  # 682.5 / 1.313
    ({"tilt_limit_deg": 3.4, "mount_moves_percent": 50.0}, {}, ["holds"], "±48.8″"),  # 121.47 µm / 513.8 mm
    ({"tilt_range_um": 135.0, "tilt_limit_deg": 3.4}, {}, ["fails", "unproven"], "its plate moves it by ±121.5 µm"),
    ({"tilt_range_um": 134.9, "tilt_limit_deg": 3.4}, {}, ["unproven"], "its range"),  # 9.96 % apart
    ({}, {}, ["unproven"], "It is not known how far Steady 4 can move the image"),
]


@pytest.mark.parametrize(("settings", "measured", "verdicts", "words"), RANGES)
def test_how_long_the_plate_stays_in_range(settings, measured, verdicts, words):
    own = found(rig_with_unit(settings, measured=measured), "range")
    assert [one.verdict for one in own] == verdicts
    assert words in own[0].title


def test_without_a_plate_its_tilt_tells_nothing():
    rig = rig_with_unit({"tilt_limit_deg": 3.4})
    device = next(own for own in rig.devices if own.id == "tip")
    assert plate_range_um(device, None) is None
    assert plate_range_um(device, rig.train[0].model_copy(update={"glass": ()})) is None


def test_its_plate_shifts_the_focus_and_is_drawn_leaning():
    plain, rig = validated(EXAMPLE), rig_with_unit()
    shifts = [evaluate(own).quantity(GLASS_SHIFT).best.value for own in (plain, rig)]
    assert shifts[1] - shifts[0] == pytest.approx(6 * (1 - 1 / 1.5168), abs=1e-9)
    shape = next(own for own in lay_out(rig).parts if own.part.id == "steady")
    (plate,) = shape.plates
    bottom, top = plate.outline(0.0, 10.0)[:1], plate.outline(0.0, 10.0)[2:3]
    assert 0 < plate.lean <= math.tan(math.radians(6.0))
    assert top[0][0] - bottom[0][0] == pytest.approx(10 * plate.lean + 6.0)
    low, high = shape.start_mm, shape.end_mm
    assert all(low <= x <= high for x, _ in plate.outline(-shape.opening_radius_mm, shape.opening_radius_mm))


def test_its_night():
    rig = rig_with_unit({"tilt_range_um": 120.0})
    setting = setting_of(rig, plain_sky(4.0))
    bare = setting_of(rig.model_copy(update={"devices": rig.devices[:-1]}), plain_sky(4.0))
    assert setting.added_s("guide") == 5.0
    assert setting_of(rig_with_unit({"centre_s": 12.0}), plain_sky(4.0)).added_s("guide") == 12.0
    assert bare.added_s("guide") == setting.added_s("slew") == 0.0
    fault = FAULTS["adaptive_optics.at_end"]
    assert applies(setting, fault)
    assert not applies(bare, fault)
    lost = played(setting, [active_faults(setting, fault)]).lost_why
    assert any("tip-tilt" in why for why, _ in lost)
    helped = setting_of(rig_with_unit({"mount_moves_percent": 50.0}), plain_sky(4.0))
    run = NightRun(helped, [active_faults(helped, fault)]).played()
    assert not any("tip-tilt" in why for why, _ in run.lost_why)


def test_another_unit_asks_for_new_flats_and_a_new_calibration():
    rules = {rule.what: rule for rule in RULES}
    first, second = rig_with_unit({"tilt_range_um": 120.0}), rig_with_unit({"tilt_range_um": 90.0})
    flats, calibration = rules["flats"], rules["guide_calibration"]
    assert flats.facts(first) == flats.facts(second)
    assert calibration.facts(first) != calibration.facts(second)
    copied = first.devices[-1].model_copy(update={"identity": Identity(serial_number="9")})
    assert flats.facts(first) != flats.facts(first.model_copy(update={"devices": (*first.devices[:-1], copied)}))


def test_a_polar_error_from_one_drift_is_no_proof():
    """It is the least that the drift may come from: what lasts longer than the night is not verified."""
    rig = rig_with_unit({"tilt_range_um": 1700.0}, measured={"polar_drift_arcsec_min": {"value": 1.3125}})
    (own,) = found(rig, "range")
    assert own.verdict == "unproven"
    assert own.title.startswith("It is not known how long")
