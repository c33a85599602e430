"""``evaluate(rig, evidence, shelf)``: every number, comparison, finding and condition of a rig, in one pass."""

from __future__ import annotations

from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.files.errors import path_text
from wyntaxis.core.findings.conditions import judge_conditions, own_conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.judging import judged
from wyntaxis.core.findings.marking import Marks
from wyntaxis.core.findings.registry import all_statements, in_order
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.quantities.rows import rows_of
from wyntaxis.core.records.audit import audit_of
from wyntaxis.core.rig.figures import conflicting_paths
from wyntaxis.core.rig.marks import marked_leaves
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import out_of_date_measurements
from wyntaxis.core.rig.shelf import ShelfPart

__all__ = ["Evaluation", "Evidence", "evaluate"]


def evaluate(
    rig: Rig, evidence: Evidence | None = None, shelf: tuple[ShelfPart, ...] = (), *, traced: bool = False
) -> Evaluation:
    """Compute everything of a rig.

    Parameters
    ----------
    rig : Rig
        The document.
    evidence : Evidence, optional
        What was looked at outside the rig file: ports, frames, logs.
    shelf : tuple of ShelfPart
        Parts that remedies may name.
    traced : bool
        Whether ``evaluator.reads`` is to know of every number what it depends on; of assumed, out-of-date and
        conflicting values it always does.

    Returns
    -------
    Evaluation
        Rows, findings and conditions, each with its verdict.
    """
    paths = [path_text(entry.path) for entry in out_of_date_measurements(rig)]
    marked = marked_leaves(rig, (*rig.assumed, *conflicting_paths(rig), *(f"{path}.value" for path in paths)))
    numbers = numbers_of(rig, evidence, shelf, traced=traced or marked)
    tracked = numbers.tracked()
    bare = Evaluation(**vars(numbers), rows=rows_of(tracked), frames=audit_of(tracked))
    marks, stated = Marks(bare), list(all_statements(bare))
    findings = tuple(
        judged(bare, entry.declared, statement, reads, marks)
        for entry in stated
        for statement, reads in entry.statements
    )
    proving = [(entry.id, entry.proves) for entry in in_order() if entry.proves is not None]
    ranked = sorted(proving, key=lambda entry: entry[1].rank)
    conditions = {key: (proof.condition, proof.needed) for key, proof in ranked}
    return bare.with_results(
        rows=marks.rows,
        quantities={key: marks.rows.get(key, row) for key, row in bare.quantities.items()},
        findings=findings,
        conditions=(*judge_conditions(findings, conditions, rig, marks.doubts(stated)), *own_conditions(rig)),
    )
