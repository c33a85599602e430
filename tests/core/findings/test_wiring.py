"""Cables, outlets, the mount's load, the weather and dew, with voltages worked out by hand."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.optics.electrics import cable_resistance, dew_point
from wyntaxis.core.rig.store import validated

RESISTANCES = [
    # 2 · 0.0172 · 5 / 0.75 = 0.229333; 30 K warmer 11.7 % more
    ((5, 0.75, 20), 0.2293333),
    ((5, 0.75, 50), 0.2561653),
    ((0, 0.75, 20), 0.0),
    ((2, 1.5, 0), 0.0458667 * 0.922),
]
DEW_POINTS = [((20, 100), 20.0), ((20, 50), 9.26), ((0, 80), -3.05), ((-8, 90), -9.36)]


@pytest.mark.parametrize("given_, ohm", RESISTANCES)
def test_a_cable_resists(given_, ohm):
    assert cable_resistance(*given_) == pytest.approx(ohm, rel=1e-5)


@pytest.mark.parametrize("given_, wanted", DEW_POINTS)
def test_dew_points(given_, wanted):
    assert dew_point(*given_) == pytest.approx(wanted, abs=0.02)


@given(st.floats(-30, 40), st.floats(1, 99), st.floats(0.1, 1))
def test_moister_air_has_a_higher_dew_point_and_never_above_itself(air, humidity, more):
    assert dew_point(air, humidity) < dew_point(air, humidity + more) <= air + 1e-9


@pytest.mark.parametrize(
    "work", [lambda: cable_resistance(-1, 1), lambda: cable_resistance(1, 0), lambda: dew_point(1, 0)]
)
def test_what_has_no_answer_is_refused(work):
    with pytest.raises(ValueError, match=r"needs|no dew"):
        work()


def wired(cable=None, power=None, **supply):
    """A rig whose mount draws 3 A at the most, 1 A as a rule, by 5 m of 0.75 mm² from a battery of 12.8 V."""
    document = clean_document()
    del document["plan"]
    line = {"length_m": 5, "cross_section_mm2": 0.75} if cable is None else cable
    draws = {"supply": "battery", "current_a": 1, "peak_a": 3, "least_v": 12, "cable": line} | (power or {})
    document["devices"] = [{"id": "mount", "kind": "mount", "power": draws}]
    document["supplies"] = [{"id": "battery", "kind": "battery", "voltage_v": 12.8, "rated_a": 10} | supply]
    document["records"] = []
    return document


# 0.229333 Ω: 3 A lose 0.688 V, 1 A 0.229 V.
DROPS = [
    ("enough", {}, "holds", {"arrives_at_rest_v": 12.5707, "arrives_at_most_v": 12.112}),
    ("exactly enough", {"power": {"least_v": 12.112}}, "holds", {"arrives_at_most_v": 12.112}),
    ("too little", {"power": {"least_v": 12.1121}}, "fails", {}),
    (
        "contacts of 50 mΩ",
        {"cable": {"length_m": 5, "cross_section_mm2": 0.75, "contact_mohm": 50}},
        "fails",
        {"arrives_at_most_v": 11.962},
    ),
    ("near its end", {"end_v": 12.5}, "tight", {"arrives_near_end_v": 11.812}),
    ("not stated what it needs", {"power": {"least_v": None}}, "unproven", {}),
    ("only the usual current", {"power": {"peak_a": None}}, "holds", {"arrives_at_most_v": 12.5707}),
]


@pytest.mark.parametrize("change, verdict, volts", [case[1:] for case in DROPS], ids=[case[0] for case in DROPS])
def test_what_arrives_at_a_device(change, verdict, volts):
    evaluation = evaluate(validated(wired(**change)))
    assert evaluation.finding("power.drop").verdict == verdict
    for key, value in volts.items():
        assert evaluation.rows[f"mount.{key}"].best.value == pytest.approx(value, abs=1e-4)


def test_a_box_between_loses_what_all_on_it_draw():
    document = wired(power={"supply": "box", "least_v": 11.5})
    document["devices"].append({"id": "dew", "kind": "dew_heater", "power": {"supply": "box", "current_a": 2}})
    document["supplies"].append(
        {"id": "box", "kind": "power_box", "fed_by": "battery", "cable": {"length_m": 2, "cross_section_mm2": 2.5}}
    )
    evaluation = evaluate(validated(document))
    # The box's cable: 2 · 0.0172 · 2 / 2.5 = 0.02752 Ω, 5 A in it: 0.1376 V; then 0.688 V.
    assert evaluation.rows["mount.arrives_at_most_v"].best.value == pytest.approx(12.8 - 0.1376 - 0.688)
    assert evaluation.rows["mount.arrives_at_rest_v"].best.value == pytest.approx(
        12.8 - 0.02752 * 3 - 0.22933, abs=1e-4
    )
    document["plan"] = {"exposure_s": 240, "ambient_c": 30}
    assert evaluate(validated(document)).rows["mount.arrives_at_most_v"].best.value == pytest.approx(
        12.8 - 1.039 * 0.8256
    )


def test_the_remedy_names_a_cross_section_that_does():
    document = wired(power={"least_v": 12.4})
    entries = evaluate(validated(document)).finding("power.drop").remedy.text
    # (12.8 − 12.4) / 3 = 0.1333 Ω; 2 · 0.0172 · 5 / 0.1333 = 1.29 mm²
    assert "Use 1.29 mm² or more for its 5 m" in entries
    document["devices"][0]["power"]["cable"]["cross_section_mm2"] = 1.2901
    assert evaluate(validated(document)).finding("power.drop").verdict == "holds"


@pytest.mark.parametrize(
    "frame_problem, words",
    [
        (lambda d: d["supplies"].append({"id": "b", "fed_by": "b"}), "in a ring"),
        (lambda d: d["supplies"][0].update(fed_by="x"), 'names "x", which is no supply'),
        (lambda d: d["devices"][0].update(connection={"hub": "mount"}), "no other device"),
        (lambda d: d["devices"][0].update(outlets=[{"name": "1"}]), "belongs to a power_box"),
    ],
)
def test_wiring_that_cannot_be(frame_problem, words):
    document = wired()
    frame_problem(document)
    with pytest.raises(InputError, match=words):
        validated(document)


OUTLETS = [
    ({"outlet": "1"}, [{"name": "1", "rated_a": 3}], "holds"),
    ({"outlet": "1"}, [{"name": "1", "rated_a": 2.99}], "fails"),
    ({"outlet": "2"}, [{"name": "1", "rated_a": 3}], "fails"),
    ({}, [{"name": "1"}], "unproven"),
    ({"outlet": "1"}, [{"name": "1"}], None),
    ({}, [], None),
]


@pytest.mark.parametrize("power, outlets, verdict", OUTLETS)
def test_outlets(power, outlets, verdict):
    found = evaluate(validated(wired(power=power, outlets=outlets))).finding("power.outlet")
    assert (found.verdict if found else None) == verdict


@pytest.mark.parametrize(
    "rate, cable, repeater, verdict",
    [
        (40, 5, None, "holds"),
        (40, 5.01, None, "fails"),
        (40.1, 3, None, "holds"),
        (190, 3.01, None, "fails"),
        (190, 9, True, "holds"),
    ],
)
def test_data_cables(rate, cable, repeater, verdict):
    document = clean_document()
    document["devices"][0]["connection"] |= {"kind": "usb", "cable_m": cable, "repeater": repeater}
    document["devices"][0]["settings"]["data_rate_mb_s"] = {"value": rate}
    assert evaluate(validated(document)).finding("ports.cable").verdict == verdict


STOPS, TRIED = {"stops_the_run": {"value": True}}, {"stop_was_tried": {"value": True}}
SAFETY = [
    ([], None),
    ([("roof", {})], "fails"),
    ([("roof", {}), ("weather", {})], "unproven"),
    ([("roof", {}), ("weather", {"stops_the_run": {"value": False}})], "fails"),
    ([("weather", STOPS)], "unproven"),
    ([("dome", {}), ("safety_monitor", STOPS | TRIED)], "holds"),
]


@pytest.mark.parametrize("devices, verdict", SAFETY)
def test_who_stops_the_night(devices, verdict):
    document = wired()
    document["devices"] += [{"id": kind, "kind": kind, "settings": settings} for kind, settings in devices]
    evaluation = evaluate(validated(document))
    found = evaluation.finding("devices.safety")
    assert (found.verdict if found else None) == verdict
    assert next(one for one in evaluation.conditions if one.condition.key == "weather").applies == bool(devices)


@pytest.mark.parametrize("rating, verdict", [(10.0, "holds"), (9.999, "tight"), (8.0, "tight"), (7.999, "fails")])
def test_the_mount_carries_at_most_its_rating(rating, verdict):
    document = wired()
    document["mount"] = {"kind": "equatorial", "payload_rating_kg": rating}
    document["telescope"]["mass_g"] = 8000
    for part in (*document["train"], *document["guiding"]["path"]):
        part["mass_g"] = 0
    assert evaluate(validated(document)).finding("mount.payload").verdict == verdict
    del document["train"][0]["mass_g"]
    unknown = evaluate(validated(document)).finding("mount.payload").verdict
    assert unknown == ("fails" if verdict == "fails" else "unproven")


# 10 °C and 80 %: dew point 6.71 °C; the glass at 8 °C is 1.29 °C above it.
DEW = [
    ({"air_c": 10, "humidity_percent": 80}, 0, ["holds"]),
    ({"air_c": 10, "humidity_percent": 84}, 0, ["tight"]),
    ({"air_c": 10, "humidity_percent": 95}, 0, ["fails"]),
    ({"air_c": 10, "humidity_percent": 95}, 4, ["holds"]),
    ({"air_c": 10, "humidity_percent": 80, "dew_point_c": 3}, 0, ["fails", "holds"]),
    ({"humidity_percent": 80}, 0, []),
]


@pytest.mark.parametrize("air, warms, verdicts", DEW)
def test_dew(air, warms, verdicts):
    document = wired()
    document["devices"].append(
        {"id": "w", "kind": "weather", "settings": {key: {"value": v} for key, v in air.items()}}
    )
    if warms:
        document["devices"].append({"id": "h", "kind": "dew_heater", "settings": {"warms_c": {"value": warms}}})
    found = [f.verdict for f in evaluate(validated(document)).findings if f.id == "dew.point"]
    assert found == verdicts
