"""The Focuser sheet: the drawtube's travel, focus runs with their curves and points, and the settings they give."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from wyntaxis import demo
from wyntaxis.core.evidence.focus.report import POINT_COLUMNS
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.evidence.focus.table import COLUMNS
from wyntaxis.core.evidence.measured import device_index
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.measuring.focus import MEASURING
from wyntaxis.core.steps import TRAVEL
from wyntaxis.core.travel_picture import travel_pictures
from wyntaxis.core.wording import counted
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, sheet_headings
from wyntaxis.desk.sheets.reading_sheet import Pointing, SheetTexts
from wyntaxis.desk.sheets.travel_panels import AdvicePanel
from wyntaxis.desk.step_pictures import StepPicture
from wyntaxis.desk.tables import TextTable
from wyntaxis.desk.travel_drawing import TravelView

if TYPE_CHECKING:
    from wyntaxis.desk.frame_picture import FramePicture
    from wyntaxis.desk.plots_focus import CurvePlot, ModelPlot

POINTS = tuple(column for column in POINT_COLUMNS if column.label)
COUNTS = next(place for place, column in enumerate(POINTS) if column.key == "used")


@sheet_of(TRAVEL)
class TravelSheet(EvidenceSheet[FocusResult]):
    """The focuser."""

    measuring = MEASURING
    pointing = Pointing(COLUMNS, ("focus.position", "focus.hfd"), "focus runs")
    settings = ("travel", "What focus runs are set by, and what they measured")
    texts = SheetTexts(
        empty="No focus runs yet. Add frames taken at many positions of the focuser, with the position in their "
        "headers, or a table with the columns position and hfd_px. Runs in both directions give the backlash, runs at "
        "other temperatures the slope, runs through other filters their offsets.",
        working="Measuring frames",
        drop="Frames or tables of focus runs are drawn here as curves.",
        keep="Keep the numbers in the rig",
        files="Read frames or tables of focus runs",
        folder="Read all frames below a folder",
        simulate="Read the demo's frames",
        take_out="Take the chosen run out",
        files_title="Focus runs",
        folder_title="Folder of focus runs",
        nothing="there is no focus run in what was given",
        files_filter="Frames and tables (*.fit *.fits *.fts *.csv *.tsv *.txt);;All files (*)",
    )

    def build_above(self) -> None:
        self._frame: tuple[Path, Any, Any] | None = None
        self.frame_job = Job(self)
        self.frame_job.done.connect(self._frame_came)
        self.frame_job.failed.connect(self.session.refused)

    def build(self) -> None:
        self.aligned = QCheckBox("Lay the runs over each other")
        self.aligned.setToolTip("Count positions from each run's best one")
        self.aligned.toggled.connect(lambda _on: self.curve_picture.refresh())
        self.curve_picture = self.add_picture("Focus curves", self._make_curves, self._draw_curves, (self.aligned,))
        self.frame_picture = self.add_picture("The chosen point’s frame", _frame_picture, self._draw_frame)
        self.model_picture = self.add_picture("Best positions over temperature", _model_plot, self._draw_model)
        self.travel_picture = self.add_picture("Travel", TravelView, self._draw_travel)
        self.point_section = CollapsibleSection("Points of the chosen run", self._build_points, self._show_points)
        self.add_section(self.point_section)
        self.advice = AdvicePanel(self.session)
        self.inputs.addWidget(self.advice)

    # Runs

    @property
    def chosen(self) -> int:
        """The place of the chosen run; the first where none is."""
        return max(self.table.currentRow(), 0)

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        return [demo.FOCUS_RUNS]

    def is_empty(self, found: FocusResult) -> bool:
        return not found.runs

    def take_out(self) -> None:
        """Take the chosen run out."""
        result, place = self.result, self.chosen
        if result is not None and len(result.runs) > 1:
            self.work_again(lambda _progress: result.without_run(place))
        else:
            self.hold(None)

    def leave_out(self) -> None:
        """Leave the chosen point out of its run, or restore it."""
        row, result = self.points.currentRow(), self.result
        if result is None or not 0 <= row < self.points.rowCount():
            self.session.refused.emit("choose a point in the table, or click on it in the plot")
            return
        point = result.curves[self.chosen].points[row]
        self.work_again(lambda _progress: result.with_point(point.file, used=not point.used))

    # Showing

    def pictures_of(self, result: FocusResult | None) -> Iterable[StepPicture[Any]]:
        if result is not None:
            yield from (self.curve_picture, self.frame_picture, self.model_picture)
        if travel_pictures(self.session.evaluation):
            yield self.travel_picture

    def _make_curves(self) -> CurvePlot:
        from wyntaxis.desk.plots_focus import CurvePlot

        plot = CurvePlot()
        plot.point_chosen.connect(self.choose_point)
        return plot

    def _draw_curves(self, plot: CurvePlot) -> None:
        if self.result is not None:
            plot.show_result(self.result, self.chosen, self._palette, aligned=self.aligned.isChecked())

    def _draw_travel(self, view: TravelView) -> None:
        pictures = travel_pictures(self.session.evaluation)
        view.show_picture(pictures[0] if pictures else None, self._palette)

    def _draw_model(self, plot: ModelPlot) -> None:
        if self.result is not None:
            plot.show_result(self.result, self._palette)

    def _build_points(self) -> QWidget:
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        self.points = TextTable(
            "Points of the chosen run", sheet_headings(POINTS), left=(0, COUNTS, len(POINTS) - 1), widest_em=26
        )
        self.points.itemSelectionChanged.connect(self._point_chosen)
        column.addWidget(self.points)
        row = QHBoxLayout()
        self.point_button = push_button("Leave out", "Leave the chosen point out, or restore it", self.leave_out, row)
        row.addStretch(1)
        column.addLayout(row)
        return body

    def _show_points(self) -> None:
        result = self.result
        points = result.curves[self.chosen].points if result is not None and result.curves else ()
        self.points.show_rows([[column.cell(point) for column in POINTS] for point in points])
        self._point_chosen()

    def _draw_frame(self, plot: FramePicture) -> None:
        """Show the chosen point's frame; it is read in the background where it is not held."""
        path = self._chosen_path()
        held = self._frame if self._frame is not None and self._frame[0] == path else None
        frame, picture = (held[1], held[2]) if held is not None else (None, None)
        plot.show_frame(frame, picture, self._palette)
        if path is None or held is not None:
            return

        def work(_progress: Progress) -> tuple[Path, Any, Any]:
            from wyntaxis.core.evidence.stars.frame_stars import read_stars
            from wyntaxis.desk.frame_picture import read_picture

            return path, read_stars(path), read_picture(path)

        self.frame_job.start(work)

    def _frame_came(self, found: tuple[Path, Any, Any]) -> None:
        self._frame = found
        self.frame_picture.refresh()

    def _chosen_path(self) -> Path | None:
        result = self.result
        if result is None or not result.curves or self.point_section.body is None:
            return None
        points = result.curves[self.chosen].points
        row = max(self.points.currentRow(), 0)
        return points[row].path if row < len(points) else None

    def _point_chosen(self) -> None:
        self.frame_picture.refresh()
        item = self.points.item(self.points.currentRow(), COUNTS)
        counts = item is None or item.text() == "yes"
        self.point_button.setText("Leave out" if counts else "Restore")

    def choose_point(self, file: str) -> None:
        """Choose the point of a file, and its run."""
        result = self.result
        if result is None:
            return
        for place, curve in enumerate(result.curves):
            files = [point.file for point in curve.points]
            if file in files:
                self.table.selectRow(place)
                self.point_section.open()
                self.points.selectRow(files.index(file))
                self.frame_picture.open()
                return

    def chose(self) -> None:
        self.curve_picture.refresh()
        self.point_section.refresh()

    def show_result(self, result: FocusResult | None) -> None:
        self.advice.show_for(result, device_index(self.session.rig, "focuser"))

    def counts(self, result: FocusResult) -> str:
        points = sum(len(curve.points) for curve in result.curves)
        left = sum(not point.used for curve in result.curves for point in curve.points)
        return f"{counted(len(result.runs), 'run')} of {points} points, {left} of them left out."


def _frame_picture() -> FramePicture:
    from wyntaxis.desk.frame_picture import FramePicture

    return FramePicture()


def _model_plot() -> ModelPlot:
    from wyntaxis.desk.plots_focus import ModelPlot

    return ModelPlot()
