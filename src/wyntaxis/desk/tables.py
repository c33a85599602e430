"""A plain table of texts: filled from the core's rows, copied as tab-separated text."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

from PyQt6.QtCore import QSize, Qt, QTimer
from PyQt6.QtGui import QIcon, QKeyEvent, QKeySequence, QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QTableWidget

from wyntaxis.core.ledger import Verdict
from wyntaxis.desk.findings_panel import verdict_icon
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import table_item

ROW_PADDING_PX = 5
MAX_ROWS_SHOWN = 40
"""The sheet scrolls, its tables do not, but for one that is longer than this: its headings stay in sight."""
WIDEST_SHARE = 0.42
"""Of a table that wraps its texts, what one column may take."""
MIN_STRETCHED_EM = 13
"""What a column that takes the room left over has at least, before the table scrolls sideways."""


@dataclass(frozen=True)
class _Displayed:
    """What stands in a table: its texts, the verdicts by cell, and how it looks."""

    rows: list[tuple[str, ...]]
    verdicts: dict[tuple[int, int], Verdict]
    look: tuple[object, ...]

    def cell(self, row: int, column: int) -> tuple[str, Verdict | None]:
        return self.rows[row][column], self.verdicts.get((row, column))


class TextTable(QTableWidget):
    """Rows of texts under headings.

    ``left`` names the columns set flush left, ``stretch`` the one that takes the room left over; no column is made
    wider than ``widest_em`` text heights, what does not fit is in its tool tip.
    """

    def __init__(
        self,
        name: str,
        headings: Sequence[str],
        left: Sequence[int] = (0,),
        stretch: int | None = 0,
        widest_em: float | None = None,
    ) -> None:
        super().__init__(0, len(headings))
        self._widest_em = widest_em
        self.wraps = False
        """Whether rows are as high as their wrapped texts."""
        self._laid_out_for = self._rows_height = 0
        self.fills = False
        """Whether it takes the room that its page has, and scrolls."""
        self.headings, self._left, self._stretch = tuple(headings), frozenset(left), stretch
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(list(headings))
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setAlternatingRowColors(True)
        self.setTabKeyNavigation(False)
        top = self.horizontalHeader()
        assert top is not None
        top.setHighlightSections(False)
        self._wrap_soon = QTimer(self)
        self._wrap_soon.setSingleShot(True)
        self._wrap_soon.timeout.connect(self.wrap_rows)
        top.sectionResized.connect(lambda *_sizes: self._wrap_soon.start(0) if self.wraps else None)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.most_rows = MAX_ROWS_SHOWN
        self._shown: _Displayed | None = None
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
        cell_verdicts: Mapping[tuple[int, int], Verdict] = MappingProxyType({}),
    ) -> None:
        """Fill the table; ``verdicts`` puts each row's mark before its first text, ``cell_verdicts`` a cell's."""
        self.ensurePolished()
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        marks = {(row, 0): verdict for row, verdict in enumerate(verdicts) if verdict is not None}
        look = (palette, tuple(bold), self.font().key())
        entries = [tuple(row) for row in rows]
        shown = _Displayed(entries, marks | dict(cell_verdicts), look)
        before, self._shown = self._shown, shown
        if shown == before:
            return
        anew = before is None or before.look != look or len(before.rows) != len(entries)
        if anew:
            self.setIconSize(QSize(size, size))
            self.setRowCount(len(entries))
        changed: set[tuple[int, int]] = set()
        for row, texts in enumerate(entries):
            for column, text in enumerate(texts):
                verdict = shown.verdicts.get((row, column))
                if before is None or anew or before.cell(row, column) != (text, verdict):
                    changed.add((row, column))
                    mark = verdict_icon(verdict, palette, size) if verdict is not None and palette is not None else None
                    self._put(row, column, text, bold=row in bold, verdict=verdict, mark=mark)
        resized = anew or any(column != self._stretch for _, column in changed)
        if resized:
            self.fit()
        if self.wraps:
            self.wrap_rows(None if resized else {row for row, _ in changed})

    def _put(
        self, row: int, column: int, text: str, *, bold: bool, verdict: Verdict | None, mark: QIcon | None
    ) -> None:
        item = table_item(text)
        if column not in self._left:
            item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
        if bold:
            font = item.font()
            font.setBold(True)
            item.setFont(font)
        if mark is not None:
            item.setIcon(mark)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{verdict}: {item.text()}")
        self.setItem(row, column, item)

    def fit(self) -> None:
        """Size columns to their texts, and the table to its rows."""
        header, side = self.horizontalHeader(), self.verticalHeader()
        assert header is not None
        assert side is not None
        line = self.fontMetrics().height() + ROW_PADDING_PX
        side.setDefaultSectionSize(line)
        for column in range(self.columnCount()):
            if column != self._stretch:
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        header.setMinimumSectionSize(self.fontMetrics().horizontalAdvance("000"))
        if self._widest_em is not None:
            viewport = self.viewport()
            widest = round(self._widest_em * self.fontInfo().pixelSize())
            if self.wraps and viewport is not None:
                widest = min(widest, round(WIDEST_SHARE * viewport.width()))
            for column in range(self.columnCount()):
                if column != self._stretch:
                    wanted = max(self.sizeHintForColumn(column), header.sectionSizeHint(column) + ROW_PADDING_PX)
                    header.setSectionResizeMode(column, QHeaderView.ResizeMode.Interactive)
                    header.resizeSection(column, min(wanted, widest))
        self._fit_stretched()
        shown = min(max(self.rowCount(), 1), self.most_rows)
        lines = max(heading.count("\n") + 1 for heading in self.headings)
        self._fit_height(shown * line + lines * self.fontMetrics().height() + 3 * ROW_PADDING_PX)

    def _fit_height(self, height: int) -> None:
        """Be so high, and as much higher as the bar is that moves the table sideways, where it needs one."""
        header, viewport, bar = self.horizontalHeader(), self.viewport(), self.horizontalScrollBar()
        assert header is not None
        assert viewport is not None
        assert bar is not None
        self._rows_height = height
        if self.fills:
            return
        self.setFixedHeight(height + (bar.sizeHint().height() if header.length() > viewport.width() else 0))

    def _fit_stretched(self) -> None:
        """Give the stretching column what is left, or, where that is too little to read, what it needs to be."""
        header, viewport = self.horizontalHeader(), self.viewport()
        if self._stretch is None or header is None or viewport is None:
            return
        taken = sum(header.sectionSize(column) for column in range(self.columnCount()) if column != self._stretch)
        em = self.fontInfo().pixelSize()
        wanted = max(self.sizeHintForColumn(self._stretch), header.sectionSizeHint(self._stretch))
        least = min(wanted, MIN_STRETCHED_EM * em)
        if viewport.width() - taken >= least:
            header.setSectionResizeMode(self._stretch, QHeaderView.ResizeMode.Stretch)
        else:
            header.setSectionResizeMode(self._stretch, QHeaderView.ResizeMode.Interactive)
            header.resizeSection(self._stretch, least)

    def resizeEvent(self, e: QResizeEvent | None) -> None:
        super().resizeEvent(e)
        if not self.wraps:
            self._fit_stretched()
            if self._rows_height:
                self._fit_height(self._rows_height)
        elif self.width() != self._laid_out_for:
            self._laid_out_for = self.width()
            self.fit()
            self.wrap_rows()

    def forget_shown(self) -> None:
        """Let the next rows be written in any case, as after something was typed over them."""
        self._shown = None

    def wrap_rows(self, rows: Collection[int] | None = None) -> None:
        """Let rows, all of them by default, be as high as their wrapped texts, and the table as high as its rows."""
        if rows is None:
            self.resizeRowsToContents()
        for row in rows or ():
            self.resizeRowToContents(row)
        header = self.horizontalHeader()
        height = sum(self.rowHeight(row) for row in range(min(self.rowCount(), self.most_rows)))
        self._fit_height(height + (header.height() if header is not None else 0) + 2 * self.frameWidth() + 2)

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
