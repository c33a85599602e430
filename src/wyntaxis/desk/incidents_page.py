"""The incidents of the rig: what went wrong, what was tried, what cured it; narrowed by words, edited in a card."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QComboBox, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.records.incidents import matching, title_of
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.incidents import SYMPTOMS, Incident
from wyntaxis.core.steps import steps
from wyntaxis.core.wording import counted, utc_stamp
from wyntaxis.desk.card import EDGES_PX, Card
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

HEADINGS = ("Date", "Of", "Symptom", "Tried", "Cure", "Frames\nlost")


class IncidentsPage(QScrollArea):
    """The table of incidents, the newest first; the chosen one's card below it."""

    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self.shown: list[tuple[int, Incident]] = []
        """The incidents in the table, each with its place in the rig."""
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(12, 8, 12, 10)
        heading = PlainLabel("Incidents")
        heading.setProperty("role", "title")
        hint = PlainLabel(
            "What failed, what was tried and what cured it: findings about the same device show it again."
        )
        hint.setProperty("role", "faded")
        hint.setWordWrap(True)
        fields = FlowRow()
        self.words, self.symptom_box = QLineEdit(), QComboBox()
        self.words.setPlaceholderText("device, symptom or cure")
        self.words.setAccessibleName("Words that the incidents shown hold")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda _text: self._narrow())
        self.symptom_box.setAccessibleName("Symptom of a new incident")
        self.symptom_box.addItems(SYMPTOMS)
        fields.addWidget(self.words)
        fields.addWidget(self.symptom_box)
        push_button("Note an incident", "Add an incident of today with this symptom", self.add, fields)
        self.out_button = push_button("Take out", "Take the chosen incident out of the rig", self.take_out, fields)
        self.state = PlainLabel()
        self.state.setProperty("role", "faded")
        self.table = TextTable("Incidents", HEADINGS, left=(0, 1, 2, 3, 4), stretch=4, widest_em=14)
        self.table.itemSelectionChanged.connect(self._show_card)
        self.card = Card(2)
        column.addWidget(heading)
        column.addWidget(hint)
        column.addLayout(fields)
        for below in (self.state, self.table, self.card):
            column.addWidget(below)
        column.addStretch(1)
        self.setWidget(body)
        self.setWidgetResizable(True)

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        viewport = self.viewport()
        if viewport is not None:
            self.card.fit_to_width(viewport.width() - EDGES_PX)

    def show_session(self, session: Session, palette: Palette) -> None:
        """Show the incidents of a session's rig as it is now."""
        if session is not self._session:
            self._session = session
            self.card.entered.connect(session.set_value)
            self.card.refused.connect(session.refused)
        self._palette = palette
        self._narrow()

    def _narrow(self) -> None:
        """Show the incidents that hold the words."""
        if self._session is None:
            return
        rig, chosen = self._session.rig, self.chosen
        found = matching(rig, [self.words.text()])
        self.shown = [(next(k for k, own in enumerate(rig.incidents) if own is one), one) for one in found]
        rows = [
            [
                own.date[:16].replace("T", " "),
                title_of(rig, own) or "–",
                own.symptom,
                own.tried or "–",
                own.cure or "–",
                "–" if own.frames_lost is None else str(own.frames_lost),
            ]
            for _, own in self.shown
        ]
        self.table.blockSignals(True)
        self.table.show_rows(rows, palette=self._palette)
        places = [place for place, _ in self.shown]
        self.table.setCurrentCell(places.index(chosen) if chosen in places else -1, 0)
        self.table.blockSignals(False)
        self.state.setText(
            f"{len(rows)} of {counted(len(rig.incidents), 'incident')}." if rig.incidents else "None noted yet."
        )
        self.table.setVisible(bool(rows))
        self._show_card()

    @property
    def chosen(self) -> int | None:
        """The place in the rig of the incident chosen in the table."""
        row = self.table.currentRow()
        return self.shown[row][0] if 0 <= row < len(self.shown) else None

    def _show_card(self) -> None:
        place = self.chosen
        self.card.setVisible(place is not None)
        self.out_button.setEnabled(place is not None)
        if place is None or self._session is None:
            return
        rig = self._session.rig
        choices = {
            "device": tuple(device.id for device in rig.devices),
            "program": tuple(program.id for program in rig.programs),
            "step": tuple(step.key for step in steps()),
        }
        fields = tuple(
            field.with_choices(choices[str(field.path[0])]) if field.path[0] in choices else field
            for field in displayed_fields(Incident, rig.incidents[place])
        )
        title = f"Incident of {rig.incidents[place].date}"
        self.card.show_object(title, ("incidents", place), fields, rig)

    def add(self) -> None:
        """Note an incident of now, with the symptom that is chosen."""
        if self._session is None:
            return
        rig = self._session.rig
        entry: JsonObject = {"date": utc_stamp(), "symptom": self.symptom_box.currentText()}
        self.words.clear()
        if self._session.set_value(("incidents", len(rig.incidents)), entry, "Note an incident"):
            self._narrow()
            self.table.setCurrentCell(0, 0)
            self.card.field("device").setFocus()

    def take_out(self) -> None:
        """Take the chosen incident out."""
        place = self.chosen
        if place is not None and self._session is not None:
            self._session.set_value(("incidents", place), None, "Take an incident out")
            self._narrow()
