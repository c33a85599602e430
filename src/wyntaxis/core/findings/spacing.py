"""Is the sensor, and is the guide sensor, at the distance that the optics need?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named, render
from wyntaxis.core.findings.registry import HasId, Listed, Proof, Statement, finding, say, statements
from wyntaxis.core.ledger import Quantity, Target, Verdict
from wyntaxis.core.quantities.filters import GUIDE_SPREAD, worst_filter
from wyntaxis.core.quantities.spacing import possible_shift_mm, unknown_behind
from wyntaxis.core.quantity_kinds import (
    BACK_FOCUS_BUILT,
    BACK_FOCUS_ERROR,
    BACK_FOCUS_REQUIRED,
    GLASS_SHIFT,
    GUIDE_PATH_BUILT,
    GUIDE_PATH_ERROR,
    GUIDE_PATH_REQUIRED,
)
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change, apply
from wyntaxis.core.rig.model import Rig, bare_train
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.steps import GUIDE_BRANCH, LIGHT_PATH
from wyntaxis.core.train.guidepath import GuidePath, guide_path, pickoff_index
from wyntaxis.core.train.lightpath import BackFocus, Plate, datum_index
from wyntaxis.core.train.slots import FILTER_THICKNESS_RANGE_MM, SlotCase, UnknownFilter
from wyntaxis.core.wording import MINUS, number, short, signed, terms

SHOP_DECIMALS = 2
"""Rings are turned, ground and shimmed to a hundredth of a millimetre."""
THINNEST_RING_MM = 0.1
"""A spacer is not made thinner than a shim."""
_SAME_SETTING_MM = 0.005
"""Two settings of a guide focuser that differ by less read the same."""

_PLATE_SOURCE = "plate shift t(1 − 1/n): W. J. Smith, Modern Optical Engineering"


@dataclass(frozen=True)
class LengthRemedy:
    """How to bring the sensor nearer or farther: which remedy, what it names, and the edit."""

    case: str
    values: dict[str, Named] = field(default_factory=dict)
    change: Change | None = None


LENGTH_REMEDIES = {
    "set": "Set {part} to {wanted} mm (its range is {low} to {high} mm).",
    "shorten ring": "Shorten {part}, the spacer after {before}, by {size:2} mm: {length} → {wanted} mm.",
    "lengthen ring": "Lengthen {part}, the spacer after {before}, by {size:2} mm: {length} → {wanted} mm.",
    "add": "Add a spacer of {size:2} mm between {corrector} and the camera.",
    "take out": "Take {size:2} mm out between {corrector} and the camera. No spacer there is long enough to be "
    "shortened: use a shorter adapter or a thinner part.",
}
"""What can be done about a length, by the case of :func:`length_remedy`."""

_UNKNOWN_FILTER = "the thickness of the filter in {names} is not entered"
_ENTER_FILTER = (
    "Enter the filter's thickness and glass: at {names} (Part → Add glass), or by slot on the Devices sheet. "
    "If no filter is in the beam, say so."
)
_OFF_BY = "{size:2} mm too {way} {target}"


@finding(
    "spacing.main",
    step=LIGHT_PATH,
    proves=Proof(condition=conditions.SPACING),
    source=f"Built length = sum of optical lengths after the datum; {_PLATE_SOURCE}",
    titles={
        "holds": "The sensor is in place behind {corrector}{through} ({error:+2} mm, allowed ±{allowed} mm)",
        "tight": "The sensor is within the tolerance behind {corrector}{through}, but not for certain "
        "({error:+2} mm, allowed ±{allowed} mm)",
        "fails": "The sensor is {size:2} mm too {way} {corrector}{through} (allowed ±{allowed} mm)",
        "unproven": "The sensor is {size:2} mm too {way} {corrector}; its tolerance is not entered",
        "unknown filter": f"The back focus is not verified: {_UNKNOWN_FILTER}",
        "no camera": "No camera ends the train",
        "no corrector": "No corrector states a required distance",
    },
    remedies={
        **LENGTH_REMEDIES,
        "tolerance": "Enter the tolerance of {corrector}'s required distance (back_focus_tolerance_mm).",
        "measure": "Measure the length of {widest} with callipers: its ±{half} mm is the stack's widest tolerance.",
        "shorten for all": "Shorten the train by {shift:2} mm so that all filters are within the tolerance, "
        "or replace {filter} by a filter as thick as the others.",
        "lengthen for all": "Lengthen the train by {shift:2} mm so that all filters are within the tolerance, "
        "or replace {filter} by a filter as thick as the others.",
        "no one spacing": "No one spacing suits all filters: replace {filter} by a filter as thick as the others.",
        "unknown filter": _ENTER_FILTER,
        "no camera": "Put a camera at the end of the train: its sensor is what must be in place.",
        "no corrector": "Nothing sets the sensor's distance here except focus, within the focuser's travel.",
    },
)
def main_spacing(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the built back focus with the corrector's figure plus glass."""
    path = evaluation.back_focus
    if path is None:
        case = "no camera" if evaluation.rig.camera is None else "no corrector"
        yield say("train", verdict=Verdict.UNPROVEN, case=case)
        return
    rows = [evaluation.quantity(k) for k in (BACK_FOCUS_ERROR, BACK_FOCUS_BUILT, BACK_FOCUS_REQUIRED, GLASS_SHIFT)]
    row, verdict, lines = rows[0], rows[0].verdict, tuple(_main_arithmetic(path))
    unknown = unknown_behind(evaluation.evaluator, datum_index(evaluation.rig.train))
    if unknown and verdict is Verdict.UNPROVEN:
        yield _unknown_filter(path.corrector.id, rows, unknown, path.error_mm, -1, lines)
        return
    cases = [(case, case.back_focus) for case in evaluation.slots if case.back_focus is not None]
    shown, through, remedy = path, "", _main_remedy(evaluation.rig, path, verdict)
    worst = worst_filter(evaluation, evaluation.rows)
    if row.target is not None and worst is not None:
        slot = evaluation.slots[worst[0]]
        if worst[1].verdict.severity > verdict.severity and slot.back_focus is not None:
            verdict, shown, through = worst[1].verdict, slot.back_focus, f" through the filter {slot.name}"
            remedy = _slot_remedy(slot, [b.error_mm for _, b in cases], row.target)
    yield say(
        path.corrector.id,
        rows,
        verdict,
        {
            **remedy.values,
            "corrector": path.corrector.title,
            "error": shown.error_mm,
            "size": abs(shown.error_mm),
            "way": "far from" if shown.error_mm > 0 else "close to",
            "allowed": path.tolerance_mm or 0.0,
            "through": through,
        },
        cure=remedy.case,
        lines=(*lines, *_slot_lines([(case, b.error_mm) for case, b in cases])),
    ).with_edit(remedy.change)


def _unknown_filter(
    subject: str,
    rows: Sequence[HasId],
    unknown: tuple[UnknownFilter, ...],
    error_mm: float,
    sign: int,
    arithmetic: Iterable[str],
) -> Statement:
    """Return that a spacing is not verified while a filter's thickness is not known, and between what it lies."""
    names = " and ".join(own.part.title for own in unknown)
    low, high = possible_shift_mm(unknown)
    ends = sorted(error_mm + sign * shift for shift in (low, high))
    thin, thick = (short(own) for own in FILTER_THICKNESS_RANGE_MM)
    none = "" if all(own.is_named for own in unknown) else "none, or "
    lines = (
        *arithmetic,
        f"a filter in {names} is not described: {none}{thin} to {thick} mm of glass would shift the focus by "
        f"{number(low, 2)} to {number(high, 2)} mm",
        f"so the error lies between {signed(ends[0], 2)} and {signed(ends[1], 2)} mm",
    )
    change = Change.of(f"No filter in {unknown[0].part.title}", ("train", unknown[0].place, "no_filter"), True)
    return say(subject, rows, Verdict.UNPROVEN, {"names": names}, case="unknown filter", lines=lines).with_edit(
        change, "No filter in the beam"
    )


def _slot_lines(errors: list[tuple[SlotCase, float]]) -> Iterator[str]:
    """Write out the error through each filter, and the spread over all."""
    if not errors:
        return
    for case, error in errors:
        yield (
            f"through {case.name}: {short(case.thickness_mm)} mm of glass shift the focus by "
            f"{number(case.shift_mm, 3)} mm, error {signed(error, 3)} mm"
        )
    values = [error for _, error in errors]
    yield f"spread over the filters: {number(max(values) - min(values), 3)} mm"


def _slot_remedy(case: SlotCase, errors: list[float], target: Target) -> LengthRemedy:
    middle = (max(errors) + min(errors)) / 2
    if max(errors) - min(errors) > target.high - target.low:
        return LengthRemedy("no one spacing", {"filter": case.name})
    way = "shorten for all" if middle > 0 else "lengthen for all"
    return LengthRemedy(way, {"shift": abs(middle), "filter": case.name})


def plate_lines(plates: tuple[Plate, ...]) -> Iterator[str]:
    """Write out the shift of each plate."""
    for plate in plates:
        glass = plate.glass
        yield (
            f"{glass.name} ({plate.part_id}): {short(glass.thickness_mm)} × (1 {MINUS} 1/{short(glass.index, 4)}) "
            f"= {number(plate.shift_mm, 3)} mm"
        )


def _main_arithmetic(path: BackFocus) -> Iterator[str]:
    yield from plate_lines(path.plates)
    yield (
        f"required: {number(path.stated_mm, 3)} + {number(path.glass_shift_mm, 3)} = {number(path.required_mm, 3)} mm"
    )
    lengths = [c.length_mm for c in path.stack.contributions]
    yield f"built: {terms(lengths, 3)} = {number(path.built_mm, 3)} mm"
    yield (
        f"error: {number(path.built_mm, 3)} {MINUS} {number(path.required_mm, 3)} = {signed(path.error_mm, 3)} mm"
        + (f", allowed ±{number(path.tolerance_mm, 3)} mm" if path.tolerance_mm is not None else "")
    )
    chance = path.probability_within
    yield (
        f"tolerances: ±{number(path.worst_case_mm, 3)} mm worst case, "
        f"u = {number(path.error_standard_mm, 3)} mm (root sum of squares)"
        + (f", P(inside) = {number(100 * chance, 1)} %" if chance is not None else "")
    )


def _main_remedy(rig: Rig, path: BackFocus, verdict: Verdict) -> LengthRemedy:
    if verdict is Verdict.HOLDS:
        return LengthRemedy(str(verdict))
    if verdict is Verdict.UNPROVEN:
        return LengthRemedy("tolerance")
    if verdict is Verdict.TIGHT and abs(path.error_mm) < 2 * path.error_standard_mm:
        widest = max(path.stack.contributions, key=lambda c: c.half_width_mm)
        return LengthRemedy("measure", {"widest": widest.title, "half": widest.half_width_mm})
    return length_remedy(rig, path, path.error_mm)


def length_remedy(rig: Rig, path: BackFocus, error_mm: float) -> LengthRemedy:
    """Return what to change between corrector and camera so that the sensor comes nearer by an error.

    Parameters
    ----------
    rig
        The rig.
    path
        Its light path behind the corrector.
    error_mm
        How much too far the sensor is, in mm; below 0 too near.

    Returns
    -------
    LengthRemedy
        An adjustable part set, a ring of another length, or what is to be added or taken out: one of the cases of
        :data:`LENGTH_REMEDIES`.
    """
    ids = dict.fromkeys(c.part_id for c in path.stack.contributions)
    after = [found for found in map(rig.find, ids) if found is not None]
    way = "add" if error_mm < 0 else "take out"
    return (
        _set_adjustable(after, error_mm)
        or _resize_ring(rig, after, error_mm)
        or LengthRemedy(way, {"size": abs(error_mm), "corrector": path.corrector.title})
    )


def _set_adjustable(parts: list[tuple[DocumentPath, Part]], error_mm: float) -> LengthRemedy | None:
    for place, part in parts:
        if part.adjustable is None:
            continue
        wanted = round(part.adjustable.set_mm - error_mm, SHOP_DECIMALS)
        if part.adjustable.min_mm <= wanted <= part.adjustable.max_mm:
            return _setting(place, part, wanted)
    return None


def _setting(place: DocumentPath, part: Part, wanted_mm: float) -> LengthRemedy:
    assert part.adjustable is not None
    change = Change.of(f"Set {part.title}", (*place, "adjustable", "set_mm"), wanted_mm)
    low, high = part.adjustable.min_mm, part.adjustable.max_mm
    return LengthRemedy("set", {"part": part.title, "wanted": wanted_mm, "low": low, "high": high}, change)


def _resize_ring(rig: Rig, parts: list[tuple[DocumentPath, Part]], error_mm: float) -> LengthRemedy | None:
    rings = [(place, part) for place, part in parts if part.kind == "spacer" and part.adjustable is None]
    for place, part in reversed(rings):
        wanted = round(part.length_mm - error_mm, SHOP_DECIMALS)
        if wanted < THINNEST_RING_MM:
            continue
        verb = "shorten" if error_mm > 0 else "lengthen"
        change = Change.of(f"{verb.capitalize()} {part.title}", (*place, "length_mm"), wanted)
        values: dict[str, Named] = {
            "part": part.title,
            "before": rig.train[int(place[-1]) - 1].title,
            "size": abs(error_mm),
            "length": part.length_mm,
            "wanted": wanted,
        }
        return LengthRemedy(f"{verb} ring", values, change)
    return None


@finding(
    "spacing.guide",
    step=GUIDE_BRANCH,
    proves=Proof(condition=conditions.SPACING),
    listed=Listed(after="spacing.main"),
    source=f"Equal optical paths from the prism: X_guide = X − G_main + G_guide; {_PLATE_SOURCE}",
    titles={
        "holds": "The guide camera is in focus together with the main camera ({error:+2} mm, allowed ±{allowed:2} mm)",
        "tight": "The guide camera is in focus on paper, but the tolerances leave it in doubt",
        "": "The guide camera is {size:2} mm too {way} the prism (allowed ±{allowed:2} mm)",
        "out of reach": "The guide camera is {size:2} mm too {way} the prism and cannot be brought to focus",
        "one filter": "Through {filter} the guide camera is {size:2} mm out of focus (allowed ±{allowed:2} mm)",
        "not every filter": "The guide camera is in focus, but not through every filter at this setting",
        "unknown filter": f"The guide camera's focus is not verified: {_UNKNOWN_FILTER}",
        "none": "The rig has no guide camera",
        "separate": "The guide camera has a telescope of its own",
        "incomplete": "The guide branch is not complete",
    },
    remedies={
        "none": "Nothing to check until the rig has one.",
        "separate": "Its focus does not depend on the main train: focus it on a star.",
        "incomplete": "End both the train and the guide path with a camera. With a magnifying corrector behind the "
        "prism, focus the guide camera on a star.",
        "unknown filter": _ENTER_FILTER,
        "tight": "Focus the guide camera on a star: the drawing is not exact enough.",
        "shorten path": "Shorten the guide path by {size:2} mm.",
        "lengthen path": "Lengthen the guide path by {size:2} mm.",
        "set": "Set {part} to {wanted} mm (its range is {low} to {high} mm).{after_main}",
        "too long": "Shorten the guide path by at least {lacking:2} mm (a shorter stalk or adapter), or move the main "
        "sensor back: add at least {lacking:2} mm behind the prism and take it out before the prism. {part} would need "
        "{needed:2} mm, but its range is {low} to {high} mm.",
        "too short": "Add an extension of at least {lacking:2} mm to the guide path. {part} would need {needed:2} mm, "
        "but its range is {low} to {high} mm.",
        "one filter": "Use filters of one thickness, or set the guide focuser again with each: the filters' shifts "
        "differ by {spread:3} mm, the depth of focus is {depth:3} mm.",
        "not every filter": "Move the guide focuser by {move:+3} mm from its setting.",
    },
)
def guide_spacing(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the guide sensor's distance from the prism with that of the main one."""
    path = evaluation.guide_path
    if path is None:
        kind = evaluation.rig.guiding.kind
        yield say("guiding", verdict=Verdict.UNPROVEN, case=kind if kind in ("none", "separate") else "incomplete")
        return
    rows = [evaluation.quantity(kind) for kind in (GUIDE_PATH_ERROR, GUIDE_PATH_BUILT, GUIDE_PATH_REQUIRED)]
    row, lines = rows[0], tuple(_guide_arithmetic(path, rows[0]))
    unknown = unknown_behind(evaluation.evaluator, pickoff_index(evaluation.rig))
    if unknown and row.verdict is Verdict.UNPROVEN:
        yield _unknown_filter(path.pickoff.id, rows, unknown, path.error_mm, 1, lines)
        return
    cases = [(case, case.guide_path) for case in evaluation.slots if case.guide_path is not None]
    errors = [(case, through.error_mm) for case, through in cases]
    verdict, case, remedy = row.verdict, "", _guide_remedy(evaluation, path, row.verdict)
    if verdict is Verdict.FAILS and path.reach is not None and path.reach.shortfall_mm != 0:
        case = "out of reach"
    error_mm, values = path.error_mm, dict(remedy.values)
    if row.target is not None and errors:
        wide = evaluation.rows[GUIDE_SPREAD.id_of(cases[0][0].device.id)]
        far, far_mm = max(errors, key=lambda entry: abs(entry[1]))
        if wide.verdict is Verdict.FAILS and verdict is not Verdict.FAILS:
            assert wide.computed is not None
            verdict, case, remedy = Verdict.FAILS, "one filter", LengthRemedy("one filter")
            depth = row.target.high - row.target.low
            error_mm, values = far_mm, {"filter": far.name, "spread": wide.computed.value, "depth": depth}
        elif verdict is Verdict.HOLDS and abs(far_mm) > row.target.high:
            verdict, case, remedy = Verdict.TIGHT, "not every filter", LengthRemedy("not every filter")
            ends = [error for _, error in errors]
            values = {"move": (max(ends) + min(ends)) / -2}
    values |= {
        "error": error_mm,
        "size": abs(error_mm),
        "way": "far from" if error_mm > 0 else "close to",
        "allowed": row.target.high if row.target is not None else 0.0,
    }
    lines = (*lines, *_slot_lines(errors))
    change = remedy.change
    yield say(path.pickoff.id, rows, verdict, values, case=case, cure=remedy.case, lines=lines).with_edit(change)


def _guide_arithmetic(path: GuidePath, row: Quantity) -> Iterator[str]:
    yield from plate_lines(path.main_plates + path.guide_plates)
    yield (
        f"required: X {MINUS} G_main + G_guide = {number(path.main_distance_mm, 3)} {MINUS} "
        f"{number(path.main_shift_mm, 3)} + {number(path.guide_shift_mm, 3)} = {number(path.required_mm, 3)} mm"
    )
    yield f"built: {terms([c.length_mm for c in path.stack.contributions], 3)} = {number(path.built_mm, 3)} mm"
    allowed = f", depth of focus ±{number(row.target.high, 3)} mm" if row.target else ""
    yield (
        f"error: {number(path.built_mm, 3)} {MINUS} {number(path.required_mm, 3)} = "
        f"{signed(path.error_mm, 3)} mm{allowed}"
    )
    reach = path.reach
    if reach is not None and reach.part.adjustable is not None:
        now, low, high = reach.part.adjustable.set_mm, reach.low_mm, reach.high_mm
        yield (
            f"{reach.part.title}: {number(now, 3)} {MINUS} ({signed(path.error_mm, 3)}) = "
            f"{number(reach.needed_mm, 3)} mm, range {short(low)} to {short(high)} mm"
        )
    yield f"tolerances of both paths: u = {number(path.standard_mm, 3)} mm (root sum of squares)"


def _after_main_remedy(evaluation: Evaluation, path: GuidePath) -> str:
    """Say what the guide focuser needs once the main spacing is corrected behind the prism; empty for the same."""
    main = statements(evaluation, "spacing.main")[0]
    if main.verdict is not Verdict.FAILS or main.change is None or path.reach is None:
        return ""
    corrected = guide_path(apply(bare_train(evaluation.rig), main.change))
    if corrected is None or corrected.reach is None:
        return ""
    needed = corrected.reach.needed_mm
    if abs(needed - path.reach.needed_mm) < _SAME_SETTING_MM:
        return ""
    text = " Correct the main spacing first: {part} then needs {needed:2} mm."
    return render(text, {"part": path.reach.part.title, "needed": needed})


def _guide_remedy(evaluation: Evaluation, path: GuidePath, verdict: Verdict) -> LengthRemedy:
    reach = path.reach
    if verdict in (Verdict.HOLDS, Verdict.TIGHT):
        return LengthRemedy(str(verdict))
    if reach is None:
        return LengthRemedy("shorten path" if path.error_mm > 0 else "lengthen path")
    found = evaluation.rig.find(reach.part.id)
    if found is not None and reach.shortfall_mm == 0:
        wanted = min(max(round(reach.needed_mm, SHOP_DECIMALS), reach.low_mm), reach.high_mm)
        setting = _setting(found[0], reach.part, wanted)
        setting.values["after_main"] = _after_main_remedy(evaluation, path)
        return setting
    values: dict[str, Named] = {
        "part": reach.part.title,
        "lacking": abs(reach.shortfall_mm),
        "needed": reach.needed_mm,
        "low": reach.low_mm,
        "high": reach.high_mm,
    }
    return LengthRemedy("too long" if reach.shortfall_mm < 0 else "too short", values)
