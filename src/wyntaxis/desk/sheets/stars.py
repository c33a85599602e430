"""The Stars sheet: frames in a table and over time, which are worth keeping, and each frame with its stars."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QComboBox, QFileDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from wyntaxis.core.evidence.stars.frame_grading import FACTOR, FACTOR_RANGE, FrameGrade
from wyntaxis.core.evidence.stars.kind import STARS as FRAMES
from wyntaxis.core.evidence.stars.kind import StarsResult
from wyntaxis.core.evidence.stars.report import FRAME_HEADINGS, frame_row, frames_csv
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.stars import frame_scale
from wyntaxis.core.steps import STARS, Step
from wyntaxis.core.wording import short
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, not_used_text
from wyntaxis.desk.sheets.labelled import labelled_field
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.frame_picture import FramePicture
    from wyntaxis.desk.plots_stars import PlacePlot, TimePlot

NO_FRAMES = (
    "No frames yet. Add a night's lights: the stars of each frame are measured, events in between are marked, and "
    "frames that are soft, trailed, clouded, dewed or shifted are rejected with the reason."
)


@sheet_of(STARS)
class StarsSheet(EvidenceSheet[StarsResult]):
    """Frames and their stars."""

    kind = FRAMES
    files_title, folder_title = "Frames", "Folder of frames"

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._grades: list[FrameGrade] = []
        self._grades_of: StarsResult | None = None
        self._picture: tuple[str, Any] | None = None
        self.picture_job = Job(self)
        self.picture_job.done.connect(self._picture_came)
        self.picture_job.failed.connect(session.refused)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.time_section = CollapsibleSection("Plot: over time", self._build_time, self._draw_time)
        self.frame_section = CollapsibleSection("The chosen frame, with its stars", self._build_frame, self._draw_frame)
        for section_box in (self.time_section, self.frame_section):
            self.add_wide(section_box)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.folder_button = push_button("Add a folder …", "Measure all frames below a folder", self.ask_folder, row)
        self.add_button = push_button("Add files …", "Measure single frames", self.ask, row)
        self.simulate_button = push_button(
            "Load simulated data", "Draw and measure a simulated night", self.add_simulated, row
        )
        self.clear_button = push_button("Take out", "Take all frames out", self.take_out, row)
        self.keep_button = push_button("Keep as measured", "Keep size and roundness in the rig", self.keep, row)
        self.save_button = push_button("Save CSV …", "Save the table of frames as CSV", self.ask_save, row)
        column.addLayout(row)
        fields = FlowRow()
        self.every = labelled_field("Take every", "1", "Read only every n-th frame (for a slow computer)", fields, "1")
        low, high = FACTOR_RANGE
        tip = f"The limit of worth as a multiple of each filter's first good frames, usually {low} to {high}"
        self.factor = labelled_field("Limit, × first frames", "1.3", tip, fields, short(FACTOR))
        self.limit = labelled_field("or HFD, px", "by the factor", "The limit of worth itself, in px", fields)
        self.factor.editingFinished.connect(self.set_limit)
        self.limit.editingFinished.connect(self.set_limit)
        column.addLayout(fields)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Measuring frames"))
        headings = [text.replace(" ", "\n", 1) for text in FRAME_HEADINGS]
        self.table = TextTable("Frames", headings, left=(0, 1, 7, 11, 12), stretch=12, widest_em=20)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)

    # Frames

    @property
    def grades(self) -> list[FrameGrade]:
        """Whether each frame is worth keeping, in time."""
        result = self.result
        if result is not self._grades_of:
            self._grades_of = result
            self._grades = result.grades if result is not None else []
        return self._grades

    @property
    def chosen(self) -> FrameGrade | None:
        """The chosen frame; the first where none is."""
        row = max(self.table.currentRow(), 0)
        return self.grades[row] if row < len(self.grades) else None

    def read(self, paths: list[Path]) -> None:
        """Measure frames in the background, in place of those that are there."""
        every = self.every.text().strip() or "1"
        if not every.isascii() or not every.isdigit() or not 1 <= int(every) <= 100_000:
            self.session.refused.emit(f"“Take every” must be a whole number of 1 or more, got {every[:40]}")
            return
        evaluation = self.session.evaluation
        self.job.start(
            lambda progress: FRAMES.read(
                paths, lambda header: frame_scale(evaluation, header.binning), progress, int(every)
            )
        )

    def add_simulated(self) -> None:
        """Draw a night of the simulated telescope and measure it."""
        folder, evaluation = self.simulated_folder(), self.session.evaluation

        def work(progress: Progress) -> StarsResult:
            from wyntaxis.simulators.observing import write_night

            write_night(folder, progress)
            return FRAMES.read([folder], lambda header: frame_scale(evaluation, header.binning), progress)

        self.job.start(work)

    def _came_in(self, found: StarsResult) -> None:
        if not found.frames:
            first = found.not_used[0]
            self.session.refused.emit(f"no frame could be used: {first.path}: {first.why}")
            return
        self._picture = None
        self.hold(self._limited(found))
        self.time_section.open()
        self.frame_section.open()

    def take_out(self) -> None:
        """Take all frames out."""
        self._picture = None
        self.hold(None)

    def set_limit(self) -> None:
        """Take the limit that was typed."""
        if self.result is not None:
            found = self._limited(self.result)
            if found != self.result:
                self.hold(found)

    def _limited(self, result: StarsResult) -> StarsResult:
        """Return a result with the limit that the fields tell; what they cannot mean is refused and put right."""
        try:
            factor, limit = parse_number(self.factor.text(), ""), parse_number(self.limit.text(), "px")
        except ValueError as error:
            self.session.refused.emit(str(error))
            factor, limit = result.factor, result.limit_px
        if factor is not None and not 1 <= factor <= 10:
            self.session.refused.emit(f"the limit is 1 to 10 times the first frames' size, got {short(factor)}")
            factor = result.factor
        if limit is not None and not 0 < limit <= 1000:
            self.session.refused.emit(f"the limit must lie above 0 px, got {short(limit)}")
            limit = result.limit_px
        self.factor.setText(short(factor or FACTOR))
        self.limit.setText("" if limit is None else short(limit))
        return replace(result, factor=factor, limit_px=limit)

    def move_limit(self, limit_px: float) -> None:
        """Take the limit that was drawn in the plot."""
        self.limit.setText(short(limit_px, 2))
        self.set_limit()

    def ask_save(self) -> None:
        """Ask for a file and save the table of frames."""
        chosen, _ = QFileDialog.getSaveFileName(self, "Save frames", str(home() / "frames.csv"), "CSV (*.csv)")
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Save the table of frames as CSV."""
        try:
            write_atomically(frames_csv(self.grades).encode("utf-8"), path, keep_previous=False)
        except InputError as error:
            self.session.refused.emit(str(error))

    # Showing

    def _build_time(self) -> QWidget:
        from wyntaxis.desk.plots_stars import FIGURES, TimePlot

        self.time_plot: TimePlot = TimePlot()
        self.time_plot.refused.connect(self.session.refused)
        self.time_plot.frame_chosen.connect(self.table.selectRow)
        self.time_plot.limit_moved.connect(self.move_limit)
        self.figure = QComboBox()
        self.figure.setAccessibleName("What is drawn over time")
        for figure in FIGURES:
            self.figure.addItem(figure.label)
        self.figure.currentIndexChanged.connect(lambda _at: self._draw_time())
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.addWidget(self.figure)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.time_plot)
        return body

    def _draw_time(self) -> None:
        from wyntaxis.desk.plots_stars import FIGURES

        if self.result is not None:
            figure = FIGURES[max(self.figure.currentIndex(), 0)]
            self.time_plot.show_grades(self.grades, figure, max(self.table.currentRow(), 0), self._palette)

    def _build_frame(self) -> QWidget:
        from wyntaxis.desk.frame_picture import FramePicture
        from wyntaxis.desk.plots_stars import PlacePlot

        self.frame_plot: FramePicture = FramePicture()
        self.place_plot: PlacePlot = PlacePlot()
        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 0, 0, 0)
        for column, plot in enumerate((self.frame_plot, self.place_plot)):
            plot.refused.connect(self.session.refused)
            grid.addWidget(plot, 0, column)
            grid.setColumnStretch(column, 1)
        return body

    def _draw_frame(self) -> None:
        chosen = self.chosen
        frame = chosen.frame if chosen is not None else None
        path = str(frame.path) if frame is not None and frame.path is not None else ""
        held = self._picture is not None and self._picture[0] == path
        self.frame_plot.show_frame(frame, self._picture[1] if held and self._picture else None, self._palette)
        self.place_plot.show_frame(frame, self._palette)
        if path and not held:
            self._fetch(Path(path))

    def _fetch(self, path: Path) -> None:
        """Read a frame's pixels in the background."""

        def work(_progress: Progress) -> tuple[str, Any]:
            from wyntaxis.desk.frame_picture import read_picture

            return str(path), read_picture(path)

        self.picture_job.start(work)

    def _picture_came(self, found: tuple[str, Any]) -> None:
        self._picture = found
        self._draw_frame()

    def _chose(self) -> None:
        if not self.job.running:
            self.time_section.refresh()
            self.frame_section.refresh()

    def refresh(self) -> None:
        super().refresh()
        running, result = self.job.running, self.result
        for button in (self.add_button, self.folder_button, self.simulate_button):
            button.setEnabled(not running)
        for button in (self.clear_button, self.keep_button, self.save_button):
            button.setEnabled(result is not None and not running)
        for widget in (self.table, self.time_section, self.frame_section):
            widget.setVisible(result is not None)
        self.state.setText(self._state(result))
        if result is not None:
            verdicts = [Verdict.HOLDS if entry.keep else Verdict.FAILS for entry in self.grades]
            rows = [frame_row(entry) for entry in self.grades]
            self.table.show_rows(rows, verdicts=verdicts, palette=self._palette)
        self.time_section.refresh()
        self.frame_section.refresh()

    def _state(self, result: StarsResult | None) -> str:
        if result is None:
            return NO_FRAMES
        kept = sum(entry.keep for entry in self.grades)
        text = f"{len(result.frames)} frames, {kept} accepted."
        return text + not_used_text(result.not_used)
