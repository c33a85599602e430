"""Widgets and items that show foreign text as text: no name of a file is read as markup, or moves what stands by it."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPaintEvent, QPixmap
from PyQt6.QtWidgets import (
    QAbstractButton,
    QLabel,
    QListWidgetItem,
    QPushButton,
    QTableWidgetItem,
    QToolButton,
    QWidget,
)

from wyntaxis.core.files.foreign_text import plain

KEPT_HEIGHTS = 16


class PlainLabel(QLabel):
    """A label whose text is plain text, whatever is in it; the only kind of label there is here."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._heights: dict[tuple[int, str, str], int] = {}
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def heightForWidth(self, a0: int) -> int:
        """Return the height in px at a width; layouts ask it often, and each time would set the text anew."""
        key = (a0, self.text(), self.font().key())
        if key not in self._heights:
            if len(self._heights) >= KEPT_HEIGHTS:
                self._heights.clear()
            self._heights[key] = super().heightForWidth(a0)
        return self._heights[key]

    def setText(self, a0: str | None) -> None:
        """Show a text; of several lines, if it has them."""
        text = plain(a0 or "", keep="\n")
        if text != self.text():  # setting a text lays it out anew, also the same one
            super().setText(text)


def _is_enter(event: QKeyEvent | None) -> bool:
    return event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)


class PushButton(QPushButton):
    """A button that Enter presses, as the space bar does; outside of dialogs Qt leaves Enter alone."""

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if _is_enter(a0):
            self.click()
        else:
            super().keyPressEvent(a0)


class ToolButton(QToolButton):
    """A small button that Enter presses, as the space bar does."""

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if _is_enter(a0):
            self.click()
        else:
            super().keyPressEvent(a0)


class Picture(QLabel):
    """A widget that paints itself, told to assistive technology as a picture: Qt takes the role from the class."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        reported_by = QPixmap(1, 1)
        reported_by.fill(Qt.GlobalColor.transparent)
        self.setPixmap(reported_by)

    def sizeHint(self) -> QSize:
        return QWidget.sizeHint(self)

    def minimumSizeHint(self) -> QSize:
        return QWidget.minimumSizeHint(self)


class Pressed(QAbstractButton):
    """A widget that paints itself, told to assistive technology as a button, pressed while it is what is shown."""

    def __init__(self) -> None:
        super().__init__()
        self.setCheckable(True)

    def paintEvent(self, e: QPaintEvent | None) -> None:
        """Paint nothing: what stands on it paints itself."""

    def nextCheckState(self) -> None:
        """Stay as it is: what it leads to decides."""


def tip(text: str) -> str:
    """Return a tooltip that shows a text as it is: Qt would read one that looks like markup, and load what it names."""
    shown = plain(text, keep="\n")
    if "<" not in shown:
        return shown
    from html import escape

    return f"<p>{escape(shown).replace(chr(10), '<br>')}</p>"


def plot_text(text: str) -> str:
    """Return a name as a plot's legend or axis takes it, which are written in HTML."""
    from html import escape

    return escape(plain(text))


def table_item(text: str) -> QTableWidgetItem:
    """Return a cell with its text as tooltip, for where the column is narrow."""
    item = QTableWidgetItem(plain(text))
    item.setToolTip(tip(text))
    return item


def list_item(text: str = "") -> QListWidgetItem:
    """Return an entry of a list."""
    return QListWidgetItem(plain(text))
