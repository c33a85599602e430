"""All trains of a rig side by side: what comes out, what goes in, and what each number becomes."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QAbstractItemView, QCheckBox, QHeaderView, QTableWidget, QVBoxLayout, QWidget

from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.ledger import Quantity
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.variants import differences
from wyntaxis.core.wording import counted, number, signed
from wyntaxis.desk.findings_panel import verdict_icon
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel, table_item
from wyntaxis.desk.session import Session


class ComparePage(QWidget):
    """A table with one column for each train."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        heading = PlainLabel("Trains side by side")
        heading.setProperty("role", "title")
        self.hint = PlainLabel()
        self.hint.setProperty("role", "faded")
        self.hint.setWordWrap(True)
        self.table = QTableWidget()
        self.table.setAccessibleName("Trains side by side")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setAlternatingRowColors(True)
        self.table.setWordWrap(True)
        self.table.setTabKeyNavigation(False)  # Tab leaves the table
        self.equal = QCheckBox()
        self.equal.setAccessibleName("Show the rows in which all trains are equal")
        self.equal.toggled.connect(lambda _on: self._fold())
        self._equal_rows: list[int] = []
        for widget in (heading, self.hint, self.equal, self.table):
            column.addWidget(widget)

    def show_session(self, session: Session, palette: Palette) -> None:
        """Fill the table from a session's document."""
        document = session.document
        names = [document.name, *(variant.name for variant in document.variants)]
        self.hint.setText(
            "Choose a step of the worklist to go back. Differences are relative to the first train."
            if len(names) > 1
            else "The rig has one train. Variant → New variant adds another over the same parts."
        )
        rigs = [variant_rig(document, name) for name in names]
        columns = [evaluate(rig, shelf=session.stock.shelf.parts) for rig in rigs]
        kinds = sorted(
            QUANTITY_KINDS.items(), key=lambda entry: _are_equal([own.quantities[entry[0]] for own in columns])
        )
        rows = ["Comes out", "Goes in", "Findings", *(kind.label for _key, kind in kinds)]
        self.table.setRowCount(len(rows))
        self.table.setColumnCount(len(names))
        self.table.setVerticalHeaderLabels(rows)
        self.table.setHorizontalHeaderLabels(names)
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        self.table.setIconSize(QSize(size, size))
        for index, (rig, computed_now) in enumerate(zip(rigs, columns, strict=True)):
            out, into = differences(rigs[0], rig)
            texts = [", ".join(out) or "–", ", ".join(into) or "–", _findings_text(computed_now)]
            for row, text in enumerate(texts):
                self.table.setItem(row, index, table_item(text))
            for row, (key, kind) in enumerate(kinds, start=len(texts)):
                quantity = computed_now.quantities[key]
                best, first = quantity.best, columns[0].quantities[key].best
                text = "–" if best is None else f"{number(best.value, kind.decimals)} {kind.unit}".rstrip()
                if index and best is not None and first is not None and abs(best.value - first.value) > 1e-9:
                    text += f"   ({signed(best.value - first.value, kind.decimals)})"
                item = table_item(text)
                item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
                if best is not None and is_judged(quantity):
                    item.setIcon(verdict_icon(quantity.verdict, palette, size))
                    item.setToolTip(quantity.verdict.words)
                self.table.setItem(row, index, item)
        header, side = self.table.horizontalHeader(), self.table.verticalHeader()
        assert header is not None
        assert side is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        side.setDefaultSectionSize(self.fontMetrics().height() + 6)
        for row in range(3):
            self.table.resizeRowToContents(row)
        self._equal_rows = [
            row
            for row, (key, _kind) in enumerate(kinds, start=3)
            if len(columns) > 1 and _are_equal([own.quantities[key] for own in columns])
        ]
        self.equal.setText(f"Show the {counted(len(self._equal_rows), 'number')} that are equal")
        self.equal.setVisible(bool(self._equal_rows))
        self._fold()

    def _fold(self) -> None:
        """Show what differs alone, until all is asked for."""
        equal = set(self._equal_rows)
        for row in range(self.table.rowCount()):
            self.table.setRowHidden(row, row in equal and not self.equal.isChecked())


def _are_equal(found: Sequence[Quantity]) -> bool:
    """Return whether a number is the same in all trains: its best value as it is shown, and its verdict."""
    shown = {(None if row.best is None else number(row.best.value, row.kind.decimals), row.verdict) for row in found}
    return len(shown) == 1


def _findings_text(computed_now: Evaluation) -> str:
    counts = {word: sum(f.verdict == word for f in computed_now.findings) for word in ("fails", "tight", "unproven")}
    words = {"fails": "fail", "tight": "tight", "unproven": "not verified"}
    return ", ".join(f"{count} {words[word]}" for word, count in counts.items() if count) or "all hold"
