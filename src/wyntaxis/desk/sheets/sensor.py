"""The Sensor sheet: bench frames read and measured, the camera's numbers, their plots, and exposures."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QFileDialog, QLineEdit, QWidget

from wyntaxis.core.evidence.measured import Estimate, camera_index
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.dark import setpoint_current
from wyntaxis.core.evidence.sensor.dark_scaling import dark_current_at
from wyntaxis.core.evidence.sensor.exposure import judge_flat_level, sky_limited_exposure
from wyntaxis.core.evidence.sensor.kind import SENSOR as BENCH
from wyntaxis.core.evidence.sensor.kind import SensorBench, keep
from wyntaxis.core.evidence.sensor.report import read_noise_text
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.files.opening import is_folder
from wyntaxis.core.files.places import home
from wyntaxis.core.quantity_kinds import SAMPLING
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import SENSOR, Step
from wyntaxis.core.wording import number, plus_minus, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.frames_table import FramesTable
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.specs import EXPOSURES
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots import PlotPanel
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


def _bench_plots() -> ModuleType:
    """Return the module of the plots; the plotting library is loaded when one is first opened."""
    from wyntaxis.desk import plots_bench

    return plots_bench


@sheet_of(SENSOR)
class SensorSheet(StepSheet):
    """The camera on the bench."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.job = Job(self)
        self.job.done.connect(partial(session.look_at, BENCH))
        self.job.failed.connect(session.refused)
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.settings_grid = SettingsGrid(
            session, palette, "sensor", "What the sheet states, and what the bench measured"
        )
        self.inputs.addWidget(self.settings_grid)
        self.plan = self.add_card(2)
        self.sky = _SkyPanel(session)
        self.inputs.addWidget(self.sky)
        self.inputs.addStretch(1)
        self.sections: list[CollapsibleSection] = []
        self.plots: dict[str, PlotPanel] = {}
        for title, make, draw in self._plots():
            section_box = CollapsibleSection(
                title, partial(self._build_plot, title, make), partial(self._draw_plot, title, draw)
            )
            self.sections.append(section_box)
            self.add_below(section_box)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.read_button = push_button(
            "Read bench frames …", "Read a folder of bias, dark and flat frames, and measure", self.ask, row
        )
        self.simulate_button = push_button(
            "Load simulated data", "Measure a simulated camera's frames", self.measure_simulated, row
        )
        self.again_button = push_button("Measure again", "Measure again, with the corrections made", self.again, row)
        self.keep_button = push_button("Keep as measured", "Keep the numbers in the rig", self.keep, row)
        self.out_button = push_button(
            "Leave out", "Leave the chosen frame out, or take it in again", self.leave_out, row
        )
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Measuring"))
        self.gains = TextTable(
            "Photon transfer by gain",
            (
                "Gain",
                "Conversion\ne⁻/ADU",
                "Read noise\ne⁻",
                "Full well\ne⁻",
                "Dynamic range\nstops",
                "Linearity error\n%",
            ),
            left=(0,),
        )
        column.addWidget(self.gains)
        self.flats = TextTable(
            "Flats",
            (
                "Flats",
                "Gain",
                "Exposure\ns",
                "Level\n% of full",
                "Corners\n% of middle",
                "Centre off\n% of diagonal",
                "Frames",
            ),
        )
        self.flats.most_rows = 5
        column.addWidget(self.flats)
        self.frames = FramesTable()
        self.frames.entered.connect(self._correct)
        self.frames.refused.connect(self._refuse)
        column.addWidget(self.frames)

    def _plots(self) -> tuple[tuple[str, Callable[[], PlotPanel], Callable[[Any], None]], ...]:
        """Return each plot: its title, what makes it when it is first opened, and what draws it."""
        return (
            ("Plot: photon transfer", lambda: _bench_plots().TransferPlot(), self._draw_gains),
            ("Plot: linearity", lambda: _bench_plots().LinearityPlot(), self._draw_gains),
            ("Plot: bias histogram, low end", lambda: _bench_plots().OffsetPlot(), self._draw_offset),
            ("Plot: dark current over temperature", lambda: _bench_plots().DarkPlot(), self._draw_dark),
            ("Map: glow", lambda: _bench_plots().GlowPlot(), self._draw_glow),
            ("Plot: exposure", lambda: _bench_plots().ExposurePlot(), self._draw_exposure),
            ("Plot: noise and stars over gain", lambda: _bench_plots().GainPlot(), self._draw_stars),
        )

    def _build_plot(self, title: str, make: Callable[[], PlotPanel]) -> QWidget:
        plot = make()
        plot.refused.connect(self.session.refused)
        self.plots[title] = plot
        return plot

    def _draw_plot(self, title: str, draw: Callable[[Any], None]) -> None:
        draw(self.plots[title])

    def _draw_gains(self, plot: TransferPlot | LinearityPlot) -> None:
        plot.show_gains(self.result.gains if self.result else (), self._palette)

    def _draw_offset(self, plot: OffsetPlot) -> None:
        plot.show_biases(self.result.biases if self.result else (), self._palette)

    def _draw_glow(self, plot: GlowPlot) -> None:
        plot.show_glow(self.result, self._palette)

    def _draw_dark(self, plot: DarkPlot) -> None:
        allowed, plan = None, self.session.rig.plan
        noise = self._best("read_noise_e")
        if plan is not None and noise is not None:
            allowed = setpoint_current(noise, plan.longest_exposure_s or plan.exposure_s)
        plot.show_dark(self.result, allowed, self._palette)

    def _draw_exposure(self, plot: ExposurePlot) -> None:
        plot.show_filters(self._terms(), self._palette)

    def _draw_stars(self, plot: GainPlot) -> None:
        plot.show_gains(self.result.gains if self.result else (), self._terms(), self._palette)

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

    # Reading and measuring

    @property
    def bench(self) -> SensorBench | None:
        """What was read and measured."""
        return self.session.evidence.of(BENCH)

    @property
    def result(self) -> BenchResult | None:
        """The numbers of what was measured."""
        return self.bench.result if self.bench is not None else None

    def ask(self) -> None:
        """Ask for a folder of bench frames and measure it."""
        chosen = QFileDialog.getExistingDirectory(self, "A folder of bench frames", str(home()))
        if chosen:
            self.measure(Path(chosen))

    def measure(self, folder: Path) -> None:
        """Read a folder's headers and measure its frames, in the background."""
        rig = self.session.rig
        self.job.start(lambda progress: BENCH.read(folder, rig, progress))

    def measure_simulated(self) -> None:
        """Make the frames of the simulated camera in a temporary folder, and measure them."""
        rig = self.session.rig

        def work(progress: Progress) -> SensorBench:
            from wyntaxis.simulators.bench import make_demo_bench

            with tempfile.TemporaryDirectory(prefix="wyntaxis-stand-in-") as place:
                make_demo_bench(Path(place))
                return BENCH.read(Path(place), rig, progress)

        self.job.start(work)

    def again(self) -> None:
        """Measure the same folder again."""
        if self.bench is None:
            return
        folder = self.bench.folder
        if is_folder(folder):
            self.measure(folder)
        else:
            self.measure_simulated()

    def keep(self) -> None:
        """Keep the numbers as measured values of the camera."""
        if self.bench is None:
            return
        try:
            self.session.apply(keep(self.session.rig, self.bench))
        except ValueError as error:
            self.session.refused.emit(str(error))

    # Corrections

    def _correct(self, path: str, key: str, value: Any) -> None:
        kept = self.session.rig.corrections.get(path)
        others = kept.model_dump(exclude_none=True, exclude={key}) if kept is not None else {}
        if value is not None:
            others[key] = value
        if not self.session.apply(Change.of(f"Correct {path}", ("corrections", path), others or None)):
            self.refresh()

    def _refuse(self, text: str) -> None:
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

    def refresh(self) -> None:
        super().refresh()
        rig, result, running = self.session.rig, self.result, self.job.running
        index = camera_index(rig)
        for button in (self.read_button, self.simulate_button):
            button.setEnabled(not running)
        for button in (self.again_button, self.out_button):
            button.setEnabled(result is not None and not running)
        self.keep_button.setEnabled(result is not None and index is not None and not running)
        self.settings_grid.setVisible(index is not None)
        if index is not None:
            self.settings_grid.show_device(rig.devices[index], index)
        self.plan.show_object("Plan", ("plan",), EXPOSURES, rig)
        self.sky.refresh()
        self.state.setText(self._words(result, index is not None))
        self.gains.setVisible(result is not None)
        self.frames.setVisible(self.bench is not None)
        self.flats.setVisible(result is not None and bool(result.flats))
        if result is not None and self.bench is not None:
            self._show_gains(result)
            rejected = {frame.path: frame for frame in result.rejected}
            self.frames.show_frames(self.bench.headers, rig.corrections, rejected, self._palette)
        for section_box in self.sections:
            section_box.refresh()

    def _words(self, result: BenchResult | None, has_camera: bool) -> str:
        camera = "" if has_camera else " The rig has no camera among its devices: add one on the Devices sheet."
        if result is None:
            return (
                "Cap on: a few bias frames and darks at three temperatures; then pairs of flats from faint to full, "
                "all at one gain and offset. Read their folder to measure gain, noise, full well, linearity, offset "
                f"and dark current.{camera}"
            )
        sets = result.sorted.sets
        words = (
            f"{sum(len(s.frames) for s in sets)} frames in {len(sets)} sets, {result.sorted.size[0]} × "
            f"{result.sorted.size[1]} px; {len(result.rejected)} not used"
        )
        if result.step > 1:
            bits = 16 - (result.step.bit_length() - 1)
            words += f"; codes in steps of {result.step}: data of {bits} bits, multiplied"
        if result.unity is not None:
            words += f"; unity gain at {_pm(result.unity, 1)}"
        for gain, line in result.offsets.items():
            words += (
                f"; at gain {short(gain or 0)} an offset of {short(line.least_offset)} suffices "
                f"({number(line.adu_per_unit, 2)} ADU a unit)"
            )
        notes = "".join(f" Note: {note}." for note in result.notes)
        return f"{words}.{notes}{camera}"

    def _show_gains(self, result: BenchResult) -> None:
        rows = []
        for gain in result.gains:
            t = gain.transfer
            rows.append(
                [
                    ("not recorded" if gain.gain is None else short(gain.gain))
                    + (f", {gain.plane}" if gain.plane else ""),
                    _pm(t.conversion_gain, 4),
                    read_noise_text(t, 2),
                    _pm(t.full_well, 0) if t.full_well else "not reached",
                    _pm(t.dynamic_range, 2) if t.dynamic_range else "–",
                    _pm(t.linearity_percent, 3) if t.linearity_percent else "–",
                ]
            )
        self.gains.show_rows(rows)
        self.flats.show_rows(
            [
                [
                    flat.filter,
                    "–" if flat.gain is None else short(flat.gain),
                    short(flat.exposure_s, 3),
                    number(flat.level_percent, 1),
                    number(flat.corner_percent, 1),
                    number(flat.centre_off_percent, 1),
                    str(flat.frames),
                ]
                for flat in result.flats
            ],
            verdicts=[judge_flat_level(flat.level_percent) for flat in result.flats],
            palette=self._palette,
        )

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.settings_grid.palette_in_use = palette
        self.refresh()


def _pm(estimate: Estimate, digits: int) -> str:
    return plus_minus(estimate.value, estimate.standard, digits)


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
