"""Measured values that what they rest on, or another set-up, has overtaken; and why one counts all the same."""

from __future__ import annotations

from collections.abc import Mapping

from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.ledger import OutOfDate
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS, SET_UP
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.dependencies import (
    SCALES,
    SPACING_ERROR,
    Dependencies,
    RecordedMeasurement,
    dependencies,
    recorded_measurements,
)
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import Confirmed, DependencyValue
from wyntaxis.core.wording import utc_stamp

CALIBRATION_PATH: DocumentPath = ("guiding", "calibration")
CALIBRATION = "guiding.calibration"
"""The guider's calibration, as it is named among what is out of date."""
JUDGED_APART = "spacing: "
"""What a solved scale keeps of the spacing counts for the spacing's error that it tells, and not for the scale."""


def differences(then: Mapping[str, DependencyValue], now: Mapping[str, DependencyValue]) -> tuple[str, ...]:
    """Return what differs between two sets of facts, each in words: ``gain 125 → 200``."""
    return tuple(
        f"{name} {_word(then.get(name))} → {_word(now.get(name))}"
        for name in dict.fromkeys([*then, *now])
        if then.get(name) != now.get(name)
    )


def _word(value: DependencyValue) -> str:
    if value is None:
        return "none"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _counts(quantity_value: RecordedMeasurement, name: str) -> bool:
    return not (quantity_value.key in SCALES and name.startswith(JUDGED_APART))


def _changes(quantity_value: RecordedMeasurement, now: Dependencies, *, spacing: bool = False) -> tuple[str, ...]:
    then = quantity_value.value.rests_on
    if then is None or (quantity_value.value.confirmed is not None and quantity_value.value.confirmed.rests_on == now):
        return ()
    kept = [name for name in dict.fromkeys([*then, *now]) if spacing or _counts(quantity_value, name)]
    return differences({n: then.get(n) for n in kept}, {n: now.get(n) for n in kept})


def out_of_date_measurements(rig: Rig) -> tuple[OutOfDate, ...]:
    """Return the measured values that rest on what has changed since.

    Returns
    -------
    tuple of Stale
        In the order of the document. A solved scale of another spacing leaves the scale as it is; what it tells of the
        spacing's error is out of date.
    """
    found = list(from_earlier_setup(rig))
    earlier = {entry.path for entry in found}
    for quantity_value in recorded_measurements(rig):
        if quantity_value.value.rests_on is None or quantity_value.path in earlier:
            continue
        now = dependencies(rig, quantity_value)
        what = _changes(quantity_value, now)
        if what:
            found.append(_out_of_date(quantity_value, quantity_value.row_id, what))
        elif quantity_value.key in SCALES:
            spaced = _changes(quantity_value, now, spacing=True)
            if spaced:
                found.append(_out_of_date(quantity_value, SPACING_ERROR, spaced))
    return tuple(found)


def from_earlier_setup(rig: Rig) -> tuple[OutOfDate, ...]:
    """Return the measured values of a carried rig that a set-up invalidates, and that are older than the present one.

    A value without a date counts as older; one that was confirmed since then counts.
    """
    setup = rig.setup
    if setup is None or setup.kind != "carried" or setup.date is None:
        return ()
    found = []
    for own in recorded_measurements(rig):
        evidence = own.value.evidence.date if own.value.evidence is not None else None
        if _ends_with_a_setup(own) and _is_older(evidence, own.value.confirmed, setup.date):
            found.append(OutOfDate(own.row_id, own.path, evidence or "", setup.date, _earlier_words(setup.date)))
    return tuple(found)


def calibration_from_earlier_setup(rig: Rig) -> OutOfDate | None:
    """Return the guider's calibration of a carried rig where it is older than the present set-up; None else."""
    setup, own = rig.setup, rig.guiding.calibration
    if setup is None or setup.kind != "carried" or setup.date is None or own is None:
        return None
    if not _is_older(own.date, own.confirmed, setup.date):
        return None
    return OutOfDate(CALIBRATION, CALIBRATION_PATH, own.date or "", setup.date, _earlier_words(setup.date))


def _ends_with_a_setup(own: RecordedMeasurement) -> bool:
    """Return whether a measured value holds for one set-up, as its kind declares."""
    if own.slot is not None:
        return False
    kind = QUANTITY_KINDS.get(own.key) if own.device is None else SETTINGS.get(own.key)
    return kind is not None and SET_UP in kind.invalidated_by


def _is_older(measured: str | None, confirmed: Confirmed | None, begun: str) -> bool:
    again = confirmed.date if confirmed is not None else None
    return max(again or "", measured or "") < begun


def _earlier_words(begun: str) -> tuple[str, ...]:
    return (f"from an earlier set-up: the present one was begun on {begun[:10]}",)


def _out_of_date(quantity_value: RecordedMeasurement, row_id: str, what: tuple[str, ...]) -> OutOfDate:
    evidence = quantity_value.value.evidence
    on = (evidence.date if evidence is not None else None) or ""
    return OutOfDate(row_id, quantity_value.path, on, quantity_value.value.changed or "", what)


def confirmation(rig: Rig, path: DocumentPath, reason: str) -> tuple[tuple[DocumentPath, JsonValue], ...]:
    """Return the values of an edit that says why a out of date value counts all the same.

    Parameters
    ----------
    rig, path
        The rig, and where the value stands.
    reason
        Why.

    Returns
    -------
    tuple
        Path and value.

    Raises
    ------
    ValueError
        Where there is no such value, or no reason.
    """
    if not reason.strip():
        raise ValueError("say why it still counts")
    if path == CALIBRATION_PATH and rig.guiding.calibration is not None:
        return (((*path, "confirmed"), {"reason": reason.strip(), "date": utc_stamp()}),)
    quantity_value = next((own for own in recorded_measurements(rig) if own.path == path), None)
    if quantity_value is None:
        raise ValueError("there is no such measurement any more")
    entries = {"reason": reason.strip(), "date": utc_stamp(), "rests_on": dependencies(rig, quantity_value)}
    return (((*path, "confirmed"), entries),)
