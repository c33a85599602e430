"""What flats prove: the wheel's repeatability, dust, levels, falloff, and whether old flats are still valid."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.evidence.filters.repeatability import repeat_verdict
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.findings.sensor import BENCH_FLATS, bench_flats_level
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.limits import FLAT_RANGE_PERCENT
from wyntaxis.core.quantities.flats import (
    CORNER,
    DEEP_PERCENT,
    DEPTH,
    EXCESS,
    FALLOFF_TOLERANCE,
    LEVEL,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import FILTERS as FILTERS_STEP
from wyntaxis.core.wording import counted, number, plus_minus

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.result import FilterResult, Repeat

MAX_NAMED = 4


@finding(
    "wheel.repeat",
    step=FILTERS_STEP,
    listed=Listed(after="focuser.saturated"),
    source="Ratio of two flats of one filter, high-passed, against the noise of its px; shadows registered",
    titles={
        "moved": "{filter}: the wheel stops {shift:1} px from where it stopped before",
        "holds": "{filter}: two flats agree within their noise",
        "unseen": "{filter}: no shadow shows whether the wheel stops where it did",
        "": "{filter}: two flats differ by {excess:1} times their noise",
        "not measured": "{wheel} turns {way}: whether it stops at the same place is not verified",
    },
    remedies={
        "not measured": "Take flats of one filter, turn the wheel, take them again, and read both on the Filters "
        "sheet.",
        "unproven": "Take flats through this filter, then through another, then through this one again.",
        "unseen": "Only dust on the filters shows it: read flats in which such a shadow is deep enough, with the wheel "
        "turned between them.",
        "one way": "Let the wheel turn one way only, here and in the programs, then take both flats again.",
        "clean": "Clean the wheel’s rim and check its detent; until then take flats without turning it in between.",
    },
)
def repeatability(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the wheel stop at the same place?"""
    result = evaluation.evidence.of(FILTERS)
    if result is None or not result.repeats:
        yield from _not_measured(evaluation)
    for repeat in {repeat.filter: repeat for repeat in result.repeats}.values() if result is not None else ():
        row, shift = evaluation.rows[EXCESS.id_of(f"flats.{repeat.filter}")], repeat.pair.shift_px
        shift_um = repeat.shift_um(result.optics.pixel_um) if result is not None else None
        verdict = repeat_verdict(repeat)
        moved = bool(repeat.pair.moved) and shift is not None
        named: dict[str, Named] = {"filter": repeat.filter, "excess": row.best.value if row.best else 0.0}
        if shift is not None:
            named["shift"] = shift.value
        case = "moved" if moved else "holds" if row.verdict is Verdict.HOLDS else "differ"
        cure, change = _repeat_remedy(evaluation, verdict)
        if verdict is Verdict.UNPROVEN and repeat.unseen:
            case = cure = "unseen"
        lines = _repeat_lines(repeat, shift_um.value if shift_um is not None else None)
        yield say(row.id, row, verdict, named, case=case, cure=cure, lines=lines).with_edit(change)


def _repeat_lines(repeat: Repeat, shift_um: float | None) -> Iterator[str]:
    pair, shift = repeat.pair, repeat.pair.shift_px
    yield (
        f"{counted(repeat.pairs, 'pair')} of flats; the worst: ratio scatters by {number(1000 * pair.ratio_rms, 2)} ‰ "
        f"over cells of {pair.cell_px} px, its noise makes {number(1000 * pair.shot_rms, 2)} ‰"
    )
    if repeat.unseen:
        yield repeat.unseen
    if shift is not None:
        um = "" if shift_um is None else f" = {number(shift_um, 1)} µm"
        moved = plus_minus(shift.value, shift.standard, 2)
        yield f"{pair.moved} of {counted(len(pair.shadows), 'shadow')} moved, by {moved} px{um}"
    if repeat.turned is None:
        yield "no other filter was used in between: whether the wheel turned is not known"


def _not_measured(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield each wheel that states which way it turns while no flats show that it stops at the same place."""
    for device in evaluation.rig.devices:
        if device.kind != "filter_wheel" or device.truth("one_way") is None or device.measured("stop_error_um"):
            continue
        way = "one way only" if device.truth("one_way") else "both ways"
        yield say(device.id, None, Verdict.UNPROVEN, {"wheel": device.title, "way": way}, case="not measured")


def _repeat_remedy(evaluation: Evaluation, verdict: Verdict) -> tuple[str, Change | None]:
    if verdict in (Verdict.HOLDS, Verdict.UNPROVEN):
        return str(verdict), None
    place = next((k for k, device in enumerate(evaluation.rig.devices) if device.kind == "filter_wheel"), None)
    if place is None or evaluation.rig.devices[place].truth("one_way"):
        return "clean", None
    path = ("devices", place, "settings", "one_way", "value")
    return "one way", Change.of("Turn the wheel one way", path, True)


@finding(
    "wheel.dust",
    step=FILTERS_STEP,
    listed=Listed(after="wheel.repeat"),
    source="A shadow w px wide lies x = w p N before the sensor",
    titles={
        "deep": "Dust darkens up to {depth:1} %: {surfaces}",
        "faint": "{count} shadows of dust, none deeper than {limit:0} %",
    },
    remedies={"deep": "Clean {places}, then take new flats.", "faint": ""},
)
def dust(evaluation: Evaluation) -> Iterator[Statement]:
    """Where is the dust?"""
    row, result = evaluation.rows.get(DEPTH.id_of("flats")), evaluation.evidence.of(FILTERS)
    if row is None or result is None:
        return
    deep = [grain for grain in result.dust if 100 * grain.shadow.depth >= DEEP_PERCENT]
    names = list(dict.fromkeys(g.surface.title if g.surface else "an unknown surface" for g in deep))
    named: dict[str, Named] = {
        "depth": row.best.value if row.best else 0.0,
        "surfaces": ", ".join(names),
        "places": " and ".join(names),
        "count": len(result.dust),
        "limit": DEEP_PERCENT,
    }
    yield say(row.id, row, None, named, case="deep" if deep else "faint", lines=_dust_lines(result))


def _dust_lines(result: FilterResult) -> list[str]:
    by_surface: dict[str, list[str]] = {}
    for grain in result.dust:
        title = grain.surface.title if grain.surface is not None else "no documented surface"
        where = ""
        if grain.distance_mm is not None:
            where = f", {plus_minus(grain.distance_mm.value, grain.distance_mm.standard, 1)} mm before the sensor"
        by_surface.setdefault(title, []).append(
            f"{title}: at {number(grain.shadow.x, 0)}, {number(grain.shadow.y, 0)} px, "
            f"{number(grain.shadow.outer_px.value, 0)} px wide, {number(100 * grain.shadow.depth, 2)} % deep{where}, "
            f"through {', '.join(grain.filters)}"
        )
    return [line for lines in by_surface.values() for line in lines[:MAX_NAMED]]


@finding(
    "flats.level",
    step=FILTERS_STEP,
    listed=Listed(after="camera.glow", at_quantity=True),
    source="Noise against the linear part of the response: flats at 30 to 60 % of saturation",
    titles={
        "": "{filter}: flats are at {level:0} % of saturation (wanted {low:0} to {high:0} %)",
        "bench": BENCH_FLATS[0],
    },
    remedies={"": "Expose them {factor:2} times as long.", "bench": BENCH_FLATS[1]},
)
def levels(evaluation: Evaluation) -> Iterator[Statement]:
    """Are flats exposed to where the sensor is linear and noise is small?"""
    yield from bench_flats_level(evaluation)
    low, high = FLAT_RANGE_PERCENT
    for name in _filters(evaluation.evidence.of(FILTERS)):
        row = evaluation.rows[LEVEL.id_of(f"flats.{name}")]
        assert row.measured is not None
        value = row.measured.value
        line = f"wanted {number(low, 0)} to {number(high, 0)} %, got {number(value, 1)} %"
        factor = (low + high) / 2 / value
        named: dict[str, Named] = {"filter": name, "level": value, "low": low, "high": high, "factor": factor}
        yield say(row.id, row, None, named, lines=(line,))


@finding(
    "flats.falloff",
    step=FILTERS_STEP,
    listed=Listed(after="wheel.dust"),
    source="Overlap of the corner’s beam with every opening",
    titles={
        "": "{filter}: {light:0} % of the light reaches the corner; {computed:0} % is computed from the train",
        "no opening": "{filter}: {light:0} % of the light reaches the corner",
    },
    remedies={
        "no opening": "Enter the clear apertures of the parts before the sensor.",
        "narrow": "Something narrower than documented cuts the light: check the clear apertures, adapters, a prism.",
        "wide": "An opening is wider than documented, or stray light fills the corner: check both.",
    },
)
def corner(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the light fall off as the train's openings make it?"""
    for name in _filters(evaluation.evidence.of(FILTERS)):
        row = evaluation.rows[CORNER.id_of(f"flats.{name}")]
        assert row.measured is not None
        value = row.measured.value
        if row.computed is None:
            line = "no clear aperture of the train is documented, so nothing can be computed"
            named: dict[str, Named] = {"filter": name, "light": value}
            yield say(row.id, row, Verdict.UNPROVEN, named, case="no opening", lines=(line,))
            continue
        computed, verdict = row.computed.value, row.verdict
        line = (
            f"{number(value, 1)} − {number(computed, 1)} = {number(value - computed, 1)} %, "
            f"allowed ±{number(FALLOFF_TOLERANCE, 0)} %"
        )
        cure = str(verdict) if verdict is Verdict.HOLDS else "narrow" if value < computed else "wide"
        yield say(row.id, row, None, {"filter": name, "light": value, "computed": computed}, cure=cure, lines=(line,))


@finding(
    "flats.serve",
    step=FILTERS_STEP,
    listed=Listed(after="flats.falloff"),
    source="Ratio of new to old flat, scaled, against the noise of its px",
    titles={
        "holds": "{filter}: the flats of {old} are still valid",
        "unproven": "{filter}: whether the flats of {old} are still valid is not verified",
        "": "{filter}: the flats of {old} are no longer valid: the light has changed ({where})",
    },
    remedies="Take new flats through {filter}, or use those of {new}.",
)
def old_flats(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the old flats still valid?"""
    result = evaluation.evidence.of(FILTERS)
    for entry in result.serves if result is not None else ():
        compared = entry.comparison
        lines = [
            f"{place.words}, at {number(place.x, 0)}, {number(place.y, 0)} px: {number(100 * place.share, 2)} % over "
            f"{number(place.across_px, 0)} px"
            for place in compared.places
        ]
        lines.append(f"corner against middle: changed by {number(100 * compared.corner, 2)} %")
        lines.append(f"slope across the frame: {number(100 * compared.plane, 2)} %, which a panel or the sky makes")
        lines += [*entry.changed, *((compared.why,) if compared.why else ())]
        where = compared.places[0].words if compared.places else "corners"
        named = {"filter": entry.filter, "old": entry.old, "new": entry.new, "where": where}
        yield say(f"{entry.filter}: {entry.old}", None, compared.verdict, named, lines=lines)


def _filters(result: FilterResult | None) -> list[str]:
    return list(dict.fromkeys(level.flats.filter for level in result.levels)) if result is not None else []
