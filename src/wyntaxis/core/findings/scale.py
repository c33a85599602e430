"""Do the pixels suit the seeing, and can the guide camera see what the main one would?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import imaging
from wyntaxis.core.optics.guiding import ALLOWED_MAIN_PX, CENTROID_ERROR_PX
from wyntaxis.core.steps import GUIDE_BRANCH, SCALES
from wyntaxis.core.train.sampling import match_advice, sampling_word
from wyntaxis.core.wording import number, short

_SAMPLING_SOURCE = "Nyquist sampling of a Gaussian star image: about 2 px to the FWHM; under 1.5 and over 4 are off"
_GUIDE_SOURCE = "Centroid error of 0.1 to 0.2 guide px, to stay under half a main pixel"


@finding("sampling.main", step=SCALES, after="spacing.guide")
def main_sampling(evaluation: Evaluation) -> Iterator[Finding]:
    """Judge the pixel scale against the site's seeing."""
    rig, row = evaluation.rig, evaluation.quantities["sampling_px_per_fwhm"]
    sensor, scale, focal = (
        rig.sensor,
        evaluation.value("pixel_scale_arcsec_px"),
        evaluation.value("effective_focal_length_mm"),
    )
    seeing = rig.site.seeing_fwhm_arcsec if rig.site else None
    if row.best is None or sensor is None or scale is None or focal is None or seeing is None:
        missing = "the site's seeing (site.seeing_fwhm_arcsec)" if sensor else "the camera and its sensor"
        yield Finding(
            "sampling.main",
            Verdict.UNPROVEN,
            "sampling_px_per_fwhm",
            "The sampling is not known",
            (),
            Remedy(f"state {missing}"),
            _SAMPLING_SOURCE,
        )
        return
    value = row.best.value
    yield Finding(
        id="sampling.main",
        verdict=row.verdict,
        subject="sampling_px_per_fwhm",
        title=f"{_sampling_title(value)}: {number(value, 2)} px to a seeing FWHM of {short(seeing)}″",
        arithmetic=(
            f"scale: {number(imaging.ARCSEC_PER_RADIAN / 1000, 6)} × {short(sensor.pixel_um)} µm × {sensor.binning} / "
            f"{number(focal, 2)} mm = {number(scale, 3)} ″/px",
            f"sampling: {short(seeing)} / {number(scale, 3)} = {number(value, 2)} px/FWHM, matched from "
            f"{short(imaging.MATCHED_FROM)} to {short(imaging.MATCHED_TO)}",
        ),
        remedy=_sampling_remedy(value, sensor.binning, focal),
        source=_SAMPLING_SOURCE,
        quantities=("sampling_px_per_fwhm", "pixel_scale_arcsec_px"),
    )


def _sampling_title(value: float) -> str:
    word = sampling_word(value)
    return "Sampling matches the seeing" if word == "matched" else word.capitalize()


def _sampling_remedy(value: float, binning: int, focal_length_mm: float) -> Remedy:
    if value < imaging.MATCHED_FROM:
        wanted = number(focal_length_mm * imaging.MATCHED_FROM / value, 0)
        text = (
            f"for {short(imaging.MATCHED_FROM)} px/FWHM use a focal length of {wanted} mm or more "
            f"({match_advice(value)}), or "
            "smaller pixels"
        )
        if binning > 1:
            text += f"; bin {binning - 1} instead of {binning} would give {number(value * binning / (binning - 1), 2)}"
        else:
            text += "; dithered frames can be combined on a finer grid"
        return Remedy(text)
    if value > imaging.MATCHED_TO:
        wanted = number(focal_length_mm * imaging.MATCHED_TO / value, 0)
        binned = number(value * binning / (binning + 1), 2)
        return Remedy(
            f"bin {binning + 1} would give {binned} px/FWHM; or use a focal length of {wanted} mm or less for "
            f"{short(imaging.MATCHED_TO)} ({match_advice(value)})"
        )
    return NO_REMEDY


@finding("scale.guide", step=GUIDE_BRANCH, after="sampling.main")
def guide_scale(evaluation: Evaluation) -> Iterator[Finding]:
    """Judge whether a centroid error of the guide camera stays under half a main pixel."""
    row = evaluation.quantities["guide_to_main_ratio"]
    guide, main = evaluation.value("guide_scale_arcsec_px"), evaluation.value("pixel_scale_arcsec_px")
    camera = evaluation.rig.guiding.camera
    if row.best is None or guide is None or main is None or camera is None:
        title = (
            "The rig has no guide camera" if evaluation.rig.guiding.kind == "none" else "The guide scale is not known"
        )
        text = (
            "nothing to check until the rig has one"
            if evaluation.rig.guiding.kind == "none"
            else "end the train and the guide path with a camera whose sensor is given"
        )
        yield Finding("scale.guide", Verdict.UNPROVEN, "guiding", title, (), Remedy(text), _GUIDE_SOURCE)
        return
    ratio = row.best.value
    good, poor = CENTROID_ERROR_PX
    remedy = NO_REMEDY
    if row.verdict is not Verdict.HOLDS and camera.sensor is not None:
        factor = ratio * poor / ALLOWED_MAIN_PX
        remedy = Remedy(
            f"use a guide focal length {number(factor, 2)} times as long, or guide pixels of "
            f"{number(camera.sensor.pixel_um * camera.sensor.binning / factor, 1)} µm or less; "
            "a bright star and a longer guide exposure lower the centroid error"
        )
    yield Finding(
        id="scale.guide",
        verdict=row.verdict,
        subject=camera.id,
        title=f"A guide pixel spans {number(ratio, 2)} main pixels",
        arithmetic=(
            f"ratio: {number(guide, 3)} / {number(main, 3)} = {number(ratio, 3)}",
            f"a centroid error of {short(good)} to {short(poor)} guide px is {number(good * ratio, 2)} to "
            f"{number(poor * ratio, 2)} main px, allowed {short(ALLOWED_MAIN_PX)}",
        ),
        remedy=remedy,
        source=_GUIDE_SOURCE,
        quantities=("guide_to_main_ratio", "guide_scale_arcsec_px"),
    )
