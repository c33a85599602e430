"""Fields bound to one place of the document: a line for a number or a text, a list of choices, a tick box."""

from __future__ import annotations

from typing import ClassVar

from PyQt6.QtCore import QEvent, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractSpinBox,
    QCheckBox,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QTextEdit,
    QToolTip,
    QWidget,
)

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.wording import short
from wyntaxis.desk.numbers_in import parse_number, understood
from wyntaxis.desk.plain_widgets import tip

SHOWN_DECIMALS = 6
WIDEST_CHOICE = 13
LEAST_PX, WIDEST_EM, EDGE_PX = 58, 16, 16
"""How wide a field is at the least and, for a long value, at the most, and what its edges take."""
"""How many letters of a choice a box shows at the least, where its choices have so many."""


class Entering:
    """Which field is handing its value over just now, so that it can be told when the value is refused."""

    now: ClassVar[Field | None] = None

    @classmethod
    def hand_over(cls, field: Field, value: object) -> bool:
        """Let a field's value be entered; return whether it was taken."""
        before, cls.now, field.is_refused = cls.now, field, False
        try:
            field.entered.emit(field.path, value)
        finally:
            cls.now = before
        return not field.is_refused

    @classmethod
    def refuse(cls) -> None:
        """Tell the field that is handing its value over that it was not taken."""
        if cls.now is not None:
            cls.now.is_refused = True
            cls.now.show_refused()


class ValueField(QLineEdit):
    """A number with a unit, a whole number, or a text. ``entered`` carries the path and the value, None for empty.

    What cannot be read, or is refused, stays in the field, marked, and ``refused`` says why; Esc brings the document's
    value back.
    """

    entered = pyqtSignal(tuple, object)
    refused = pyqtSignal(str)
    _pressed_enter = False
    _finishing = False
    is_refused = False

    def __init__(self, path: DocumentPath, name: str, unit: str = "", kind: str = "number") -> None:
        super().__init__()
        self.path, self.unit, self.kind = path, unit, kind
        self._shown = ""
        self._assumed, self._origin = False, ""
        self._name = name
        self.setAccessibleName(f"{name} in {unit}" if unit else name)
        if kind not in ("text", "list"):
            self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.editingFinished.connect(self.finish)
        if kind not in ("text", "list"):
            self.textEdited.connect(self._show_understood)

    def _show_understood(self, text: str) -> None:
        """Show beside the field what a sum comes to, or what a value is in the field's own unit."""
        words = understood(text, self.unit)
        if words:
            QToolTip.showText(self.mapToGlobal(QPoint(0, self.height())), words, self)
        elif QToolTip.isVisible():
            QToolTip.hideText()

    def show_value(self, value: object) -> None:
        """Show the document's value, unless another is being typed or stands there refused."""
        if isinstance(value, tuple):
            value = ", ".join(entry if isinstance(entry, str) else short(entry) for entry in value)
        if isinstance(value, bool):
            value = "yes" if value else "no"
        text = "" if value is None else value if isinstance(value, str) else short(float(str(value)), SHOWN_DECIMALS)
        typing = bool(self.property("invalid")) or (self.hasFocus() and self.isModified())
        if text == self._shown and (typing or self.text() == text):
            return
        self._shown = str(text)
        self.setText(self._shown)
        self.setCursorPosition(0)
        self.mark(False)
        self._fit()

    def _fit(self) -> None:
        """Be at least as wide as the value is, in whole text heights, so that one digit more moves nothing."""
        em = self.fontInfo().pixelSize()
        ems = -(-(self.fontMetrics().horizontalAdvance(self._shown) + EDGE_PX) // em)
        least = max(LEAST_PX, min(ems, WIDEST_EM) * em)
        if least != self.minimumWidth():
            self.setMinimumWidth(least)

    def changeEvent(self, a0: QEvent | None) -> None:
        super().changeEvent(a0)
        if a0 is not None and a0.type() == QEvent.Type.FontChange:
            self._fit()

    def show_mark(self, *, assumed: bool = False, origin: str = "") -> None:
        """Show whether nobody gave the value (grey, dashed; Enter takes it as given), or where it was drafted from."""
        if (assumed, origin) == (self._assumed, self._origin):
            return
        turned = assumed != self._assumed
        self._assumed, self._origin = assumed, origin
        text = "Assumed, not entered. Type it, or press Enter to confirm it" if assumed else ""
        self.setToolTip(tip(text or (f"From {origin}" if origin else "")))
        self.setAccessibleDescription("assumed, not given" if assumed else origin)
        if turned:
            self.setProperty("assumed", assumed)
            style = self.style()
            if style is not None:
                style.polish(self)

    def mark(self, invalid: bool) -> None:
        """Mark the field as refused, or take the mark away."""
        if bool(self.property("invalid")) != invalid:
            self.setProperty("invalid", invalid)
            style = self.style()
            if style is not None:
                style.polish(self)

    def show_refused(self) -> None:
        """Show that the value was not taken: it stays to be corrected."""
        self.mark(True)

    def finish(self) -> bool:
        """Take what is typed as entered; return whether it was, or nothing was typed."""
        if self._finishing:
            return True
        is_meant = self._assumed and bool(self._shown) and (self._pressed_enter or self.isModified())
        self._pressed_enter = False
        if self.text() == self._shown and not is_meant:
            self.mark(False)
            return True
        try:
            value = self._value()
        except ValueError as error:
            self.mark(True)
            self.refused.emit(str(error))
            return False
        self.mark(False)
        self._finishing = True
        try:
            return Entering.hand_over(self, value)
        finally:
            self._finishing = False

    def event(self, a0: QEvent | None) -> bool:
        """Leave undo and redo to the document while nothing is typed here."""
        if (
            isinstance(a0, QKeyEvent)
            and a0.type() == QEvent.Type.ShortcutOverride
            and self.text() == self._shown
            and (a0.matches(QKeySequence.StandardKey.Undo) or a0.matches(QKeySequence.StandardKey.Redo))
        ):
            a0.ignore()
            return False
        return super().event(a0)

    def _value(self) -> float | int | str | list[str] | None:
        if self.kind == "text":
            return self.text().strip() or None
        if self.kind == "list":
            return [part.strip() for part in self.text().split(",") if part.strip()] or None
        value = parse_number(self.text(), self.unit)
        if self.kind == "whole" and value is not None:
            if value != int(value):
                raise ValueError(f"“{self.text()}” is not a whole number")
            return int(value)
        return value

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape and self.text() != self._shown:
            self.setText(self._shown)
            self.selectAll()
            self.mark(False)
            return
        self._pressed_enter = a0 is not None and a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        super().keyPressEvent(a0)


class ChoiceField(QComboBox):
    """One of a few words; ``entered`` carries the path and the word."""

    entered = pyqtSignal(tuple, object)
    is_refused = False
    _shown: object = None

    def __init__(self, path: DocumentPath, name: str, choices: tuple[str, ...], *, optional: bool = False) -> None:
        super().__init__()
        self.path = path
        self.setAccessibleName(name)
        if optional:
            self.addItem("–", None)
        for choice in choices:
            self.addItem(plain(choice.replace("_", " ")), choice)
        self.activated.connect(lambda _: Entering.hand_over(self, self.currentData()))
        widest = max((len(choice) for choice in choices), default=4)
        self.setMinimumContentsLength(min(max(widest, 4), WIDEST_CHOICE))
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)

    def show_value(self, value: object) -> None:
        """Show the document's value."""
        self._shown = value
        self.setCurrentIndex(max(self.findData(value), 0))

    def show_refused(self) -> None:
        """Show the document's value again: the choice was not taken."""
        self.show_value(self._shown)


class TruthField(ChoiceField):
    """Yes, no, or not stated; ``entered`` carries the path and the truth value."""

    def __init__(self, path: DocumentPath, name: str) -> None:
        super().__init__(path, name, (), optional=True)
        self.addItem("yes", True)
        self.addItem("no", False)

    def show_value(self, value: object) -> None:
        """Show the document's value."""
        self._shown = value
        self.setCurrentIndex(0 if value is None else 1 if value else 2)


class TickField(QCheckBox):
    """Yes or no; ``entered`` carries the path and the truth value."""

    entered = pyqtSignal(tuple, object)
    is_refused = False
    _shown: object = None

    def __init__(self, path: DocumentPath, name: str) -> None:
        super().__init__()
        self.path = path
        self.setAccessibleName(name)
        self.clicked.connect(lambda on: Entering.hand_over(self, on))

    def show_value(self, value: object) -> None:
        """Show the document's value."""
        self._shown = value
        self.setChecked(bool(value))

    def show_refused(self) -> None:
        """Show the document's value again: the tick was not taken."""
        self.show_value(self._shown)


Field = ValueField | ChoiceField | TickField


def is_text_input(widget: QWidget | None) -> bool:
    """Return whether a widget takes typed text, so that single keys belong to it."""
    return isinstance(widget, (QLineEdit, QComboBox))


def is_edited_text(widget: QWidget | None) -> bool:
    """Return whether keys that change a text, such as Ctrl+Del, belong to a widget."""
    return isinstance(widget, (QLineEdit, QTextEdit, QPlainTextEdit, QAbstractSpinBox)) or (
        isinstance(widget, QComboBox) and widget.isEditable()
    )
