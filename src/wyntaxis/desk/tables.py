"""A plain table of texts: filled from the core's rows, copied as tab-separated text."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QTableWidget, QTableWidgetItem

from wyntaxis.core.ledger import Verdict
from wyntaxis.desk.margin import verdict_icon
from wyntaxis.desk.palette import Palette

ROW_PADDING_PX = 5
MOST_ROWS_SHOWN = 12


class TextTable(QTableWidget):
    """Rows of texts under headings. ``left`` names the columns set flush left; the last of them stretches."""

    def __init__(self, name: str, headings: Sequence[str], left: Sequence[int] = (0,), stretch: int = 0) -> None:
        super().__init__(0, len(headings))
        self.headings, self._left, self._stretch = tuple(headings), frozenset(left), stretch
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(list(headings))
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setAlternatingRowColors(True)
        self.setTabKeyNavigation(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.most_rows = MOST_ROWS_SHOWN
        self._shown: object = None
        side = self.verticalHeader()
        assert side is not None
        side.hide()

    def show_rows(
        self,
        rows: Sequence[Sequence[str]],
        *,
        verdicts: Sequence[Verdict | None] = (),
        palette: Palette | None = None,
        bold: Sequence[int] = (),
    ) -> None:
        """Fill the table; ``verdicts`` puts each row's mark before its first text."""
        self.ensurePolished()
        shown = ([tuple(row) for row in rows], tuple(verdicts), palette, tuple(bold), self.font().key())
        if shown == self._shown:
            return
        self._shown = shown
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        self.setIconSize(QSize(size, size))
        self.setRowCount(len(rows))
        for row, texts in enumerate(rows):
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column not in self._left:
                    item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
                if row in bold:
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                self.setItem(row, column, item)
            verdict = verdicts[row] if row < len(verdicts) else None
            first = self.item(row, 0)
            if verdict is not None and palette is not None and first is not None:
                first.setIcon(verdict_icon(verdict, palette, size))
        self.fit()

    def fit(self) -> None:
        """Size columns to their texts, and the table to its rows."""
        header, side = self.horizontalHeader(), self.verticalHeader()
        assert header is not None
        assert side is not None
        line = self.fontMetrics().height() + ROW_PADDING_PX
        side.setDefaultSectionSize(line)
        for column in range(self.columnCount()):
            stretches = column == self._stretch
            mode = QHeaderView.ResizeMode.Stretch if stretches else QHeaderView.ResizeMode.ResizeToContents
            header.setSectionResizeMode(column, mode)
        header.setMinimumSectionSize(self.fontMetrics().horizontalAdvance("000"))
        shown = min(max(self.rowCount(), 1), self.most_rows)
        lines = max(heading.count("\n") + 1 for heading in self.headings)
        self.setFixedHeight(shown * line + lines * self.fontMetrics().height() + 3 * ROW_PADDING_PX)

    def as_text(self, rows: Sequence[int] | None = None) -> str:
        """Return rows as tab-separated lines under their headings."""
        chosen = range(self.rowCount()) if rows is None else rows
        lines = ["\t".join(heading.replace("\n", " ") for heading in self.headings)]
        for row in chosen:
            items = (self.item(row, column) for column in range(self.columnCount()))
            lines.append("\t".join(item.text() if item else "" for item in items))
        return "\n".join(lines) + "\n"

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        if e is not None and e.matches(QKeySequence.StandardKey.Copy):
            clipboard, rows = QApplication.clipboard(), sorted({index.row() for index in self.selectedIndexes()})
            if clipboard is not None:
                clipboard.setText(self.as_text(rows or None))
        else:
            super().keyPressEvent(e)
