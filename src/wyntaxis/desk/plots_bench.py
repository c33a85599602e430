"""Plots of the bench: transfer curve with residuals, offset histogram, dark current, glow, exposure, cooling runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout
from pyqtgraph.graphicsItems.LegendItem import ItemSample

from wyntaxis.core.evidence.sensor.bench_result import BenchResult, BiasResult, GainResult
from wyntaxis.core.evidence.sensor.exposure import (
    added_share,
    saturating_star_e_s,
    sky_limited_exposure,
    total_noise,
)
from wyntaxis.core.wording import number, plus_minus, short
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PushButton, plot_text
from wyntaxis.desk.plots import PlotData, PlotPanel

LOWER_HEIGHT = 0.5
SAMPLE_PX = 5.0
"""How wide a curve is drawn in its legend, so that its colour is told."""
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


def run_colors(palette: Palette) -> tuple[str, ...]:
    """Return the colours that runs and gains are told apart by."""
    return palette.accent, palette.fails, palette.tight, palette.holds, palette.ink


def _title(one: GainResult) -> str:
    gain = "gain not recorded" if one.gain is None else f"gain {short(one.gain)}"
    return f"{gain}, {one.plane}" if one.plane else gain


class _WideSample(ItemSample):  # type: ignore[misc]
    """A curve's sample in the legend, wide enough to tell its colour."""

    def paint(self, painter: QPainter, *_arguments: object) -> None:
        pen = pg.mkPen(self.item.opts["pen"]) if self.item.opts.get("pen") is not None else None
        if pen is None or self.item.opts.get("symbol") is not None:
            super().paint(painter, *_arguments)
            return
        pen.setWidthF(SAMPLE_PX)
        painter.setPen(pen)
        painter.drawLine(1, 11, 19, 11)


class BenchPlot(PlotPanel):
    """A plot whose curves are named in a legend."""

    def __init__(self, name: str, across: str, upward: str, corner: tuple[int, int] = (-10, 10)) -> None:
        super().__init__(name, across, upward)
        self.legend = self.plot.addLegend(offset=corner, sampleType=_WideSample)

    @property
    def is_map(self) -> bool:
        return False  # beside what it draws there must be room for the legend

    def dress(self, palette: Palette) -> None:
        super().dress(palette)
        self.legend.setBrush(palette.color("field", 215))
        self.legend.setPen(palette.color("rule"))
        self.legend.setLabelTextColor(palette.color("ink"))
        self.legend.setLabelTextSize(f"{max(9, round(self.fontInfo().pixelSize() * 0.85))}px")


class _TwoPlots(BenchPlot):
    """A plot with a lower one over the same axis, such as what a model leaves over."""

    def __init__(
        self, name: str, across: str, upward: str, lower: tuple[str, str], corner: tuple[int, int] = (60, 10)
    ) -> None:
        super().__init__(name, across, upward, corner)
        self.lower_panel = PlotPanel(f"{name}, {lower[0]}", across, lower[1])
        self.lower_panel.plot.setFixedHeight(round(self.plot.height() * LOWER_HEIGHT))
        self.lower_panel.answer.hide()
        column = self.layout()
        assert isinstance(column, QVBoxLayout)
        column.addWidget(self.lower_panel)
        self.lower_panel.refused.connect(self.refused)

    def fill_room(self) -> None:
        """Stand beside the lower plot: the drawing area is wide rather than high."""
        super().fill_room()
        self.lower_panel.fill_room()
        for button in self.lower_panel.findChildren(PushButton):
            button.hide()  # its numbers are saved with the others
        column, row = self.layout(), QHBoxLayout()
        assert isinstance(column, QVBoxLayout)
        for plot, share in ((self.plot, 3), (self.lower_panel, 2)):
            column.removeWidget(plot)
            row.addWidget(plot, share)
        column.addLayout(row, 1)


class TransferPlot(_TwoPlots):
    """Variance over signal, both on log scales, with the fits and what was left out of them."""

    def __init__(self) -> None:
        super().__init__(
            "Photon transfer", "signal above bias, ADU", "variance in time, ADU²", ("residuals", "off the fit, %")
        )
        for plot in (self.plot, self.lower_panel.plot):
            plot.setLogMode(x=True, y=plot is self.plot)

    def show_gains(self, gains: Sequence[GainResult], palette: Palette) -> None:
        """Draw every curve; crosses mark points that are not in the fit."""
        for panel in (self, self.lower_panel):
            panel.plot.clear()
            panel.dress(palette)
        self.data = PlotData(["gain", "signal_adu", "variance_adu2", "fit_adu2", "in_fit"])
        self.lower_panel.data = self.data
        words = []
        for index, gain in enumerate(gains):
            color, transfer = run_colors(palette)[index % 5], gain.transfer
            points = [p for p in transfer.points if p.signal_adu > 0 and p.variance_adu2 > 0]
            x, y = (np.array([getattr(p, key) for p in points]) for key in ("signal_adu", "variance_adu2"))
            used = np.array([not p.rejected for p in points])
            if not len(x):
                continue
            fit = transfer.variance_at(x)
            for mask, symbol, size in ((used, "o", 5), (~used, "x", 8)):
                brush = color if symbol == "o" else None
                style = {"pen": None, "symbol": symbol, "symbolSize": size, "symbolBrush": brush}
                self.plot.plot(x[mask], y[mask], symbolPen=color, **style)
                near = mask & (np.abs(y / fit - 1) < 0.25)
                self.lower_panel.plot.plot(x[near], 100 * (y / fit - 1)[near], symbolPen=color, **style)
            line = np.geomspace(max(x.min(), 1e-3), x.max(), 200)
            model, spread = transfer.variance_at(line), transfer.conversion_gain
            self.plot.plot(line, np.maximum(model, 1e-9), pen=pg.mkPen(color, width=1.6), name=_title(gain))
            band = 200 * spread.standard / spread.value
            for sign in (-1, 1):
                pen = pg.mkPen(color, width=1, style=Qt.PenStyle.DashLine)
                self.lower_panel.plot.plot(line, np.full_like(line, sign * band), pen=pen)
            self.data.rows += [
                [gain.gain or 0.0, p.signal_adu, p.variance_adu2, float(f), float(not p.rejected)]
                for p, f in zip(points, fit, strict=True)
            ]
            conversion = f"{plus_minus(spread.value, spread.standard, 4)} e⁻/ADU"
            words.append(f"{_title(gain)}: {conversion}, χ² {number(transfer.chi_square, 2)}")
        text = "; ".join(words)
        self.answer.setText(
            f"{text}. Crosses are not in the fit: clipped, above 70 % of saturation, or outliers. At the right, what "
            "the fit leaves over, with twice its uncertainty dashed."
            if words
            else "No transfer curve: bias and flat pairs of one gain and offset are wanted."
        )


class LinearityPlot(BenchPlot):
    """How far the signal is off the straight line of signal over exposure."""

    def __init__(self) -> None:
        super().__init__("Linearity", "signal above bias, ADU", "off the straight line, %")

    def show_gains(self, gains: Sequence[GainResult], palette: Palette) -> None:
        """Draw the deviations of every gain that has four exposures or more."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["gain", "exposure_s", "signal_adu", "deviation_percent"])
        self.plot.addItem(pg.InfiniteLine(0, angle=0, pen=pg.mkPen(palette.faded)))
        words = []
        for index, gain in enumerate(gains):
            if gain.transfer.linearity_percent is None:
                continue
            color = run_colors(palette)[index % 5]
            times, signals, off = (np.array(column) for column in zip(*gain.transfer.linearity_points, strict=True))
            order = np.argsort(signals)
            pen = pg.mkPen(color, width=1.2)
            style = {"pen": pen, "symbol": "o", "symbolSize": 5, "symbolBrush": color}
            self.plot.plot(signals[order], off[order], name=_title(gain), **style)
            self.data.rows += [
                [gain.gain or 0.0, float(t), float(s), float(d)] for t, s, d in zip(times, signals, off, strict=True)
            ]
            words.append(f"{_title(gain)}: {number(gain.transfer.linearity_percent.value, 3)} % at the most")
        self.answer.setText(
            "; ".join(words) + "."
            if words
            else "Flats of four or more exposures in range are wanted for the linearity."
        )


class OffsetPlot(BenchPlot):
    """The low end of the bias histograms, counts on a log scale."""

    def __init__(self) -> None:
        super().__init__("Bias histogram, low end", "code, ADU", "pixels", (-300, 10))
        self.plot.setLogMode(x=False, y=True)

    def show_biases(self, biases: Sequence[BiasResult], palette: Palette) -> None:
        """Draw one line for each gain and offset."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["gain", "offset", "code", "pixels"])
        words = []
        for index, bias in enumerate(biases):
            codes, counts = bias.histogram.low_end()
            color = run_colors(palette)[index % 5]
            shown = counts > 0
            pen = pg.mkPen(color, width=1.4, style=DASHES[index % 4])
            name = f"gain {short(bias.gain or 0)}, offset {short(bias.offset or 0)}"
            style = {"pen": pen, "symbol": "o", "symbolSize": 3, "symbolBrush": color, "symbolPen": None}
            self.plot.plot(codes[shown], counts[shown].astype(float), name=plot_text(name), **style)
            self.data.rows += [
                [bias.gain or 0.0, bias.offset or 0.0, float(c), float(n)] for c, n in zip(codes, counts, strict=True)
            ]
            level = bias.level
            piled = bias.histogram.piled_share
            words.append(
                f"{name}: {number(level.mean_adu, 1)} ADU, {number(level.mean_adu / level.noise_adu.value, 1)} σ above "
                f"no ADU, lowest code {bias.histogram.lowest}"
                + (f", {number(100 * piled, 3)} % piled up there" if piled else ", no pile-up")
            )
        self.answer.setText("; ".join(words) + "." if words else "No bias frames yet.")


class DarkPlot(PlotPanel):
    """Dark current over temperature with Arrhenius' law and its band."""

    def __init__(self) -> None:
        super().__init__("Dark current", "sensor temperature, °C", "dark current, e⁻/s/px")
        self.plot.setLogMode(x=False, y=True)

    def show_dark(self, result: BenchResult | None, allowed_e_s: float | None, palette: Palette) -> None:
        """Draw the points, the law with twice its uncertainty, and the current that the longest exposure allows."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["temperature_c", "current_e_s", "uncertainty_e_s"])
        points = [p for p in result.dark_points if p.current.value > 0] if result is not None else []
        if result is None or not points:
            self.answer.setText("No darks yet: take some at three or more temperatures.")
            return
        warmth = np.array([p.temperature_c for p in points])
        current = np.array([p.current.value for p in points])
        self.data.rows = [[p.temperature_c, p.current.value, p.current.standard] for p in points]
        self.plot.plot(warmth, current, pen=None, symbol="o", symbolSize=7, symbolBrush=palette.ink)
        words = []
        if result.model is not None:
            line = np.linspace(warmth.min() - 5, warmth.max() + 3, 80)
            model = [result.model.current(float(t)) for t in line]
            values, spread = (np.array([getattr(e, key) for e in model]) for key in ("value", "standard"))
            self.plot.plot(line, values, pen=pg.mkPen(palette.accent, width=1.8))
            band = [
                self.plot.plot(
                    line, values * np.exp(sign * 2 * spread / values), pen=pg.mkPen(palette.accent, width=0.6)
                )
                for sign in (-1, 1)
            ]
            self.plot.addItem(pg.FillBetweenItem(*band, brush=palette.color("accent", 40)))
            doubling, energy = result.model.doubling(float(warmth.mean())), result.model.energy_ev
            words.append(
                f"Doubles in {plus_minus(doubling.value, doubling.standard, 2)} °C at "
                f"{number(float(warmth.mean()), 0)} °C; E = {plus_minus(energy.value, energy.standard, 3)} eV"
            )
            if allowed_e_s is not None and allowed_e_s > 0:
                warmest = result.model.warmest(allowed_e_s)
                pen = pg.mkPen(palette.fails, style=Qt.PenStyle.DashLine)
                self.plot.addItem(pg.InfiniteLine(np.log10(allowed_e_s), angle=0, pen=pen))
                words.append(
                    f"the longest exposure allows {number(allowed_e_s, 5)} e⁻/s/px (dashed): "
                    f"{plus_minus(warmest.value, warmest.standard, 1)} °C or colder"
                )
        if result.picture is not None:
            share = result.picture.hot_share
            words.append(
                f"hot pixels {number(100 * share.value, 3)} %; the brightest tile has "
                f"{number(result.picture.glow_times, 1)} times the typical dark signal"
            )
        self.answer.setText("; ".join(words) + "." if words else "Too few temperatures for a law.")


class GlowPlot(PlotPanel):
    """The map of dark signal by tile."""

    def __init__(self) -> None:
        super().__init__("Glow", "across, tiles", "up, tiles")

    def show_glow(self, result: BenchResult | None, palette: Palette) -> None:
        """Draw the map; bright is more dark signal."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["tile_across", "tile_down", "dark_e_s"])
        if result is None or result.picture is None:
            self.answer.setText("No dark to draw the glow of (colour sensors are not mapped).")
            return
        glow = np.asarray(result.picture.glow_e_s)
        image = pg.ImageItem(glow[::-1].T)
        dark, bright = palette.color("field"), palette.color("light_core")
        image.setLookupTable(pg.ColorMap([0.0, 1.0], [dark.getRgb(), bright.getRgb()]).getLookupTable(nPts=64))
        self.plot.addItem(image)
        self.plot.setXRange(0, glow.shape[1], padding=0)
        self.plot.setYRange(0, glow.shape[0], padding=0)
        self.data.rows = [[float(j), float(i), float(v)] for i, row in enumerate(glow) for j, v in enumerate(row)]
        self.answer.setText(
            f"From {number(float(glow.min()), 4)} (dark) to {number(float(glow.max()), 4)} e⁻/s/px (bright), by tile."
        )


@dataclass(frozen=True)
class ExposureTerms:
    """What exposures are computed from: the sky by filter in e⁻/s/px, and the camera's numbers."""

    skies: dict[str, float]
    read_noise_e: float | None
    dark_e_s: float
    full_well_e: float | None
    sampling: float | None
    planned_s: float | None

    @property
    def has_stars(self) -> bool:
        return self.full_well_e is not None and self.sampling is not None


class ExposurePlot(_TwoPlots):
    """What read noise adds to the noise over exposure, for each filter, and the star that fills its pixel."""

    def __init__(self) -> None:
        lower = ("saturated star", "star, e⁻/s")
        super().__init__("Exposure", "exposure of a frame, s", "read noise adds, %", lower, (-10, 10))
        for plot in (self.plot, self.lower_panel.plot):
            plot.setLogMode(x=True, y=True)

    def show_filters(self, terms: ExposureTerms, palette: Palette) -> None:
        """Draw a curve for each filter; the dot is where five per cent are added."""
        for panel in (self, self.lower_panel):
            panel.plot.clear()
            panel.dress(palette)
        self.data = self.lower_panel.data = PlotData(["exposure_s", "sky_e_s", "added_percent", "saturating_star_e_s"])
        noise = terms.read_noise_e
        self.lower_panel.setVisible(terms.has_stars and noise is not None and bool(terms.skies))
        if not terms.skies or noise is None:
            self.answer.setText(
                "State or measure the read noise, and type the sky's light of a filter (or read light frames) to see "
                "how long one must expose."
            )
            return
        times, words = np.geomspace(1, 3600, 120), []
        for index, (name, sky) in enumerate(terms.skies.items()):
            color = run_colors(palette)[index % 5]
            pen = pg.mkPen(color, width=1.6, style=DASHES[index % 4])
            added = 100 * np.atleast_1d(added_share(times, noise, sky, terms.dark_e_s))
            self.plot.plot(times, added, pen=pen, name=plot_text(name))
            limit = sky_limited_exposure(noise, sky, terms.dark_e_s)
            self.plot.plot([limit], [5.0], pen=None, symbol="o", symbolSize=8, symbolBrush=color)
            star = np.zeros_like(times)
            text = f"{name}: {number(limit, 0)} s (sky {short(sky, 3)} e⁻/s/px)"
            if terms.full_well_e is not None and terms.sampling is not None:
                per_s = saturating_star_e_s(times, terms.full_well_e, sky, terms.dark_e_s, terms.sampling)
                star = np.atleast_1d(per_s)
                self.lower_panel.plot.plot(times[star > 0], star[star > 0], pen=pen)
                aimed = terms.planned_s or limit
                at = float(saturating_star_e_s(aimed, terms.full_well_e, sky, terms.dark_e_s, terms.sampling))
                text += f", a star of {number(at, 0)} e⁻/s fills its pixel in {short(aimed, 0)} s"
            words.append(text)
            self.data.rows += [[float(t), sky, float(a), float(s)] for t, a, s in zip(times, added, star, strict=True)]
        planned = ""
        if terms.planned_s is not None:
            pen = pg.mkPen(palette.fails, style=Qt.PenStyle.DashLine)
            for plot in (self.plot, self.lower_panel.plot):
                plot.addItem(pg.InfiniteLine(np.log10(terms.planned_s), angle=90, pen=pen))
            planned = f" Dashed: the planned {short(terms.planned_s, 0)} s."
        self.answer.setText("Read noise adds 5 % to the total noise at " + "; ".join(words) + f".{planned}")


class GainPlot(_TwoPlots):
    """Noise of one planned frame over the gain setting, for each filter, and the star that fills its pixel."""

    def __init__(self) -> None:
        lower = ("saturated star", "star, e⁻/s")
        super().__init__("Noise over gain", "gain setting", "total noise, e⁻/px", lower, (-10, 10))

    def show_gains(self, gains: Sequence[GainResult], terms: ExposureTerms, palette: Palette) -> None:
        """Draw what each measured gain gives in the planned exposure."""
        for panel in (self, self.lower_panel):
            panel.plot.clear()
            panel.dress(palette)
        columns = ["gain", "sky_e_s", "total_noise_e", "sky_limited_s", "saturating_star_e_s"]
        self.data = self.lower_panel.data = PlotData(columns)
        entries = [
            gain for gain in gains if gain.gain is not None and not gain.plane and gain.transfer.read_noise is not None
        ]
        entries.sort(key=lambda item: item.gain or 0.0)
        if len(entries) < 2 or not terms.skies or terms.planned_s is None:
            self.answer.setText(
                "Two gains measured, a planned exposure and the sky of a filter are wanted for this plot."
            )
            return
        settings = np.array([entry.gain for entry in entries], dtype=float)
        words = []
        for index, (name, sky) in enumerate(terms.skies.items()):
            pen = pg.mkPen(run_colors(palette)[index % 5], width=1.4, style=DASHES[index % 4])
            style = {"pen": pen, "symbol": "o", "symbolSize": 5, "symbolBrush": run_colors(palette)[index % 5]}
            noises = [
                element.transfer.read_noise.value for element in entries if element.transfer.read_noise is not None
            ]
            total = total_noise(terms.planned_s, noises, sky, terms.dark_e_s)
            limits = [sky_limited_exposure(noise, sky, terms.dark_e_s) for noise in noises]
            stars = [
                float(saturating_star_e_s(terms.planned_s, t.full_well.value, sky, terms.dark_e_s, terms.sampling))
                if (t := candidate.transfer).full_well is not None and terms.sampling is not None
                else np.nan
                for candidate in entries
            ]
            self.plot.plot(settings, total, name=plot_text(name), **style)
            self.lower_panel.plot.plot(settings, np.array(stars), **style)
            rows = zip(settings, total, limits, stars, strict=True)
            self.data.rows += [[float(g), sky, float(n), float(t), float(s)] for g, n, t, s in rows]
            words.append(
                f"{name}: "
                + ", ".join(f"{number(t, 0)} s at {short(g)}" for t, g in zip(limits, settings, strict=True))
            )
        self.answer.setText(
            f"In {short(terms.planned_s, 0)} s. Sky-limited exposure by gain: " + "; ".join(words) + "."
        )
