"""What to type where: each value of a program's record in the unit and form that the program wants."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.foreign.units import convert, units_for
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.records.compare import Row, compare_value, value_text
from wyntaxis.core.records.quantities import Comparable, Value, comparables
from wyntaxis.core.records.role_pages import page_quantities, page_record
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.devices import Record, TypedForm
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.programs import Program
from wyntaxis.core.train.lightpath import magnifications
from wyntaxis.core.wording import counted, short, utc_stamp

Mark = Literal["agrees", "differs", "missing", "unknown"]
PIXELS = frozenset({"pixel_um", "guide_pixel_um"})
SCALES = frozenset({"pixel_scale_arcsec_px", "guide_scale_arcsec_px"})
FOCAL_LENGTHS = frozenset({"effective_focal_length_mm"})
DIGITS = 6


@dataclass(frozen=True)
class TypedLine:
    """One line of a program's page: what it is, what to type, what is there now, and how the two stand."""

    quantity: str
    label: str
    unit: str
    type_this: str
    there_now: str
    mark: Mark
    note: str
    value: Value | None = None
    holds: Value | None = None
    """What to type and what is there as they are, in the program's unit and form."""


@dataclass(frozen=True)
class TypingPage:
    """A program's page."""

    record: Record
    lines: tuple[TypedLine, ...]
    program: Program | None = None

    @property
    def id(self) -> str:
        """What it is called by in commands: the program's id, or the record's."""
        return self.program.id if self.program is not None else self.record.id

    @property
    def differing(self) -> int:
        """How many lines differ."""
        return sum(line.mark == "differs" for line in self.lines)


def typing_pages(evaluation: Evaluation) -> tuple[TypingPage, ...]:
    """Return a page for each program on record.

    Returns
    -------
    tuple of TypingPage
        Lines in the order of the matrix of records.
    """
    found = evaluation.matrix
    rig, known = evaluation.rig, comparables(evaluation)
    pages = []
    for program in rig.programs:
        record = page_record(program, rig)
        rows = _rows_of(evaluation, record, tuple(page_quantities(program, rig, known)))
        pages.append(TypingPage(record, tuple(_lines(evaluation, record, rows, drafted=True)), program))
    taken = {record.id for record in (page.record for page in pages)}
    loose = [record for record in found.records if record.id not in taken]
    pages += [TypingPage(record, tuple(_lines(evaluation, record, found.rows))) for record in loose]
    return tuple(pages)


def _rows_of(evaluation: Evaluation, record: Record, wanted: Sequence[str]) -> list[Row]:
    """Return a program's rows: what its role needs, and whatever else its record holds."""
    known = comparables(evaluation)
    keys = [key for key in known if key in wanted or key in record.values]
    rows = []
    for key in keys:
        item = known[key]
        cell = compare_value(evaluation.rig, item, record.id, record.values.get(key), known)
        rows.append(Row(item, value_text(item.value, item), (cell,)))
    return rows


def _lines(
    evaluation: Evaluation, record: Record, rows: Sequence[Row], *, drafted: bool = False
) -> Iterator[TypedLine]:
    """Yield the lines of a page; of a drafted one also what the program does not hold yet."""
    for row in rows:
        cell = next((cell for cell in row.cells if cell.record == record.id), None)
        form = record.forms.get(row.item.id, TypedForm())
        if cell is None or (cell.value is None and not drafted and row.item.id not in record.forms):
            continue
        unit = form.unit or row.item.unit
        if form.unit is not None and row.item.type == "number" and not has_way(row.item.unit, form.unit):
            entries = (
                f"a number in {row.item.unit or 'no unit'} cannot be given in {form.unit}: correct the form’s unit"
            )
            yield TypedLine(row.item.id, row.item.label, unit, "–", "–", "unknown", entries)
            continue
        wanted, note = in_form(evaluation, row.item, row.item.value, form)
        there, _ = in_form(evaluation, row.item, cell.value, TypedForm(unit=form.unit))
        entries = f"{note}; {cell.story}" if note and cell.story else note or cell.story
        state: Mark = cell.state
        if row.item.type == "number" and cell.state in ("agrees", "differs") and _has_form(form):
            # The record holds the number as the program has it, in our unit: judged in the program's own form.
            state = "agrees" if _same(row.item, wanted, there) else "differs"
            entries = note if state == "agrees" else entries
        yield TypedLine(
            row.item.id,
            row.item.label,
            unit,
            _text(row.item, wanted, form),
            _text(row.item, there, form),
            state,
            entries,
            wanted,
            there,
        )


def _has_form(form: TypedForm) -> bool:
    return form.binned is not None or form.reducer is not None


def in_form(evaluation: Evaluation, item: Comparable, value: Value | None, form: TypedForm) -> tuple[Value | None, str]:
    """Return a value as a program wants it, and what was done to it in words.

    Parameters
    ----------
    evaluation, item
        The rig, and what the value is of.
    value
        In our unit.
    form
        The program's.

    Returns
    -------
    tuple
        The value in the program's unit and form; ``note`` is empty where it is typed as the rig has it.
    """
    if isinstance(value, bool) or not isinstance(value, int | float):
        return value, ""
    number, notes = float(value), []
    sensor = evaluation.rig.guiding.camera.sensor if _of_guide(item) and evaluation.rig.guiding.camera else None
    sensor = sensor if _of_guide(item) else evaluation.rig.sensor
    binning = sensor.binning if sensor is not None else 1
    if form.binned is True and item.id in PIXELS:
        number *= binning
        notes.append(f"the binned pixel, × {binning}")
    elif form.binned is False and item.id in SCALES:
        number /= binning
        notes.append(f"of the unbinned pixel, ÷ {binning}")
    elif form.binned is not None and item.id in PIXELS | SCALES:
        notes.append("of the unbinned pixel" if item.id in PIXELS else "of the binned pixel")
    factor = math.prod(magnifications(evaluation.rig.train))
    if form.reducer == "out" and item.id in FOCAL_LENGTHS:
        number /= factor
        notes.append(f"of the bare telescope, ÷ {short(factor, 4)}")
    elif form.reducer == "out" and item.id == "pixel_scale_arcsec_px":
        number *= factor
        notes.append(f"of the bare telescope, × {short(factor, 4)}")
    elif form.reducer == "in" and item.id in FOCAL_LENGTHS | {"pixel_scale_arcsec_px"}:
        notes.append("with reducer or extender")
    if form.unit is not None and form.unit != item.unit:
        number = to_unit(number, item.unit, form.unit)
        notes.append(f"in {form.unit}")
    return number, ", ".join(notes)


def _of_guide(item: Comparable) -> bool:
    return item.id.startswith("guide")


def has_way(unit: str, wanted: str) -> bool:
    """Return whether a number of ours can be told in a program's unit."""
    return wanted == unit or wanted in units_for(unit)


def to_unit(value: float, unit: str, wanted: str) -> float:
    """Return a number of ours in a program's unit; ValueError where there is no way from one to the other.

    ``convert`` leads from theirs to ours by ``(x − zero) · factor``: this is its inverse.
    """
    zero, one = convert(0.0, wanted, unit), convert(1.0, wanted, unit)
    return (value - zero) / (one - zero)


def _same(item: Comparable, wanted: Value | None, there: Value | None) -> bool:
    if not isinstance(wanted, int | float) or not isinstance(there, int | float):
        return wanted == there
    ours = float(item.value) if isinstance(item.value, int | float) and item.value else 1.0
    relative = item.tolerance / abs(ours)
    return abs(float(wanted) - float(there)) <= max(relative, 1e-9) * max(abs(float(wanted)), abs(float(there)))


def _text(item: Comparable, value: Value | None, form: TypedForm) -> str:
    """Return a value as it is typed."""
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        first = 1 if form.first_slot is None else form.first_slot
        numbered = [(place, name) for place, name in enumerate(value, start=first)]
        kept = numbered if form.empty_slots is not False else [(p, name) for p, name in numbered if name.strip()]
        return ", ".join(f"{place}: {name or '(blank)'}" for place, name in kept)
    if isinstance(value, int | float):
        return short(float(value), _decimals(float(value), item))
    return value


def _decimals(value: float, item: Comparable) -> int:
    """Return as many decimals as show a number to six digits, no fewer than its own."""
    if value == 0:
        return item.decimals
    return max(item.decimals, min(12, DIGITS - 1 - math.floor(math.log10(abs(value)))))


def typed_change(evaluation: Evaluation, page: TypingPage, quantities: Sequence[str]) -> Change:
    """Return the edit that says that values were typed into a program today, as its page says them.

    Parameters
    ----------
    evaluation, page
        The rig, and the program's page.
    quantities
        Ids of the page's lines; what the rig does not say is left out.

    Returns
    -------
    Change
        One edit; it adds the program's record where the rig has none.
    """
    rig, known, record = evaluation.rig, comparables(evaluation), page.record
    place = next((place for place, own in enumerate(rig.records) if own.id == record.id), None)
    today = utc_stamp()[:10]
    entries: list[tuple[DocumentPath, JsonValue]] = []
    if place is None:
        place = len(rig.records)
        entries.append((("records", place), record.model_dump(mode="json", exclude_unset=True)))
    count = 0
    for key in quantities:
        item = known.get(key)
        if item is None or item.value is None:
            continue
        form = record.forms.get(key, TypedForm()).model_copy(update={"unit": None})
        value, _ = in_form(evaluation, item, item.value, form)
        entries.append((("records", place, "values", key), list(value) if isinstance(value, tuple) else value))
        entries.append((("records", place, "typed", key), today))
        count += 1
    return Change(f"Typed into {record.name}: {counted(count, 'value')}", tuple(entries))
