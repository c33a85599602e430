"""The matrix of quantities by records against the rig: what agrees, what differs and why, what is missing."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart, untracked
from wyntaxis.core.records.likely_causes import likely_cause_of_list, likely_cause_of_number, likely_cause_of_text
from wyntaxis.core.records.quantities import Comparable, Value, comparables, label_of
from wyntaxis.core.rig.devices import Record
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import number, short

State = Literal["agrees", "differs", "missing", "unknown"]
WORD_VERDICTS: dict[State, Verdict] = {
    "agrees": Verdict.HOLDS,
    "differs": Verdict.FAILS,
    "missing": Verdict.UNPROVEN,
    "unknown": Verdict.UNPROVEN,
}


@dataclass(frozen=True)
class Cell:
    """One record's word on one quantity. ``unknown``: the record has a value, but the rig states none."""

    record: str
    state: State
    value: Value | None
    text: str
    by: str = ""
    story: str = ""

    @property
    def verdict(self) -> Verdict:
        return WORD_VERDICTS[self.state]


@dataclass(frozen=True)
class Row:
    """One quantity across all records."""

    item: Comparable
    text: str
    cells: tuple[Cell, ...]

    @property
    def differing(self) -> tuple[Cell, ...]:
        return tuple(cell for cell in self.cells if cell.state == "differs")


@dataclass(frozen=True)
class Matrix:
    """Every quantity that at least one record speaks of; columns are the records in the rig's order."""

    records: tuple[Record, ...]
    rows: Sequence[Row]

    def as_json(self) -> dict[str, object]:
        """Return the matrix as ``wyntaxis records --json`` prints it."""
        return {
            "records": [
                {"id": record.id, "name": record.name, "side": record.side, "pair": record.pair}
                for record in self.records
            ],
            "quantities": [
                {
                    "id": row.item.id,
                    "label": row.item.label,
                    "unit": row.item.unit,
                    "rig": _plain(row.item.value),
                    "records": {
                        cell.record: {
                            "state": cell.state,
                            "value": _plain(cell.value),
                            "by": cell.by or None,
                            "story": cell.story or None,
                        }
                        for cell in row.cells
                    },
                }
                for row in self.rows
            ],
        }


def _plain(value: Value | None) -> object:
    return list(value) if isinstance(value, tuple) else value


def value_text(value: Value | None, item: Comparable) -> str:
    """Return a value as the matrix shows it, without its unit."""
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return ", ".join(name or "(blank)" for name in value)
    return short(value, max(item.decimals, 3)) if isinstance(value, float | int) else value


def matrix(numbers: Numbers) -> Matrix:
    """Compare every record that is for this train with what the rig says."""
    rows = numbers.evaluator.memoized_each("matrix", lambda: _rows(numbers))
    return Matrix(untracked(numbers.rig.own_records), rows)


def _rows(numbers: Numbers) -> Iterator[Row]:
    rig, known = numbers.rig, comparables(numbers)
    records = rig.own_records
    spoken = dict.fromkeys(key for record in records for key in record.values)
    order = [key for key in known if key in spoken] + [key for key in spoken if key not in known]
    for key in apart(order):
        item = known[key] if key in known else Comparable(key, label_of(key, known), "", "text", None)
        cells = tuple(compare_value(rig, item, record.id, record.values.get(key), known) for record in records)
        yield Row(item, value_text(item.value, item), cells)


def compare_value(
    rig: Rig, item: Comparable, record: str, value: Value | None, known: Mapping[str, Comparable] | None = None
) -> Cell:
    """Compare one record's value of a quantity with the rig's; ``known`` are the rig's other values by id."""
    if value is None:
        return Cell(record, "missing", None, "–")
    wanted, text = item.value, value_text(value, item)
    if wanted is None:
        return Cell(record, "unknown", value, text)
    match item.type:
        case "number":
            return _number(rig, item, record, value, known or {})
        case "list":
            names = value if isinstance(value, tuple) else (str(value),)
            assert isinstance(wanted, tuple)
            story = likely_cause_of_list(names, wanted)
            return Cell(record, "differs" if names != wanted else "agrees", names, text, "", story)
        case "truth":
            state: State = "agrees" if value is wanted else "differs"
            story = "the other way round" if isinstance(value, bool) and state == "differs" else ""
            return Cell(record, state, value, text, "", story)
    same = str(value).strip() == str(wanted).strip()
    return Cell(record, "agrees" if same else "differs", value, text, "", "" if same else _text_story(rig, item, text))


def _text_story(rig: Rig, item: Comparable, has: str) -> str:
    if item.id.endswith(".serial_number"):
        other = next((d for d in rig.devices if d.identity is not None and d.identity.serial_number == has), None)
        if other is not None:
            return f"that is {other.title}, the {other.kind.replace('_', ' ')}"
    if item.id.endswith(".driver_version"):
        return "another version than the documented one: an update may have overwritten it"
    return likely_cause_of_text(has, str(item.value))


def _number(rig: Rig, item: Comparable, record: str, value: Value, known: Mapping[str, Comparable]) -> Cell:
    text, wanted = value_text(value, item), item.value
    if (
        isinstance(value, (bool, str, tuple))
        or isinstance(wanted, (bool, str, tuple, type(None)))
        or not math.isfinite(value)
    ):
        return Cell(record, "differs", value, text, "", "is no number")
    difference = value - wanted
    if abs(difference) <= item.tolerance + 1e-9 * max(abs(value), abs(wanted)):
        return Cell(record, "agrees", value, text)
    sign = "+" if difference > 0 else ""
    by = f"{sign}{short(difference, max(item.decimals, 2))} {item.unit}".rstrip()
    if wanted > 0 and value > 0 and item.topic in ("focal_length", "pixel"):
        by += f", {number(value / wanted, 3)} times"
    return Cell(record, "differs", value, text, by, likely_cause_of_number(rig, item, value, wanted, known))


def differences(found: Matrix) -> Iterator[tuple[Row, Cell]]:
    """Yield every cell that differs, with its row."""
    for row in found.rows:
        for cell in row.differing:
            yield row, cell
