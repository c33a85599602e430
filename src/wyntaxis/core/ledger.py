"""Quantities on three values, what is wanted of them, and the verdict.

A value is a value with a standard uncertainty (JCGM 100:2008). Two values agree when they differ by no more than the
tolerance or twice their combined uncertainty, whichever is larger; a value that does not exist proves nothing.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from wyntaxis.core.quantity_kinds import QUANTITY_KINDS, QuantityKind

COVERAGE_FACTOR = 2.0
"""Two standard uncertainties: about 95 % for a normal distribution (JCGM 100:2008, 6.3.3)."""

STATED_RELATIVE_TOLERANCE = 0.005
"""Half-width assumed for a stated value with no tolerance of its own: what rounding to two or three digits takes."""


class Verdict(StrEnum):
    """How a number stands."""

    HOLDS = "holds"
    TIGHT = "tight"
    FAILS = "fails"
    UNPROVEN = "unproven"

    @property
    def words(self) -> str:
        """The verdict as people read it."""
        return "not verified" if self is Verdict.UNPROVEN else str(self)

    @property
    def severity(self) -> int:
        """How grave it is, from 0 (holds) to 3 (fails)."""
        return _SEVERITY[self]


_SEVERITY = {Verdict.HOLDS: 0, Verdict.UNPROVEN: 1, Verdict.TIGHT: 2, Verdict.FAILS: 3}


def worst(verdicts: Iterable[Verdict]) -> Verdict:
    """Return the gravest of some verdicts; of none at all, unproven."""
    return max(verdicts, key=lambda verdict: verdict.severity, default=Verdict.UNPROVEN)


def rectangular(half_width: float | None) -> float:
    """Return the standard uncertainty of a "±a" with no more said: a/√3 (JCGM 100:2008, 4.3.7)."""
    return (half_width or 0.0) / math.sqrt(3)


def rss(uncertainties: Iterable[float]) -> float:
    """Return the root of the sum of squares of independent standard uncertainties."""
    return math.hypot(*uncertainties)


@dataclass(frozen=True)
class QuantityValue:
    """A value and its standard uncertainty, in the quantity's unit; ``tolerance`` is a stated half-width."""

    value: float
    uncertainty: float = 0.0
    tolerance: float = 0.0
    source: str = ""


@dataclass(frozen=True)
class Target:
    """What is wanted of a quantity: inside the limits, and comfortable inside the inner pair.

    ``low``/``high`` bound what passes, ``inner_low``/``inner_high`` what passes without a doubt.
    """

    low: float = -math.inf
    high: float = math.inf
    inner_low: float = -math.inf
    inner_high: float = math.inf

    def judge(self, quantity_value: QuantityValue) -> Verdict:
        """Return fails outside the limits, holds when ±2u lies within them and the value in the inner pair."""
        if not self.low <= quantity_value.value <= self.high:
            return Verdict.FAILS
        spread = COVERAGE_FACTOR * quantity_value.uncertainty
        sure = self.low <= quantity_value.value - spread and quantity_value.value + spread <= self.high
        comfortable = self.inner_low <= quantity_value.value <= self.inner_high
        return Verdict.HOLDS if sure and comfortable else Verdict.TIGHT


def allowed_width(one: QuantityValue, other: QuantityValue) -> float:
    """Return by how much two values may differ and still agree: ``max(tolerance, 2 sqrt(u_a² + u_b²))``."""
    return max(one.tolerance, other.tolerance, COVERAGE_FACTOR * math.hypot(one.uncertainty, other.uncertainty))


def compare(one: QuantityValue, other: QuantityValue) -> Verdict:
    """Return whether two values agree: ``|a - b| <= max(tolerance, 2 sqrt(u_a² + u_b²))``.

    Agreement that only the uncertainty lends, beyond a tolerance that was stated, is tight.
    """
    difference = abs(one.value - other.value)
    tolerance = max(one.tolerance, other.tolerance)
    # Decimal input such as 12.9 - 12.5 must not miss its tolerance by a binary rounding.
    slack = 1e-9 * max(abs(one.value), abs(other.value))
    if difference <= tolerance + slack:
        return Verdict.HOLDS
    if difference <= allowed_width(one, other) + slack:
        return Verdict.TIGHT if tolerance > 0 else Verdict.HOLDS
    return Verdict.FAILS


@dataclass(frozen=True)
class OutOfDate:
    """A measured value whose ground has changed: when it was measured, since when, and what is another now."""

    row_id: str
    path: tuple[str | int, ...]
    measured_on: str
    changed_on: str
    what: tuple[str, ...]

    def as_json(self) -> dict[str, object]:
        """Return it as ``wyntaxis proofs --json`` prints it."""
        return {
            "id": self.row_id,
            "measured_on": self.measured_on or None,
            "changed_on": self.changed_on or None,
            "what": list(self.what),
        }


@dataclass(frozen=True)
class ConflictingFigures:
    """A value for which makers give several figures: all of it in words, the lowest and the highest, and their unit."""

    words: str
    low: float
    high: float
    unit: str


@dataclass(frozen=True)
class Quantity:
    """One row of the ledger: a quantity, its values, and what is wanted of it."""

    kind: QuantityKind
    stated: QuantityValue | None = None
    computed: QuantityValue | None = None
    measured: QuantityValue | None = None
    target: Target | None = None
    verdict_override: Verdict | None = None
    """Set where the verdict rests on more than this one number, such as the reach of a guide focuser."""
    stated_is_limit: bool = False
    """Whether the stated value is the most that is allowed, which the target then says, and nothing to agree with."""
    assumed: tuple[str, ...] = ()
    """Paths of values that it rests on and nobody gave: until they are given, it is unproven."""
    conflicting: tuple[ConflictingFigures, ...] = ()
    """Values that it rests on and makers give otherwise."""
    out_of_date: OutOfDate | None = None
    """What its measured value depends on that has changed: unproven until it is measured or confirmed again."""

    @property
    def id(self) -> str:
        return self.kind.id

    @property
    def values(self) -> dict[str, QuantityValue]:
        """The values that exist, by name."""
        named = {"stated": self.stated, "computed": self.computed, "measured": self.measured}
        return {name: quantity_value for name, quantity_value in named.items() if quantity_value is not None}

    @property
    def best(self) -> QuantityValue | None:
        """The value to act on: measured before computed before stated."""
        return self.measured or self.computed or self.stated

    @property
    def agreement(self) -> Verdict:
        """How the values agree with each other; unproven while there is only one."""
        values = [
            quantity_value
            for name, quantity_value in self.values.items()
            if not (self.stated_is_limit and name == "stated")
        ]
        return worst(compare(a, b) for i, a in enumerate(values) for b in values[i + 1 :])

    @property
    def verdict(self) -> Verdict:
        """The gravest of what the values say of each other and what the target says of the best value."""
        if self.best is None or self.assumed or self.out_of_date is not None:
            return Verdict.UNPROVEN
        verdicts = [self.agreement] if len(self.values) > 1 + self.stated_is_limit else []
        if self.verdict_override is not None or self.target is not None:
            verdicts.append(self.target_verdict)
        return worst(verdicts)

    @property
    def target_verdict(self) -> Verdict:
        """What the target says of the best value, whether the values agree or not; unproven without one of them."""
        if self.assumed or self.out_of_date is not None:
            return Verdict.UNPROVEN
        if self.verdict_override is not None:
            return self.verdict_override
        best = self.best
        return self.target.judge(best) if self.target is not None and best is not None else Verdict.UNPROVEN

    def as_json(self) -> dict[str, object]:
        """Return the row as ``wyntaxis numbers --json`` prints it."""
        return {
            "id": self.id,
            "label": self.kind.label,
            "unit": self.kind.unit,
            **{name: getattr(quantity_value, "value", None) for name, quantity_value in self._all_values()},
            "uncertainty": self.computed.uncertainty if self.computed else None,
            "verdict": str(self.verdict),
            **({"assumed": list(self.assumed)} if self.assumed else {}),
            **({"disputed": [own.words for own in self.conflicting]} if self.conflicting else {}),
            **({"stale": self.out_of_date.as_json()} if self.out_of_date is not None else {}),
        }

    def _all_values(self) -> list[tuple[str, QuantityValue | None]]:
        return [("stated", self.stated), ("computed", self.computed), ("measured", self.measured)]


def stated_value(value: float, tolerance: float | None, source: str = "") -> QuantityValue:
    """Return the value of a stated value; a tolerance not given is what rounding would explain."""
    width = abs(value) * STATED_RELATIVE_TOLERANCE if tolerance is None else tolerance
    return QuantityValue(value, rectangular(tolerance), width, source)


def kind_of(quantity_id: str) -> QuantityKind:
    """Return what the catalogue knows of a quantity id; KeyError for one it does not know."""
    return QUANTITY_KINDS[quantity_id]
