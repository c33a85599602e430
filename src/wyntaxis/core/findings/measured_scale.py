"""Does the measured image scale agree with the computed one, and which spacing error would explain it?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import QuantityValue, Verdict, allowed_width, compare
from wyntaxis.core.steps import SCALES
from wyntaxis.core.train.lightpath import SAME_FACTOR, left_out
from wyntaxis.core.wording import MINUS, number, short, signed

_SOURCE = "f = 206 264.8 p bin / s; thin-lens corrector m(d) = 1 − d/f_r, f_r = d0/(1 − m0), Gaussian optics"
_NUMBERS = ("effective_focal_length_mm", "pixel_scale_arcsec_px", "corrector_magnification")


@finding("scale.measured", step=SCALES, condition=conditions.FOCAL_LENGTH, after="coverage.image_circle", rank=1)
def measured_scale(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the focal length that frames show with the one that the parts give."""
    row = evaluation.quantities["effective_focal_length_mm"]
    measured, computed = row.measured, row.computed
    if measured is None or computed is None:
        yield Finding(
            "scale.measured",
            Verdict.UNPROVEN,
            "effective_focal_length_mm",
            "The image scale has not been measured",
            (),
            Remedy("bring in a solved frame, two stars of known separation, or a typed scale, on the Scales sheet"),
            _SOURCE,
            _NUMBERS,
        )
        return
    verdict = compare(computed, measured)
    ratio = measured.value / computed.value
    word = "agrees with" if verdict is not Verdict.FAILS else "disagrees with"
    yield Finding(
        id="scale.measured",
        verdict=verdict,
        subject="effective_focal_length_mm",
        title=f"The measured focal length {word} the parts: {number(measured.value, 1)} against "
        f"{number(computed.value, 1)} mm",
        arithmetic=tuple(_lines(evaluation, measured, computed)),
        remedy=_remedy(evaluation, ratio) if verdict is Verdict.FAILS else NO_REMEDY,
        source=_SOURCE,
        quantities=_NUMBERS,
    )


def _lines(evaluation: Evaluation, measured: QuantityValue, computed: QuantityValue) -> Iterator[str]:
    rig, scale = evaluation.rig, evaluation.quantities["pixel_scale_arcsec_px"].measured
    if scale is not None and rig.sensor is not None:
        yield (
            f"measured: 206.264806 × {short(rig.sensor.pixel_um)} µm × {rig.sensor.binning} / {number(scale.value, 4)} "
            f"= {number(measured.value, 2)} ± {number(measured.uncertainty, 2)} mm"
            + (f" ({measured.source})" if measured.source else "")
        )
    allowed = allowed_width(measured, computed)
    yield (
        f"measured {MINUS} computed: {number(measured.value, 2)} {MINUS} {number(computed.value, 2)} = "
        f"{signed(measured.value - computed.value, 2)} mm, allowed ±{number(allowed, 2)} mm"
    )
    m, error = (evaluation.quantities[key] for key in ("corrector_magnification", "spacing_error_by_scale_mm"))
    path = evaluation.back_focus
    if m.measured is None or error.measured is None or path is None or evaluation.thin_lens_mm is None:
        if path is not None and path.corrector.magnification == 1:
            yield "the corrector does not magnify: its scale says nothing of the spacing"
        return
    design, lens = path.corrector.magnification or 1.0, evaluation.thin_lens_mm
    yield (
        f"magnification: {number(m.measured.value, 4)} ± {number(m.measured.uncertainty, 4)}, design "
        f"{short(design, 4)}; "
        f"f_r = {short(path.stated_mm)} / (1 {MINUS} {short(design, 4)}) = {number(lens, 2)} mm"
    )
    yield (
        f"spacing error that explains it: {signed(error.measured.value, 2)} ± "
        f"{number(error.measured.uncertainty, 2)} mm "
        f"(thin-lens estimate); built: {signed(path.error_mm, 2)} mm"
    )


def _remedy(evaluation: Evaluation, ratio: float) -> Remedy:
    rig = evaluation.rig
    found = left_out(rig, ratio)
    if found is not None and not found.is_doubled:
        return Remedy(
            f"the frame was taken without {found.part.title} ({short(found.magnification, 4)}×): put it in, or take a "
            "new frame"
        )
    for binning in (2, 3, 4):
        for factor, words in ((1 / binning, "more"), (binning, "less")):
            if abs(ratio / factor - 1) < SAME_FACTOR:
                return Remedy(
                    f"the scale is off {binning} times: the frame was binned {binning} times {words} than is taken; "
                    "correct the frame's binning or the sensor's"
                )
    error = evaluation.quantities["spacing_error_by_scale_mm"].measured
    if error is not None and evaluation.back_focus is not None:
        change = evaluation.back_focus.error_mm - error.value
        return Remedy(
            "measure the parts behind the corrector: the scale asks for a train "
            f"{number(abs(change), 1)} mm {'shorter' if change > 0 else 'longer'} than is written (thin-lens "
            "estimate); "
            "if they are right, the telescope's own focal length is not what is stated"
        )
    return Remedy("check the telescope's focal length, the pixel size and the binning of the frame")
