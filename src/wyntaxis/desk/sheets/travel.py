"""The Focuser sheet: the drawtube's travel, focus runs with their curves and points, and the settings they give."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from wyntaxis import demo
from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.evidence.focus.report import RUN_HEADINGS, run_row, summary_lines
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.evidence.focus.table import COLUMNS
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.measured import device_index
from wyntaxis.core.files.errors import ColumnsUnknownError, Progress
from wyntaxis.core.quantities.focus_runs import focus_optics
from wyntaxis.core.steps import TRAVEL, Step
from wyntaxis.core.travel_picture import travel_pictures
from wyntaxis.core.wording import number, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.columns_panel import ColumnsPanel, KnownColumns
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, not_used_text
from wyntaxis.desk.sheets.travel_panels import AdvicePanel
from wyntaxis.desk.tables import TextTable
from wyntaxis.desk.travel_drawing import TravelDrawing

if TYPE_CHECKING:
    from wyntaxis.desk.plots_focus import CurvePlot, ModelPlot

FILES_FILTER = "Frames and tables (*.fit *.fits *.fts *.csv *.tsv *.txt);;All files (*)"
POINT_HEADINGS = ("frame or row", "position\nsteps", "HFD\npx", "stars", "saturated", "counts", "why not")
NO_RUNS = (
    "No focus runs yet. Add frames taken at many positions of the focuser, with the position in their headers, or a "
    "table with the columns position and hfd_px. Runs in both directions give the backlash, runs at other "
    "temperatures the slope, runs through other filters their offsets."
)


@sheet_of(TRAVEL)
class TravelSheet(EvidenceSheet[FocusResult]):
    """The focuser."""

    kind = FOCUS
    files_title, folder_title, files_filter = "Focus runs", "Folder of focus runs", FILES_FILTER

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._asked: list[Path] = []
        self.known = KnownColumns(session, COLUMNS, "focus runs")
        self._frame: tuple[Path, Any, Any] | None = None
        self.frame_job = Job(self)
        self.frame_job.done.connect(self._frame_came)
        self.frame_job.failed.connect(session.refused)
        self.drawing = TravelDrawing()
        self.add_wide(self.drawing)
        self.drawn = PlainLabel()
        self.drawn.setWordWrap(True)
        self.drawn.setProperty("role", "faded")
        self.add_wide(self.drawn)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.columns = ColumnsPanel(COLUMNS, ("focus.position", "focus.hfd"), self._point_columns, session)
        self.add_wide(self.columns)
        self.curve_section = CollapsibleSection("Plot: focus curves", self._build_curves, self._draw_curves)
        self.model_section = CollapsibleSection(
            "Plot: best positions over temperature", self._build_model, self._draw_model
        )
        self.point_section = CollapsibleSection("Points of the chosen run", self._build_points, self._show_points)
        self.frame_section = CollapsibleSection("The chosen point's frame", self._build_frame, self._draw_frame)
        for section_box in (self.curve_section, self.point_section, self.frame_section, self.model_section):
            self.add_wide(section_box)
        self.advice = AdvicePanel(session)
        self.inputs.addWidget(self.advice)
        self.settings_grid = SettingsGrid(
            session, palette, "travel", "What focus runs are set by, and what they measured"
        )
        self.inputs.addWidget(self.settings_grid)
        self.inputs.addStretch(1)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.add_button = push_button("Add files …", "Read frames or tables of focus runs", self.ask, row)
        self.folder_button = push_button("Add a folder …", "Read all frames below a folder", self.ask_folder, row)
        self.simulate_button = push_button("Load simulated data", "Read the demo's frames", self.add_simulated, row)
        self.take_button = push_button("Take out", "Take the chosen run out", self.take_out, row)
        self.keep_button = push_button("Keep as measured", "Keep the numbers in the rig", self.keep, row)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Measuring frames"))
        headings = [text.replace(" ", "\n", 1) for text in RUN_HEADINGS]
        self.table = TextTable("Focus runs", headings, left=(0, 1, 9, 11))
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        self.together = Panel("Together")
        self.lines = self.together.add_text()
        column.addWidget(self.together)

    # Runs

    @property
    def chosen(self) -> int:
        """The place of the chosen run; the first where none is."""
        return max(self.table.currentRow(), 0)

    def add_simulated(self) -> None:
        """Read the focus runs that the demo ships."""
        self.read([demo.FOCUS_RUNS])

    def read(self, paths: list[Path], rules: tuple[KeyRule, ...] = ()) -> None:
        """Read runs in the background and add them."""
        self._asked = paths
        before, optics = self.result, focus_optics(self.session.evaluation)
        columns = (lambda _path: rules) if rules else self.known.rules_for
        self.job.start(lambda progress: FOCUS.read(paths, optics, progress, columns, before))

    def _failed(self, text: str) -> None:
        self.session.refused.emit(text)
        if isinstance(self.job.error, ColumnsUnknownError) and self._asked:
            self.columns.show_headings(self._asked[0])

    def _point_columns(self, rules: tuple[KeyRule, ...]) -> None:
        self.known.remember(rules)
        self.read(self._asked, rules)

    def _came_in(self, found: FocusResult) -> None:
        self.columns.hide()
        if not found.runs:
            first = found.not_used[0] if found.not_used else None
            why = f": {first.path}: {first.why}" if first is not None else ""
            self.session.refused.emit(f"there is no focus run in what was given{why}")
            return
        self.hold(found)
        for section_box in (self.curve_section, self.point_section):
            section_box.open()

    def take_out(self) -> None:
        """Take the chosen run out."""
        result, place = self.result, self.chosen
        if result is not None and len(result.runs) > 1:
            self._work_again(lambda: result.without_run(place))
        else:
            self.hold(None)

    def leave_out(self) -> None:
        """Leave the chosen point out of its run, or restore it."""
        row, result = self.points.currentRow(), self.result
        if result is None or not 0 <= row < self.points.rowCount():
            self.session.refused.emit("choose a point in the table, or click on it in the plot")
            return
        point = result.curves[self.chosen].points[row]
        self._work_again(lambda: result.with_point(point.file, used=not point.used))

    def _work_again(self, work: object) -> None:
        def run(_progress: Progress) -> FocusResult:
            assert callable(work)
            found = work()
            assert isinstance(found, FocusResult)
            return found

        self.job.start(run)

    # Showing

    def _build_curves(self) -> QWidget:
        from wyntaxis.desk.plots_focus import CurvePlot

        self.curves: CurvePlot = CurvePlot()
        self.curves.refused.connect(self.session.refused)
        self.curves.point_chosen.connect(self.choose_point)
        self.aligned = QCheckBox("Lay the runs over each other")
        self.aligned.setToolTip("Count positions from each run's best one")
        self.aligned.toggled.connect(lambda _on: self._draw_curves())
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.aligned)
        column.addWidget(self.curves)
        return body

    def _draw_curves(self) -> None:
        if self.result is not None:
            self.curves.show_result(self.result, self.chosen, self._palette, aligned=self.aligned.isChecked())

    def _build_model(self) -> QWidget:
        from wyntaxis.desk.plots_focus import ModelPlot

        self.model_plot: ModelPlot = ModelPlot()
        self.model_plot.refused.connect(self.session.refused)
        return self.model_plot

    def _draw_model(self) -> None:
        if self.result is not None:
            self.model_plot.show_result(self.result, self._palette)

    def _build_points(self) -> QWidget:
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        self.points = TextTable("Points of the chosen run", POINT_HEADINGS, left=(0, 5, 6), widest_em=26)
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
        self.points.show_rows(
            [
                [
                    point.file,
                    short(point.position),
                    "–" if point.hfd_px is None else number(point.hfd_px, 2),
                    "–" if point.stars is None else str(point.stars),
                    "–" if point.saturated is None else str(point.saturated),
                    "yes" if point.used else "no",
                    point.why,
                ]
                for point in points
            ]
        )
        self._point_chosen()

    def _build_frame(self) -> QWidget:
        from wyntaxis.desk.frame_picture import FramePicture

        self.frame_plot: FramePicture = FramePicture()
        self.frame_plot.refused.connect(self.session.refused)
        return self.frame_plot

    def _draw_frame(self) -> None:
        """Show the chosen point's frame; it is read in the background where it is not held."""
        path = self._chosen_path()
        held = self._frame if self._frame is not None and self._frame[0] == path else None
        frame, picture = (held[1], held[2]) if held is not None else (None, None)
        self.frame_plot.show_frame(frame, picture, self._palette)
        if path is None or held is not None:
            return

        def work(_progress: Progress) -> tuple[Path, Any, Any]:
            from wyntaxis.core.evidence.stars.frame_stars import read_stars
            from wyntaxis.desk.frame_picture import read_picture

            return path, read_stars(path), read_picture(path)

        self.frame_job.start(work)

    def _frame_came(self, found: tuple[Path, Any, Any]) -> None:
        self._frame = found
        self._draw_frame()

    def _chosen_path(self) -> Path | None:
        result = self.result
        if result is None or not result.curves or self.point_section.body is None:
            return None
        points = result.curves[self.chosen].points
        row = max(self.points.currentRow(), 0)
        return points[row].path if row < len(points) else None

    def _point_chosen(self) -> None:
        self.frame_section.refresh()
        item = self.points.item(self.points.currentRow(), 5)
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
                self.frame_section.open()
                return

    def _chose(self) -> None:
        if not self.job.running:
            self.curve_section.refresh()
            self.point_section.refresh()

    def refresh(self) -> None:
        super().refresh()
        rig, running, result = self.session.rig, self.job.running, self.result
        index = device_index(rig, "focuser")
        pictures = travel_pictures(self.session.evaluation)
        self.drawing.show_picture(pictures[0] if pictures else None, self._palette)
        words = "; ".join(pictures[0].words) if pictures else ""
        self.drawn.setText(f"{words[:1].upper()}{words[1:]}.")
        self.drawn.setVisible(bool(pictures))
        for button in (self.add_button, self.folder_button, self.simulate_button):
            button.setEnabled(not running)
        self.take_button.setEnabled(result is not None and not running)
        self.keep_button.setEnabled(result is not None and index is not None and not running)
        shown = (
            self.table,
            self.together,
            self.curve_section,
            self.point_section,
            self.frame_section,
            self.model_section,
        )
        for widget in shown:
            widget.setVisible(result is not None)
        self.state.setText(self._state(result))
        if result is not None:
            rows = [run_row(run, curve) for run, curve in zip(result.runs, result.curves, strict=True)]
            self.table.show_rows(rows)
            self.lines.setText("\n".join(summary_lines(result)))
        for section_box in (self.curve_section, self.point_section, self.model_section):
            section_box.refresh()
        self.advice.show_for(result, index)
        self.settings_grid.setVisible(index is not None)
        if index is not None:
            self.settings_grid.show_device(rig.devices[index], index)

    def _state(self, result: FocusResult | None) -> str:
        if result is None:
            return NO_RUNS
        points = sum(len(curve.points) for curve in result.curves)
        left = sum(not point.used for curve in result.curves for point in curve.points)
        text = f"{len(result.runs)} runs of {points} points, {left} of them left out."
        return text + not_used_text(result.not_used)

    def set_palette(self, palette: Palette) -> None:
        self.settings_grid.palette_in_use = palette
        super().set_palette(palette)
