"""Commands on the rig alone: its numbers, its findings, the spacer search, the schema."""

from __future__ import annotations

import argparse
import json
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    OK,
    SOME_FAIL,
    Command,
    computed_now,
    evidence_arguments,
    exit_code,
    on_the_point,
    print_findings,
    print_json,
    print_table,
    rig_of,
    shelf_of,
    table_lines,
)

if TYPE_CHECKING:
    from wyntaxis.core.train.spacers import SpacerResult, SpacerSet


def _numbers(options: argparse.Namespace) -> int:
    from wyntaxis.core.numbers_table import HEADINGS, number_rows

    found = computed_now(options).rows
    if options.json:
        print_json([row.as_json() for row in found.values()])
        return OK
    shown = number_rows(found)
    table = [list(HEADINGS), *([f"  {row.cells[0]}", *row.cells[1:]] for row in shown)]
    columns = [list(column) for column in zip(*table, strict=True)]
    for place in range(1, 5):
        columns[place] = [columns[place][0], *on_the_point(columns[place][1:])]
    lines = table_lines([list(cells) for cells in zip(*columns, strict=True)], right=range(1, 5))
    print(lines[0])
    last = None
    for row, line in zip(shown, lines[1:], strict=True):
        if row.step is not last:
            print(f"\n{row.step.title}")
        print(line)
        last = row.step
    return OK


def _check(options: argparse.Namespace) -> int:
    findings = computed_now(options).findings
    if options.json:
        print_json([finding.as_json() for finding in findings])
    else:
        print_findings(findings)
    return exit_code(findings)


def _spacers(options: argparse.Namespace) -> int:
    from wyntaxis.core.train.spacers import find_spacers

    result = find_spacers(rig_of(options), shelf_of(options), options.after)
    if options.json:
        print_json(_spacers_json(result))
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
            "turned": list(found.turned),
            "set_to_mm": dict(found.set_to),
            "vignettes": found.vignettes or None,
        }

    return {
        "fits": bool(result.sets),
        "proven": result.proven,
        "outcome": result.outcome,
        "wanted_mm": result.wanted_mm,
        "tolerance_mm": result.tolerance_mm,
        "sets": [one(found) for found in result.sets],
        "nearest": one(result.nearest) if result.nearest else None,
        "buy": {"text": result.buy, "length_mm": result.buy_length_mm} if result.buy else None,
    }


def _print_spacers(result: SpacerResult) -> None:
    from wyntaxis.core.train.spacers import pieces_text
    from wyntaxis.core.wording import number, short, signed

    def line(found: SpacerSet) -> list[str]:
        return [
            signed(found.error_mm, 3),
            f"±{number(found.worst_case_mm, 2)}",
            f"{number(100 * found.probability, 1)} %",
            pieces_text(result, found),
        ]

    print(f"to fill: {number(result.wanted_mm, 3)} mm, error allowed ±{short(result.tolerance_mm)} mm")
    if not result.proven or not result.sets:
        print(result.outcome)
    if result.sets:
        header = ["error mm", "worst case mm", "P(inside)", "pieces"]
        print_table([header, *(line(found) for found in result.sets)], right={0, 1, 2})
        return
    if result.nearest:
        print(f"nearest: {'  '.join(line(result.nearest))}")
    if result.buy:
        print(f"→ {result.buy}")


def _schema(_options: argparse.Namespace) -> int:
    from wyntaxis.core.rig.model import json_schema

    print(json.dumps(json_schema(), indent=2))
    return OK


def _spacers_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--after",
        action="append",
        default=[],
        metavar="ID",
        help="only behind this part may spacers stand; may be given several times",
    )


COMMANDS = {
    "numbers": Command(
        _numbers, "print every number: stated, computed and measured", evidence_arguments, group="Compute"
    ),
    "check": Command(_check, "print every finding; exit 1 if some fail", evidence_arguments, group="Compute"),
    "spacers": Command(
        _spacers,
        "search the shelf for spacers that bring the sensor to its distance; exit 1 if none fit",
        _spacers_arguments,
        group="Build",
    ),
    "schema": Command(_schema, "print the JSON Schema of the rig file", rig=False, group="Files and shell"),
}
