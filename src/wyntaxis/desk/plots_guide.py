"""Plots of guide logs: errors over time, as a scatter with the main pixel on it, and what turns in them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.evidence.guide_log.result import MeasuredRun
from wyntaxis.core.wording import counted, number, plus_minus
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData
from wyntaxis.desk.plots_bench import DASHES, BenchPlot, run_colors

MAX_DRAWN = 6000
"""More frames than this are thinned for a plot; its data holds them all."""
MAX_DATA = 200_000
RING = np.linspace(0, 2 * np.pi, 120)
ROOM_ABOVE = 0.25


def _drawn(*arrays: Any) -> tuple[Any, ...]:
    by = max(1, math.ceil(len(arrays[0]) / MAX_DRAWN))
    return tuple(array[::by] for array in arrays)


class ErrorPlot(BenchPlot):
    """Errors on both axes over time: dithers as lines, lost frames as marks, the stop limit, and the main pixel."""

    def __init__(self) -> None:
        super().__init__("Errors over time", "minutes", "error, ″")
        self.legend.setColumnCount(5)
        self.legend.anchor((0, 0), (0, 0), offset=(46, 2))

    def show_run(self, own: MeasuredRun | None, limit: float | None, main: float | None, palette: Palette) -> None:
        """Draw one run."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["minutes", "ra_arcsec", "dec_arcsec", "lost"])
        if own is None:
            self.answer.setText("")
            return
        run = own.run
        minutes = run.time_s / 60
        for index, (name, values) in enumerate((("right ascension", run.ra), ("declination", run.dec))):
            x, y = _drawn(minutes, values)
            pen = pg.mkPen(run_colors(palette)[index], width=1.2)
            self.plot.plot(x, y, pen=pen, name=name, connect="finite")
        for row in run.dithers[:200]:
            pen = pg.mkPen(palette.color("faded"), width=1, style=Qt.PenStyle.DashLine)
            self.plot.addItem(pg.InfiniteLine(float(minutes[row]), angle=90, pen=pen))
        if run.dithers:
            pen = pg.mkPen(palette.color("faded"), style=Qt.PenStyle.DashLine)
            self.plot.plot([], [], pen=pen, name=counted(len(run.dithers), "dither"))
        lost = np.flatnonzero(run.lost)[:2000]
        if len(lost):
            style = {"pen": None, "symbol": "x", "symbolSize": 7, "symbolPen": pg.mkPen(palette.fails, width=2)}
            self.plot.plot(minutes[lost], np.zeros(len(lost)), name=f"{len(lost)} lost", **style)
        if limit is not None:
            for sign in (1, -1):
                pen = pg.mkPen(palette.fails, width=1, style=Qt.PenStyle.DotLine)
                self.plot.addItem(pg.InfiniteLine(sign * limit, angle=0, pen=pen))
            self.plot.plot([], [], pen=pg.mkPen(palette.fails, style=Qt.PenStyle.DotLine), name="stop limit")
        if main:
            band = pg.LinearRegionItem(
                (-main / 2, main / 2), orientation="horizontal", movable=False, brush=_soft(palette), pen=pg.mkPen(None)
            )
            band.setZValue(-10)
            self.plot.addItem(band)
        settled = np.concatenate([own.rest_ra, own.rest_dec, [0.5]])
        high = 1.15 * max(float(np.max(np.abs(settled))), limit or 0.0)
        self.plot.setYRange(-high, high * (1 + 2 * ROOM_ABOVE), padding=0)
        self.plot.setXRange(0, float(minutes[-1]), padding=0.01)
        rows = zip(minutes[:MAX_DATA], run.ra[:MAX_DATA], run.dec[:MAX_DATA], run.lost[:MAX_DATA], strict=True)
        self.data.rows = [[float(value) for value in row] for row in rows]
        self.answer.setText(self._words(own, main))

    def _words(self, own: MeasuredRun, main: float | None) -> str:
        if own.rms is None:
            return f"{own.name}: too few frames of the star."
        text = f"{own.name}: RMS {plus_minus(own.rms.value, own.rms.standard, 2)}″"
        if main:
            text += f" = {number(own.rms.value / main, 2)} main px; the band is one main pixel high"
        return text + "."


def _soft(palette: Palette) -> Any:
    return pg.mkBrush(palette.color("holds", 38))


class ScatterPlot(BenchPlot):
    """Where the star was, both axes: runs over each other, with the main pixel drawn to scale and the RMS as a ring."""

    def __init__(self) -> None:
        super().__init__("Scatter", "right ascension, ″", "declination, ″")
        self.plot.setAspectLocked(True)
        self.legend.anchor((0, 0), (0, 0), offset=(46, 2))

    def show_runs(self, runs: Sequence[MeasuredRun], chosen: int, main: float | None, palette: Palette) -> None:
        """Draw runs, the chosen one on top."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["run", "ra_arcsec", "dec_arcsec"])
        if not runs:
            self.answer.setText("")
            return
        reach = 0.5
        for index, own in sorted(enumerate(runs), key=lambda entry: entry[0] == chosen):
            color = pg.mkColor(run_colors(palette)[index % 5])
            color.setAlpha(170 if index == chosen else 70)
            x, y = _drawn(own.rest_ra, own.rest_dec)
            style = {"pen": None, "symbol": "o", "symbolSize": 3 if index == chosen else 2, "symbolPen": None}
            self.plot.plot(x, y, symbolBrush=color, name=plot_text(own.name), **style)
            if own.rms is not None:
                pen = pg.mkPen(run_colors(palette)[index % 5], width=2, style=DASHES[index // 5 % 4])
                self.plot.plot(own.rms.value * np.cos(RING), own.rms.value * np.sin(RING), pen=pen)
                reach = max(reach, 3.2 * own.rms.value)
            self.data.rows += [[float(index), float(a), float(b)] for a, b in zip(x, y, strict=True)]
        if main:
            half = main / 2
            square = np.array([-half, half, half, -half, -half]), np.array([-half, -half, half, half, -half])
            self.plot.plot(*square, pen=pg.mkPen(palette.ink, width=2), name="a main pixel")
        self.plot.setRange(xRange=(-reach, reach), yRange=(-reach, reach), padding=0.02)
        own = runs[chosen] if 0 <= chosen < len(runs) else runs[0]
        words = f"{own.name}: about the running line of 20 minutes; the ring is the RMS."
        if own.rms_ra is not None and own.rms_dec is not None:
            words = (
                f"Right ascension {number(own.rms_ra.value, 2)}″, declination {number(own.rms_dec.value, 2)}″. {words}"
            )
        self.answer.setText(words)


class PeriodPlot(BenchPlot):
    """What turns in right ascension: amplitude over period, what noise would reach, and the worm's period."""

    def __init__(self) -> None:
        super().__init__("Periods in right ascension", "period, s", "amplitude, ″", corner=(-10, 10))
        self.plot.setLogMode(x=True, y=False)

    def show_runs(self, runs: Sequence[MeasuredRun], chosen: int, worm_s: float | None, palette: Palette) -> None:
        """Draw the periodograms of runs, the chosen one with the limit of noise."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["run", "period_s", "amplitude_arcsec", "noise_arcsec"])
        entries = ""
        for index, own in enumerate(runs):
            found = own.periodogram
            if found is None:
                continue
            color = run_colors(palette)[index % 5]
            pen = pg.mkPen(color, width=2.0 if index == chosen else 1.0, style=DASHES[index // 5 % 4])
            x, y, limit = _drawn(found.periods_s, found.amplitude, found.limit)
            self.plot.plot(x, y, pen=pen, name=plot_text(own.name))
            if index == chosen:
                style = pg.mkPen(palette.color("faded"), style=Qt.PenStyle.DashLine)
                self.plot.plot(x, limit, pen=style, name="noise, 3 in 1000")
                entries = self._words(own)
            self.data.rows += [
                [float(index), float(a), float(b), float(c)] for a, b, c in zip(x, y, limit, strict=True)
            ]
        if worm_s is not None:
            pen = pg.mkPen(palette.color("tight"), width=1.5, style=Qt.PenStyle.DotLine)
            self.plot.addItem(pg.InfiniteLine(math.log10(worm_s), angle=90, pen=pen))
            self.plot.plot([], [], pen=pen, name=f"worm, {number(worm_s, 0)} s")
        self.answer.setText(entries)

    def _words(self, own: MeasuredRun) -> str:
        found = own.periodogram.found if own.periodogram is not None else None
        if found is None:
            return f"{own.name}: no periodic error above the noise."
        return (
            f"{own.name}: {plus_minus(found.period_s.value, found.period_s.standard, 1)} s, "
            f"±{plus_minus(found.amplitude_arcsec.value, found.amplitude_arcsec.standard, 2)}″."
        )


class SettlingPlot(BenchPlot):
    """How far the star was from its lock after each dither, over the limit and the time allowed."""

    def __init__(self) -> None:
        super().__init__("After dithers", "seconds after the dither", "off the lock, ″")

    def show_run(self, own: MeasuredRun | None, allowed_s: float | None, palette: Palette) -> None:
        """Draw every dither of a run over each other."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["dither", "seconds", "off_arcsec"])
        settling = own.settling if own is not None else None
        if own is None or settling is None:
            self.answer.setText("This run has no dither.")
            return
        run, away = own.run, np.hypot(own.run.ra, own.run.dec)
        longest = 1.0
        for index, entry in enumerate(settling.dithers[:60]):
            end = min(entry.until_row + 3, len(away))
            x, y = run.time_s[entry.row : end] - entry.at_s, away[entry.row : end]
            color = run_colors(palette)[index % 5]
            self.plot.plot(x, y, pen=pg.mkPen(color, width=1.2), connect="finite")
            self.data.rows += [[float(index), float(a), float(b)] for a, b in zip(x, y, strict=True)]
            longest = max(longest, float(x[-1]) if len(x) else 0.0)
        pen = pg.mkPen(palette.color("holds"), width=1.5, style=Qt.PenStyle.DashLine)
        self.plot.addItem(pg.InfiniteLine(settling.limit_arcsec, angle=0, pen=pen))
        self.plot.plot([], [], pen=pen, name=f"settled within {number(settling.limit_arcsec, 2)}″")
        if allowed_s is not None:
            pen = pg.mkPen(palette.fails, width=1.5, style=Qt.PenStyle.DotLine)
            self.plot.addItem(pg.InfiniteLine(allowed_s, angle=90, pen=pen))
            self.plot.plot([], [], pen=pen, name="time allowed")
        self.plot.setXRange(0, min(longest, 600.0), padding=0.02)
        from wyntaxis.core.evidence.guide_log.report import settling_text

        self.answer.setText(settling_text(settling))
