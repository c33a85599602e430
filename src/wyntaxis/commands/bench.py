"""Commands on the camera at the bench: what frames and cooling logs say of it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    Command,
    exit_code,
    findings_with,
    key_map_rules,
    print_findings,
    print_json,
    print_table,
    rig_of,
    work_progress,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.measured import Estimate
    from wyntaxis.core.evidence.sensor.bench_result import BenchResult

_SENSOR, _COOLING = ("camera.", "flats."), ("cooling.",)


def _text(estimate: Estimate | None, digits: int) -> str:
    from wyntaxis.core.wording import plus_minus

    return "–" if estimate is None else plus_minus(estimate.value, estimate.standard, digits)


def _setting(value: float | None) -> str:
    return "not recorded" if value is None else f"{value:g}"


def _sensor(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.sensor.kind import keep, read
    from wyntaxis.core.evidence.sensor.report import bench_json

    rig = rig_of(options)
    bench = read(options.folder, rig, work_progress("measuring"))
    result = bench.result
    notes, change = list(result.notes), None
    try:
        change = keep(rig, bench)
    except ValueError as error:
        notes.append(str(error))
    findings = findings_with(rig, change, _SENSOR)
    if options.json:
        entries = bench_json(result) | {"notes": notes}
        print_json(entries | {"findings": [finding.as_json() for finding in findings]})
    else:
        _print_bench(result, notes)
        print_findings(findings)
    return exit_code(findings)


def _print_bench(result: BenchResult, notes: list[str]) -> None:
    from wyntaxis.core.evidence.sensor.report import read_noise_text
    from wyntaxis.core.wording import number, short

    table = [["gain", "plane", "e⁻/ADU", "read noise e⁻", "full well e⁻", "dynamic range", "linearity %"]]
    for entry in result.gains:
        t = entry.transfer
        gain = "–" if entry.gain is None else short(entry.gain)
        row = [_text(t.conversion_gain, 4), read_noise_text(t, 3), _text(t.full_well, 0)]
        table.append([gain, entry.plane or "all", *row, _text(t.dynamic_range, 2), _text(t.linearity_percent, 3)])
    if result.gains:
        print_table(table, right={0})
    for bias in result.biases:
        level = bias.level
        print(
            f"bias at gain {_setting(bias.gain)}, offset {_setting(bias.offset)}: {number(level.mean_adu, 2)} ADU, "
            f"σ {_text(level.noise_adu, 3)} ADU, lowest code {bias.histogram.lowest}"
        )
    if result.step > 1:
        print(f"codes come in steps of {result.step}: data of {16 - (result.step.bit_length() - 1)} bits, multiplied")
    if result.unity is not None:
        print(f"unity gain at {_text(result.unity, 1)}")
    for point in result.dark_points:
        print(f"dark current at {number(point.temperature_c, 1)} °C: {_text(point.current, 5)} e⁻/s/px")
    for sky in result.skies:
        print(f"sky through {sky.filter}: {_text(sky.sky, 3)} e⁻/s/px")
    for frame in result.rejected:
        print(f"not used: {frame.path}: {frame.why}")
    for note in notes:
        print(f"note: {note}")


def _sensor_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="DIR", help="a folder of bias, dark and flat frames")


def _cooling(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.cooling.kind import keep, read, target_of
    from wyntaxis.core.evidence.cooling.report import cooling_json

    rig = rig_of(options)
    rules = key_map_rules(options)
    target = target_of(rig) if options.target is None else options.target
    cooled = read(options.logs, target, rules=lambda _path: rules)
    measured = cooled.measured
    runs, model, change = list(measured.runs), measured.model, None
    notes = [measured.why_no_model] if measured.why_no_model else []
    try:
        change = keep(rig, cooled)
    except ValueError as error:
        notes.append(str(error))
    findings = findings_with(rig, change, _COOLING)
    if options.json:
        print_json(cooling_json(runs, model, notes) | {"findings": [finding.as_json() for finding in findings]})
        return exit_code(findings)
    from wyntaxis.core.evidence.cooling.report import RUN_HEADINGS, run_row

    print_table([list(RUN_HEADINGS), *(run_row(run) for run in runs)], right=set(range(1, len(RUN_HEADINGS))))
    if model is not None:
        print(
            f"τ = {_text(model.tau, 3)} min, a = {_text(model.pull, 3)} °C/min, a·τ = {_text(model.depth, 2)} °C below "
            "ambient"
        )
    for note in notes:
        print(f"note: {note}")
    print_findings(findings)
    return exit_code(findings)


def _cooling_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("logs", type=Path, metavar="CSV", nargs="+", help="cooling logs")
    parser.add_argument("--target", type=float, metavar="C", help="the set temperature in °C; the rig's if left out")
    parser.add_argument("--map", metavar="NAME", help="a saved key map for columns with unknown headings")


COMMANDS = {
    "sensor": Command(_sensor, "measure the camera from a folder of bench frames", _sensor_arguments, group="Measure"),
    "cooling": Command(_cooling, "measure the cooler from logs of cooling runs", _cooling_arguments, group="Measure"),
}
