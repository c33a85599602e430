"""The Tilt & curvature sheet: tilt and curvature by sweeps of the focuser, what is wrong, and which screws to turn."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QVBoxLayout, QWidget

from wyntaxis.core.evidence.field.causes import relation_of
from wyntaxis.core.evidence.field.kind import FIELD as SWEEPS
from wyntaxis.core.evidence.field.report import SWEEP_HEADINGS, summary_lines, sweep_row
from wyntaxis.core.evidence.field.result import RELATIONS, FieldResult, MeasuredSweep
from wyntaxis.core.evidence.field.shape import corner_spots
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.quantities.field_surface import field_optics
from wyntaxis.core.rig.display import displayed_at
from wyntaxis.core.steps import FIELD, Step
from wyntaxis.core.wording import short
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet, not_used_text
from wyntaxis.desk.sheets.field_panels import CausesPanel, FlatPanel, ScrewsPanel
from wyntaxis.desk.sheets.labelled import labelled_field
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots_field import CornersPlot, SpacingPlot, SurfacePlot

NO_SWEEPS = (
    "No sweep yet. Add frames of one star field taken at seven to eleven positions of the focuser on both sides of "
    "focus: best focus is found zone by zone. A second sweep with the camera turned by half a turn shows whether the "
    "camera or the telescope is tilted; one at another spacing shows where the field is flat. A single frame gives a "
    "hint."
)
AUTOMATIC = "from the headers"
RELATION_CHARACTERS = 24


@sheet_of(FIELD)
class FieldSheet(EvidenceSheet[FieldResult]):
    """The surface of best focus."""

    kind = SWEEPS
    files_title, folder_title = "Frames of a sweep", "Folder of sweeps"

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self._pieces: tuple[str, Any] | None = None
        self.pieces_job = Job(self)
        self.pieces_job.done.connect(self._pieces_came)
        self.pieces_job.failed.connect(session.refused)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.surface_section = CollapsibleSection(
            "Plot: best focus over the sensor", self._build_surface, self._draw_surface
        )
        self.corners_section = CollapsibleSection(
            "The corners beside the middle", self._build_corners, self._draw_corners
        )
        self.spacing_section = CollapsibleSection(
            "Plot: curvature over spacing", self._build_spacing, self._draw_spacing
        )
        for section_box in (self.surface_section, self.corners_section, self.spacing_section):
            self.add_wide(section_box)
        self.causes = CausesPanel()
        self.flat = FlatPanel(session)
        self.screws = ScrewsPanel(session)
        for panel in (self.causes, self.flat, self.screws):
            self.inputs.addWidget(panel)
        self.plate = self.add_card(2)
        self.inputs.addStretch(1)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.folder_button = push_button("Add a folder …", "Measure the sweeps below a folder", self.ask_folder, row)
        self.add_button = push_button("Add files …", "Measure the frames of one sweep", self.ask, row)
        self.simulate_button = push_button(
            "Load simulated data", "Draw and measure simulated sweeps", self.add_simulated, row
        )
        self.take_button = push_button("Take out", "Take the chosen sweep out", self.take_out, row)
        self.keep_button = push_button("Keep as measured", "Keep tilt, curvature and flat spacing", self.keep, row)
        column.addLayout(row)
        fields = FlowRow()
        tip = "The distance behind the corrector at which the chosen sweep was taken, in mm"
        self.spacing = labelled_field("Spacing of the chosen sweep, mm", "not known", tip, fields)
        self.spacing.editingFinished.connect(self.set_spacing)
        self.relation = QComboBox()
        self.relation.setAccessibleName("How the last two sweeps differ")
        self.relation.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.relation.setMinimumContentsLength(RELATION_CHARACTERS)
        self.relation.addItem(f"Last two: {AUTOMATIC}")
        for words in RELATIONS.values():
            self.relation.addItem(f"Last two: {words}")
        self.relation.activated.connect(self.set_relation)
        fields.addWidget(self.relation)
        column.addLayout(fields)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Measuring frames"))
        headings = [text.replace(" ", "\n", 1) for text in SWEEP_HEADINGS]
        self.table = TextTable("Sweeps", headings, left=(0, 1, 8), widest_em=16)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        self.together = Panel("Together")
        self.lines = self.together.add_text()
        column.addWidget(self.together)

    # Sweeps

    @property
    def chosen(self) -> MeasuredSweep | None:
        """The chosen sweep; the last that tells a surface where none is."""
        result, row = self.result, self.table.currentRow()
        if result is None or not result.sweeps:
            return None
        return result.sweeps[row] if 0 <= row < len(result.sweeps) else result.last

    def read(self, paths: list[Path]) -> None:
        """Measure sweeps in the background and add them."""
        before, optics = self.result, field_optics(self.session.evaluation)
        self.job.start(lambda progress: SWEEPS.read(paths, optics, progress, before))

    def add_simulated(self) -> None:
        """Draw sweeps of the simulated telescope and measure them."""
        folder, optics = self.simulated_folder(), field_optics(self.session.evaluation)

        def work(progress: Progress) -> FieldResult:
            from wyntaxis.simulators.observing import write_sweeps

            write_sweeps(folder, progress)
            return SWEEPS.read([folder], optics, progress)

        self.job.start(work)

    def _came_in(self, found: FieldResult) -> None:
        if not found.sweeps and not found.singles:
            first = found.not_used[0] if found.not_used else None
            why = f": {first.path}: {first.why}" if first is not None else ""
            self.session.refused.emit(f"there is no sweep in what was given{why}")
            return
        self._pieces = None
        self.hold(found)
        self.surface_section.open()
        self.corners_section.open()
        if found.flat.points:
            self.spacing_section.open()

    def take_out(self) -> None:
        """Take the chosen sweep out."""
        result = self.result
        if result is None:
            return
        rest = result.without(max(self.table.currentRow(), 0))
        self.hold(rest if rest.sweeps else None)

    def set_spacing(self) -> None:
        """Take the spacing that was typed for the chosen sweep."""
        result, chosen = self.result, self.chosen
        if result is None or chosen is None:
            return
        try:
            value = parse_number(self.spacing.text(), "mm")
        except ValueError as error:
            self.session.refused.emit(str(error))
            value = chosen.sweep.spacing_mm
        if value is not None and not 0 < value < 10_000:
            self.session.refused.emit(f"a spacing lies above 0 mm, got {short(value)}")
            value = chosen.sweep.spacing_mm
        if value != chosen.sweep.spacing_mm:
            self.hold(result.with_spacing(chosen.sweep.name, value))
        self._show_spacing()

    def set_relation(self, place: int) -> None:
        """Take how the last two sweeps differ."""
        if self.result is not None:
            relation = list(RELATIONS)[place - 1] if place > 0 else None
            self.hold(replace(self.result, relation=relation))

    def describe_screws(self, count: int) -> None:
        """Give the tilt plate screws to be filled in: what nobody gave is assumed until it is given."""
        place = next((k for k, part in enumerate(self.session.rig.train) if part.kind == "tilt_plate"), None)
        if place is None:
            self.session.refused.emit("the train has no tilt plate: put one in on the Light path sheet")
            return
        at = [{"azimuth_deg": 90.0 + 360 / count * k} for k in range(count)]
        screws = {"radius_mm": 40.0, "pitch_mm": 0.5, "at": at}
        self.session.fill_in(("train", place, "screws"), screws, f"Describe {count} screws")

    # Showing

    def _build_surface(self) -> QWidget:
        from wyntaxis.desk.plots_field import SurfacePlot

        self.surface_plot: SurfacePlot = SurfacePlot()
        self.surface_plot.refused.connect(self.session.refused)
        self.residuals = QCheckBox("Show residuals")
        self.residuals.setToolTip("Each zone's distance from the fitted plane and field curvature")
        self.residuals.toggled.connect(lambda _on: self._draw_surface())
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.residuals)
        column.addWidget(self.surface_plot)
        return body

    def _draw_surface(self) -> None:
        self.surface_plot.show_sweep(self.chosen, self._palette, residuals=self.residuals.isChecked())

    def _build_spacing(self) -> QWidget:
        from wyntaxis.desk.plots_field import SpacingPlot

        self.spacing_plot: SpacingPlot = SpacingPlot()
        self.spacing_plot.refused.connect(self.session.refused)
        return self.spacing_plot

    def _draw_spacing(self) -> None:
        if self.result is not None:
            self.spacing_plot.show_result(self.result, self._palette)

    def _build_corners(self) -> QWidget:
        from wyntaxis.desk.plots_field import CornersPlot

        self.corners_plot: CornersPlot = CornersPlot()
        self.corners_plot.refused.connect(self.session.refused)
        return self.corners_plot

    def _draw_corners(self) -> None:
        path, shape = self._sharpest()
        spots = self._spots()
        held = self._pieces is not None and self._pieces[0] == str(path)
        picture = self._pieces[1] if held and self._pieces is not None else None
        self.corners_plot.show_pieces(picture, shape, self._palette)
        if path is not None and not held:
            self._fetch(path, spots)

    def _spots(self) -> tuple[Any, ...]:
        """Return which places of the sharpest frame are enlarged: stars, where the chosen sweep has them."""
        chosen = self.chosen
        return corner_spots(chosen.sweep.sharpest, chosen.sweep.size_px) if chosen is not None else ()

    def _sharpest(self) -> tuple[Path | None, Any]:
        """Return the sharpest frame of the chosen sweep, else the first single frame, and its stars' shape."""
        chosen, result = self.chosen, self.result
        if chosen is not None:
            return chosen.sweep.sharpest.path, chosen.shape
        if result is not None and result.singles:
            return result.single_paths[0], result.singles[0]
        return None, None

    def _fetch(self, path: Path, spots: tuple[Any, ...]) -> None:
        def work(_progress: Progress) -> tuple[str, Any]:
            from wyntaxis.desk.plots_field import pieces_of

            return str(path), pieces_of(path, spots)

        self.pieces_job.start(work)

    def _pieces_came(self, found: tuple[str, Any]) -> None:
        self._pieces = found
        self._draw_corners()

    def _chose(self) -> None:
        if not self.job.running:
            self._show_spacing()
            self.surface_section.refresh()
            self.corners_section.refresh()

    def _show_spacing(self) -> None:
        chosen = self.chosen
        spacing = chosen.sweep.spacing_mm if chosen is not None else None
        self.spacing.setText("" if spacing is None else short(spacing, 3))

    def refresh(self) -> None:
        super().refresh()
        running, result = self.job.running, self.result
        if result is not None:
            result = self._with_the_rig(result)
        has_sweeps = result is not None and bool(result.sweeps)
        for button in (self.add_button, self.folder_button, self.simulate_button):
            button.setEnabled(not running)
        for button in (self.take_button, self.keep_button):
            button.setEnabled(has_sweeps and not running)
        for widget in (
            self.table,
            self.together,
            self.surface_section,
            self.spacing_section,
            self.spacing,
            self.relation,
        ):
            widget.setVisible(has_sweeps)
        holder = self.spacing.parentWidget()
        assert holder is not None
        holder.setVisible(has_sweeps)
        self.relation.setVisible(result is not None and len(result.sweeps) > 1)
        self.corners_section.setVisible(result is not None)
        self.state.setText(self._state(result))
        if result is not None and has_sweeps:
            self.table.show_rows([sweep_row(entry) for entry in result.sweeps])
            self.lines.setText("\n".join(summary_lines(result)))
            entries = list(RELATIONS).index(result.relation) + 1 if result.relation is not None else 0
            self.relation.setCurrentIndex(entries)
            if len(result.sweeps) > 1:
                words = RELATIONS[relation_of(*result.sweeps[-2:])]
                self.relation.setItemText(0, f"Last two: {words}, {AUTOMATIC}")
            self.relation.setToolTip(f"How the last two sweeps differ. {self.relation.currentText()}")
            self._show_spacing()
        for section_box in (self.surface_section, self.corners_section, self.spacing_section):
            section_box.refresh()
        self.causes.show_result(result)
        self.flat.show_result(result)
        self._show_plate(result)

    def _with_the_rig(self, result: FieldResult) -> FieldResult:
        """Return the result told by the rig as it is now: its screws and its built distance may have been edited."""
        now = field_optics(self.session.evaluation)
        return replace(
            result, optics=replace(result.optics, screws=now.screws, built_mm=now.built_mm, depth_um=now.depth_um)
        )

    def _show_plate(self, result: FieldResult | None) -> None:
        train = self.session.rig.train
        place = next((k for k, part in enumerate(train) if part.kind == "tilt_plate"), None)
        self.screws.show_result(result, has_plate=place is not None, describe=self.describe_screws)
        screws = train[place].screws if place is not None else None
        self.plate.setVisible(screws is not None)
        if place is not None and screws is not None:
            part = type(train[place])
            names = [("radius_mm",), ("pitch_mm",), ("drive",), ("mirrored",)]
            specs = [displayed_at(part, "screws", *name) for name in names]
            for k in range(len(screws.at)):
                for key in ("azimuth_deg", "clock"):
                    spec = displayed_at(part, "screws", "at", key)
                    below = ("screws", "at", k, key)
                    specs.append(replace(spec, path=below, label=f"{k + 1}: {spec.label.removeprefix('Screws ')}"))
            self.plate.show_object(f"Screws of {train[place].title}", ("train", place), tuple(specs), self.session.rig)

    def _state(self, result: FieldResult | None) -> str:
        if result is None:
            return NO_SWEEPS
        frames = sum(len(entry.sweep.frames) for entry in result.sweeps)
        text = f"{len(result.sweeps)} sweeps of {frames} frames." if result.sweeps else "No sweep."
        if result.singles:
            text += f" {len(result.singles)} single frames: their stars’ shape is a hint."
        return text + not_used_text(result.not_used)
