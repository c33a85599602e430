"""The answer to a step's question in one sentence: by hand, for results that hold much, little and nothing."""

from types import SimpleNamespace as Fake

import pytest

from wyntaxis.core.evidence.cooling.report import REPORT as COOLING
from wyntaxis.core.evidence.field.report import REPORT as FIELD
from wyntaxis.core.evidence.filters.report import REPORT as FILTERS
from wyntaxis.core.evidence.guide_log.report import REPORT as GUIDE
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.report import REPORT as SENSOR
from wyntaxis.core.evidence.stars.report import REPORT as STARS
from wyntaxis.core.ledger import Verdict


def gain(setting, noise, conversion=0.75):
    noise = Estimate(noise, 0.01) if noise is not None else None
    transfer = Fake(conversion_gain=Estimate(conversion, 0.001), read_noise=noise, read_noise_below_e=0.4)
    return Fake(gain=setting, transfer=transfer)


def bench(*gains, current=None):
    model = Fake(at_c=-8.0, current=lambda at_c: Estimate(current, 0.0001)) if current is not None else None
    return Fake(result=Fake(gains=gains, model=model))


def test_the_sensors_noise_and_dark_current():
    assert SENSOR.answer(bench()) == ""
    assert SENSOR.answer(bench(gain(0, 4.7), gain(125, 2.83))) == (
        "Read noise 4.700 ± 0.010 e⁻ at gain 0, 2.830 ± 0.010 e⁻ at gain 125."
    )
    assert SENSOR.answer(bench(gain(None, None), current=0.0031)) == (
        "Read noise under 0.400 e⁻ at gain not recorded; dark current 0.00310 ± 0.00010 e⁻/s at −8.0 °C."
    )
    many = [gain(k, 2.0) for k in range(4)]
    assert SENSOR.answer(bench(*many)).endswith("at gain 2 and 1 further gain.")


def test_how_far_the_camera_cools():
    run = Fake(name="evening", target_c=-8.0, to_target_min=12.34)
    never = Fake(name="warm", target_c=-20.0, to_target_min=None)
    model = Fake(depth=Estimate(34.56, 0.21))
    assert COOLING.answer(Fake(measured=Fake(model=model, runs=[run]))) == (
        "At full power the camera cools 34.56 ± 0.21 °C below the air."
    )
    assert COOLING.answer(Fake(measured=Fake(model=None, runs=[run, never]))) == "evening: at −8.0 °C after 12.3 min."
    assert COOLING.answer(Fake(measured=Fake(model=None, runs=[never]))) == ""


def repeat(name, shift):
    return Fake(filter=name, pair=Fake(shift_px=None if shift is None else Estimate(shift, 0.03)))


def grain(title):
    return Fake(surface=Fake(title=title) if title else None)


@pytest.mark.parametrize(
    ("repeats", "dust", "serves", "answer"),
    [
        ([], [], [], ""),
        ([repeat("L", None)], [], [], ""),
        (
            [repeat("L", 1.32), repeat("Ha", 0.2)],
            [grain("window"), grain("wheel"), grain("window"), grain("")],
            [("L", Verdict.FAILS), ("R", Verdict.HOLDS), ("G", Verdict.HOLDS), ("B", Verdict.UNPROVEN)],
            "The wheel stops up to 1.320 ± 0.030 px off (L); 4 dust shadows on wheel and window; "
            "old flats no longer valid: L; old flats still valid: R and G; old flats not verified: B.",
        ),
        ([], [grain("")], [], "1 dust shadow."),
    ],
)
def test_wheel_dust_and_old_flats(repeats, dust, serves, answer):
    serves = [Fake(filter=name, comparison=Fake(verdict=verdict)) for name, verdict in serves]
    assert FILTERS.answer(Fake(repeats=repeats, dust=dust, serves=serves)) == answer


def grade(size, *, keep=True, scale=None):
    fwhm = None if size is None else Estimate(size, 0.02)
    return Fake(keep=keep, frame=Fake(fwhm_px=fwhm, scale_arcsec_px=scale))


def test_how_many_frames_are_accepted():
    assert STARS.answer(Fake(grades=[])) == ""
    grades = [grade(2.0, scale=1.5), grade(3.0, scale=1.5), grade(4.0, scale=1.5), grade(9.0, keep=False)]
    assert STARS.answer(Fake(grades=grades)) == (
        "3 of 4 frames accepted; half of them with an FWHM under 3.00 px (4.50″)."
    )
    assert STARS.answer(Fake(grades=[grade(2.0)])) == (
        "1 of 1 frame accepted; half of them with an FWHM under 2.00 px."
    )
    assert STARS.answer(Fake(grades=[grade(None, keep=False)])) == "0 of 1 frame accepted."


@pytest.mark.parametrize(
    ("flat_at", "built", "words"),
    [
        (62.13, 62.90, "the field is flat at 62.130 ± 0.017 mm: the sensor is 0.77 mm too far"),
        (62.13, 61.90, "the field is flat at 62.130 ± 0.017 mm: the sensor is 0.23 mm too near"),
        (62.13, None, "the field is flat at 62.130 ± 0.017 mm"),
        (None, 62.90, ""),
    ],
)
def test_tilt_curvature_and_where_the_field_is_flat(flat_at, built, words):
    last = Fake(tilt_um=Estimate(57.4, 1.9), curvature_um=Estimate(45.5, 1.7))
    flat = Fake(flat_at_mm=None if flat_at is None else Estimate(flat_at, 0.017))
    answer = FIELD.answer(Fake(last=last, flat=flat, optics=Fake(built_mm=built)))
    parts = ["Tilt 57.4 ± 1.9 µm from middle to corner", "curvature 45.5 ± 1.7 µm", *([words] if words else [])]
    assert answer == "; ".join(parts) + "."
    assert FIELD.answer(Fake(last=None, flat=Fake(flat_at_mm=None), optics=Fake(built_mm=None))) == ""


def test_how_steady_the_guiding_was():
    own = Fake(name="second", rms=Estimate(0.676, 0.015), rms_ra=Estimate(0.5, 0.01), rms_dec=Estimate(0.45, 0.01))
    optics = Fake(main_scale_arcsec_px=1.5658, stop_limit_arcsec=None)
    assert GUIDE.answer(Fake(last=own, optics=optics)) == (
        "second: RMS 0.676 ± 0.015″ (right ascension 0.50″, declination 0.45″), 0.43 px of the main camera."
    )
    assert GUIDE.answer(Fake(last=own, optics=Fake(main_scale_arcsec_px=None))) == (
        "second: RMS 0.676 ± 0.015″ (right ascension 0.50″, declination 0.45″)."
    )
    assert GUIDE.answer(Fake(last=None, optics=optics)) == ""
