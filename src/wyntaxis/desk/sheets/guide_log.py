"""The Guide log sheet: runs overlaid and compared, what drives their errors, and the calibration."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

from wyntaxis.core.evidence.guide_log.headings import COLUMNS, columns_of
from wyntaxis.core.evidence.guide_log.preview import log_headings, preview_text
from wyntaxis.core.evidence.guide_log.report import settling_text, together_lines
from wyntaxis.core.evidence.guide_log.result import GuideResult, MeasuredRun
from wyntaxis.core.evidence.guide_log.sentences import run_lines
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.measuring.guide_log import MEASURING
from wyntaxis.core.measuring.measuring import Request
from wyntaxis.core.quantities.guide_log import guide_log_optics
from wyntaxis.core.steps import GUIDE_LOG
from wyntaxis.core.wording import counted
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.reading_sheet import Pointing, SheetTexts
from wyntaxis.desk.sheets.specs import GUIDE_CALIBRATION, GUIDED_MOUNT
from wyntaxis.desk.step_pictures import StepPicture

if TYPE_CHECKING:
    from wyntaxis.desk.plots_guide import ErrorPlot, PeriodPlot, ScatterPlot, SettlingPlot


def _plots() -> ModuleType:
    from wyntaxis.desk import plots_guide

    return plots_guide


@sheet_of(GUIDE_LOG)
class GuideLogSheet(EvidenceSheet[GuideResult]):
    """Guide logs."""

    measuring = MEASURING
    pointing = Pointing(COLUMNS, ("guide.time", "guide.ra", "guide.dec"), "guide log", log_headings)
    texts = SheetTexts(
        empty="No guide log yet. Add a log as a text table: a line of headings, then a row for each frame with the "
        "time and the errors in right ascension and declination. Corrections, dithers and lost frames are read where "
        "they are recorded; rows of a calibration measure the guide focal length.",
        working="Reading logs",
        drop="Guide logs, as tables of time and errors, are drawn here.",
        keep="Keep the numbers and the calibration",
        files="Read guide logs",
        folder="Read all logs below a folder",
        simulate="Make and read logs of a simulated mount",
        take_out="Take the chosen run out",
        files_title="Guide logs",
        folder_title="Folder of guide logs",
        files_filter="Guide logs (*.csv *.tsv *.txt *.log *.dat);;All files (*)",
        together="Results of the log",
    )

    def build(self) -> None:
        self.error_picture = self.add_picture("Errors over time", lambda: _plots().ErrorPlot(), self._draw_errors)
        self.scatter_picture = self.add_picture("Scatter", lambda: _plots().ScatterPlot(), self._draw_scatter)
        self.period_picture = self.add_picture(
            "Periods in right ascension", lambda: _plots().PeriodPlot(), self._draw_periods
        )
        self.settling_picture = self.add_picture("After dithers", lambda: _plots().SettlingPlot(), self._draw_settling)
        self.mount_card = self.add_card(2)
        self.calibration_card = self.add_card(2)

    def add_buttons(self, row: FlowRow) -> None:
        tip = "Say which column of the last log holds what"
        self.reading_buttons["columns"] = push_button("Columns …", tip, self.point_columns, row)
        tip = "Measure all runs again without the gusts that are named below, or with them"
        self.gusts_button = push_button("Leave gusts out", tip, self.leave_gusts, row)

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

    def before_reading(self, request: Request) -> None:
        """Say what is understood of the logs before their rows are read."""
        self.understood.setText(preview_text(request.paths, request.rules))

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.guided_mount import write_demo_logs

        write_demo_logs(folder, guide_log_optics(self.session.evaluation).scale_arcsec_px)
        return [folder]

    def point_columns(self) -> None:
        """Let the columns of the log that was read last be said by hand."""
        if not self._asked or self._asked[0].is_dir() or self.columns is None or self.known is None:
            self.session.refused.emit("read a guide log first: then its columns can be pointed at")
            return
        path = self._asked[0]
        try:
            proposed = columns_of(log_headings(path), self.known.rules_for(path))
        except InputError as error:
            self.session.refused.emit(str(error))
            return
        self.columns.show_headings(path, log_headings, proposed)

    def take_out(self) -> None:
        """Take the chosen run out."""
        result = self.result
        if result is not None:
            left = result.without_run(self.chosen)
            self.hold(left if left.runs or left.calibration is not None else None)

    def leave_gusts(self) -> None:
        """Measure all runs again, without gusts or with them again."""
        result = self.result
        if result is not None:
            out = not result.without_gusts
            self.work_again(lambda progress: result.leaving_gusts(out=out, watch=lambda: progress(0, 0)))

    # Showing

    def pictures_of(self, result: GuideResult | None) -> Iterable[StepPicture[Any]]:
        return self.pictures.all if result is not None and result.runs else ()

    def _draw_errors(self, plot: ErrorPlot) -> None:
        if self.result is not None:
            optics = self.result.optics
            plot.show_run(self.run, optics.stop_limit_arcsec, optics.main_scale_arcsec_px, self._palette)

    def _draw_scatter(self, plot: ScatterPlot) -> None:
        result = self.result
        if result is not None:
            plot.show_runs(result.runs, self.chosen, result.optics.main_scale_arcsec_px, self._palette)

    def _draw_periods(self, plot: PeriodPlot) -> None:
        mount = self.session.rig.mount
        if self.result is not None:
            worm = mount.worm_period_s if mount is not None else None
            plot.show_runs(self.result.runs, self.chosen, worm, self._palette)

    def _draw_settling(self, plot: SettlingPlot) -> None:
        settings = self.session.rig.guiding.settings
        plot.show_run(self.run, settings.settle_allowed_s if settings is not None else None, self._palette)

    def chose(self) -> None:
        super().chose()
        if self.result is not None:
            self.sentences.setText("\n".join(self.lines(self.result)))

    def lines(self, result: GuideResult) -> Iterable[str]:
        """Return what the chosen run tells, and what all tell together."""
        own = self.run
        if own is not None:
            yield from run_lines(own)
            if own.settling is not None:
                yield settling_text(own.settling)
        yield from together_lines(result)

    def counts(self, result: GuideResult) -> str:
        frames = sum(len(own.run.time_s) for own in result.runs)
        text = f"{counted(len(result.runs), 'run')} of {frames} frames."
        return text + (f" Calibration in {result.calibration.file}." if result.calibration is not None else "")

    def show_result(self, result: GuideResult | None) -> None:
        rig = self.session.rig
        gusty = result is not None and any(own.gusts for own in result.runs)
        self.gusts_button.setEnabled(gusty and not self.job.running)
        self.gusts_button.setText(
            "Count gusts again" if result is not None and result.without_gusts else "Leave gusts out"
        )
        self.mount_card.show_object("Mount", ("mount",), GUIDED_MOUNT, rig)
        self.mount_card.setVisible(rig.mount is not None)
        self.calibration_card.setVisible(rig.guiding.kind != "none")
        self.calibration_card.show_object("Guide calibration", ("guiding", "calibration"), GUIDE_CALIBRATION, rig)
