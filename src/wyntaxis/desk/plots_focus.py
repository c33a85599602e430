"""Plots of focus runs: curves overlaid with their models, and best positions over temperature."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal

from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.wording import number, plus_minus, signed
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData
from wyntaxis.desk.plots_bench import DASHES, BenchPlot, run_colors

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

BAND_POINTS = 160
ROOM_ABOVE = 0.32
"""Of the range of sizes, what is left above for the legend."""


class CurvePlot(BenchPlot):
    """Star size over the counter's position, a curve for each run; ``point_chosen`` carries the file of a point."""

    point_chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("Focus curves", "position, steps", "HFD, px")
        self.legend.setColumnCount(4)
        self.legend.anchor((0, 0), (0, 0), offset=(46, 2))

    def show_result(self, result: FocusResult, chosen: int, palette: Palette, *, aligned: bool) -> None:
        """Draw every run, the chosen one with its uncertainty; ``aligned`` counts from each run's best position."""
        self.plot.clear()
        self.dress(palette)
        self.axis_labels["bottom"] = "position from best, steps" if aligned else "position, steps"
        self.plot.getAxis("bottom").setLabel(self.axis_labels["bottom"], color=palette.ink)
        self.data = PlotData(["run", "position_steps", "hfd_px", "used", "model_px", "model_u_px"])
        for index, (run, curve) in enumerate(zip(result.runs, result.curves, strict=True)):
            color = run_colors(palette)[index % 5]
            best = curve.best_position
            zero = best.value if aligned and best is not None else 0.0
            is_chosen = index == chosen
            name = plot_text(run.name if run.filter in (None, run.name) else f"{run.name}, {run.filter}")
            points = [point for point in curve.points if point.hfd_px is not None]
            x = np.array([point.position - zero for point in points])
            y = np.array([point.hfd_px for point in points], float)
            if best is not None and len(x):
                at = np.linspace(x.min(), x.max(), BAND_POINTS)
                model, spread = curve.model_px(at + zero)
                pen = pg.mkPen(color, width=2.2 if is_chosen else 1.1, style=DASHES[index // 5 % 4])
                self.plot.plot(at, model, pen=pen, name=name)
                if is_chosen:
                    self._band(at, model, 2 * spread, color)
                fitted = curve.model_px(x + zero)
            else:
                self.plot.plot([], [], pen=pg.mkPen(color), name=name)
                fitted = (np.full(len(x), np.nan), np.full(len(x), np.nan))
            self._points(points, x, y, color, palette, is_chosen=is_chosen)
            self.data.rows += [
                [float(index), p.position, float(p.hfd_px or np.nan), float(p.used), float(m), float(u)]
                for p, m, u in zip(points, *fitted, strict=True)
            ]
        sizes = [row[2] for row in self.data.rows]
        if sizes:
            high = max(max(sizes) - min(sizes), 0.1)
            self.plot.setYRange(min(sizes) - 0.08 * high, max(sizes) + ROOM_ABOVE * high, padding=0)
        self.answer.setText(self._words(result, chosen))

    def _band(self, at: Floats, model: Floats, width: Floats, color: str) -> None:
        low = pg.PlotCurveItem(at, np.maximum(model - width, 0), pen=pg.mkPen(None))
        high = pg.PlotCurveItem(at, model + width, pen=pg.mkPen(None))
        brush = pg.mkColor(color)
        brush.setAlpha(50)
        for item in (low, high, pg.FillBetweenItem(low, high, brush=brush)):
            self.plot.addItem(item)

    def _points(self, points: Any, x: Floats, y: Floats, color: str, palette: Palette, *, is_chosen: bool) -> None:
        """Draw the points; those that do not count as crosses, with the reason at hand."""
        spots = [
            {
                "pos": (at, size),
                "data": point.file,
                "symbol": "o" if point.used else "x",
                "size": 9 if is_chosen else 6,
                "pen": pg.mkPen(color if point.used else palette.fails, width=1 if point.used else 2),
                "brush": pg.mkBrush(color) if point.used else pg.mkBrush(None),
            }
            for point, at, size in zip(points, x, y, strict=True)
        ]
        reasons = {point.file: f", {point.why}" if point.why else "" for point in points}
        item = pg.ScatterPlotItem(
            hoverable=True,
            tip=lambda x, y, data: plot_text(f"{data}: {number(y, 2)} px{reasons[data]}"),
        )
        item.addPoints(spots)
        item.sigClicked.connect(lambda _item, hit, _event: self.point_chosen.emit(hit[0].data()) if len(hit) else None)
        self.plot.addItem(item)

    def _words(self, result: FocusResult, chosen: int) -> str:
        if not 0 <= chosen < len(result.curves):
            return ""
        run, curve = result.runs[chosen], result.curves[chosen]
        if curve.best_position is None or curve.hfd_px is None or curve.slope_px_step is None:
            return f"{run.name}: {curve.why}."
        best, size, slope = curve.best_position, curve.hfd_px, curve.slope_px_step
        return (
            f"{run.name}: best {plus_minus(best.value, best.standard, 1)} steps, "
            f"sharpest {plus_minus(size.value, size.standard, 2)} px, "
            f"slope {plus_minus(slope.value, slope.standard, 4)} px/step. "
            "Band: ±2u of the chosen run's hyperbola; crosses do not count."
        )


class ModelPlot(BenchPlot):
    """Best positions over temperature, by filter and direction, with the law fitted to them."""

    def __init__(self) -> None:
        super().__init__("Best positions", "temperature, °C", "best position, steps")
        self.legend.setColumnCount(6)
        self.legend.anchor((0, 0), (0, 0), offset=(60, 2))

    def show_result(self, result: FocusResult, palette: Palette) -> None:
        """Draw every run's best position with twice its uncertainty, and the law."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["run", "temperature_c", "best_steps", "u_steps"])
        model, drawn = result.model, set[str]()
        filters = sorted({run.filter or "" for run in result.runs})
        for index, (run, curve) in enumerate(zip(result.runs, result.curves, strict=True)):
            best, celsius = curve.best_position, run.temperature_c
            if best is None or celsius is None:
                continue
            color = run_colors(palette)[filters.index(run.filter or "") % 5]
            symbol = {"out": "t1", "in": "t"}.get(run.direction or "", "o")
            word = {"out": "outward", "in": "inward"}.get(run.direction or "", "")
            name = " ".join(part for part in (run.filter or "", word) if part) or "run"
            self.plot.addItem(
                pg.ErrorBarItem(x=np.array([celsius]), y=np.array([best.value]), height=4 * best.standard, pen=color)
            )
            self.plot.plot(
                [celsius], [best.value], pen=None, symbol=symbol, symbolSize=11, symbolBrush=color, symbolPen=color,
                name=None if name in drawn else plot_text(name),
            )  # fmt: skip
            drawn.add(name)
            self.data.rows.append([float(index), celsius, best.value, best.standard])
        values = [row[2] for row in self.data.rows]
        if values:
            high = max(max(values) - min(values), 4.0)
            self.plot.setYRange(min(values) - 0.1 * high, max(values) + 0.3 * high, padding=0)
        if model.slope is None or model.best_now is None or model.mean_c is None:
            self.answer.setText("No law of temperature: " + model.why.get("slope", "no run has a temperature") + ".")
            return
        entries = [run.temperature_c for run in result.runs if run.temperature_c is not None]
        at = np.linspace(min(entries) - 0.5, max(entries) + 0.5, 40)
        middle = model.best_now.value + model.slope.value * (at - model.mean_c)
        self.plot.plot(at, middle, pen=pg.mkPen(palette.ink, width=1.2, style=Qt.PenStyle.DashLine))
        backlash = "" if model.backlash is None else f"; outward less inward {signed(model.backlash.value, 1)} steps"
        self.answer.setText(
            f"{plus_minus(model.slope.value, model.slope.standard, 2)} steps/°C{backlash}. Dashed: the law of "
            f"{model.reference or 'the runs'}, in the middle between both ways."
        )
