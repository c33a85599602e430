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
    print_findings,
    print_json,
    print_table,
    rig_of,
    shelf_of,
)

if TYPE_CHECKING:
    from wyntaxis.core.train.spacers import SpacerResult, SpacerSet


def _numbers(options: argparse.Namespace) -> int:
    from wyntaxis.core.wording import number

    evaluation = computed_now(options)
    rows = evaluation.rows.values()
    if options.json:
        print_json([row.as_json() for row in rows])
        return OK
    table = [["quantity", "stated", "computed", "±u", "measured", "unit", "verdict"]]
    for row in rows:
        decimals = row.kind.decimals + 1
        cells = [
            number(quantity_value.value, decimals) if quantity_value else "–"
            for quantity_value in (row.stated, row.computed, row.measured)
        ]
        spread = number(row.computed.uncertainty, decimals) if row.computed and row.computed.uncertainty else "–"
        table.append([row.kind.label, cells[0], cells[1], spread, cells[2], row.kind.unit, str(row.verdict)])
    print_table(table, right={1, 2, 3, 4})
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
    "numbers": Command(_numbers, "print every quantity with its three legs", evidence_arguments),
    "check": Command(_check, "print every finding; exit 1 if some fail", evidence_arguments),
    "spacers": Command(
        _spacers,
        "search the shelf for spacers that bring the sensor to its distance; exit 1 if none fit",
        _spacers_arguments,
    ),
    "schema": Command(_schema, "print the JSON Schema of the rig file", rig=False),
}
