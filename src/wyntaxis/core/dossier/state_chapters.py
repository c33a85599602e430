"""Chapters on how the rig stands: numbers with their evidence, findings, curves, frames that serve, history."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.differences.invalidation import RULES
from wyntaxis.core.dossier.blocks import Block, Lines, Picture, Table, Words, table
from wyntaxis.core.dossier.charts import chart_svg
from wyntaxis.core.dossier.curves import charts_of
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Quantity
from wyntaxis.core.measuring.measuring import held_results
from wyntaxis.core.rig.dependencies import recorded_measurements
from wyntaxis.core.rig.plan import MeasuredValue
from wyntaxis.core.steps import steps
from wyntaxis.core.wording import moment, number, plus_minus

MOST_SAVES = 60


def _values(row: Quantity) -> str:
    """Return the values that a number has, in words, with the unit."""
    decimals = row.kind.decimals + 1
    reported = []
    for name, quantity_value in row.values.items():
        value = (
            plus_minus(quantity_value.value, quantity_value.uncertainty, decimals)
            if quantity_value.uncertainty
            else number(quantity_value.value, decimals)
        )
        reported.append(f"{name} {value}")
    return ", ".join(reported) + (f" {row.kind.unit}" if row.kind.unit else "")


def _origin(given: DossierInput, row: Quantity, measured: MeasuredValue | None) -> str:
    """Return where a number's values come from, what its evidence is, and how old that is."""
    reported = list(
        dict.fromkeys(quantity_value.source for quantity_value in row.values.values() if quantity_value.source)
    )
    measurement = measured.evidence if measured is not None else None
    if measurement is not None:
        words = " ".join(word for word in (measurement.method.replace("_", " "), measurement.file) if word)
        age = given.age_of(measurement.date)
        reported.append(
            f"measured by {words}" + (f", {age} old" if age and age != "today" else ", today" if age else "")
        )
    if row.out_of_date is not None:
        reported.append("out of date: what it depends on has changed since")
    # Who gives which figure is told once, in the chapter on the light path.
    reported += [f"{own.words.partition(' against ')[0]}; others give another figure" for own in row.conflicting]
    return "; ".join(reported)


def numbers(given: DossierInput) -> Iterator[Block]:
    """Yield every number with its values, how it stands, where it comes from, its evidence and how old that is."""
    evaluation = given.evaluation
    evidence = {quantity_value.row_id: quantity_value.value for quantity_value in recorded_measurements(evaluation.rig)}
    stated_alone = {f"{device.id}.{key}" for device in evaluation.rig.devices for key in device.settings}
    by_step: dict[str, list[Quantity]] = {}
    for row in evaluation.rows.values():
        # What a setting states alone stands in the chapter on settings.
        reported_there = row.id in stated_alone and set(row.values) == {"stated"} and not given.is_judged(row)
        if row.values and not reported_there and not (given.private and row.id.startswith("site")):
            by_step.setdefault(row.kind.step.key if row.kind.step is not None else "", []).append(row)
    for step in steps():
        reported = []
        for row in by_step.get(step.key, ()):
            stands = given.mark(row.verdict) if given.is_judged(row) else ""
            reported.append([row.kind.label, _values(row), stands, _origin(given, row, evidence.get(row.id))])
        if reported:
            yield table("number | values | verdict | from", reported, title=step.title, wide=1)


def _finding(given: DossierInput, finding: Finding) -> list[str]:
    lines = list(finding.arithmetic)
    if finding.remedy.text:
        lines.append(f"→ {finding.remedy.text}")
    if finding.source:
        lines.append(f"source: {finding.source}")
    return lines


def findings(given: DossierInput) -> Iterator[Block]:
    """Yield what is open, the gravest first, with its arithmetic; what is accepted, with its reason; and the rest."""
    found = given.evaluation.findings
    still = sorted((f for f in found if f.is_open), key=lambda f: -f.verdict.severity)
    for finding in still:
        yield Lines(tuple(_finding(given, finding)), f"{given.mark(finding.verdict)}: {finding.title}", "arithmetic")
    if not still:
        yield Words("Nothing is open.")
    accepted = [f for f in found if f.accepted]
    if accepted:
        rows = [[f.title, f.accepted, f.accepted_on[:10]] for f in accepted]
        yield table("accepted finding | why | since", rows, title="Accepted", wide=1)
    holds = [f.title for f in found if str(f.verdict) == "holds"]
    if holds:
        yield Lines(tuple(holds), f"{len(holds)} hold")


def conditions(given: DossierInput) -> Iterator[Block]:
    """Yield the conditions of the night."""
    found = [entry for entry in given.evaluation.conditions if entry.applies]
    rows = [[given.mark(entry.verdict), entry.condition.title, entry.why] for entry in found]
    yield table("stands | condition | why", rows, wide=2)


def curves(given: DossierInput) -> Iterator[Block]:
    """Yield what was measured, as plots."""
    drawn = False
    for chart in charts_of(given.evaluation):
        drawn = True
        yield Picture(chart_svg(chart), f"{chart.title}. {' '.join(_sentence(line) for line in chart.notes)}".strip())
    if not drawn:
        yield Words(
            "Nothing is measured yet that a curve shows: cooling logs (Cooling), flats and bias (Sensor), focus runs "
            "(Focuser) and sweeps of the field (Tilt & curvature) do."
        )


def measured(given: DossierInput) -> Iterator[Block]:
    """Yield the tables and sentences of what was measured from files in this session."""
    for measuring, result in held_results(given.evaluation.evidence):
        report = measuring.report
        for own in report.tables:
            cells = own.cells(result)
            if cells:
                numbers = frozenset(range(len(own.shown))) - frozenset(own.texts)
                yield Table(tuple(own.headings), tuple(map(tuple, cells)), own.title, numbers)
        lines = tuple(report.lines(result))
        if lines:
            yield Lines(lines)


def _sentence(line: str) -> str:
    return line if line.endswith(".") else f"{line}."


def frames_that_serve(given: DossierInput) -> Iterator[Block]:
    """Yield what calibration frames must have been taken with to serve now, and what the last look at them said."""
    rig = given.evaluation.rig
    rows = []
    for rule in RULES[:3]:
        if rule.applies(rig):
            facts = rule.facts(rig)
            text = "; ".join(f"{name} {_plain(value)}" for name, value in facts.items() if value is not None)
            rows.append([rule.title, text, rule.rule])
    yield table("frames | taken with | rule", rows, title="What serves must have been taken with this", wide=1)
    audit = given.evaluation.frames
    if audit is not None:
        lack = [f"no matching {own.kind}: {own.reason}" for own in audit.missing]
        yield Lines(tuple(lack) or ("every light frame looked at has its partners",), "Frames looked at")
    result = given.evaluation.evidence.of(FILTERS)
    if result is not None and result.serves:
        yield table(
            "filter | old | new | changed",
            [[own.filter, own.old, own.new, ", ".join(own.changed) or "nothing"] for own in result.serves],
            title="Old flats against new ones",
        )


def _plain(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def history(given: DossierInput) -> Iterator[Block]:
    """Yield the last saves: when, what, why."""
    entries = given.history.entries
    if not entries:
        yield Words("No save has a history yet: it begins with the next one.")
        return
    shown = entries[-MOST_SAVES:]
    if len(shown) < len(entries):
        yield Words(f"The last {len(shown)} of {len(entries)} saves.")
    yield table(
        "date, UTC | what | why", [[moment(e.date), e.words, e.reason] for e in reversed(shown)],
        wide=1,
    )  # fmt: skip
