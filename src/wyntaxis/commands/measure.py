"""The commands that measure from files: each reads, prints or gives JSON, judges what follows, and may keep it."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wyntaxis.commands.shared import (
    UNREADABLE,
    Command,
    every_nth,
    exit_code,
    findings_with,
    keep_arguments,
    keep_change,
    key_map_rules,
    print_findings,
    print_json,
    print_table,
    rig_of,
    shelf_of,
    work_progress,
)
from wyntaxis.core.json_values import JsonObject

if TYPE_CHECKING:
    from wyntaxis.core.evidence.field.result import FieldResult
    from wyntaxis.core.evidence.stars.kind import StarsResult
    from wyntaxis.core.measuring.measuring import Measuring
    from wyntaxis.core.rig.model import Rig

Arguments = Callable[[argparse.ArgumentParser], None]


@dataclass(frozen=True)
class Measure:
    """One command: the module of ``core.measuring`` that it reads by, its help, and what is its own.

    ``files`` and ``files_help`` name what it reads; ``options`` gives the kind's own options of what was typed;
    ``finish`` adds to the JSON and returns further lines for the terminal.
    """

    module: str
    help: str
    counting: str
    files: str
    files_help: str
    at_least: str = "+"
    mapped: bool = False
    rig_optional: bool = False
    arguments: Arguments = lambda _parser: None
    options: Callable[[argparse.Namespace], Mapping[str, Any]] = lambda _options: {}
    finish: Callable[[argparse.Namespace, Rig | None, Any, JsonObject], Sequence[str]] = lambda *_given: ()

    def command(self) -> Command:
        """Return it as the command line knows it."""
        return Command(partial(run, self), self.help, self.add_arguments, rig=not self.rig_optional, group="Measure")

    def add_arguments(self, parser: argparse.ArgumentParser) -> None:
        """Let a parser take its arguments."""
        number: str | int = self.at_least if self.at_least != "1" else 1
        parser.add_argument("paths", type=Path, nargs=number, metavar=self.files, help=self.files_help)
        if self.rig_optional:
            parser.add_argument("--variant", metavar="NAME", help="look at this variant of the rig")
        if self.mapped:
            parser.add_argument("--map", metavar="NAME", help="a saved key map for columns with unknown headings")
        self.arguments(parser)
        keep_arguments(parser)
        if self.rig_optional:
            parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


def run(measure: Measure, options: argparse.Namespace) -> int:
    """Read the files, measure them, and print what they tell and which findings follow."""
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.measuring.measuring import Request, measuring_of
    from wyntaxis.core.quantities.numbers import numbers_of

    rig = _rig(measure, options)
    rules = key_map_rules(options) if measure.mapped else ()
    own = measure.options(options)
    if not options.paths:
        raise InputError(f"name {measure.files_help}")
    measuring = measuring_of(measure.module)
    numbers = numbers_of(rig) if rig is not None else None
    progress = work_progress(measure.counting)
    result = measuring.read(Request(options.paths, numbers, progress, lambda _path: rules, options=own))
    notes, change, findings = list(measuring.notes(result)), None, []
    if rig is not None:
        try:
            change = measuring.kind.keep(rig, result)
        except ValueError as error:
            notes.append(str(error))
        found = findings_with(rig, change, measuring.about, Evidence().having(measuring.kind, result))
        findings = [finding for finding in found if measuring.concerns(finding)]
    entries = measuring.report.as_json(result) if options.json else {}
    lines = measure.finish(options, rig, result, entries)
    if options.json:
        print_json(entries | {"notes": notes, "findings": [finding.as_json() for finding in findings]})
    else:
        _print(measuring, result, lines, notes)
        print_findings(findings)
    if options.keep and change is not None:
        keep_change(options, change)
    if not any(table.cells(result) for table in measuring.report.tables):
        print("wyntaxis: nothing was measured, since no file could be used", file=sys.stderr)
        return UNREADABLE
    return exit_code(findings)


def _rig(measure: Measure, options: argparse.Namespace) -> Rig | None:
    """Return the rig that a command is told of; None where it is told of none and needs none."""
    from wyntaxis.core.files.errors import InputError

    if not measure.rig_optional:
        return rig_of(options)
    if options.paths[0].name.lower().endswith(".json"):
        options.file, *options.paths = options.paths
        return rig_of(options)
    if options.keep:
        raise InputError("--keep writes into a rig: name it before the frames")
    return None


def _print(measuring: Measuring[Any], result: Any, lines: Sequence[str], notes: Sequence[str]) -> None:
    report = measuring.report
    answer = report.answer(result)
    if answer:
        print(f"{answer}\n")
    filled = [(table, rows) for table in report.tables if (rows := table.cells(result))]
    for table, rows in filled:
        if len(filled) > 1:
            print(table.title if table.title.endswith("?") else f"{table.title}:")
        print_table([table.headings, *rows], right=set(range(len(table.shown))) - set(table.texts))
        if len(filled) > 1:
            print()
    for line in (*report.lines(result), *report.more(result), *lines):
        print(line)
    for entry in report.not_used(result):
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    for note in notes:
        print(f"note: {note}", file=sys.stderr)


# Cooling


def _cooling_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--target", type=float, metavar="C", help="the set temperature in °C; the rig's if left out")


# Stars


def _stars_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--each", type=Path, metavar="CSV", help="write every star into this file")
    parser.add_argument("--every", type=every_nth, default=1, metavar="N", help="take every N-th frame only")
    parser.add_argument("--limit", type=float, metavar="PX", help="the largest HFD of an accepted frame, in px")


def _stars_options(options: argparse.Namespace) -> JsonObject:
    return {"every": options.every, "condensed": options.each is None, "limit_px": options.limit}


def _each_star(
    options: argparse.Namespace, _rig: Rig | None, result: StarsResult, _entries: JsonObject
) -> Sequence[str]:
    """Write every star as CSV, where a file is named for them."""
    if options.each is not None:
        from wyntaxis.core.evidence.stars.report import stars_csv
        from wyntaxis.core.files.saving import write_atomically

        write_atomically(stars_csv(result.frames).encode("utf-8"), options.each, keep_previous=False)
    return ()


# Filters


def _filters_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--one-way",
        action="append",
        metavar="FOLDER",
        help="the name of a folder taken with the wheel turning one way only; the others were then taken without",
    )


# Guide log


def _guide_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--without-gusts", action="store_true", help="leave gusts out of all numbers; they are named all the same"
    )


# Tilt and curvature


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


def _field_arguments(parser: argparse.ArgumentParser) -> None:
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


def _field_options(options: argparse.Namespace) -> JsonObject:
    """Return the spacings told by ``--at``, whose folders are read too, and the relation."""
    spacings = dict(options.at or ())
    options.paths += [path for path in spacings if path not in options.paths]
    return {"spacings": spacings, "relation": options.relation}


def _from_shelf(options: argparse.Namespace, rig: Rig | None, result: FieldResult, entries: JsonObject) -> list[str]:
    """Find the sets of pieces that bring the sensor to where the field is flat; none where nothing fits."""
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.train.flat_spacers import wanting
    from wyntaxis.core.train.spacers import find_spacers, pieces_text

    flat, sets = result.flat.flat_at_mm, list[str]()
    if flat is not None and rig is not None:
        try:
            found = find_spacers(wanting(rig, flat.value), shelf_of(options))
            sets = [f"{pieces_text(found, entry)}: {entry.error_mm:+.3f} mm" for entry in found.sets[:3]]
        except (InputError, ValueError):
            sets = []
    if entries:
        entries["spacing"]["from_shelf"] = sets
    return [f"from the shelf: {line}" for line in sets]


MEASURES = {
    "sensor": Measure(
        "sensor",
        "measure the camera from a folder of bench frames",
        "measuring",
        "DIR",
        "a folder of bias, dark and flat frames",
        at_least="1",
    ),
    "cooling": Measure(
        "cooling",
        "measure the cooler from logs of cooling runs",
        "runs",
        "CSV",
        "cooling logs",
        mapped=True,
        arguments=_cooling_arguments,
        options=lambda options: {"target": options.target},
    ),
    "filters": Measure(
        "filters",
        "measure flats: wheel, dust, illumination, old flats",
        "flats",
        "PATH",
        "flats, or folders of them",
        arguments=_filters_arguments,
        options=lambda options: {"one_way": options.one_way},
    ),
    "stars": Measure(
        "stars",
        "measure the stars of frames: HFD, FWHM, elongation",
        "stars",
        "[RIG] PATH",
        "a rig for the scale if there is one, then frames or folders of them",
        rig_optional=True,
        arguments=_stars_arguments,
        options=_stars_options,
        finish=_each_star,
    ),
    "focus": Measure(
        "focus",
        "measure focuser, tube and filters from focus runs",
        "frames",
        "PATH",
        "frames, folders of them, or tables",
        mapped=True,
    ),
    "field": Measure(
        "field",
        "measure tilt and curvature from sweeps of the focuser",
        "frames",
        "PATH",
        "folders of sweeps, or frames",
        at_least="*",
        arguments=_field_arguments,
        options=_field_options,
        finish=_from_shelf,
    ),
    "guide": Measure(
        "guide_log",
        "measure guiding and calibration from guide logs",
        "bytes",
        "LOG",
        "guide logs as text tables, or folders of some",
        mapped=True,
        arguments=_guide_arguments,
        options=lambda options: {"without_gusts": options.without_gusts},
    ),
}
COMMANDS = {name: measure.command() for name, measure in MEASURES.items()}
"""Commands that measure from files."""
