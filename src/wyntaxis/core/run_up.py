"""The run-up of tonight: what is done in which order, with its number, how to see that it is right, and its time."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import OutOfDate
from wyntaxis.core.records.incidents import in_a_line, matching
from wyntaxis.core.records.setting_up import NIGHT, done_entries, is_met, moment_of
from wyntaxis.core.records.start_order import start_order
from wyntaxis.core.rig.dependencies import recorded_measurements
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import CALIBRATION, calibration_from_earlier_setup, confirmation, from_earlier_setup
from wyntaxis.core.rig.setup import DoneCondition, OwnCondition
from wyntaxis.core.sky.coordinates import coordinates_text
from wyntaxis.core.wording import counted, number, short, utc_stamp

Outcome = Literal["done", "not_now", "failed"]
PREFIX = "run-up."
LONGEST = 3
"""So many steps that took longest last time are named at the end."""


@dataclass(frozen=True)
class RunUpStep:
    """One step of the run-up.

    Parameters
    ----------
    id
        What it is ticked by: an own condition's id, or one of the run-up's own.
    title, right_when
        What to do, and how to see that it is right.
    numbers
        What to enter or to expect, a line each.
    outcome
        What became of it since the set-up, or tonight; None where it is open.
    last_minutes
        How long it took when it was last done.
    earlier
        Measured values of earlier set-ups that hold again once they are confirmed here or measured again.
    cures
        What was noted before about such a failure, the newest first.
    """

    id: str
    title: str
    right_when: str
    numbers: tuple[str, ...] = ()
    outcome: Outcome | None = None
    last_minutes: float | None = None
    earlier: tuple[OutOfDate, ...] = ()
    cures: tuple[str, ...] = ()

    def as_json(self) -> JsonObject:
        """Return the step as the command prints it."""
        return {
            "id": self.id,
            "title": self.title,
            "numbers": list(self.numbers),
            "right_when": self.right_when,
            "outcome": self.outcome,
            "last_minutes": self.last_minutes,
            "from_earlier_setup": [entry.row_id for entry in self.earlier],
            "noted_before": list(self.cures),
        }


@dataclass(frozen=True)
class _Kind:
    """A step that every run-up may have: what it says, whom it applies to, and which measured values rest on it."""

    key: str
    title: str
    right_when: str
    numbers: Callable[[Evaluation], Iterator[str]]
    applies: Callable[[Rig], bool]
    symptom: str
    step: str
    """The step of the window at which its incidents are noted."""
    settles: tuple[str, ...] = ()
    replaced_by: str = ""
    """The id of an own condition that says the same."""


def _device(rig: Rig, *kinds: str) -> str:
    return ", ".join(device.title for device in rig.devices if device.kind in kinds)


def _has(*kinds: str) -> Callable[[Rig], bool]:
    return lambda rig: any(device.kind in kinds for device in rig.devices)


def _is_carried(rig: Rig) -> bool:
    return rig.setup is not None and rig.setup.kind == "carried"


def _row(evaluation: Evaluation, row_id: str, label: str, decimals: int, unit: str) -> Iterator[str]:
    row = evaluation.rows.get(row_id)
    if row is not None and row.best is not None:
        space = "" if unit in ("°", "″") else " "
        yield f"{label}: {number(row.best.value, decimals)}{space}{unit}".rstrip()


def _settings(evaluation: Evaluation, kinds: Sequence[str], *settings: tuple[str, str, str]) -> Iterator[str]:
    """Yield settings of the devices of some kinds: key, label and unit."""
    for device in evaluation.rig.devices:
        if device.kind in kinds:
            for key, label, unit in settings:
                value = device.number(key)
                if value is not None:
                    yield f"{label}: {short(value)} {unit}".rstrip().replace("-", "\N{MINUS SIGN}")


def _power(evaluation: Evaluation) -> Iterator[str]:
    for supply in evaluation.rig.supplies:
        if supply.kind == "battery":
            yield from _row(evaluation, f"{supply.id}.battery_h", f"{supply.name or supply.id}, run time", 1, "h")
        elif supply.voltage_v is not None and supply.fed_by is None:
            yield f"{supply.name or supply.id}: {short(supply.voltage_v)} V"


def _computer(evaluation: Evaluation) -> Iterator[str]:
    for row_id in evaluation.rows:
        if row_id.endswith(".free_gb"):
            yield from _row(evaluation, row_id, "Free space", 0, "GB")
    site = evaluation.rig.site
    if site is not None:
        yield f"Site: latitude {short(site.latitude_deg)}°, longitude {short(site.longitude_deg)}° east"


def _programs(evaluation: Evaluation) -> Iterator[str]:
    programs = evaluation.rig.programs
    found = start_order(programs)
    for place, program in enumerate((*found.order, *found.circle), start=1):
        yield f"{place}. {program.title}"
    if not programs:
        yield from (record.name for record in evaluation.rig.records)


def _connect(evaluation: Evaluation) -> Iterator[str]:
    names = [device.title for device in evaluation.rig.devices if device.connection is not None]
    if names:
        yield f"{counted(len(names), 'device')}: {', '.join(names)}"


def _cool(evaluation: Evaluation) -> Iterator[str]:
    entries = (("set_temperature_c", "Set point", "°C"), ("ramp_c_min", "Ramp", "°C a minute"))
    yield from _settings(evaluation, ("camera",), *entries)


def _polar(evaluation: Evaluation) -> Iterator[str]:
    yield from _row(evaluation, "effective_focal_length_mm", "Focal length", 0, "mm")
    yield from _row(evaluation, "pixel_scale_arcsec_px", "Pixel scale", 3, "″/px")
    site = evaluation.rig.site
    if site is not None:
        yield f"Altitude of the pole: {short(abs(site.latitude_deg))}°"


def _focus_start(evaluation: Evaluation) -> Iterator[str]:
    yield from _settings(evaluation, ("focuser",), ("position", "Start at", "steps"))


def _focus_run(evaluation: Evaluation) -> Iterator[str]:
    entries = (("run_step", "Step of the run", "steps"), ("run_exposure_s", "Exposure", "s"))
    yield from _settings(evaluation, ("focuser",), *entries)
    for device in evaluation.rig.devices:
        if device.kind == "focuser" and device.number("run_step") is None:
            yield from _row(evaluation, f"{device.id}.proposed_run_step", "Step of the run, by the optics", 0, "steps")
    yield from _row(evaluation, "star_fwhm_arcsec", "Stars’ FWHM expected", 1, "″")


def _calibrate(evaluation: Evaluation) -> Iterator[str]:
    yield from _row(evaluation, "calibration_pulse_ms", "Calibration pulse", 0, "ms")
    yield from _row(evaluation, "guide_scale_arcsec_px", "Guide pixel scale", 3, "″/px")


def _framing(evaluation: Evaluation) -> Iterator[str]:
    rig = evaluation.rig
    targets = rig.plan.targets if rig.plan is not None else ()
    for target in targets:
        angle = f", angle {short(target.angle_deg)}°" if target.angle_deg is not None else ""
        yield f"{target.name}: {coordinates_text(target.ra_deg, target.dec_deg)}{angle}"
    if not targets and rig.framing is not None:
        own = rig.framing
        place = coordinates_text(own.ra_deg, own.dec_deg)
        yield f"{own.name or 'Object'}: {place}, angle {short(own.position_angle_deg)}°"


def _test_frame(evaluation: Evaluation) -> Iterator[str]:
    plan = evaluation.rig.plan
    if plan is not None and plan.exposure_s is not None:
        yield f"Exposure: {short(plan.exposure_s)} s"
    yield from _settings(evaluation, ("camera",), ("gain", "Gain", ""), ("offset", "Offset", ""))


def _run(evaluation: Evaluation) -> Iterator[str]:
    plan = evaluation.rig.plan
    if plan is not None and plan.frames is not None:
        hours = f" within {short(plan.hours)} h" if plan.hours is not None else ""
        yield f"Planned: {counted(plan.frames, 'frame')}{hours}"
    yield from _settings(evaluation, ("mount",), ("flip_margin_min", "Flip after the meridian by", "min"))


def _nothing(_evaluation: Evaluation) -> Iterator[str]:
    return iter(())


def _always(_rig: Rig) -> bool:
    return True


BEFORE_DARK: tuple[_Kind, ...] = (
    _Kind("power", "Switch the power on", "Every lamp that should be on is on, and no fan or cable is warm.",
          _power, lambda rig: bool(rig.supplies), "power gone", "devices"),
    _Kind("computer", "Start the computer", "Its clock is right to a second, and the frames’ folder is there.",
          _computer, _has("computer"), "the program crashed", "ready"),
    _Kind("programs", "Start the programs, in this order", "Each has loaded its profile for this train.",
          _programs, lambda rig: bool(rig.programs or rig.records), "the program crashed", "records"),
    _Kind("connect", "Connect the devices", "Every program shows its devices as connected.",
          _connect, lambda rig: bool(rig.devices), "the device is not there", "ports"),
    _Kind("cool", "Cool the sensor", "The sensor holds its set point, and the cooler has power left.",
          _cool, _has("camera"), "warm frames", "cooling"),
    _Kind("level", "Level the mount", "The bubble stays in its ring, whichever way the mount is turned.",
          _nothing, _is_carried, "trailed stars", "ready", replaced_by="levelled"),
    _Kind("balance", "Balance both axes", "Clutches open, the telescope stays where it is left, cables and all.",
          _nothing, _is_carried, "trailed stars", "ready", replaced_by="balanced"),
)  # fmt: skip
AFTER_DARK: tuple[_Kind, ...] = (
    _Kind("polar", "Align the polar axis", "The last measured error is below what the exposure allows.",
          _polar, lambda rig: _is_carried(rig) and rig.mount is not None and rig.mount.kind == "equatorial",
          "trailed stars", "guide_log", ("polar_",)),
    _Kind("rough_focus", "Focus roughly", "Stars are points or small discs, and some are in the frame.",
          _focus_start, _has("focuser"), "no focus at all", "travel"),
    _Kind("focus", "Run the focuser", "The curve has both branches, and a frame at its best position looks it.",
          _focus_run, _has("focuser"), "defocused stars", "travel", ("position", "star_")),
    _Kind("calibrate", "Calibrate guiding", "The two axes are at right angles within 5°, and the rates agree.",
          _calibrate, lambda rig: rig.guiding.kind != "none", "guiding lost", "guide_log",
          (CALIBRATION, "guide_", "flexure_")),
    _Kind("framing", "Frame the target", "A solved frame shows its centre and its angle as planned.",
          _framing, lambda rig: rig.framing is not None or bool(rig.plan is not None and rig.plan.targets),
          "the field is not solved", "scales", ("position_deg",)),
    _Kind("test_frame", "Take a first test frame", "Stars are round to the corners, and nothing is clipped.",
          _test_frame, _has("camera"), "defocused stars", "stars"),
    _Kind("run", "Start the run", "The first frame is written, and guiding settled before it.",
          _run, _always, "the run waits for ever", "rehearsal"),
)  # fmt: skip
KINDS = {f"{PREFIX}{kind.key}": kind for kind in (*BEFORE_DARK, *AFTER_DARK)}


def run_up(evaluation: Evaluation, now: datetime.datetime) -> tuple[RunUpStep, ...]:
    """Return the steps of tonight's run-up, in the order of the work; own conditions stand among them.

    Parameters
    ----------
    evaluation
        The rig as it is now.
    now
        With its zone. A step that was done in the last 18 hours, and since the present set-up was begun, is done.
    """
    rig = evaluation.rig
    own_ids = {own.id for own in rig.conditions}
    earlier = _earlier_by_step(rig)

    def known(kinds: tuple[_Kind, ...]) -> Iterator[RunUpStep]:
        for kind in kinds:
            if kind.applies(rig) and kind.replaced_by not in own_ids:
                step_id = f"{PREFIX}{kind.key}"
                outcome, minutes = _history(rig, step_id, now)
                cures = tuple(in_a_line(own) for own in matching(rig, [kind.symptom]))[:LONGEST]
                yield RunUpStep(
                    step_id, kind.title, kind.right_when, tuple(kind.numbers(evaluation)), outcome, minutes,
                    earlier.get(step_id, ()), cures,
                )  # fmt: skip

    def own(before_dark: bool) -> Iterator[RunUpStep]:
        for condition in rig.conditions:
            if condition.before_dark is before_dark:
                yield _own_step(rig, condition, now)

    *steps, run = known(AFTER_DARK)
    return (*known(BEFORE_DARK), *own(True), *steps, *own(False), run)


def _own_step(rig: Rig, condition: OwnCondition, now: datetime.datetime) -> RunUpStep:
    outcome, minutes = _history(rig, condition.id, now)
    if outcome in (None, "done"):
        outcome = "done" if is_met(rig, condition, now) else None
    right = "Your own condition." if condition.required else "Your own condition, optional."
    return RunUpStep(condition.id, condition.text, right, outcome=outcome, last_minutes=minutes)


def _history(rig: Rig, step_id: str, now: datetime.datetime) -> tuple[Outcome | None, float | None]:
    """Return what became of a step tonight, and how many minutes it took when it was last done."""
    entries = [own for own in (rig.setup.done if rig.setup is not None else ()) if own.condition == step_id]
    minutes = next((own.minutes for own in reversed(entries) if own.minutes is not None and _is_done(own)), None)
    last = entries[-1] if entries else None
    at = moment_of(last.date) if last is not None else None
    if last is None or at is None or not datetime.timedelta(0) <= now - at <= NIGHT:
        return None, minutes
    setup = rig.setup
    begun = moment_of(setup.date or "") if setup is not None and setup.kind == "carried" else None
    return (last.outcome or "done" if begun is None or at >= begun else None), minutes


def _is_done(entry: DoneCondition) -> bool:
    return entry.outcome in (None, "done")


def _earlier_by_step(rig: Rig) -> dict[str, tuple[OutOfDate, ...]]:
    """Return the values of earlier set-ups by the step at which they are measured again or confirmed."""
    keys = {own.path: own.key for own in recorded_measurements(rig)}
    found: dict[str, tuple[OutOfDate, ...]] = {}
    calibration = calibration_from_earlier_setup(rig)
    for entry in (*from_earlier_setup(rig), *([calibration] if calibration is not None else [])):
        key = keys.get(entry.path, entry.row_id)
        step = next((name for name, kind in KINDS.items() if kind.applies(rig) and _settles(kind, key)), f"{PREFIX}run")
        found[step] = (*found.get(step, ()), entry)
    return found


def _settles(kind: _Kind, key: str) -> bool:
    """Return whether a value is measured at a step: by its key, or by how it begins where that ends in ``_``."""
    return any(key == own or (own.endswith("_") and key.startswith(own)) for own in kind.settles)


def ticked(rig: Rig, step_id: str, outcome: Outcome, minutes: float | None = None) -> Change:
    """Return the edit that notes what became of a step; a failure is noted as an incident too.

    Parameters
    ----------
    rig
        The rig.
    step_id
        Of the run-up, or an own condition's.
    outcome
        What became of it.
    minutes
        How long it took, where that was seen.

    Raises
    ------
    ValueError
        For a step that there is none of.
    """
    texts = {own.id: own.text for own in rig.conditions} | {name: kind.title for name, kind in KINDS.items()}
    if step_id not in texts:
        raise ValueError(f"there is no step {step_id[:40]} in the run-up; there are: {', '.join(texts)}")
    entry: JsonObject = {"condition": step_id, "date": utc_stamp()}
    if outcome != "done":
        entry["outcome"] = outcome
    if minutes is not None and outcome == "done":
        entry["minutes"] = round(minutes, 1)
    change = done_entries(rig, entry, {"done": "Done", "not_now": "Not now", "failed": "Failed"}[outcome])
    if outcome != "failed":
        return change
    kind = KINDS.get(step_id)
    words = kind.symptom if kind is not None else f"not met: {texts[step_id]}"
    incident: JsonObject = {
        "date": utc_stamp(),
        "step": kind.step if kind is not None else "ready",
        "symptom": words[:400],
    }
    return Change(change.label, (*change.values, (("incidents", len(rig.incidents)), incident)))


def confirmed(rig: Rig, step: RunUpStep) -> Change:
    """Return the edit that says that the values of earlier set-ups at a step still hold.

    Raises
    ------
    ValueError
        Where the step has none.
    """
    if not step.earlier:
        raise ValueError("no value of an earlier set-up is to be confirmed at this step")
    values = [one for entry in step.earlier for one in confirmation(rig, entry.path, f"confirmed at: {step.title}")]
    return Change("Confirm what was measured before", tuple(values))


def longest(steps: Sequence[RunUpStep]) -> tuple[RunUpStep, ...]:
    """Return the steps that took longest when they were last done, the longest first."""
    timed = [step for step in steps if step.last_minutes]
    return tuple(sorted(timed, key=lambda step: -(step.last_minutes or 0))[:LONGEST])
