"""The command that drafts a rig from frames, ports and programs' files."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from wyntaxis.commands.shared import (
    OK,
    Command,
    ports_arguments,
    print_json,
    print_table,
    read_tree,
    tell_notes,
    work_progress,
)

MOST_REASONS = 3


def _draft(options: argparse.Namespace) -> int:
    from wyntaxis.core.drafting.draft import draft, read_sources
    from wyntaxis.core.evidence.foreign.keymap import load_maps
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.opening import is_there
    from wyntaxis.core.files.places import own_maps_path
    from wyntaxis.core.rig.marks import mark_label
    from wyntaxis.core.rig.store import save

    if is_there(options.out):
        raise InputError("is there already, and is not written over: name another file after --out", options.out)
    looks = options.ports or options.sysfs is not None
    if not options.paths and not looks:
        raise InputError("name a folder of frames, a program's file, or --ports to draft a rig from")
    tree = read_tree(options) if looks else None
    drafted = draft(read_sources(options.paths, tree, load_maps(own_maps_path()), work_progress("headers")))
    if not drafted.taken and not drafted.questions:
        reasons = "; ".join(f"{entry.file}: {entry.why}" for entry in drafted.not_used[:MOST_REASONS])
        raise InputError(f"no value of a rig was found{': ' if reasons else ''}{reasons}")
    tell_notes(save(drafted.rig, options.out).notes)
    if options.json:
        print_json({"out": str(options.out), **drafted.as_json()})
        return OK
    entries = drafted.as_json()["taken"]
    assert isinstance(entries, list)
    print_table([["value", "is", "from"], *([e["path"], str(e["value"]), e["origin"]] for e in entries)], right=set())
    print(f"not given yet, {len(drafted.rig.assumed)}:")
    for path in drafted.rig.assumed:
        print(f"  {path}: {mark_label(drafted.rig, path)}")
    for question in drafted.questions:
        print(f"open: {question.text}")
    for entry in drafted.not_used:
        print(f"not used: {entry.file}: {entry.why}", file=sys.stderr)
    print(f"drafted into {options.out}")
    return OK


def _draft_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "paths", type=Path, nargs="*", metavar="PATH", help="a folder of frames, a FITS file, or a program's file"
    )
    parser.add_argument("--out", type=Path, required=True, metavar="RIG", help="the rig file to write; never one there")
    parser.add_argument("--ports", action="store_true", help="take the devices on this computer's ports too")
    ports_arguments(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


COMMANDS = {
    "draft": Command(
        _draft, "draft a rig from frames, ports and programs' files", _draft_arguments, rig=False, group="Build"
    ),
}
