"""Power in watts: what a converter takes, what passes through, and what is not verified while a cable is not known."""

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.limits import USABLE_SHARE
from wyntaxis.core.rehearsal.power import loads_of
from wyntaxis.core.rig.store import validated

CABLE = {"length_m": 2.0, "cross_section_mm2": 1.5}
# Copper at 20 °C: 2 × 0.0172 × 2 / 1.5 = 0.045867 Ω
OHM = 2 * 0.0172 * 2 / 1.5


def rig(box, device, battery=None, more=()):
    """A battery of 12 V feeds a box, which feeds one device."""
    document = EXAMPLE | {
        "supplies": [
            {"id": "battery", "kind": "battery", "voltage_v": 12.0, "rated_a": 10, "capacity_ah": 100}
            | (battery or {}),
            {"id": "box", "kind": "power_box", "fed_by": "battery", "cable": CABLE} | box,
        ],
        "devices": [{"id": "camera", "kind": "other", "power": {"supply": "box", "cable": CABLE} | device}, *more],
        "plan": {"exposure_s": 240, "hours": 8.0},
    }
    return validated(document)


@pytest.mark.parametrize(
    ("box", "from_battery_a", "supply_voltage_v"),
    [
        ({"voltage_v": 5.0}, 2 * 5 / 12, 5.0 - 2 * OHM),  # a converter: 10 W are 0.833 A of 12 V
        ({"voltage_v": 5.0, "efficiency": 0.8}, 2 * 5 / 12 / 0.8, 5.0 - 2 * OHM),
        ({"voltage_v": 24.0}, 2 * 24 / 12, 24.0 - 2 * OHM),
        ({"voltage_v": 12.0}, 2.0, 12.0 - 2 * OHM - 2 * OHM),
        ({"voltage_v": 13.8}, 2.0, 12.0 - 4 * OHM),  # passed through: the same amperes, and the battery's voltage
        ({}, 2.0, 12.0 - 4 * OHM),
        ({"voltage_v": 14.4}, 2.0, 12.0 - 4 * OHM),  # on the edge: 1.2 times
        ({"voltage_v": 14.41}, 2 * 14.41 / 12, 14.41 - 2 * OHM),
        ({"voltage_v": 10.0}, 2.0, 12.0 - 4 * OHM),
        ({"voltage_v": 9.99}, 2 * 9.99 / 12, 9.99 - 2 * OHM),
    ],
)
def test_watts_go_up_the_line_and_a_converter_keeps_its_voltage(box, from_battery_a, supply_voltage_v):
    own = rig(box, {"current_a": 2.0, "least_v": 4.75})
    rows = evaluate(own).rows
    assert rows["battery.peak_a"].computed.value == pytest.approx(from_battery_a)
    assert rows["battery.battery_h"].computed.value == pytest.approx(100 * USABLE_SHARE / from_battery_a)
    assert rows["camera.arrives_at_most_v"].computed.value == pytest.approx(supply_voltage_v)
    loads = {load.supply.id: load for load in loads_of(own)}
    assert loads["battery"].amperes(frozenset(), powered=True) == pytest.approx(from_battery_a), "as the night counts"


def test_five_volts_behind_a_converter_are_judged_as_five():
    own = rig({"voltage_v": 5.0}, {"current_a": 2.0, "least_v": 4.95})
    found = evaluate(own).finding("power.drop")
    assert found.verdict is Verdict.FAILS
    assert found.title.startswith("camera gets 4.91 V")


@pytest.mark.parametrize(
    ("cable", "verdict"),
    [
        (CABLE, Verdict.HOLDS),
        (None, Verdict.UNPROVEN),
        ({"length_m": 2.0}, Verdict.UNPROVEN),
        ({"length_m": 0.0}, Verdict.HOLDS),  # plugged in directly
        ({"length_m": 0.0, "contact_mohm": 900}, Verdict.FAILS),
    ],
)
def test_a_feed_cable_that_is_not_described_is_not_taken_for_none(cable, verdict):
    own = rig({"cable": cable}, {"current_a": 2.0, "least_v": 11.0})
    evaluation = evaluate(own)
    assert evaluation.finding("power.drop").verdict is verdict
    assert evaluation.rows["camera.arrives_at_most_v"].verdict is verdict
    if verdict is Verdict.UNPROVEN:
        assert "the cable that feeds box is not described" in evaluation.finding("power.drop").title
    # What falls short with the best of cables fails all the same.
    bad = rig({"cable": cable}, {"current_a": 2.0, "least_v": 12.5})
    assert evaluate(bad).finding("power.drop").verdict is Verdict.FAILS


def test_a_device_that_says_what_it_needs_and_not_by_which_cable_is_not_verified():
    own = rig({}, {"current_a": 2.0, "least_v": 11.0, "cable": None})
    found = evaluate(own).finding("power.drop")
    assert (found.verdict, found.subject) == (Verdict.UNPROVEN, "camera")


def test_a_device_without_its_current_leaves_its_supplies_not_verified():
    heater = {"id": "heater", "kind": "dew_heater", "power": {"supply": "box"}}
    own = rig({"rated_a": 5}, {"current_a": 2.0, "least_v": 11.0}, more=[heater])
    evaluation = evaluate(own)
    assert {evaluation.rows[key].verdict for key in ("battery.peak_a", "box.peak_a", "camera.arrives_at_most_v")} == {
        Verdict.UNPROVEN
    }
    assert evaluation.rows["battery.battery_h"].verdict is Verdict.UNPROVEN
    over = rig({"rated_a": 1}, {"current_a": 2.0}, more=[heater])
    assert evaluate(over).rows["box.peak_a"].verdict is Verdict.FAILS, "too much already"


def hub(own, into):
    return {"id": own, "kind": "hub", "connection": {"kind": "usb", "hub": into}}


@pytest.mark.parametrize(
    ("devices", "ring"),
    [
        ([hub("a", "b"), hub("b", "a")], "a → b → a"),
        ([hub("a", "b"), hub("b", "c"), hub("c", "a")], "a → b → c → a"),
        ([hub("x", "a"), hub("a", "b"), hub("b", "a")], "a → b → a"),
    ],
)
def test_hubs_in_a_ring_are_refused(devices, ring):
    with pytest.raises(InputError, match=f"{ring} are plugged into each other in a ring"):
        validated(EXAMPLE | {"devices": devices})
    validated(EXAMPLE | {"devices": [hub("a", "b"), {"id": "b", "kind": "hub"}]})
