"""Numbers of which each of several things has one: each focuser's travel, each supply's current, each hub's load.

A module of this package declares a function with :func:`rows`; what it yields stands in the ledger beside the rig's
own quantities, named ``thing.number``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import wraps
from itertools import chain
from typing import TypeVar

from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict
from wyntaxis.core.quantities.devices import device_quantity
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import QuantityKind
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import Step
from wyntaxis.core.wording import listed

RowFunction = Callable[[Numbers], Iterable[Quantity]]
TargetFunction = Callable[[Numbers, Device], Target | None]
R = TypeVar("R", bound=RowFunction)
T = TypeVar("T", bound=TargetFunction)
W = TypeVar("W")

ROW_FUNCTIONS: list[RowFunction] = []
_targets: dict[str, TargetFunction] = {}
ROW_NUMBERS: dict[str, DeviceQuantity] = {}


@dataclass(frozen=True)
class DeviceQuantity:
    """A number that each of several things has: its key, label, unit, decimals, and the step that shows it."""

    key: str
    label: str
    unit: str
    decimals: int
    step: Step
    has_sign: bool = False
    """Whether it is shown with its sign, as an error is."""

    def __post_init__(self) -> None:
        ROW_NUMBERS[self.key] = self

    def id_of(self, thing_id: str) -> str:
        """Return the id of one thing's row."""
        return f"{thing_id}.{self.key}"

    def row(
        self,
        thing_id: str,
        thing: str,
        *,
        stated: QuantityValue | None = None,
        computed: QuantityValue | None = None,
        measured: QuantityValue | None = None,
        target: Target | None = None,
        verdict: Verdict | None = None,
    ) -> Quantity:
        """Return one thing's row; ``verdict`` where it rests on more than the number and its target."""
        within = self.label[:1].lower() if self.label[1:2].islower() else self.label[:1]
        label = f"{thing}: {within}{self.label[1:]}"
        kind = QuantityKind(
            self.id_of(thing_id), label, self.unit, self.decimals, True, self.step, has_sign=self.has_sign
        )
        return Quantity(kind, stated, computed, measured, target, verdict)


def declared_numbers() -> tuple[DeviceQuantity, ...]:
    """Return every number that each of several things has, of the modules imported so far."""
    return tuple(ROW_NUMBERS.values())


def rows(function: R) -> R:
    """Declare a function as one that yields rows of a rig's things.

    Parameters
    ----------
    function
        What yields the rows.

    Returns
    -------
    R
        The same function.
    """
    ROW_FUNCTIONS.append(function)
    return function


def memoized(function: Callable[[Numbers], W]) -> Callable[[Numbers], W]:
    """Let a rig's work of some kind be done once, for the rows and for the findings that word them.

    Parameters
    ----------
    function
        What works it out of a rig's numbers.

    Returns
    -------
    callable
        The same, kept beside the evaluator of the rig.
    """
    name = f"{function.__module__}.{function.__name__}"

    @wraps(function)
    def known(numbers: Numbers) -> W:
        return numbers.evaluator.memoized(name, lambda: function(numbers))

    return known


def memoized_each(function: Callable[[Numbers], Iterator[W]]) -> Callable[[Numbers], Sequence[W]]:
    """Let a generator's work be done once; see :func:`once`. Each result depends on what was read for it alone.

    Parameters
    ----------
    function
        What yields it of a rig's numbers.

    Returns
    -------
    callable
        What was yielded, in its order.
    """

    name = f"{function.__module__}.{function.__name__}"

    @wraps(function)
    def collected(numbers: Numbers) -> Sequence[W]:
        return numbers.evaluator.memoized_each(name, lambda: function(numbers))

    return collected


def setting_target(*keys: str) -> Callable[[T], T]:
    """Declare the function that says what is wanted of settings of a device, by their keys.

    Returns
    -------
    Callable[[T], T]
        A decorator.

    Raises
    ------
    ValueError
        When that has been declared already.

    Parameters
    ----------
    keys
        Keys of settings.
    """

    def declare(function: T) -> T:
        for key in keys:
            if key in _targets:
                raise ValueError(f"what is wanted of {key} is declared twice")
            _targets[key] = function
        return function

    return declare


def rows_of(numbers: Numbers) -> dict[str, Quantity]:
    """Return every row of a rig, by id: its own quantities, its devices' settings, and the numbers of its things.

    Parameters
    ----------
    numbers
        The numbers of the rig; which document paths each row rests on is noted in their values.

    Returns
    -------
    dict of str to Quantity
        In the order in which they are told.
    """
    watched = numbers.tracked()
    found = dict(numbers.quantities)
    for function in (_settings, *ROW_FUNCTIONS):
        name = f"rows {function.__module__}.{function.__name__}"
        entries = numbers.evaluator.memoized_rows(name, lambda work=function: work(watched))  # type: ignore[misc]
        found |= {row.id: row for row in entries}
    return found


def _settings(numbers: Numbers) -> Iterator[Quantity]:
    for device in numbers.rig.devices:
        for key in SETTINGS:
            has = key in device.settings or (key == "step_um" and device.geared_step_um is not None)
            row = device_quantity(device, key) if has else None
            if row is not None:
                wish = _targets.get(key)
                yield replace(row, target=wish(numbers, device)) if wish is not None else row


def step_rows(found: dict[str, Quantity], step: Step) -> list[Quantity]:
    """Return the rows that a step's ledger shows: its quantities, and of its things' numbers those that are judged.

    Parameters
    ----------
    found
        Every row by id.
    step
        A step.

    Returns
    -------
    list[Quantity]
        In the order of the ledger.
    """
    own = sorted((row for row in found.values() if row.kind.step is step), key=lambda row: row.kind.place)
    fixed = [row for row in own if "." not in row.id]
    return list(chain(fixed, (row for row in own if "." in row.id and is_judged(row))))


THROUGH = "Through "
"""How the label of a filter's number begins."""


def told_once(found: Iterable[Quantity]) -> list[Quantity]:
    """Return rows with those together that say the same of several filters.

    Parameters
    ----------
    found
        Rows, in the order of the ledger.

    Returns
    -------
    list[Quantity]
        The same; of filters' rows that differ in nothing but the filter, one that names them all, with the first's id.
    """
    groups: list[list[Quantity]] = []
    for row in found:
        if groups and _says_the_same(groups[-1][0], row):
            groups[-1].append(row)
        else:
            groups.append([row])
    return [_named_together(group) for group in groups]


def _says_the_same(one: Quantity, other: Quantity) -> bool:
    """Return whether two rows are of two filters, and alike in all else that is told of them."""
    labels = one.kind.label.partition(": "), other.kind.label.partition(": ")
    if labels[0][2] != labels[1][2] or not all(label[0].startswith(THROUGH) and label[2] for label in labels):
        return False
    return bool(one.assumed) == bool(other.assumed) and one == replace(other, kind=one.kind, assumed=one.assumed)


def _named_together(group: Sequence[Quantity]) -> Quantity:
    if len(group) == 1:
        return group[0]
    names = listed([row.kind.label.partition(": ")[0].removeprefix(THROUGH) for row in group])
    what = group[0].kind.label.partition(": ")[2]
    label = f"{what[:1].upper()}{what[1:]}, {THROUGH.lower()}{names}"
    paths = tuple(dict.fromkeys(path for row in group for path in row.assumed))
    return replace(group[0], kind=replace(group[0].kind, label=label), assumed=paths)


def is_judged(row: Quantity) -> bool:
    """Return whether something is said of a row beyond its value: another value, a target, or a verdict.

    Parameters
    ----------
    row
        A row of the ledger.

    Returns
    -------
    bool
        Whether it is.
    """
    if not row.values:
        return False
    return bool(row.target is not None or row.verdict_override is not None or len(row.values) > 1 or row.assumed)
