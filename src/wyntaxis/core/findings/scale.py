"""Do the pixels suit the seeing, and is the guide camera's pixel scale fine enough?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import imaging
from wyntaxis.core.optics.guiding import ALLOWED_MAIN_PX, CENTROID_ERROR_PX
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, GUIDE_SCALE, GUIDE_TO_MAIN_RATIO, PIXEL_SCALE, SAMPLING
from wyntaxis.core.steps import GUIDE_BRANCH, SCALES
from wyntaxis.core.train.sampling import match_advice, sampling_word
from wyntaxis.core.wording import number, short


@finding(
    "sampling.main",
    step=SCALES,
    listed=Listed(after="spacing.guide"),
    source="Nyquist sampling of a Gaussian star image: about 2 px to the FWHM; under 1.5 and over 4 are off",
    titles={
        "": "{word}: {value:2} px per seeing FWHM of {seeing}″",
        "no seeing": "The sampling is not known",
        "no camera": "The sampling is not known",
    },
    remedies={
        "matched": "",
        "coarse": "For {low} px/FWHM use a focal length of {longer:0} mm or more ({advice}), or smaller pixels. "
        "Dithered "
        "frames can be combined on a finer grid.",
        "coarse, binned": "For {low} px/FWHM use a focal length of {longer:0} mm or more ({advice}), or smaller "
        "pixels. "
        "Binning {less_binning} instead of {binning} gives {finer:2} px/FWHM.",
        "fine": "Binning {more_binning} gives {coarser:2} px/FWHM. Or use a focal length of {shorter:0} mm or less for "
        "{high} ({advice}).",
        "no seeing": "Enter the site's seeing (site.seeing_fwhm_arcsec).",
        "no camera": "Enter the camera and its sensor.",
    },
)
def main_sampling(evaluation: Evaluation) -> Iterator[Statement]:
    """Judge the pixel scale against the site's seeing."""
    rig, row = evaluation.rig, evaluation.quantity(SAMPLING)
    sensor, scale, focal = rig.sensor, evaluation.value(PIXEL_SCALE), evaluation.value(FOCAL_LENGTH)
    seeing = rig.site.seeing_fwhm_arcsec if rig.site else None
    if row.best is None or sensor is None or scale is None or focal is None or seeing is None:
        yield say(row.id, None, Verdict.UNPROVEN, case="no seeing" if sensor else "no camera")
        return
    value, binning = row.best.value, sensor.binning
    low, high = imaging.MATCHED_FROM, imaging.MATCHED_TO
    lines = (
        f"scale: {number(imaging.ARCSEC_PER_RADIAN / 1000, 6)} × {short(sensor.pixel_um)} µm × {binning} / "
        f"{number(focal, 2)} mm = {number(scale, 3)} ″/px",
        f"sampling: {short(seeing)} / {number(scale, 3)} = {number(value, 2)} px/FWHM, matched from "
        f"{short(low)} to {short(high)}",
    )
    word = sampling_word(value)
    named: dict[str, Named] = {
        "word": "Sampling matches the seeing" if word == "matched" else word.capitalize(),
        "value": value,
        "seeing": seeing,
        "low": low,
        "high": high,
        "advice": match_advice(value),
        "longer": focal * low / value,
        "shorter": focal * high / value,
        "binning": binning,
        "less_binning": binning - 1,
        "more_binning": binning + 1,
        "coarser": value * binning / (binning + 1),
        "finer": value * binning / max(binning - 1, 1),
    }
    cure = "matched"
    if value < low:
        cure = "coarse, binned" if binning > 1 else "coarse"
    elif value > high:
        cure = "fine"
    yield say(row.id, (row, evaluation.quantity(PIXEL_SCALE)), None, named, cure=cure, lines=lines)


@finding(
    "scale.guide",
    step=GUIDE_BRANCH,
    listed=Listed(after="sampling.main"),
    source="Centroid error of 0.1 to 0.2 guide px, to stay under half a main pixel",
    titles={
        "": "A guide pixel spans {ratio:2} main pixels",
        "no camera": "The rig has no guide camera",
        "not known": "The guide scale is not known",
    },
    remedies={
        "": "Use a guide focal length {factor:2} times as long, or guide pixels of {pixel:1} µm or less. A bright "
        "star and "
        "a longer guide exposure reduce the centroid error.",
        "no sensor": "",
        "no camera": "Nothing to check until the rig has one.",
        "not known": "End the train and the guide path with a camera whose sensor is entered.",
    },
)
def guide_scale(evaluation: Evaluation) -> Iterator[Statement]:
    """Judge whether a centroid error of the guide camera stays under half a main pixel."""
    row = evaluation.quantity(GUIDE_TO_MAIN_RATIO)
    guide, main = evaluation.value(GUIDE_SCALE), evaluation.value(PIXEL_SCALE)
    camera = evaluation.rig.guiding.camera
    if row.best is None or guide is None or main is None or camera is None:
        case = "no camera" if evaluation.rig.guiding.kind == "none" else "not known"
        yield say("guiding", None, Verdict.UNPROVEN, case=case)
        return
    ratio = row.best.value
    good, poor = CENTROID_ERROR_PX
    lines = (
        f"ratio: {number(guide, 3)} / {number(main, 3)} = {number(ratio, 3)}",
        f"a centroid error of {short(good)} to {short(poor)} guide px is {number(good * ratio, 2)} to "
        f"{number(poor * ratio, 2)} main px, allowed {short(ALLOWED_MAIN_PX)}",
    )
    factor, cure = ratio * poor / ALLOWED_MAIN_PX, "no sensor"
    named: dict[str, Named] = {"ratio": ratio, "factor": factor}
    if camera.sensor is not None and row.verdict is not Verdict.HOLDS:
        named["pixel"] = camera.sensor.pixel_um * camera.sensor.binning / factor
        cure = ""
    yield say(camera.id, (row, evaluation.quantity(GUIDE_SCALE)), None, named, cure=cure, lines=lines)
