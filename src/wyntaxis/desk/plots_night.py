"""Plots of many nights: hours kept, one plan beside another."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.rehearsal.play import ManyNights
from wyntaxis.core.wording import number, plus_minus
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData
from wyntaxis.desk.plots_bench import BenchPlot, run_colors

BINS = 24


class ManyNightsPlot(BenchPlot):
    """How many nights keep how many hours, a step line for each plan, the means with twice their uncertainty."""

    def __init__(self) -> None:
        super().__init__("Many nights", "hours of exposure kept", "nights", corner=(60, 10))

    def show_plans(self, plans: Sequence[tuple[str, ManyNights]], palette: Palette) -> None:
        """Draw plans beside each other."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["plan", "hours_from", "nights"])
        most = max((max(own.hours, default=0.0) for _, own in plans), default=0.0)
        edges = np.linspace(0, max(most, 1.0) * 1.0001, BINS + 1)
        for index, (name, own) in enumerate(plans):
            color = run_colors(palette)[index % 5]
            counts, _ = np.histogram(own.hours, edges)
            pen = pg.mkPen(color, width=2, style=Qt.PenStyle.SolidLine if index == 0 else Qt.PenStyle.DashLine)
            self.plot.plot(edges, counts, stepMode="center", pen=pen, name=plot_text(name))
            mean = own.hours_kept
            region = (mean.value - 2 * mean.standard, mean.value + 2 * mean.standard)
            brush = pg.mkColor(color)
            brush.setAlpha(70)
            self.plot.addItem(pg.LinearRegionItem(region, movable=False, brush=brush, pen=pg.mkPen(None)))
            self.data.rows += [[float(index), float(a), float(n)] for a, n in zip(edges[:-1], counts, strict=True)]
        self.answer.setText(" ".join(words_of_nights(name, own) for name, own in plans))


def words_of_nights(name: str, own: ManyNights) -> str:
    """Return in a sentence what a plan's many nights come to."""
    unsafe = own.unsafe_share
    return (
        f"{name}: {plus_minus(own.hours_kept.value, own.hours_kept.standard, 2)} h kept a night, unsafe "
        f"{number(100 * unsafe.value, 1)} ± {number(100 * unsafe.standard, 1)} % of {own.nights} nights."
    )
