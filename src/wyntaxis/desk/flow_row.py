"""A row of buttons and short fields that goes on in the next line where the sheet is narrow."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowRow(QLayout):
    """Lays widgets out from left to right, wrapped like words; one added with a stretch takes what its line leaves."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._stretched: list[QWidget] = []
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(6)

    def addItem(self, a0: QLayoutItem | None) -> None:
        if a0 is not None:
            self._items.append(a0)

    def add_stretched(self, widget: QWidget) -> None:
        """Add a widget that takes what its line leaves."""
        self._stretched.append(widget)
        self.addWidget(widget)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, a0: int) -> int:
        return self._place(QRect(0, 0, a0, 0), move=False)

    def setGeometry(self, a0: QRect) -> None:
        super().setGeometry(a0)
        self._place(a0, move=True)

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        width = sum(size.width() for size in shown) + self.spacing() * max(len(shown) - 1, 0)
        return QSize(width, max((size.height() for size in shown), default=0))

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            if not item.isEmpty():
                size = size.expandedTo(item.minimumSize())
        return size

    def _place(self, area: QRect, *, move: bool) -> int:
        """Place the widgets within an area, or only measure: return the height that they take."""
        y, line = area.y(), []  # type: int, list[QLayoutItem]
        x = area.x()
        for item in [item for item in self._items if not item.isEmpty()]:
            width = item.sizeHint().width()
            if line and x + width > area.right() + 1:
                y += self._finish(line, area, y, move=move) + self.spacing()
                line, x = [], area.x()
            line.append(item)
            x += width + self.spacing()
        return y + self._finish(line, area, y, move=move) - area.y()

    def _finish(self, line: list[QLayoutItem], area: QRect, y: int, *, move: bool) -> int:
        """Place one line, and return its height."""
        height = max((item.sizeHint().height() for item in line), default=0)
        if not move:
            return height
        used = sum(item.sizeHint().width() for item in line) + self.spacing() * max(len(line) - 1, 0)
        eager = sum(item.widget() in self._stretched for item in line)
        spare, x = max(area.width() - used, 0) // max(eager, 1), area.x()
        for item in line:
            size = item.sizeHint()
            width = min(size.width() + (spare if item.widget() in self._stretched else 0), area.width())
            item.setGeometry(QRect(QPoint(x, y + (height - size.height()) // 2), QSize(width, size.height())))
            x += width + self.spacing()
        return height
