"""The steps of the plan: chosen in the timeline or in their table, edited in a card, moved, put in and taken out."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.night_plan import NightStep
from wyntaxis.core.wording import short
from wyntaxis.desk.card import Card
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

STEP_HEADINGS = (
    "step",
    "filter",
    "frames",
    "limit\ns",
    "attempts",
    "pause\ns",
    "reconnects",
    "then",
    "block",
    "times",
    "until\nUTC",
)


class PlanSteps(QWidget):
    """The chosen step's card, with what moves it; ``section`` holds the table of all steps, ``shown`` the choice."""

    shown = pyqtSignal(int)

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self._session, self._palette = session, palette
        self._place = -1
        self.section = CollapsibleSection("The plan's steps", self._build_table, self._show_table)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.card = Card(3)
        self.card.entered.connect(session.set_value)
        self.card.refused.connect(session.refused)
        column.addWidget(self.card)
        row = FlowRow()
        for text, tip, work in (
            ("Earlier", "Move the step before the one ahead of it (Alt+Left)", lambda: self.move_step(-1)),
            ("Later", "Move the step behind the next one (Alt+Right)", lambda: self.move_step(1)),
            ("Add a step", "Put a step in behind it (Insert)", self.add_step),
            ("Take out", "Take the step out of the plan (Delete)", lambda: self.move_step(0)),
            ("Done", "Choose no step", lambda: self.choose_step(-1)),
        ):
            push_button(text, tip, work, row)
        column.addLayout(row)
        self.hide()

    def refresh(self) -> None:
        """Show the plan as it is now."""
        self.section.setVisible(bool(self.steps))
        self.section.refresh()
        self._place = min(self._place, len(self.steps) - 1)
        self._show_step()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette, with the next :meth:`refresh`."""
        self._palette = palette

    def _build_table(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = TextTable("Steps of the plan", STEP_HEADINGS, left=(0, 1, 6, 7, 8, 10), widest_em=14)
        self.table.itemSelectionChanged.connect(lambda: self.choose_step(self.table.currentRow()))
        column.addWidget(self.table)
        return holder

    def choose_step(self, place: int) -> None:
        """Choose a step of the plan, in the timeline and in the table; none for -1."""
        if place >= 0 and not self.steps:
            self._session.refused.emit("Draft a plan first: the simulated steps are those that would be drafted")
            return
        self._place = place if place < len(self.steps) else -1
        self._show_step()

    @property
    def steps(self) -> tuple[NightStep, ...]:
        """The steps of the rig's own plan; none where it would be drafted."""
        plan = self._session.rig.plan
        return plan.steps if plan is not None else ()

    def _show_table(self) -> None:
        rows = [
            [
                step.do.replace("_", " "),
                step.filter or "–",
                str(step.frames) if step.frames is not None else "–",
                short(step.limit_s) if step.limit_s is not None else "none",
                str(step.attempts),
                short(step.pause_s) if step.pause_s else "–",
                "yes" if step.reconnect else "no",
                step.then.replace("_", " "),
                step.block or "–",
                str(step.repeat) if step.repeat is not None else "–",
                step.until or "–",
            ]
            for step in self.steps
        ]
        self.table.blockSignals(True)
        self.table.show_rows(rows, palette=self._palette)
        self.table.blockSignals(False)

    def _show_step(self) -> None:
        """Show the chosen step wherever it stands."""
        place, steps = self._place, self.steps
        self.shown.emit(place)
        if self.section.opened:
            self.table.blockSignals(True)
            self.table.setCurrentCell(place, 0)
            self.table.blockSignals(False)
        self.setVisible(0 <= place < len(steps))
        if 0 <= place < len(steps):
            title = f"Step {place + 1} of {len(steps)}: {steps[place].do.replace('_', ' ')}"
            base = ("plan", "steps", place)
            self.card.show_object(title, base, displayed_fields(NightStep, steps[place]), self._session.rig)

    def _change_steps(self, steps: list[NightStep], label: str) -> None:
        entries = [step.model_dump(mode="json", exclude_unset=True) for step in steps]
        self._session.set_value(("plan", "steps"), entries or None, label)

    def add_step(self) -> None:
        """Put a step in behind the chosen one."""
        steps, place = list(self.steps), self._place
        at = place + 1 if 0 <= place < len(steps) else len(steps)
        if not steps:
            self._session.refused.emit("draft a plan first: then steps can be put in")
            return
        steps.insert(at, NightStep(do="focus", limit_s=900.0, attempts=2))
        self._place = at
        self._change_steps(steps, "Add a step")

    def move_step(self, by: int) -> None:
        """Move the chosen step, or take it out where it is moved by 0."""
        steps, place = list(self.steps), self._place
        if not 0 <= place < len(steps) or not 0 <= place + by < len(steps):
            return
        step = steps.pop(place)
        if by:
            steps.insert(place + by, step)
        self._place = min(place + by, len(steps) - 1)
        self._change_steps(steps, "Move a step" if by else "Take a step out")
