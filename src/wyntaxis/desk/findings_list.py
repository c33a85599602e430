"""The list of findings: whole titles with the subject small beneath, the gravest first, what holds in one line."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from PyQt6.QtCore import QModelIndex, QPersistentModelIndex, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetrics, QIcon, QPainter, QResizeEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
)

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.ledger import Verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import list_item, tip

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding

SUBJECT = Qt.ItemDataRole.UserRole
SELECTED = QStyle.StateFlag.State_Selected
"""Named here, since an enumeration is made when it is first asked for: that is not to happen amid painting."""
GAP_PX = 6
MAX_EM = 12.5
"""How high the list grows, in sizes of its text, before it scrolls."""


class _FindingDelegate(QStyledItemDelegate):
    """Paints an entry: mark, title wrapped as far as it needs, subject small and faded beneath."""

    def __init__(self, parent: QListWidget) -> None:
        super().__init__(parent)
        self.palette_in_use: Palette = DAY

    def _small(self, option: QStyleOptionViewItem) -> QFont:
        font = QFont(option.font)
        font.setPixelSize(max(9, round(QFontMetrics(option.font).height() * 0.68)))
        return font

    def _boxes(
        self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex, rect: QRect
    ) -> list[QRect]:
        size = option.decorationSize.width()
        left = rect.left() + GAP_PX + size + GAP_PX
        room = QRect(left, rect.top() + 2, rect.right() - left - 2, 10_000)
        flags = int(Qt.TextFlag.TextWordWrap)
        title = QFontMetrics(option.font).boundingRect(room, flags, str(index.data()))
        subject = str(index.data(SUBJECT) or "")
        if not subject:
            return [title, QRect(left, title.bottom() + 1, room.width(), 0)]
        room.setTop(title.bottom() + 1)
        return [title, QFontMetrics(self._small(option)).boundingRect(room, flags, subject)]

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        viewport = option.widget.viewport() if isinstance(option.widget, QListWidget) else None
        width = viewport.width() if viewport is not None else 240
        _, subject = self._boxes(option, index, QRect(0, 0, width, 10))
        return QSize(width, subject.bottom() + 4)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        colors = self.palette_in_use
        if option.state & SELECTED:
            painter.fillRect(option.rect, colors.color("chosen"))
        title, subject = self._boxes(option, index, option.rect)
        size = option.decorationSize.width()
        icon = index.data(Qt.ItemDataRole.DecorationRole)
        if isinstance(icon, QIcon):
            line = QFontMetrics(option.font).height()
            icon.paint(painter, QRect(option.rect.left() + GAP_PX, title.top() + (line - size) // 2, size, size))
        painter.setFont(option.font)
        painter.setPen(colors.color("ink"))
        painter.drawText(title, int(Qt.TextFlag.TextWordWrap), str(index.data()))
        if index.data(SUBJECT):
            painter.setFont(self._small(option))
            painter.setPen(colors.color("faded"))
            painter.drawText(subject, int(Qt.TextFlag.TextWordWrap), str(index.data(SUBJECT)))


class FindingsList(QListWidget):
    """Lists findings; ``finding_chosen`` carries a finding's place among those that were given."""

    finding_chosen = pyqtSignal(int)

    def __init__(self, icon_of: Callable[[Verdict, Palette, int], QIcon]) -> None:
        super().__init__()
        self._icon_of = icon_of
        self._given: tuple[Finding, ...] = ()
        self._rows: list[int | None] = []
        self._heights: list[int] = []
        self._drawn_with: tuple[str, int] = ("", 0)
        self._unfolded = False
        self._named: Callable[[Finding], str] = lambda _finding: ""
        self._chosen: Finding | None = None
        self._delegate = _FindingDelegate(self)
        self.setItemDelegate(self._delegate)
        self.setAccessibleName("Findings")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.currentRowChanged.connect(self._row_changed)
        self.itemClicked.connect(self._toggled)
        self.itemActivated.connect(self._toggled)

    def show_findings(
        self, findings: Sequence[Finding], chosen: Finding | None, named: Callable[[Finding], str], palette: Palette
    ) -> None:
        """List findings: what is open first, what holds behind one line that opens."""
        self._given, self._named, self._chosen = tuple(findings), named, chosen
        self._delegate.palette_in_use = palette
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        self.blockSignals(True)
        self.setIconSize(QSize(size, size))
        entries = self._entries()
        anew, changed = self.count() != len(entries), []
        while self.count() > len(entries):
            self.takeItem(self.count() - 1)
        look = (palette.name, size)
        for row, (place, text, subject, reported) in enumerate(entries):
            item = self.item(row)
            if item is None:
                item = list_item()
                self.addItem(item)
            if (item.toolTip(), item.data(SUBJECT), self._drawn_with) != (tip(reported), plain(subject), look):
                changed.append(self.indexFromItem(item))
                verdict = Verdict.HOLDS if place is None else self._given[place].verdict
                item.setIcon(self._icon_of(verdict, palette, size))
                item.setText(plain(text))
                item.setData(SUBJECT, plain(subject))
                item.setToolTip(tip(reported))
                item.setData(Qt.ItemDataRole.AccessibleTextRole, reported)
        self._rows, self._drawn_with = [place for place, *_ in entries], look
        at = self._given.index(chosen) if chosen in self._given else None
        self.setCurrentRow(self._rows.index(at) if at in self._rows and at is not None else -1)
        self.blockSignals(False)
        if anew or any(self._heights[index.row()] != self.sizeHintForIndex(index).height() for index in changed):
            self._fit()

    def dataChanged(self, a0: QModelIndex, a1: QModelIndex, a2: Iterable[int] = ()) -> None:
        """Paint an entry anew; a list would lay all of them out, and only some change their height by it."""
        QAbstractItemView.dataChanged(self, a0, a1, a2)

    def _entries(self) -> list[tuple[int | None, str, str, str]]:
        """Return the rows: place among the findings (None for the line that folds), text, subject, and all of it."""
        holding = [place for place, finding in enumerate(self._given) if finding.verdict is Verdict.HOLDS]
        rest = [place for place, finding in enumerate(self._given) if finding.verdict is not Verdict.HOLDS]
        found = [self._entry(place) for place in sorted(rest, key=lambda place: bool(self._given[place].accepted))]
        if holding:
            count = len(holding)
            words = f"{count} hold" if count > 1 else "1 holds"
            arrow = "▾" if self._unfolded else "▸"
            text = f"{words}: press Enter to {'fold them away' if self._unfolded else 'list them'}"
            found.append((None, f"{words}  {arrow}", "", text))
            found += [self._entry(place) for place in holding] if self._unfolded else []
        return found

    def _entry(self, place: int) -> tuple[int | None, str, str, str]:
        finding = self._given[place]
        subject = self._named(finding)
        small = f"accepted: {finding.accepted}" if finding.accepted else subject
        text = f"{finding.verdict}: {finding.title}" + (f"\n{subject}" if subject else "")
        return place, finding.title, small, text + (f"\naccepted: {finding.accepted}" if finding.accepted else "")

    def _fit(self) -> None:
        """Be as high as the entries, up to a limit."""
        self.doItemsLayout()  # type: ignore[attr-defined]
        model = self.model()
        rows = range(self.count()) if model is not None else ()
        self._heights = [self.visualRect(model.index(row, 0)).height() for row in rows if model is not None]
        self.setFixedHeight(min(sum(self._heights) + 6, round(self.fontInfo().pixelSize() * MAX_EM)))

    def resizeEvent(self, e: QResizeEvent | None) -> None:
        super().resizeEvent(e)
        if e is not None and e.oldSize().width() != e.size().width():
            self._fit()

    def _row_changed(self, row: int) -> None:
        place = self._rows[row] if 0 <= row < len(self._rows) else None
        if place is not None:
            self.finding_chosen.emit(place)

    def _toggled(self, item: QListWidgetItem) -> None:
        row = self.row(item)
        if 0 <= row < len(self._rows) and self._rows[row] is None:
            self._unfolded = not self._unfolded
            self.show_findings(self._given, self._chosen, self._named, self._delegate.palette_in_use)
            self.setCurrentRow(row)
