"""Plots of flats: the light with its shadows of dust, and a new flat over an old one."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal

from wyntaxis.core.evidence.filters.flats import FlatSet
from wyntaxis.core.evidence.filters.result import Dust, Serve
from wyntaxis.core.evidence.filters.smooth_light import SmoothLight
from wyntaxis.core.wording import counted, number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData, PlotPanel

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Numbers

MAX_SIDE = 700
RING = np.linspace(0, 2 * np.pi, 90)


def _thinned(plane: Numbers) -> tuple[Any, int]:
    by = -(-max(plane.shape) // MAX_SIDE)
    rows, columns = plane.shape[0] // by, plane.shape[1] // by
    return plane[: rows * by, : columns * by].reshape(rows, by, columns, by).mean(axis=(1, 3)), by


class _LightPlot(PlotPanel):
    """A picture of light over the frame, row 0 below."""

    def __init__(self, name: str) -> None:
        super().__init__(name, "x, px", "y, px (row 0 below)")
        self._shown: tuple[object, object, Numbers] | None = None
        """What was drawn last, and from what: looking at another row costs no division of frames."""
        self.plot.setAspectLocked(True)

    def _image(self, plane: Numbers, binned: int, levels: tuple[float, float], palette: Palette) -> None:
        thin, by = _thinned(plane)
        item = pg.ImageItem(thin.T, levels=levels)
        dark, bright = (
            palette.color("metal" if palette.name == "day" else "paper"),
            palette.color("field" if palette.name == "day" else "ink"),
        )
        item.setLookupTable(pg.ColorMap([0.0, 1.0], [dark.getRgb(), bright.getRgb()]).getLookupTable(nPts=256))
        item.setRect(-0.5, -0.5, thin.shape[1] * by * binned, thin.shape[0] * by * binned)
        self.plot.addItem(item)
        self.plot.setRange(
            xRange=(0, thin.shape[1] * by * binned), yRange=(0, thin.shape[0] * by * binned), padding=0.02
        )

    def _ring(self, x: float, y: float, across: float, pen: Any) -> None:
        self.plot.plot(x + across / 2 * np.cos(RING), y + across / 2 * np.sin(RING), pen=pen)


class DustPlot(_LightPlot):
    """A flat over its own smooth light, its shadows ringed and named by the surface that they lie on."""

    grain_chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__("Dust on the flat")

    def show_set(
        self,
        entry: tuple[FlatSet, SmoothLight] | None,
        seen: tuple[tuple[int | None, Dust], ...],
        chosen: int,
        palette: Palette,
    ) -> None:
        """Draw a set's mean flat over its light, with the grains that it shows, each with its place in the table."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "outer_px", "inner_px", "depth", "distance_mm"])
        if entry is None:
            self.answer.setText("Choose flats in the table.")
            return
        from wyntaxis.core.evidence.filters.dust import detail_of

        flats, smooth = entry
        if self._shown is None or self._shown[0] is not flats or self._shown[1] is not smooth:
            self._shown = (flats, smooth, detail_of(flats.mean(), smooth))
        detail = self._shown[2]
        spread = max(float(np.percentile(np.abs(detail), 99.5)), 1e-4)
        self._image(detail, flats.binned, (-spread, spread), palette)
        for place, grain in seen:
            shadow = grain.shadow
            distance = grain.distance_mm.value if grain.distance_mm is not None else np.nan
            self.data.rows.append([shadow.x, shadow.y, shadow.outer_px.value, shadow.inner_px, shadow.depth, distance])
            pen = pg.mkPen(palette.accent, width=3 if place == chosen else 1.4)
            self._ring(shadow.x, shadow.y, shadow.outer_px.value, pen)
            if shadow.inner_px:
                self._ring(shadow.x, shadow.y, shadow.inner_px, pg.mkPen(palette.accent, style=Qt.PenStyle.DotLine))
            text = "?" if grain.distance_mm is None else f"{number(grain.distance_mm.value, 1)} mm"
            label = self.label(plot_text(text), palette.ink, (0.5, 1.0), palette.color("field", 190))
            label.setPos(shadow.x, shadow.y + shadow.outer_px.value / 2)
            self.plot.addItem(label)
        self.answer.setText(
            f"{flats.title}: {counted(len(seen), 'shadow')}; numbers: how far before the sensor the dust lies. Shades: "
            f"the flat over its own smooth light, ±{number(100 * spread, 2)} %."
            + "".join(f"\n{line}" for line in _places(seen))
        )


def _places(seen: Sequence[tuple[int | None, Dust]]) -> list[str]:
    """Return on what the shadows' dust lies, a line each surface, the nearest to the sensor first."""
    found: dict[str, list[float]] = {}
    for _place, grain in seen:
        where = grain.surface.title if grain.surface is not None else grain.why
        found.setdefault(where, []).append(grain.distance_mm.value if grain.distance_mm is not None else math.inf)
    ordered = sorted(found.items(), key=lambda entry: min(entry[1]))
    return [f"{counted(len(distances), 'shadow')}: {where}" for where, distances in ordered if where]


class RatioPlot(_LightPlot):
    """A new flat over an old one: where the old one no longer serves."""

    def __init__(self) -> None:
        super().__init__("New flat over old")

    def show_serve(self, entry: Serve | None, sets: tuple[FlatSet, FlatSet] | None, palette: Palette) -> None:
        """Draw the ratio of two sets' means, with the places that differ."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "share", "across_px"])
        if entry is None or sets is None:
            self.answer.setText("Choose a comparison in the table.")
            return
        old, new = sets
        if self._shown is None or self._shown[0] is not old or self._shown[1] is not new:
            ratio = np.log(new.mean() / old.mean())
            self._shown = (old, new, ratio - np.median(ratio))
        ratio = self._shown[2]
        thin, _by = _thinned(ratio)
        spread = max(float(np.percentile(np.abs(thin), 99.5)), 1e-4)
        self._image(ratio, new.binned, (-spread, spread), palette)
        for place in entry.comparison.places:
            self.data.rows.append([place.x, place.y, place.share, place.across_px])
            self._ring(place.x, place.y, 1.4 * place.across_px, pg.mkPen(palette.fails, width=1.6))
        entries = entry.comparison
        self.answer.setText(
            f"{entry.filter}: {entry.new} over {entry.old}, {entries.verdict}. Ringed: differs beyond noise, by up to "
            f"{number(100 * entries.worst, 2)} %. Shades: ±{number(100 * spread, 2)} %."
        )
