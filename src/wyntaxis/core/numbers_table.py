"""All numbers of a rig as one table: by step in the order of the work, as text and as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from wyntaxis.core.ledger import Quantity
from wyntaxis.core.quantities.rows import is_judged, told_once
from wyntaxis.core.steps import DEVICES, Step, steps
from wyntaxis.core.wording import number

HEADINGS = ("", "stated", "computed", "±u", "measured", "unit", "verdict")
NONE = "–"


@dataclass(frozen=True)
class NumberRow:
    """A number, and the step that shows it."""

    step: Step
    quantity: Quantity

    @property
    def verdict(self) -> str:
        """Its verdict as people read it; a dash for a number that claims nothing."""
        return self.quantity.verdict.words if is_judged(self.quantity) else NONE

    @property
    def cells(self) -> list[str]:
        """What stands under the headings, each with one digit more than is shown beside the others."""
        row = self.quantity
        decimals = row.kind.decimals + 1
        values = [number(one.value, decimals) if one else NONE for one in (row.stated, row.computed, row.measured)]
        spread = number(row.computed.uncertainty, decimals) if row.computed and row.computed.uncertainty else NONE
        return [row.kind.label, values[0], values[1], spread, values[2], row.kind.unit, self.verdict]

    @property
    def sort_keys(self) -> tuple[str | float, ...]:
        """What the columns are sorted by; what has no value comes last."""
        row = self.quantity
        values = [one.value if one else float("inf") for one in (row.stated, row.computed, row.measured)]
        spread = row.computed.uncertainty if row.computed and row.computed.uncertainty else float("inf")
        severity = -float(row.verdict.severity) if is_judged(row) else 1.0
        return (row.kind.label.casefold(), values[0], values[1], spread, values[2], row.kind.unit, severity)


def number_rows(found: Mapping[str, Quantity]) -> list[NumberRow]:
    """Return all numbers that have a value, step by step; what says the same of several filters stands once.

    Parameters
    ----------
    found
        Every row of a rig by id.

    Returns
    -------
    list[NumberRow]
        In the order of the steps.
    """
    return [
        NumberRow(step, row)
        for step in steps()
        for row in told_once(row for row in found.values() if (row.kind.step or DEVICES) is step and row.values)
    ]


def numbers_csv(rows: Iterable[NumberRow]) -> str:
    """Return rows as CSV: values in full, empty where there is none.

    Parameters
    ----------
    rows
        In the order in which they are to stand.

    Returns
    -------
    str
        Under a line of headings; numbers with a point, whatever the language.
    """
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(("step", "id", "label", "stated", "computed", "uncertainty", "measured", "unit", "verdict"))
    for row in rows:
        own = row.quantity
        values = [one.value if one else "" for one in (own.stated, own.computed, own.measured)]
        spread = own.computed.uncertainty if own.computed else ""
        verdict = str(own.verdict) if is_judged(own) else ""
        writer.writerow(
            (row.step.key, own.id, own.kind.label, values[0], values[1], spread, values[2], own.kind.unit, verdict)
        )
    return text.getvalue()
