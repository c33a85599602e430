"""The Guide log sheet: runs overlaid and compared, what drives their errors, and the calibration."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.guide_log.headings import COLUMNS, columns_of
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.evidence.guide_log.preview import log_headings, preview_text
from wyntaxis.core.evidence.guide_log.report import RUN_HEADINGS, run_row, settling_text, summary_lines
from wyntaxis.core.evidence.guide_log.result import GuideResult, MeasuredRun
from wyntaxis.core.files.errors import ColumnsUnknownError, InputError, Progress
from wyntaxis.core.quantities.guide_log import guide_log_optics
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.steps import Step
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.columns_panel import ColumnsPanel, KnownColumns
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, not_used_text
from wyntaxis.desk.sheets.specs import GUIDE_CALIBRATION, GUIDED_MOUNT
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots_guide import ErrorPlot, PeriodPlot, ScatterPlot, SettlingPlot

FILES_FILTER = "Guide logs (*.csv *.tsv *.txt *.log *.dat);;All files (*)"
NO_LOGS = (
    "No guide log yet. Add a log as a text table: a line of headings, then a row for each frame with the time and the "
    "errors in right ascension and declination. Corrections, dithers and lost frames are read where they are recorded; "
    "rows of a calibration measure the guide focal length."
)


@sheet_of(STEP)
class GuideLogSheet(EvidenceSheet[GuideResult]):
    """Guide logs."""

    kind = GUIDE_LOG
    files_title, folder_title, files_filter = "Guide logs", "Folder of guide logs", FILES_FILTER

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._asked: list[Path] = []
        self.known = KnownColumns(session, COLUMNS, "guide log", log_headings)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        needed = ("guide.time", "guide.ra", "guide.dec")
        self.columns = ColumnsPanel(COLUMNS, needed, self._point_columns, session)
        self.add_wide(self.columns)
        self.error_section = CollapsibleSection("Plot: errors over time", self._build_errors, self._draw_errors)
        self.scatter_section = CollapsibleSection(
            "Plot: scatter, with the main pixel", self._build_scatter, self._draw_scatter
        )
        self.period_section = CollapsibleSection(
            "Plot: what turns in right ascension", self._build_periods, self._draw_periods
        )
        self.settling_section = CollapsibleSection("Plot: after dithers", self._build_settling, self._draw_settling)
        self.sections = (self.error_section, self.scatter_section, self.period_section, self.settling_section)
        for section_box in self.sections:
            self.add_wide(section_box)
        self.mount_card = self.add_card(2)
        self.calibration_card = self.add_card(2)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.add_button = push_button("Add files …", "Read guide logs", self.ask, row)
        self.folder_button = push_button("Add a folder …", "Read all logs below a folder", self.ask_folder, row)
        self.columns_button = push_button(
            "Columns …", "Say which column of the last log holds what", self.point_columns, row
        )
        self.simulate_button = push_button(
            "Load simulated data", "Make and read logs of a simulated mount", self.add_simulated, row
        )
        self.take_button = push_button("Take out", "Take the chosen run out", self.take_out, row)
        self.keep_button = push_button("Keep as measured", "Keep the numbers and the calibration", self.keep, row)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Reading logs"))
        self.understood = PlainLabel()
        self.understood.setWordWrap(True)
        self.understood.setProperty("role", "faded")
        column.addWidget(self.understood)
        headings = [text.replace(" ", "\n", 1) for text in RUN_HEADINGS]
        self.table = TextTable("Guided runs", headings, left=(0, 1), widest_em=14)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        self.together = Panel("Results of the log")
        self.lines = self.together.add_text()
        column.addWidget(self.together)

    # Logs

    @property
    def chosen(self) -> int:
        """The place of the chosen run; the longest where none is."""
        result, row = self.result, self.table.currentRow()
        if result is None or not result.runs:
            return 0
        if 0 <= row < len(result.runs):
            return row
        return max(range(len(result.runs)), key=lambda place: result.runs[place].run.seconds)

    @property
    def run(self) -> MeasuredRun | None:
        """The chosen run."""
        result = self.result
        return result.runs[self.chosen] if result is not None and result.runs else None

    def read(self, paths: list[Path], rules: tuple[KeyRule, ...] = ()) -> None:
        """Say what is understood of the logs, then measure them in the background and add their runs."""
        self._asked = paths
        before, optics = self.result, guide_log_optics(self.session.evaluation)
        columns = (lambda _path: rules) if rules else self.known.rules_for
        try:
            self.understood.setText(preview_text(paths, columns))
        except InputError as error:
            self._refuse(str(error), error)
            return
        self.job.start(lambda progress: GUIDE_LOG.read(paths, optics, progress, columns, before))

    def add_simulated(self) -> None:
        """Make logs of a simulated mount on two nights and read them."""
        folder, before = self.simulated_folder(), self.result
        optics = guide_log_optics(self.session.evaluation)
        scale = optics.scale_arcsec_px

        def work(progress: Progress) -> GuideResult:
            from wyntaxis.simulators.guided_mount import write_demo_logs

            write_demo_logs(folder, scale)
            return GUIDE_LOG.read([folder], optics, progress, before=before)

        self.job.start(work)

    def _failed(self, text: str) -> None:
        self._refuse(text, self.job.error)

    def _refuse(self, text: str, error: InputError | None) -> None:
        self.session.refused.emit(text)
        if isinstance(error, ColumnsUnknownError) and self._asked:
            self.columns.show_headings(self._asked[0], log_headings)

    def point_columns(self) -> None:
        """Let the columns of the log that was read last be said by hand."""
        if not self._asked or self._asked[0].is_dir():
            self.session.refused.emit("read a guide log first: then its columns can be pointed at")
            return
        path = self._asked[0]
        try:
            proposed = columns_of(log_headings(path), self.known.rules_for(path))
        except InputError as error:
            self.session.refused.emit(str(error))
            return
        self.columns.show_headings(path, log_headings, proposed)

    def _point_columns(self, rules: tuple[KeyRule, ...]) -> None:
        self.known.remember(rules)
        self.read(self._asked, rules)

    def _came_in(self, found: GuideResult) -> None:
        self.columns.hide()
        self.hold(found)
        for section_box in (self.error_section, self.scatter_section):
            section_box.open()

    def take_out(self) -> None:
        """Take the chosen run out."""
        result = self.result
        if result is not None:
            left = result.without_run(self.chosen)
            self.hold(left if left.runs or left.calibration is not None else None)

    # Showing

    def _build_errors(self) -> QWidget:
        from wyntaxis.desk.plots_guide import ErrorPlot

        self.error_plot: ErrorPlot = ErrorPlot()
        self.error_plot.refused.connect(self.session.refused)
        return self.error_plot

    def _draw_errors(self) -> None:
        result = self.result
        if result is not None:
            optics = result.optics
            self.error_plot.show_run(self.run, optics.stop_limit_arcsec, optics.main_scale_arcsec_px, self._palette)

    def _build_scatter(self) -> QWidget:
        from wyntaxis.desk.plots_guide import ScatterPlot

        self.scatter_plot: ScatterPlot = ScatterPlot()
        self.scatter_plot.refused.connect(self.session.refused)
        return self.scatter_plot

    def _draw_scatter(self) -> None:
        result = self.result
        if result is not None:
            self.scatter_plot.show_runs(result.runs, self.chosen, result.optics.main_scale_arcsec_px, self._palette)

    def _build_periods(self) -> QWidget:
        from wyntaxis.desk.plots_guide import PeriodPlot

        self.period_plot: PeriodPlot = PeriodPlot()
        self.period_plot.refused.connect(self.session.refused)
        return self.period_plot

    def _draw_periods(self) -> None:
        result = self.result
        if result is not None:
            mount = self.session.rig.mount
            worm = mount.worm_period_s if mount is not None else None
            self.period_plot.show_runs(result.runs, self.chosen, worm, self._palette)

    def _build_settling(self) -> QWidget:
        from wyntaxis.desk.plots_guide import SettlingPlot

        self.settling_plot: SettlingPlot = SettlingPlot()
        self.settling_plot.refused.connect(self.session.refused)
        return self.settling_plot

    def _draw_settling(self) -> None:
        settings = self.session.rig.guiding.settings
        allowed = settings.settle_allowed_s if settings is not None else None
        self.settling_plot.show_run(self.run, allowed, self._palette)

    def _chose(self) -> None:
        if not self.job.running:
            for section_box in self.sections:
                section_box.refresh()
            self._show_lines()

    def _show_lines(self) -> None:
        result, own = self.result, self.run
        if result is None:
            return
        shown = GuideResult((own,), result.calibration, result.optics) if own is not None else result
        settled = settling_text(own.settling) if own is not None else ""
        lines = [*summary_lines(shown), *([f"{settled}"] if settled else [])]
        if result.polar is not None:
            lines += summary_lines(GuideResult(result.runs, None, result.optics))[-1:]
        self.lines.setText("\n".join(lines))

    def refresh(self) -> None:
        super().refresh()
        rig, running, result = self.session.rig, self.job.running, self.result
        for button in (self.add_button, self.folder_button, self.simulate_button, self.columns_button):
            button.setEnabled(not running)
        self.take_button.setEnabled(result is not None and not running)
        self.keep_button.setEnabled(result is not None and not running)
        self.understood.setVisible(bool(self.understood.text()))
        has_runs = result is not None and bool(result.runs)
        for widget in (self.table, *self.sections):
            widget.setVisible(has_runs)
        self.together.setVisible(result is not None)
        self.state.setText(self._state(result))
        if result is not None:
            main = result.optics.main_scale_arcsec_px
            self.table.show_rows([run_row(own, main) for own in result.runs])
            self._show_lines()
        for section_box in self.sections:
            section_box.refresh()
        self.mount_card.show_object("Mount", ("mount",), GUIDED_MOUNT, rig)
        self.mount_card.setVisible(rig.mount is not None)
        self.calibration_card.setVisible(rig.guiding.kind != "none")
        self.calibration_card.show_object("Guide calibration", ("guiding", "calibration"), GUIDE_CALIBRATION, rig)

    def _state(self, result: GuideResult | None) -> str:
        if result is None:
            return NO_LOGS
        frames = sum(len(own.run.time_s) for own in result.runs)
        text = f"{len(result.runs)} runs of {frames} frames."
        if result.calibration is not None:
            text += f" Calibration in {result.calibration.file}."
        return text + not_used_text(result.not_used)
