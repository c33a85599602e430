"""Commands on programs' files: what one holds, path by path, and the key maps that say what the paths mean."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, Command, print_json, print_table
from wyntaxis.core.json_values import JsonObject

if TYPE_CHECKING:
    from wyntaxis.core.evidence.foreign.keymap import KeyRule
    from wyntaxis.core.records.quantities import Comparable

MAX_SHOWN = 60


def _known(options: argparse.Namespace) -> dict[str, Comparable]:
    """Return what the rig that was named knows; nothing without one."""
    if options.rig is None:
        return {}
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.records.quantities import comparables
    from wyntaxis.core.rig.store import load

    return comparables(evaluate(load(options.rig).rig))


def _paths(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.foreign.keymap import stable_path
    from wyntaxis.core.evidence.foreign.readers import read_foreign
    from wyntaxis.core.records.mapping import Suggestions

    file = read_foreign(options.file)
    suggest = Suggestions(_known(options))
    rows: list[JsonObject] = []
    for path, value in file.values.items():
        stable = stable_path(path, file.values)
        rows.append({"path": stable, "at": path, "value": value, "suggests": suggest.of(path)})
    if options.json:
        print_json({"file": file.name, "form": file.form, "paths": rows})
        return OK
    table = [["path", "value", "perhaps"]]
    for row in rows:
        text = "–" if row["value"] is None else str(row["value"])
        table.append(
            [row["path"], text if len(text) <= MAX_SHOWN else text[: MAX_SHOWN - 1] + "…", row["suggests"] or ""]
        )
    print_table(table, right=set())
    return OK


def _paths_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="FILE", help="a program's settings file of any form")
    parser.add_argument("--rig", type=Path, metavar="RIG", help="suggest quantities of this rig for the paths")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


def _map(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.foreign.keymap import KeyMap, load_maps, save_maps
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.places import own_maps_path

    name = options.name.strip()
    if not name or len(name) > MAX_NAME or not name.isprintable():
        raise InputError(f"NAME: must be 1 to {MAX_NAME} printable characters")
    known = _known(options)
    rules = [_rule(text, known) for text in options.rules]
    path = own_maps_path()
    maps = load_maps(path)
    old = maps.named(name)
    if old is not None and options.add:
        replaced = {rule.quantity for rule in rules}
        rules = [*(rule for rule in old.rules if rule.quantity not in replaced), *rules]
    form = options.form or (old.form if old is not None else "any")
    made = KeyMap(name=name, form=form, rules=tuple(rules))
    save_maps(maps.with_map(made), path)
    if options.json:
        print_json(made.model_dump(mode="json", exclude_none=True))
    else:
        print(f"key map “{name}” {'changed' if old is not None else 'made'}: {len(rules)} paths, for {form} files")
        print_table([[rule.path, rule.quantity, rule.unit or rule.separator or ""] for rule in rules], right=set())
    return OK


MAX_NAME = 200


def _of_tables() -> set[str]:
    """Return what the columns of logs and runs may hold, which is none of a rig's own."""
    from wyntaxis.core.evidence.cooling.log import COLUMNS as COOLING
    from wyntaxis.core.evidence.focus.table import COLUMNS as FOCUS
    from wyntaxis.core.evidence.guide_log.headings import COLUMNS as GUIDE

    return {*COOLING, *FOCUS, *GUIDE}


def _rule(text: str, known: dict[str, Comparable]) -> KeyRule:
    """Return the rule written ``PATH=quantity[:unit]``; the last ``=`` counts, since a path may hold others."""
    from pydantic import ValidationError

    from wyntaxis.core.evidence.foreign.keymap import LIST_SEPARATORS, KeyRule
    from wyntaxis.core.evidence.foreign.units import known_units, unit_named
    from wyntaxis.core.files.errors import InputError

    path, equals, right = text.rpartition("=")
    quantity, _, unit = right.partition(":")
    path, quantity, unit = path.strip(), quantity.strip(), unit.strip()
    if not equals or not path or not quantity:
        raise InputError(f"“{text[:60]}” is no rule: write PATH=quantity or PATH=quantity:unit")
    if known and quantity not in known and quantity not in _of_tables():
        raise InputError(f"“{quantity[:60]}” is nothing that this rig knows; see wyntaxis records RIG --json")
    parts: JsonObject = {"path": path, "quantity": quantity}
    if unit in LIST_SEPARATORS:
        parts["separator"] = unit
    elif unit:
        named = unit_named(unit)
        if named is None:
            raise InputError(f"“{unit[:20]}” is no unit: {', '.join(sorted({*known_units(), 'px'}))}")
        parts["unit"] = named
    try:
        return KeyRule.model_validate(parts)
    except ValidationError:
        raise InputError(f"“{text[:60]}” is no rule: path or quantity is too long") from None


def _map_arguments(parser: argparse.ArgumentParser) -> None:
    from wyntaxis.core.evidence.foreign.readers import FORMS

    parser.add_argument("name", metavar="NAME", help="the map's name, which is the record's too")
    parser.add_argument(
        "rules",
        nargs="+",
        metavar="PATH=QUANTITY[:UNIT]",
        help="a path, the quantity it holds, and the unit it is in; for a list: comma, semicolon, space or bar",
    )
    parser.add_argument("--form", choices=FORMS, help="the form of the files; any if left out")
    parser.add_argument("--add", action="store_true", help="add to the map of that name instead of replacing it")
    parser.add_argument("--rig", type=Path, metavar="RIG", help="take only quantities that this rig knows")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


COMMANDS = {
    "paths": Command(
        _paths, "print what a program's file holds, path by path", _paths_arguments, rig=False, group="Connect"
    ),
    "map": Command(
        _map, "make a key map: which path of a program's files holds what", _map_arguments, rig=False, group="Connect"
    ),
}
