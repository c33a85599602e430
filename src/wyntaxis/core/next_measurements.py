"""Which measurement would settle most: each kind is tried out on the rig, and what it turns is what it promises."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import OutOfDate, Quantity, Verdict
from wyntaxis.core.measurement_kinds import CALLIPERS, KINDS, PORTS_READ, PROGRAM, MeasurementKind, Need
from wyntaxis.core.quantities.ports import LINK
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.dependencies import SCALES, SPACING_ERROR
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import out_of_date_measurements
from wyntaxis.core.rig.shelf import ShelfPart

CALLIPER_MM = 0.02
"""What callipers err by: their scale, and how square they are held."""
HOUR_MIN = 60.0
_BY_STARTUP = (
    ("field_", "sweep"), ("back_focus", "spacing_sweeps"), ("star_", "star_frames"), ("guide_", "guide_log"),
    ("polar_", "guide_log"), ("flexure", "guide_log"),
)  # fmt: skip
BENCH: tuple[Need, ...] = ("bench", "daylight")
SKY: tuple[Need, ...] = ("stars",)
MAX_CALLIPERED = 40
"""So many parts are tried out one by one."""


@dataclass(frozen=True)
class Measurement:
    """One measurement of this rig: what it would settle, and which out-of-date measurements it would repeat."""

    kind: MeasurementKind
    title: str
    settles: tuple[str, ...]
    out_of_date: tuple[OutOfDate, ...]
    part: str | None = None

    @property
    def worth(self) -> float:
        """Numbers settled per minute."""
        return len(self.settles) / self.kind.minutes

    def as_json(self) -> JsonObject:
        """Return the row as ``wyntaxis proofs --json`` prints it."""
        return {
            "kind": self.kind.key,
            "title": self.title,
            "settles": list(self.settles),
            "needs": self.kind.needs,
            "minutes": self.kind.minutes,
            "stale": [entry.row_id for entry in self.out_of_date],
            "step": self.kind.step.key,
            "usual_uncertainty": self.kind.usual,
            **({"part": self.part} if self.part is not None else {}),
        }


@dataclass(frozen=True)
class MeasurementPlan:
    """What fits into an hour, in the order in which it settles most; what each turns beyond those before it."""

    title: str
    measurements: tuple[tuple[Measurement, int], ...]

    @property
    def minutes(self) -> float:
        """How long it takes altogether."""
        return sum(measurement.kind.minutes for measurement, _ in self.measurements)

    @property
    def settles(self) -> int:
        """How many numbers it settles."""
        return sum(gain for _, gain in self.measurements)


# Trying out


def is_settled(row: Quantity | None) -> bool:
    """Return whether something is proven of a row, one way or the other."""
    return row is not None and row.verdict is not Verdict.UNPROVEN


def _turned(before: Mapping[str, Quantity], after: Mapping[str, Quantity]) -> tuple[str, ...]:
    """Return the rows that are proven now and were not, or were in doubt, unmeasured, and no longer are."""
    found = []
    for key, row in after.items():
        older = before.get(key)
        doubt = older is not None and older.measured is None and older.verdict is Verdict.TIGHT
        doubt = doubt and row.verdict in (Verdict.HOLDS, Verdict.FAILS)
        if is_settled(row) and (not is_settled(older) or doubt):
            found.append(key)
    return tuple(found)


def tried(evaluation: Evaluation, change: Change) -> Evaluation | None:
    """Return the evaluation of a rig with an edit made that is not kept; None where the rig cannot hold it."""
    try:
        return evaluate(edit.apply(evaluation.rig, change), evaluation.evidence, evaluation.shelf)
    except InputError:
        return None


def next_measurements(
    rig: Rig | Evaluation,
    shelf: tuple[ShelfPart, ...] = (),
    watch: Callable[[], None] = lambda: None,
) -> tuple[Measurement, ...]:
    """Return what each kind of measurement would settle of a rig, that which settles most per minute first.

    Parameters
    ----------
    rig
        The rig, or its evaluation.
    shelf
        Parts that remedies may name.
    watch
        Called between trials; may cancel.

    Returns
    -------
    tuple of Measurement
        Each trial writes what is expected at the usual uncertainty; the numbers that it turns are what is promised.
        Kinds that would settle nothing, and would repeat no out-of-date measurement, are left out.
    """
    evaluation = rig if isinstance(rig, Evaluation) else evaluate(rig, shelf=shelf)
    out_of_date = {entry.row_id: entry for entry in out_of_date_measurements(evaluation.rig)}
    found = list(_calliper_measurements(evaluation, out_of_date, watch))
    for kind in KINDS:
        watch()
        change = kind.trial(evaluation)
        after = tried(evaluation, change) if change is not None else None
        settles = _turned(evaluation.rows, after.rows) if after is not None else ()
        found.append(_measurement(kind, kind.title, settles, out_of_date))
    found += [_ports_measurement(evaluation, out_of_date), _program_measurement(evaluation, out_of_date)]
    useful = [measurement for measurement in found if measurement.settles or measurement.out_of_date]
    return tuple(
        sorted(useful, key=lambda measurement: (-measurement.worth, measurement.kind.minutes, measurement.title))
    )


def _measurement(
    kind: MeasurementKind,
    title: str,
    settles: tuple[str, ...],
    out_of_date: Mapping[str, OutOfDate],
    part: str | None = None,
) -> Measurement:
    repeated = tuple(entry for entry in out_of_date.values() if measured_by(entry) == kind.key)
    return Measurement(kind, title, settles, repeated, part)


def measured_by(entry: OutOfDate) -> str:
    """Return the key of the kind of measurement that repeats an out-of-date one; empty for one that nobody knows.

    Parameters
    ----------
    entry
        An out-of-date measured value.

    Returns
    -------
    str
        One of the keys of :data:`~wyntaxis.core.measurement_kinds.KINDS`.
    """
    if entry.path[0] == "measured":
        key = entry.row_id
        if key in SCALES or key in (SPACING_ERROR, "corrector_magnification"):
            return "solved_frame"
        if key == "guide_scale_arcsec_px":
            return "guide_calibration"
        return next((kind for begins, kind in _BY_STARTUP if key.startswith(begins)), "")
    if "slots" in entry.path:
        return "focus_night"
    key = str(entry.path[3])
    if key in ("temperature_slope_steps_c", "run_scatter_steps"):
        return "focus_night"
    sheet = SETTINGS[key].sheet
    if sheet == "sensor":
        return "darks" if key.startswith(("dark", "glow", "hot")) else "bench_frames"
    return {"cooling": "cooling_run", "filters": "flats"}.get(sheet, "focus_run")


def _calliper_measurements(
    evaluation: Evaluation, out_of_date: Mapping[str, OutOfDate], watch: Callable[[], None]
) -> Iterator[Measurement]:
    """Yield what callipers on each part would settle: its length as it is, known to a few hundredths."""
    count = 0
    for path, part in evaluation.rig.parts():
        if part.length_basis == "measured" or part.kind == "camera" or count >= MAX_CALLIPERED:
            continue
        watch()
        count += 1
        values: tuple[tuple[DocumentPath, Any], ...] = (
            ((*path, "length_mm"), part.length_mm),
            ((*path, "length_basis"), "measured"),
            ((*path, "length_tolerance_mm"), CALLIPER_MM),
        )
        after = tried(evaluation, Change("Trial", values))
        if after is not None:
            title = f"Callipers on {part.name or part.id}"
            yield _measurement(CALLIPERS, title, _turned(evaluation.rows, after.rows), out_of_date, part.id)


def _ports_measurement(evaluation: Evaluation, out_of_date: Mapping[str, OutOfDate]) -> Measurement:
    """Return what reading the ports would settle: the link of every device that is known by its USB identity."""
    keys = []
    if evaluation.ports is None:
        for device in evaluation.rig.devices:
            if device.identity is not None and device.identity.usb_id is not None:
                keys.append(LINK.id_of(device.id))
    return _measurement(PORTS_READ, PORTS_READ.title, tuple(keys), out_of_date)


def _program_measurement(evaluation: Evaluation, out_of_date: Mapping[str, OutOfDate]) -> Measurement:
    """Return what the first program's file would settle: whatever of the rig a program may hold."""
    keys: list[str] = []
    if not evaluation.rig.own_records:
        keys = [
            key for key, item in comparables(evaluation).items() if item.value is not None and key in evaluation.rows
        ]
    return _measurement(PROGRAM, PROGRAM.title, tuple(keys), out_of_date)


def measurement_plan(
    measurements: Sequence[Measurement], title: str, needs: Sequence[Need], minutes: float = HOUR_MIN
) -> MeasurementPlan:
    """Return which measurements fit into some minutes and settle most.

    Parameters
    ----------
    proofs
        What each would settle.
    title
        What the plan is called.
    needs
        What is there: bench, daylight, twilight, stars.
    minutes
        How long there is.

    Returns
    -------
    MeasurementPlan
        One after the other that which settles most per minute of what those before it leave open.
    """
    left, open_ones = minutes, [measurement for measurement in measurements if measurement.kind.needs in needs]
    done: set[str] = set()
    chosen: list[tuple[Measurement, int]] = []
    while True:
        gains = [
            (len(set(measurement.settles) - done) / measurement.kind.minutes, measurement)
            for measurement in open_ones
            if measurement.kind.minutes <= left and set(measurement.settles) - done
        ]
        if not gains:
            return MeasurementPlan(title, tuple(chosen))
        _, best = max(gains, key=lambda entry: (entry[0], -entry[1].kind.minutes))
        chosen.append((best, len(set(best.settles) - done)))
        done |= set(best.settles)
        left -= best.kind.minutes
        open_ones.remove(best)


def hour_plans(measurements: Sequence[Measurement]) -> tuple[MeasurementPlan, MeasurementPlan]:
    """Return what to do in one hour at the bench, and in one clear hour."""
    return measurement_plan(measurements, "One hour at the bench", BENCH), measurement_plan(
        measurements, "One clear hour", SKY
    )
