"""Where the keyboard goes: into the sheet's first field, or onto the picture of the drawing area."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QAbstractScrollArea, QComboBox, QLineEdit, QTextEdit, QWidget


def first_field(page: QWidget) -> QWidget | None:
    """Return the first thing of a page that takes what is typed: a field or a table, else any control.

    Parameters
    ----------
    page
        A sheet, or another page, as it is shown.

    Returns
    -------
    QWidget or None
        In the order of the Tab key; None where the page has nothing for the keyboard.
    """
    order: list[QWidget] = []
    widget = page.nextInFocusChain()
    while widget is not None and widget is not page and len(order) < MOST_WIDGETS:
        if page.isAncestorOf(widget) and _takes_keys(widget):
            order.append(widget)
        widget = widget.nextInFocusChain()
    fields = [own for own in order if isinstance(own, (QLineEdit, QComboBox, QAbstractItemView))]
    return next(iter(fields or order), None)


MOST_WIDGETS = 5000
"""However many a page has, the search ends."""


def _takes_keys(widget: QWidget) -> bool:
    if isinstance(widget, QTextEdit) or type(widget) is QAbstractScrollArea:
        return False  # what can only be read
    return widget.isVisible() and widget.isEnabled() and bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus)


def give_keyboard(page: QWidget | None) -> bool:
    """Put the keyboard into a page's first field; return whether it has one."""
    if page is None:
        return False
    field = first_field(page)
    if field is None:
        page.setFocus(Qt.FocusReason.ShortcutFocusReason)  # and its keys scroll it
        return False
    field.setFocus(Qt.FocusReason.ShortcutFocusReason)
    if isinstance(field, QAbstractItemView) and not field.currentIndex().isValid():
        model = field.model()
        if model is not None and model.rowCount():
            field.setCurrentIndex(model.index(0, 0))
    return True
