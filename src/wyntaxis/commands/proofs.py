"""The command on proofs: what to measure next, what has out of date."""

from __future__ import annotations

import argparse

from wyntaxis.commands.shared import OK, Command, computed_now, keep_change, print_json, print_table


def _measurements(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.findings.marking import out_of_date_words
    from wyntaxis.core.next_measurements import hour_plans, next_measurements
    from wyntaxis.core.rig.edit import Change
    from wyntaxis.core.rig.out_of_date import confirmation, out_of_date_measurements

    evaluation = computed_now(options)
    if options.confirm is not None:
        entry = next((own for own in out_of_date_measurements(evaluation.rig) if own.row_id == options.confirm), None)
        if entry is None:
            known = ", ".join(own.row_id for own in out_of_date_measurements(evaluation.rig)) or "none"
            raise InputError(f"--confirm: {options.confirm[:60]} is not out of date; out of date are: {known}")
        if not (options.reason or "").strip():
            raise InputError("--confirm: say why it is still valid, with --reason")
        keep_change(options, Change("Confirm a measurement", confirmation(evaluation.rig, entry.path, options.reason)))
        evaluation = computed_now(options)
    found, out_of_date = next_measurements(evaluation), out_of_date_measurements(evaluation.rig)
    if options.json:
        print_json([measurement.as_json() for measurement in found])
        return OK
    if found:
        table = [["measurement", "needs", "minutes", "settles", "usual uncertainty", "numbers"]]
        for measurement in found:
            kind = measurement.kind
            numbers = ", ".join(measurement.settles)
            table.append(
                [measurement.title, kind.needs, f"{kind.minutes:g}", str(len(measurement.settles)), kind.usual, numbers]
            )
        print_table(table, right={2, 3})
    else:
        print("no measurement would settle more of this rig")
    for plan in hour_plans(found):
        steps = "; ".join(
            f"{measurement.title} ({measurement.kind.minutes:g} min, {gain})" for measurement, gain in plan.measurements
        )
        print(f"{plan.title}: {steps or 'nothing to do'}")
    for entry in out_of_date:
        print(f"out of date: {entry.row_id}: {out_of_date_words(entry)}")
    return OK


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--confirm", metavar="NUMBER", help="confirm that an out-of-date measurement is still valid; needs --reason"
    )
    parser.add_argument("--reason", metavar="TEXT", help="why it is still valid")


COMMANDS = {
    "proofs": Command(_measurements, "rank the next measurements by what they would settle", _arguments, group="Verify")
}
"""Commands on proofs."""
