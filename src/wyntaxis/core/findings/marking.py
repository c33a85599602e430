"""Which assumed, out-of-date and conflicting values each row and finding depends on, decided from what was read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.registry import Stated, Statement
from wyntaxis.core.ledger import ConflictingFigures, OutOfDate, Quantity, Verdict
from wyntaxis.core.quantities.read_tracking import Reads, reads_of_value
from wyntaxis.core.rig.dependencies import SPACING_ERROR
from wyntaxis.core.rig.figures import conflict_words, conflicting_paths, spread_of
from wyntaxis.core.rig.marks import mark_label, marked_field, marked_leaves
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import out_of_date_measurements

MAX_NAMED = 4
"""How many assumed values a finding names."""


class Marks:
    """What is assumed, out of date and given otherwise by makers in a rig, against what was read.

    Parameters
    ----------
    evaluation
        The evaluation, with its rows as they are computed.
    """

    def __init__(self, evaluation: Evaluation) -> None:
        self._evaluator = evaluation.evaluator
        rig = evaluation.rig
        self._assumed = _keys_of(rig, rig.assumed)
        self.labels = {path: mark_label(rig, path) for path in rig.assumed}
        entries = out_of_date_measurements(rig)
        self._by_row = {entry.row_id: entry for entry in entries}
        # One that is judged for another row's sake, such as the spacing's error by a solved scale, is no mark itself.
        own = {entry.row_id: entry for entry in entries if entry.row_id != SPACING_ERROR}
        self._by_path = [(reads_of_value(f"{path_text(entry.path)}.value"), entry) for entry in own.values()]
        figures = conflicting_paths(rig)
        self._conflicting = [
            (keys, ConflictingFigures(conflict_words(rig, text), *spread_of(rig, text), marked_field(rig, text).unit))
            for text, keys in _keys_of(rig, figures).items()
        ]
        self._known: dict[Reads, tuple[str, ...]] = {}
        self.rows = {key: self._marked(row) for key, row in evaluation.rows.items()} if self._any else evaluation.rows

    @property
    def _any(self) -> bool:
        return bool(self._assumed or self._by_row or self._conflicting)

    def _marked(self, row: Quantity) -> Quantity:
        """Return a row that knows what it depends on."""
        reads = self._evaluator.reads(row.id)
        if row.id in self._by_row:
            entry = self._by_row[row.id] if row.measured is not None else None
        else:
            entry = self._out_of_date_in(reads)
        assumed = self.assumed_in(reads)
        conflicting = tuple(figures for keys, figures in self._conflicting if not keys.isdisjoint(reads))
        if entry is None and not assumed and not conflicting:
            return row
        return replace(row, out_of_date=entry, assumed=assumed, conflicting=conflicting)

    def assumed_in(self, reads: Reads) -> tuple[str, ...]:
        """Return which assumed values are among what was read."""
        if reads not in self._known:  # what comes of one piece of work shares what it read
            self._known[reads] = tuple(path for path, keys in self._assumed.items() if not keys.isdisjoint(reads))
        return self._known[reads]

    def _out_of_date_in(self, reads: Reads) -> OutOfDate | None:
        return next((entry for keys, entry in self._by_path if not keys.isdisjoint(reads)), None)

    def assumed_of(self, statement: Statement, reads: Reads) -> tuple[str, ...]:
        """Return which assumed values a statement depends on.

        One that fails by its row's number fails by that number's values alone: what else was read serves the remedy.
        """
        of_rows = tuple(dict.fromkeys(path for row in self._rows_of(statement) for path in row.assumed))
        return of_rows if of_rows or _fails_by_number(statement) else self.assumed_in(reads)

    def out_of_date_of(self, statement: Statement, reads: Reads) -> OutOfDate | None:
        """Return the out-of-date measurement that a statement depends on, as :meth:`assumed_of` does."""
        of_rows = next((row.out_of_date for row in self._rows_of(statement) if row.out_of_date is not None), None)
        return of_rows if of_rows is not None or _fails_by_number(statement) else self._out_of_date_in(reads)

    def _rows_of(self, statement: Statement) -> Iterable[Quantity]:
        return (self.rows[key] for key in statement.rows if key in self.rows)

    def doubts(self, found: Sequence[Stated]) -> dict[str, str]:
        """Return by finding id why it proves nothing even where nothing is wrong: assumed values were read for it.

        With another value there might be one more finding, and it might fail.
        """
        assumed = {entry.declared.id: self.assumed_in(entry.reads) for entry in found} if self._assumed else {}
        return {key: f"assumed: {self.in_short(paths)}" for key, paths in assumed.items() if paths}

    def in_short(self, paths: Sequence[str]) -> str:
        """Return assumed values in a few words: ``ring: length 10 mm``, with how many more there are."""
        more = f" and {len(paths) - MAX_NAMED} more" if len(paths) > MAX_NAMED else ""
        return ", ".join(self.labels[path] for path in paths[:MAX_NAMED]) + more


def _fails_by_number(statement: Statement) -> bool:
    return bool(statement.rows) and statement.verdict is Verdict.FAILS


def _keys_of(rig: Rig, texts: Sequence[str]) -> dict[str, Reads]:
    """Return by marked path every read that changes with one of its values."""
    return {text: frozenset().union(*(reads_of_value(path) for path in marked_leaves(rig, [text]))) for text in texts}


def out_of_date_words(entry: OutOfDate) -> str:
    """Return in a line when something was measured, and what has changed since when."""
    measured = f"measured on {entry.measured_on}" if entry.measured_on else "measured, date unknown"
    changed = f"changed on {entry.changed_on}" if entry.changed_on else "changed since, date unknown"
    return f"{measured}; {changed}: {', '.join(entry.what[:MAX_NAMED])}"
