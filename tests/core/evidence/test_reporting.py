"""Columns: what a reader sees, what JSON and CSV hold, of the same declaration."""

import datetime
import json

import pytest

from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.reporting import Column, Report, Table, cell_text, fact, plain_value, text
from wyntaxis.core.ledger import Verdict

MOMENT = datetime.datetime(2026, 3, 1, 21, 4, 5, tzinfo=datetime.UTC)


@pytest.mark.parametrize(
    ("value", "decimals", "factor", "bare", "shown"),
    [
        (None, 2, 1.0, False, "–"),
        ("", None, 1.0, False, ""),
        ("L", None, 1.0, False, "L"),
        (3, 0, 1.0, False, "3"),
        (-0.125, 1, 100.0, False, "−12.5"),
        (True, None, 1.0, False, "yes"),
        (False, None, 1.0, False, "no"),
        (MOMENT, None, 1.0, False, "2026-03-01 21:04"),
        (Estimate(1.234, 0.056), 2, 1.0, False, "1.234 ± 0.056"),
        (Estimate(1.234, 0.056), 2, 1.0, True, "1.23"),
        (Estimate(0.0123, 0.0004), 1, 100.0, False, "1.230 ± 0.040"),  # as many decimals as the uncertainty needs
        (Verdict.FAILS, None, 1.0, False, "fails"),
    ],
)
def test_a_value_is_shown(value, decimals, factor, bare, shown):
    assert cell_text(value, decimals, factor, bare=bare) == shown


def test_json_holds_plain_values_alone():
    nested = {"a": (Estimate(1.0, 0.1), None), "b": {"c": MOMENT, "d": Verdict.HOLDS}}
    plain = plain_value(nested)
    assert plain == {"a": [{"value": 1.0, "u": 0.1}, None], "b": {"c": "2026-03-01T21:04:05+00:00", "d": "holds"}}
    assert json.loads(json.dumps(plain)) == plain
    assert plain_value(Estimate(1.0, 0.1), "standard_uncertainty") == {"value": 1.0, "standard_uncertainty": 0.1}


RUNS = Table(
    "runs",
    "Runs",
    lambda result: result,
    (
        text("run", lambda run: run["name"], "name"),
        Column("share", "%", 1, lambda run: run["share"], "share", factor=100),
        fact("why", lambda run: run["why"], optional=True),
        fact("none", lambda run: None),
    ),
    lambda run: Verdict.FAILS if run["why"] else None,
)
REPORT = Report((RUNS,), lambda result: [UnusedFile("b.csv", "is empty")], facts=lambda result: {"count": len(result)})
RESULT = [{"name": "a, b", "share": 0.125, "why": ""}, {"name": "c", "share": None, "why": "no rows"}]


def test_one_declaration_makes_table_csv_and_json():
    assert (RUNS.headings, RUNS.texts) == (["run", "share %"], (0,))
    assert RUNS.cells(RESULT) == [["a, b", "12.5"], ["c", "–"]]
    assert RUNS.verdicts(RESULT) == [None, "fails"]
    assert RUNS.as_csv(RESULT) == 'run,share %\n"a, b",12.5\nc,–\n'
    assert REPORT.as_json(RESULT) == {
        "runs": [
            {"name": "a, b", "share": 0.125, "none": None},
            {"name": "c", "share": None, "why": "no rows", "none": None},
        ],
        "count": 2,
        "not_used": [{"file": "b.csv", "why": "is empty"}],
    }
    assert REPORT.table("runs") is RUNS
