"""How a kind of evidence is told: columns and facts, declared once for sheet, command, CSV, JSON and dossier."""

from __future__ import annotations

import csv
import datetime
import enum
import io
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.wording import number, plus_minus

R = TypeVar("R")
T = TypeVar("T")
NONE = "–"


@dataclass(frozen=True)
class Column(Generic[T]):
    """One value of each row: its heading and unit, the decimals shown, what gets it, and its key in JSON.

    A column without a label stands in JSON alone, one without a key in the table alone. ``decimals`` is None for texts,
    which are set flush left. ``factor`` is applied to what is shown (100 for a share shown in percent), ``bare`` leaves
    the uncertainty out there, and an ``optional`` key is left out of JSON where it has no value.
    """

    label: str
    unit: str
    decimals: int | None
    get: Callable[[T], Any]
    key: str = ""
    factor: float = 1.0
    bare: bool = False
    optional: bool = False

    @property
    def heading(self) -> str:
        """Label and unit in one line."""
        return f"{self.label} {self.unit}".rstrip()

    def cell(self, row: T) -> str:
        """Return the value of a row as it is shown, a dash for none."""
        return cell_text(self.get(row), self.decimals, self.factor, bare=self.bare)


def text(label: str, get: Callable[[T], Any], key: str = "") -> Column[T]:
    """Return a column of texts."""
    return Column(label, "", None, get, key)


def fact(key: str, get: Callable[[T], Any], *, optional: bool = False) -> Column[T]:
    """Return a value that stands in JSON alone."""
    return Column("", "", None, get, key, optional=optional)


def cell_text(value: Any, decimals: int | None, factor: float = 1.0, *, bare: bool = False) -> str:
    """Return a value as a table shows it: an estimate with its uncertainty, a moment to the minute, a dash for none."""
    if value is None:
        return NONE
    if isinstance(value, Estimate):
        if bare:
            return number(value.value * factor, decimals or 0)
        return plus_minus(value.value * factor, value.standard * factor, decimals or 0)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime.datetime):
        return value.strftime("%Y-%m-%d %H:%M")
    if isinstance(value, int | float):
        return number(value * factor, decimals or 0)
    return str(value)


def plain_value(value: Any, uncertainty: str = "u") -> Any:
    """Return a value as JSON holds it: an estimate as its value and standard uncertainty, a moment in ISO 8601.

    Parameters
    ----------
    value
        A number, text, moment, estimate, or a mapping or sequence of such.
    uncertainty : str
        The key of an estimate's standard uncertainty.

    Returns
    -------
    object
        Plain values only.
    """
    if isinstance(value, Estimate):
        return {"value": value.value, uncertainty: value.standard}
    if isinstance(value, datetime.datetime):
        return value.isoformat()
    if isinstance(value, enum.Enum):
        return value.value
    if isinstance(value, Mapping):
        return {key: plain_value(entry, uncertainty) for key, entry in value.items()}
    if isinstance(value, list | tuple):
        return [plain_value(entry, uncertainty) for entry in value]
    return value


@dataclass(frozen=True)
class Table(Generic[R, T]):
    """The rows of a result under their columns; ``key`` is its key in JSON, ``verdict`` judges a row."""

    key: str
    title: str
    rows: Callable[[R], Iterable[T]]
    columns: tuple[Column[T], ...]
    verdict: Callable[[T], Verdict | None] = lambda _row: None

    @property
    def shown(self) -> tuple[Column[T], ...]:
        """The columns that a reader sees."""
        return tuple(column for column in self.columns if column.label)

    @property
    def headings(self) -> list[str]:
        """A heading for each shown column, with its unit."""
        return [column.heading for column in self.shown]

    @property
    def texts(self) -> tuple[int, ...]:
        """The places of the shown columns that are set flush left."""
        return tuple(place for place, column in enumerate(self.shown) if column.decimals is None)

    def cells(self, result: R) -> list[list[str]]:
        """Return the rows of a result as texts, a cell for each shown column."""
        return [[column.cell(row) for column in self.shown] for row in self.rows(result)]

    def verdicts(self, result: R) -> list[Verdict | None]:
        """Return the verdict on each row, None where nothing is judged."""
        return [self.verdict(row) for row in self.rows(result)]

    def as_json(self, result: R, uncertainty: str = "u") -> list[JsonObject]:
        """Return the rows of a result as plain values by the columns' keys."""
        return [entry_json(self.columns, row, uncertainty) for row in self.rows(result)]

    def as_csv(self, result: R) -> str:
        """Return the rows of a result as CSV, as they are shown."""
        written = io.StringIO()
        writer = csv.writer(written, lineterminator="\n")
        writer.writerow(self.headings)
        writer.writerows(self.cells(result))
        return written.getvalue()


def entry_json(columns: Iterable[Column[T]], row: T, uncertainty: str = "u") -> JsonObject:
    """Return one row as plain values by the columns' keys."""
    found = {}
    for column in columns:
        value = column.get(row) if column.key else None
        if column.key and not (column.optional and not value):
            found[column.key] = plain_value(value, uncertainty)
    return found


@dataclass(frozen=True)
class Report(Generic[R]):
    """How the results of one kind are told.

    ``answer`` is the answer to the step's question in one sentence, empty where there is none yet; what it rests on
    stands in the tables. ``facts`` is what JSON holds besides the tables, ``lines`` the sentences below the tables, and
    ``more`` what a sheet shows in panels of its own and a terminal in further lines. ``uncertainty`` is the key of a
    standard uncertainty in JSON.
    """

    tables: tuple[Table[R, Any], ...]
    not_used: Callable[[R], Sequence[UnusedFile]]
    answer: Callable[[R], str] = lambda _result: ""
    facts: Callable[[R], Mapping[str, Any]] = lambda _result: {}
    lines: Callable[[R], Iterable[str]] = lambda _result: ()
    more: Callable[[R], Iterable[str]] = lambda _result: ()
    uncertainty: str = "u"

    def table(self, key: str) -> Table[R, Any]:
        """Return a table by its key."""
        return next(table for table in self.tables if table.key == key)

    def as_json(self, result: R) -> JsonObject:
        """Return a result as a command prints it: tables and facts as plain values, and what was not used."""
        tables = {table.key: table.as_json(result, self.uncertainty) for table in self.tables}
        facts: JsonObject = plain_value(self.facts(result), self.uncertainty)
        left = [{"file": left.path, "why": left.why} for left in self.not_used(result)]
        answer = self.answer(result)
        return ({"answer": answer} if answer else {}) | tables | facts | {"not_used": left}
