"""The Filters sheet: flats of wheel and filters, their dust, their light, and whether old ones still serve."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.evidence.filters.kind import FILTERS as FLATS
from wyntaxis.core.evidence.filters.report import (
    DUST_HEADINGS,
    LEVEL_HEADINGS,
    REPEAT_HEADINGS,
    SERVE_HEADINGS,
    dust_row,
    level_row,
    one_way_text,
    repeat_row,
    serve_row,
)
from wyntaxis.core.evidence.filters.result import FilterResult, Serve, set_name
from wyntaxis.core.evidence.measured import device_index
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.quantities.flats import flat_optics, repeat_verdict
from wyntaxis.core.steps import FILTERS, Step
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, not_used_text
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.flats import FlatSet
    from wyntaxis.desk.plots_filters import DustPlot, RatioPlot

NO_FLATS = (
    "No flats yet. Add flats of every filter, best with another filter used between two series of one: they show "
    "whether the wheel stops at the same place. The width of a dust shadow gives the distance of the dust. Add "
    "flats of "
    "an older night to see whether those are still valid."
)


@sheet_of(FILTERS)
class FiltersSheet(EvidenceSheet[FilterResult]):
    """Flats."""

    kind = FLATS
    files_title, folder_title = "Flats", "Folder of flats"

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.dust_section = CollapsibleSection("Plot: dust on the chosen flats", self._build_dust, self._draw_dust)
        self.ratio_section = CollapsibleSection("Plot: new flat over old", self._build_ratio, self._draw_ratio)
        for section_box in (self.dust_section, self.ratio_section):
            self.add_wide(section_box)
        self.settings_grid = SettingsGrid(session, palette, "filters", "What the wheel is to do, and what was measured")
        self.inputs.addWidget(self.settings_grid)
        self.inputs.addStretch(1)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.folder_button = push_button("Read a folder …", "Measure the flats below a folder", self.ask_folder, row)
        self.add_button = push_button("Read files …", "Measure single flats", self.ask, row)
        self.simulate_button = push_button(
            "Load simulated data", "Make and measure simulated flats", self.add_simulated, row
        )
        self.clear_button = push_button("Take out", "Take all flats out", self.take_out, row)
        self.one_way_button = push_button(
            "Taken one way",
            "Mark the chosen flats as taken with the wheel turning one way only",
            self.mark_one_way,
            row,
        )
        self.keep_button = push_button("Keep as measured", "Keep how far the wheel stops off", self.keep, row)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Measuring flats"))
        self.tables: dict[str, tuple[PlainLabel, TextTable]] = {}
        self.levels = self._table("Light of each filter", LEVEL_HEADINGS, (0, 1, 8), column)
        self.repeats = self._table("Does the wheel stop where it did?", REPEAT_HEADINGS, (0, 1, 8, 9), column)
        self.dust = self._table("Where the dust lies", DUST_HEADINGS, (6, 7), column)
        self.serves = self._table("Do the old flats still serve?", SERVE_HEADINGS, (0, 1, 2, 3, 6), column)
        self.levels.itemSelectionChanged.connect(self._chose)
        self.dust.itemSelectionChanged.connect(self._chose)
        self.serves.itemSelectionChanged.connect(self._chose_serve)

    def _table(self, title: str, headings: tuple[str, ...], left: tuple[int, ...], column: object) -> TextTable:
        label = PlainLabel(title)
        label.setProperty("role", "heading")
        table = TextTable(title, [text.replace(" ", "\n", 1) for text in headings], left=left, widest_em=24)
        for widget in (label, table):
            column.addWidget(widget)  # type: ignore[attr-defined]
        self.tables[title] = (label, table)
        return table

    # Flats

    @property
    def chosen(self) -> FlatSet | None:
        """The chosen set of flats; the newest where none is."""
        result, row = self.result, self.levels.currentRow()
        if result is None or not result.sets:
            return None
        return result.sets[row] if 0 <= row < len(result.sets) else result.sets[-1]

    def read(self, paths: list[Path]) -> None:
        """Measure flats in the background, in place of those that are there."""
        optics = flat_optics(self.session.evaluation)
        self.job.start(lambda progress: FLATS.read(paths, optics, progress))

    def add_simulated(self) -> None:
        """Make simulated flats and measure them."""
        folder, optics = self.simulated_folder(), flat_optics(self.session.evaluation)

        def work(progress: Progress) -> FilterResult:
            from wyntaxis.simulators.observing import write_flats

            write_flats(folder, progress)
            return FLATS.read([folder], optics, progress)

        self.job.start(work)

    def _came_in(self, found: FilterResult) -> None:
        if not found.sets:
            first = found.not_used[0]
            self.session.refused.emit(f"no flat could be used: {first.path}: {first.why}")
            return
        self.hold(found)
        self.dust_section.open()
        if found.serves:
            self.ratio_section.open()

    def take_out(self) -> None:
        """Take all flats out."""
        self.hold(None)

    def mark_one_way(self) -> None:
        """Mark the chosen flats as taken with the wheel turning one way only, or not."""
        result, chosen = self.result, self.chosen
        if result is None or chosen is None:
            return
        one_way = result.one_way ^ {chosen.name}
        repeats = tuple(
            replace(entry, one_way=(entry.set_name in one_way) if one_way else result.optics.one_way)
            for entry in result.repeats
        )
        self.hold(replace(result, one_way=one_way, repeats=repeats))

    # Showing

    def _build_dust(self) -> QWidget:
        from wyntaxis.desk.plots_filters import DustPlot

        self.dust_plot: DustPlot = DustPlot()
        self.dust_plot.refused.connect(self.session.refused)
        return self.dust_plot

    def _draw_dust(self) -> None:
        result = self.result
        row = self.levels.currentRow()
        place = row if result is not None and 0 <= row < len(result.sets) else -1
        dust = result.dust_of(place) if result is not None and result.sets else ()
        self.dust_plot.show_set(self.chosen, dust, self.dust.currentRow(), self._palette)

    def _build_ratio(self) -> QWidget:
        from wyntaxis.desk.plots_filters import RatioPlot

        self.ratio_plot: RatioPlot = RatioPlot()
        self.ratio_plot.refused.connect(self.session.refused)
        return self.ratio_plot

    def _draw_ratio(self) -> None:
        result = self.result
        if result is None or not result.serves:
            self.ratio_plot.show_serve(None, None, self._palette)
            return
        entry = result.serves[max(self.serves.currentRow(), 0)]
        self.ratio_plot.show_serve(entry, self._sets_of(result, entry), self._palette)

    def _sets_of(self, result: FilterResult, entry: Serve) -> tuple[FlatSet, FlatSet] | None:
        """Return the two sets that a comparison is of."""
        own = [found for found in result.sets if found.filter == entry.filter]
        old = next((found for found in own if set_name(found) == entry.old), None)
        new = next((found for found in reversed(own) if set_name(found) == entry.new), None)
        return (old, new) if old is not None and new is not None else None

    def _chose(self) -> None:
        if not self.job.running:
            self.dust_section.refresh()
            self._name_one_way()

    def _chose_serve(self) -> None:
        if not self.job.running:
            self.ratio_section.refresh()

    def _name_one_way(self) -> None:
        result, chosen = self.result, self.chosen
        marked = result is not None and chosen is not None and chosen.name in result.one_way
        self.one_way_button.setText("Not taken one way" if marked else "Taken one way")

    def refresh(self) -> None:
        super().refresh()
        running, result = self.job.running, self.result
        for button in (self.add_button, self.folder_button, self.simulate_button):
            button.setEnabled(not running)
        index = device_index(self.session.rig, "filter_wheel")
        for button in (self.clear_button, self.one_way_button):
            button.setEnabled(result is not None and not running)
        self.keep_button.setEnabled(result is not None and index is not None and not running)
        self.state.setText(self._state(result))
        self._show_tables(result)
        self.dust_section.setVisible(result is not None)
        self.ratio_section.setVisible(result is not None and bool(result.serves))
        self._name_one_way()
        for section_box in (self.dust_section, self.ratio_section):
            section_box.refresh()
        self.settings_grid.setVisible(index is not None)
        if index is not None:
            self.settings_grid.show_device(self.session.rig.devices[index], index)

    def _show_tables(self, result: FilterResult | None) -> None:
        levels = result.levels if result is not None else ()
        repeats = result.repeats if result is not None else ()
        serves = result.serves if result is not None else ()
        dust = result.dust if result is not None else ()
        pixel = result.optics.pixel_um if result is not None else None
        self.levels.show_rows([level_row(entry) for entry in levels], palette=self._palette)
        verdicts = [repeat_verdict(entry) for entry in repeats]
        self.repeats.show_rows(
            [repeat_row(entry, pixel) for entry in repeats], verdicts=verdicts, palette=self._palette
        )
        self.dust.show_rows([dust_row(entry) for entry in dust], palette=self._palette)
        entries = [entry.comparison.verdict for entry in serves]
        self.serves.show_rows([serve_row(entry) for entry in serves], verdicts=entries, palette=self._palette)
        for label, table in self.tables.values():
            for widget in (label, table):
                widget.setVisible(table.rowCount() > 0)

    def _state(self, result: FilterResult | None) -> str:
        if result is None:
            return NO_FLATS
        flats = sum(len(entry.flats) for entry in result.sets)
        text = f"{flats} flats in {len(result.sets)} sets, {len(result.dust)} shadows of dust."
        compared = one_way_text(result)
        return text + (f" {compared}" if compared else "") + not_used_text(result.not_used)

    def set_palette(self, palette: Palette) -> None:
        self.settings_grid.palette_in_use = palette
        super().set_palette(palette)
