"""Plots of what is computed: sampling over seeing, calibration pulse over declination, field rotation over the sky."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.optics import field_rotation, guiding, imaging
from wyntaxis.core.train.sampling import BinningRow, SeeingBand
from wyntaxis.core.wording import number, short
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plots import PlotData, PlotPanel

LINE_STYLES = (
    Qt.PenStyle.SolidLine,
    Qt.PenStyle.DashLine,
    Qt.PenStyle.DotLine,
    Qt.PenStyle.DashDotLine,
)

LINES_S = (10.0, 30.0, 60.0, 120.0, 300.0)
"""The exposures whose lines the map of field rotation shows."""


class SamplingPlot(PlotPanel):
    """Sampling over seeing for the binnings in use of every train, with the matched band."""

    def __init__(self) -> None:
        super().__init__("Sampling over seeing", "seeing FWHM, ″", "sampling, px/FWHM")

    def show_rows(self, rows: list[BinningRow], band: SeeingBand | None, palette: Palette) -> None:
        """Draw a line for each row; shaded are the match and the site's seeing."""
        self.plot.clear()
        self.dress(palette)
        if not rows or band is None:
            self.answer.setText("State the site's seeing, good to poor, and the camera's sensor to see the sampling.")
            self.data = PlotData()
            return
        seeing = np.linspace(min(1.0, 0.7 * band.good_arcsec), max(5.0, 1.2 * band.poor_arcsec), 60)
        self.data = PlotData(["seeing_arcsec", *(f"{row.train}, bin {row.binning}, px" for row in rows)])
        lines = [seeing / row.scale_arcsec_px for row in rows]
        self.data.rows = [[s, *(line[i] for line in lines)] for i, s in enumerate(seeing)]
        match = pg.LinearRegionItem(
            (imaging.MATCHED_FROM, imaging.MATCHED_TO),
            orientation="horizontal",
            movable=False,
            brush=palette.color("holds", 50),
            pen=pg.mkPen(None),
        )
        self.plot.addItem(match)
        if band.is_band:
            self.plot.addItem(
                pg.LinearRegionItem(
                    (band.good_arcsec, band.poor_arcsec),
                    movable=False,
                    brush=palette.color("accent", 28),
                    pen=pg.mkPen(None),
                )
            )
        self.plot.addItem(pg.InfiniteLine(band.usual_arcsec, pen=pg.mkPen(palette.faded, style=Qt.PenStyle.DashLine)))
        trains = list(dict.fromkeys(row.train for row in rows))
        top = 0.0
        for row, line in zip(rows, lines, strict=True):
            style = LINE_STYLES[trains.index(row.train) % len(LINE_STYLES)]
            color = palette.ink if row.in_use else palette.faded
            self.plot.plot(seeing, line, pen=pg.mkPen(color, width=1.8 if row.in_use else 1.0, style=style))
            text = self.label(f"bin {row.binning}", color, (1, 1))
            text.setPos(float(seeing[-1]), float(line[-1]))
            self.plot.addItem(text)
            top = max(top, float(line[-1]))
        self.plot.setYRange(0, min(top * 1.08, 8))
        self.plot.setXRange(float(seeing[0]), float(seeing[-1]), padding=0.02)
        words = "; ".join(f"{('solid', 'dashed', 'dotted', 'dash-dotted')[i % 4]}: {t}" for i, t in enumerate(trains))
        shaded = f"Shaded across: matched, {short(imaging.MATCHED_FROM)} to {short(imaging.MATCHED_TO)} px. "
        site = (
            f"Shaded upright: the site's seeing, {short(band.good_arcsec)} to {short(band.poor_arcsec)}″. "
            if band.is_band
            else "Upright: the usual seeing; state a good and a poor night for a band. "
        )
        self.answer.setText(f"{shaded}{site}Lines: {words}. Strong: binning in use.")


class CalibrationPlot(PlotPanel):
    """The calibration pulse over declination."""

    def __init__(self) -> None:
        super().__init__("Calibration pulse", "declination, °", "pulse, ms")

    def show_pulse(
        self,
        guide_scale: float | None,
        distance_px: float,
        pulses: int,
        rate: float,
        at_deg: float,
        stated_ms: float | None,
        palette: Palette,
    ) -> None:
        """Draw the pulse from −80° to +80°, mark where the calibration is made and what is set."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["declination_deg", "pulse_ms"])
        if guide_scale is None:
            self.answer.setText("End the guide path with a camera whose sensor is given to see the pulse.")
            return
        degrees = np.linspace(-80, 80, 161)
        pulse = np.array(
            [guiding.calibration_pulse_ms(distance_px, guide_scale, pulses, rate, float(d)) for d in degrees]
        )
        self.data.rows = [[float(d), float(p)] for d, p in zip(degrees, pulse, strict=True)]
        self.plot.plot(degrees, pulse, pen=pg.mkPen(palette.accent, width=1.8))
        at = max(-80.0, min(80.0, at_deg))
        wanted = guiding.calibration_pulse_ms(distance_px, guide_scale, pulses, rate, at)
        self.plot.plot([at], [wanted], pen=None, symbol="o", symbolSize=9, symbolBrush=palette.ink, symbolPen=None)
        if stated_ms is not None:
            self.plot.addItem(
                pg.InfiniteLine(stated_ms, angle=0, pen=pg.mkPen(palette.fails, style=Qt.PenStyle.DashLine))
            )
        self.plot.setYRange(0, float(min(pulse.max(), 4 * pulse.min())))
        set_text = f"; dashed: {short(stated_ms, 0)} ms as set" if stated_ms is not None else ""
        self.answer.setText(
            f"{number(wanted, 0)} ms at {number(at, 1)}° (dot) for {short(distance_px)} guide px in {pulses} pulses at "
            f"{short(rate)}× sidereal{set_text}."
        )


class RotationMap(PlotPanel):
    """The longest exposure of an alt-azimuth mount over the sky."""

    def __init__(self) -> None:
        super().__init__("Longest exposure", "azimuth, °, from north through east", "altitude, °")

    def show_map(
        self,
        latitude_deg: float | None,
        radius_px: float | None,
        allowed_px: float,
        planned_s: float | None,
        palette: Palette,
    ) -> None:
        """Draw the map on a log scale, with the line of the planned exposure."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["azimuth_deg", "altitude_deg", "longest_exposure_s"])
        if latitude_deg is None or radius_px is None:
            self.answer.setText("State the site and the camera's sensor to see how fast the field rotates.")
            return
        azimuths, altitudes, longest = field_rotation.rotation_map(latitude_deg, radius_px, allowed_px)
        capped = np.clip(longest, 0.1, 1e4)
        self.data.rows = [
            [float(a), float(h), float(capped[j, i])]
            for j, h in enumerate(altitudes[::5])
            for i, a in enumerate(azimuths)
            if i % 5 == 0
        ]
        levels = np.log10(capped)
        low, high = float(levels[:-1].min()), min(3.5, float(levels.max()))
        image = pg.ImageItem(levels.T, levels=(low, high))
        dark, bright = palette.color("metal"), palette.color("light")
        image.setLookupTable(pg.ColorMap([0.0, 1.0], [dark.getRgb(), bright.getRgb()]).getLookupTable(nPts=48))
        image.setRect(-0.5, -1, 361, 90)
        self.plot.setXRange(0, 360, padding=0)
        self.plot.getAxis("bottom").setTickSpacing(45, 15)
        self.plot.setYRange(0, 88, padding=0)
        self.plot.addItem(image)
        line = partial(field_rotation.exposure_line, latitude_deg, radius_px, allowed_px)
        drawn = sorted({*LINES_S, *([planned_s] if planned_s else [])})
        for index, seconds in enumerate(drawn):
            strong = seconds == planned_s
            pen = pg.mkPen(palette.fails if strong else palette.ink, width=2.2 if strong else 0.8)
            written_at = len(altitudes) * (index + 1) // (len(drawn) + 2)  # each at a height of its own
            self._draw_line(levels, seconds, line(seconds), written_at, pen, palette)
        share = float((longest[:-1] >= planned_s).mean()) if planned_s else None
        planned = (
            f" In {number(100 * share, 0)} % of it the planned {short(planned_s or 0)} s are short enough (strong "
            "line)."
            if share is not None
            else ""
        )
        self.answer.setText(
            f"Exposure after which the corner, {number(radius_px, 0)} px from the axis, has moved "
            f"{short(allowed_px)} px; "
            f"dark is short, bright is long.{planned} Due east and west the field does not rotate; overhead no "
            "exposure is short "
            "enough."
        )

    def _draw_line(
        self,
        levels: np.ndarray,
        seconds: float,
        line: tuple[np.ndarray, np.ndarray],
        up: int,
        pen: object,
        palette: Palette,
    ) -> None:
        """Draw where the longest exposure is a given one, and write it between east and south, in a row of the map."""
        level = float(np.log10(seconds))
        if not levels.min() < level < levels.max():
            return
        quarter, altitudes = line
        apart = [np.nan]
        across = [[*azimuths, *apart] for azimuths in (quarter, 180 - quarter, 180 + quarter, 360 - quarter)]
        upward = np.tile([*altitudes, *apart], 4)
        self.plot.addItem(pg.PlotCurveItem(np.concatenate(across), upward, pen=pen, connect="finite"))
        at = 90 + int(np.argmin(np.abs(levels[up, 90:181] - level)))
        text = self.label(f"{short(seconds)} s", palette.ink, (0.5, 0.5), fill=palette.color("field", 200))
        text.setPos(at, 2 * up)
        text.setZValue(1)
        self.plot.addItem(text)
