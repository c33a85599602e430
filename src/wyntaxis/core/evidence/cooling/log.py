"""Cooling logs from CSV: columns in any order and unit, found by their headings or by a key map."""

from __future__ import annotations

import csv
import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.cooling.cooler import MIN_SAMPLES, CoolingLog
from wyntaxis.core.evidence.foreign.columns import (
    MAX_BYTES,
    Place,
    TableColumn,
    check_found,
    clock_seconds,
    find_columns,
    moment_seconds,
    rows_of_bytes,
    with_units_row,
)
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.foreign.units import convert, parse_foreign_number
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import read_bytes

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MAX_ROWS = 200_000
"""Two days at a row a second."""
COLUMNS = {
    "cooling.time": TableColumn("Time", "s", ("time", "date", "elapsed", "seconds", "minutes")),
    "cooling.sensor": TableColumn("Sensor temperature", "°C", ("sensor", "ccd", "chip", "camera", "temp")),
    # Power without a unit may be a share or a percentage: its values tell.
    "cooling.power": TableColumn("Cooler's power", "%", ("power", "cooler", "duty", "pwm", "tec"), unreported=""),
    "cooling.ambient": TableColumn("Ambient temperature", "°C", ("ambient", "outside", "air", "env", "heatsink")),
}
"""What a log's columns may hold."""
DAY_S = 86_400.0


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
    data = read_bytes(path, MAX_BYTES, f"a cooling log is at most some {MAX_BYTES >> 20} MB")
    try:
        return parse_cooling_log(data, path.stem, rules)
    except InputError as error:
        raise error.about(path) from None
    except (ValueError, csv.Error) as error:
        raise InputError(str(error), path) from None


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
    rows = rows_of_bytes(data, MAX_ROWS)
    if len(rows) > MAX_ROWS:
        raise ValueError(f"has more than {MAX_ROWS} rows; keep one of some seconds each")
    if len(rows) <= MIN_SAMPLES:
        raise ValueError(f"holds {max(len(rows) - 1, 0)} rows; a cooling log needs {MIN_SAMPLES} or more")
    headings, values_below = with_units_row(rows)
    places = find_columns(headings, COLUMNS, rules)
    check_found(places, ("cooling.time", "cooling.sensor"), COLUMNS, headings)
    values: dict[str, list[float]] = {key: [] for key in COLUMNS}
    times = [places["cooling.time"].text(row) for row in values_below]
    clock_times = sum(clock_seconds(text) is not None for text in times) > len(times) / 2
    for row in values_below:
        numbers = {key: _cell(row, place, key) for key, place in places.items()}
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


def _as_share(power: Floats, places: Mapping[str, Place]) -> Floats:
    """Return power as a share of full: a column that names no unit and never goes above 1 is one already."""
    entries = power[np.isfinite(power)]
    unnamed = "cooling.power" in places and not places["cooling.power"].unit
    if unnamed and len(entries) and float(entries.max()) <= 1.0:
        return power
    return power / 100


def _past_midnight(seconds: Floats) -> Floats:
    """Return times of day going on: where they fall by more than half a day, another day has begun."""
    days = np.cumsum(np.concatenate([[0], np.diff(seconds) < -DAY_S / 2]))
    return seconds + DAY_S * days


def _cell(row: Sequence[str], place: Place, quantity: str) -> float:
    text, unit = place.text(row), COLUMNS[quantity].unit
    if quantity == "cooling.time":
        return moment_seconds(text, place.unit)
    try:
        number = convert(parse_foreign_number(text), place.unit or unit, unit)
    except ValueError:
        return math.nan
    return number if math.isfinite(number) else math.nan
