"""The Stars sheet: frames in a table and over time, which are worth keeping, and each frame with its stars."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from wyntaxis.core.evidence.stars.frame_grading import FACTOR, FACTOR_RANGE, FrameGrade
from wyntaxis.core.evidence.stars.kind import StarsResult
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.measuring.stars import MEASURING
from wyntaxis.core.steps import STARS
from wyntaxis.core.wording import counted, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.labelled import labelled_field
from wyntaxis.desk.sheets.reading_sheet import SheetTexts
from wyntaxis.desk.step_pictures import side_by_side

if TYPE_CHECKING:
    from wyntaxis.desk.frame_picture import FramePicture
    from wyntaxis.desk.plots_stars import PlacePlot, TimePlot

MAX_EVERY = 100_000


@sheet_of(STARS)
class StarsSheet(EvidenceSheet[StarsResult]):
    """Frames and their stars."""

    measuring = MEASURING
    adds = False
    texts = SheetTexts(
        empty="No frames yet. Add a night's lights: the stars of each frame are measured, events in between are "
        "marked, and frames that are soft, trailed, clouded, dewed or shifted are rejected with the reason.",
        working="Measuring frames",
        drop="A night’s lights are drawn here over time, and each with its stars.",
        keep="Keep size and roundness in the rig",
        files="Measure single frames",
        folder="Measure all frames below a folder",
        simulate="Draw and measure a simulated night",
        take_out="Take all frames out",
        files_title="Frames",
        folder_title="Folder of frames",
        nothing="no frame could be used",
    )

    def build_above(self) -> None:
        self._grades: list[FrameGrade] = []
        self._grades_of: StarsResult | None = None
        self.picture: tuple[str, Any] | None = None
        self.picture_job = Job(self)
        self.picture_job.done.connect(self._picture_came)
        self.picture_job.failed.connect(self.session.refused)

    def build(self) -> None:
        self.figure = QComboBox()
        self.figure.setAccessibleName("What is drawn over time")
        self.figure.currentIndexChanged.connect(lambda _at: self.time_picture.refresh())
        self.time_picture = self.add_picture("Over time", self._make_time, self._draw_time, (self.figure,))
        self.frame_picture = self.add_picture("The chosen frame", self._make_frame, lambda _body: self._draw_frame())

    def add_fields(self, column: QVBoxLayout) -> None:
        fields = FlowRow()
        self.every = labelled_field("Take every", "1", "Read only every n-th frame (for a slow computer)", fields, "1")
        low, high = FACTOR_RANGE
        tip = f"The limit as a multiple of the first good frames of each target, filter and exposure, {low} to {high}"
        self.factor = labelled_field("Limit, × first frames", "1.3", tip, fields, short(FACTOR))
        self.limit = labelled_field("or HFD, px", "by the factor", "The limit of worth itself, in px", fields)
        self.factor.editingFinished.connect(self.set_limit)
        self.limit.editingFinished.connect(self.set_limit)
        column.addLayout(fields)

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

    def options(self) -> JsonObject:
        every = self.every.text().strip() or "1"
        if not every.isascii() or not every.isdigit() or not 1 <= int(every) <= MAX_EVERY:
            raise ValueError(f"“Take every” must be a whole number of 1 or more, got {every[:40]}")
        return {"every": int(every)}

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.observing import write_night

        write_night(folder, progress)
        return [folder]

    def is_empty(self, found: StarsResult) -> bool:
        return not found.frames

    def arrived(self, found: StarsResult) -> StarsResult:
        self.picture = None
        return self._limited(found)

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

    # Showing

    def _make_time(self) -> TimePlot:
        from wyntaxis.desk.plots_stars import FIGURES, TimePlot

        plot = TimePlot()
        plot.frame_chosen.connect(self.table.selectRow)
        plot.limit_moved.connect(self.move_limit)
        self.figure.blockSignals(True)
        self.figure.addItems([figure.label for figure in FIGURES])
        self.figure.blockSignals(False)
        return plot

    def _draw_time(self, plot: TimePlot) -> None:
        from wyntaxis.desk.plots_stars import FIGURES

        if self.result is not None:
            figure = FIGURES[max(self.figure.currentIndex(), 0)]
            plot.show_grades(self.grades, figure, max(self.table.currentRow(), 0), self._palette)

    def _make_frame(self) -> QWidget:
        from wyntaxis.desk.frame_picture import FramePicture
        from wyntaxis.desk.plots_stars import PlacePlot

        self.frame_plot: FramePicture = FramePicture()
        self.place_plot: PlacePlot = PlacePlot()
        return side_by_side(self.frame_plot, self.place_plot)

    def _draw_frame(self) -> None:
        chosen = self.chosen
        frame = chosen.frame if chosen is not None else None
        path = str(frame.path) if frame is not None and frame.path is not None else ""
        held = self.picture is not None and self.picture[0] == path
        self.frame_plot.show_frame(frame, self.picture[1] if held and self.picture else None, self._palette)
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
        self.picture = found
        self.frame_picture.refresh()

    def counts(self, result: StarsResult) -> str:
        return f"{counted(len(result.frames), 'frame')}, {sum(entry.keep for entry in self.grades)} accepted."
