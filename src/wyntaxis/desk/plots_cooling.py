"""Plots of the Cooling sheet: runs with the model, and the ramp."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, CoolingLog, course
from wyntaxis.core.evidence.cooling.ramp import Ramp
from wyntaxis.core.wording import number, plus_minus
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData
from wyntaxis.desk.plots_bench import DASHES, BenchPlot, run_colors


class CoolingPlot(BenchPlot):
    """Cooling runs overlaid, with the model's course of those whose power is known."""

    def __init__(self) -> None:
        super().__init__("Cooling runs", "time, min", "sensor, °C")

    def show_runs(self, logs: Sequence[CoolingLog], model: CoolerModel | None, palette: Palette) -> None:
        """Draw every run; the model is dashed."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["run", "time_min", "sensor_c", "power_share", "model_c"])
        for index, log in enumerate(logs):
            color, minutes = run_colors(palette)[index % 5], log.time_s / 60
            pen = pg.mkPen(color, width=1.8, style=DASHES[index // 5 % 4])
            self.plot.plot(minutes, log.sensor_c, pen=pen, name=plot_text(log.name))
            fitted = np.full_like(minutes, np.nan)
            if model is not None and log.has_power:
                fitted = course(log, model.tau_min, model.pull_c_min, float(log.sensor_c[0]))
                pen = pg.mkPen(palette.ink, width=1, style=Qt.PenStyle.DashLine)
                self.plot.plot(minutes, fitted, pen=pen)
            self.data.rows += [
                [float(index), float(t), float(c), float(u), float(f)]
                for t, c, u, f in zip(minutes, log.sensor_c, log.power, fitted, strict=True)
            ]
        if model is None:
            self.answer.setText("Runs as logged." if logs else "No runs yet.")
            return
        tau, pull, depth = model.tau, model.pull, model.depth
        self.answer.setText(
            f"τ = {plus_minus(tau.value, tau.standard, 3)} min, "
            f"a = {plus_minus(pull.value, pull.standard, 3)} °C/min: "
            f"at most {plus_minus(depth.value, depth.standard, 2)} °C below ambient. "
            f"Dashed: the model; it leaves {number(model.residual_c, 2)} °C over."
        )


class RampPlot(BenchPlot):
    """A designed ramp: stages, the sensor that follows, and the power that it takes."""

    def __init__(self) -> None:
        super().__init__("Ramp", "time, min", "°C")

    def show_ramps(self, ramps: Sequence[tuple[str, Ramp]], palette: Palette) -> None:
        """Draw ramps down and up, each with its stages as steps."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["time_min", "stage_c", "sensor_c", "power_share"])
        for index, (name, ramp) in enumerate(ramps):
            color = run_colors(palette)[index % 5]
            self.plot.plot(
                ramp.minutes, ramp.setpoint_c, pen=pg.mkPen(palette.faded, width=1, style=Qt.PenStyle.DotLine)
            )
            self.plot.plot(ramp.minutes, ramp.sensor_c, pen=pg.mkPen(color, width=1.8), name=plot_text(name))
            self.data.rows += [
                [float(t), float(s), float(c), float(u)]
                for t, s, c, u in zip(ramp.minutes, ramp.setpoint_c, ramp.sensor_c, ramp.power, strict=True)
            ]
        self.answer.setText("Dotted: the stages; full: what the model says the sensor does." if ramps else "")
