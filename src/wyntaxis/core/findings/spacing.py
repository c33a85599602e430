"""Is the sensor, and is the guide sensor, where the optics want it?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Target, Verdict
from wyntaxis.core.quantities.filters import GUIDE_SPREAD, worst_filter
from wyntaxis.core.quantities.spacing import possible_shift_mm, unknown_behind
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

_PLATE_SOURCE = "plate shift t(1 − 1/n): W. J. Smith, Modern Optical Engineering"
_SPACING_SOURCE = f"Built length = sum of optical lengths after the datum; {_PLATE_SOURCE}"
_GUIDE_SOURCE = f"Equal optical paths from the prism: X_guide = X − G_main + G_guide; {_PLATE_SOURCE}"


@finding("spacing.main", step=LIGHT_PATH, condition=conditions.SPACING)
def main_spacing(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the built back focus with the corrector's figure plus glass."""
    path = evaluation.back_focus
    if path is None:
        yield _no_back_focus(evaluation.rig)
        return
    row = evaluation.quantities["back_focus_error_mm"]
    verdict = row.verdict
    unknown = unknown_behind(evaluation.evaluator, datum_index(evaluation.rig.train))
    if unknown and verdict is Verdict.UNPROVEN:
        yield _unknown_filter(
            "spacing.main", path.corrector.id, unknown, "The back focus", path.error_mm, -1, _main_arithmetic(path),
            ("back_focus_error_mm", "back_focus_built_mm", "back_focus_required_mm", "glass_shift_mm"),
        )  # fmt: skip
        return
    remedy = NO_REMEDY if verdict is Verdict.HOLDS else _main_remedy(evaluation.rig, path, verdict)
    title = _main_title(path, verdict)
    cases = [(case, case.back_focus) for case in evaluation.slots if case.back_focus is not None]
    worst = worst_filter(evaluation, evaluation.rows)
    if row.target is not None and worst is not None:
        case = evaluation.slots[worst[0]]
        if worst[1].verdict.severity > verdict.severity and case.back_focus is not None:
            verdict, through = worst[1].verdict, case.back_focus
            title = f"{_main_title(through, verdict)} through the filter {case.name}"
            remedy = _slot_remedy(case, [b.error_mm for _, b in cases], row.target)
    yield Finding(
        id="spacing.main",
        verdict=verdict,
        subject=path.corrector.id,
        title=title,
        arithmetic=(*_main_arithmetic(path), *_slot_lines([(case, b.error_mm) for case, b in cases])),
        remedy=remedy,
        source=_SPACING_SOURCE,
        quantities=("back_focus_error_mm", "back_focus_built_mm", "back_focus_required_mm", "glass_shift_mm"),
    )


def _unknown_filter(
    finding_id: str,
    subject: str,
    unknown: tuple[UnknownFilter, ...],
    what: str,
    error_mm: float,
    sign: int,
    arithmetic: Iterator[str],
    rows: tuple[str, ...],
) -> Finding:
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
    place = unknown[0].place
    return Finding(
        finding_id,
        Verdict.UNPROVEN,
        subject,
        f"{what} is not verified: the thickness of the filter in {names} is not entered",
        lines,
        Remedy(
            f"Enter the filter's thickness and glass: at {names} (Part → Add glass), or by slot on the Devices sheet. "
            "If no filter is in the beam, say so.",
            Change.of(f"No filter in {unknown[0].part.title}", ("train", place, "no_filter"), True),
            "No filter in the beam",
        ),
        _PLATE_SOURCE,
        rows,
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


def _slot_remedy(case: SlotCase, errors: list[float], target: Target) -> Remedy:
    middle = (max(errors) + min(errors)) / 2
    if max(errors) - min(errors) <= target.high - target.low:
        verb = "shorten" if middle > 0 else "lengthen"
        text = f"{verb} the train by {number(abs(middle), SHOP_DECIMALS)} mm, so that all filters lie inside"
    else:
        text = "no one spacing serves all filters"
    return Remedy(f"{text}; or replace {case.name} by a filter as thick as the others")


def _no_back_focus(rig: Rig) -> Finding:
    if rig.camera is None:
        title, text = (
            "No camera ends the train",
            "put a camera at the end of the train: its sensor is what must be in place",
        )
    else:
        title = "No corrector states a required distance"
        text = "nothing fixes the sensor's distance here: focus alone does, within the focuser's travel"
    return Finding("spacing.main", Verdict.UNPROVEN, "train", title, (), Remedy(text), _SPACING_SOURCE)


def _main_title(path: BackFocus, verdict: Verdict) -> str:
    away = f"{number(abs(path.error_mm), SHOP_DECIMALS)} mm too {'far from' if path.error_mm > 0 else 'close to'}"
    match verdict:
        case Verdict.HOLDS:
            return f"The sensor is in place behind {path.corrector.title}"
        case Verdict.TIGHT:
            return f"The sensor is inside the tolerance behind {path.corrector.title}, but not for certain"
        case Verdict.UNPROVEN:
            return f"The sensor sits {away} {path.corrector.title}; no tolerance is stated"
    return f"The sensor sits {away} {path.corrector.title}"


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


def _main_remedy(rig: Rig, path: BackFocus, verdict: Verdict) -> Remedy:
    if verdict is Verdict.UNPROVEN:
        return Remedy(f"state the tolerance of {path.corrector.title}'s required distance (back_focus_tolerance_mm)")
    if verdict is Verdict.TIGHT and abs(path.error_mm) < 2 * path.error_standard_mm:
        widest = max(path.stack.contributions, key=lambda c: c.half_width_mm)
        return Remedy(
            f"measure the length of {widest.title} with callipers: "
            f"its ±{short(widest.half_width_mm)} mm is the widest tolerance of the stack"
        )
    return length_remedy(rig, path, path.error_mm)


def length_remedy(rig: Rig, path: BackFocus, error_mm: float) -> Remedy:
    """Return what to change between corrector and camera so that the sensor comes nearer by an error.

    Parameters
    ----------
    rig
        The rig.
    path
        Its light path behind the corrector.
    error_mm
        By how much the sensor sits too far, in mm; below 0 too near.

    Returns
    -------
    Remedy
        An adjustable part set, a ring of another length, or what is to be added or taken out.
    """
    ids = dict.fromkeys(c.part_id for c in path.stack.contributions)
    after = [found for found in map(rig.find, ids) if found is not None]
    return (
        _set_adjustable(after, error_mm)
        or _resize_ring(rig, after, error_mm)
        or _change_stack(path.corrector, error_mm)
    )


def _set_adjustable(parts: list[tuple[DocumentPath, Part]], error_mm: float) -> Remedy | None:
    for place, part in parts:
        if part.adjustable is None:
            continue
        wanted = round(part.adjustable.set_mm - error_mm, SHOP_DECIMALS)
        if part.adjustable.min_mm <= wanted <= part.adjustable.max_mm:
            return _setting(place, part, wanted)
    return None


def _setting(place: DocumentPath, part: Part, wanted_mm: float) -> Remedy:
    assert part.adjustable is not None
    text = (
        f"set {part.title} to {short(wanted_mm)} mm, "
        f"inside its {short(part.adjustable.min_mm)} to {short(part.adjustable.max_mm)} mm"
    )
    change = Change.of(f"Set {part.title}", (*place, "adjustable", "set_mm"), wanted_mm)
    return Remedy(text, change)


def _resize_ring(rig: Rig, parts: list[tuple[DocumentPath, Part]], error_mm: float) -> Remedy | None:
    rings = [(place, part) for place, part in parts if part.kind == "spacer" and part.adjustable is None]
    for place, part in reversed(rings):
        wanted = round(part.length_mm - error_mm, SHOP_DECIMALS)
        if wanted < THINNEST_RING_MM:
            continue
        before = rig.train[int(place[-1]) - 1].title
        verb = "shorten" if error_mm > 0 else "lengthen"
        text = (
            f"{verb} {part.title}, the spacer after {before}, by {number(abs(error_mm), SHOP_DECIMALS)} mm: "
            f"{short(part.length_mm)} → {short(wanted)} mm"
        )
        return Remedy(text, Change.of(f"{verb.capitalize()} {part.title}", (*place, "length_mm"), wanted))
    return None


def _change_stack(corrector: Part, error_mm: float) -> Remedy:
    size = number(abs(error_mm), SHOP_DECIMALS)
    if error_mm < 0:
        return Remedy(f"add a spacer of {size} mm between {corrector.title} and the camera")
    return Remedy(
        f"take {size} mm out between {corrector.title} and the camera: no spacer there is long enough to be shortened, "
        "so a shorter adapter or a thinner part is needed"
    )


@finding("spacing.guide", step=GUIDE_BRANCH, condition=conditions.SPACING, after="spacing.main")
def guide_spacing(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the guide sensor's distance from the prism with that of the main one."""
    path = evaluation.guide_path
    if path is None:
        yield _no_guide_path(evaluation.rig)
        return
    row = evaluation.quantities["guide_path_error_mm"]
    unknown = unknown_behind(evaluation.evaluator, pickoff_index(evaluation.rig))
    if unknown and row.verdict is Verdict.UNPROVEN:
        yield _unknown_filter(
            "spacing.guide", path.pickoff.id, unknown, "The guide camera's focus", path.error_mm, 1,
            _guide_arithmetic(evaluation, path),
            ("guide_path_error_mm", "guide_path_built_mm", "guide_path_required_mm"),
        )  # fmt: skip
        return
    verdict, title = row.verdict, _guide_title(path, row.verdict)
    remedy = NO_REMEDY if verdict is Verdict.HOLDS else _guide_remedy(evaluation, path, verdict)
    cases = [(case, case.guide_path) for case in evaluation.slots if case.guide_path is not None]
    errors = [g.error_mm for _, g in cases]
    if row.target is not None and errors:
        wide = evaluation.rows[GUIDE_SPREAD.id_of(cases[0][0].device.id)]
        assert wide.computed is not None
        spread, depth = wide.computed.value, row.target.high - row.target.low
        if wide.verdict is Verdict.FAILS and verdict is not Verdict.FAILS:
            case, through = max(cases, key=lambda entry: abs(entry[1].error_mm))
            verdict = Verdict.FAILS
            size = number(abs(through.error_mm), SHOP_DECIMALS)
            title = f"Through {case.name} the guide camera is {size} mm out of focus"
            remedy = Remedy(
                f"the filters' shifts differ by {number(spread, 3)} mm, the depth of focus is {number(depth, 3)} mm: "
                "use filters of one thickness, or set the guide focuser anew with each"
            )
        elif verdict is Verdict.HOLDS and max(map(abs, errors)) > row.target.high:
            verdict, title = Verdict.TIGHT, "The guide camera is in focus, but not through every filter at this setting"
            remedy = Remedy(f"set the guide focuser {signed((max(errors) + min(errors)) / -2, 3)} mm from where it is")
    yield Finding(
        id="spacing.guide",
        verdict=verdict,
        subject=path.pickoff.id,
        title=title,
        arithmetic=(
            *_guide_arithmetic(evaluation, path),
            *_slot_lines([(case, g.error_mm) for case, g in cases]),
        ),
        remedy=remedy,
        source=_GUIDE_SOURCE,
        quantities=("guide_path_error_mm", "guide_path_built_mm", "guide_path_required_mm"),
    )


def _no_guide_path(rig: Rig) -> Finding:
    title, text = {
        "none": ("The rig has no guide camera", "nothing to check until the rig has one"),
        "separate": (
            "The guide camera has a telescope of its own",
            "its focus does not depend on the main train: focus it on a star",
        ),
    }.get(
        rig.guiding.kind,
        (
            "The guide branch is not complete",
            "end both the train and the guide path with a camera; with a magnifying corrector behind the prism, "
            "focus the guide camera on a star",
        ),
    )
    return Finding("spacing.guide", Verdict.UNPROVEN, "guiding", title, (), Remedy(text), _GUIDE_SOURCE)


def _guide_title(path: GuidePath, verdict: Verdict) -> str:
    if verdict is Verdict.HOLDS:
        return "The guide camera is in focus together with the main one"
    if verdict is Verdict.TIGHT:
        return "The guide camera is set right on paper, but the tolerances leave it in doubt"
    far = "far from" if path.error_mm > 0 else "close to"
    title = f"The guide camera sits {number(abs(path.error_mm), SHOP_DECIMALS)} mm too {far} the prism"
    if path.reach is not None and path.reach.shortfall_mm != 0:
        return f"{title} and cannot be brought to focus"
    return title


def _guide_arithmetic(evaluation: Evaluation, path: GuidePath) -> Iterator[str]:
    yield from plate_lines(path.main_plates + path.guide_plates)
    yield (
        f"required: X {MINUS} G_main + G_guide = {number(path.main_distance_mm, 3)} {MINUS} "
        f"{number(path.main_shift_mm, 3)} + {number(path.guide_shift_mm, 3)} = {number(path.required_mm, 3)} mm"
    )
    yield f"built: {terms([c.length_mm for c in path.stack.contributions], 3)} = {number(path.built_mm, 3)} mm"
    target = evaluation.quantities["guide_path_error_mm"].target
    allowed = f", depth of focus ±{number(target.high, 3)} mm" if target else ""
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
    """Say where the guide focuser will have to stand once the main spacing is mended behind the prism."""
    main = evaluation.finding("spacing.main") or next(iter(main_spacing(evaluation)))
    if main.verdict is not Verdict.FAILS or main.remedy.change is None or path.reach is None:
        return ""
    corrected = guide_path(apply(bare_train(evaluation.rig), main.remedy.change))
    if corrected is None or corrected.reach is None or abs(corrected.reach.needed_mm - path.reach.needed_mm) < 0.005:
        return ""
    return (
        f". Mend the main spacing first: {path.reach.part.title} then has to stand at "
        f"{number(corrected.reach.needed_mm, SHOP_DECIMALS)} mm"
    )


def _guide_remedy(evaluation: Evaluation, path: GuidePath, verdict: Verdict) -> Remedy:
    rig, reach = evaluation.rig, path.reach
    if verdict is Verdict.TIGHT:
        return Remedy("focus the guide camera on a star; the drawing cannot say it more closely")
    if reach is None:
        verb = "shorten" if path.error_mm > 0 else "lengthen"
        return Remedy(f"{verb} the guide path by {number(abs(path.error_mm), SHOP_DECIMALS)} mm")
    found = rig.find(reach.part.id)
    if found is not None and reach.shortfall_mm == 0:
        wanted = min(max(round(reach.needed_mm, SHOP_DECIMALS), reach.low_mm), reach.high_mm)
        setting = _setting(found[0], reach.part, wanted)
        return replace(setting, text=setting.text + _after_main_remedy(evaluation, path))
    size = number(abs(reach.shortfall_mm), SHOP_DECIMALS)
    needed = f"{reach.part.title} would have to stand at {number(reach.needed_mm, SHOP_DECIMALS)} mm, but goes from "
    span = f"{short(reach.low_mm)} to {short(reach.high_mm)} mm"
    if reach.shortfall_mm < 0:
        fix = (
            f"shorten the guide path by at least {size} mm (a shorter stalk or adapter), or move the main sensor "
            f"back by adding at least {size} mm behind the prism and taking it out before it"
        )
    else:
        fix = f"add an extension of at least {size} mm to the guide path"
    return Remedy(f"{needed}{span}: {fix}")
