"""The notice strip: what happened, where, and what to do, in the window and never in front of it.

A question stays until it is answered: an error that comes meanwhile stands above it, another question ahead of it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from wyntaxis.desk.plain_widgets import PlainLabel, PushButton

Answer = tuple[str, Callable[[], object]]


@dataclass(frozen=True)
class Question:
    """A question with its answers; ``field`` holds the text to be given where a text is asked for.

    ``outlives_rig`` says that it is not about the rig that is open, and stays when another one is opened.
    """

    text: str
    answers: tuple[Answer, ...]
    field: QLineEdit | None = None
    outlives_rig: bool = False


class _Row(QWidget):
    """A line of text with buttons."""

    def __init__(self) -> None:
        super().__init__()
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self.text = PlainLabel()
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._row.addWidget(self.text, 1)
        self.buttons: list[QPushButton] = []
        self._field: QLineEdit | None = None

    def show_line(self, text: str, answers: Sequence[Answer], field: QLineEdit | None = None) -> None:
        """Show a text, its field where it has one, and its buttons."""
        for button in self.buttons:
            self._row.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons = []
        if self._field is not None and self._field is not field:
            self._row.removeWidget(self._field)
            self._field.hide()
        self._field = field
        self.text.setText(text)
        if field is not None:
            self._row.insertWidget(1, field, 2)
            field.show()
        for name, action in answers:
            button = PushButton(name)
            button.clicked.connect(lambda _checked, action=action: action())
            self._row.addWidget(button)
            self.buttons.append(button)
        self.show()


class NoticeStrip(QFrame):
    """A message, or a question with buttons. Esc or Close puts it away."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "notice")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 5, 8, 5)
        column.setSpacing(4)
        self._first, self._second = _Row(), _Row()
        column.addWidget(self._first)
        column.addWidget(self._second)
        self._second.hide()
        self.text = self._first.text
        self._message: tuple[str, tuple[Answer, ...]] | None = None
        self._questions: list[Question] = []
        self._before: QWidget | None = None
        """What had the keyboard before something was asked."""
        self.hide()

    @property
    def asking(self) -> bool:
        """Whether a question waits for its answer."""
        return bool(self._questions)

    @property
    def buttons(self) -> list[QPushButton]:
        return [*self._first.buttons, *(self._second.buttons if self._second.isVisibleTo(self) else [])]

    def tell(self, text: str, *, error: bool = False) -> None:
        """Show a message that needs no answer; while a question waits, an error stands above it."""
        if not self.asking or error:
            self._tell(text, [("Close", self._close_message)], error=error)

    def tell_with_details(self, text: str, details: str) -> None:
        """Show an error whose details can be copied."""
        clipboard = QApplication.clipboard()
        copy = [("Copy details", self._closing(lambda: clipboard.setText(details)))] if clipboard else []
        self._tell(text, [*copy, ("Close", self._close_message)], error=True)

    def ask(self, text: str, answers: Sequence[Answer], *, outlives_rig: bool = False) -> None:
        """Ask something; each answer has a button, and the first has the keyboard.

        A question that waits already comes after it.
        """
        self._ask(Question(text, tuple(answers), outlives_rig=outlives_rig))

    def ask_text(self, text: str, value: str, take: Callable[[str], object]) -> None:
        """Ask for a text; Return takes it."""
        field = QLineEdit(value)
        field.setAccessibleName(text)

        def taken() -> object:
            return take(field.text().strip())

        question = Question(text, (("Take", taken), ("Cancel", lambda: None)), field)
        field.returnPressed.connect(lambda: self._answer(question, taken))
        self._ask(question)
        field.setFocus()
        field.selectAll()

    @property
    def shown_text(self) -> str:
        """The message that is shown, empty where none is."""
        return self._message[0] if self._message is not None else ""

    def close_message(self, text: str) -> None:
        """Take a message away, where it is the one that is shown."""
        if self.shown_text == text:
            self._close_message()

    def escape(self) -> bool:
        """Take away what is shown, a message before a question; return whether there was anything."""
        if self._message is not None:
            self._close_message()
        elif self._questions:
            self.put_away()
        else:
            return False
        return True

    def _give_keyboard_back(self) -> None:
        """Let the keyboard be where it was before the question, unless it has gone elsewhere meanwhile."""
        before, self._before = self._before, None
        focus = QApplication.focusWidget()
        if before is None or (focus is not None and not self.isAncestorOf(focus)):
            return
        if not sip.isdeleted(before) and before.isVisible():
            before.setFocus()

    def _ask(self, question: Question) -> None:
        focus = QApplication.focusWidget()
        if focus is not None and not self.isAncestorOf(focus):
            self._before = focus
        self._questions = [own for own in self._questions if own.text != question.text]
        self._questions.append(question)
        self._message = None
        self._show(error=False)
        self._first.buttons[0].setFocus()

    def put_away(self) -> None:
        """Take the message away, and the question that is shown."""
        self._message = None
        if self._questions:
            self._questions.pop()
        if not self._questions:
            self._give_keyboard_back()
        self._show(error=False)

    def take_back(self, words: str) -> None:
        """Take back a question that was answered in another way."""
        self._questions = [question for question in self._questions if words not in question.text]
        self._show(error=False)

    def put_away_for_another_rig(self) -> None:
        """Take everything away that was about the rig that was open."""
        self._message = None
        self._questions = [question for question in self._questions if question.outlives_rig]
        self._show(error=False)

    def _tell(self, text: str, answers: Sequence[Answer], *, error: bool) -> None:
        self._message = (text, tuple(answers))
        self._show(error=error)

    def _closing(self, action: Callable[[], object]) -> Callable[[], object]:
        def do() -> None:
            self._close_message()
            action()

        return do

    def _close_message(self) -> None:
        self._message = None
        self._show(error=False)

    def _answer(self, question: Question, action: Callable[[], object]) -> None:
        self._questions = [own for own in self._questions if own is not question]
        if not self._questions:
            self._give_keyboard_back()
        self._show(error=False)
        action()

    def _show(self, *, error: bool) -> None:
        lines: list[tuple[str, tuple[Answer, ...], QLineEdit | None]] = []
        if self._message is not None:
            lines.append((*self._message, None))
        if self._questions:
            asked = self._questions[-1]
            answers = tuple(
                (name, lambda asked=asked, action=action: self._answer(asked, action)) for name, action in asked.answers
            )
            lines.append((asked.text, answers, asked.field))
        self._second.setVisible(len(lines) > 1)
        for row, line in zip((self._first, self._second)[: len(lines)], lines, strict=True):
            row.show_line(*line)
        self.setVisible(bool(lines))
        if not lines:
            return
        self.setAccessibleName(" ".join(line[0] for line in lines))
        self.setProperty("severity", "error" if error else "")
        style = self.style()
        if style is not None:
            style.polish(self)

    def button(self, name: str) -> QPushButton:
        """Return the button of an answer."""
        return next(button for button in self.buttons if button.text() == name)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.escape()
        else:
            super().keyPressEvent(a0)
