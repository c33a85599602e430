"""The command on the field: tilt and curvature by sweeps of the focuser."""

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
    shelf_of,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.field.result import FieldResult
    from wyntaxis.core.rig.model import Rig


def _field(options: argparse.Namespace) -> int:
    from dataclasses import replace

    from wyntaxis.core.evidence.field.kind import FIELD, keep, read
    from wyntaxis.core.evidence.field.report import field_json
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.quantities.field_surface import field_optics
    from wyntaxis.core.quantities.numbers import numbers_of

    rig = rig_of(options)
    optics = field_optics(numbers_of(rig))
    paths, spacings = list(options.paths), dict(options.at or ())
    paths += [path for path in spacings if path not in paths]
    if not paths:
        raise InputError("name a folder of frames taken at many positions of the focuser")
    result = read(paths, optics, work_progress("frames"), spacings=spacings)
    result = replace(result, relation=options.relation)
    notes, change = [], None
    try:
        change = keep(rig, result)
    except ValueError as error:
        notes.append(str(error))
    findings = findings_with(rig, change, ("field.", "spacing.flat"), Evidence().having(FIELD, result))
    shelf = _from_shelf(options, rig, result)
    if options.json:
        entries = field_json(result)
        entries["spacing"]["from_shelf"] = shelf
        print_json(entries | {"notes": notes, "findings": [finding.as_json() for finding in findings]})
    else:
        _print(result, shelf, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _from_shelf(options: argparse.Namespace, rig: Rig, result: FieldResult) -> list[str]:
    """Return the sets of pieces that bring the sensor to where the field is flat, in words; none where nothing fits."""
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.train.flat_spacers import wanting
    from wyntaxis.core.train.spacers import find_spacers, pieces_text

    flat = result.flat.flat_at_mm
    if flat is None:
        return []
    try:
        found = find_spacers(wanting(rig, flat.value), shelf_of(options))
    except (InputError, ValueError):
        return []
    return [f"{pieces_text(found, entry)}: {entry.error_mm:+.3f} mm" for entry in found.sets[:3]]


def _print(result: FieldResult, shelf: list[str], notes: list[str]) -> None:
    from wyntaxis.core.evidence.field.causes import causes
    from wyntaxis.core.evidence.field.report import HINT, SWEEP_HEADINGS, summary_lines, sweep_row

    if result.sweeps:
        print_table([list(SWEEP_HEADINGS), *map(sweep_row, result.sweeps)], right={2, 4, 5, 6, 7})
    for line in summary_lines(result):
        print(line)
    for line in shelf:
        print(f"from the shelf: {line}")
    for cause in causes(result):
        print(f"{cause.words}" + (f"; next: {cause.next}" if cause.next else ""))
        for line in cause.evidence:
            print(f"    {line}")
    for shape in result.singles:
        print(f"{shape.file}, {HINT}: " + (shape.why or "zones"))
        for zone in shape.zones:
            print(
                f"    {zone.x:.0f}, {zone.y:.0f} px: FWHM {zone.fwhm_px:.2f} px, elongation {zone.elongation:.2f} "
                f"along {zone.angle_deg:.0f}°, {'radial' if zone.radial > 0 else 'tangential'} {abs(zone.radial):.2f}"
            )
    for entry in result.not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


def _spacing(text: str) -> tuple[Path, float]:
    """Return a folder and the spacing that its sweep was taken at, of ``MM:FOLDER``."""
    length, colon, path = text.partition(":")
    try:
        value = float(length)
    except ValueError:
        value = 0.0
    if not colon or not path or not 0 < value < 10_000:
        raise argparse.ArgumentTypeError(f"must be MM:FOLDER, such as 61.5:sweep, got {text[:60]}")
    return Path(path), value


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("paths", type=Path, nargs="*", metavar="PATH", help="folders of sweeps, or frames")
    parser.add_argument(
        "--at",
        type=_spacing,
        action="append",
        metavar="MM:FOLDER",
        help="a sweep taken with the sensor so many mm behind the corrector; otherwise from the folder's name (61.5 "
        "mm)",
    )
    parser.add_argument(
        "--relation",
        choices=("turned", "altitude", "flip", "day", "spacing", "repeat"),
        help="how the last two sweeps differ, where their headers do not say",
    )
    keep_arguments(parser)


COMMANDS = {
    "field": Command(_field, "measure tilt and curvature from sweeps of the focuser", _arguments, group="Measure")
}
"""Commands on the field."""
