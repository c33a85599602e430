"""Commands on what programs and the kernel say: records, frame headers, ports, and whether the night may begin."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    OK,
    SOME_FAIL,
    Command,
    computed_now,
    evaluated,
    evidence_arguments,
    exit_code,
    keep_change,
    ports_arguments,
    print_findings,
    print_json,
    print_table,
    read_headers,
    read_tree,
    rig_of,
)

if TYPE_CHECKING:
    from wyntaxis.core.evaluation import Evaluation
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.rig.model import Rig

RECORD_FINDINGS = ("records.", "wheel.", "driver.")


def _of(evaluation: Evaluation, *prefixes: str) -> list[Finding]:
    return [found for found in evaluation.findings if found.id.startswith(prefixes)]


def _records(options: argparse.Namespace) -> int:
    from wyntaxis.core.findings.records import summary

    rig = rig_of(options)
    if options.with_file is not None:
        rig = _with_record(rig, options.with_file, options.map)
    evaluation = evaluated(rig)
    found, findings = evaluation.matrix, _of(evaluation, *RECORD_FINDINGS)
    if options.json:
        print_json(found.as_json() | {"findings": [finding.as_json() for finding in findings]})
        return exit_code(findings)
    if not found.records:
        print("The rig holds no records yet: bring one in on the Programs sheet, or compare a file with --with FILE")
    table = [["quantity", "rig", *(record.name for record in found.records)]]
    for row in found.rows:
        marks = {"agrees": "", "differs": "≠ ", "missing": "", "unknown": "? "}
        cells = [marks[c.state] + c.text + (f" ({c.story or c.by})" if c.story or c.by else "") for c in row.cells]
        table.append([f"{row.item.label}, {row.item.unit}" if row.item.unit else row.item.label, row.text, *cells])
    if found.rows:
        print_table(table, right=set())
        print(summary(found))
    print_findings(findings)
    return exit_code(findings)


def _with_record(rig: Rig, path: Path, map_name: str | None) -> Rig:
    """Return the rig with one more record, read from a file by a saved key map; the rig file stays as it is."""
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.evidence.foreign.keymap import load_maps
    from wyntaxis.core.evidence.foreign.readers import read_foreign
    from wyntaxis.core.files.errors import InputError, shown
    from wyntaxis.core.files.places import own_maps_path
    from wyntaxis.core.records.bring_in import record_of
    from wyntaxis.core.rig import edit

    file, maps = read_foreign(path), load_maps(own_maps_path())
    chosen = maps.named(map_name) if map_name else maps.suiting(file)
    if chosen is None:
        known = ", ".join(f'"{key_map.name}"' for key_map in maps.maps) or "none yet"
        wanted = f'no key map "{map_name}"' if map_name else "no saved key map suits it"
        raise InputError(f"{wanted} (saved: {known}); make one on the Programs sheet", path)
    change, faults = record_of(evaluate(rig), path, file, chosen)
    for fault in faults:
        print(f"wyntaxis: {shown(path)}: {fault}", file=sys.stderr)
    return edit.apply(rig, change)


def _records_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--with",
        dest="with_file",
        type=Path,
        metavar="PATH",
        help="compare this program's file too, by a saved key map",
    )
    parser.add_argument("--map", metavar="NAME", help="the key map for it; found by its paths if left out")


def _headers(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.headers.keeping import times_change
    from wyntaxis.core.evidence.headers.overheads import overheads
    from wyntaxis.core.rehearsal.night_sky import plain_sky
    from wyntaxis.core.rehearsal.past_night import against_plan, against_plan_json
    from wyntaxis.core.rehearsal.setting import setting_of

    rig = rig_of(options)
    evaluation = evaluated(rig, headers=read_headers(options.folder))
    found, findings = evaluation.frames, _of(evaluation, "frames.", "cooling.setpoint")
    assert found is not None
    times = overheads(found.frames)
    setting = setting_of(rig, plain_sky())
    change = times_change(rig, times, options.folder.name) if options.keep else None
    if options.json:
        print_json(
            found.as_json()
            | {"overheads": times.as_json() | {"against_plan": against_plan_json(times, setting)}}
            | {"findings": [finding.as_json() for finding in findings]}
        )
    elif options.csv:
        print(found.as_csv(), end="")
    else:
        print(f"{found.count} frames below {found.folder}, {len(found.broken)} broken")
        if found.skipped:
            print(found.skipped)
        print_table([["frames", "group"], *([str(g.count), g.title] for g in found.groups)], right={0})
        print(*times.lines(), *against_plan(times, setting), sep="\n")
        print_findings(findings)
    if change is not None:
        keep_change(options, change)
    return exit_code(findings)


def _headers_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="DIR", help="a folder of FITS frames, read with all below it")
    parser.add_argument("--csv", action="store_true", help="print a line for every frame as CSV")
    parser.add_argument("--keep", action="store_true", help="keep what the night's work takes, in the plan")


def _ports(options: argparse.Namespace) -> int:
    tree = read_tree(options)
    findings: list[Finding] = []
    names: dict[str, str] = {}
    if options.file is not None:
        from wyntaxis.core.evidence.ports.match import match_devices

        rig = rig_of(options)
        findings = _of(evaluated(rig, tree), "ports.")
        names = {match.usb.name: match.device.id for match in match_devices(rig, tree) if match.usb is not None}
    if options.json:
        from wyntaxis.core.evidence.ports.listing import tree_json

        print_json(tree_json(tree, names) | {"findings": [finding.as_json() for finding in findings]})
        return exit_code(findings)
    table = [["port", "device", "id", "serial", "Mbit/s", "control", "mA", "in the rig"]]
    for depth, usb in tree.in_order():
        speed = "–" if usb.speed_mbit is None else f"{usb.speed_mbit:g}"
        power = "–" if usb.max_power_ma is None else str(usb.max_power_ma)
        row = [usb.title, usb.usb_id, usb.serial_number or "–", speed, usb.control or "–", power]
        table.append(["  " * depth + usb.name, *row, names.get(usb.name, "")])
    print_table(table, right={4, 6})
    for port in tree.serial:
        print(f"{port.name}: " + (f"/dev/serial/by-id/{port.by_id}" if port.by_id else "no stable name"))
    memory = tree.usbfs_memory_mb
    print(f"usbfs_memory_mb: {'–' if memory is None else memory}")
    print_findings(findings)
    return exit_code(findings)


def _ready(options: argparse.Namespace) -> int:
    from wyntaxis.core.findings.conditions import overall

    found = computed_now(options).conditions
    if options.json:
        print_json([entry.as_json() for entry in found])
    else:
        print_table(
            [[str(item.verdict).upper() if item.applies else "–", item.condition.title, item.why] for item in found],
            right=set(),
        )
        print(overall(found))
    return SOME_FAIL if any(item.verdict == "fails" for item in found) else OK


COMMANDS = {
    "records": Command(_records, "compare the settings of programs with the rig", _records_arguments, group="Connect"),
    "headers": Command(_headers, "check the headers of a folder of FITS frames", _headers_arguments, group="Connect"),
    "ports": Command(
        _ports, "print the USB tree, and what it means for the rig", ports_arguments, rig_optional=True, group="Connect"
    ),
    "ready": Command(
        _ready, "print the conditions of the night, each with its verdict", evidence_arguments, group="Verify"
    ),
}
