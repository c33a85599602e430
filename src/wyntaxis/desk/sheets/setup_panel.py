"""Set-up and the conditions of the imager's own: begun with one button, ticked one by one, listed to be edited."""

from __future__ import annotations

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.records.setting_up import done, started
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.out_of_date import from_earlier_setup
from wyntaxis.core.rig.setup import OwnCondition, Setup, usual_conditions
from wyntaxis.core.wording import counted, moment
from wyntaxis.desk.card import Card
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.rows_editor import RowsEditor
from wyntaxis.desk.session import Session


class SetupPanel(Panel):
    """Whether the rig is carried, since when it is set up, and the imager's own conditions."""

    def __init__(self, session: Session) -> None:
        super().__init__("Set-up, and conditions of your own")
        self._session = session
        self.state = self.add_text()
        self.card = Card(1)
        self.card.entered.connect(session.set_value)
        self.card.refused.connect(session.refused)
        self.column.addWidget(self.card)
        row = FlowRow()
        tip = "Begin a dated set-up: what holds for one only is not verified until it is measured or confirmed again"
        self.start_button = push_button("Begin a set-up", tip, self.start, row)
        tip = "Add levelled, balanced, dust cap off and others, all to be edited"
        self.usual_button = push_button("Add the usual conditions", tip, self.add_usual, row)
        self.column.addLayout(row)
        self.conditions = RowsEditor(
            session, "Conditions of your own", displayed_fields(OwnCondition), "condition", self._fresh
        )
        self.column.addWidget(self.conditions)

    def refresh(self) -> None:
        """Show how the rig stands now."""
        rig = self._session.rig
        setup, again = rig.setup, from_earlier_setup(rig)
        if setup is None:
            text = (
                "Is the rig permanent, left outside under a cover, or carried and set up each time? What holds for one "
                "set-up is then dated."
            )
        elif setup.kind == "permanent":
            text = "The rig stands permanently: what was measured holds until something of it changes."
        elif setup.kind == "covered":
            text = "The rig stays outside under a cover: what was measured holds until something of it changes."
        elif setup.date is None:
            text = "The rig is carried. Begin a set-up when it stands."
        else:
            left = f"{counted(len(again), 'value')} of earlier set-ups not verified"
            text = f"Set up since {moment(setup.date)} UTC; {left}."
        self.state.setText(text)
        self.card.show_object("How the rig stands", ("setup",), displayed_fields(Setup), rig)
        self.start_button.setEnabled(setup is None or setup.kind == "carried")
        have = {own.id for own in rig.conditions}
        self.usual_button.setEnabled(any(own.id not in have for own in usual_conditions(setup)))
        self.conditions.show_list("Conditions of your own", ("conditions",), len(rig.conditions), rig)

    def start(self) -> None:
        """Begin a set-up now."""
        self._session.apply(started(self._session.rig))

    def tick(self, condition_id: str) -> None:
        """Tick a condition now."""
        self._session.apply(done(self._session.rig, condition_id))

    def add_usual(self) -> None:
        """Add the usual conditions that the list lacks."""
        have = {own.id for own in self._session.rig.conditions}
        lacking = [own for own in usual_conditions(self._session.rig.setup) if own.id not in have]
        values = [own.model_dump(mode="json", exclude_unset=True) for own in (*self._session.rig.conditions, *lacking)]
        self._session.set_value(("conditions",), values, "Add the usual conditions")

    def _fresh(self) -> JsonObject:
        have = {own.id for own in self._session.rig.conditions}
        own_id = next(name for k in range(1, 300) if (name := f"condition-{k}") not in have)
        return {"id": own_id, "text": "condition"}
