"""The Cooling sheet: runs overlaid and in figures, the cooler's model, and a ramp designed from it."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog, QWidget

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, CoolingLog
from wyntaxis.core.evidence.cooling.kind import COOLING as RUNS
from wyntaxis.core.evidence.cooling.kind import CoolingRuns, keep, target_of
from wyntaxis.core.evidence.cooling.log import COLUMNS
from wyntaxis.core.evidence.cooling.report import RUN_HEADINGS, run_row
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.measured import camera_index
from wyntaxis.core.files.errors import ColumnsUnknownError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.steps import COOLING, Step
from wyntaxis.core.wording import number
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.columns_panel import ColumnsPanel, KnownColumns
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.cooling_panels import RampPanel
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots_cooling import CoolingPlot

LOG_FILTER = "Cooling logs (*.csv *.tsv *.txt);;All files (*)"
MAP_NAME = "cooling log"


@sheet_of(COOLING)
class CoolingSheet(StepSheet):
    """The cooler."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._asked: list[Path] = []
        self.known = KnownColumns(session, COLUMNS, MAP_NAME)
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(self._failed)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.columns = ColumnsPanel(COLUMNS, ("cooling.time", "cooling.sensor"), self._point_columns, session)
        self.add_wide(self.columns)
        self.run_section = CollapsibleSection("Plot: runs and model", self._build_run_plot, self._draw_runs)
        self.add_wide(self.run_section)
        self.ramp = RampPanel(session)
        self.inputs.addWidget(self.ramp)
        self.settings_grid = SettingsGrid(
            session, palette, "cooling", "What the sheet states, and what the runs measured"
        )
        self.inputs.addWidget(self.settings_grid)
        self.inputs.addStretch(1)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.add_button = push_button("Add runs …", "Read cooling logs from CSV", self.ask, row)
        self.simulate_button = push_button(
            "Load simulated data", "Log runs of the simulated camera", self.add_simulated, row
        )
        self.take_button = push_button("Take out", "Take the chosen run out", self.take_out, row)
        self.keep_button = push_button("Keep as measured", "Keep the numbers in the rig", self.keep, row)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Reading runs"))
        headings = [" ".join(h.split(" ")[:-1]) + "\n" + h.split(" ")[-1] if " " in h else h for h in RUN_HEADINGS]
        self.table = TextTable("Cooling runs", headings, left=(0,))
        column.addWidget(self.table)

    # Runs

    @property
    def cooled(self) -> CoolingRuns | None:
        """The runs that were read, and what was measured of them."""
        return self.session.evidence.of(RUNS)

    @property
    def logs(self) -> list[CoolingLog]:
        """The logs of the runs."""
        return list(self.cooled.logs) if self.cooled is not None else []

    @property
    def model(self) -> CoolerModel | None:
        """The cooler's model, where the runs gave one."""
        return self.cooled.measured.model if self.cooled is not None else None

    def ask(self) -> None:
        """Ask for logs and read them."""
        chosen, _ = QFileDialog.getOpenFileNames(self, "Cooling logs", str(home()), LOG_FILTER)
        if chosen:
            self.read([Path(path) for path in chosen])

    def read(self, paths: list[Path], rules: tuple[KeyRule, ...] = ()) -> None:
        """Read logs in the background and add them; a saved key map serves headings that do not tell by themselves."""
        self._asked = paths

        before, target = self.cooled, target_of(self.session.rig)
        columns = (lambda _path: rules) if rules else self.known.rules_for
        self.job.start(lambda progress: RUNS.read(paths, target, progress, columns, before))

    def add_simulated(self) -> None:
        """Log three runs of the simulated camera."""

        before, target = self.cooled, target_of(self.session.rig)

        def work(progress: Progress) -> CoolingRuns:
            from wyntaxis.simulators.bench import make_demo_runs

            with tempfile.TemporaryDirectory(prefix="wyntaxis-stand-in-") as folder:
                return RUNS.read(make_demo_runs(Path(folder)), target, progress, before=before)

        self._asked = []
        self.job.start(work)

    def _failed(self, text: str) -> None:
        self.session.refused.emit(text)
        if isinstance(self.job.error, ColumnsUnknownError) and self._asked:
            self.columns.show_headings(self._asked[0])

    def _point_columns(self, rules: tuple[KeyRule, ...]) -> None:
        """Read the logs asked for by these columns, and keep them as a map for such logs."""
        self.known.remember(rules)
        self.read(self._asked, rules)

    def _came_in(self, found: CoolingRuns) -> None:
        self.columns.hide()
        self.session.look_at(RUNS, found if found.logs else None)
        self.run_section.open()

    def take_out(self) -> None:
        """Take the chosen run out."""
        row, cooled, target = self.table.currentRow(), self.cooled, target_of(self.session.rig)
        if cooled is not None and 0 <= row < len(cooled.logs):
            self.job.start(lambda progress: cooled.without(row, target, lambda: progress(0, 0)))

    def keep(self) -> None:
        """Keep the model and the runs' figures as measured values."""
        if self.cooled is None:
            return
        try:
            self.session.apply(keep(self.session.rig, self.cooled))
        except ValueError as error:
            self.session.refused.emit(str(error))

    # Showing

    def _build_run_plot(self) -> QWidget:
        from wyntaxis.desk.plots_cooling import CoolingPlot

        self.run_plot: CoolingPlot = CoolingPlot()
        self.run_plot.refused.connect(self.session.refused)
        return self.run_plot

    def _draw_runs(self) -> None:
        self.run_plot.show_runs(self.logs, self.model, self._palette)

    def refresh(self) -> None:
        super().refresh()
        rig, running, cooled = self.session.rig, self.job.running, self.cooled
        index = camera_index(rig)
        for button in (self.add_button, self.simulate_button):
            button.setEnabled(not running)
        self.take_button.setEnabled(cooled is not None)
        self.keep_button.setEnabled(cooled is not None and index is not None)
        self.table.setVisible(cooled is not None)
        self.run_section.setVisible(cooled is not None)
        self.table.show_rows([run_row(run) for run in cooled.measured.runs] if cooled is not None else [])
        if cooled is None:
            self.state.setText(
                "No runs yet. Log time, sensor temperature and power while the camera cools, once at full power for "
                "half an hour; columns may be in any order and unit. The model then gives the lowest reachable "
                "temperature, "
                "and designs a ramp."
            )
        else:
            target, why = target_of(rig), cooled.measured.why_no_model
            aimed = "toward what each came to" if target is None else f"toward {number(target, 1)} °C"
            self.state.setText(f"{len(cooled.logs)} runs {aimed}." + (f" No model: {why}." if why else ""))
        self.settings_grid.setVisible(index is not None)
        if index is not None:
            self.settings_grid.show_device(rig.devices[index], index)
        self.run_section.refresh()
        self.ramp.show_for(self.model, self.logs, self._palette)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.settings_grid.palette_in_use = palette
        self.refresh()
