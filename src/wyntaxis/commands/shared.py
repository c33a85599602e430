"""What the commands share: how one is declared, the rig it is told of, tables."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wyntaxis.core.evaluation import Evaluation
    from wyntaxis.core.evidence.foreign.keymap import KeyRule
    from wyntaxis.core.evidence.headers.folder import FolderHeaders
    from wyntaxis.core.evidence.headers.headers import FrameHeader
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.evidence.ports.tree import PortTree
    from wyntaxis.core.files.errors import Progress
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.rig.base import DocumentPath
    from wyntaxis.core.rig.edit import Change
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.shelf import ShelfPart

OK, SOME_FAIL, UNREADABLE = 0, 1, 2


@dataclass(frozen=True)
class Command:
    """One command: what it does, its help, its arguments besides ``--json`` and, mostly, a rig, and its group."""

    run: Callable[[argparse.Namespace], int]
    help: str
    add_arguments: Callable[[argparse.ArgumentParser], None] = lambda _parser: None
    rig: bool = True
    rig_optional: bool = False
    group: str = ""
    """The work that it belongs to: the heading under which the help lists it."""


def rig_of(options: argparse.Namespace) -> Rig:
    """Return the rig, or the variant of it, that a command is told of; :class:`InputError` when it cannot be read."""
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.model import variant_rig
    from wyntaxis.core.rig.store import load

    options.document = load(options.file).rig
    try:
        return variant_rig(options.document, options.variant)
    except ValueError as error:
        raise InputError(str(error), options.file) from None


def shelf_of(options: argparse.Namespace) -> tuple[ShelfPart, ...]:
    """Return the parts of the shelf that a command is told of, or of one's own."""
    from wyntaxis.core.files.places import own_shelf_path
    from wyntaxis.core.rig.shelf import load_own_shelf, load_shelf

    shelf = load_shelf(options.shelf) if options.shelf else load_own_shelf(own_shelf_path())
    return shelf.parts


REHEARSING = frozenset({"check", "ready"})
"""Commands that simulate the night of a plan in steps."""


def computed_now(options: argparse.Namespace) -> Evaluation:
    """Return everything computed of the rig."""
    rig, shelf = rig_of(options), shelf_for_remedies(options) if options.command == "check" else ()
    looks = getattr(options, "ports", None) is not None
    tree = read_tree(options) if looks and (options.ports or options.sysfs is not None) else None
    headers = read_headers(options.frames) if looks and options.frames is not None else None
    return evaluated(rig, tree, headers, shelf, plays=options.command in REHEARSING)


def evaluated(
    rig: Rig,
    ports: PortTree | None = None,
    headers: FolderHeaders | None = None,
    shelf: tuple[ShelfPart, ...] = (),
    *,
    plays: bool = False,
    more: Evidence | None = None,
) -> Evaluation:
    """Return everything computed of a rig, with what was looked at besides, and its night where it is to be played."""
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.evidence.headers.kind import HEADERS
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.evidence.ports.kind import PORTS

    evidence = (more or Evidence()).having(PORTS, ports).having(HEADERS, headers)
    if plays and rig.plan is not None and rig.plan.steps:
        from wyntaxis.core.rehearsal.kind import REHEARSAL, rehearse

        evidence = evidence.having(REHEARSAL, rehearse(rig))
    return evaluate(rig, evidence, shelf)


def read_headers(folder: Path) -> FolderHeaders:
    """Read the headers of a folder's frames; on a terminal, with progress."""
    from wyntaxis.core.evidence.headers.folder import read_folder

    return read_folder(folder, work_progress("headers"))


def read_tree(options: argparse.Namespace) -> PortTree:
    """Read the ports of this computer, or of the tree that a command is told of."""
    from wyntaxis.core.evidence.ports.tree import DEFAULT_ROOT, read_ports

    return read_ports(options.sysfs or DEFAULT_ROOT)


def ports_arguments(parser: argparse.ArgumentParser) -> None:
    """Let a command be told of another tree of ports."""
    parser.add_argument("--sysfs", type=Path, metavar="ROOT", help="read this tree instead of /sys")


def evidence_arguments(parser: argparse.ArgumentParser) -> None:
    """Let a command look at ports and frames besides the rig."""
    ports_arguments(parser)
    parser.add_argument("--ports", action="store_true", help="look at this computer's ports too")
    parser.add_argument("--frames", type=Path, metavar="DIR", help="look at the headers of a folder's frames too")


def shelf_for_remedies(options: argparse.Namespace) -> tuple[ShelfPart, ...]:
    """Return the shelf that remedies may name; one's own shelf being broken does not keep a rig from being checked."""
    from wyntaxis.core.files.errors import InputError

    try:
        return shelf_of(options)
    except InputError as error:
        if options.shelf:
            raise
        print(f"wyntaxis: checked without your shelf: {error}", file=sys.stderr)
        return ()


def keep_change(options: argparse.Namespace, change: Change) -> None:
    """Write an edit of the train that a command looks at into its rig file, atomically."""
    from wyntaxis.core.history.recording import edit_file
    from wyntaxis.core.rig import edit
    from wyntaxis.core.rig.store import load
    from wyntaxis.core.rig.variants import document_path

    made_for = getattr(options, "document", None)
    if made_for is None:
        made_for = load(options.file).rig

    def place(path: DocumentPath) -> DocumentPath:
        return document_path(made_for, options.variant, path)

    values = tuple((place(path), value) for path, value in change.values)
    own = edit.Change(change.label, values, tuple(map(place, change.assumes)))

    def changed(document: Rig) -> Rig:
        # Another program may have saved the file since it was read: each value goes where its thing stands now.
        return edit.apply(document, own.for_version(made_for, document))

    _, saved = edit_file(options.file, changed, (change.label,))
    tell_notes(saved.notes)


def tell_notes(notes: Sequence[str]) -> None:
    """Print what a save could not keep, a line each."""
    for note in notes:
        print(f"wyntaxis: {note}", file=sys.stderr)


def keep_arguments(parser: argparse.ArgumentParser) -> None:
    """Let a command write what it measured into the rig file."""
    parser.add_argument("--keep", action="store_true", help="write what was measured into the rig file")


def key_map_rules(options: argparse.Namespace) -> tuple[KeyRule, ...]:
    """Return the rules of the key map that a command is told of by ``--map``; none where it names none."""
    from wyntaxis.core.evidence.foreign.keymap import load_maps
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.places import own_maps_path

    if options.map is None:
        return ()
    chosen = load_maps(own_maps_path()).named(options.map)
    if chosen is None:
        raise InputError(f'--map: there is no key map "{options.map}"')
    return tuple(chosen.rules)


def findings_with(
    rig: Rig, change: Change | None, prefixes: tuple[str, ...], evidence: Evidence | None = None
) -> list[Finding]:
    """Return the findings of a rig with measured values kept in it; the file stays as it is."""
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.rig import edit

    found = evaluate(edit.apply(rig, change) if change is not None else rig, evidence).findings
    return [entry for entry in found if entry.id.startswith(prefixes)]


def scale_by_rig(rig: Rig) -> Callable[[FrameHeader], float | None]:
    """Return what gives a frame's arcsec/px by a rig, told for the frame's binning."""
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.quantities.stars import frame_scale

    evaluation = evaluate(rig)
    return lambda header: frame_scale(evaluation, header.binning)


def every_nth(text: str) -> int:
    """Return a whole number of 1 or more that an option holds."""
    if not text.isascii() or not text.isdigit() or not 1 <= int(text) <= 100_000:
        raise argparse.ArgumentTypeError(f"must be a whole number of 1 or more, got {text[:40]}")
    return int(text)


def work_progress(what: str) -> Progress:
    """Return what tells on a terminal how much of long work is done; nothing elsewhere."""

    def tell(done: int, of: int) -> None:
        if of:
            print(f"\r{what}: {done} of {of}", end="\n" if done >= of else "", file=sys.stderr, flush=True)

    return tell if sys.stderr.isatty() else lambda _done, _of: None


def print_table(table: Sequence[Sequence[str]], right: Collection[int]) -> None:
    """Print rows in columns; those of ``right`` are set flush right."""
    for line in table_lines(table, right):
        print(line)


def table_lines(table: Sequence[Sequence[str]], right: Collection[int]) -> list[str]:
    """Return rows of equally many cells as lines in columns; those of ``right`` are set flush right."""
    widths = [max(len(cell) for cell in column) for column in zip(*table, strict=True)]
    lines = []
    for row in table:
        cells = [
            cell.rjust(width) if index in right else cell.ljust(width)
            for index, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        lines.append("  ".join(cells).rstrip())
    return lines


def on_the_point(cells: Sequence[str]) -> list[str]:
    """Return numbers padded on the right so that, set flush right, their decimal points are below each other."""
    digits = [len(cell.partition(".")[2]) + 1 if "." in cell else 0 for cell in cells]
    most = max(digits, default=0)
    return [cell + " " * (most - own) for cell, own in zip(cells, digits, strict=True)]


def exit_code(findings: Sequence[Finding]) -> int:
    """Return whether some of the findings fail that are not accepted, as the command's exit code."""
    from wyntaxis.core.findings.finding import some_fail

    return SOME_FAIL if some_fail(findings) else OK


def print_findings(findings: Sequence[Finding]) -> None:
    """Print findings in full: verdict, title, arithmetic, remedy, source."""
    for finding in findings:
        print(f"{finding.verdict.upper():9} {finding.id}: {finding.title}")
        if finding.accepted:
            since = f" on {finding.accepted_on}" if finding.accepted_on else ""
            print(f"            accepted{since}: {finding.accepted}")
        for line in finding.arithmetic:
            print(f"            {line}")
        for index, line in enumerate(finding.remedy.text.splitlines()):
            print(f"            {line}" if index else f"          → {line}")
        print(f"            source: {finding.source}")


def print_json(value: object) -> None:
    """Print a value as strict JSON, two spaces an indent."""
    from wyntaxis.core.files.foreign_text import plain_json

    print(json.dumps(plain_json(value), indent=2, ensure_ascii=False, allow_nan=False))
