"""The plot of a night: the site's horizon and an object's path over it."""

from __future__ import annotations

import datetime

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.rig.plan import Site
from wyntaxis.core.sky.horizon import NightPath, horizon_altitude
from wyntaxis.core.wording import number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plots import PlotData, PlotPanel


def clock(seconds: float) -> str:
    """Return Unix seconds as hours and minutes, UTC."""
    return f"{datetime.datetime.fromtimestamp(round(seconds / 60) * 60, datetime.UTC):%H:%M}"


class HorizonPlot(PlotPanel):
    """Altitude over azimuth: the horizon filled, the path strong where the object is up in the dark."""

    def __init__(self) -> None:
        super().__init__("Night path", "azimuth, °, from north through east", "altitude, °")

    def show_night(self, night: NightPath | None, site: Site | None, name: str | None, palette: Palette) -> None:
        """Draw a night, or say what is missing."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["unix_s", "azimuth_deg", "altitude_deg", "horizon_deg", "sun_deg"])
        self.plot.setXRange(0, 360, padding=0)
        self.plot.getAxis("bottom").setTickSpacing(45, 15)
        self.plot.setYRange(0, 90, padding=0)
        if site is not None:
            azimuth = np.arange(0.0, 361.0)
            self.plot.plot(
                azimuth,
                horizon_altitude(site, azimuth),
                pen=pg.mkPen(palette.ink, width=1.2),
                fillLevel=-5,
                brush=palette.color("metal", 110),
            )
        if site is None or night is None:
            missing = "Edit → Add a site, and " if site is None else ""
            self.answer.setText(f"{missing}choose a centre or an object above to see the night.")
            return
        rows = (night.seconds, night.azimuth_deg, night.altitude_deg, night.horizon_deg, night.sun_deg)
        self.data.rows = [[float(v) for v in row] for row in zip(*rows, strict=True)]
        strong = night.up & night.dark
        styles = (
            (~night.up, pg.mkPen(palette.faded, width=1, style=Qt.PenStyle.DotLine)),
            (night.up & ~night.dark, pg.mkPen(palette.faded, width=1.2, style=Qt.PenStyle.DashLine)),
            (strong, pg.mkPen(palette.accent, width=2.6)),
        )
        wraps = np.abs(np.diff(night.azimuth_deg, append=night.azimuth_deg[-1])) > 180
        for mask, pen in styles:
            connect = (mask & ~wraps).astype(np.int32)
            self.plot.plot(night.azimuth_deg, night.altitude_deg, pen=pen, connect=connect)
        for index in range(len(night.seconds)):
            if strong[index] and round(night.seconds[index] / 60) % 120 == 0:
                self._hour(night, index, palette)
        self.answer.setText(self._words(night, site, name))

    def _hour(self, night: NightPath, index: int, palette: Palette) -> None:
        x, y = float(night.azimuth_deg[index]), float(night.altitude_deg[index])
        self.plot.plot([x], [y], pen=None, symbol="o", symbolSize=6, symbolBrush=palette.accent, symbolPen=None)
        text = self.label(clock(float(night.seconds[index])), palette.ink, (0.0, 1.0))
        text.setPos(x, y)
        self.plot.addItem(text)

    def _words(self, night: NightPath, site: Site, name: str | None) -> str:
        spans = " and ".join(f"{clock(a)} to {clock(b)}" for a, b in night.spans())
        top, when = night.highest
        above = "the horizon file" if site.horizon else "a flat horizon, as none is brought in"
        text = (
            f"{name or 'The centre'} is up in astronomical darkness for {number(night.hours_up_and_dark, 1)} h of "
            f"{number(night.hours_dark, 1)} h dark" + (f" ({spans} UTC)" if spans else "")
        )
        top_words = f"highest {number(top, 0)}° at {clock(when)} UTC"
        return f"{text}, above {above}; {top_words}. Dashed: up in daylight or twilight."
