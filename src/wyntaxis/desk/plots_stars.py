"""Plots of many frames' stars: a figure over time with what happened between, and star size over the sensor."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_grading import FrameGrade, moment_of
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.wording import number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData, PlotPanel
from wyntaxis.desk.plots_bench import BenchPlot, run_colors

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

ZONES = 3
SYMBOLS = ("o", "s", "t1", "d", "h", "star")
ROOM_ABOVE = 0.38


@dataclass(frozen=True)
class Figure:
    """What may be drawn over time: its name and unit, and where it is read."""

    label: str
    key: str

    def of(self, frame: FrameStars) -> Estimate | None:
        """Return the figure of a frame; None where it has none."""
        if self.key == "stars":
            return Estimate(float(frame.count))
        if self.key == "temperature":
            header = frame.header
            return Estimate(header.focus_temperature_c) if header and header.focus_temperature_c is not None else None
        found = getattr(frame, self.key)
        return found if isinstance(found, Estimate) else None


FIGURES = (
    Figure("HFD, px", "hfd_px"),
    Figure("FWHM, px", "fwhm_px"),
    Figure("elongation", "elongation"),
    Figure("direction of the long axis, °", "position_angle_deg"),
    Figure("stars", "stars"),
    Figure("sky, ADU", "sky_adu"),
    Figure("focuser's temperature, °C", "temperature"),
)


class TimePlot(BenchPlot):
    """One figure of every frame over time, with filters as colours and what happened between as marks.

    ``frame_chosen`` carries a frame's place; ``limit_moved`` the limit that was drawn to another size, in px.
    """

    frame_chosen = pyqtSignal(int)
    limit_moved = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__("Stars over time", "minutes since the first frame", "HFD, px")
        self.plot.setLimits(minYRange=1e-3)
        self.legend.setColumnCount(6)
        self.legend.anchor((0, 0), (0, 0), offset=(46, 2))

    def show_grades(self, grades: Sequence[FrameGrade], figure: Figure, chosen: int, palette: Palette) -> None:
        """Draw a figure of every frame."""
        self.plot.clear()
        self.legend.clear()
        self.axis_labels["left"] = figure.label
        self.dress(palette)
        moments = [moment_of(entry.frame) for entry in grades]
        known = [moment for moment in moments if moment is not None]
        timed = len(known) == len(grades) and len(known) > 0
        if not timed:
            self.axis_labels["bottom"] = "frame"
            self.plot.getAxis("bottom").setLabel("frame", color=palette.ink)
        first = min(known) if timed else None
        x = np.array(
            [
                (m - first).total_seconds() / 60 if m is not None and first is not None else float(k)
                for k, m in enumerate(moments)
            ]
        )
        figures = [figure.of(entry.frame) for entry in grades]
        y = np.array([np.nan if found is None else found.value for found in figures])
        self.data = PlotData(["frame", "minutes" if timed else "frame_number", figure.key, "u", "keep"])
        self.data.rows = [
            [float(k), float(x[k]), float(y[k]), found.standard if found else np.nan, float(grades[k].keep)]
            for k, found in enumerate(figures)
        ]
        self._frames(grades, x, y, chosen, palette)
        self._marks(grades, x, y, palette)
        self._limit(grades, figure, palette)
        self._leave_room(grades, figure, y)
        kept = sum(entry.keep for entry in grades)
        faults: dict[str, int] = {}
        for entry in grades:
            if entry.fault:
                faults[entry.fault] = faults.get(entry.fault, 0) + 1
        text = ", ".join(f"{count} {name}" for name, count in faults.items())
        self.answer.setText(
            f"{kept} of {len(grades)} frames are accepted" + (f"; {text}" if text else "") + ". Crosses are not; "
            "thin lines: refocus, flip or another filter before the frame. Drag the dashed limit to another size."
        )

    def _frames(self, grades: Sequence[FrameGrade], x: Floats, y: Floats, chosen: int, palette: Palette) -> None:
        names = [
            (entry.frame.header.filter if entry.frame.header else None) or "no filter recorded" for entry in grades
        ]
        for place, name in enumerate(dict.fromkeys(names)):
            color = run_colors(palette)[place % 5]
            own = [k for k, other in enumerate(names) if other == name and np.isfinite(y[k])]
            spots = [
                {
                    "pos": (x[k], y[k]),
                    "data": k,
                    "symbol": SYMBOLS[place % len(SYMBOLS)] if grades[k].keep else "x",
                    "size": 13 if k == chosen else 8,
                    "pen": pg.mkPen(color, width=2 if not grades[k].keep or k == chosen else 1),
                    "brush": pg.mkBrush(color) if grades[k].keep else pg.mkBrush(None),
                }
                for k in own
            ]

            def tip(x: float, y: float, data: int) -> str:
                entry = grades[data]
                why = f", {entry.fault}: {entry.why}" if entry.fault else ""
                return plot_text(f"{entry.frame.file}: {number(y, 2)}{why}")

            item = pg.ScatterPlotItem(hoverable=True, tip=tip)
            item.addPoints(spots)
            item.sigClicked.connect(
                lambda _item, hit, _event: self.frame_chosen.emit(int(hit[0].data())) if len(hit) else None
            )
            self.plot.addItem(item)
            self.legend.addItem(pg.PlotDataItem(pen=pg.mkPen(color)), plot_text(name))

    def _leave_room(self, grades: Sequence[FrameGrade], figure: Figure, y: Floats) -> None:
        """Leave room above the frames for the legend and the marks."""
        values = [float(value) for value in y[np.isfinite(y)]]
        if figure.key == "hfd_px":
            values += [entry.limit_px for entry in grades if entry.limit_px is not None]
        if values:
            high = max(max(values) - min(values), 1e-3 * abs(max(values)), 1e-3)
            self.plot.setYRange(min(values) - 0.06 * high, max(values) + ROOM_ABOVE * high, padding=0)

    def _marks(self, grades: Sequence[FrameGrade], x: Floats, y: Floats, palette: Palette) -> None:
        finite = y[np.isfinite(y)]
        top, high = (float(finite.max()), float(np.ptp(finite))) if len(finite) else (1.0, 1.0)
        high = max(high, 1e-3)
        line_at = 0
        for k, entry in enumerate(grades):
            entries = [mark for mark in entry.marks if mark != "dither"]
            if entries and k:
                at = (x[k - 1] + x[k]) / 2
                line = pg.InfiniteLine(at, pen=pg.mkPen(palette.faded, width=0.8, style=Qt.PenStyle.DotLine))
                self.plot.addItem(line)
                label = self.label(", ".join(entries), palette.faded, (0.0, 0.5))
                label.setPos(at, top + (0.06 + 0.09 * (line_at % 2)) * high)
                line_at += 1
                self.plot.addItem(label)

    def _limit(self, grades: Sequence[FrameGrade], figure: Figure, palette: Palette) -> None:
        limits = [entry.limit_px for entry in grades if entry.limit_px is not None]
        if figure.key != "hfd_px" or not limits:
            return
        pen = pg.mkPen(palette.accent, width=1.6, style=Qt.PenStyle.DashLine)
        line = pg.InfiniteLine(max(limits), angle=0, movable=True, pen=pen)
        line.sigPositionChangeFinished.connect(lambda item: self.limit_moved.emit(float(item.value())))
        self.plot.addItem(line)


class PlacePlot(PlotPanel):
    """Star size over the sensor: each star of a frame at its place, as large as it is, and the zones' medians."""

    def __init__(self) -> None:
        super().__init__("Star size over the sensor", "x, px", "y, px")
        self.plot.setAspectLocked(True)
        self.plot.getViewBox().invertY(True)

    def show_frame(self, frame: FrameStars | None, palette: Palette) -> None:
        """Draw a frame's stars at their places."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "hfd_px"])
        if frame is None or not frame.used.any():
            self.answer.setText("Choose a frame with stars.")
            return
        used = frame.used
        x, y, hfd = frame.shapes.x[used], frame.shapes.y[used], frame.shapes.hfd[used]
        self.data.rows = [[float(a), float(b), float(c)] for a, b, c in zip(x, y, hfd, strict=True)]
        middle = float(np.median(hfd))
        self.plot.addItem(
            pg.ScatterPlotItem(
                x=x, y=y, size=np.clip(8 * (hfd / middle) ** 2, 3, 26), pen=pg.mkPen(palette.ink, width=0.8),
                brush=pg.mkBrush(palette.color("accent", 110)),
            )
        )  # fmt: skip
        header = frame.header
        width = float(header.width_px) if header and header.width_px else float(x.max()) + 1
        height = float(header.height_px) if header and header.height_px else float(y.max()) + 1
        sizes = []
        for row in range(ZONES):
            for column in range(ZONES):
                inside = (x // (width / ZONES) == column) & (y // (height / ZONES) == row)
                if inside.any():
                    sizes.append(float(np.median(hfd[inside])))
                    text = self.label(number(sizes[-1], 2), palette.ink, (0.5, 0.5), palette.color("field", 200))
                    text.setPos((column + 0.5) * width / ZONES, (row + 0.5) * height / ZONES)
                    self.plot.addItem(text)
        worst = 100 * (max(sizes) / middle - 1) if sizes else 0.0
        self.answer.setText(
            f"{frame.file}: median HFD {number(middle, 2)} px; numbers: the medians of {ZONES} × {ZONES} zones in px, "
            f"the worst {number(worst, 0)} % over the whole. A hint of tilt or spacing, no proof."
        )
