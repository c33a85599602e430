"""The Light path and Guide branch sheets: the parts as a table, the chosen part's card, the spacing's ledger."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.steps import LIGHT_PATH, Step
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.parts_table import PartsTable
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.collapsible_plot import CollapsiblePlots
from wyntaxis.desk.sheets.own_settings import OwnSettingsEditor
from wyntaxis.desk.sheets.specs import part_specs

GUIDING_TEXT = {
    "none": "This rig has no guide camera. Choose a kind of guiding to describe one.",
    "separate": "A guide telescope of its own: its parts from the telescope to the guide sensor.",
    "off_axis": "The path from the prism's centre to the guide sensor.",
}


class PartsSheet(StepSheet):
    """The parts of one path."""

    def __init__(self, session: Session, step: Step, palette: Palette, *, guide: bool) -> None:
        super().__init__(session, step, palette, ledger="above")
        self.guide = guide
        self._plotted: Evaluation | None = None
        self.table = PartsTable(session, guide=guide)
        self.table.set_palette(palette)
        self.table.part_chosen.connect(session.choose_part)
        self.table.parts.refused.connect(session.refused)
        head = QWidget()
        self.head = FlowRow(head)
        self.add_wide(head)
        head.setVisible(guide)
        self.empty = PlainLabel()
        self.empty.setWordWrap(True)
        self.empty.setProperty("role", "faded")
        self.add_wide(self.empty)
        self.add_wide(self.table)
        self.card = self.add_card(3)
        self.own = OwnSettingsEditor(session)
        self.inputs.addWidget(self.own)
        self.plots = None if guide else CollapsiblePlots(session, palette)
        if self.plots is not None:
            self.inputs.addWidget(self.plots)
        self.inputs.addStretch(1)
        self.refresh()

    def refresh(self) -> None:
        super().refresh()
        session = self.session
        self.table.refresh(session.chosen_part)
        if self.plots is not None and session.evaluation is not self._plotted:
            self._plotted = session.evaluation
            self.plots.refresh()
        parts = session.rig.guiding.path if self.guide else session.rig.train
        self.table.setVisible(bool(parts))
        self.empty.setText(self._empty_text(bool(parts)))
        self.empty.setVisible(bool(self.empty.text()))
        chosen = session.chosen
        on_this_path = chosen is not None and (chosen[0][0] == "guiding") == self.guide
        self.card.setVisible(bool(parts))
        self.own.setVisible(chosen is not None and on_this_path)
        if chosen is not None and on_this_path:
            path, part = chosen
            number = f"g{int(path[-1]) + 1}" if self.guide else str(int(path[-1]) + 1)
            self.card.show_object(f"{number}  {part.title}", path, part_specs(part), session.rig)
            self.own.show_settings(part.title, path, part.own_settings)
        else:
            self.card.show_object("Choose a part in the section or the table to see all of it.", (), (), session.rig)

    def _empty_text(self, filled: bool) -> str:
        if self.guide:
            kind = self.session.rig.guiding.kind
            return GUIDING_TEXT[kind] if not filled or kind == "separate" else ""
        return "" if filled else "No parts yet. Part → Add: begin at the telescope and end with the camera."

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self.table.set_palette(palette)
        if self.plots is not None:
            self.plots.set_palette(palette)

    def fit_to_font(self) -> None:
        super().fit_to_font()
        self.table.fit_to_font()


@sheet_of(LIGHT_PATH)
class LightPathSheet(PartsSheet):
    """The parts of the main train."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, guide=False)
