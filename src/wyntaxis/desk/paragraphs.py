"""Paragraphs to read and to select from; of a text that changes, only the paragraphs that read differently are set."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QSizeF, Qt
from PyQt6.QtGui import QTextBlockFormat, QTextCursor, QWheelEvent
from PyQt6.QtWidgets import QFrame, QTextEdit

from wyntaxis.core.files.foreign_text import plain

HANG_PX, GAP_PX = 14, 3


class Paragraphs(QTextEdit):
    """Plain paragraphs with a hanging indent, as high as they are; what stands around them scrolls."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setProperty("role", "paragraphs")
        self.setAccessibleName(name)
        self.setReadOnly(True)
        self.setTabChangesFocus(True)
        self.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.setFrameShape(QFrame.Shape.NoFrame)
        for bar in (self.setVerticalScrollBarPolicy, self.setHorizontalScrollBarPolicy):
            bar(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._lines: list[str] = []
        document = self.document()
        assert document is not None
        document.setUndoRedoEnabled(False)
        document.setDocumentMargin(0)
        layout = document.documentLayout()
        assert layout is not None
        layout.documentSizeChanged.connect(self._fit)

    @property
    def lines(self) -> tuple[str, ...]:
        """The paragraphs that are shown."""
        return tuple(self._lines)

    def text(self) -> str:
        """Return what is shown."""
        return "\n".join(self._lines)

    def show_lines(self, lines: Sequence[str]) -> None:
        """Show paragraphs, each as it is: nothing of them is read as markup."""
        shown = [plain(line) for line in lines]
        document = self.document()
        assert document is not None
        cursor = QTextCursor(document)
        cursor.beginEditBlock()
        if len(shown) != len(self._lines):
            cursor.select(QTextCursor.SelectionType.Document)
            cursor.setBlockFormat(_hanging())
            cursor.insertText("\n".join(shown))
        else:
            for number, (old, new) in enumerate(zip(self._lines, shown, strict=True)):
                if old != new:
                    cursor.setPosition(document.findBlockByNumber(number).position())
                    cursor.movePosition(QTextCursor.MoveOperation.EndOfBlock, QTextCursor.MoveMode.KeepAnchor)
                    cursor.insertText(new)
        cursor.endEditBlock()
        self._lines = shown

    def wheelEvent(self, e: QWheelEvent | None) -> None:
        if e is not None:
            e.ignore()  # what stands around them scrolls, and nothing here grows by Ctrl and the wheel

    def _fit(self, size: QSizeF) -> None:
        self.setFixedHeight(math.ceil(size.height()))


def _hanging() -> QTextBlockFormat:
    form = QTextBlockFormat()
    form.setLeftMargin(HANG_PX)
    form.setTextIndent(-HANG_PX)
    form.setBottomMargin(GAP_PX)
    return form
