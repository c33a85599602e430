"""Does the focuser reach focus, and does it carry what hangs on it?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.quantities.mechanics import MASS, MOMENT, POSITION, load_of, reach_of
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.mechanics import FocusReach
from wyntaxis.core.wording import MINUS, number, short

_REACH_SOURCE = "Focuser position = focal plane from the racked-in face + plate shift − train, within the travel"
_LOAD_SOURCE = "Σ mass beyond the focuser against its rating; moment Σ m g s with g = 9.80665 m/s², train level"


@finding("reach.main", step=LIGHT_PATH, condition=conditions.SPACING, after="prism.light")
def reach(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare where focus falls with the focuser's travel, with a corrector as a thin lens."""
    for telescope, case in reach_of(evaluation):
        if case is None:
            yield Finding(
                "reach.main",
                Verdict.UNPROVEN,
                telescope.id,
                f"Whether {telescope.title} reaches focus is not known",
                (),
                Remedy(
                    "state the focuser of the telescope: the focal plane's distance from its racked-in face, its travel"
                    if telescope.focuser is None
                    or telescope.focuser.focal_plane_mm is None
                    or telescope.focuser.travel_mm is None
                    else "state what the corrector does (magnification, required distance); with several magnifying "
                    "parts, find focus on a star and read the drawtube's scale"
                ),
                _REACH_SOURCE,
            )
        else:
            yield _reach_finding(case, evaluation.rows[POSITION.id_of(telescope.id)])


def _reach_finding(case: FocusReach, row: Quantity) -> Finding:
    at, travel = case.position_mm, case.travel_mm
    margin = min(at, travel - at)
    verdict = row.verdict
    size = number(abs(margin), 1)
    if verdict is not Verdict.FAILS and margin < 0:
        title = f"Whether {case.telescope.title} reaches focus is in doubt"
        text = f"focus falls within {number(case.uncertain_mm, 1)} mm of the travel's end: try it on a star"
    elif at < 0:
        title, text = (
            f"{case.telescope.title} cannot rack in far enough for focus",
            f"shorten the train by at least {size} mm",
        )
    elif at > travel:
        title, text = (
            f"{case.telescope.title} cannot rack out far enough for focus",
            f"add an extension of at least {size} mm",
        )
    elif verdict is Verdict.TIGHT:
        change = "shorten" if at < travel / 2 else "lengthen"
        title = f"{case.telescope.title} reaches focus near an end of its travel"
        text = f"{change} the train by {number(abs(travel / 2 - at), 1)} mm to bring focus to the middle"
    else:
        title, text = f"{case.telescope.title} reaches focus {number(at, 1)} mm out of {short(travel)} mm", ""
    return Finding(
        "reach.main",
        verdict,
        case.telescope.id,
        title,
        tuple(_reach_lines(case)),
        Remedy(text) if text else NO_REMEDY,
        _REACH_SOURCE,
        (row.id,),
    )


def _reach_lines(case: FocusReach) -> Iterator[str]:
    behind = ""
    if case.corrector is not None:
        yield (
            f"{case.corrector.title}: focus without it {number(case.distance_mm, 2)} / "
            f"{number(case.magnification, 4)} = {number(case.behind_mm, 2)} mm behind it (thin-lens estimate)"
        )
        behind = f" {MINUS} {number(case.behind_mm, 2)}"
    spread = f" ± {number(case.uncertain_mm, 1)}" if case.uncertain_mm else ""
    yield (
        f"position: {number(case.focal_plane_mm, 2)} + {number(case.glass_mm, 3)} {MINUS} "
        f"{number(case.train_mm, 2)}{behind} = {number(case.position_mm, 2)}{spread} mm, "
        f"travel 0 to {short(case.travel_mm)} mm"
    )


@finding("load.focuser", step=LIGHT_PATH, after="reach.main")
def focuser_load(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare mass and moment beyond the focuser with its ratings."""
    focuser = evaluation.rig.telescope.focuser
    if focuser is None or (focuser.load_rating_g is None and focuser.moment_rating_n_m is None):
        return
    hangs = load_of(evaluation)
    judged = [evaluation.rows[key] for key in _load_ids(evaluation) if key in evaluation.rows]
    lines = [
        f"mass: {number(hangs.mass_g, 0)} g, its centre {number(hangs.centre_mm, 1)} mm behind the focuser's face",
        f"moment: {number(hangs.mass_g / 1000, 3)} kg × 9.807 m/s² × {number(hangs.centre_mm, 1)} mm = "
        f"{number(hangs.moment_n_m, 2)} N·m",
    ]
    if focuser.load_rating_g:
        used = 100 * hangs.mass_g / focuser.load_rating_g
        lines.append(f"rating: {number(focuser.load_rating_g, 0)} g, {number(used, 0)} % used")
    if focuser.moment_rating_n_m:
        used = 100 * hangs.moment_n_m / focuser.moment_rating_n_m
        lines.append(f"rating: {short(focuser.moment_rating_n_m)} N·m, {number(used, 0)} % used")
    verdict = worst(row.verdict for row in judged)
    text = {
        Verdict.FAILS: "lighten the train, carry part of it on the tube, or use a stronger focuser",
        Verdict.TIGHT: "lock the focuser for slews, and balance with the camera mounted",
        Verdict.UNPROVEN: "state the mass of: " + ", ".join(hangs.missing),
    }.get(verdict, "")
    title = {
        Verdict.FAILS: "The train is too heavy for the focuser",
        Verdict.TIGHT: "The train takes most of the focuser's rating",
        Verdict.UNPROVEN: "Not every part beyond the focuser states its mass",
    }.get(verdict, "The focuser carries the train")
    yield Finding(
        "load.focuser",
        verdict,
        evaluation.rig.telescope.id,
        title,
        tuple(lines),
        Remedy(text) if text else NO_REMEDY,
        _LOAD_SOURCE,
        tuple(row.id for row in judged),
    )


def _load_ids(evaluation: Evaluation) -> tuple[str, str]:
    return MASS.id_of(evaluation.rig.telescope.id), MOMENT.id_of(evaluation.rig.telescope.id)
