"""The command on guide logs."""

from __future__ import annotations

import argparse
import sys
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
    from wyntaxis.core.evidence.guide_log.result import GuideResult

PREFIXES = ("guiding.rms", "guiding.drift", "guiding.period", "guiding.aggression", "guiding.settling")
MORE = ("guiding.limit", "guiding.calibration_age", "guiding.scale_measured", "guiding.darks", "mount.polar")


def _guide(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG, keep, read
    from wyntaxis.core.evidence.guide_log.report import guide_json
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.quantities.guide_log import guide_log_optics
    from wyntaxis.core.quantities.numbers import numbers_of

    rig, rules = rig_of(options), key_map_rules(options)
    result = read(options.logs, guide_log_optics(numbers_of(rig)), work_progress("bytes"), lambda _path: rules)
    notes, change = [], None
    try:
        change = keep(rig, result)
    except ValueError as error:
        notes.append(str(error))
    findings = findings_with(rig, change, (*PREFIXES, *MORE), Evidence().having(GUIDE_LOG, result))
    if options.json:
        print_json(guide_json(result) | {"notes": notes, "findings": [finding.as_json() for finding in findings]})
    else:
        _print(result, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _print(result: GuideResult, notes: list[str]) -> None:
    from wyntaxis.core.evidence.guide_log.report import RUN_HEADINGS, run_row, settling_text, summary_lines

    main = result.optics.main_scale_arcsec_px
    if result.runs:
        print_table([list(RUN_HEADINGS), *(run_row(own, main) for own in result.runs)], right=set(range(2, 14)))
    for own in result.runs:
        if own.settling is not None:
            print(f"{own.name}: {settling_text(own.settling)}")
    for line in summary_lines(result):
        print(line)
    for entry in result.not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "logs", type=Path, nargs="+", metavar="LOG", help="guide logs as text tables, or folders of some"
    )
    parser.add_argument("--map", metavar="NAME", help="the key map that says which column holds what")
    keep_arguments(parser)


COMMANDS = {"guide": Command(_guide, "measure guiding and calibration from guide logs", _arguments, group="Measure")}
"""Commands on guide logs."""
