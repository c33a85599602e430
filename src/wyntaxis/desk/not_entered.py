"""The list “Not given yet”: every value that nobody gave, each in a field to give it."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout

from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.core.rig.marks import MarkedField, marked_field
from wyntaxis.desk.card import make_field
from wyntaxis.desk.panel import GridPanel
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.value_field import Field, ValueField

MAX_LISTED = 60


class NotEnteredPanel(GridPanel):
    """Lists what is assumed of the rig shown; typing a value, the same one too, clears its mark."""

    def __init__(self, session: Session) -> None:
        super().__init__("Not given yet")
        self._session = session
        self._listed: tuple[str, ...] | None = None
        self.fields: dict[str, Field] = {}
        self.words = self.add_text()
        self.words.setProperty("role", "faded")
        self.refresh()

    def refresh(self) -> None:
        """Show what is still assumed; fields are kept while the list is the same."""
        rig = self._session.rig
        listed = rig.assumed[:MAX_LISTED]
        marked = {text: marked_field(rig, text) for text in listed}
        if listed != self._listed:
            self._listed = listed
            self._build(marked)
        for text, mark in marked.items():
            field = self.fields[text]
            field.show_value(mark.value)
            if isinstance(field, ValueField):
                field.show_mark(assumed=True)
        more = len(rig.assumed) - len(listed)
        self.words.setText(
            f"Enter these values to get verdicts on what depends on them.{f' {more} more follow.' if more else ''}"
            if listed
            else "Every value of this rig is entered."
        )

    def _build(self, marked: dict[str, MarkedField]) -> None:
        grid: QGridLayout = self.fresh_grid()
        self.fields = {}
        grid.setColumnStretch(2, 1)
        for row, (text, mark) in enumerate(marked.items()):
            title = f"{mark.title}, {mark.unit}" if mark.unit else mark.title
            label = PlainLabel(title)
            spec = DisplayedField(mark.label, mark.path, mark.unit, mark.form, mark.choices, optional=False)
            field = make_field(spec, (), self._session.refused.emit)
            field.setAccessibleName(title)
            field.setMaximumWidth(round(9 * self.fontInfo().pixelSize()))
            field.entered.connect(
                lambda path, value, name=mark.title: self._session.set_value(path, value, f"Give {name}")
            )
            label.setBuddy(field)
            self.fields[text] = field
            grid.addWidget(label, row, 0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(field, row, 1)
