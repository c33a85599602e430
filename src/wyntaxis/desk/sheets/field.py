"""The Tilt & curvature sheet: tilt and curvature by sweeps of the focuser, what is wrong, and which screws to turn."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QVBoxLayout, QWidget

from wyntaxis.core.evidence.field.result import RELATIONS, FieldResult, MeasuredSweep
from wyntaxis.core.evidence.field.shape import FieldShape, corner_spots
from wyntaxis.core.evidence.field.shares import relation_in, screws_in
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.measuring.field import MEASURING
from wyntaxis.core.quantities.field_surface import field_optics
from wyntaxis.core.rig.display import displayed_at
from wyntaxis.core.steps import FIELD
from wyntaxis.core.wording import counted, short
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.corner_pieces import CornerPieces, Spots
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.field_panels import CausesPanel, FlatPanel, ScrewsPanel
from wyntaxis.desk.sheets.labelled import labelled_field
from wyntaxis.desk.sheets.reading_sheet import SheetTexts
from wyntaxis.desk.step_pictures import StepPicture, side_by_side

if TYPE_CHECKING:
    from wyntaxis.desk.plots_field import CornersPlot, SpacingPlot, SurfacePlot

AUTOMATIC = "by headers and stars"
RELATION_CHARACTERS = 27


def _plots() -> ModuleType:
    from wyntaxis.desk import plots_field

    return plots_field


@sheet_of(FIELD)
class FieldSheet(EvidenceSheet[FieldResult]):
    """The surface of best focus."""

    measuring = MEASURING
    texts = SheetTexts(
        empty="No sweep yet. Add frames of one star field taken at seven to eleven positions of the focuser on both "
        "sides of focus: best focus is found zone by zone. A second sweep with the camera turned by half a turn shows "
        "whether the camera or the telescope is tilted; one at another spacing shows where the field is flat. A "
        "single frame gives a hint.",
        working="Measuring frames",
        drop="Frames of one star field on both sides of focus show here how the sensor is tilted.",
        keep="Keep tilt, curvature and flat spacing",
        files="Measure the frames of one sweep",
        folder="Measure the sweeps below a folder",
        simulate="Draw and measure simulated sweeps",
        take_out="Take the chosen sweep out",
        files_title="Frames of a sweep",
        folder_title="Folder of sweeps",
        nothing="there is no sweep in what was given",
    )

    def build_above(self) -> None:
        self.pieces = CornerPieces(self)
        self.pieces.job.failed.connect(self.session.refused)

    def build(self) -> None:
        self.residuals = QCheckBox("Show residuals")
        self.residuals.setToolTip("Each zone's distance from the fitted plane and field curvature")
        self.residuals.toggled.connect(lambda _on: self.sensor_picture.refresh())
        self.sensor_picture = self.add_picture(
            "Best focus and corners", self._make_sensor, lambda _body: self._draw_sensor(), (self.residuals,)
        )
        self.pieces.came.connect(self.sensor_picture.refresh)
        self.spacing_picture = self.add_picture(
            "Curvature over spacing", lambda: _plots().SpacingPlot(), self._draw_spacing
        )
        self.causes, self.flat, self.screws = CausesPanel(), FlatPanel(self.session), ScrewsPanel(self.session)
        for panel in (self.causes, self.flat, self.screws):
            self.inputs.addWidget(panel)
        self.plate = self.add_card(2)
        self.inputs.addStretch(1)

    def add_fields(self, column: QVBoxLayout) -> None:
        fields = FlowRow()
        tip = "The distance behind the corrector at which the chosen sweep was taken, in mm"
        self.spacing = labelled_field("Spacing of the chosen sweep, mm", "not known", tip, fields)
        self.spacing.editingFinished.connect(self.set_spacing)
        self.relation = QComboBox()
        self.relation.setAccessibleName("How the last two sweeps differ")
        self.relation.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.relation.setMinimumContentsLength(RELATION_CHARACTERS)
        self.relation.addItem(AUTOMATIC)
        self.relation.addItems(RELATIONS.values())
        self.relation.activated.connect(self.set_relation)
        related = PlainLabel("Last two sweeps")
        related.setBuddy(self.relation)
        fields.addWidget(related)
        fields.addWidget(self.relation)
        self._related = related
        column.addLayout(fields)

    # Sweeps

    @property
    def chosen(self) -> MeasuredSweep | None:
        """The chosen sweep; the last that tells a surface where none is."""
        result, row = self.result, self.table.currentRow()
        if result is None or not result.sweeps:
            return None
        return result.sweeps[row] if 0 <= row < len(result.sweeps) else result.last

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.observing import write_sweeps

        write_sweeps(folder, progress)
        return [folder]

    def is_empty(self, found: FieldResult) -> bool:
        return not found.sweeps and not found.singles

    def can_keep(self, result: FieldResult) -> bool:
        return bool(result.sweeps)

    def arrived(self, found: FieldResult) -> FieldResult:
        self.pieces.forget()
        return found

    def take_out(self) -> None:
        """Take the chosen sweep out."""
        result = self.result
        if result is not None:
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

    @property
    def shown_result(self) -> FieldResult | None:
        """The result told by the rig as it is now: its screws and its built distance may have been edited."""
        result, now = self.result, field_optics(self.session.evaluation)
        if result is None:
            return None
        optics = replace(result.optics, screws=now.screws, built_mm=now.built_mm, depth_um=now.depth_um)
        return replace(result, optics=optics)

    def pictures_of(self, result: FieldResult | None) -> Iterable[StepPicture[Any]]:
        if result is None:
            return ()
        return self.pictures.all if result.sweeps else (self.sensor_picture,)

    def _make_sensor(self) -> QWidget:
        self.surface_plot: SurfacePlot = _plots().SurfacePlot()
        self.corners_plot: CornersPlot = _plots().CornersPlot()
        return side_by_side(self.surface_plot, self.corners_plot)

    def _draw_sensor(self) -> None:
        """Draw the surface where there are sweeps, and the corners of one frame beside it."""
        has_sweeps = self.result is not None and bool(self.result.sweeps)
        self.surface_plot.setVisible(has_sweeps)
        self._draw_surface(self.surface_plot)
        self._draw_corners(self.corners_plot)

    def _draw_surface(self, plot: SurfacePlot) -> None:
        advice = screws_in(self.shown_result) if self.shown_result is not None else None
        plot.show_sweep(self.chosen, self._palette, residuals=self.residuals.isChecked(), advice=advice)

    def _draw_spacing(self, plot: SpacingPlot) -> None:
        if self.result is not None:
            plot.show_result(self.result, self._palette)

    def _draw_corners(self, plot: CornersPlot) -> None:
        path, shape, spots = self._sharpest()
        plot.show_pieces(self.pieces.of(path, spots), shape, self._palette)

    def _sharpest(self) -> tuple[Path | None, FieldShape | None, Spots]:
        """Return the chosen sweep's sharpest frame, else the first single one; its stars' shape; what to enlarge.

        Stars are enlarged where the chosen sweep has them.
        """
        chosen, result = self.chosen, self.result
        if chosen is not None:
            sharpest = chosen.sweep.sharpest
            return sharpest.path, chosen.shape, corner_spots(sharpest, chosen.sweep.size_px)
        if result is not None and result.singles:
            return result.single_paths[0], result.singles[0], ()
        return None, None, ()

    def chose(self) -> None:
        self._show_spacing()
        super().chose()

    def _show_spacing(self) -> None:
        chosen = self.chosen
        spacing = chosen.sweep.spacing_mm if chosen is not None else None
        self.spacing.setText("" if spacing is None else short(spacing, 3))

    def show_result(self, result: FieldResult | None) -> None:
        has_sweeps = result is not None and bool(result.sweeps)
        for widget in (self.spacing, self.relation):
            widget.setVisible(has_sweeps)
        holder = self.spacing.parentWidget()
        assert holder is not None
        holder.setVisible(has_sweeps)
        for beside in (self.relation, self._related):
            beside.setVisible(result is not None and len(result.sweeps) > 1)
        if result is not None and has_sweeps:
            entries = list(RELATIONS).index(result.relation) + 1 if result.relation is not None else 0
            self.relation.setCurrentIndex(entries)
            if len(result.sweeps) > 1:
                relation = relation_in(replace(result, relation=None))
                self.relation.setItemText(0, f"{RELATIONS[relation]} (by headers and stars)" if relation else AUTOMATIC)
            self.relation.setToolTip(f"How the last two sweeps differ. {self.relation.currentText()}")
            self._show_spacing()
        self.causes.show_result(result)
        self.flat.show_result(result)
        self._show_plate(result)

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

    def counts(self, result: FieldResult) -> str:
        frames = sum(len(entry.sweep.frames) for entry in result.sweeps)
        text = f"{counted(len(result.sweeps), 'sweep')} of {frames} frames." if result.sweeps else "No sweep."
        if result.singles:
            text += f" {counted(len(result.singles), 'single frame')}: their stars’ shape is a hint."
        return text
