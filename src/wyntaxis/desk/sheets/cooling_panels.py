"""Panels of the Cooling sheet: which column of a log holds what, and the ramp designer."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QWidget

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, CoolingLog
from wyntaxis.core.evidence.cooling.ramp import Ramp, RampInputs, design_both, kept_model, ramp_words, usual_inputs
from wyntaxis.core.wording import short
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.panel import Panel, SideScroll
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session

if TYPE_CHECKING:
    from wyntaxis.desk.plots_cooling import RampPlot


class RampPanel(Panel):
    """Designs a staged ramp down and the warm-up, from the model and what is typed."""

    FIELDS = (
        ("ambient_c", "Ambient", "°C"),
        ("target_c", "Set temperature", "°C"),
        ("minutes_down", "Down in", "min"),
        ("minutes_up", "Up in", "min"),
        ("step_c", "Step", "°C"),
        ("others_w", "Rest of the rig draws", "W"),
    )

    designed = pyqtSignal()
    """Other ramps have been designed."""

    def __init__(self, session: Session) -> None:
        super().__init__("Ramp designer")
        self._session = session
        self._palette = DAY
        self._model: CoolerModel | None = None
        self.ramps: list[tuple[str, Ramp]] = []
        self.fields: dict[str, QLineEdit] = {}
        holder = QWidget()
        holder.setProperty("role", "card")
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        for index, (key, name, unit) in enumerate(self.FIELDS):
            field = QLineEdit()
            field.setAccessibleName(f"{name} in {unit}")
            field.setMinimumWidth(5 * holder.fontInfo().pixelSize())
            field.editingFinished.connect(self.design)
            label = PlainLabel(f"{name}, {unit}")
            label.setBuddy(field)
            row, column = index // 3, 2 * (index % 3)
            grid.addWidget(label, row, column)
            grid.addWidget(field, row, column + 1)
            self.fields[key] = field
        self.column.addWidget(SideScroll(holder, self.heading.text()))
        self.words = self.add_text()

    def draw(self, plot: RampPlot) -> None:
        """Draw the ramps that were designed."""
        plot.show_ramps(self.ramps, self._palette)

    def show_for(self, model: CoolerModel | None, logs: list[CoolingLog], palette: Palette) -> None:
        """Design for a model, or for the one that the rig has kept; fields that were not typed follow the rig."""
        self._palette = palette
        self._model = model or kept_model(self._session.rig)
        usual = usual_inputs(self._session.rig, logs)
        for key, field in self.fields.items():
            if not field.isModified() and not field.hasFocus():
                field.setText(short(getattr(usual, key), 1))
        self.design()

    def design(self) -> None:
        """Design the ramps that the fields ask for."""
        self.ramps = []
        if self._model is None:
            self.words.setText("A run whose power is logged gives the model that the ramp is designed from.")
        else:
            try:
                asked = RampInputs(**{key: self._number(key, name, unit) for key, name, unit in self.FIELDS})
                down, up = design_both(self._model, self._session.rig, asked)
            except ValueError as error:
                self.words.setText(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            else:
                self.ramps = [("down", down), ("up", up)]
                self.words.setText("\n".join(ramp_words(down, up)))
        self.designed.emit()

    def _number(self, key: str, name: str, unit: str) -> float:
        value = parse_number(self.fields[key].text(), unit)
        if value is None:
            raise ValueError(f"“{name}” is empty: type it in {unit}")
        return value
