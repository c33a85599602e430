"""The command on the rehearsal: the night played by day."""

from __future__ import annotations

import argparse
import datetime
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    Command,
    exit_code,
    findings_with,
    print_findings,
    print_json,
    print_table,
    rig_of,
    work_progress,
)
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import counted

if TYPE_CHECKING:
    from wyntaxis.core.rehearsal.night_sky import NightSky
    from wyntaxis.core.rehearsal.outcome import NightOutcome
    from wyntaxis.core.rehearsal.play import FaultRow
    from wyntaxis.core.rehearsal.setting import NightSetting


def _rehearse(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal
    from wyntaxis.core.rehearsal.play import fault_table, named_faults, played
    from wyntaxis.core.rehearsal.setting import setting_of

    rig = rig_of(options)
    sky = _sky(options)
    setting = setting_of(rig, sky)
    if options.nights is not None:
        return _many(options, setting)
    good = played(setting)
    rows: tuple[FaultRow, ...] = ()
    if options.every_fault:
        rows = fault_table(setting, work_progress("faults"))
        if options.json:
            print_json([_row_json(row) for row in rows])
        else:
            _print_rows(rows)
    else:
        faults = named_faults(setting, options.fault or ())
        outcome = played(setting, faults) if faults else good
        if options.json:
            print_json(_outcome_json(outcome, good, setting, [entry.fault.title for entry in faults]))
        else:
            rows = () if faults else fault_table(setting)
            _print_outcome(outcome, setting, rows)
    if not rows:
        return _exit(outcome)
    evidence = Evidence().having(REHEARSAL, Rehearsal(setting, good, rows))
    findings = findings_with(rig, None, ("night.",), evidence)
    if not options.json:
        print_findings(findings)
    return exit_code(findings)


def _exit(outcome: NightOutcome) -> int:
    """Return 1 where a night ends unsafe, or hangs."""
    return 0 if outcome.safe_end else 1


def _sky(options: argparse.Namespace) -> NightSky:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rehearsal.night_sky import sky_of

    try:
        date = datetime.date.fromisoformat(options.date) if options.date else None
        return sky_of(rig_of(options), date)
    except ValueError as error:
        raise InputError(f"--date: {error}") from None


def _outcome_json(outcome: NightOutcome, good: NightOutcome, setting: NightSetting, struck: list[str]) -> JsonObject:
    from wyntaxis.core.rehearsal.outcome import grade_of
    from wyntaxis.core.rehearsal.summary import in_short

    first, sky = outcome.first_unhandled, setting.sky
    return {
        "summary": list(in_short(setting, outcome, struck=struck)),
        "outcome": grade_of(outcome),
        "frames_kept": outcome.frames_kept,
        "frames_lost": outcome.frames_lost,
        "taken": outcome.frames_kept + outcome.frames_lost,
        "rejected": dict(outcome.lost_why),
        "frames_planned": outcome.frames_planned,
        "targets": [
            {"name": own.name, "kept": own.kept, "planned": own.planned} | ({"why": own.why} if own.why else {})
            for own in outcome.targets
        ],
        "hours_lost": outcome.hours_lost(good),
        "safe_end": outcome.safe_end,
        "unsafe": list(outcome.unsafe),
        "endless": list(outcome.endless),
        "first_unhandled": None if first is None else first.as_json(),
        "budget_s": dict(outcome.budget),
        "messages": list(outcome.messages),
        "lost_why": [{"why": why, "frames": count} for why, count in outcome.lost_why],
        "ends_s": outcome.ends_s,
        "dark_s": [setting.sky.dark_from_s, setting.sky.dark_until_s],
        "date": setting.sky.date,
        "clock": {
            "begins": sky.clock(0.0) or None,
            "dark_from": sky.clock(sky.dark_from_s) or None,
            "dark_until": sky.clock(sky.dark_until_s) or None,
            "ends": sky.clock(outcome.ends_s) or None,
        },
        "events": [event.as_json() | _clock_json(sky, event.t_s) for event in outcome.events],
    }


def _clock_json(sky: NightSky, at_s: float) -> JsonObject:
    at = sky.clock(at_s)
    return {"clock": at} if at else {}


def _row_json(row: FaultRow) -> JsonObject:
    first = row.outcome.first_unhandled
    return {
        "fault": row.fault.id,
        "title": row.fault.title,
        "applies": row.applies,
        "outcome": row.grade,
        "frames_kept": row.outcome.frames_kept,
        "hours_lost": row.hours_lost,
        "safe_end": row.outcome.safe_end,
        "unsafe": [*row.outcome.unsafe, *row.outcome.endless],
        "first_unhandled": None if first is None else first.as_json(),
    }


def _print_outcome(outcome: NightOutcome, setting: NightSetting, rows: tuple[FaultRow, ...]) -> None:
    from wyntaxis.core.rehearsal.outcome import SPAN_WORDS, grade_of
    from wyntaxis.core.rehearsal.summary import in_short

    if rows:
        print("\n".join((*in_short(setting, outcome, rows), "")))
    for event in outcome.events:
        mark = "!" if event.unhandled else " "
        at = f"{setting.sky.time_words(event.t_s)} " if setting.sky.begins is not None else ""
        print(f"{clock(event.t_s)} {at}{mark} {event.device or '–'}: {event.what}")
    print(f"{grade_of(outcome)}: {outcome.frames_kept} of {outcome.frames_planned} frames kept")
    for why, count in outcome.lost_why:
        print(f"    {counted(count, 'frame')} lost: {why}")
    for kind, seconds in outcome.budget.items():
        if seconds:
            print(f"    {SPAN_WORDS[kind]}: {clock(seconds)}")
    for words in (*outcome.unsafe, *(f"nothing ends: {wait}" for wait in outcome.endless)):
        print(f"    not safe: {words}")


def clock(seconds: float) -> str:
    """Return a time as hours, minutes and seconds."""
    whole = round(seconds)
    return f"{whole // 3600:3d}:{whole // 60 % 60:02d}:{whole % 60:02d}"


def _print_rows(rows: tuple[FaultRow, ...]) -> None:
    table = [["fault", "outcome", "frames kept", "hours lost", "what is not safe, or not handled"]]
    for row in rows:
        first = row.outcome.first_unhandled
        why = ", ".join((*row.outcome.unsafe, *row.outcome.endless)) or (first.what if first is not None else "")
        grade = row.grade if row.applies else "does not apply"
        table.append([row.fault.id, grade, str(row.outcome.frames_kept), f"{row.hours_lost:.1f}", why])
    print_table(table, right={2, 3})


def _many(options: argparse.Namespace, setting: NightSetting) -> int:
    from wyntaxis.core.evidence.reporting import plain_value
    from wyntaxis.core.rehearsal.parallel import many_nights_in_parallel

    found = many_nights_in_parallel(setting, options.nights, options.seed, work_progress("nights"))
    if options.json:
        print_json(
            {
                "nights": found.nights,
                "seed": options.seed,
                "hours_kept": plain_value(found.hours_kept),
                "unsafe_share": plain_value(found.unsafe_share),
                "lost_share": plain_value(found.lost_share),
                "in_unsafe_nights": [{"fault": name, "nights": count} for name, count in found.worst],
            }
        )
    else:
        print(f"{found.nights} nights: {found.hours_kept.value:.2f} ± {found.hours_kept.standard:.2f} h kept a night")
        print(f"unsafe {100 * found.unsafe_share.value:.1f} ± {100 * found.unsafe_share.standard:.1f} %")
        print(f"nothing kept {100 * found.lost_share.value:.1f} ± {100 * found.lost_share.standard:.1f} %")
        for name, count in found.worst:
            print(f"    {name} in {count} of the unsafe nights")
    return 0


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--fault", action="append", metavar="ID[@TIME]", help="let a fault strike, at a time in s or H:MM"
    )
    parser.add_argument("--every-fault", action="store_true", help="simulate each fault by itself")
    parser.add_argument("--nights", type=int, metavar="N", help="simulate N nights with faults drawn by their rates")
    parser.add_argument("--seed", type=int, default=1, metavar="S", help="what they are drawn from")
    parser.add_argument("--date", metavar="D", help="the night that begins on this date; today by default")


COMMANDS = {
    "rehearse": Command(
        _rehearse, "simulate the night, and every fault that can happen in it", _arguments, group="Verify"
    )
}
"""Commands on the rehearsal."""
