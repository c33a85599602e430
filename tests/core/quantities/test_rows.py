"""The numbers of a rig's things: their values by hand, and every boundary at which a verdict turns."""

import pytest

from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.ports.tree import read_ports
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.rows import is_judged, step_rows
from wyntaxis.core.rig.store import validated
from wyntaxis.core.steps import DEVICES, READY, steps
from wyntaxis.core.steps import PORTS as PORTS_STEP
from wyntaxis.simulators.usb import make_tree

HOLDS, TIGHT, FAILS, UNPROVEN = Verdict.HOLDS, Verdict.TIGHT, Verdict.FAILS, Verdict.UNPROVEN


@pytest.fixture(scope="module")
def evaluated(tmp_path_factory):
    root = make_tree(tmp_path_factory.mktemp("rows") / "root", clean_tree(), usbfs_memory_mb=256)
    return evaluate(validated(clean_document()), Evidence().having(PORTS, read_ports(root)), traced=True)


def computed_now(document):
    return evaluate(validated(document))


def with_settings(document, device_id, **settings):
    device = next(device for device in document["devices"] if device["id"] == device_id)
    device.setdefault("settings", {}).update({key: {"value": value} for key, value in settings.items()})


def measured(value, u=0.0):
    return {"measured": {"value": value, "standard_uncertainty": u}}


def focuser(**settings):
    return lambda document: with_settings(document, "glide", **settings)


def camera(ambient=None, **settings):
    def change(document):
        with_settings(document, "main", set_temperature_c=-10, **settings)
        if ambient is not None:
            document["plan"]["ambient_c"] = ambient

    return change


def cooled(reach, ambient, u=0.0):
    def change(document):
        camera(ambient)(document)
        document["devices"][0]["settings"]["cooling_reach_c"] = measured(reach, u)

    return change


def entries(**evaluator):
    def change(document):
        settings = document["devices"][0]["settings"]
        settings.update(evaluator)

    return change


def drawtube(travel_mm):
    def change(document):
        document["telescope"]["focuser"] = {"travel_mm": travel_mm}

    return change


def plan(**values):
    return lambda document: document["plan"].update(values)


def supply(**values):
    return lambda document: document["supplies"][0].update(values)


def disk(free_gb):
    return lambda document: document["devices"][-1]["storage"][0].update(free_gb=free_gb)


# The rig: focuser 0 to 10000 steps of 4 um, depth of focus 47.69 um; 100 frames of 300 s in 10 h, 5.28 GB of them;
# a battery of 60 Ah, 80 % of it usable, rated 10 A, that feeds 2 A, 3 A at the most.
CASES = [
    ("glide.travel_percent", focuser(position=2000), 20, HOLDS),
    ("glide.travel_percent", focuser(position=1999), 19.99, TIGHT),
    ("glide.travel_percent", focuser(position=500), 5, TIGHT),
    ("glide.travel_percent", focuser(position=9501), 95.01, FAILS),
    # A drawtube of 40 mm: 10000 steps of 4 µm are all of it.
    ("glide.counter_covers_percent", drawtube(40), 100, HOLDS),
    ("glide.counter_covers_percent", drawtube(39.9), 100.25, TIGHT),
    ("glide.counter_covers_percent", drawtube(38), 105.26, FAILS),
    ("glide.steps_in_focus", focuser(step_um=15.89), 3.0013, HOLDS),
    ("glide.steps_in_focus", focuser(step_um=15.9), 2.9994, TIGHT),
    ("glide.steps_in_focus", focuser(step_um=47.7), 0.9998, FAILS),
    ("glide.backlash_percent", focuser(backlash_steps=500), 5, HOLDS),
    ("glide.backlash_percent", focuser(backlash_steps=501), 5.01, TIGHT),
    ("glide.backlash_percent", focuser(backlash_steps=1001), 10.01, FAILS),
    ("glide.refocus_temperature_c", focuser(refocus_temperature_c=5.0), 5, HOLDS),
    ("glide.refocus_temperature_c", focuser(refocus_temperature_c=5.1), 5.1, FAILS),
    ("glide.refocus_temperature_c", focuser(refocus_temperature_c=5.1, refocus_after_min=240), 5.1, TIGHT),
    ("glide.refocus_after_min", focuser(refocus_after_min=241, refocus_temperature_c=5.1), 241, FAILS),
    ("main.coldest_c", cooled(30, 20), -10, HOLDS),
    ("main.coldest_c", cooled(30, 20, 0.01), -10, TIGHT),
    ("main.coldest_c", cooled(29.9, 20), -9.9, FAILS),
    ("main.power_needed_percent", cooled(40, 24), 85, HOLDS),
    ("main.power_needed_percent", cooled(40, 24.1), 85.25, TIGHT),
    ("main.power_needed_percent", cooled(40, 30.1), 100.25, FAILS),
    ("main.steepest_c_min", entries(ramp_c_min={"value": 2}, steepest_c_min=measured(2.2)), 2.2, HOLDS),
    ("main.steepest_c_min", entries(ramp_c_min={"value": 2}, steepest_c_min=measured(3.0)), 3, TIGHT),
    ("main.steepest_c_min", entries(ramp_c_min={"value": 2}, steepest_c_min=measured(3.1)), 3.1, FAILS),
    ("main.scatter_c", entries(scatter_c=measured(0.1)), 0.1, HOLDS),
    ("main.scatter_c", entries(scatter_c=measured(0.25)), 0.25, TIGHT),
    ("main.scatter_c", entries(scatter_c=measured(0.26)), 0.26, FAILS),
    ("main.set_temperature_c", entries(set_temperature_c={"value": -10} | measured(-9.0)), -9, HOLDS),
    ("main.set_temperature_c", entries(set_temperature_c={"value": -10} | measured(-8.9)), -8.9, FAILS),
    ("main.linearity_percent", entries(linearity_percent={"value": 0.8} | measured(0.8)), 0.8, HOLDS),
    ("main.linearity_percent", entries(linearity_percent={"value": 0.8} | measured(0.9)), 0.9, TIGHT),
    ("main.linearity_percent", entries(linearity_percent=measured(3.1)), 3.1, FAILS),
    ("main.bias_margin_adu", entries(bias_mean_adu=measured(60.1), bias_noise_adu=measured(10)), 0.1, HOLDS),
    ("main.bias_margin_adu", entries(bias_mean_adu=measured(60), bias_noise_adu=measured(10)), 0, FAILS),
    ("main.pile_up_share", entries(pile_up_share=measured(9.9e-6)), 9.9e-6, HOLDS),
    ("main.pile_up_share", entries(pile_up_share=measured(1e-5)), 1e-5, FAILS),
    ("main.flat_level_percent", entries(flat_level_percent=measured(60)), 60, HOLDS),
    ("main.flat_level_percent", entries(flat_level_percent=measured(20)), 20, TIGHT),
    ("main.flat_level_percent", entries(flat_level_percent=measured(70.1)), 70.1, FAILS),
    # Read noise 2 e: a tenth of 4 is 0.4 e in 300 s.
    ("main.dark_signal_e", camera(read_noise_e=2, dark_current_e_s=0.0013), 0.39, HOLDS),
    ("main.dark_signal_e", camera(read_noise_e=2, dark_current_e_s=0.0039), 1.17, TIGHT),
    ("main.dark_signal_e", camera(read_noise_e=2, dark_current_e_s=0.0041), 1.23, FAILS),
    ("main.glow_signal_e", entries(read_noise_e={"value": 2}, glow_e_s=measured(0.0013)), 0.39, HOLDS),
    ("main.glow_signal_e", entries(read_noise_e={"value": 2}, glow_e_s=measured(0.01)), 3, TIGHT),
    ("main.glow_signal_e", entries(read_noise_e={"value": 2}, glow_e_s=measured(0.014)), 4.2, FAILS),
    ("main.glow_signal_e", entries(read_noise_e={"value": 2}, glow_e_s=measured(0.014, 0.007)), 4.2, HOLDS),
    ("plan.night_used_percent", plan(frames=108), 90, HOLDS),
    ("plan.night_used_percent", plan(frames=109), 90.83, UNPROVEN),
    ("plan.night_used_percent", plan(frames=127), 105.83, FAILS),
    ("hut.storage1.free_gb", disk(7.92), 7.92, HOLDS),
    ("hut.storage1.free_gb", disk(7.9), 7.9, TIGHT),
    ("hut.storage1.free_gb", disk(5.2), 5.2, FAILS),
    ("battery.peak_a", supply(rated_a=3.75), 3, HOLDS),
    ("battery.peak_a", supply(rated_a=3.7), 3, TIGHT),
    ("battery.peak_a", supply(rated_a=2.9), 3, FAILS),
    ("battery.battery_h", supply(capacity_ah=30), 12, HOLDS),
    ("battery.battery_h", supply(capacity_ah=29.9), 11.96, TIGHT),
    ("battery.battery_h", supply(capacity_ah=24.9), 9.96, FAILS),
    ("guiding.settle_px", lambda document: document["guiding"]["settings"].update(settle_px=0.4), 0.4, HOLDS),
    ("guiding.settle_px", lambda document: document["guiding"]["settings"].update(settle_px=0.39), 0.39, FAILS),
]


@pytest.mark.parametrize(("row_id", "change", "value", "verdict"), CASES)
def test_a_number_and_where_its_verdict_turns(row_id, change, value, verdict):
    document = clean_document()
    change(document)
    row = computed_now(document).rows[row_id]
    assert row.best.value == pytest.approx(value, rel=1e-3, abs=1e-9)
    assert row.verdict is verdict


def test_each_step_shows_the_numbers_that_its_findings_word(evaluated):
    """What a finding speaks of stands in the ledger, judged no worse than the finding tells."""
    worded = [(f, evaluated.rows[key]) for f in evaluated.findings for key in f.quantities if key in evaluated.rows]
    assert len(worded) > 30
    for step in steps():
        shown = step_rows(evaluated.rows, step)
        assert all(row.kind.step is step for row in shown)
        assert all(is_judged(row) for row in shown if "." in row.id)
    assert "hut.storage1.free_gb" in {row.id for row in step_rows(evaluated.rows, DEVICES)}
    assert "plan.night_used_percent" in {row.id for row in step_rows(evaluated.rows, READY)}
    ports = {row.id.rpartition(".")[2] for row in step_rows(evaluated.rows, PORTS_STEP)}
    assert ports == {"link_mbit", "traffic_mb_s", "feeds_ma", "usbfs_memory_mb"}


def test_what_a_things_number_rests_on(evaluated):
    reads = evaluated.evaluator.reads
    assert {"devices!", "supplies!", "devices[0].power.peak_a"} <= reads("battery.peak_a")
    assert not any(path.startswith("train") for path in reads("battery.peak_a"))
    assert {"devices!", "train[0].magnification"} <= reads("glide.steps_in_focus")  # so goes the depth of focus
    assert any(path.startswith("plan") for path in reads("plan.night_used_percent"))
