"""The command on stars: what a frame's stars tell of its focus, seeing and tracking."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    Command,
    every_nth,
    exit_code,
    findings_with,
    keep_arguments,
    keep_change,
    print_findings,
    print_json,
    print_table,
    rig_of,
    scale_by_rig,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.stars.kind import StarsResult


def _stars(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.stars.kind import keep, read
    from wyntaxis.core.evidence.stars.report import stars_csv, stars_json
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.saving import write_atomically

    paths, rig, scale_of = list(options.paths), None, None
    if paths and paths[0].name.lower().endswith(".json"):
        options.file = paths.pop(0)
        rig = rig_of(options)
        scale_of = scale_by_rig(rig)
    elif options.keep:
        raise InputError("--keep writes into a rig: name it before the frames")
    if not paths:
        raise InputError("name a FITS frame, or a folder of them")
    progress = work_progress("stars")
    result = read(paths, scale_of, progress, options.every, condensed=options.each is None, limit_px=options.limit)
    if options.each is not None:
        write_atomically(stars_csv(result.frames).encode("utf-8"), options.each, keep_previous=False)
    change, notes = None, []
    if rig is not None:
        try:
            change = keep(rig, result)
        except ValueError as error:
            notes.append(str(error))
    findings = findings_with(rig, change, ("stars.",)) if rig is not None else []
    if options.json:
        print_json(stars_json(result) | {"notes": notes, "findings": [finding.as_json() for finding in findings]})
    else:
        _print(result, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _print(result: StarsResult, notes: list[str]) -> None:
    from wyntaxis.core.evidence.stars.report import FRAME_HEADINGS, frame_row

    table = [list(FRAME_HEADINGS), *(frame_row(entry) for entry in result.grades)]
    print_table(table, right={2, 3, 4, 5, 6, 8, 9, 10})
    for entry in result.not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


def _stars_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "paths", type=Path, nargs="+", metavar="[RIG] PATH", help="a rig for the scale; frames, folders"
    )
    parser.add_argument("--variant", metavar="NAME", help="look at this variant of the rig")
    parser.add_argument("--each", type=Path, metavar="CSV", help="write every star into this file")
    parser.add_argument("--every", type=every_nth, default=1, metavar="N", help="take every N-th frame only")
    parser.add_argument("--limit", type=float, metavar="PX", help="the largest HFD of an accepted frame, in px")
    keep_arguments(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


COMMANDS = {
    "stars": Command(
        _stars, "measure the stars of frames: HFD, FWHM, elongation", _stars_arguments, rig=False, group="Measure"
    ),
}
