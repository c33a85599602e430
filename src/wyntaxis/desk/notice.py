"""The notice strip: what happened, where, and what to do, in the window and never in front of it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout, QLineEdit, QPushButton, QWidget

from wyntaxis.desk.plain_widgets import PlainLabel


class NoticeStrip(QFrame):
    """One message at a time, with buttons where there is something to decide. Esc or Close puts it away."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "notice")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(10, 5, 8, 5)
        self.text = PlainLabel()
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._row.addWidget(self.text, 1)
        self._buttons: list[QPushButton] = []
        self._field: QLineEdit | None = None
        self.asking = False
        self.hide()

    def tell(self, text: str, *, error: bool = False) -> None:
        """Show a message that needs no answer; a question that waits for one stays instead."""
        if self.asking and not error:
            return
        self._show(text, [("Close", self.put_away)], error=error)

    def tell_with_details(self, text: str, details: str) -> None:
        """Show an error whose details can be copied."""
        clipboard = QApplication.clipboard()
        copy = [("Copy details", lambda: clipboard.setText(details))] if clipboard else []
        self._show(text, [*copy, ("Close", self.put_away)], error=True)

    def ask(self, text: str, answers: list[tuple[str, Callable[[], None]]]) -> None:
        """Ask something; each answer has a button, and the first has the keyboard."""
        self._show(text, answers, error=False)
        self.asking = True
        self._buttons[0].setFocus()

    def ask_text(self, text: str, value: str, take: Callable[[str], object]) -> None:
        """Ask for a text; Return takes it."""
        field = QLineEdit(value)
        field.setAccessibleName(text)

        def taken() -> None:
            self.put_away()
            take(field.text().strip())

        field.returnPressed.connect(taken)
        self._show(text, [("Take", taken), ("Cancel", self.put_away)], error=False)
        self._row.insertWidget(1, field, 2)
        self._field = field
        self.asking = True
        field.setFocus()
        field.selectAll()

    def put_away(self) -> None:
        """Hide the strip."""
        self.asking = False
        self.hide()

    def _show(self, text: str, answers: list[tuple[str, Callable[[], None]]], *, error: bool) -> None:
        self.asking = False
        for button in self._buttons:
            button.deleteLater()
        self._buttons = []
        if self._field is not None:
            self._field.deleteLater()
            self._field = None
        self.text.setText(text)
        self.setAccessibleName(text)
        self.setProperty("severity", "error" if error else "")
        style = self.style()
        if style is not None:
            style.polish(self)
        for name, action in answers:
            button = QPushButton(name)
            button.clicked.connect(lambda _checked, action=action: self._answered(action))
            self._row.addWidget(button)
            self._buttons.append(button)
        self.show()

    def button(self, name: str) -> QPushButton:
        """Return the button of an answer."""
        return next(button for button in self._buttons if button.text() == name)

    def _answered(self, action: Callable[[], None]) -> None:
        self.put_away()
        action()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.put_away()
        else:
            super().keyPressEvent(a0)
