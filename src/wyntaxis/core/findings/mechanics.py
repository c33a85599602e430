"""Does the focuser reach focus, and does it carry what hangs on it?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.quantities.mechanics import MASS, MOMENT, POSITION, load_of, reach_of
from wyntaxis.core.rig.parts import Telescope
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.mechanics import FocusReach
from wyntaxis.core.wording import MINUS, number, short


@finding(
    "reach.main",
    step=LIGHT_PATH,
    proves=Proof(condition=conditions.SPACING),
    listed=Listed(after="prism.light"),
    source="Focuser position = focal plane from the racked-in face + plate shift − train, within the travel",
    titles={
        "reaches": "{telescope} reaches focus {at:1} mm out of {travel} mm",
        "near an end": "{telescope} reaches focus near an end of its travel ({at:1} of {travel} mm)",
        "in doubt": "It is in doubt whether {telescope} reaches focus",
        "not in": "{telescope} cannot rack in far enough for focus: {beyond:1} mm are lacking",
        "not out": "{telescope} cannot rack out far enough for focus: {beyond:1} mm are lacking",
        "no focuser": "It is not known whether {telescope} reaches focus",
        "no corrector": "It is not known whether {telescope} reaches focus",
    },
    remedies={
        "reaches": "",
        "in doubt": "Focus falls within {uncertain:1} mm of the travel's end: try it on a star.",
        "not in": "Shorten the train by at least {beyond:1} mm.",
        "not out": "Add an extension of at least {beyond:1} mm.",
        "shorten": "Shorten the train by {middle:1} mm to bring focus to the middle of the travel.",
        "lengthen": "Lengthen the train by {middle:1} mm to bring focus to the middle of the travel.",
        "no focuser": "Enter the focuser of the telescope: the focal plane's distance from its racked-in face, its "
        "travel.",
        "no corrector": "Enter what the corrector does (magnification, required distance). With several magnifying "
        "parts, "
        "find focus on a star and read the drawtube's scale.",
    },
)
def reach(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare where focus falls with the focuser's travel, with a corrector as a thin lens."""
    for telescope, case in reach_of(evaluation):
        if case is None:
            missing = "no corrector" if _has_travel(telescope) else "no focuser"
            yield say(telescope.id, None, Verdict.UNPROVEN, {"telescope": telescope.title}, case=missing)
        else:
            yield _reach(case, evaluation.rows[POSITION.id_of(telescope.id)])


def _has_travel(telescope: Telescope) -> bool:
    focuser = telescope.focuser
    return focuser is not None and focuser.focal_plane_mm is not None and focuser.travel_mm is not None


def _reach(reach: FocusReach, row: Quantity) -> Statement:
    at, travel, verdict = reach.position_mm, reach.travel_mm, row.verdict
    margin = min(at, travel - at)
    cure = ""
    if verdict is not Verdict.FAILS and margin < 0:
        case = "in doubt"
    elif at < 0:
        case = "not in"
    elif at > travel:
        case = "not out"
    elif verdict is Verdict.TIGHT:
        case, cure = "near an end", "shorten" if at < travel / 2 else "lengthen"
    else:
        case = "reaches"
    named: dict[str, Named] = {
        "telescope": reach.telescope.title,
        "at": at,
        "travel": travel,
        "beyond": abs(margin),
        "middle": abs(travel / 2 - at),
        "uncertain": reach.uncertain_mm,
    }
    return say(reach.telescope.id, row, None, named, case=case, cure=cure, lines=_reach_lines(reach))


def _reach_lines(reach: FocusReach) -> Iterator[str]:
    behind = ""
    if reach.corrector is not None:
        yield (
            f"{reach.corrector.title}: focus without it {number(reach.distance_mm, 2)} / "
            f"{number(reach.magnification, 4)} = {number(reach.behind_mm, 2)} mm behind it (thin-lens estimate)"
        )
        behind = f" {MINUS} {number(reach.behind_mm, 2)}"
    spread = f" ± {number(reach.uncertain_mm, 1)}" if reach.uncertain_mm else ""
    yield (
        f"position: {number(reach.focal_plane_mm, 2)} + {number(reach.glass_mm, 3)} {MINUS} "
        f"{number(reach.train_mm, 2)}{behind} = {number(reach.position_mm, 2)}{spread} mm, "
        f"travel 0 to {short(reach.travel_mm)} mm"
    )


@finding(
    "load.focuser",
    step=LIGHT_PATH,
    listed=Listed(after="reach.main"),
    source="Σ mass beyond the focuser against its rating; moment Σ m g s with g = 9.80665 m/s², train level",
    titles={
        "holds": "The focuser carries the train ({used:0} % of its rating)",
        "tight": "The train takes most of the focuser's rating ({used:0} %)",
        "fails": "The train is too heavy for the focuser ({used:0} % of its rating)",
        "unproven": "Not every part beyond the focuser states its mass",
    },
    remedies={
        "tight": "Lock the focuser for slews, and balance with the camera mounted.",
        "fails": "Lighten the train, carry part of it on the tube, or use a stronger focuser.",
        "unproven": "Enter the mass of: {missing}.",
    },
)
def focuser_load(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare mass and moment beyond the focuser with its ratings."""
    telescope = evaluation.rig.telescope
    focuser = telescope.focuser
    if focuser is None or (focuser.load_rating_g is None and focuser.moment_rating_n_m is None):
        return
    hangs = load_of(evaluation)
    judged = [row for kind in (MASS, MOMENT) if (row := evaluation.rows.get(kind.id_of(telescope.id))) is not None]
    lines = [
        f"mass: {number(hangs.mass_g, 0)} g, its centre {number(hangs.centre_mm, 1)} mm behind the focuser's face",
        f"moment: {number(hangs.mass_g / 1000, 3)} kg × 9.807 m/s² × {number(hangs.centre_mm, 1)} mm = "
        f"{number(hangs.moment_n_m, 2)} N·m",
    ]
    shares = []
    if focuser.load_rating_g:
        shares.append(100 * hangs.mass_g / focuser.load_rating_g)
        lines.append(f"rating: {number(focuser.load_rating_g, 0)} g, {number(shares[-1], 0)} % used")
    if focuser.moment_rating_n_m:
        shares.append(100 * hangs.moment_n_m / focuser.moment_rating_n_m)
        lines.append(f"rating: {short(focuser.moment_rating_n_m)} N·m, {number(shares[-1], 0)} % used")
    named: dict[str, Named] = {"used": max(shares, default=0.0), "missing": ", ".join(hangs.missing)}
    yield say(telescope.id, judged, worst(row.verdict for row in judged), named, lines=lines)
