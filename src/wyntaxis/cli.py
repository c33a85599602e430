"""The command line: the same core as the window, in text and JSON."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis import __version__

if TYPE_CHECKING:
    from wyntaxis.core.optics.spacers import SpacerResult, SpacerSet
    from wyntaxis.core.reckon import Reckoning
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.shelf import ShelfPart

OK, SOME_FAIL, UNREADABLE = 0, 1, 2


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit code; see ``wyntaxis --help``."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        if given and given[0] in _COMMANDS:
            return _run_command(given)
        return _run_window(given)
    except BrokenPipeError:  # the reader of a pipe has gone, as with "| head"
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return OK
    except KeyboardInterrupt:
        return 130


def _run_command(given: Sequence[str]) -> int:
    parser = argparse.ArgumentParser(prog="wyntaxis")
    commands = parser.add_subparsers(dest="command", required=True)
    for name, (_, help_text) in _COMMANDS.items():
        command = commands.add_parser(name, help=help_text, description=help_text)
        if name != "schema":
            command.add_argument("file", type=Path, metavar="FILE", help="the rig file, NAME.rig.json")
            command.add_argument("--json", action="store_true", help="print JSON instead of a table")
            command.add_argument("--variant", metavar="NAME", help="the rig's variant of that name")
            command.add_argument("--shelf", type=Path, metavar="SHELF", help="a shelf file, JSON or CSV")
        if name == "spacers":
            command.add_argument(
                "--after",
                action="append",
                default=[],
                metavar="ID",
                help="only behind this part may spacers stand; may be given several times",
            )
    options = parser.parse_args(given)
    from wyntaxis.core.rig.errors import RigError

    try:
        code = _COMMANDS[options.command][0](options)
        sys.stdout.flush()
    except RigError as error:
        print(f"wyntaxis: {error}", file=sys.stderr)
        return UNREADABLE
    return code


def _rig(options: argparse.Namespace) -> Rig:
    from wyntaxis.core.rig.errors import RigError
    from wyntaxis.core.rig.model import variant_rig
    from wyntaxis.core.rig.store import load, shown

    rig = load(options.file).rig
    try:
        return variant_rig(rig, options.variant)
    except ValueError as error:
        raise RigError(f"{shown(options.file)}: {error}") from None


def _shelf(options: argparse.Namespace) -> tuple[ShelfPart, ...]:
    from wyntaxis.core.rig.places import own_shelf_path
    from wyntaxis.core.rig.shelf import load_own_shelf, load_shelf

    shelf = load_shelf(options.shelf) if options.shelf else load_own_shelf(own_shelf_path())
    return shelf.parts


def _reckoned(options: argparse.Namespace) -> Reckoning:
    from wyntaxis.core.reckon import reckon

    return reckon(_rig(options), _shelf_for_remedies(options) if options.command == "check" else ())


def _shelf_for_remedies(options: argparse.Namespace) -> tuple[ShelfPart, ...]:
    """Return the shelf that remedies may name; one's own shelf being broken does not keep a rig from being checked."""
    from wyntaxis.core.rig.errors import RigError

    try:
        return _shelf(options)
    except RigError as error:
        if options.shelf:
            raise
        print(f"wyntaxis: checked without your shelf: {error}", file=sys.stderr)
        return ()


def _numbers(options: argparse.Namespace) -> int:
    from wyntaxis.core.wording import number

    rows = list(_reckoned(options).quantities.values())
    if options.json:
        print(json.dumps([row.as_json() for row in rows], indent=2, ensure_ascii=False))
        return OK
    table = [["quantity", "stated", "computed", "±u", "measured", "unit", "verdict"]]
    for row in rows:
        decimals = row.kind.decimals + 1
        cells = [number(leg.value, decimals) if leg else "–" for leg in (row.stated, row.computed, row.measured)]
        spread = number(row.computed.uncertainty, decimals) if row.computed and row.computed.uncertainty else "–"
        table.append([row.kind.label, cells[0], cells[1], spread, cells[2], row.kind.unit, str(row.verdict)])
    _print_table(table, right={1, 2, 3, 4})
    return OK


def _print_table(table: list[list[str]], right: set[int]) -> None:
    widths = [max(len(cell) for cell in column) for column in zip(*table, strict=True)]
    for row in table:
        cells = [
            cell.rjust(width) if index in right else cell.ljust(width)
            for index, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        print("  ".join(cells).rstrip())


def _check(options: argparse.Namespace) -> int:
    from wyntaxis.core.ledger import Verdict

    findings = _reckoned(options).findings
    if options.json:
        print(json.dumps([finding.as_json() for finding in findings], indent=2, ensure_ascii=False))
    else:
        for finding in findings:
            print(f"{finding.verdict.upper():9} {finding.id}: {finding.title}")
            for line in finding.arithmetic:
                print(f"            {line}")
            if finding.remedy.text:
                print(f"          → {finding.remedy.text}")
            print(f"            source: {finding.source}")
    return SOME_FAIL if any(finding.verdict is Verdict.FAILS for finding in findings) else OK


def _spacers(options: argparse.Namespace) -> int:
    from wyntaxis.core.optics.spacers import find_spacers

    result = find_spacers(_rig(options), _shelf(options), options.after)
    if options.json:
        print(json.dumps(_spacers_json(result), indent=2, ensure_ascii=False))
    else:
        _print_spacers(result)
    return OK if result.sets else SOME_FAIL


def _spacers_json(result: SpacerResult) -> dict[str, object]:
    def one(found: SpacerSet) -> dict[str, object]:
        return {
            "pieces": [
                {"after": place.before.id, "id": part.id, "name": part.title, "length_mm": part.optical_length_mm}
                for place, parts in zip(result.places, found.pieces, strict=True)
                for part in parts
            ],
            "error_mm": found.error_mm,
            "worst_case_mm": found.worst_case_mm,
            "probability_within": found.probability,
        }

    return {
        "fits": bool(result.sets),
        "wanted_mm": result.wanted_mm,
        "tolerance_mm": result.tolerance_mm,
        "sets": [one(found) for found in result.sets],
        "nearest": one(result.nearest) if result.nearest else None,
        "buy": {"text": result.buy, "length_mm": result.buy_length_mm} if result.buy else None,
    }


def _print_spacers(result: SpacerResult) -> None:
    from wyntaxis.core.wording import number, short, signed

    def line(found: SpacerSet) -> list[str]:
        pieces = [
            f"after {place.before.title}: {' + '.join(part.title for part in parts)}"
            for place, parts in zip(result.places, found.pieces, strict=True)
            if parts
        ]
        return [
            signed(found.error_mm, 3),
            f"±{number(found.worst_case_mm, 2)}",
            f"{number(100 * found.probability, 1)} %",
            "; ".join(pieces) or "nothing",
        ]

    print(f"to fill: {number(result.wanted_mm, 3)} mm, error allowed ±{short(result.tolerance_mm)} mm")
    if result.sets:
        header = ["error mm", "worst case mm", "P(inside)", "pieces"]
        _print_table([header, *(line(found) for found in result.sets)], right={0, 1, 2})
        return
    print("nothing fits")
    if result.nearest:
        print(f"nearest: {'  '.join(line(result.nearest))}")
    if result.buy:
        print(f"→ {result.buy}")


def _schema(_options: argparse.Namespace) -> int:
    from wyntaxis.core.rig.model import json_schema

    print(json.dumps(json_schema(), indent=2))
    return OK


_COMMANDS = {
    "numbers": (_numbers, "print every quantity with its three legs"),
    "check": (_check, "print every finding; exit 1 if some fail"),
    "spacers": (_spacers, "search the shelf for spacers that bring the sensor to its distance; exit 1 if none fit"),
    "schema": (_schema, "print the JSON Schema of the rig file"),
}


def _run_window(given: Sequence[str]) -> int:
    parser = argparse.ArgumentParser(
        prog="wyntaxis",
        description="Open a rig in the window, or run a command on it.",
        epilog="commands: " + "; ".join(f"{name}: {text}" for name, (_, text) in _COMMANDS.items()),
    )
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help="the rig to open, NAME.rig.json")
    parser.add_argument("--demo", action="store_true", help="open a copy of the demo rigs")
    parser.add_argument(
        "--screenshot", type=Path, metavar="DIR", help="write a PNG of each view into DIR, without a screen, and end"
    )
    parser.add_argument("--version", action="version", version=f"wyntaxis {__version__}")
    options = parser.parse_args(given)
    from wyntaxis.desk.app import run

    return run(options.file, demo=options.demo, screenshots=options.screenshot)
