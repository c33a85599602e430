"""The targets of a night: listed with what was kept of each, put in from the framed object, edited in a card."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from wyntaxis.core.rehearsal.outcome import TargetFrames
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.night_plan import NightTarget
from wyntaxis.core.wording import number, short
from wyntaxis.desk.card import Card
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

TARGET_HEADINGS = (
    "target",
    "priority",
    "not\nbefore",
    "not\nafter",
    "least\naltitude",
    "steps",
    "frames\nkept",
    "why not all",
)
NONE_YET = (
    "The plan has no targets: the night takes the framed object. With targets, the plan’s steps from the first slew to "
    "the last sequence are taken for each; of those that can be taken, the lowest priority number is first."
)


class PlanTargets(QWidget):
    """The section of the targets; ``show_frames`` tells it what the last simulated night kept."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self._session, self._palette = session, palette
        self._kept: dict[str, TargetFrames] = {}
        self.section = CollapsibleSection("Targets of the night", self._build, self._show)

    @property
    def targets(self) -> tuple[NightTarget, ...]:
        """The plan's targets."""
        plan = self._session.rig.plan
        return plan.targets if plan is not None else ()

    def _build(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        self.hint = PlainLabel(NONE_YET)
        self.hint.setWordWrap(True)
        self.hint.setProperty("role", "faded")
        column.addWidget(self.hint)
        self.table = TextTable("Targets", TARGET_HEADINGS, left=(0, 2, 3, 5, 7), stretch=7, widest_em=14)
        self.table.itemSelectionChanged.connect(self._show_card)
        column.addWidget(self.table)
        self.card = Card(3)
        self.card.entered.connect(self._session.set_value)
        self.card.refused.connect(self._session.refused)
        column.addWidget(self.card)
        row = FlowRow()
        self.framed_button = push_button(
            "Add the framed object", "Make the object of Footprint a target", self.add_framed, row
        )
        push_button("Add a target", "Add a target; enter its coordinates below", self.add, row)
        self.out_button = push_button("Take out", "Take the chosen target out of the plan", self.take_out, row)
        column.addLayout(row)
        return holder

    def show_frames(self, kept: Sequence[TargetFrames]) -> None:
        """Show what a simulated night kept of each target."""
        self._kept = {own.name: own for own in kept}
        self.section.refresh()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette, with the next refresh of the section."""
        self._palette = palette

    def _show(self) -> None:
        place = self.table.currentRow()
        rows = [[*_row(target), *_frames(self._kept.get(target.name))] for target in self.targets]
        self.table.blockSignals(True)
        self.table.show_rows(rows, palette=self._palette)
        if 0 <= place < len(rows):
            self.table.setCurrentCell(place, 0)
        self.table.blockSignals(False)
        self.table.setVisible(bool(rows))
        self.hint.setVisible(not rows)
        framing = self._session.rig.framing
        names = {target.name.casefold() for target in self.targets}
        self.framed_button.setEnabled(framing is not None and (framing.name or "object").casefold() not in names)
        self._show_card()

    def _show_card(self) -> None:
        place, targets = self.table.currentRow(), self.targets
        chosen = 0 <= place < len(targets)
        self.card.setVisible(chosen)
        self.out_button.setEnabled(chosen)
        if chosen:
            base = ("plan", "targets", place)
            fields = displayed_fields(NightTarget, targets[place])
            self.card.show_object(f"Target {place + 1} of {len(targets)}", base, fields, self._session.rig)

    def add_framed(self) -> None:
        """Add the framed object to the targets."""
        framing = self._session.rig.framing
        if framing is not None:
            entry = NightTarget(
                name=framing.name or "object",
                ra_deg=framing.ra_deg,
                dec_deg=framing.dec_deg,
                angle_deg=framing.position_angle_deg,
            )
            self._add(entry)

    def add(self) -> None:
        """Add a target at the place of the last one, to be edited."""
        names = {target.name.casefold() for target in self.targets}
        name = next(name for k in range(1, 99) if (name := f"Target {k}").casefold() not in names)
        last = self.targets[-1] if self.targets else self._session.rig.framing
        self._add(NightTarget(name=name, ra_deg=last.ra_deg if last else 0.0, dec_deg=last.dec_deg if last else 0.0))

    def _add(self, entry: NightTarget) -> None:
        if self._session.rig.plan is None:
            self._session.refused.emit("draft a plan first: then targets can be put in")
            return
        self._change([*self.targets, entry], f"Add target {entry.name}")
        self.table.setCurrentCell(len(self.targets) - 1, 0)

    def take_out(self) -> None:
        """Take the chosen target out."""
        place, targets = self.table.currentRow(), list(self.targets)
        if 0 <= place < len(targets):
            gone = targets.pop(place)
            self._change(targets, f"Take target {gone.name} out")

    def _change(self, targets: Sequence[NightTarget], label: str) -> None:
        entries = [target.model_dump(mode="json", exclude_unset=True) for target in targets]
        self._session.set_value(("plan", "targets"), entries or None, label)


def _row(target: NightTarget) -> list[str]:
    least = target.min_altitude_deg
    return [
        target.name,
        "–" if target.priority is None else str(target.priority),
        target.start or "–",
        target.stop or "–",
        "–" if least is None else f"{short(least)}°",
        "its own" if target.steps else "the plan’s",
    ]


def _frames(own: TargetFrames | None) -> list[str]:
    if own is None:
        return ["–", ""]
    return [f"{number(own.kept, 0)} of {number(own.planned, 0)}", own.why]
