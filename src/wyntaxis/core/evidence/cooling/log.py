"""Cooling logs from CSV: columns in any order and unit, found by their headings or by a key map."""

from __future__ import annotations

import csv
import datetime
import math
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from wyntaxis.core.evidence.cooling.cooler import MIN_SAMPLES, CoolingLog
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.foreign.units import convert, parse_foreign_number
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import read_bytes
from wyntaxis.core.files.tables import table_rows

SIZE_LIMIT_BYTES = 32 << 20
MAX_ROWS = 200_000
"""Two days at a row a second."""
MAX_CELLS = 4_000_000
COLUMNS = {
    "cooling.time": ("Time", "s"),
    "cooling.sensor": ("Sensor temperature", "°C"),
    "cooling.power": ("Cooler's power", "%"),
    "cooling.ambient": ("Ambient temperature", "°C"),
}
"""What a log's columns may hold: label, and our unit."""
_WORDS = (
    ("cooling.ambient", ("ambient", "outside", "air", "env", "heatsink")),
    ("cooling.power", ("power", "cooler", "duty", "pwm", "tec")),
    ("cooling.sensor", ("sensor", "ccd", "chip", "camera", "temp")),
    ("cooling.time", ("time", "date", "elapsed", "seconds", "minutes")),
)
_UNIT = re.compile(r"(?:[\[(_ ,])(s|sec|seconds|ms|min|minutes|h|c|°c|k|f|°f|%|percent|share|fraction)[\])]?$", re.I)
_CLOCK = re.compile(r"\s*([0-9]{1,2}):([0-5]?[0-9])(?::([0-5]?[0-9](?:[.,][0-9]+)?))?\s*", re.ASCII)
"""A time of day: HH:MM or HH:MM:SS."""
DAY_S = 86_400.0
_UNITS = {"sec": "s", "seconds": "s", "minutes": "min", "c": "°C", "°c": "°C", "k": "K", "f": "°F", "°f": "°F"}
_UNITS |= {"percent": "%", "fraction": "share"}


def read_cooling_log(path: Path, rules: Sequence[KeyRule] = ()) -> CoolingLog:
    """Read a log; ``rules`` point headings at columns, where headings do not tell by themselves.

    Rows that hold no numbers are passed over; times may be numbers, times of day (HH:MM[:SS]) or ISO 8601.

    Returns
    -------
    CoolingLog
        Time in s, temperatures in °C, power as a share.

    Raises
    ------
    InputError
        With one line, opening with the file's name.

    Parameters
    ----------
    path
        The file.
    rules
        Which heading holds what, where headings do not tell.
    """
    data = read_bytes(path, SIZE_LIMIT_BYTES, "a cooling log is at most some 32 MB")
    try:
        return parse_cooling_log(data, path.stem, rules)
    except (ValueError, csv.Error) as error:
        raise InputError(str(error), path) from None


def headings_of(path: Path) -> list[str]:
    """Return the headings of a log, to point rules at; :class:`InputError` when it cannot be read.

    Parameters
    ----------
    path
        The file.

    Returns
    -------
    list[str]
        As they stand in the file.
    """
    rows = _rows(read_bytes(path, SIZE_LIMIT_BYTES, "a cooling log is at most some 32 MB"))
    return [cell.strip() for cell in rows[0]] if rows else []


def _rows(data: bytes) -> list[list[str]]:
    if b"\x00" in data:
        raise ValueError("holds NUL bytes, so it is no CSV text")
    text = data.decode("utf-8-sig", "replace")
    return table_rows(text, MAX_ROWS + 1, MAX_CELLS)


def parse_cooling_log(data: bytes, name: str, rules: Sequence[KeyRule] = ()) -> CoolingLog:
    """Return the log that a CSV's bytes hold; ValueError of one line for what is none.

    Parameters
    ----------
    data
        The file's bytes.
    name
        What the run is called.
    rules
        Which heading is which column, where that is not plain.

    Returns
    -------
    CoolingLog
        Times in s, temperatures in °C, power as a share.
    """
    rows = _rows(data)
    if len(rows) > MAX_ROWS:
        raise ValueError(f"has more than {MAX_ROWS} rows; keep one of some seconds each")
    if len(rows) <= MIN_SAMPLES:
        raise ValueError(f"holds {max(len(rows) - 1, 0)} rows; a cooling log needs {MIN_SAMPLES} or more")
    headings = [cell.strip() for cell in rows[0]]
    places = _columns(headings, rules)
    for needed in ("cooling.time", "cooling.sensor"):
        if needed not in places:
            raise ValueError(
                f"no column for {COLUMNS[needed][0].lower()} among {', '.join(headings[:12])}; point one at it"
            )
    values: dict[str, list[float]] = {key: [] for key in COLUMNS}
    times = [row[places["cooling.time"][0]] for row in rows[1:] if places["cooling.time"][0] < len(row)]
    clock_times = bool(times) and sum(_CLOCK.fullmatch(text) is not None for text in times) > len(times) / 2
    for row in rows[1:]:
        numbers = {key: _cell(row, *place, key) for key, place in places.items()}
        if math.isfinite(numbers["cooling.time"]) and math.isfinite(numbers["cooling.sensor"]):
            for key in COLUMNS:
                values[key].append(numbers.get(key, math.nan))
    if len(values["cooling.time"]) < MIN_SAMPLES:
        raise ValueError(f"holds fewer than {MIN_SAMPLES} rows with a time and a sensor temperature")
    time = np.array(values["cooling.time"])
    if clock_times:
        time = _past_midnight(time)
    order = np.argsort(time, kind="stable")
    time = time[order] - time[order][0]
    keep = np.concatenate([[True], np.diff(time) > 0])
    if keep.sum() < MIN_SAMPLES or time[-1] < 60:
        raise ValueError("covers less than a minute, or its times do not go on; is the time column right?")
    columns = [np.array(values[key])[order][keep] for key in ("cooling.sensor", "cooling.power", "cooling.ambient")]
    sensor, power, ambient = columns
    if float(np.nanmax(np.abs(sensor))) > 150:
        raise ValueError("its sensor temperatures go beyond 150 °C; is the column or its unit right?")
    return CoolingLog(name, time[keep], sensor, np.clip(_as_share(power, places), 0, 1), ambient)


def _as_share(power: Any, places: Mapping[str, tuple[int, str]]) -> Any:
    """Return power as a share of full: a column that names no unit and never goes above 1 is one already."""
    told = power[np.isfinite(power)]
    unnamed = "cooling.power" in places and not places["cooling.power"][1]
    if unnamed and len(told) and float(told.max()) <= 1.0:
        return power
    return power / 100


def _past_midnight(seconds: Any) -> Any:
    """Return times of day going on: where they fall by more than half a day, another day has begun."""
    days = np.cumsum(np.concatenate([[0], np.diff(seconds) < -DAY_S / 2]))
    return seconds + DAY_S * days


def _columns(headings: Sequence[str], rules: Sequence[KeyRule]) -> Mapping[str, tuple[int, str]]:
    """Return, for each quantity, its column and the unit there: by rules, else by the headings' words."""
    found: dict[str, tuple[int, str]] = {}
    for rule in rules:
        if rule.quantity in COLUMNS and rule.path in headings:
            found[rule.quantity] = (headings.index(rule.path), rule.unit or COLUMNS[rule.quantity][1])
    taken = {index for index, _ in found.values()}
    for quantity, words in _WORDS:
        if quantity in found:
            continue
        for index, heading in enumerate(headings):
            plain = heading.lower()
            if index not in taken and any(word in plain for word in words):
                unit = _UNIT.search(plain)
                told = _UNITS.get(unit[1].lower(), unit[1].lower()) if unit else ""
                # Power without a unit may be a share or a percentage: its values tell.
                found[quantity] = (index, told or ("" if quantity == "cooling.power" else COLUMNS[quantity][1]))
                taken.add(index)
                break
    return found


def _cell(row: Sequence[str], index: int, unit: str, quantity: str) -> float:
    text = row[index].strip() if index < len(row) else ""
    if not text:
        return math.nan
    clock = _CLOCK.fullmatch(text) if quantity == "cooling.time" else None
    if clock is not None:
        hours, minutes, seconds = (float(part or 0) for part in clock.groups())
        return 3600 * hours + 60 * minutes + seconds
    try:
        number = parse_foreign_number(text) if quantity != "cooling.time" else float(text)
        number = convert(number, unit or _unit(quantity), _unit(quantity))
    except ValueError:
        if quantity != "cooling.time":
            return math.nan
        try:
            number = datetime.datetime.fromisoformat(text).timestamp()
        except ValueError:
            return math.nan
    return number if math.isfinite(number) else math.nan


def _unit(quantity: str) -> str:
    return COLUMNS[quantity][1]
