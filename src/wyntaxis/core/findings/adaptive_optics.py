"""Can the adaptive-optics unit work: is the guide star behind it, the exposure short enough, the range enough?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import guiding as drifts
from wyntaxis.core.optics.tip_tilt import minutes_to_end, plate_shift_mm, range_on_sky_arcsec
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, POLAR_ERROR
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.steps import GUIDE_BRANCH
from wyntaxis.core.train.guidepath import pickoff_index
from wyntaxis.core.wording import number, short

KIND = "adaptive_optics"
FULL_SHARE = 0.8
"""Exposures over this share of a correction's time leave little for reading out the star and tilting the plate."""
SAME_RANGE = 0.1
"""How far the range may differ from what the plate's tilt gives, as a share."""
HOURS = 8.0
"""How long a night is where the plan does not say."""
ROUND_OFF = 1e-9


def _units(evaluation: Evaluation) -> list[tuple[Device, int | None]]:
    """Return the units of a rig, each with its place in the train; None for one that is not in it."""
    train = evaluation.rig.train
    of_kind = [place for place, part in enumerate(train) if part.kind == KIND]
    found = []
    for device in evaluation.rig.devices:
        if device.kind == KIND:
            own = next((place for place, part in enumerate(train) if part.id == device.part), None)
            found.append((device, own if own is not None or device.part else next(iter(of_kind), None)))
    return found


@finding(
    "adaptive_optics.place",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="rotation.exposure"),
    source="Only what is behind the tilting plate sees the image still",
    titles={
        "before": "{unit} is before {pickoff}: the guide star moves with the image",
        "behind": "{unit} is behind {pickoff}: the guide star does not see it, and the plate runs to its end",
        "apart": "{unit} does not move the guide star: the guide camera looks through another telescope",
        "no guider": "{unit} has no guide star: the rig has no guide camera",
        "not in the train": "It is not known whether {unit} is before the guide camera's pick-off",
    },
    remedies={
        "behind": "Put {unit} before {pickoff}.",
        "apart": "Guide with an off-axis guider behind {unit}.",
        "no guider": "Guide with an off-axis guider behind {unit}.",
        "not in the train": "Add it to the train, with its length and its plate, and choose it as the device's part.",
    },
)
def place(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the guide star picked off behind the plate?"""
    rig = evaluation.rig
    pickoff = pickoff_index(rig)
    for device, at in _units(evaluation):
        named: dict[str, Named] = {"unit": device.title}
        if rig.guiding.kind == "none":
            yield say(device.id, None, Verdict.FAILS, named, case="no guider")
        elif pickoff is None:
            yield say(device.id, None, Verdict.FAILS, named, case="apart")
        elif at is None:
            yield say(device.id, None, Verdict.UNPROVEN, named, case="not in the train")
        else:
            named["pickoff"] = rig.train[pickoff].title
            is_before = at < pickoff
            verdict = Verdict.HOLDS if is_before else Verdict.FAILS
            lines = [f"place in the train: {device.title} {at + 1}, {rig.train[pickoff].title} {pickoff + 1}"]
            yield say(device.id, None, verdict, named, case="before" if is_before else "behind", lines=lines)


@finding(
    "adaptive_optics.rate",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="adaptive_optics.place"),
    source="One correction needs one exposure of the guide star",
    titles={
        "holds": "Guide exposures of {exposure} s allow {unit} its {rate} corrections a second",
        "tight": "Guide exposures of {exposure} s leave {unit} little time for {rate} corrections a second",
        "fails": "{unit} is to correct {rate} times a second; guide exposures of {exposure} s allow {most:2} a second",
        "not known": "It is not known whether guide exposures are short enough for {unit}",
    },
    remedies={
        "": "Set guide exposures of {wanted:3} s or less, with a star bright enough for them, or fewer corrections.",
        "not known": "Enter how often it corrects, and the guide exposure.",
    },
)
def rate(evaluation: Evaluation) -> Iterator[Statement]:
    """Does a guide exposure fit between two corrections?"""
    settings = evaluation.rig.guiding.settings
    exposure = settings.exposure_s if settings is not None else None
    for device, _ in _units(evaluation):
        times = device.best("correction_rate_hz")
        if times is None or not exposure:
            yield say(device.id, None, Verdict.UNPROVEN, {"unit": device.title}, case="not known")
            continue
        share = exposure * times
        fails, tight = share > 1 + ROUND_OFF, share > FULL_SHARE + ROUND_OFF
        named: dict[str, Named] = {
            "unit": device.title,
            "exposure": exposure,
            "rate": times,
            "most": 1 / exposure,
            "wanted": FULL_SHARE / times,
        }
        lines = [f"{short(exposure)} s × {short(times)} /s = {number(share, 2)}, at most 1"]
        verdict = Verdict.FAILS if fails else Verdict.TIGHT if tight else Verdict.HOLDS
        yield say(device.id, None, verdict, named, lines=lines)


def plate_range_um(device: Device, part: Part | None) -> float | None:
    """Return how far a unit's plate moves the image by its tilt, in µm; None where tilt or plate is not entered."""
    tilt = device.best("tilt_limit_deg")
    if tilt is None or part is None or not part.glass:
        return None
    return 1000 * math.fsum(plate_shift_mm(plate.thickness_mm, plate.index, tilt) for plate in part.glass)


@finding(
    "adaptive_optics.range",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="adaptive_optics.rate"),
    source="d = t sin θ (1 − cos θ / √(n² − sin² θ)): W. J. Smith; drift of 0.2625 ″/min for 1′ of polar error",
    titles={
        "helped": "{unit} moves the image by ±{range:1}″, and the mount helps from {percent:0} % of it",
        "lasts": "{unit} follows the drift alone for {minutes:0} min, longer than the night",
        "ends": "{unit} is at its end after {minutes:0} min of drift: the mount does not help it",
        "drift not known": "It is not known how long {unit} stays in its range of ±{range:1}″",
        "range not known": "It is not known how far {unit} can move the image",
        "differs": "{unit} is to move the image by ±{stated:1} µm; its plate moves it by ±{computed:1} µm",
    },
    remedies={
        "ends": "Have the guide program move the mount from about 50 % of the range, and enter it.",
        "drift not known": "Enter from which share of the range the mount helps, or measure the polar error.",
        "range not known": "Enter how far it moves the image, or its plate and how far that tilts; and the telescope.",
        "differs": "Correct the range, the plate's thickness and index, or how far it tilts.",
    },
)
def stays_in_range(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the plate stay within its range all night?"""
    rig = evaluation.rig
    focal = evaluation.quantity(FOCAL_LENGTH).best
    for device, at in _units(evaluation):
        stated = device.best("tilt_range_um")
        computed = plate_range_um(device, rig.train[at] if at is not None else None)
        named: dict[str, Named] = {"unit": device.title}
        range_um = stated if stated is not None else computed
        if range_um is None or focal is None:
            yield say(device.id, None, Verdict.UNPROVEN, named, case="range not known")
            continue
        on_sky = range_on_sky_arcsec(range_um, focal.value)
        named["range"] = on_sky
        lines = [f"{number(range_um, 1)} µm / {number(focal.value, 1)} mm = {number(on_sky, 1)}″ each way"]
        if stated is not None and computed is not None:
            lines.append(f"by the plate's tilt: {number(computed, 1)} µm")
            if abs(computed - stated) > SAME_RANGE * stated * (1 + ROUND_OFF):
                named |= {"stated": stated, "computed": computed}
                yield say(device.id, None, Verdict.FAILS, named, case="differs", lines=lines)
        yield _lasting(evaluation, device, on_sky, named, lines)


def _lasting(
    evaluation: Evaluation, device: Device, on_sky: float, named: dict[str, Named], lines: list[str]
) -> Statement:
    """Return what is to be said of how long a unit stays in its range."""
    percent, row = device.best("mount_moves_percent"), evaluation.quantity(POLAR_ERROR)
    error = row.best
    if percent is not None:
        return say(device.id, None, Verdict.HOLDS, named | {"percent": percent}, case="helped", lines=lines)
    if error is None:
        return say(device.id, None, Verdict.UNPROVEN, named, case="drift not known", lines=lines)
    drift = drifts.POLAR_DRIFT * error.value
    minutes = minutes_to_end(on_sky, drift)
    plan = evaluation.rig.plan
    hours = plan.hours if plan is not None and plan.hours is not None else HOURS
    lines = [
        *lines,
        f"{number(error.value, 2)}′ × {drifts.POLAR_DRIFT:.4f} = {number(drift, 3)} ″/min at the most",
        f"{number(on_sky, 1)} / {number(drift, 3)} = {number(minutes, 0)} min of {number(60 * hours, 0)}"
        + ("" if plan is not None and plan.hours is not None else ", not stated: usual"),
    ]
    ends = minutes < 60 * hours
    if not ends and row.measured is None:
        # One drift gives the least polar error that it may come from: longer than the night is no proof.
        return say(device.id, None, Verdict.UNPROVEN, named, case="drift not known", lines=lines)
    verdict = Verdict.FAILS if ends else Verdict.HOLDS
    named = named | {"minutes": minutes}
    return say(device.id, None, verdict, named, case="ends" if ends else "lasts", lines=lines)
