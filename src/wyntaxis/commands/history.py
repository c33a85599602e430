"""Commands on what became of a rig: its saves, the rig at any date, what differs, and what a swap would cost."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wyntaxis.commands.shared import (
    OK,
    SOME_FAIL,
    Command,
    print_json,
    print_table,
    shelf_of,
    tell_notes,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.differences.differences import Differences
    from wyntaxis.core.history.states import RigHistory
    from wyntaxis.core.rig.model import Rig

SHOWN_VALUE = 60


def _history(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.history.recording import compact, join
    from wyntaxis.core.history.states import read_history
    from wyntaxis.core.wording import utc_stamp

    if options.out is not None and options.at is None:
        raise InputError("--out: say of which date, with --at DATE")
    if options.join is not None:
        print(f"{join(options.file, options.join)} saves came in")
        return OK
    if options.compact is not None:
        before, after = compact(options.file, utc_stamp(), days=options.compact, watch=work_progress("saves"))
        print(f"{before} saves taken together into {after}; the file before stays beside it, with ~")
        return OK
    history = read_history(options.file)
    if options.at is not None:
        return _at(options)
    if options.json:
        print_json(
            [
                {
                    "date": entry.date,
                    "label": entry.words,
                    "labels": list(entry.labels),
                    "reason": entry.reason,
                    "computer": entry.computer,
                    "branch": history.is_branch(index),
                }
                for index, entry in enumerate(history.entries)
            ]
        )
        _tell_damaged(history)
        return OK
    if not history.entries:
        print("nothing has been saved with a history yet")
    else:
        rows = [[entry.date, entry.words, entry.reason or "", entry.computer or ""] for entry in history.entries]
        print_table([["date", "what", "why", "where"], *rows], right=set())
    _tell_damaged(history)
    return OK


def _tell_damaged(history: RigHistory) -> None:
    """Tell in a line how much of a history cannot be used."""
    if history.damaged:
        first, count = history.damaged[0], len(history.damaged)
        lines = "1 line" if count == 1 else f"{count} lines"
        text = f"{lines} of the history cannot be used, the first (line {first.line}): {first.why}"
        print(f"wyntaxis: {text}", file=sys.stderr)


def _at(options: argparse.Namespace) -> int:
    """Write, or print, the rig as it was on a date."""
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.opening import is_there
    from wyntaxis.core.history.states import read_history
    from wyntaxis.core.rig import store

    history = read_history(options.file)
    index = history.index_at(options.at)
    rig = history.rig_at(index)
    if options.out is None:
        print(store.to_bytes(rig).decode(), end="")
        return OK
    if is_there(options.out):
        raise InputError("is there already, and is not written over: name another file after --out", options.out)
    tell_notes(store.save(rig, options.out).notes)
    print(f"{options.out}: the rig as saved on {history.entries[index].date}")
    return OK


def _history_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--at", metavar="DATE", help="the rig as it was at the end of a day (UTC), or at a moment")
    parser.add_argument("--out", type=Path, metavar="OLD", help="write it to a new file")
    parser.add_argument("--compact", type=_days, metavar="DAYS", help="keep one save a day of what is older")
    parser.add_argument("--join", type=Path, metavar="HISTORY", help="take in another computer's history of the rig")


def _days(text: str) -> int:
    if not text.isascii() or not text.isdigit() or int(text) > 100_000:
        raise argparse.ArgumentTypeError(f"must be a whole number of days, got {text[:40]}")
    return int(text)


def _differ(options: argparse.Namespace) -> int:
    reported = _differences(options)
    if options.json:
        print_json(reported.as_json())
    else:
        print_differences(reported)
    return SOME_FAIL if any(flip.after == "fails" for flip in reported.flips) else OK


def _differences(options: argparse.Namespace) -> Differences:
    """Return what the options ask for: against another file, a date, a variant, or with a change that is tried."""
    from wyntaxis.core.differences.differences import differences_between, swap, with_reasons
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.history.entries import digest
    from wyntaxis.core.history.states import read_history
    from wyntaxis.core.rig import edit
    from wyntaxis.core.rig.store import document_of, load

    tried = bool(options.set or options.swap)
    if sum((options.other is not None, options.since is not None, options.against is not None, tried)) != 1:
        raise InputError("differ: name another rig file, or one of --since, --against, --swap and --set")
    rig = load(options.file).rig
    own = _train(rig, options.variant, options.file)
    if options.other is not None:
        other = load(options.other).rig
        found = differences_between(own, _train(other, options.variant, options.other))
        history = read_history(options.other)
        started = digest(document_of(rig))
        since = next((i for i, entry in enumerate(history.entries) if entry.after == started), None)
        return with_reasons(found, history, since) if since is not None else found
    if options.against is not None:
        return differences_between(own, _train(rig, options.against, options.file))
    if options.since is not None:
        history = read_history(options.file)
        since = history.index_at(options.since)
        before = _train(history.rig_at(since), options.variant, options.file)
        return with_reasons(differences_between(before, own), history, since)
    after = own
    for text in options.swap or ():
        part, _, piece = text.partition("=")
        entry = next((entry for entry in shelf_of(options) if entry.part.id == piece.strip()), None)
        if entry is None:
            raise InputError(f"--swap: there is no {piece[:60]} on the shelf; name one with --shelf, as PART=PIECE")
        after = edit.apply(after, swap(after, part.strip(), entry.part))
    for text in options.set or ():
        after = edit.apply(after, _typed(text))
    return differences_between(own, after)


def _train(rig: Rig, variant: str | None, path: Path) -> Rig:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.model import variant_rig

    try:
        return variant_rig(rig, variant)
    except ValueError as error:
        raise InputError(str(error), path) from None


def _typed(text: str) -> Any:
    """Return the edit that ``PATH=VALUE`` says."""
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.edit import Change
    from wyntaxis.core.rig.marks import parse_path

    path, sign, value = text.partition("=")
    try:
        place = parse_path(path.strip())
    except ValueError as error:
        raise InputError(f"--set: {error}") from None
    if not sign:
        raise InputError(f"--set: {text[:60]} gives no value: write PATH=VALUE")
    try:
        reported = json.loads(value)
    except ValueError:
        reported = value
    return Change.of(f"Set {path.strip()}", place, reported)


def print_differences(reported: Differences) -> None:
    """Print what differs, in words."""
    from wyntaxis.core.wording import number

    if reported.nothing:
        print("nothing differs")
        return
    for value in reported.values:
        print(f"{value.change.text}: {_short(value.change.before)} → {_short(value.change.after)}")
        if value.by is not None:
            why = f": {value.by.reason}" if value.by.reason else ""
            print(f"    {value.by.date[:10]}, {value.by.words}{why}")
    if reported.numbers:
        rows = []
        for change in reported.numbers:
            kind = change.row.kind
            cells = ["–" if own is None else number(own, kind.decimals + 1) for own in (change.before, change.after)]
            rows.append([kind.label, *cells, kind.unit])
        print_table([["number", "before", "after", "unit"], *rows], right={1, 2})
    for flip in reported.flips:
        before, after = (str(own) if own is not None else "–" for own in (flip.before, flip.after))
        print(f"{flip.finding.id}: {before} → {after}: {flip.finding.title}")
    for own in reported.invalidated:
        print(f"no longer valid: {own.title}: {own.rule}")
        for line in own.because:
            print(f"    {line}")


def _short(value: object) -> str:
    text = "–" if value is None else value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= SHOWN_VALUE else text[: SHOWN_VALUE - 1] + "…"


def _differ_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("other", type=Path, metavar="B", nargs="?", help="another rig file")
    parser.add_argument("--since", metavar="DATE", help="against the rig as it was on a date, by its history")
    parser.add_argument("--against", metavar="VARIANT", help="against a variant of the rig")
    parser.add_argument(
        "--swap",
        action="append",
        metavar="PART=PIECE",
        help="what putting a shelf's piece in a part's place would cost",
    )
    parser.add_argument("--set", action="append", metavar="PATH=VALUE", help="what an edit would cost")


COMMANDS = {
    "history": Command(
        _history, "print what was saved when and why; the rig at any date", _history_arguments, group="Verify"
    ),
    "differ": Command(
        _differ, "print changes between rigs or dates, and what they invalidate", _differ_arguments, group="Verify"
    ),
}
"""Commands on a rig's history."""
