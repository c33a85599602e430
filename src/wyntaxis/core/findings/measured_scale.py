"""Does the measured image scale agree with the computed one, and which spacing error would explain it?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import QuantityValue, Verdict, allowed_width, compare
from wyntaxis.core.quantity_kinds import CORRECTOR_MAGNIFICATION, FOCAL_LENGTH, PIXEL_SCALE, SPACING_ERROR_BY_SCALE
from wyntaxis.core.steps import SCALES
from wyntaxis.core.train.lightpath import SAME_FACTOR, left_out
from wyntaxis.core.wording import MINUS, number, short, signed


@finding(
    "scale.measured",
    step=SCALES,
    proves=Proof(condition=conditions.FOCAL_LENGTH, rank=1),
    listed=Listed(after="coverage.image_circle"),
    source="f = 206 264.8 p bin / s; thin-lens corrector m(d) = 1 − d/f_r, f_r = d0/(1 − m0), Gaussian optics",
    titles={
        "": "The measured focal length agrees with the parts: {measured:1} against {computed:1} mm",
        "fails": "The measured focal length disagrees with the parts: {measured:1} against {computed:1} mm",
        "not measured": "The image scale has not been measured",
    },
    remedies={
        "not measured": "Load a solved frame, two stars of known separation, or enter a scale, on the Scales sheet.",
        "agrees": "",
        "left out": "The frame was taken without {part} ({factor}×): put it in, or take a new frame.",
        "binned": "Correct the frame's binning or the sensor's: the scale is off by a factor of {times}, as the "
        "frame was "
        "binned {times} times {more} than the rig says.",
        "spacing": "Measure the parts behind the corrector: the scale suggests a train {size:1} mm {way} than is "
        "entered "
        "(thin-lens estimate). If they are right, the telescope's own focal length is not what is entered.",
        "check": "Check the telescope's focal length, the pixel size and the binning of the frame.",
    },
)
def measured_scale(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the focal length that frames show with the one that the parts give."""
    row = evaluation.quantity(FOCAL_LENGTH)
    rows = (row, evaluation.quantity(PIXEL_SCALE), evaluation.quantity(CORRECTOR_MAGNIFICATION))
    measured, computed = row.measured, row.computed
    if measured is None or computed is None:
        yield say(row.id, rows, Verdict.UNPROVEN, case="not measured")
        return
    verdict = compare(computed, measured)
    cure, named = "agrees", dict[str, Named]()
    if verdict is Verdict.FAILS:
        cure, named = _likely_cause(evaluation, measured.value / computed.value)
    named |= {"measured": measured.value, "computed": computed.value}
    yield say(row.id, rows, verdict, named, cure=cure, lines=_lines(evaluation, measured, computed))


def _lines(evaluation: Evaluation, measured: QuantityValue, computed: QuantityValue) -> Iterator[str]:
    rig, scale = evaluation.rig, evaluation.quantity(PIXEL_SCALE).measured
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
    m, error = (evaluation.quantity(kind).measured for kind in (CORRECTOR_MAGNIFICATION, SPACING_ERROR_BY_SCALE))
    path = evaluation.back_focus
    if m is None or error is None or path is None or evaluation.thin_lens_mm is None:
        if path is not None and path.corrector.magnification == 1:
            yield "the corrector does not magnify: its scale says nothing about the spacing"
        return
    design, lens = path.corrector.magnification or 1.0, evaluation.thin_lens_mm
    yield (
        f"magnification: {number(m.value, 4)} ± {number(m.uncertainty, 4)}, design {short(design, 4)}; "
        f"f_r = {short(path.stated_mm)} / (1 {MINUS} {short(design, 4)}) = {number(lens, 2)} mm"
    )
    yield (
        f"spacing error that explains it: {signed(error.value, 2)} ± {number(error.uncertainty, 2)} mm "
        f"(thin-lens estimate); built: {signed(path.error_mm, 2)} mm"
    )


def _likely_cause(evaluation: Evaluation, ratio: float) -> tuple[str, dict[str, Named]]:
    """Return the remedy's case and what it names, by the ratio of measured to computed focal length."""
    found = left_out(evaluation.rig, ratio)
    if found is not None and not found.is_doubled:
        return "left out", {"part": found.part.title, "factor": short(found.magnification, 4)}
    for binning in (2, 3, 4):
        for factor, words in ((1 / binning, "more"), (binning, "less")):
            if abs(ratio / factor - 1) < SAME_FACTOR:
                return "binned", {"times": binning, "more": words}
    error = evaluation.quantity(SPACING_ERROR_BY_SCALE).measured
    if error is not None and evaluation.back_focus is not None:
        shift = evaluation.back_focus.error_mm - error.value
        return "spacing", {"size": abs(shift), "way": "shorter" if shift > 0 else "longer"}
    return "check", {}
