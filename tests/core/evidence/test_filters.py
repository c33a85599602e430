"""Flats: dust where it was put, wheels that stop off and that do not, levels, and which old flats serve."""

import datetime
import json
from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest

from tests.cases import further
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.filters.dust import FlatLight, Shadow, light_of, shadows_of
from wyntaxis.core.evidence.filters.flats import bin_for, read_flats, sets_of
from wyntaxis.core.evidence.filters.kind import FILTERS, read
from wyntaxis.core.evidence.filters.repeatability import repeat_verdict
from wyntaxis.core.evidence.filters.report import REPORT, one_way_text
from wyntaxis.core.evidence.filters.result import FlatOptics, measured
from wyntaxis.core.evidence.filters.serve import compared, where_words
from wyntaxis.core.evidence.filters.shift import pair_shift
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated
from wyntaxis.core.train.surfaces import DustSurface, dust_surfaces
from wyntaxis.simulators.flat_field import FLAT_START, Mote, SimulatedFlats, lens_area

SURFACES = (DustSurface("camera", "window", 0.0, 1.5), DustSurface("wheel", "filter", 2.0, 4.0, is_filter=True))
OPTICS = FlatOptics(pixel_um=4.0, focal_ratio=5.0, bias_adu=360.0, bits=16, surfaces=SURFACES)
FLATS = SimulatedFlats(width=480, height=340, pixel_um=4.0, focal_ratio=5.0, gain_e_adu=4.0)
# On the filter at 3 mm: 3000 / (4 · 5) = 150 px wide; on the window at 1 mm: 50 px.
MOTES = (Mote(150, 110, 3.0, 0.10, "L"), Mote(330, 220, 3.0, 0.12, "L"), Mote(400, 80, 1.0, 0.06))


def plane(flats, number=0, stop=(0.0, 0.0), name="L", **more):
    return flats.frame(name, number, stop, **more).astype(np.float32) - 360


# By hand: equal circles of radius 1 at distance 1 share 2π/3 − √3/2.
def test_two_circles_share_what_geometry_says():
    assert lens_area(1.0, 1.0, np.array([1.0])) == pytest.approx(2 * np.pi / 3 - np.sqrt(3) / 2)
    assert lens_area(1.0, 0.5, np.array([0.2])) == pytest.approx(np.pi / 4)
    assert lens_area(1.0, 0.5, np.array([1.5])) == 0


@pytest.mark.parametrize(("ratio", "obstruction"), [(4.0, 0.0), (4.0, 0.35), (7.0, 0.0), (7.0, 0.4)])
def test_dust_lies_where_it_was_put(ratio, obstruction):
    motes = (Mote(150, 120, 2.6, 0.09), Mote(350, 240, 0.7, 0.03))
    flats = replace(FLATS, focal_ratio=ratio, obstruction=obstruction, motes=motes)
    found = shadows_of(plane(flats), 1, obstruction)
    assert len(found) == 2, "no more than there is"
    for mote in motes:
        near = min(found, key=lambda s, m=mote: np.hypot(s.x - m.x, s.y - m.y))
        distance = near.outer_px.value * 4.0 * ratio / 1000
        assert distance == pytest.approx(mote.distance_mm, rel=0.1)
        assert abs(distance - mote.distance_mm) < 3 * near.outer_px.standard * 4.0 * ratio / 1000
        assert np.hypot(near.x - mote.x, near.y - mote.y) < 3
        assert near.inner_px / near.outer_px.value == pytest.approx(obstruction, abs=0.08)


def test_a_clean_flat_has_no_dust_whatever_its_light():
    for seed in range(2):
        flats = replace(FLATS, corner_share=0.6, centre_off_px=(60, -30), slope=(0.03, 0.0), seed=seed)
        assert shadows_of(plane(flats), 1) == ()


@lru_cache
def shadows_on(motes):
    return light_of(plane(replace(FLATS, motes=motes), 1), 1)


def shifted(stop, motes=MOTES, first=1):
    flats = replace(FLATS, motes=motes)
    return pair_shift((plane(flats, first), plane(flats, first + 1, stop)), shadows_on(motes), 1)


@pytest.mark.parametrize("stop", [(0.3, 0.0), (0.0, -0.3), (2.4, 1.1), (-9.0, 6.0)])
def test_a_wheel_that_stops_off_is_found(stop):
    found = shifted(stop)
    assert found.moved == 2, "the window's grain stays"
    assert found.shift_px.value == pytest.approx(np.hypot(*stop), abs=max(2.5 * found.shift_px.standard, 0.02))
    assert (found.x, found.y) == pytest.approx(stop, abs=3 * found.shift_px.standard)


def test_none_is_invented():
    entries = [shifted((0.0, 0.0), first=2 * k + 1) for k in range(6)]
    assert not any(found.moved for found in entries)
    for found in entries:
        noise = 2 * found.shift_px.standard**2
        assert found.shift_px.value**2 == pytest.approx(max(found.x**2 + found.y**2 - noise, 0.0))
    assert sum(found.shift_px.value <= 2 * found.shift_px.standard for found in entries) >= 5
    assert all(found.ratio_rms < 1.15 * found.shot_rms for found in entries)
    assert shifted((0.0, 0.0), ()).why.startswith("no shadow")
    assert shifted((12.0, 0.0)).ratio_rms > 1.6 * entries[0].shot_rms, "an embossed ratio shows"
    smooth = replace(FLATS, pattern=0.0, corner_share=1.0)
    faint = Shadow(200, 200, Estimate(60, 1), 0.0, 1e-4, 4.0)
    light = FlatLight(light_of(plane(smooth, 1), 1).smooth, (faint,))
    assert "too faint" in pair_shift((plane(smooth, 1), plane(smooth, 2)), light, 1).why


def test_old_flats_serve_until_something_changed():
    flats = replace(FLATS, motes=MOTES)
    old = np.mean([plane(flats, k) for k in range(4)], axis=0)
    same = compared(old, np.mean([1.2 * plane(flats, k) for k in range(10, 14)], axis=0), 1)
    assert (same.verdict, same.places) == ("holds", ())
    grain = replace(flats, motes=(*MOTES, Mote(90, 280, 1.0, 0.08)))
    moved = compared(old, np.mean([plane(grain, k) for k in range(10, 14)], axis=0), 1)
    assert moved.verdict == "fails"
    assert moved.places[0].words == "upper left"
    assert np.hypot(moved.places[0].x - 90, moved.places[0].y - 280) < 15
    assert moved.places[0].share < 0
    turned = compared(old, np.mean([plane(flats, k, turned=True) for k in range(4)], axis=0), 1)
    assert turned.verdict == "fails"
    darker = compared(old, np.mean([plane(replace(flats, corner_share=0.80), k) for k in range(4)], axis=0), 1)
    assert darker.verdict == "fails"
    assert darker.corner == pytest.approx(np.log(0.80 / 0.86), abs=0.01)
    panel = compared(old, np.mean([plane(replace(flats, slope=(0.02, 0)), k) for k in range(4)], axis=0), 1)
    assert panel.verdict == "holds", "a slope is the panel's"
    assert panel.plane > 0.02
    noisy = replace(flats, gain_e_adu=0.002)
    assert compared(plane(noisy, 1), plane(noisy, 2), 1).verdict == "unproven"


@pytest.mark.parametrize(
    ("x", "y", "words"), [(0.1, 0.1, "lower left"), (0.5, 0.5, "middle"), (0.5, 0.99, "upper"), (0.99, 0.4, "right")]
)
def test_places_have_words(x, y, words):
    assert where_words(x, y) == words


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Flats of a month ago, and of now with a wheel that stops off and a new grain; and what is no flat."""
    place = tmp_path_factory.mktemp("flats")
    before = FLAT_START - datetime.timedelta(days=31)
    replace(FLATS, motes=MOTES).write(place / "old", ["L"], each=3, start=before, number=90)
    now = replace(
        FLATS, motes=(*MOTES, Mote(90, 280, 1.0, 0.08)), stops_px=((0, 0), (1.0, -0.6)), brightness={"Ha": 0.2}
    )
    now.write(place / "new", ["L", "Ha", "L"], each=3)
    FLATS.write(place / "dark", ["L"], cards={"IMAGETYP": "DARK"})
    replace(FLATS, level_adu=10.0).write(place / "dim", ["L"])
    (place / "broken.fits").write_bytes(b"no flat")
    return place


@pytest.fixture(scope="module")
def result(folder):
    """The flats, measured."""
    return read([folder], OPTICS)


def test_flats_are_parted_and_told(result):
    assert [(e.filter, e.name, len(e.flats), len(e.visits)) for e in result.sets] == [
        ("L", "old", 3, 1),
        ("L", "new", 6, 2),
        ("Ha", "new", 3, 1),
    ]
    whys = {entry.path.rpartition("/")[2] + entry.why for entry in result.not_used}
    assert any("is a dark" in why for why in whys)
    assert any("is dark: " in why for why in whys)
    assert any(why.startswith("broken.fits") for why in whys)
    entries = REPORT.as_json(result)
    levels = {(entry["filter"], entry["set"]): entry for entry in entries["levels"]}
    assert levels["L", "new"]["level_share"] == pytest.approx(30_360 / 65_535, rel=0.06)
    assert levels["L", "new"]["corner_share"] == pytest.approx(0.88, abs=0.03)
    assert levels["Ha", "new"]["brightness"] == pytest.approx(0.2, rel=0.05)
    (repeat,) = [entry for entry in entries["repeatability"] if entry["filter"] == "L" and entry["set"] == "L, new"]
    assert repeat["shift_px"]["value"] == pytest.approx(np.hypot(1.0, 0.6), abs=3 * repeat["shift_px"]["u"])
    assert repeat["shift_um"]["value"] == pytest.approx(4 * repeat["shift_px"]["value"])
    assert repeat["turned_between"] is True
    (ha,) = [entry for entry in entries["repeatability"] if entry["filter"] == "Ha"]
    assert (ha["turned_between"], ha["moved"]) == (None, False)
    lies = {entry["lies_at"] for entry in entries["dust"]}
    assert lies == {"camera", "wheel"}
    shared = next(entry for entry in entries["dust"] if len(entry["filters"]) == 2)
    assert shared["lies_at"] == "camera", "what is seen through every filter is on none of them"
    (serve,) = entries["serve"]
    assert (serve["filter"], serve["old"], serve["new"], serve["verdict"]) == ("L", "old", "new", "fails")
    assert serve["where"][0]["words"] == "upper left"


def test_one_way_turning_is_compared_with_both(result):
    assert one_way_text(result) == ""
    repeats = tuple(replace(entry, one_way=entry.set_name == "old") for entry in result.repeats if entry.filter == "L")
    entries = replace(result, repeats=repeats)
    assert entries.one_way_shift_px(one_way=False).value == pytest.approx(np.hypot(1.0, 0.6), abs=0.3)
    assert one_way_text(entries).startswith("Turning one way it stops 0.")
    assert REPORT.as_json(entries)["one_way"]["on_px"]["value"] < 0.3


def test_dust_where_no_surface_is_documented_is_told_so(result):
    elsewhere = replace(result.optics, surfaces=(DustSurface("wheel", "filter", 2.9, 3.1),))
    entries = {entry.surface is None: entry for entry in measured(result.sets[:1], elsewhere).dust}
    assert entries[False].surface.part_id == "wheel"
    assert entries[True].why == "no documented surface lies there; the nearest is filter"
    assert "no pixel" in measured(result.sets[:1], replace(elsewhere, pixel_um=None)).dust[0].why


def test_what_flats_prove_is_worded(result):
    rig = validated(clean_document())
    evaluation = evaluate(rig, Evidence().having(FILTERS, result))
    entries = {}
    for found in evaluation.findings:
        if found.id.startswith(("wheel.repeat", "wheel.dust", "flats.")):
            entries.setdefault(found.id, []).append(found)
    repeats = {f.title.partition(":")[0]: f for f in entries["wheel.repeat"]}
    assert repeats["L"].verdict in ("tight", "fails")
    assert "px from where it stopped before" in repeats["L"].title
    assert repeats["Ha"].verdict == "unproven", "nobody told that the wheel turned"
    assert entries["wheel.dust"][0].verdict in ("tight", "fails")
    assert "Clean" in entries["wheel.dust"][0].remedy.text
    levels = {f.title.partition(":")[0]: f.verdict for f in entries["flats.level"]}
    assert levels == {"L": "holds", "Ha": "fails"}
    assert entries["flats.serve"][0].verdict == "fails"
    assert len(entries["flats.falloff"]) == 2
    assert not any(f.id.startswith("flats.") for f in evaluate(rig).findings), "nothing is told of flats nobody read"


def test_the_wheels_error_is_kept_in_the_rig(folder, result, tmp_path, capsys):
    document = clean_document()
    with pytest.raises(ValueError, match="no filter wheel"):
        FILTERS.keep(validated(document | {"devices": []}), result)
    document["devices"] = [{"id": "wheel_device", "kind": "filter_wheel", "settings": {"one_way": {"value": False}}}]
    rig = validated(document)
    error = FILTERS.measures(rig, result)["wheel_device.stop_error_um"]
    kept = edit.apply(rig, FILTERS.keep(rig, result))
    assert kept.devices[0].measured("stop_error_um").value == pytest.approx(error.value, rel=1e-4)
    with pytest.raises(ValueError, match="no pair of flats"):
        FILTERS.keep(rig, replace(result, repeats=()))
    path = tmp_path / "w.rig.json"
    path.write_text(json.dumps(document))
    assert main(["filters", str(path), str(folder), "--one-way", "old", "--keep"]) == 1
    out = capsys.readouterr()
    assert "flats.serve" in out.out
    assert "not used: " in out.err
    assert json.loads(path.read_text())["devices"][0]["settings"]["stop_error_um"]["measured"]["value"] > 0


@pytest.mark.parametrize(
    ("width", "mosaic", "binned"),
    [(1600, False, 1), (1601, False, 2), (6000, False, 4), (5600, True, 4), (1000, True, 2), (9576, False, 6)],
)
def test_large_frames_are_binned_in_whole_colour_groups(width, mosaic, binned):
    assert bin_for(width, 800, mosaic=mosaic) == binned


def test_flats_without_times_or_alone_are_no_trouble(tmp_path):
    flats = replace(FLATS, motes=MOTES[:1])
    for name, number in (("a", 1), ("b", 2)):
        flats.write(tmp_path / name, ["L"], number=number, cards={"DATE-OBS": "?"})
    result = read([tmp_path / "a", tmp_path / "b"], OPTICS)
    assert [entry.turned for entry in result.repeats] == [None], "two folders of one night are compared as well"
    assert result.repeats[0].pair.moved == 0
    found, _left = read_flats([tmp_path / "a"])
    assert sets_of(found, DEFAULT_FILTER_NAMES)[0].time is None
    with pytest.raises(InputError):
        read([tmp_path / "nowhere"], OPTICS)


def test_the_surfaces_of_a_train_lie_where_its_parts_are():
    found = {surface.part_id: surface for surface in dust_surfaces(validated(clean_document()))}
    assert (found["camera"].near_mm, found["camera"].far_mm) == (0.0, 12.5)
    wheel = found["wheel"]
    # 12.5 mm of camera and the ring, then the middle of a wheel 20 mm thick; a filter of 2 mm with 1 mm of play.
    ring = next(part for part in validated(clean_document()).train if part.id == "ring").length_mm
    assert wheel.middle_mm == pytest.approx(12.5 + ring + 10)
    assert wheel.far_mm - wheel.near_mm == pytest.approx(4.0)
    assert wheel.away_mm(wheel.far_mm + 0.7) == pytest.approx(0.7)
    assert wheel.away_mm(wheel.middle_mm) == 0


# On the filter a grain of 150 px shows a shift, on the window none does, and one of 0.1 % is too faint.
@pytest.mark.parametrize(
    ("motes", "verdict", "words"),
    [
        ((), "unproven", "no shadow of dust is on them"),
        ((Mote(400, 80, 1.0, 0.06), Mote(150, 220, 1.0, 0.05)), "unproven", "does not turn with the wheel"),
        (MOTES, "holds", ""),
    ],
)
@pytest.mark.parametrize("stop", [2.0, *further(0.0)])
def test_a_wheel_is_proven_only_by_dust_that_would_show_it(tmp_path, motes, verdict, words, stop):
    flats = replace(FLATS, motes=motes, stops_px=((0.0, 0.0), (stop, 0.0)))
    flats.write(tmp_path / "a", ("L", "R", "L"), each=2)
    result = read([tmp_path / "a"], OPTICS)
    repeat = next(own for own in result.repeats if own.filter == "L")
    assert repeat.turned
    shown = verdict == "holds" and stop == 0.0
    assert words in repeat.unseen
    assert bool(repeat.unseen) == bool(words)
    if words:
        assert repeat_verdict(repeat) == "unproven"
        found = evaluate(validated(clean_document()), Evidence().having(FILTERS, result)).findings
        mine = next(one for one in found if one.id == "wheel.repeat" and one.title.startswith("L:"))
        assert (mine.verdict, mine.title) == ("unproven", "L: no shadow shows whether the wheel stops where it did")
        assert any(words in line for line in mine.arithmetic)
    else:
        assert (repeat_verdict(repeat) == "holds") == shown


def test_dust_of_unknown_place_proves_no_wheel(tmp_path):
    """Without documented surfaces the same shadows may lie on the camera's window."""
    flats = replace(FLATS, motes=MOTES)
    flats.write(tmp_path / "a", ("L", "R", "L"), each=2)
    for optics in (replace(OPTICS, surfaces=()), replace(OPTICS, focal_ratio=None)):
        repeat = next(own for own in read([tmp_path / "a"], optics).repeats if own.filter == "L")
        assert "not known whether their shadows lie on a filter" in repeat.unseen
        assert repeat_verdict(repeat) == "unproven"
