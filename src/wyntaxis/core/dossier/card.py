"""The field card: one page for the night, read by day or by a red lamp, with what to do at its start and end."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.private import Secrets, scrubbed, without_private
from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.night_plan import CLOSING
from wyntaxis.core.sky.coordinates import coordinates_text
from wyntaxis.core.sky.night import night_of
from wyntaxis.core.wording import counted, number, short

NUMBERS = (
    ("effective_focal_length_mm", 0), ("pixel_scale_arcsec_px", 3), ("field_width_deg", 2), ("field_height_deg", 2),
    ("back_focus_required_mm", 2), ("guide_scale_arcsec_px", 3),
)  # fmt: skip
MOST_LINES = 14
MOST_SETTINGS = 20
MOST_TARGETS = 6
MOST_FINDINGS = 5
STEP_WORDS = {
    "outlets_on": "Outlets on", "connect": "Connect every device", "open_roof": "Open the roof",
    "open_cover": "Open the cover", "unpark": "Unpark", "wait_dark": "Wait until it is dark",
    "slew": "Slew to the object", "solve": "Solve and centre", "rotate": "Turn to the angle",
    "rough_focus": "Focus roughly", "focus": "Focus run", "calibrate_guiding": "Calibrate guiding", "guide": "Guide",
    "stop_guiding": "Stop guiding", "park": "Park", "close_cover": "Close the cover", "close_roof": "Close the roof",
    "warm_up": "Warm the sensor up", "disconnect": "Disconnect", "outlets_off": "Outlets off", "flats": "Take flats",
    "darks": "Take darks",
}  # fmt: skip
NO_PLAN_START: tuple[str, ...] = (
    "outlets_on",
    "connect",
    "cool",
    "unpark",
    "focus",
    "solve",
    "calibrate_guiding",
    "guide",
)
NO_PLAN_END: tuple[str, ...] = ("stop_guiding", "park", "warm_up", "disconnect", "outlets_off")


@dataclass(frozen=True)
class Card:
    """One page: chief numbers, settings to check, targets with their exposures, what to do at the start and at the end,
    the imager's own conditions among them, and what is still open.
    """

    rig: str
    made: str
    numbers: tuple[tuple[str, str], ...]
    settings: tuple[tuple[str, str], ...]
    start: tuple[str, ...]
    end: tuple[str, ...]
    still_open: tuple[str, ...]
    targets: tuple[str, ...] = ()
    exposures: tuple[str, ...] = ()
    tonight: tuple[str, ...] = ()
    """Dark hours, moon, and when each target crosses the meridian and the mount flips, in UTC."""


def card_of(given: DossierInput) -> Card:
    """Return the field card of a rig; a private one without site, serial numbers and hosts."""
    secrets = Secrets()
    evaluation = given.evaluation
    if given.private:
        rig, secrets = without_private(evaluation.rig)
        evaluation = evaluate(rig)
    rig = evaluation.rig
    entries = []
    for key, decimals in NUMBERS:
        row = evaluation.rows.get(key)
        if row is not None and row.best is not None:
            space = "" if row.kind.unit in ("°", "″") else " "
            entries.append((row.kind.label, f"{number(row.best.value, decimals)}{space}{row.kind.unit}".strip()))
    steps: list[str] = [step.do for step in rig.plan.steps] if rig.plan is not None else []
    frames = ("sequence", "flats", "darks")
    start = [do for do in steps if do not in CLOSING and do not in frames] or list(NO_PLAN_START)
    end = [do for do in steps if do in (*CLOSING, *frames[1:])] or list(NO_PLAN_END)
    before = [own.text for own in rig.conditions if own.before_dark]
    after = [own.text for own in rig.conditions if not own.before_dark]
    begin = [*before, *(_words(do, rig) for do in dict.fromkeys(start)), *after]
    worse = sorted((f for f in evaluation.findings if f.is_open), key=lambda f: -f.verdict.severity)
    worst = [f for f in worse if f.verdict in (Verdict.FAILS, Verdict.TIGHT)][:MOST_FINDINGS]

    def text(words: str) -> str:
        return scrubbed(words, secrets)

    return Card(
        text(rig.name),
        given.today.isoformat(),
        tuple(entries),
        tuple((text(a), text(b)) for a, b in _settings(evaluation)),
        tuple(text(words) for words in begin)[: MOST_LINES + len(rig.conditions)],
        tuple(text(_words(do, rig)) for do in dict.fromkeys(end))[:MOST_LINES],
        tuple(text(f.title) for f in worst),
        tuple(text(words) for words in _targets(rig))[:MOST_TARGETS],
        tuple(text(words) for words in _exposures(rig))[:MOST_LINES],
        () if given.private else tuple(_tonight(rig, given.today)),
    )


def _clock(seconds: float) -> str:
    return datetime.datetime.fromtimestamp(round(seconds / 60) * 60, datetime.UTC).strftime("%H:%M")


def _tonight(rig: Rig, date: datetime.date) -> Iterator[str]:
    """Yield the dark hours of a date's night, its moon, and each target's way, in UTC; nothing without a site."""
    targets = [(own.name, own.ra_deg, own.dec_deg) for own in rig.plan.targets] if rig.plan is not None else []
    if not targets and rig.framing is not None:
        targets = [(rig.framing.name or "object", rig.framing.ra_deg, rig.framing.dec_deg)]
    if rig.site is None or not targets:
        return
    mount = next((device for device in rig.devices if device.kind == "mount"), None)
    flips = rig.mount is not None and rig.mount.kind == "equatorial"
    try:
        margin = mount.number("flip_margin_min") if mount is not None and flips else None
        night = night_of(rig.site, targets[:MOST_TARGETS], date, margin)
    except ValueError:
        return
    dark = ", ".join(f"{_clock(start)} to {_clock(end)}" for start, end in night.dark)
    yield f"Dark {dark} UTC, {number(night.dark_hours, 1)} h" if dark else "It does not get dark"
    moon = night.moon
    yield f"Moon {number(100 * moon.illuminated, 0)} % lit, up for {number(moon.hours_up_dark, 1)} h of the dark"
    for own in night.objects:
        words = [f"{own.name}: meridian {_clock(own.transit)}" if own.transit is not None else own.name]
        words += [f"flip {_clock(own.flip)}"] if own.flip is not None else []
        words.append(f"moon {number(own.moon_apart_deg, 0)}° away")
        yield ", ".join(words)


def _targets(rig: Rig) -> list[str]:
    """Return what is pointed at, each with its coordinates, its angle, and when it may be taken."""
    found = []
    for target in rig.plan.targets if rig.plan is not None else ():
        words = [f"{target.name}: {coordinates_text(target.ra_deg, target.dec_deg)}"]
        words += [f"angle {short(target.angle_deg)}°"] if target.angle_deg is not None else []
        words += [f"from {target.start}"] if target.start is not None else []
        words += [f"until {target.stop}"] if target.stop is not None else []
        words += [f"over {short(target.min_altitude_deg)}°"] if target.min_altitude_deg is not None else []
        found.append(", ".join(words))
    framing = rig.framing
    if not found and framing is not None:
        place = coordinates_text(framing.ra_deg, framing.dec_deg)
        found.append(f"{framing.name or 'object'}: {place}, angle {short(framing.position_angle_deg)}°")
    return found


def _exposures(rig: Rig) -> list[str]:
    """Return what is taken, a line for each sequence that differs, blocks with how often."""
    found: dict[str, list[str]] = {}
    for step in rig.plan.steps if rig.plan is not None else ():
        if step.do == "sequence" and step.exposure_s is not None:
            times = f" × {step.repeat} times" if step.repeat is not None else ""
            count = f"until {step.until}" if step.frames is None and step.until else counted(step.frames or 1, "frame")
            filters = found.setdefault(f"{count} of {short(step.exposure_s)} s{times}", [])
            if step.filter and step.filter not in filters:
                filters.append(step.filter)
    return [f"{', '.join(filters)}: {words}" if filters else words for words, filters in found.items()]


def _settings(evaluation: Evaluation) -> list[tuple[str, str]]:
    """Return what is checked before the night: gain, offset, temperature, slots, flip, the solver's scales, outlets."""
    rig, found = evaluation.rig, []
    for device in rig.devices:
        for key, label, unit in (
            ("gain", "gain", ""), ("offset", "offset", ""), ("set_temperature_c", "set at", "°C"),
            ("position", "focus near", "steps"), ("run_step", "run step", "steps"),
            ("flip_margin_min", "flip after", "min"),
        ):  # fmt: skip
            value = device.number(key)
            if value is not None:
                found.append(
                    (f"{device.title}: {label}", f"{short(value)} {unit}".strip().replace("-", "\N{MINUS SIGN}"))
                )
        if device.slots:
            names = [f"{place} {slot.name}" for place, slot in enumerate(device.slots, start=1) if slot.name.strip()]
            found.append((f"{device.title}: slots", ", ".join(names)))
    guiding = rig.guiding.settings
    if guiding is not None:
        for words, value, unit in (
            ("Dither", guiding.dither_main_px, "main px"),
            ("Calibration pulse", guiding.calibration_pulse_ms, "ms"),
        ):
            if value is not None:
                found.append((words, f"{short(value)} {unit}"))
    hints = evaluation.search
    if hints is not None:
        found.append(("Plate solver", f"{number(hints.low_arcsec_px, 2)} to {number(hints.high_arcsec_px, 2)} ″/px"))
    for supply in rig.supplies:
        drawn = [(d.power.outlet, d.title) for d in rig.devices if d.power is not None and d.power.supply == supply.id]
        outlets = [f"{outlet} {title}" for outlet, title in drawn if outlet]
        if outlets:
            found.append((f"{supply.name or supply.id}: outlets", ", ".join(outlets)))
    return found[:MOST_SETTINGS]


def _words(do: str, rig: Rig) -> str:
    if do == "cool":
        camera = next((d for d in rig.devices if d.kind == "camera"), None)
        target = camera.number("set_temperature_c") if camera is not None else None
        return f"Cool to {short(target)} °C" if target is not None else "Cool the camera"
    return STEP_WORDS.get(do, do.replace("_", " ").capitalize())
