"""The command on tonight's run-up: its steps with their numbers, and what became of each."""

from __future__ import annotations

import argparse
import datetime

from wyntaxis.commands.shared import OK, SOME_FAIL, Command, evaluated, keep_change, print_json, rig_of


def _tonight(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.edit import apply
    from wyntaxis.core.run_up import Outcome, confirmed, run_up, ticked
    from wyntaxis.core.wording import short

    rig = rig_of(options)
    now = datetime.datetime.now(datetime.UTC)
    try:
        asked: dict[Outcome, str | None] = {
            "done": options.done, "not_now": options.not_now, "failed": options.failed,
        }  # fmt: skip
        for outcome, step_id in asked.items():
            if step_id is not None:
                change = ticked(rig, step_id, outcome)
                keep_change(options, change)
                rig = apply(rig, change)
        if options.confirm is not None:
            step = next((own for own in run_up(evaluated(rig), now) if own.id == options.confirm), None)
            if step is None:
                raise ValueError(f"there is no step {options.confirm[:40]} in tonight's run-up")
            change = confirmed(rig, step)
            keep_change(options, change)
            rig = apply(rig, change)
    except ValueError as error:
        raise InputError(str(error), options.file) from None
    steps = run_up(evaluated(rig), datetime.datetime.now(datetime.UTC))
    if options.json:
        print_json([step.as_json() for step in steps])
    else:
        for place, step in enumerate(steps, start=1):
            took = f" (last time {short(step.last_minutes)} min)" if step.last_minutes else ""
            print(f"{place:2}. [{MARKS[step.outcome]}] {step.title}{took}  {step.id}")
            for line in step.numbers:
                print(f"       {line}")
            print(f"       right when: {step.right_when}")
            for entry in step.earlier:
                print(f"       from an earlier set-up, not verified: {entry.row_id}")
    return OK if all(step.outcome in ("done", "not_now") for step in steps) else SOME_FAIL


MARKS = {"done": "x", "not_now": "–", "failed": "!", None: " "}


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--done", metavar="STEP", help="note that a step is done, by its id")
    parser.add_argument("--not-now", metavar="STEP", help="note that a step is left out tonight")
    parser.add_argument("--failed", metavar="STEP", help="note that a step failed; an incident is noted too")
    parser.add_argument(
        "--confirm", metavar="STEP", help="confirm that what was measured in an earlier set-up still holds at a step"
    )


COMMANDS = {
    "tonight": Command(
        _tonight, "print tonight's run-up step by step; exit 1 if some step is open", _arguments, group="Verify"
    )
}
