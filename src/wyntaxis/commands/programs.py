"""Commands on the programs of a rig: what to type into each, and whether they answer."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, SOME_FAIL, Command, evaluated, print_json, print_table, rig_of

if TYPE_CHECKING:
    from wyntaxis.core.dossier.typing_pages import TypingPage
    from wyntaxis.core.json_values import JsonObject, JsonValue
    from wyntaxis.core.records.quantities import Value
    from wyntaxis.core.rig.model import Rig


def _typing(options: argparse.Namespace) -> int:
    from wyntaxis.core.dossier.typing_pages import typing_pages
    from wyntaxis.core.files.errors import InputError

    pages = typing_pages(evaluated(rig_of(options)))
    if options.from_train is not None:
        pages = _changed(pages, typing_pages(evaluated(_other_train(options))))
    if options.program is not None:
        names = {page.id: page for page in pages}
        if options.program not in names:
            raise InputError(f"there is no program {options.program[:40]}; there are: {', '.join(names) or 'none'}")
        pages = (names[options.program],)
    if options.json:
        print_json([_page_json(page) for page in pages])
        return _exit(pages)
    if not pages:
        print("The rig has no programs yet: add one on the Programs sheet")
    for page in pages:
        print(f"{page.record.name}: {page.differing} of {len(page.lines)} lines differ")
        rows = [["", "type this", "unit", "it holds", ""]]
        marks = {"agrees": "", "differs": "≠", "missing": "to type", "unknown": "?"}
        rows += [[e.label, e.type_this, e.unit, e.there_now, f"{marks[e.mark]} {e.note}".strip()] for e in page.lines]
        if page.lines:
            print_table(rows, right={1, 3})
    return _exit(pages)


def _other_train(options: argparse.Namespace) -> Rig:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.model import variant_rig
    from wyntaxis.core.rig.store import load

    try:
        return variant_rig(load(options.file).rig, options.from_train)
    except ValueError as error:
        raise InputError(f"--from: {error}", options.file) from None


def _changed(pages: tuple[TypingPage, ...], before: tuple[TypingPage, ...]) -> tuple[TypingPage, ...]:
    """Return the pages with the lines alone that are typed otherwise than for another train."""
    there = {(page.id, line.quantity): line.type_this for page in before for line in page.lines}
    found = []
    for page in pages:
        lines = tuple(line for line in page.lines if there.get((page.id, line.quantity)) != line.type_this)
        if lines:
            found.append(replace(page, lines=lines))
    return tuple(found)


def _exit(pages: tuple[TypingPage, ...]) -> int:
    return SOME_FAIL if any(page.differing for page in pages) else OK


def _page_json(page: TypingPage) -> JsonObject:
    from wyntaxis.core.records.compare import WORD_VERDICTS

    return {
        "program": page.id,
        "name": page.record.name,
        "rows": [
            {
                "quantity": line.quantity,
                "label": line.label,
                "value": _plain(line.value),
                "type_this": line.type_this,
                "unit": line.unit,
                "holds": _plain(line.holds),
                "verdict": str(WORD_VERDICTS[line.mark]),
                "note": line.note or None,
                "typed": page.record.typed.get(line.quantity),
            }
            for line in page.lines
        ],
    }


def _plain(value: Value | None) -> JsonValue:
    return list(value) if isinstance(value, tuple) else value


def _typing_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--program", metavar="ID", help="this program's page alone")
    parser.add_argument(
        "--from", dest="from_train", metavar="NAME", help="only what is typed otherwise than for the train of this name"
    )


def _reach(options: argparse.Namespace) -> int:
    from wyntaxis.core.records.reach import reach

    found = reach(rig_of(options).programs, options.seconds)
    if options.json:
        print_json(
            [
                {
                    "program": own.program.id,
                    "host": own.program.host,
                    "port": own.program.port,
                    "reached": own.reached,
                    "seconds": own.seconds,
                    "why": own.why or None,
                }
                for own in found
            ]
        )
    elif not found:
        print("The rig has no programs: nothing was tried")
    else:
        rows = [["program", "host", "port", "reached"]]
        for own in found:
            where = [own.program.name, own.program.host or "–", str(own.program.port or "–")]
            rows.append([*where, f"in {1000 * (own.seconds or 0):.0f} ms" if own.reached else own.why])
        print_table(rows, right={2})
    tried = [own for own in found if own.program.host is not None and own.program.port is not None]
    return OK if all(own.reached for own in tried) else SOME_FAIL


def _reach_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--seconds", type=_seconds, default=3.0, metavar="S", help="wait so long for each (3)")


def _seconds(text: str) -> float:
    value = float(text)
    if not 0.05 <= value <= 60:
        raise argparse.ArgumentTypeError(f"must be 0.05 to 60 s, got {text[:20]}")
    return value


COMMANDS = {
    "typing": Command(
        _typing, "print what to type into each program; exit 1 if some differ", _typing_arguments, group="Connect"
    ),
    "reach": Command(
        _reach,
        "try each program's host and port, over the network; exit 1 if some fail",
        _reach_arguments,
        group="Connect",
    ),
}
