"""The Scales sheet: telescope, sensor and site; what follows; every binning; the measured scale; field solving."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.steps import SCALES, Step
from wyntaxis.core.train.sampling import seeing_band
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.scale_panels import BinningTable, MeasuredScalePanel, SearchPanel, all_rows
from wyntaxis.desk.sheets.specs import SENSOR, SITE, telescope_specs


@sheet_of(SCALES)
class ScalesSheet(StepSheet):
    """What a pixel sees."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._palette = palette
        self.binnings = BinningTable()
        self.add_wide(self.binnings)
        self.search = SearchPanel(session)
        self.measured = MeasuredScalePanel(session)
        self.telescope = self.add_card(1)
        self.camera = self.add_card(1)
        self.site = self.add_card(1)
        self.inputs.insertWidget(0, self.search)
        self.inputs.addStretch(1)
        self.add_below(self.measured)
        self.plot_section = CollapsibleSection("Plot: sampling over seeing", self._build_plot, self._draw_plot)
        self.add_below(self.plot_section)
        self.refresh()

    def _build_plot(self) -> QWidget:
        from wyntaxis.desk.plots_compute import SamplingPlot

        self.plot = SamplingPlot()
        self.plot.refused.connect(self.session.refused)
        return self.plot

    def _draw_plot(self) -> None:
        rows = [row for row in all_rows(self.session) if row.binning <= 2 or row.in_use]
        self.plot.show_rows(rows, seeing_band(self.session.rig), self._palette)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.plot_section.refresh()

    def refresh(self) -> None:
        super().refresh()
        rig = self.session.rig
        self.search.refresh()
        self.measured.refresh()
        self.binnings.show_trains(all_rows(self.session))
        self.plot_section.refresh()
        self.telescope.show_object("Telescope", ("telescope",), telescope_specs(rig.telescope), rig)
        camera = rig.camera
        if camera is not None:
            specs = SENSOR if camera.sensor else ()
            hint = "" if camera.sensor else ": give it a sensor with Part → Add sensor"
            self.camera.show_object(f"{camera.title}{hint}", ("train", len(rig.train) - 1), specs, rig)
        else:
            self.camera.show_object("No camera at the end of the train yet (Part → Add)", (), (), rig)
        if rig.site is not None:
            self.site.show_object("Site", ("site",), SITE, rig)
        else:
            self.site.show_object("No site yet: Edit → Add a site, for the seeing", (), (), rig)
