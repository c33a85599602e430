"""The Filters sheet: flats of wheel and filters, their dust, their light, and whether old ones still serve."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.evidence.filters.result import FilterResult, Serve, set_name
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.measuring.filters import MEASURING
from wyntaxis.core.steps import FILTERS
from wyntaxis.core.wording import counted
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.reading_sheet import SheetTexts
from wyntaxis.desk.step_pictures import side_by_side

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.flats import FlatSet
    from wyntaxis.desk.plots_filters import DustPlot, RatioPlot


@sheet_of(FILTERS)
class FiltersSheet(EvidenceSheet[FilterResult]):
    """Flats."""

    measuring = MEASURING
    settings = ("filters", "What the wheel is to do, and what was measured")
    adds = False
    texts = SheetTexts(
        empty="No flats yet. Add flats of every filter, best with another filter used between two series of one: they "
        "show whether the wheel stops at the same place. The width of a dust shadow gives the distance of the dust. "
        "Add flats of an older night to see whether those are still valid.",
        working="Measuring flats",
        drop="Flats show their dust here, and what has changed since older ones.",
        keep="Keep how far the wheel stops off",
        files="Measure single flats",
        folder="Measure the flats below a folder",
        simulate="Make and measure simulated flats",
        take_out="Take all flats out",
        files_title="Flats",
        folder_title="Folder of flats",
        together="The wheel",
        nothing="no flat could be used",
    )

    def build(self) -> None:
        self.levels, self.repeats = self.tables["levels"], self.tables["repeatability"]
        self.dust, self.serves = self.tables["dust"], self.tables["serve"]
        self.picture = self.add_picture("Dust, and what has changed", self._make_picture, lambda _body: self._draw())

    def add_buttons(self, row: FlowRow) -> None:
        tip = "Mark the chosen flats as taken with the wheel turning one way only"
        self.one_way_button = push_button("Taken one way", tip, self.mark_one_way, row)
        self._needing.append(self.one_way_button)

    # Flats

    @property
    def chosen(self) -> FlatSet | None:
        """The chosen set of flats; the newest where none is."""
        result, row = self.result, self.levels.currentRow()
        if result is None or not result.sets:
            return None
        return result.sets[row] if 0 <= row < len(result.sets) else result.sets[-1]

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.observing import write_flats

        write_flats(folder, progress)
        return [folder]

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

    def is_empty(self, found: FilterResult) -> bool:
        return not found.sets

    # Showing

    def _make_picture(self) -> QWidget:
        from wyntaxis.desk.plots_filters import DustPlot, RatioPlot

        self.dust_plot: DustPlot = DustPlot()
        self.ratio_plot: RatioPlot = RatioPlot()
        return side_by_side(self.dust_plot, self.ratio_plot)

    def _draw(self) -> None:
        result = self.result
        self._draw_dust(self.dust_plot)
        self.ratio_plot.setVisible(result is not None and bool(result.serves))
        self._draw_ratio(self.ratio_plot)

    def _draw_dust(self, plot: DustPlot) -> None:
        result, row = self.result, self.levels.currentRow()
        place = row if result is not None and 0 <= row < len(result.sets) else -1
        dust = result.dust_of(place) if result is not None and result.sets else ()
        chosen = self.chosen
        light = result.lights[place] if result is not None and result.lights else None
        entry = (chosen, light.smooth) if chosen is not None and light is not None else None
        plot.show_set(entry, dust, self.dust.currentRow(), self._palette)

    def _draw_ratio(self, plot: RatioPlot) -> None:
        result = self.result
        if result is None or not result.serves:
            plot.show_serve(None, None, self._palette)
            return
        entry = result.serves[max(self.serves.currentRow(), 0)]
        plot.show_serve(entry, self._sets_of(result, entry), self._palette)

    def _sets_of(self, result: FilterResult, entry: Serve) -> tuple[FlatSet, FlatSet] | None:
        """Return the two sets that a comparison is of."""
        own = [found for found in result.sets if found.filter == entry.filter]
        old = next((found for found in own if set_name(found) == entry.old), None)
        new = next((found for found in reversed(own) if set_name(found) == entry.new), None)
        return (old, new) if old is not None and new is not None else None

    def chose(self) -> None:
        super().chose()
        self._name_one_way()

    def _name_one_way(self) -> None:
        result, chosen = self.result, self.chosen
        marked = result is not None and chosen is not None and chosen.name in result.one_way
        self.one_way_button.setText("Not taken one way" if marked else "Taken one way")

    def show_result(self, result: FilterResult | None) -> None:
        self._name_one_way()

    def counts(self, result: FilterResult) -> str:
        flats = sum(len(entry.flats) for entry in result.sets)
        sets, dust = counted(len(result.sets), "set"), counted(len(result.dust), "dust shadow")
        return f"{counted(flats, 'flat')} in {sets}, {dust}."
