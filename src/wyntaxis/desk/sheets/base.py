"""What every sheet has: a heading, columns that scroll, and ledger rows that follow the session."""

from __future__ import annotations

import importlib
import importlib.util
from collections.abc import Callable
from typing import TYPE_CHECKING, Literal

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.ledger import Quantity
from wyntaxis.core.quantities.rows import step_rows, told_once
from wyntaxis.core.steps import Step
from wyntaxis.desk import sheets
from wyntaxis.desk.card import EDGES_PX, Card, value_at
from wyntaxis.desk.ledger_row import LEGEND, LedgerRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session

if TYPE_CHECKING:
    from wyntaxis.desk.drawing_area import DrawingArea

LEDGER_WIDTH_EM = 25
TWO_COLUMNS_FROM_EM = 52
"""A sheet narrower than this many text heights puts its columns under one another."""


class LedgerList(QWidget):
    """The ledger rows of one step."""

    quantity_chosen = pyqtSignal(str)

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__()
        self._session = session
        self._chosen: str | None = None
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(0)
        self._columns = 1
        self._step, self._palette = step, palette
        self.rows: dict[str, LedgerRow] = {}
        self._legend = PlainLabel(LEGEND)
        self._legend.setProperty("role", "faded")
        self._legend.setWordWrap(True)
        self.refresh()

    def set_columns(self, columns: int) -> None:
        """Lay the rows out in so many columns, read down each column first."""
        if columns != self._columns:
            self._columns = columns
            self._lay_out()

    def _lay_out(self) -> None:
        rows, columns = list(self.rows.values()), self._columns
        for widget in (*rows, self._legend):
            self._grid.removeWidget(widget)
        per_column = -(-len(rows) // columns)
        for index, row in enumerate(rows):
            self._grid.addWidget(row, index % per_column, index // per_column, Qt.AlignmentFlag.AlignTop)
        self._grid.addWidget(self._legend, per_column, 0, 1, columns)
        for column in range(2):
            self._grid.setColumnStretch(column, 1 if column < columns else 0)

    def refresh(self) -> None:
        """Show every row as it stands now; rows of devices and other things come and go with them."""
        shown = {row.id: row for row in told_once(step_rows(self._session.evaluation.rows, self._step))}
        if list(shown) != list(self.rows):
            self._change_rows(shown)
        for key, row in self.rows.items():
            row.show_quantity(shown[key], self._values(key))

    def _change_rows(self, shown: dict[str, Quantity]) -> None:
        for key in [key for key in self.rows if key not in shown]:
            row = self.rows.pop(key)
            self._grid.removeWidget(row)
            row.hide()
            row.deleteLater()
            self._chosen = None if key == self._chosen else self._chosen
        self.rows = {key: self.rows.get(key) or self._new_row(quantity) for key, quantity in shown.items()}
        self._lay_out()
        if self.parent() is not None or not self.rows:  # without a parent it would be a window of its own
            self.setVisible(bool(self.rows))

    def _new_row(self, quantity: Quantity) -> LedgerRow:
        row = LedgerRow(quantity, self._palette)
        row.chosen.connect(self._row_chosen)
        row.value_entered.connect(self._session.set_value)
        return row

    def set_palette(self, palette: Palette) -> None:
        self._palette = palette
        for row in self.rows.values():
            row.scale.palette_in_use = palette

    def _row_chosen(self, quantity_id: str) -> None:
        if quantity_id not in self.rows:
            return  # it went while its sheet was out of sight, and had the keyboard
        if self._chosen != quantity_id:
            if self._chosen in self.rows:
                self.rows[self._chosen].set_chosen(False, {})
            self.rows[quantity_id].set_chosen(True, self._values(quantity_id))
            self._chosen = quantity_id
            for field in self.rows[quantity_id].fields():
                field.refused.connect(self._session.refused)
        self.quantity_chosen.emit(quantity_id)

    def _values(self, quantity_id: str) -> dict[tuple[str, ...], float | str | None]:
        keys = (("stated", "tolerance"), ("measured", "standard_uncertainty"))
        values: dict[tuple[str, ...], float | str | None] = {}
        for section, spread in keys:
            for key in ("value", spread, "source"):
                values[section, quantity_id, key] = value_at(self._session.rig, (section, quantity_id, key))
        return values


def sheet_of(step: Step) -> Callable[[type[StepSheet]], type[StepSheet]]:
    """Declare a class as the sheet of a step; its module bears the step's key."""

    def declare(sheet: type[StepSheet]) -> type[StepSheet]:
        _sheets[step.key] = sheet
        return sheet

    return declare


def make_sheet(session: Session, step: Step, palette: Palette) -> StepSheet:
    """Return the sheet of a step, its module imported when it is first asked for; without one, its ledger alone."""
    module = f"{sheets.__name__}.{step.key}"
    if step.key not in _sheets and importlib.util.find_spec(module) is not None:
        importlib.import_module(module)
    return _sheets.get(step.key, StepSheet)(session, step, palette)


class StepSheet(QScrollArea):
    """One step's sheet: heading, wide inputs, ledger, other inputs.

    The ledger stands beside the inputs, or across the sheet in two columns: above them, or at its foot; in a narrow
    sheet all stand under one another. ``step_asked`` carries the key of another step that is to be shown.
    """

    step_asked = pyqtSignal(str)

    def __init__(
        self, session: Session, step: Step, palette: Palette, *, ledger: Literal["beside", "above", "foot"] = "beside"
    ) -> None:
        super().__init__()
        self._ledger_place = ledger
        self.session, self.step = session, step
        self.setWidgetResizable(True)
        self._body = QWidget()
        self._grid = QGridLayout(self._body)
        self._grid.setContentsMargins(12, 8, 12, 10)
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(8)
        heading = PlainLabel(step.title)
        heading.setProperty("role", "title")
        purpose = PlainLabel(step.purpose)
        purpose.setProperty("role", "faded")
        purpose.setWordWrap(True)
        top = QVBoxLayout()
        top.setSpacing(1)
        top.addWidget(heading)
        top.addWidget(purpose)
        self._grid.addLayout(top, 0, 0, 1, 2)
        self.ledger = LedgerList(session, step, palette)
        self.ledger.quantity_chosen.connect(session.choose_finding_of)
        self._wide: list[QWidget] = []
        self._below: list[QWidget] = []
        self._inputs = QWidget()
        self.inputs = QVBoxLayout(self._inputs)
        self.inputs.setContentsMargins(0, 0, 0, 0)
        self.inputs.setSpacing(8)
        self._cards: list[Card] = []
        self._two_columns: bool | None = None
        self.setWidget(self._body)
        self.setAccessibleName(f"Sheet: {step.title}")

    def add_wide(self, widget: QWidget) -> None:
        """Put a widget across both columns, above them."""
        self._wide.append(widget)
        self._grid.addWidget(widget, len(self._wide), 0, 1, 2)

    def add_wide_column(self) -> QVBoxLayout:
        """Put a column for widgets across both columns, and return it."""
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.add_wide(body)
        return column

    def add_below(self, widget: QWidget) -> None:
        """Put a widget across both columns, below everything."""
        widget.setParent(self._body)
        self._below.append(widget)
        self._two_columns = None

    def add_card(self, columns: int) -> Card:
        """Put a card of fields below the other inputs."""
        card = Card(columns)
        card.entered.connect(self.session.set_value)
        card.refused.connect(self.session.refused)
        self.inputs.addWidget(card)
        self._cards.append(card)
        return card

    def arrange(self) -> None:
        """Lay inputs and ledger side by side, or under one another where the sheet is narrow."""
        viewport = self.viewport()
        width = viewport.width() if viewport is not None else self.width()
        two = width >= TWO_COLUMNS_FROM_EM * self.fontInfo().pixelSize()
        own = width if self._ledger_place != "beside" or not two else width // 2
        for card in self.findChildren(Card):
            card.fit_to_width(own if card in self._cards else width - EDGES_PX)
        if two == self._two_columns:
            return
        self._two_columns = two
        row = len(self._wide) + 1
        self._grid.removeWidget(self._inputs)
        self._grid.removeWidget(self.ledger)
        for widget in self._below:
            self._grid.removeWidget(widget)
        for old in range(row, row + 5 + len(self._below)):
            self._grid.setRowStretch(old, 0)
        self._grid.setColumnMinimumWidth(1, 0)
        foot = row + 2 + len(self._below)
        if self._ledger_place != "beside":
            self.ledger.set_columns(2 if two else 1)
            self._grid.addWidget(self.ledger, row if self._ledger_place == "above" else foot, 0, 1, 2)
            self._grid.addWidget(self._inputs, row + 1, 0, 1, 2)
        elif two:
            self._grid.addWidget(self._inputs, row, 0, Qt.AlignmentFlag.AlignTop)
            self._grid.addWidget(self.ledger, row, 1)
            self._grid.setColumnStretch(0, 5)
            self._grid.setColumnStretch(1, 6)
            self._grid.setColumnMinimumWidth(1, LEDGER_WIDTH_EM * self.fontInfo().pixelSize())
        else:
            self._grid.addWidget(self.ledger, row, 0, 1, 2)
            self._grid.addWidget(self._inputs, row + 1, 0, 1, 2)
        for place, widget in enumerate(self._below, start=row + 2):
            self._grid.addWidget(widget, place, 0, 1, 2)
        self._grid.setRowStretch(foot + 1, 1)

    def resizeEvent(self, a0: object) -> None:
        super().resizeEvent(a0)  # type: ignore[arg-type]
        self.arrange()

    def use_drawing(self, drawing: DrawingArea) -> None:
        """Take the window's drawing area for the step's own picture; most steps have none there."""

    def refresh(self) -> None:
        """Show the rig as it stands now."""
        self.ledger.refresh()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.ledger.set_palette(palette)

    def fit_to_font(self) -> None:
        """Lay out anew after the text size has changed."""
        self.ensurePolished()
        self._two_columns = None
        self.arrange()


_sheets: dict[str, type[StepSheet]] = {}
