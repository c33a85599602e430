"""The command on incidents: those that match some words."""

from __future__ import annotations

import argparse

from wyntaxis.commands.shared import OK, Command, print_json, print_table, rig_of


def _incidents(options: argparse.Namespace) -> int:
    from wyntaxis.core.records.incidents import matching, title_of

    rig = rig_of(options)
    found = matching(rig, options.words)
    if options.json:
        print_json([incident.model_dump(mode="json", exclude_none=True) for incident in found])
        return OK
    if not found:
        print("No incident matches" if rig.incidents else "No incidents are noted yet")
        return OK
    rows = [["date", "of", "symptom", "tried", "cure", "frames lost"]]
    for own in found:
        lost = "–" if own.frames_lost is None else str(own.frames_lost)
        rows.append([own.date, title_of(rig, own) or "–", own.symptom, own.tried or "–", own.cure or "–", lost])
    print_table(rows, right={5})
    return OK


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("words", nargs="*", metavar="WORD", help="what an incident must hold, all of it; any case")


COMMANDS = {"incidents": Command(_incidents, "print the incidents that match some words", _arguments, group="Verify")}
