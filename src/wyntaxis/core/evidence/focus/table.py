"""Focus runs from a table of any columns: positions and star sizes, and what else stands beside them."""

from __future__ import annotations

import csv
import datetime
import math
from collections.abc import Sequence
from pathlib import Path

from wyntaxis.core.evidence.focus.points import FocusPoint, FocusRun
from wyntaxis.core.evidence.focus.runs import runs_of
from wyntaxis.core.evidence.foreign.columns import (
    Place,
    TableColumn,
    check_found,
    clock_seconds,
    find_columns,
    moment_seconds,
    read_table,
    with_units_row,
)
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.foreign.units import convert, parse_foreign_number
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames
from wyntaxis.core.files.errors import InputError

MAX_ROWS = 20_000
MAX_NOT_USED = 20
"""So many rows that hold no number are told one by one."""
MAX_HFD_PX, MAX_POSITION = 5000.0, 1e9
COLUMNS = {
    "focus.time": TableColumn("Time", "s", ("time", "date")),
    "focus.file": TableColumn("Frame", "", ("file", "frame", "image")),
    "focus.position": TableColumn("Position", "steps", ("position", "counter", "focus", "step", "pos")),
    "focus.hfd": TableColumn("Half-flux diameter", "px", ("hfd", "hfr", "half", "fwhm", "size")),
    "focus.temperature": TableColumn("Temperature", "°C", ("temp",)),
    "focus.filter": TableColumn("Filter", "", ("filter",)),
    "focus.run": TableColumn("Run", "", ("run", "series", "curve")),
    "focus.stars": TableColumn("Stars", "", ("stars", "star count")),
    "focus.saturated": TableColumn("Saturated stars", "", ("saturated",)),
}
"""What a table of focus runs may hold."""
RADIUS_WORDS = ("hfr", "radius")
START = datetime.datetime(1900, 1, 1, tzinfo=datetime.UTC)
"""What moments count from that are told without a date."""


def read_focus_table(
    path: Path, rules: Sequence[KeyRule] = (), names: FilterNames = DEFAULT_FILTER_NAMES
) -> tuple[list[FocusRun], list[UnusedFile]]:
    """Return the runs of a table, and which rows were not used.

    Parameters
    ----------
    path
        A text file whose first row holds headings.
    rules
        Which heading holds what, where headings do not tell.

    Returns
    -------
    tuple
        Runs, and rows left out with the reason.

    Raises
    ------
    InputError
        In one line, for what is no such table.
    """
    try:
        rows = read_table(path, "a table of focus runs", MAX_ROWS)
        return _parsed(rows, path.stem, path.name, rules, names)
    except InputError as error:
        raise error.about(path) from None
    except (ValueError, csv.Error) as error:
        raise InputError(str(error), path) from None


def _parsed(
    rows: list[list[str]], stem: str, file: str, rules: Sequence[KeyRule], names: FilterNames
) -> tuple[list[FocusRun], list[UnusedFile]]:
    if len(rows) > MAX_ROWS:
        raise InputError(f"has more than {MAX_ROWS:,} rows; give the focus runs alone")
    if len(rows) < 2:
        raise InputError("holds no row under its headings")
    headings, below = with_units_row(rows)
    first = len(rows) - len(below) + 1
    places = find_columns(headings, COLUMNS, rules)
    check_found(places, ("focus.position", "focus.hfd"), COLUMNS, headings)
    factor = 2.0 if any(word in headings[places["focus.hfd"].index].lower() for word in RADIUS_WORDS) else 1.0
    by_run: dict[str, list[FocusPoint]] = {}
    not_used: list[UnusedFile] = []
    for number, row in enumerate(below, first):
        point, why = _point(row, places, f"{file} row {number}", factor)
        if point is None:
            not_used.append(UnusedFile(f"{file} row {number}", why))
            continue
        run = places["focus.run"].text(row) if "focus.run" in places else ""
        by_run.setdefault(run[:100], []).append(point)
    if len(not_used) > MAX_NOT_USED:
        more = len(not_used) - MAX_NOT_USED
        not_used = [*not_used[:MAX_NOT_USED], UnusedFile(file, f"{more} more rows hold no position or no size")]
    # A table sorted by position would tell every run "out": its order is trusted where some run went in.
    falls = any(len(points) > 1 and points[0].position > points[-1].position for points in by_run.values())
    timed = "focus.time" in places
    runs: list[FocusRun] = []
    for run, points in by_run.items():
        found, left = runs_of(points, run or stem, names, in_order=falls and not timed)
        runs += found
        not_used += left
    return runs, not_used


def _point(row: Sequence[str], places: dict[str, Place], name: str, factor: float) -> tuple[FocusPoint | None, str]:
    position, hfd = _number(row, places, "focus.position"), _number(row, places, "focus.hfd")
    if position is None or abs(position) > MAX_POSITION:
        return None, "has no position"
    if hfd is None or not 0 < hfd * factor <= MAX_HFD_PX:
        return None, "has no star size above 0"
    temperature = _number(row, places, "focus.temperature")
    stars, saturated = (_number(row, places, key) for key in ("focus.stars", "focus.saturated"))
    point = FocusPoint(
        file=(_text(row, places, "focus.file") or name)[:200],
        position=position,
        hfd_px=hfd * factor,
        filter=(_text(row, places, "focus.filter") or None),
        temperature_c=temperature if temperature is None or abs(temperature) < 100 else None,
        time=_time(_text(row, places, "focus.time"), places["focus.time"].unit if "focus.time" in places else "s"),
        stars=None if stars is None else round(stars),
        saturated=None if saturated is None else round(saturated),
    )
    return left_out_if_saturated(point), ""


MAX_SATURATED_SHARE = 0.5


def left_out_if_saturated(point: FocusPoint) -> FocusPoint:
    """Return a point left out where more than half of its stars are saturated: what is left is not the same stars."""
    if not point.stars or not point.saturated or point.saturated <= MAX_SATURATED_SHARE * point.stars:
        return point
    return point.without(f"saturated: {point.saturated} of {point.stars} stars")


def _text(row: Sequence[str], places: dict[str, Place], key: str) -> str:
    return places[key].text(row)[:200] if key in places else ""


def _number(row: Sequence[str], places: dict[str, Place], key: str) -> float | None:
    if key not in places:
        return None
    unit = COLUMNS[key].unit
    try:
        number = convert(parse_foreign_number(places[key].text(row)), places[key].unit or unit, unit)
    except ValueError:
        return None
    return number if math.isfinite(number) else None


def _time(text: str, unit: str) -> datetime.datetime | None:
    """Return a moment: ISO 8601 as it stands, else a number in a unit or a time of day, from a day of no meaning."""
    if not text:
        return None
    try:
        moment = datetime.datetime.fromisoformat(text)
        return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)
    except ValueError:
        seconds = clock_seconds(text)
        seconds = moment_seconds(text, unit) if seconds is None else seconds
    return START + datetime.timedelta(seconds=seconds) if math.isfinite(seconds) and abs(seconds) < 1e9 else None
