"""Are the stars as small as seeing and aperture allow, and round?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.stars import LARGE, ROUND
from wyntaxis.core.steps import STARS
from wyntaxis.core.wording import number, plus_minus


@finding("stars.size", step=STARS, after="focuser.saturated")
def star_size(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the stars as small as the seeing lets them be?"""
    row = evaluation.rows.get("star_fwhm_arcsec")
    if row is None or row.measured is None:
        return
    found, made = row.measured, row.computed
    verdict = Verdict.UNPROVEN if made is None else row.verdict
    lines = [f"measured: {plus_minus(found.value, found.uncertainty, 2)}″ ({found.source})"]
    if made is not None:
        lines.append(
            f"seeing and aperture make {number(made.value, 2)}″; {number(found.value, 2)} / {number(made.value, 2)} = "
            f"{number(found.value / made.value, 2)}, wanted at most {number(LARGE, 1)}"
        )
    remedy = Remedy("state the site's seeing on the Scales sheet") if made is None else NO_REMEDY
    if verdict in (Verdict.TIGHT, Verdict.FAILS):
        remedy = Remedy("look at focus (Travel), guiding, and whether the corners are worse than the middle")
    yield Finding(
        "stars.size",
        verdict,
        row.id,
        f"Stars are {number(found.value, 2)}″ wide"
        + ("" if verdict is Verdict.HOLDS else ", wider than seeing makes them")
        if made is not None
        else f"Stars are {number(found.value, 2)}″ wide; what the seeing makes is not known",
        tuple(lines),
        remedy,
        "Seeing and the aperture's diffraction, 1.029 λ/D, in quadrature",
        (row.id,),
    )


@finding("stars.round", step=STARS, after="stars.size")
def star_roundness(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the stars round?"""
    row = evaluation.rows.get("star_elongation")
    if row is None or row.measured is None:
        return
    good, found = row.verdict is Verdict.HOLDS, row.measured
    yield Finding(
        "stars.round",
        row.verdict,
        row.id,
        f"Stars are {'round' if good else 'long'}: {number(found.value, 2)} times as long as wide",
        (f"measured: {plus_minus(found.value, found.uncertainty, 3)} ({found.source}), wanted at most {ROUND}",),
        NO_REMEDY
        if good
        else Remedy("everywhere along one direction: guiding or balance; by the corner: tilt or spacing (Field)"),
        "Long over short axis of the windowed second moments; 1.15 is hardly seen",
        (row.id,),
    )
