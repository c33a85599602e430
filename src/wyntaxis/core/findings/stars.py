"""Are the stars as small as seeing and aperture allow, and round?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.stars import LARGE, ROUND
from wyntaxis.core.quantity_kinds import STAR_ELONGATION, STAR_FWHM
from wyntaxis.core.steps import STARS
from wyntaxis.core.wording import number, plus_minus


@finding(
    "stars.size",
    step=STARS,
    listed=Listed(after="focuser.saturated"),
    source="Seeing and the aperture's diffraction, 1.029 λ/D, in quadrature",
    titles={
        "holds": "Stars have a FWHM of {size:2}″, as seeing and aperture allow",
        "": "Stars have a FWHM of {size:2}″, {factor:1} times what seeing and aperture allow (at most {most:1})",
        "no seeing": "Stars have a FWHM of {size:2}″; what the seeing allows is not known",
    },
    remedies={
        "": "Check focus (Focuser), guiding, and whether the corners are worse than the middle.",
        "no seeing": "Enter the site's seeing on the Scales sheet.",
    },
)
def star_size(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the stars as small as the seeing allows?"""
    row = evaluation.quantity(STAR_FWHM)
    if row.measured is None:
        return
    found, least = row.measured, row.computed
    lines = [f"measured: {plus_minus(found.value, found.uncertainty, 2)}″ ({found.source})"]
    if least is None:
        yield say(row.id, row, Verdict.UNPROVEN, {"size": found.value}, case="no seeing", lines=lines)
        return
    factor = found.value / least.value
    lines.append(
        f"seeing and aperture make {number(least.value, 2)}″; {number(found.value, 2)} / {number(least.value, 2)} = "
        f"{number(factor, 2)}, wanted at most {number(LARGE, 1)}"
    )
    yield say(row.id, row, None, {"size": found.value, "factor": factor, "most": LARGE}, lines=lines)


@finding(
    "stars.round",
    step=STARS,
    listed=Listed(after="stars.size"),
    source="Long over short axis of the windowed second moments; 1.15 is hardly seen",
    titles={
        "holds": "Stars are round: {ratio:2} times as long as wide (at most {most})",
        "": "Stars are elongated: {ratio:2} times as long as wide (at most {most})",
    },
    remedies="Everywhere in one direction: check guiding and balance. In a corner: check tilt and spacing "
    "(Tilt & curvature).",
)
def star_roundness(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the stars round?"""
    row = evaluation.quantity(STAR_ELONGATION)
    if row.measured is None:
        return
    found = row.measured
    line = f"measured: {plus_minus(found.value, found.uncertainty, 3)} ({found.source}), wanted at most {ROUND}"
    yield say(row.id, row, None, {"ratio": found.value, "most": ROUND}, lines=(line,))
