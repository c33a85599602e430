"""The night that was against the plan: frames asked for and taken, and times that differ from those in use."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.headers.overheads import TIME_WORDS, Overheads, PastNight
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rehearsal.setting import NightSetting
from wyntaxis.core.wording import counted, number

ALIKE_SHARE, ALIKE_S = 0.2, 2.0
"""A time that differs from the supposed one by less, as a share or in s, is as supposed."""
MOST_INTO = {
    "between": "downloads and dithers",
    "wheel": "filter changes",
    "focus": "focus runs",
    "flip": "flips",
    "slew": "going to other objects",
    "waiting": "waiting",
}
WITHIN = {"slew": ("slew", "solve", "guide"), "flip": ("flip", "solve", "guide")}
"""What a gap holds besides the work that it is named by."""


def used_s(setting: NightSetting, action: str) -> float:
    """Return what the rehearsal uses for a gap between two frames, in s, the download left out."""
    return sum(setting.work_s(work) for work in WITHIN.get(action, (action,)))


def off_times(found: Overheads, setting: NightSetting) -> Iterator[tuple[str, float, float]]:
    """Yield the kinds of work that took clearly longer or shorter than the rehearsal uses.

    Parameters
    ----------
    found
        What the frames' times tell.
    setting
        What the rehearsal goes by.

    Yields
    ------
    tuple of str, float, float
        The kind of work; measured and used, in s. Clearly is by more than 2u, a fifth, and two seconds.
    """
    for action, seconds in found.known.items():
        supposed = used_s(setting, action)
        over = abs(seconds.value - supposed)
        if over > max(2 * seconds.standard, ALIKE_SHARE * supposed, ALIKE_S):
            yield action, seconds.value, supposed


def against_plan(found: Overheads, setting: NightSetting) -> list[str]:
    """Return in sentences how the last night compares with the plan.

    Parameters
    ----------
    found
        What the frames' times tell.
    setting
        What the rehearsal goes by.

    Returns
    -------
    list of str
        Frames asked for and taken, what cost most besides exposing, and what took another time than is used.
    """
    if not found.nights:
        return []
    last, plan = found.nights[-1], setting.rig.plan
    lines = []
    if plan is not None and plan.frames is not None:
        missing = plan.frames - last.frames
        more = f": {missing} fewer" if missing > 0 else ""
        lines.append(f"The plan asks for {counted(plan.frames, 'frame')}, {last.frames} were taken{more}.")
    lines += _costliest(last)
    for action, seconds, supposed in off_times(found, setting):
        way = "longer" if seconds > supposed else "shorter"
        lines.append(
            f"{TIME_WORDS[action]} took {number(seconds, 1)} s, {way} than the {number(supposed, 1)} s that the "
            "rehearsal uses."
        )
    return lines


def _costliest(night: PastNight) -> Iterator[str]:
    spent = {cause: seconds for cause, seconds in night.spent_s.items() if cause != "exposing"}
    whole = night.ends_s - night.begins_s
    cause, seconds = max(spent.items(), key=lambda entry: entry[1])
    if whole > 0 and seconds > 0:
        share = 100 * night.exposed_s / whole
        yield (
            f"{number(share, 0)} % of the night was exposed; of the rest, most went into {MOST_INTO[cause]}: "
            f"{number(seconds / 60, 0)} min."
        )


def against_plan_json(found: Overheads, setting: NightSetting) -> JsonObject:
    """Return the same as ``wyntaxis headers --json`` prints it."""
    if not found.nights:
        return {}
    plan = setting.rig.plan
    return {
        "planned_frames": plan.frames if plan is not None else None,
        "taken_frames": found.nights[-1].frames,
        "used_s": {action: used_s(setting, action) for action in found.known},
        "differ": [action for action, _, _ in off_times(found, setting)],
    }
