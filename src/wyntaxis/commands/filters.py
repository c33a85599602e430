"""The command on flats: the wheel, dust, light, and whether old flats serve."""

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
    print_findings,
    print_json,
    print_table,
    rig_of,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.result import FilterResult


def _filters(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.filters.kind import FILTERS, keep, read
    from wyntaxis.core.evidence.filters.report import filters_json
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.quantities.flats import flat_optics
    from wyntaxis.core.quantities.numbers import numbers_of

    rig = rig_of(options)
    one_way = frozenset(options.one_way or ())
    result = read(options.paths, flat_optics(numbers_of(rig)), work_progress("flats"), one_way=one_way)
    notes, change = [], None
    try:
        change = keep(rig, result)
    except ValueError as error:
        notes.append(str(error))
    entries = findings_with(rig, change, ("wheel.repeat", "wheel.dust", "flats."), Evidence().having(FILTERS, result))
    # What the bench once kept of a camera's flats is not about these.
    findings = [entry for entry in entries if entry.id != "flats.level" or entry.subject.startswith("flats.")]
    if options.json:
        shown = filters_json(result) | {"notes": notes}
        print_json(shown | {"findings": [finding.as_json() for finding in findings]})
    else:
        _print(result, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _print(result: FilterResult, notes: list[str]) -> None:
    from wyntaxis.core.evidence.filters.report import (
        DUST_HEADINGS,
        LEVEL_HEADINGS,
        REPEAT_HEADINGS,
        SERVE_HEADINGS,
        dust_row,
        level_row,
        one_way_text,
        repeat_row,
        serve_row,
    )

    pixel = result.optics.pixel_um
    tables = (
        (LEVEL_HEADINGS, [level_row(entry) for entry in result.levels], {2, 3, 4, 5, 6, 7}),
        (REPEAT_HEADINGS, [repeat_row(entry, pixel) for entry in result.repeats], {2, 3, 4, 5, 6}),
        (DUST_HEADINGS, [dust_row(entry) for entry in result.dust], {0, 1, 2, 3, 4, 5}),
        (SERVE_HEADINGS, [serve_row(entry) for entry in result.serves], {4, 5}),
    )
    for headings, rows, right in tables:
        if rows:
            print_table([list(headings), *rows], right=right)
            print()
    compared = one_way_text(result)
    if compared:
        print(compared)
    for entry in result.not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("paths", type=Path, nargs="+", metavar="PATH", help="flats, or folders of them")
    parser.add_argument(
        "--one-way",
        action="append",
        metavar="FOLDER",
        help="the name of a folder taken with the wheel turning one way only; the others were then taken without",
    )
    keep_arguments(parser)


COMMANDS = {
    "filters": Command(_filters, "measure flats: wheel, dust, illumination, old flats", _arguments, group="Measure")
}
"""Commands on flats."""
