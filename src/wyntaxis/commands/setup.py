"""The command on a carried rig's set-up: begin one, tick what is done, print what is to be measured again."""

from __future__ import annotations

import argparse
import datetime

from wyntaxis.commands.shared import OK, SOME_FAIL, Command, keep_change, print_json, print_table, rig_of


def _setup(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.records.setting_up import done, setup_json, started

    for ask in (options.start, options.done):
        if not ask:
            continue
        try:
            change = started(rig_of(options)) if ask is True else done(rig_of(options), ask)
        except ValueError as error:
            raise InputError(str(error), options.file) from None
        keep_change(options, change)
    found = setup_json(rig_of(options), datetime.datetime.now(datetime.UTC))
    if options.json:
        print_json(found)
    else:
        _print(found)
    open_ones = [own for own in found["conditions"] if own["required"] and not own["done"]]
    return SOME_FAIL if found["not_verified"] or open_ones else OK


def _print(found: dict[str, object]) -> None:
    from wyntaxis.core.records.setting_up import STANDS

    kind, date = found["kind"], found["date"]
    since = f", set up since {date}" if date else ""
    print(f"The rig {STANDS[str(kind)]}{since}" if kind else "Nothing says whether the rig is permanent or carried")
    for row in found["not_verified"]:  # type: ignore[attr-defined]
        print(f"to be measured again: {row}")
    rows = [["condition", "each", "done", ""]]
    for own in found["conditions"]:  # type: ignore[attr-defined]
        optional = "" if own["required"] else "optional"
        rows.append([own["text"], own["when"], "yes" if own["done"] else "no", optional or f"--done {own['id']}"])
    if len(rows) > 1:
        print_table(rows, right=set())


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--start", action="store_true", help="begin a set-up now: what holds for one only is not verified"
    )
    parser.add_argument("--done", metavar="CONDITION", help="tick a condition of your own, by its id")


COMMANDS = {
    "setup": Command(
        _setup, "begin a set-up of a carried rig, tick what is done; exit 1 if some is open", _arguments, group="Verify"
    )
}
