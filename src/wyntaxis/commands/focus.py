"""The command on focus runs: what they tell of the focuser, the tube and the filters."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    Command,
    exit_code,
    findings_with,
    keep_arguments,
    keep_change,
    key_map_rules,
    print_findings,
    print_json,
    print_table,
    rig_of,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.focus.result import FocusResult


def _focus(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.focus.kind import FOCUS, keep, read
    from wyntaxis.core.evidence.focus.report import focus_json
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.quantities.focus_runs import focus_optics
    from wyntaxis.core.quantities.numbers import numbers_of

    rig, rules = rig_of(options), key_map_rules(options)
    optics = focus_optics(numbers_of(rig))
    result = read(options.paths, optics, work_progress("frames"), lambda _path: rules)
    notes, change = [], None
    try:
        change = keep(rig, result)
    except ValueError as error:
        notes.append(str(error))
    findings = findings_with(rig, change, ("focuser.",), Evidence().having(FOCUS, result))
    if options.json:
        entries = focus_json(result) | {"notes": notes}
        print_json(entries | {"findings": [finding.as_json() for finding in findings]})
    else:
        _print(result, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _print(result: FocusResult, notes: list[str]) -> None:
    import sys

    from wyntaxis.core.evidence.focus.advice import advice_of
    from wyntaxis.core.evidence.focus.report import RUN_HEADINGS, run_row, summary_lines
    from wyntaxis.core.rig.device_settings import SETTINGS

    rows = [run_row(run, curve) for run, curve in zip(result.runs, result.curves, strict=True)]
    print_table([list(RUN_HEADINGS), *rows], right=set(range(4, 9)))
    for curve in result.curves:
        for point in curve.points:
            if not point.used:
                print(f"not counted: {point.file}: {point.why}")
    for line in summary_lines(result):
        print(line)
    for advice in advice_of(result):
        kind = SETTINGS[advice.key]
        value = ("yes" if advice.value else "no") if isinstance(advice.value, bool) else advice.value
        text = value if isinstance(value, str) else f"{value:g} {kind.unit}".rstrip()
        print(f"set {kind.label.lower()}: {text} ({'; '.join(advice.arithmetic)})")
    for entry in result.not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("paths", type=Path, nargs="+", metavar="PATH", help="frames, folders of them, or tables")
    parser.add_argument("--map", metavar="NAME", help="a saved key map for columns with unknown headings")
    keep_arguments(parser)


COMMANDS = {"focus": Command(_focus, "measure focuser, tube and filters from focus runs", _arguments, group="Measure")}
"""Commands on focus runs."""
