"""The Sensor sheet: bench frames read and measured, the camera's numbers, their plots, and exposures."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QLineEdit

from wyntaxis.core.evidence.measured import camera_index
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.dark import setpoint_current
from wyntaxis.core.evidence.sensor.dark_scaling import dark_current_at
from wyntaxis.core.evidence.sensor.exposure import sky_limited_exposure
from wyntaxis.core.evidence.sensor.kind import SensorBench
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.files.opening import is_folder
from wyntaxis.core.measuring.sensor import MEASURING
from wyntaxis.core.quantity_kinds import SAMPLING
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import SENSOR
from wyntaxis.core.wording import counted, number, short
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.frames_table import FramesTable
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.reading_sheet import SheetTexts
from wyntaxis.desk.sheets.specs import EXPOSURES
from wyntaxis.desk.step_pictures import StepPicture
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots_bench import (
        DarkPlot,
        ExposurePlot,
        ExposureTerms,
        GainPlot,
        GlowPlot,
        LinearityPlot,
        OffsetPlot,
        TransferPlot,
    )


def _plots() -> ModuleType:
    """Return the module of the plots; the plotting library is loaded when one is first opened."""
    from wyntaxis.desk import plots_bench

    return plots_bench


@sheet_of(SENSOR)
class SensorSheet(EvidenceSheet[SensorBench]):
    """The camera on the bench."""

    measuring = MEASURING
    adds = False
    shown_tables = ("gains", "flats")
    settings = ("sensor", "What the sheet states, and what the bench measured")
    texts = SheetTexts(
        empty="Cap on: a few bias frames and darks at three temperatures; then pairs of flats from faint to full, all "
        "at one gain and offset. Read their folder to measure gain, noise, full well, linearity, offset and dark "
        "current.",
        working="Measuring",
        drop="Bias frames, darks at several temperatures and pairs of flats give the photon transfer curve.",
        keep="Keep the numbers in the rig",
        folder="Read a folder of bias, dark and flat frames, and measure",
        simulate="Measure a simulated camera's frames",
        folder_title="A folder of bench frames",
    )

    def build(self) -> None:
        self.gains, self.flats = self.tables["gains"], self.tables["flats"]
        self.frames = FramesTable()
        self.frames.entered.connect(self._correct)
        self.frames.refused.connect(self._refused)
        self.add_wide(self.frames)
        self.plan = self.add_card(2)
        self.sky = _SkyPanel(self.session)
        self.inputs.addWidget(self.sky)
        add = self.add_picture
        add("Photon transfer", lambda: _plots().TransferPlot(), self._draw_gains)
        add("Linearity", lambda: _plots().LinearityPlot(), self._draw_gains)
        add("Bias", lambda: _plots().OffsetPlot(), self._draw_offset)
        add("Dark current", lambda: _plots().DarkPlot(), self._draw_dark)
        add("Glow", lambda: _plots().GlowPlot(), self._draw_glow)
        self.planned = (
            add("Exposure", lambda: _plots().ExposurePlot(), self._draw_exposure),
            add("Noise and stars by gain", lambda: _plots().GainPlot(), self._draw_stars),
        )

    def add_buttons(self, row: FlowRow) -> None:
        self.again_button = push_button("Measure again", "Measure again, with the corrections made", self.again, row)
        self.out_button = push_button(
            "Leave out", "Leave the chosen frame out, or take it in again", self.leave_out, row
        )
        self._needing += [self.again_button, self.out_button]

    # Reading and measuring

    @property
    def numbers(self) -> BenchResult | None:
        """The numbers of what was measured."""
        return self.result.result if self.result is not None else None

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.bench import make_demo_bench

        make_demo_bench(folder)
        return [folder]

    def again(self) -> None:
        """Measure the same folder again."""
        if self.result is None:
            return
        if is_folder(self.result.folder):
            self.read([self.result.folder])
        else:
            name = self.result.folder.name
            self.session.refused.emit(f"{name} is no longer there: read the frames from where they are now")

    # Corrections

    def _correct(self, path: str, key: str, value: Any) -> None:
        kept = self.session.rig.corrections.get(path)
        others = kept.model_dump(exclude_none=True, exclude={key}) if kept is not None else {}
        if value is not None:
            others[key] = value
        if not self.session.apply(Change.of(f"Correct {path}", ("corrections", path), others or None)):
            self.refresh()

    def _refused(self, text: str) -> None:
        self.session.refused.emit(text)
        self.refresh()

    def leave_out(self) -> None:
        """Leave the chosen frame out, or take it in again."""
        path = self.frames.path_at(self.frames.currentRow())
        if path is None:
            self.session.refused.emit("choose a frame in the table first")
            return
        kept = self.session.rig.corrections.get(path)
        self._correct(path, "left_out", None if kept is not None and kept.left_out else True)

    # Showing

    def pictures_of(self, result: SensorBench | None) -> Iterable[StepPicture[Any]]:
        if result is not None:
            return self.pictures.all
        plan = self.session.rig.plan
        return self.planned[:1] if plan is not None and plan.sky_e_s else ()

    def _draw_gains(self, plot: TransferPlot | LinearityPlot) -> None:
        plot.show_gains(self.numbers.gains if self.numbers else (), self._palette)

    def _draw_offset(self, plot: OffsetPlot) -> None:
        plot.show_biases(self.numbers.biases if self.numbers else (), self._palette)

    def _draw_glow(self, plot: GlowPlot) -> None:
        plot.show_glow(self.numbers, self._palette)

    def _draw_dark(self, plot: DarkPlot) -> None:
        allowed, plan = None, self.session.rig.plan
        noise = self._best("read_noise_e")
        if plan is not None and noise is not None:
            allowed = setpoint_current(noise, plan.longest_exposure_s or plan.exposure_s)
        plot.show_dark(self.numbers, allowed, self._palette)

    def _draw_exposure(self, plot: ExposurePlot) -> None:
        plot.show_filters(self._terms(), self._palette)

    def _draw_stars(self, plot: GainPlot) -> None:
        plot.show_gains(self.numbers.gains if self.numbers else (), self._terms(), self._palette)

    def _terms(self) -> ExposureTerms:
        from wyntaxis.desk.plots_bench import ExposureTerms

        plan = self.session.rig.plan
        return ExposureTerms(
            plan.sky_e_s if plan is not None else {},
            self._best("read_noise_e"),
            self._dark() or 0.0,
            self._best("full_well_e"),
            self.session.evaluation.value(SAMPLING),
            plan.exposure_s if plan is not None else None,
        )

    def _dark(self) -> float | None:
        index = camera_index(self.session.rig)
        return dark_current_at(self.session.rig.devices[index]) if index is not None else None

    def _best(self, key: str) -> float | None:
        index = camera_index(self.session.rig)
        return self.session.rig.devices[index].best(key) if index is not None else None

    def show_result(self, result: SensorBench | None) -> None:
        rig = self.session.rig
        self.plan.show_object("Plan", ("plan",), EXPOSURES, rig)
        self.sky.refresh()
        self.frames.setVisible(result is not None)
        if result is not None:
            rejected = {frame.path: frame for frame in result.result.rejected}
            self.frames.show_frames(result.headers, rig.corrections, rejected, self._palette)
        if result is None and camera_index(rig) is None:
            missing = "The rig has no camera among its devices: add one on the Devices sheet."
            self.state.setText(f"{self.texts.empty} {missing}")

    def counts(self, result: SensorBench) -> str:
        found = result.result.sorted
        frames, size = sum(len(entry.frames) for entry in found.sets), f"{found.size[0]} × {found.size[1]} px"
        sets = counted(len(found.sets), "set")
        return f"{counted(frames, 'frame')} in {sets}, {size}; {len(result.result.rejected)} not used."


class _SkyPanel(Panel):
    """The sky's light by filter, measured from lights or typed, and how long each must be exposed."""

    def __init__(self, session: Session) -> None:
        super().__init__("Sky by filter")
        self._session = session
        self.table = TextTable(
            "Sky by filter", ("Filter", "Sky\ne⁻/s/px", "Sky-limited\nexposure, s"), left=(0,), stretch=0
        )
        self.column.addWidget(self.table)
        row = FlowRow()
        self.name, self.value = QLineEdit(), QLineEdit()
        for field, text in ((self.name, "filter"), (self.value, "sky, e⁻/s/px")):
            field.setPlaceholderText(text)
            field.setAccessibleName(f"Sky: {text}")
            row.addWidget(field)
        self.value.returnPressed.connect(self.enter)
        push_button("Enter", "Keep the sky's light of this filter; an empty value takes it out", self.enter, row)
        self.column.addLayout(row)

    def enter(self) -> None:
        """Keep the sky typed."""
        rig, name = self._session.rig, self.name.text().strip()
        try:
            value = parse_number(self.value.text(), "")
        except ValueError as error:
            self._session.refused.emit(str(error))
            return
        if not name:
            self._session.refused.emit("name the filter whose sky is typed")
            return
        if rig.plan is None:
            self._session.refused.emit("state the planned exposure of a frame first (above)")
            return
        if self._session.set_value(("plan", "sky_e_s", name[:200]), value, f"Change the sky through {name}"):
            self.value.clear()

    def refresh(self) -> None:
        """Show each filter's sky and its exposure."""
        rig = self._session.rig
        index = camera_index(rig)
        skies = rig.plan.sky_e_s if rig.plan is not None else {}
        noise = rig.devices[index].best("read_noise_e") if index is not None else None
        dark = (dark_current_at(rig.devices[index]) if index is not None else None) or 0.0
        self.table.setVisible(bool(skies))
        self.table.show_rows(
            [
                [
                    name,
                    short(sky, 4),
                    "–" if noise is None else number(sky_limited_exposure(noise, sky, dark), 0),
                ]
                for name, sky in skies.items()
            ]
        )
