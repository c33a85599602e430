"""Can the guiding do what the main sensor needs: centroid, calibration, dither, flexure, and field rotation?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import guiding
from wyntaxis.core.optics.guiding import SIDEREAL_ARCSEC_S
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import GUIDE_BRANCH
from wyntaxis.core.wording import number, short

POLAR_DECLINATION_DEG = 60.0
"""Beyond it a calibration in right ascension stretches fast, and should be made nearer the equator."""

_CENTROID_SOURCE = "c·s_g/s main px, under half a main pixel"
_CALIBRATION_SOURCE = "t = 1000 C s_g / (n · 15.041 · r · cos δ)"
_DITHER_SOURCE = "q main px are q·s/s_g guide px; under three centroid errors a dither is lost in the noise"
_FLEXURE_SOURCE = "Allowed drift: px · s / exposure"
_ROTATION_SOURCE = "ω = 7.2921e-5 cos φ cos A / cos h rad/s, t = px/(R ω): W. M. Smart, Spherical Astronomy"


def _unproven(finding_id: str, subject: str, title: str, remedy: str, source: str, *numbers: str) -> Finding:
    return Finding(finding_id, Verdict.UNPROVEN, subject, title, (), Remedy(remedy), source, numbers)


def _scales(evaluation: Evaluation) -> tuple[float, float] | None:
    """Return guide and main scale in arcsec/px, or None where there is nothing to guide with."""
    guide, main = evaluation.value("guide_scale_arcsec_px"), evaluation.value("pixel_scale_arcsec_px")
    return (guide, main) if guide is not None and main is not None else None


@finding("guiding.centroid", step=GUIDE_BRANCH, condition=conditions.GUIDING, after="load.focuser")
def centroid(evaluation: Evaluation) -> Iterator[Finding]:
    """Judge the guide camera's centroid error in main pixels, with the rig's own centroid error."""
    if evaluation.rig.guiding.kind == "none":
        return
    row, scales = evaluation.quantities["guide_centroid_main_px"], _scales(evaluation)
    key = "guide_centroid_main_px"
    if row.best is None or scales is None:
        text = "end the train and the guide path with a camera whose sensor is given"
        yield _unproven(
            "guiding.centroid", key, "The centroid error's effect is not known", text, _CENTROID_SOURCE, key
        )
        return
    guide, main = scales
    use = guide_use(evaluation.rig)
    error = use.centroid_px
    verdict, value = row.verdict, row.best.value
    remedy = NO_REMEDY
    if verdict is not Verdict.HOLDS:
        wanted = error * guiding.ALLOWED_MAIN_PX / value
        remedy = Remedy(
            f"bring the centroid error to {number(wanted, 2)} guide px or less with a brighter star, sharper focus or "
            f"a longer guide exposure, or guide with {number(value / guiding.ALLOWED_MAIN_PX, 1)} times the focal "
            "length"
        )
    yield Finding(
        "guiding.centroid",
        verdict,
        key,
        f"A centroid error of {short(error)} guide px moves the stars by {number(value, 2)} main px",
        (
            f"{short(error)} px{use.taken('centroid_px')} × {number(guide, 3)} ″/px = {number(error * guide, 3)}″",
            f"{number(error * guide, 3)} / {number(main, 3)} = {number(value, 3)} main px, allowed "
            f"{short(guiding.ALLOWED_MAIN_PX)}",
        ),
        remedy,
        _CENTROID_SOURCE,
        (key,),
    )


@finding("guiding.calibration", step=GUIDE_BRANCH, condition=conditions.GUIDING, after="guiding.centroid")
def calibration(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the calibration pulse that is set with the one that the scale and the declination ask for."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    key, row, guide = "calibration_pulse_ms", evaluation.quantities["calibration_pulse_ms"], _scales(evaluation)
    if row.computed is None or guide is None:
        text = "give the guide camera's sensor, and calibrate away from the pole"
        yield _unproven(
            "guiding.calibration", key, "The calibration pulse is not known", text, _CALIBRATION_SOURCE, key
        )
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
        lines.append(f"not stated, usual values taken: {', '.join(missing)}")
    set_it = Change.of("Set the calibration pulse", ("guiding", "settings", key), float(round(wanted)))
    stated = row.stated
    if stated is None:
        yield Finding(
            "guiding.calibration",
            Verdict.UNPROVEN,
            key,
            f"A calibration pulse of {number(wanted, 0)} ms is wanted; what is set is not stated",
            tuple(lines),
            Remedy(f"set {number(wanted, 0)} ms in the guide program, and state it here", set_it),
            _CALIBRATION_SOURCE,
            (key,),
        )
        return
    needed = guiding.pulses_needed(stated.value, wanted, use.pulses)
    lines.append(
        f"with {number(stated.value, 0)} ms the {short(use.distance_px)} px take {number(needed, 1)} pulses, wanted "
        f"{use.pulses}"
    )
    polar = abs(use.declination_deg) > POLAR_DECLINATION_DEG
    verdict = row.verdict
    remedy = NO_REMEDY if verdict is Verdict.HOLDS else Remedy(f"set {number(wanted, 0)} ms", set_it)
    if polar and verdict is Verdict.HOLDS:
        verdict = Verdict.TIGHT
        remedy = Remedy(
            f"calibrate nearer the celestial equator than {number(abs(use.declination_deg), 0)}°, where an error in "
            "declination does not stretch right ascension"
        )
    yield Finding(
        "guiding.calibration",
        verdict,
        key,
        f"The calibration pulse of {number(stated.value, 0)} ms "
        + ("suits" if row.verdict is Verdict.HOLDS else "does not suit")
        + f" the guide scale: {number(wanted, 0)} ms wanted",
        tuple(lines),
        remedy,
        _CALIBRATION_SOURCE,
        (key,),
    )


@finding("guiding.dither", step=GUIDE_BRANCH, condition=conditions.GUIDING, after="guiding.calibration")
def dither(evaluation: Evaluation) -> Iterator[Finding]:
    """Judge whether the guider can carry out the dither: above its noise, inside its search region."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    key, row, scales = "dither_guide_px", evaluation.quantities["dither_guide_px"], _scales(evaluation)
    if row.best is None or scales is None or row.target is None:
        text = "end the train and the guide path with a camera whose sensor is given"
        yield _unproven(
            "guiding.dither", key, "What a dither means to the guider is not known", text, _DITHER_SOURCE, key
        )
        return
    guide, main = scales
    use, region = guide_use(rig), rig.guiding.settings.search_region_px if rig.guiding.settings else None
    amount = use.dither_main_px
    value, least, most = row.best.value, row.target.low, row.target.high
    lines = [
        f"{short(amount)} main px{use.taken('dither_main_px')} × {number(main, 3)} / {number(guide, 3)} = "
        f"{number(value, 2)} guide px = {number(amount * main, 1)}″",
        f"at least three centroid errors: {number(least, 2)} guide px",
    ]
    verdict, remedy = row.verdict, NO_REMEDY
    if value < least:
        remedy = Remedy(f"dither by at least {number(amount * least / value, 1)} main px")
    elif value > most:
        remedy = Remedy(
            f"dither by at most {number(amount * most / value, 1)} main px, or widen the guider's search region to "
            f"{number(value, 0)} guide px: beyond it the star is lost"
        )
    if region is not None:
        lines.append(f"search region: {short(region)} guide px")
    yield Finding(
        "guiding.dither",
        verdict,
        key,
        f"A dither of {short(amount)} main px is {number(value, 1)} guide px"
        + (" – lost in the centroid noise" if value < least else " – beyond the search region" if value > most else ""),
        tuple(lines),
        remedy,
        _DITHER_SOURCE,
        (key,),
    )


@finding("guiding.flexure", step=GUIDE_BRANCH, condition=conditions.GUIDING, after="guiding.dither")
def flexure(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the measured drift between two telescopes with what one exposure allows."""
    rig = evaluation.rig
    if rig.guiding.kind == "none":
        return
    keys = ("flexure_arcsec_s", "flexure_budget_arcsec_s")
    if rig.guiding.kind == "off_axis":
        title = "Guide and main camera look through one telescope: no flexure between two to budget"
        yield Finding("guiding.flexure", Verdict.HOLDS, keys[0], title, (), NO_REMEDY, _FLEXURE_SOURCE, keys)
        return
    budget, row = evaluation.quantities[keys[1]].computed, evaluation.quantities[keys[0]]
    main, plan = evaluation.value("pixel_scale_arcsec_px"), rig.plan
    if budget is None or main is None or plan is None:
        text = "state the planned exposure (plan.exposure_s) and both sensors"
        yield _unproven(
            "guiding.flexure", keys[0], "How much flexure is allowed is not known", text, _FLEXURE_SOURCE, *keys
        )
        return
    use = guide_use(rig)
    allowed = use.drift_px
    lines = [
        f"allowed: {short(allowed)} px{use.taken('drift_px')} × {number(main, 3)} ″/px / "
        f"{short(plan.exposure_s)} s = {number(budget.value, 5)} ″/s"
    ]
    if row.best is None:
        yield Finding(
            "guiding.flexure",
            Verdict.UNPROVEN,
            keys[0],
            f"Two telescopes may bend apart by {number(60 * budget.value, 2)}″ a minute; what they do is not measured",
            tuple(lines),
            Remedy(
                "guide for an hour without dither, divide the stars' drift on the main frames by the time, and "
                "enter it "
                "as the measured flexure"
            ),
            _FLEXURE_SOURCE,
            keys,
        )
        return
    rate = abs(row.best.value)
    longest = f"{number(allowed * main / rate, 0)} s" if rate > 0 else "any length"
    lines.append(f"measured {number(rate, 5)} ″/s: {short(allowed)} px in {longest}")
    remedy = NO_REMEDY
    if row.verdict is not Verdict.HOLDS:
        remedy = Remedy(
            f"expose no longer than {longest}, stiffen the guide telescope's seat, or guide through a prism"
        )
    yield Finding(
        "guiding.flexure",
        row.verdict,
        keys[0],
        f"The telescopes bend apart by {number(rate * plan.exposure_s / main, 2)} main px in one exposure",
        tuple(lines),
        remedy,
        _FLEXURE_SOURCE,
        keys,
    )


@finding("rotation.exposure", step=GUIDE_BRANCH, condition=conditions.MOUNT, after="guiding.flexure", rank=1)
def rotation(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the planned exposure with what the field rotation of an alt-azimuth mount allows."""
    rig, key = evaluation.rig, "rotation_exposure_s"
    row, mount, sensor = evaluation.quantities[key], rig.mount, rig.sensor
    if mount is None:
        title = "Whether the field rotates is not known: the mount is not stated"
        yield _unproven("rotation.exposure", key, title, "state the mount's kind (mount.kind)", _ROTATION_SOURCE, key)
        return
    if mount.kind == "equatorial":
        title = "An equatorial mount follows the sky: the field does not rotate but by its polar alignment"
        yield Finding("rotation.exposure", Verdict.HOLDS, key, title, (), NO_REMEDY, _ROTATION_SOURCE, (key,))
        return
    if row.computed is None or rig.site is None or rig.framing is None or sensor is None or rig.plan is None:
        needs = {"site": rig.site, "camera": sensor, "framing (Footprint)": rig.framing, "planned exposure": rig.plan}
        missing = ", ".join(name for name, value in needs.items() if value is None) or "place in the sky"
        title = "How long a frame may be before the field's rotation shows is not known"
        yield _unproven("rotation.exposure", key, title, f"state the {missing}", _ROTATION_SOURCE, key)
        return
    longest = row.computed.value
    altitude = guiding.culmination_altitude(rig.site.latitude_deg, rig.framing.dec_deg)
    from wyntaxis.core.optics import field_rotation

    rate = abs(float(field_rotation.rotation_rate(rig.site.latitude_deg, 180.0, min(altitude, 89.99))))
    allowed = guide_use(rig).drift_px
    smear = sensor.corner_px * rate * rig.plan.exposure_s
    remedy = NO_REMEDY
    if row.verdict is not Verdict.HOLDS:
        remedy = Remedy(
            f"expose no longer than {short(math.floor(10 * longest) / 10, 1)} s on the meridian (the map of the "
            "Guide branch shows the rest of the sky), or turn the camera against it with a driven rotator"
        )
    yield Finding(
        "rotation.exposure",
        row.verdict,
        key,
        f"At {number(altitude, 0)}° on the meridian the corner smears {number(smear, 1)} px in "
        f"{short(rig.plan.exposure_s)} s",
        (
            f"ω = 7.2921e-5 × cos {number(rig.site.latitude_deg, 1)}° / cos {number(altitude, 1)}° = {rate:.3e} rad/s",
            f"corner at {number(sensor.corner_px, 0)} px: {short(allowed)} px after {number(longest, 1)} s, planned "
            f"{short(rig.plan.exposure_s)} s",
        ),
        remedy,
        _ROTATION_SOURCE,
        (key,),
    )
