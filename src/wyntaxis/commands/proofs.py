"""The command on proofs: what to measure next, what has grown stale."""

from __future__ import annotations

import argparse

from wyntaxis.commands.shared import OK, Command, keep_change, print_json, print_table, reckoned


def _proofs(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.findings.caveats import stale_words
    from wyntaxis.core.proofs import hour_plans, proofs_of
    from wyntaxis.core.rig.edit import Change
    from wyntaxis.core.rig.resting import confirmation, stale_legs

    evaluation = reckoned(options)
    if options.confirm is not None:
        entry = next((own for own in stale_legs(evaluation.rig) if own.row_id == options.confirm), None)
        if entry is None:
            known = ", ".join(own.row_id for own in stale_legs(evaluation.rig)) or "none"
            raise InputError(f"--confirm: {options.confirm[:60]} is not stale; stale are: {known}")
        if not (options.reason or "").strip():
            raise InputError("--confirm: say why it still counts, with --reason")
        keep_change(options, Change("Confirm a measurement", confirmation(evaluation.rig, entry.path, options.reason)))
        evaluation = reckoned(options)
    found, stale = proofs_of(evaluation), stale_legs(evaluation.rig)
    if options.json:
        print_json([proof.as_json() for proof in found])
        return OK
    if found:
        table = [["measurement", "needs", "minutes", "settles", "usual uncertainty", "numbers"]]
        for proof in found:
            kind = proof.kind
            numbers = ", ".join(proof.settles)
            table.append([proof.title, kind.needs, f"{kind.minutes:g}", str(len(proof.settles)), kind.usual, numbers])
        print_table(table, right={2, 3})
    else:
        print("no measurement would settle more of this rig")
    for plan in hour_plans(found):
        steps = "; ".join(f"{proof.title} ({proof.kind.minutes:g} min, {gain})" for proof, gain in plan.proofs)
        print(f"{plan.title}: {steps or 'nothing to do'}")
    for entry in stale:
        print(f"stale: {entry.row_id}: {stale_words(entry)}")
    return OK


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--confirm", metavar="NUMBER", help="say that a stale measurement still counts; needs --reason")
    parser.add_argument("--reason", metavar="TEXT", help="why it still counts")


COMMANDS = {"proofs": Command(_proofs, "rank measurements by what they would settle", _arguments)}
"""Commands on proofs."""
