"""Can the guiding do what the main sensor needs: centroid, calibration, dither, flexure, and field rotation?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import field_rotation, guiding
from wyntaxis.core.optics.guiding import ALLOWED_MAIN_PX, SIDEREAL_ARCSEC_S
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantity_kinds import (
    CALIBRATION_PULSE,
    DITHER_GUIDE,
    FLEXURE,
    FLEXURE_BUDGET,
    GUIDE_CENTROID,
    GUIDE_SCALE,
    PIXEL_SCALE,
    ROTATION_EXPOSURE,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import GUIDE_BRANCH
from wyntaxis.core.wording import number, short

POLAR_DECLINATION_DEG = 60.0
"""Beyond it a calibration in right ascension stretches fast, and should be made nearer the equator."""
_CAMERAS = "End the train and the guide path with a camera whose sensor is entered."


def _scales(evaluation: Evaluation) -> tuple[float, float] | None:
    """Return guide and main scale in arcsec/px, or None where there is nothing to guide with."""
    guide, main = evaluation.value(GUIDE_SCALE), evaluation.value(PIXEL_SCALE)
    return (guide, main) if guide is not None and main is not None else None


@finding(
    "guiding.centroid",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="load.focuser"),
    source="c·s_g/s main px, under half a main pixel",
    titles={
        "": "A centroid error of {error} guide px moves the stars by {moved:2} main px (allowed {allowed})",
        "not known": "The effect of the centroid error is not known",
    },
    remedies={
        "": "Reduce the centroid error to {wanted:2} guide px or less with a brighter star, sharper focus or a longer "
        "guide exposure, or guide with {factor:1} times the focal length.",
        "not known": _CAMERAS,
    },
)
def centroid(evaluation: Evaluation) -> Iterator[Statement]:
    """Judge the guide camera's centroid error in main pixels, with the rig's own centroid error."""
    if evaluation.rig.guiding.kind == "none":
        return
    row, scales = evaluation.quantity(GUIDE_CENTROID), _scales(evaluation)
    if row.best is None or scales is None:
        yield say(row.id, row, Verdict.UNPROVEN, case="not known")
        return
    guide, main = scales
    use = guide_use(evaluation.rig)
    error, value = use.centroid_px, row.best.value
    lines = (
        f"{short(error)} px{use.taken('centroid_px')} × {number(guide, 3)} ″/px = {number(error * guide, 3)}″",
        f"{number(error * guide, 3)} / {number(main, 3)} = {number(value, 3)} main px, allowed "
        f"{short(ALLOWED_MAIN_PX)}",
    )
    factor = value / ALLOWED_MAIN_PX
    wanted = error / factor if factor else error
    named = {"error": error, "moved": value, "allowed": ALLOWED_MAIN_PX, "wanted": wanted, "factor": factor}
    yield say(row.id, row, None, named, lines=lines)


@finding(
    "guiding.calibration",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="guiding.centroid"),
    source="t = 1000 C s_g / (n · 15.041 · r · cos δ)",
    titles={
        "suits": "The calibration pulse of {stated:0} ms suits the guide scale ({wanted:0} ms computed)",
        "off": "The calibration pulse of {stated:0} ms does not suit the guide scale ({wanted:0} ms computed)",
        "not stated": "The calibration pulse should be {wanted:0} ms; the one in use is not entered",
        "not known": "The calibration pulse is not known",
    },
    remedies={
        "off": "Set {wanted:0} ms.",
        "equator": "Calibrate nearer the celestial equator than {declination:0}°, where an error in declination "
        "does not "
        "stretch right ascension.",
        "not stated": "Set {wanted:0} ms in the guide program, and enter it here.",
        "not known": "Enter the guide camera's sensor, and calibrate away from the pole.",
    },
)
def calibration(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the calibration pulse that is set with the one that the scale and the declination ask for."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    row, guide = evaluation.quantity(CALIBRATION_PULSE), _scales(evaluation)
    if row.computed is None or guide is None:
        yield say(row.id, row, Verdict.UNPROVEN, case="not known")
        return
    use, wanted = guide_use(rig), row.computed.value
    names = {"rate_sidereal": "guide rate", "distance_px": "distance", "pulses": "pulses"}
    missing = [words for name, words in names.items() if name in use.usual]
    lines = [
        f"1000 × {short(use.distance_px)} px × {number(guide[0], 3)} ″/px / ({use.pulses} × "
        f"{short(SIDEREAL_ARCSEC_S)} ″/s × {short(use.rate_sidereal)} × cos {number(use.declination_deg, 1)}°) = "
        f"{number(wanted, 0)} ms",
    ]
    if missing:
        lines.append(f"not entered, usual values used: {', '.join(missing)}")
    named: dict[str, Named] = {"wanted": wanted, "declination": abs(use.declination_deg)}
    change = Change.of("Set the calibration pulse", ("guiding", "settings", row.id), float(round(wanted)))
    if row.stated is None:
        yield say(row.id, row, Verdict.UNPROVEN, named, case="not stated", lines=lines).with_edit(change)
        return
    stated, verdict = row.stated.value, row.verdict
    needed = guiding.pulses_needed(stated, wanted, use.pulses)
    lines.append(
        f"with {number(stated, 0)} ms the {short(use.distance_px)} px take {number(needed, 1)} pulses, wanted "
        f"{use.pulses}"
    )
    named["stated"] = stated
    if verdict is not Verdict.HOLDS:
        yield say(row.id, row, verdict, named, case="off", lines=lines).with_edit(change)
    elif abs(use.declination_deg) > POLAR_DECLINATION_DEG:
        yield say(row.id, row, Verdict.TIGHT, named, case="suits", cure="equator", lines=lines)
    else:
        yield say(row.id, row, verdict, named, case="suits", cure="none", lines=lines)


@finding(
    "guiding.dither",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="guiding.calibration"),
    source="q main px are q·s/s_g guide px; under three centroid errors a dither is lost in the noise",
    titles={
        "": "A dither of {amount} main px is {guide:1} guide px",
        "lost": "A dither of {amount} main px is {guide:1} guide px, which is lost in the centroid noise",
        "too wide": "A dither of {amount} main px is {guide:1} guide px, which is beyond the search region",
        "not known": "The size of a dither on the guide camera is not known",
    },
    remedies={
        "": "",
        "lost": "Dither by at least {least:1} main px.",
        "too wide": "Dither by at most {most:1} main px, or widen the guider's search region to {guide:0} guide px: "
        "beyond "
        "it the star is lost.",
        "not known": _CAMERAS,
    },
)
def dither(evaluation: Evaluation) -> Iterator[Statement]:
    """Judge whether the guider can carry out the dither: above its noise, inside its search region."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    row, scales = evaluation.quantity(DITHER_GUIDE), _scales(evaluation)
    if row.best is None or scales is None or row.target is None:
        yield say(row.id, row, Verdict.UNPROVEN, case="not known")
        return
    guide, main = scales
    use, region = guide_use(rig), rig.guiding.settings.search_region_px if rig.guiding.settings else None
    amount, value, least, most = use.dither_main_px, row.best.value, row.target.low, row.target.high
    lines = [
        f"{short(amount)} main px{use.taken('dither_main_px')} × {number(main, 3)} / {number(guide, 3)} = "
        f"{number(value, 2)} guide px = {number(amount * main, 1)}″",
        f"at least three centroid errors: {number(least, 2)} guide px",
    ]
    if region is not None:
        lines.append(f"search region: {short(region)} guide px")
    named = {"amount": amount, "guide": value, "least": amount * least / value, "most": amount * most / value}
    case = "lost" if value < least else "too wide" if value > most else "suits"
    yield say(row.id, row, None, named, case=case, lines=lines)


@finding(
    "guiding.flexure",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.GUIDING),
    listed=Listed(after="guiding.dither"),
    source="Allowed drift: px · s / exposure",
    titles={
        "": "Flexure between the telescopes moves the image by {drift:2} main px in one exposure (allowed {allowed})",
        "one telescope": "Guide and main camera use one telescope, so there is no flexure between two",
        "not measured": "Flexure between the telescopes may be {budget:2}″ a minute; it is not measured",
        "not known": "The allowed flexure is not known",
    },
    remedies={
        "": "Expose no longer than {longest}, stiffen the guide telescope's mounting, or guide through a prism.",
        "one telescope": "",
        "not measured": "Guide for an hour without dither, divide the stars' drift on the main frames by the time, and "
        "enter it as the measured flexure.",
        "not known": "Enter the planned exposure (plan.exposure_s) and both sensors.",
    },
)
def flexure(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the measured drift between two telescopes with what one exposure allows."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    row, budget = evaluation.quantity(FLEXURE), evaluation.quantity(FLEXURE_BUDGET)
    rows = (row, budget)
    if rig.guiding.kind == "off_axis":
        yield say(row.id, rows, Verdict.HOLDS, case="one telescope")
        return
    main, plan = evaluation.value(PIXEL_SCALE), rig.plan
    if budget.computed is None or main is None or plan is None:
        yield say(row.id, rows, Verdict.UNPROVEN, case="not known")
        return
    use, most = guide_use(rig), budget.computed.value
    allowed = use.drift_px
    lines = [
        f"allowed: {short(allowed)} px{use.taken('drift_px')} × {number(main, 3)} ″/px / "
        f"{short(plan.exposure_s)} s = {number(most, 5)} ″/s"
    ]
    if row.best is None:
        yield say(row.id, rows, Verdict.UNPROVEN, {"budget": 60 * most}, case="not measured", lines=lines)
        return
    rate = abs(row.best.value)
    longest = f"{number(allowed * main / rate, 0)} s" if rate > 0 else "any length"
    lines.append(f"measured {number(rate, 5)} ″/s: {short(allowed)} px in {longest}")
    named: dict[str, Named] = {"drift": rate * plan.exposure_s / main, "allowed": allowed, "longest": longest}
    yield say(row.id, rows, row.verdict, named, lines=lines)


@finding(
    "rotation.exposure",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.MOUNT, rank=1),
    listed=Listed(after="guiding.flexure"),
    source="ω = 7.2921e-5 cos φ cos A / cos h rad/s, t = px/(R ω): W. M. Smart, Spherical Astronomy",
    titles={
        "": "At {altitude:0}° on the meridian the corner smears by {smear:1} px in {exposure} s (allowed {allowed})",
        "equatorial": "An equatorial mount follows the sky: the field rotates only by the polar error",
        "no mount": "Whether the field rotates is not known: the mount is not entered",
        "not known": "The longest exposure before field rotation shows is not known",
    },
    remedies={
        "": "Expose no longer than {longest:1} s on the meridian (the map of the Guide branch shows the rest of the "
        "sky), "
        "or counter the rotation with a driven rotator.",
        "equatorial": "",
        "no mount": "Enter the mount's kind (mount.kind).",
        "not known": "Enter the {missing}.",
    },
)
def rotation(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the planned exposure with what the field rotation of an alt-azimuth mount allows."""
    rig, row = evaluation.rig, evaluation.quantity(ROTATION_EXPOSURE)
    mount, sensor = rig.mount, rig.sensor
    if mount is None:
        yield say(row.id, row, Verdict.UNPROVEN, case="no mount")
        return
    if mount.kind == "equatorial":
        yield say(row.id, row, Verdict.HOLDS, case="equatorial")
        return
    if row.computed is None or rig.site is None or rig.framing is None or sensor is None or rig.plan is None:
        needs = {"site": rig.site, "camera": sensor, "framing (Footprint)": rig.framing, "planned exposure": rig.plan}
        missing = ", ".join(name for name, value in needs.items() if value is None) or "place in the sky"
        yield say(row.id, row, Verdict.UNPROVEN, {"missing": missing}, case="not known")
        return
    longest, exposure = row.computed.value, rig.plan.exposure_s
    altitude = guiding.culmination_altitude(rig.site.latitude_deg, rig.framing.dec_deg)
    rate = abs(float(field_rotation.rotation_rate(rig.site.latitude_deg, 180.0, min(altitude, 89.99))))
    allowed = guide_use(rig).drift_px
    lines = (
        f"ω = 7.2921e-5 × cos {number(rig.site.latitude_deg, 1)}° / cos {number(altitude, 1)}° = {rate:.3e} rad/s",
        f"corner at {number(sensor.corner_px, 0)} px: {short(allowed)} px after {number(longest, 1)} s, planned "
        f"{short(exposure)} s",
    )
    named = {
        "altitude": altitude,
        "smear": sensor.corner_px * rate * exposure,
        "exposure": exposure,
        "allowed": allowed,
        "longest": math.floor(10 * longest) / 10,
    }
    yield say(row.id, row, None, named, lines=lines)
