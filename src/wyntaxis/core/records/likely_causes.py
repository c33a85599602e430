"""The likely story behind a difference between what a program has and what the rig says."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from wyntaxis.core.records.mistakes import WrongNumber, mistakes_in
from wyntaxis.core.records.quantities import Comparable
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.lightpath import SAME_FACTOR, left_out
from wyntaxis.core.wording import short

MAX_RATIO = 1e12
"""Beyond it no unit, factor or slip explains a number."""

_LENGTH_FACTORS = ((1000.0, "m", "mm"), (0.001, "µm", "mm"), (25.4, "inches", "mm"))
_UNIT_FACTORS: dict[str, tuple[tuple[float, str, str], ...]] = {
    "mm": _LENGTH_FACTORS,
    "µm": ((1000.0, "mm", "µm"), (0.001, "nm", "µm")),
    "°": ((15.0, "hours", "degrees"), (57.29578, "radians", "degrees")),
    "s": ((0.001, "ms", "s"), (60.0, "min", "s"), (3600.0, "h", "s")),
    "ms": ((1000.0, "s", "ms"),),
    "m": ((0.3048, "feet", "m"), (1000.0, "km", "m")),
    "°C": (),
}
_PLACEHOLDERS = ("filter", "slot", "position", "unused", "empty", "none", "blank", "unnamed", "free", "n/a", "-", "?")


def _near(ratio: float, factor: float) -> bool:
    return abs(ratio / factor - 1) < SAME_FACTOR


def likely_cause_of_number(
    rig: Rig, item: Comparable, has: float, wanted: float, known: Mapping[str, Comparable] | None = None
) -> str:
    """Return what a wrong number looks like, or an empty text where nothing comes to mind.

    Parameters
    ----------
    rig, item
        The rig, and what the number is of.
    has, wanted
        The program's number, and the rig's, in the rig's unit.
    known
        The rig's other numbers, by id: one of them may stand in the place of this one.
    """
    found = next(mistakes_in(WrongNumber(rig, item, has, wanted, known or {})), "")
    if found:
        return found
    if wanted == 0 or has == 0:
        return "it was never set" if has == 0 and wanted != 0 and item.topic in ("focal_length", "pixel") else ""
    ratio = has / wanted
    if not 1 / MAX_RATIO < abs(ratio) < MAX_RATIO:
        return ""
    if ratio < 0:
        return "the sign is the other way round" if _near(-ratio, 1) else ""
    if item.id in ("width_px", "height_px"):
        return _cause_of_size(ratio)
    return _missing_glass(rig, item, ratio) or _binning_cause(item, ratio) or _other_unit(item, ratio)


def _missing_glass(rig: Rig, item: Comparable, ratio: float) -> str:
    if item.id in ("effective_focal_length_mm", "pixel_scale_arcsec_px"):
        is_length = item.id == "effective_focal_length_mm"
        found = left_out(rig, ratio if is_length else 1 / ratio)
        if found is not None and found.is_doubled:
            return f"{found.part.title} ({short(found.magnification, 3)}×) is counted twice"
        if found is not None:
            cause = f"1/{short(found.magnification, 3)}" if is_length else short(found.magnification, 3)
            return f"{short(ratio, 3)} times, {cause}: the {found.kind} {found.part.title} is missing"
    return ""


def _cause_of_size(ratio: float) -> str:
    for binning in (2, 3, 4):
        if _near(1 / ratio, binning):
            return f"1/{binning}: the size of frames binned {binning} × {binning}"
    return ""


def _binning_cause(item: Comparable, ratio: float) -> str:
    if item.topic in ("pixel", "focal_length") or item.id.endswith("binning"):
        for binning in (2, 3, 4):
            if _near(ratio, binning):
                return (
                    f"{binning} times: the binned pixel size" if item.topic == "pixel" else f"{binning} times too large"
                )
    return ""


def _other_unit(item: Comparable, ratio: float) -> str:
    for factor, theirs, ours in _UNIT_FACTORS.get(item.unit, ()):
        if _near(1 / ratio, factor):
            return f"unit: {theirs} for {ours}"
        if _near(ratio, factor):
            return f"unit: {ours} for {theirs}"
    return ""


def likely_cause_of_text(has: str, wanted: str) -> str:
    """Return what a wrong text looks like."""
    if has.strip().casefold() == wanted.strip().casefold():
        return "only capitals or spaces differ"
    if not has.strip():
        return "it is blank"
    return ""


def is_placeholder(name: str) -> bool:
    """Return whether a slot's name is one that nobody gave: blank, ``Filter 5``, ``unused``."""
    plain = name.strip().casefold()
    return not plain or plain.rstrip("0123456789 #_.") in _PLACEHOLDERS


def _moved_by_one(has: tuple[str, ...], wanted: tuple[str, ...]) -> str:
    """Return that every name stands one slot beside its own, in a ring or with the outermost lost."""
    if len(wanted) < 2 or len(has) < len(wanted):
        return ""
    later = has[1 : len(wanted)] == wanted[:-1] and (is_placeholder(has[0]) or has[0] in wanted)
    earlier = has[: len(wanted) - 1] == wanted[1:]
    if later == earlier:
        return ""
    return f"each name stands one slot too {'late' if later else 'early'}: slots counted from 0 here, from 1 there"


def likely_cause_of_list(has: tuple[str, ...], wanted: tuple[str, ...]) -> str:
    """Return how a list of names differs from the wanted one."""
    if has == wanted:
        return ""
    moved = _moved_by_one(has, wanted)
    if moved:
        return moved
    spare = [index + 1 for index, name in enumerate(has) if is_placeholder(name) and name not in wanted]
    if spare and tuple(name for name in has if not is_placeholder(name) or name in wanted) == wanted:
        slots = ", ".join(str(index) for index in spare)
        return f"unused slot{'s' if len(spare) > 1 else ''} left over: {slots}"
    if Counter(has) == Counter(wanted):
        off = [index for index, (entry, other) in enumerate(zip(has, wanted, strict=True)) if entry != other]
        if len(off) == 2:
            return f"order of {wanted[off[0]]} and {wanted[off[1]]} swapped"
        return "same set, other order"
    if [name.strip().casefold() for name in has] == [name.strip().casefold() for name in wanted]:
        return "only capitals or spaces differ"
    repeated = [name for name, count in Counter(has).items() if count > 1 and not is_placeholder(name)]
    if repeated:
        return f"{repeated[0]} stands {Counter(has)[repeated[0]]} times"
    missing = [name for name in wanted if name not in has]
    added = [name for name in has if name not in wanted]
    parts = [f"without {', '.join(missing)}"] if missing else []
    parts += [f"with {', '.join(name or '(blank)' for name in added)}"] if added else []
    return "; ".join(parts)
