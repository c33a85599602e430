"""A field with its label beside it, for the rows above a sheet's tables."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.plain_widgets import PlainLabel

FIELD_EM, EDGE_PX = 6, 16


def fitting(field: QLineEdit, *texts: str) -> int:
    """Return the width in px at which a field shows texts whole."""
    return max(FIELD_EM * field.fontInfo().pixelSize(), *map(field.fontMetrics().horizontalAdvance, texts)) + EDGE_PX


def labelled_field(name: str, hint: str, tip: str, row: FlowRow, text: str = "") -> QLineEdit:
    """Return a field that was put into a row, with its label before it.

    Parameters
    ----------
    name, hint, tip
        The label, what stands in the empty field, and what is told on pointing at it.
    row
        Where to put it.
    text
        What it holds.

    Returns
    -------
    QLineEdit
        The field.
    """
    holder = QWidget()
    line = QHBoxLayout(holder)
    line.setContentsMargins(0, 0, 0, 0)
    label, field = PlainLabel(name), QLineEdit(text)
    field.setAccessibleName(name)
    field.setToolTip(tip)
    field.setPlaceholderText(hint)
    field.setMinimumWidth(fitting(field, hint, text))
    label.setBuddy(field)
    line.addWidget(label)
    line.addWidget(field)
    row.addWidget(holder)
    return field
