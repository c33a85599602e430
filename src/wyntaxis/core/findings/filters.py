"""What flats prove: the wheel's repeatability, dust, levels, falloff, and whether old flats serve."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.findings.sensor import bench_flats_level
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.limits import FLAT_RANGE_PERCENT
from wyntaxis.core.quantities.flats import (
    CORNER,
    DEEP_PERCENT,
    DEPTH,
    EXCESS,
    FALLOFF_TOLERANCE,
    LEVEL,
    repeat_verdict,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import FILTERS as FILTERS_STEP
from wyntaxis.core.wording import number, plus_minus

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.result import FilterResult, Repeat

_RATIO_SOURCE = "Ratio of two flats of one filter, high-passed, against the noise of its px; shadows registered"
_DUST_SOURCE = "A shadow w px wide lies x = w p N before the sensor"
MAX_NAMED = 4


@finding("wheel.repeat", step=FILTERS_STEP, after="focuser.saturated")
def repeatability(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the wheel stop where it did?"""
    result = evaluation.evidence.of(FILTERS)
    if result is None or not result.repeats:
        yield from _not_measured(evaluation)
    for repeat in {repeat.filter: repeat for repeat in result.repeats}.values() if result is not None else ():
        row, pair = evaluation.rows[EXCESS.id_of(f"flats.{repeat.filter}")], repeat.pair
        shift = pair.shift_px
        shift_um = repeat.shift_um(result.optics.pixel_um) if result is not None else None
        lines = [
            f"{repeat.pairs} pairs of flats; the worst: ratio scatters by {number(1000 * pair.ratio_rms, 2)} ‰ over "
            f"cells of {pair.cell_px} px, its noise makes {number(1000 * pair.shot_rms, 2)} ‰"
        ]
        if shift is not None:
            um = "" if shift_um is None else f" = {number(shift_um.value, 1)} µm"
            lines.append(
                f"{pair.moved} of {len(pair.shadows)} shadows moved, by "
                f"{plus_minus(shift.value, shift.standard, 2)} px{um}"
            )
        else:
            lines.append(pair.why)
        if repeat.turned is None:
            lines.append("no other filter was used between: whether the wheel turned is not told")
        moved = bool(pair.moved)
        verdict = repeat_verdict(repeat)
        yield Finding(
            "wheel.repeat",
            verdict,
            row.id,
            f"{repeat.filter}: the wheel stops {number(shift.value, 1)} px off where it did"
            if moved and shift is not None
            else f"{repeat.filter}: "
            + (
                "two flats agree within their noise"
                if row.verdict is Verdict.HOLDS
                else f"two flats differ by {number(row.best.value if row.best else 0.0, 1)} times their noise"
            ),
            tuple(lines),
            _repeat_remedy(evaluation, repeat, verdict),
            _RATIO_SOURCE,
            (row.id,),
        )


def _not_measured(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield each wheel that states which way it turns, and of which no flats show that it stops where it did."""
    for device in evaluation.rig.devices:
        if device.kind != "filter_wheel" or device.truth("one_way") is None or device.measured("stop_error_um"):
            continue
        way = "one way only" if device.truth("one_way") else "both ways"
        yield Finding(
            "wheel.repeat",
            Verdict.UNPROVEN,
            device.id,
            f"{device.title} turns {way}: whether it stops where it did is not verified",
            (),
            Remedy("Take flats of one filter, turn the wheel, take them again, and read both on the Filters sheet."),
            _RATIO_SOURCE,
        )


def _repeat_remedy(evaluation: Evaluation, repeat: Repeat, verdict: Verdict) -> Remedy:
    if verdict is Verdict.HOLDS:
        return NO_REMEDY
    if verdict is Verdict.UNPROVEN:
        return Remedy("take flats through this filter, then through another, then through this one again")
    place = next((k for k, device in enumerate(evaluation.rig.devices) if device.kind == "filter_wheel"), None)
    if place is not None and not evaluation.rig.devices[place].truth("one_way"):
        change = Change.of("Turn the wheel one way", ("devices", place, "settings", "one_way", "value"), True)
        return Remedy("let the wheel turn one way only, here and in the programs, then take both flats anew", change)
    return Remedy("clean the wheel’s rim and check its detent; until then take flats without turning it between")


@finding("wheel.dust", step=FILTERS_STEP, after="wheel.repeat")
def dust(evaluation: Evaluation) -> Iterator[Finding]:
    """Where does the dust lie?"""
    row, result = evaluation.rows.get(DEPTH.id_of("flats")), evaluation.evidence.of(FILTERS)
    if row is None or result is None:
        return
    by_surface: dict[str, list[str]] = {}
    for grain in result.dust:
        title = grain.surface.title if grain.surface is not None else "no documented surface"
        where = (
            ""
            if grain.distance_mm is None
            else (f", {plus_minus(grain.distance_mm.value, grain.distance_mm.standard, 1)} mm before the sensor")
        )
        by_surface.setdefault(title, []).append(
            f"{title}: at {number(grain.shadow.x, 0)}, {number(grain.shadow.y, 0)} px, "
            f"{number(grain.shadow.outer_px.value, 0)} px wide, {number(100 * grain.shadow.depth, 2)} % deep{where}, "
            f"through {', '.join(grain.filters)}"
        )
    lines = [line for entries in by_surface.values() for line in entries[:MAX_NAMED]]
    deep = [grain for grain in result.dust if 100 * grain.shadow.depth >= DEEP_PERCENT]
    names = list(dict.fromkeys(g.surface.title if g.surface else "an unknown surface" for g in deep))
    yield Finding(
        "wheel.dust",
        row.verdict,
        row.id,
        f"Dust darkens up to {number(row.best.value if row.best else 0.0, 1)} %: {', '.join(names)}"
        if deep
        else f"{len(result.dust)} shadows of dust, none deeper than {number(DEEP_PERCENT, 0)} %",
        tuple(lines),
        Remedy(f"clean {' and '.join(names)}, then take new flats") if deep else NO_REMEDY,
        _DUST_SOURCE,
        (row.id,),
    )


@finding("flats.level", step=FILTERS_STEP, after="camera.glow", at_quantity=True)
def levels(evaluation: Evaluation) -> Iterator[Finding]:
    """Are flats exposed to where the sensor's response is straight and noise is small?"""
    yield from bench_flats_level(evaluation)
    result = evaluation.evidence.of(FILTERS)
    for name in _filters(result):
        row = evaluation.rows[LEVEL.id_of(f"flats.{name}")]
        assert row.measured is not None
        value, good = row.measured.value, row.verdict is Verdict.HOLDS
        factor = 100 * sum(FLAT_RANGE_PERCENT) / 200 / value
        yield Finding(
            "flats.level",
            row.verdict,
            row.id,
            f"{name}: flats are at {number(value, 0)} % of the converter’s end",
            (
                f"wanted {number(FLAT_RANGE_PERCENT[0], 0)} to {number(FLAT_RANGE_PERCENT[1], 0)} %, "
                f"got {number(value, 1)} %",
            ),
            NO_REMEDY if good else Remedy(f"expose them {number(factor, 2)} times as long"),
            "Noise against the straight part of the response",
            (row.id,),
        )


@finding("flats.falloff", step=FILTERS_STEP, after="wheel.dust")
def corner(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the light fall off as the train's openings make it?"""
    result = evaluation.evidence.of(FILTERS)
    for name in _filters(result):
        row = evaluation.rows[CORNER.id_of(f"flats.{name}")]
        assert row.measured is not None
        value = row.measured.value
        if row.computed is None:
            verdict, title = Verdict.UNPROVEN, f"{name}: {number(value, 0)} % of the light reaches the corner"
            lines: tuple[str, ...] = ("the train documents no clear aperture to reckon by",)
            remedy = Remedy("state the clear apertures of the parts before the sensor")
        else:
            verdict = row.verdict
            made = number(row.computed.value, 0)
            title = f"{name}: {number(value, 0)} % of the light reaches the corner, the train makes {made} %"
            lines = (
                f"{number(value, 1)} − {number(row.computed.value, 1)} = {number(value - row.computed.value, 1)} %, "
                f"allowed ±{number(FALLOFF_TOLERANCE, 0)} %",
            )
            remedy = NO_REMEDY
            if verdict is not Verdict.HOLDS:
                remedy = Remedy(
                    "something narrower than documented cuts the light: check the clear apertures, adapters, a prism"
                    if value < row.computed.value
                    else "an opening is wider than documented, or stray light fills the corner: check both"
                )
        yield Finding(
            "flats.falloff", verdict, row.id, title, lines, remedy, "Overlap of the corner’s beam with every opening",
            (row.id,),
        )  # fmt: skip


@finding("flats.serve", step=FILTERS_STEP, after="flats.falloff")
def old_flats(evaluation: Evaluation) -> Iterator[Finding]:
    """Do the old flats still serve?"""
    result = evaluation.evidence.of(FILTERS)
    for entry in result.serves if result is not None else ():
        entries = entry.comparison
        lines = [
            f"{place.words}, at {number(place.x, 0)}, {number(place.y, 0)} px: {number(100 * place.share, 2)} % over "
            f"{number(place.across_px, 0)} px"
            for place in entries.places
        ]
        lines.append(f"corner against middle: changed by {number(100 * entries.corner, 2)} %")
        lines.append(f"slope across the frame: {number(100 * entries.plane, 2)} %, which a panel or the sky makes")
        good = entries.verdict is Verdict.HOLDS
        unproven = entries.verdict is Verdict.UNPROVEN
        where = (
            f": {entries.places[0].words}" if entries.places else ": the corners" if not good and not unproven else ""
        )
        yield Finding(
            "flats.serve",
            entries.verdict,
            f"{entry.filter}: {entry.old}",
            f"{entry.filter}: the flats of {entry.old} "
            + ("still serve" if good else "can’t be told to serve" if unproven else f"no longer serve{where}"),
            (*lines, *entry.changed, *((entries.why,) if entries.why else ())),
            NO_REMEDY if good else Remedy(f"take new flats through {entry.filter}, or use those of {entry.new}"),
            "Ratio of new to old flat, scaled, against the noise of its px",
        )


def _filters(result: FilterResult | None) -> list[str]:
    return list(dict.fromkeys(level.flats.filter for level in result.levels)) if result is not None else []
