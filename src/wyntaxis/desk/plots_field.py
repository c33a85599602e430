"""Plots of the field: best focus over the sensor, curvature over spacing, the corners enlarged beside the middle."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt

from wyntaxis.core.evidence.field.result import FieldResult, MeasuredSweep, ScrewAdvice, ScrewTurn
from wyntaxis.core.evidence.field.shape import FieldShape
from wyntaxis.core.wording import number, plus_minus, signed
from wyntaxis.desk.frame_picture import stretched
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plots import PlotData, PlotPanel
from wyntaxis.desk.plots_bench import BenchPlot

if TYPE_CHECKING:
    from wyntaxis.core.evidence.field.shape import ShapeZone

SIDE = 90
CROP_PX = 44
"""How many px of the frame each enlarged piece shows across, at the most."""
GAP = 3
SCREWS_AT = 1.12
"""How far from the middle screws are drawn, in half diagonals of the sensor."""
ARROW_SHARE = 0.35


def pieces_of(path: Path, spots: Sequence[tuple[float, float] | None] = ()) -> tuple[Any, int]:
    """Return nine pieces of a frame, about stars near its corners, edges and middle, as one picture from 0 to 255, and
    a piece's side in px.

    Row 0 of the frame lies below. :class:`InputError` for what is no frame.
    """
    from wyntaxis.core.evidence.sensor.strips import open_frame

    with open_frame(path) as frame:
        side = min(CROP_PX, frame.width // 3, frame.height // 3)
        pieces = []
        for place in range(9):
            spot = spots[place] if place < len(spots) else None
            corner = (place % 3 / 2 * (frame.width - 1), place // 3 / 2 * (frame.height - 1))
            x, y = spot or corner
            left = min(max(round(x - side / 2), 0), frame.width - side)
            top = min(max(round(y - side / 2), 0), frame.height - side)
            pieces.append(np.array(frame.rows(top, top + side)[:, left : left + side]))
    whole = stretched(np.concatenate([np.concatenate(pieces[k : k + 3], axis=1) for k in (0, 3, 6)]))
    picture = np.zeros((3 * side + 2 * GAP, 3 * side + 2 * GAP), np.uint8)
    for row in range(3):
        for column in range(3):
            piece = whole[row * side : (row + 1) * side, column * side : (column + 1) * side]
            top, left = row * (side + GAP), column * (side + GAP)
            picture[top : top + side, left : left + side] = piece
    return picture, side


def _radial_text(shape: FieldShape | None) -> str:
    """Return in a sentence whether stars are drawn out along the radius or across it, toward the corner."""
    radial = shape.radial if shape is not None else None
    if radial is None:
        return ""
    if abs(radial.value) < 2 * radial.standard:
        return " Toward the corner they are neither radial nor tangential for certain."
    way = "radial" if radial.value > 0 else "tangential"
    return f" Toward the corner they are {way}: ellipticity {plus_minus(abs(radial.value), radial.standard, 2)}."


class SurfacePlot(PlotPanel):
    """Best focus over the sensor: the fitted surface as shades, each zone's own height, and where it rises."""

    def __init__(self) -> None:
        super().__init__("Best focus over the sensor", "x, px", "y, px (row 0 below)")
        self.plot.setAspectLocked(True)

    def show_sweep(
        self, entry: MeasuredSweep | None, palette: Palette, *, residuals: bool, advice: ScrewAdvice | None = None
    ) -> None:
        """Draw a sweep's zones in µm over the middle, or what the surface leaves of them, and the screws about it."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "best_position", "u", "over_middle_um", "residual_um"])
        if entry is None or entry.surface.middle is None:
            self.answer.setText("No surface: " + (entry.surface.why if entry is not None else "no sweep is chosen."))
            return
        sweep, surface = entry.sweep, entry.surface
        width, height = sweep.size_px
        half = sweep.half_diagonal_px
        unit, step = ("µm", entry.step_um.value) if entry.step_um is not None else ("steps", 1.0)
        assert surface.middle is not None
        x, y = np.meshgrid(np.linspace(-width / 2, width / 2, SIDE), np.linspace(-height / 2, height / 2, SIDE))
        heights = np.asarray(surface.at(x / half, y / half) - surface.middle.value) * step
        shown = np.zeros_like(heights) if residuals else heights
        most = max(float(np.abs(shown).max()), 1e-6)
        image = pg.ImageItem(shown.T, levels=(-most, most))
        ends = [palette.color(name) for name in ("glass", "field", "light_core")]
        table = pg.ColorMap([0.0, 0.5, 1.0], [end.getRgb() for end in ends]).getLookupTable(nPts=128)
        image.setLookupTable(table)
        image.setRect(-0.5, -0.5, width, height)
        self.plot.addItem(image)
        for zone, left in zip(entry.zoned.zones, surface.residuals, strict=True):
            found = zone.best_position
            over = math.nan if found is None else (found.value - surface.middle.value) * step
            self.data.rows.append(
                [zone.x, zone.y, found.value if found else math.nan, found.standard if found else math.nan, over,
                 left * step]
            )  # fmt: skip
            value = left * step if residuals else over
            text = "–" if math.isnan(value) else signed(value, 1 if residuals else 0)
            label = self.label(text, palette.ink, (0.5, 0.5))
            label.setPos(zone.x, zone.y)
            self.plot.addItem(label)
        if not residuals:
            self._arrow(entry, palette)
        self.plot.setRange(xRange=(0, width), yRange=(0, height), padding=0.03)
        turns = advice.turns if advice is not None else ()
        self._screws(turns, (width, height), palette)
        words = [self._reported(entry, unit, most, residuals=residuals)]
        words += [f"{place}: {turn.words}" for place, turn in enumerate(turns, start=1)]
        self.answer.setText("\n".join(words))

    def _screws(self, turns: Sequence[ScrewTurn], size_px: tuple[int, int], palette: Palette) -> None:
        """Draw the plate's screws where they lie about the sensor, not as far out as they are."""
        width, height = size_px
        far = SCREWS_AT * math.hypot(width, height) / 2
        for place, turn in enumerate(turns, start=1):
            turned = math.radians(turn.azimuth_deg)
            label = self.label(f" {place} ", palette.ink, (0.5, 0.5), palette.color("chosen"))
            label.border = pg.mkPen(palette.accent)
            label.setPos(width / 2 + far * math.cos(turned), height / 2 + far * math.sin(turned))
            self.plot.addItem(label)
        if turns:
            self.plot.setRange(
                xRange=(width / 2 - far, width / 2 + far), yRange=(height / 2 - far, height / 2 + far), padding=0.06
            )

    def _arrow(self, entry: MeasuredSweep, palette: Palette) -> None:
        """Draw the way in which best focus rises along the light."""
        azimuth = entry.azimuth_deg
        if azimuth is None:
            return
        width, height = entry.sweep.size_px
        long, turn = ARROW_SHARE * min(width, height), math.radians(azimuth.value)
        start = QPointF(width / 2, height / 2)
        end = QPointF(start.x() + long * math.cos(turn), start.y() + long * math.sin(turn))
        self.plot.plot(
            [start.x(), end.x()],
            [start.y(), end.y()],
            pen=pg.mkPen(palette.accent, width=2, style=Qt.PenStyle.SolidLine),
        )
        for side in (-1, 1):
            barb = turn + math.pi + side * math.radians(24)
            short_side = 0.18 * long
            self.plot.plot(
                [end.x(), end.x() + short_side * math.cos(barb)],
                [end.y(), end.y() + short_side * math.sin(barb)],
                pen=pg.mkPen(palette.accent, width=2),
            )

    def _reported(self, entry: MeasuredSweep, unit: str, most: float, *, residuals: bool) -> str:
        scatter = entry.surface.scatter * abs(entry.step_um.value if entry.step_um is not None else 1.0)
        if residuals:
            return f"What the surface leaves of each zone, in {unit}; they scatter by {number(scatter, 1)} {unit}."
        tilt, azimuth = entry.tilt_um, entry.azimuth_deg
        where = " nowhere for certain" if azimuth is None else f" toward {number(azimuth.value, 0)}° (arrow)"
        text = (
            f"{entry.sweep.name}: numbers are the zones’ best focus over the middle’s, in {unit}, along the light; "
            f"shades the surface fitted, ±{number(most, 0)} {unit}."
        )
        return text + ("" if tilt is None else f" It rises{where}.")


class SpacingPlot(BenchPlot):
    """Curvature at several spacings, the straight line through it, and where it crosses zero."""

    def __init__(self) -> None:
        super().__init__(
            "Curvature over spacing", "spacing behind the corrector, mm", "corner over middle, µm", (60, 10)
        )

    def show_result(self, result: FieldResult, palette: Palette) -> None:
        """Draw the spacings of all sweeps that tell theirs."""
        self.plot.clear()
        self.legend.clear()
        self.dress(palette)
        self.data = PlotData(["spacing_mm", "curvature_um", "u"])
        flat = result.flat
        self.data.rows = [[mm, curvature.value, curvature.standard] for mm, curvature in flat.points]
        if not flat.points:
            self.answer.setText(f"No line: {flat.why}.")
            return
        x, y, u = (np.array(column) for column in zip(*self.data.rows, strict=True))
        bars = pg.ErrorBarItem(x=x, y=y, height=4 * u, beam=0.01, pen=pg.mkPen(palette.faded))
        self.plot.addItem(bars)
        self.plot.addItem(
            pg.ScatterPlotItem(x=x, y=y, size=9, brush=palette.color("accent"), pen=pg.mkPen(palette.ink))
        )
        self.plot.addItem(pg.InfiniteLine(0, angle=0, pen=pg.mkPen(palette.faded, style=Qt.PenStyle.DashLine)))
        if flat.slope_um_mm is None or flat.flat_at_mm is None:
            self.answer.setText(f"No crossing: {flat.why}.")
            return
        at, slope = flat.flat_at_mm, flat.slope_um_mm
        span = np.array([min(x.min(), at.value) - 0.2, max(x.max(), at.value) + 0.2])
        line = self.plot.plot(span, slope.value * (span - at.value), pen=pg.mkPen(palette.accent, width=1.6))
        self.legend.addItem(line, "straight line")
        low, high = at.value - 2 * at.standard, at.value + 2 * at.standard
        band = pg.LinearRegionItem((low, high), movable=False, brush=palette.color("holds", 60), pen=pg.mkPen(None))
        self.plot.addItem(band)
        built = result.optics.built_mm
        if built is not None:
            self.plot.addItem(pg.InfiniteLine(built, pen=pg.mkPen(palette.ink, style=Qt.PenStyle.DotLine)))
        self.answer.setText(
            f"Flat at {plus_minus(at.value, at.standard, 2)} mm (shaded ±2u); it changes by "
            f"{plus_minus(slope.value, slope.standard, 1)} µm for each mm. Bars: ±2u."
            + ("" if built is None else f" Dotted: built, {number(built, 2)} mm.")
        )


class CornersPlot(PlotPanel):
    """Nine pieces of a frame enlarged: the corners, the edges and the middle, as they lie on the frame."""

    def __init__(self) -> None:
        super().__init__("Corners beside the middle", "px of each piece", "row 0 below")
        self.plot.setAspectLocked(True)

    def show_pieces(self, picture: tuple[Any, int] | None, shape: FieldShape | None, palette: Palette) -> None:
        """Draw the pieces of a frame, with each zone's figures."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "fwhm_px", "elongation", "angle_deg", "radial"])
        for axis in ("bottom", "left"):
            self.plot.getAxis(axis).setTicks([])
        if shape is not None:
            self.data.rows = [
                [z.x, z.y, z.fwhm_px, z.elongation, z.angle_deg, z.radial] for z in shape.zones
            ]  # fmt: skip
        if picture is None:
            self.answer.setText("The sharpest frame is being read.")
            return
        pixels, side = picture
        item = pg.ImageItem(pixels.T, levels=(0, 255))
        ends = [palette.color(name) for name in (("ink", "field") if palette.name == "day" else ("paper", "ink"))]
        item.setLookupTable(pg.ColorMap([0.0, 1.0], [end.getRgb() for end in ends]).getLookupTable(nPts=256))
        self.plot.addItem(item)
        zones = {} if shape is None else {self._cell(zone, shape): zone for zone in shape.zones}
        for (column, row), zone in zones.items():
            label = self.label(number(zone.fwhm_px, 2), palette.ink, (0.0, 0.0), palette.color("field", 200))
            label.setPos(column * (side + GAP) + 1, (row + 1) * (side + GAP) - GAP)
            self.plot.addItem(label)
        self.plot.setRange(xRange=(0, pixels.shape[1]), yRange=(0, pixels.shape[0]), padding=0.01)
        self.answer.setText(
            f"{shape.file if shape is not None else 'The frame'}: stars near corners, edges and middle, "
            f"{side} px each; numbers: FWHM of the zone’s stars in px. One frame is a hint, no measurement."
            + _radial_text(shape)
        )

    def _cell(self, zone: ShapeZone, shape: FieldShape) -> tuple[int, int]:
        """Return in which of nine pieces a zone's numbers belong."""
        xs = sorted({z.x for z in shape.zones})
        ys = sorted({z.y for z in shape.zones})
        return (
            min(int(3 * (zone.x - xs[0]) / max(xs[-1] - xs[0], 1e-9)), 2),
            min(int(3 * (zone.y - ys[0]) / max(ys[-1] - ys[0], 1e-9)), 2),
        )
