"""Plots of the desk: drawn by pyqtgraph, loaded when the first one is opened; each can be copied and saved."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QBuffer, Qt
from PyQt6.QtGui import QFont, QPainter, QResizeEvent
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QApplication, QBoxLayout, QFileDialog, QHBoxLayout, QScrollArea, QVBoxLayout

from wyntaxis.core.files.places import home
from wyntaxis.core.train.illumination import Falloff
from wyntaxis.core.train.stackup import StackUp
from wyntaxis.core.wording import MINUS, number, short, signed
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel, PushButton
from wyntaxis.desk.saving import save_by_suffix
from wyntaxis.desk.step_pictures import PicturePanel

HISTOGRAM_BINS = 80
MAP_EDGE_EM, MOST_MAP_SHARE = (5.5, 3.6), 0.75
"""What a map's axes take beside and below it, and how much of the width a map takes at the most."""
PLOT_HEIGHT_EM, LEAST_HEIGHT_EM, MOST_PX = 18, 5, 16_777_215


class _Axis(pg.AxisItem):  # type: ignore[misc]  # pyqtgraph has no types
    """An axis whose negative numbers have a real minus sign."""

    def tickStrings(self, values: Any, scale: float, spacing: float) -> list[str]:
        return [text.replace("-", MINUS) for text in super().tickStrings(values, scale, spacing)]

    def logTickStrings(self, values: Any, scale: float, spacing: float) -> list[str]:
        """Label whole powers of ten, and 2 and 5 between them where less than two decades are in sight."""
        low, high = self.range
        between = (1, 2, 5) if high - low < 2 else (1,)
        texts = []
        for value in values:
            power = int(np.floor(value + 1e-9))
            digit = round(10 ** (value - power))
            number_shown = digit * 10.0**power
            texts.append(f"{number_shown:,.10g}".replace(",", "\N{THIN SPACE}") if digit in between else "")
        return texts


@dataclass
class PlotData:
    """What a plot can be saved as: a table with named columns, units in the names."""

    columns: list[str] = field(default_factory=list)
    rows: list[list[float]] = field(default_factory=list)

    def as_csv(self) -> str:
        """Return the table as CSV with a header row."""
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        writer.writerow(self.columns)
        writer.writerows([[f"{value:.6g}" for value in row] for row in self.rows])
        return text.getvalue()


class PlotPanel(PicturePanel):
    """A plot with its answer above and buttons to copy and save it."""

    def __init__(self, name: str, across: str, upward: str) -> None:
        super().__init__()
        self.name = name
        self.data = PlotData()
        self._fits = False
        self.axis_labels = {"bottom": across, "left": upward}
        self._column, self._header = QVBoxLayout(self), QHBoxLayout()
        column, row = self._column, self._header
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        self.answer = PlainLabel()
        self.answer.setWordWrap(True)
        row.addWidget(self.answer, 1)
        row.addStretch(0)
        buttons = QHBoxLayout()
        self._button("Copy picture", self.copy, buttons)
        self._button("Save …", self.ask_save, buttons)
        buttons.addStretch(1)
        row.addLayout(buttons)
        column.addLayout(row)
        self.plot = pg.PlotWidget(axisItems={side: _Axis(side) for side in ("bottom", "left")})
        self.plot.setFixedHeight(PLOT_HEIGHT_EM * self.fontInfo().pixelSize())
        self.plot.setMenuEnabled(False)
        self.plot.setAccessibleName(f"Plot: {name}")
        column.addWidget(self.plot, 1)

    def fill_room(self) -> None:
        self.plot.setMinimumHeight(LEAST_HEIGHT_EM * self.fontInfo().pixelSize())
        self.plot.setMaximumHeight(MOST_PX)
        if self.is_map:  # its words stand at its right, where it leaves the room
            self._column.setDirection(QBoxLayout.Direction.RightToLeft)
            self._header.setDirection(QBoxLayout.Direction.TopToBottom)
            self.answer.setAlignment(Qt.AlignmentFlag.AlignTop)
            self.answer.setContentsMargins(8, 2, 0, 0)
            words = QScrollArea()
            words.setWidgetResizable(True)
            words.setAccessibleName(f"{self.name} in words")
            words.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            self._header.replaceWidget(self.answer, words)
            words.setWidget(self.answer)
            self._column.setStretch(0, 1)
            self._column.setStretch(1, 0)
            self._fits = True

    @property
    def is_map(self) -> bool:
        """Whether it has a shape of its own, and its words stand beside it."""
        return bool(self.plot.getViewBox().state["aspectLocked"])

    def fit(self) -> None:
        drawn = self.plot.getViewBox().childrenBoundingRect()
        if self._fits and drawn.height() > 0:
            em = self.fontInfo().pixelSize()
            height = max(self.plot.height() - MAP_EDGE_EM[1] * em, em)
            width = drawn.width() / drawn.height() * height + MAP_EDGE_EM[0] * em
            self.plot.setFixedWidth(round(min(width, MOST_MAP_SHARE * self.width())))

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        self.fit()

    def _button(self, text: str, action: Callable[[], object], row: QHBoxLayout) -> None:
        button = PushButton(text)
        button.setAccessibleName(f"{text} of {self.name}")
        button.clicked.connect(lambda _checked: action())
        row.addWidget(button)

    def dress(self, palette: Palette) -> None:
        """Draw grounds, axes and labels in a palette."""
        self.plot.setBackground(palette.color("field"))
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        for side, label in self.axis_labels.items():
            axis = self.plot.getAxis(side)
            axis.setPen(palette.color("faded"))
            axis.setTextPen(palette.color("ink"))
            axis.setTickFont(font)
            axis.enableAutoSIPrefix(False)
            axis.setLabel(label, color=palette.ink)
            axis.label.setFont(font)

    def label(
        self, text: str, color: str, anchor: tuple[float, float] = (0.0, 0.5), fill: object = None
    ) -> pg.TextItem:
        """Return a text to stand in the plot, in the size of its ticks."""
        item = pg.TextItem(text, color=color, anchor=anchor, fill=fill)
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        item.setFont(font)
        return item

    def copy(self) -> None:
        """Put a picture of the plot on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setPixmap(self.plot.grab())

    def ask_save(self) -> None:
        """Ask for a file; its suffix says whether a picture, a drawing or the numbers."""
        start = str(home() / f"{self.name.lower().replace(' ', '-')}.png")
        chosen, _ = QFileDialog.getSaveFileName(
            self, f"Save {self.name}", start, "PNG (*.png);;SVG (*.svg);;CSV (*.csv)"
        )
        if chosen:
            self.save(Path(chosen))

    def _as_svg(self) -> bytes:
        buffer = QBuffer()
        buffer.open(QBuffer.OpenModeFlag.WriteOnly)
        drawing = QSvgGenerator()
        drawing.setOutputDevice(buffer)
        drawing.setSize(self.plot.size())
        drawing.setViewBox(self.plot.rect())
        drawing.setTitle(self.name)
        painter = QPainter(drawing)
        self.plot.render(painter)
        painter.end()
        return bytes(buffer.data().data())

    def save(self, path: Path) -> None:
        """Write the plot as PNG, SVG or CSV, by the suffix."""
        contents = {".svg": self._as_svg, ".csv": lambda: self.data.as_csv().encode("utf-8")}
        refusal = save_by_suffix(path, contents, self.plot, ".png, .svg or .csv")
        if refusal is not None:
            self.refused.emit(refusal)


class StackUpPlot(PlotPanel):
    """The draws of the back focus error against the tolerance, with worst case and ±2u."""

    def __init__(self) -> None:
        super().__init__("Tolerance stack", "back focus error, mm", "share of draws, % per bin")

    def show_stack(self, found: StackUp | None, palette: Palette) -> None:
        """Draw a stack-up, or say that there is none."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["error_mm", "share_percent"])
        if found is None:
            self.answer.setText("No corrector states a required distance: there is no error to draw.")
            return
        spread = max(found.worst_case_mm, 1e-3)
        counts, edges = np.histogram(
            found.draws_mm, bins=HISTOGRAM_BINS, range=(found.error_mm - spread, found.error_mm + spread)
        )
        share = 100 * counts / found.draws_mm.size
        self.data.rows = [[(low + high) / 2, s] for low, high, s in zip(edges[:-1], edges[1:], share, strict=True)]
        if found.tolerance_mm is not None:
            band = pg.LinearRegionItem(
                (-found.tolerance_mm, found.tolerance_mm),
                movable=False,
                brush=palette.color("holds", 60),
                pen=pg.mkPen(None),
            )
            self.plot.addItem(band)
        self.plot.addItem(
            pg.PlotCurveItem(edges, share, stepMode="center", fillLevel=0, brush=palette.color("accent", 120),
                             pen=pg.mkPen(palette.accent))
        )  # fmt: skip
        marks = [(found.error_mm, "ink", Qt.PenStyle.SolidLine)]
        marks += [(found.error_mm + s * found.worst_case_mm, "faded", Qt.PenStyle.DashLine) for s in (-1, 1)]
        marks += [(found.error_mm + s * 2 * found.rss_mm, "ink", Qt.PenStyle.DotLine) for s in (-1, 1)]
        for at, color, style in marks:
            self.plot.addItem(pg.InfiniteLine(at, pen=pg.mkPen(palette.color(color), width=1.2, style=style)))
        inside = "" if found.inside is None else f"; inside ±{short(found.tolerance_mm or 0)} mm: "
        inside += "" if found.inside is None else f"{number(100 * found.inside, 1)} %"
        self.answer.setText(
            f"{signed(found.error_mm, 3)} mm, worst case ±{number(found.worst_case_mm, 3)} mm (dashed), "
            f"±2u = ±{number(2 * found.rss_mm, 3)} mm (dotted){inside}. Shaded: allowed."
        )
        edge = max(abs(found.error_mm) + 1.15 * spread, 1.2 * (found.tolerance_mm or 0))
        self.plot.setXRange(*((-0.6 * edge, edge) if found.error_mm >= 0 else (-edge, 0.6 * edge)))


class FalloffPlot(PlotPanel):
    """The light over the sensor as a map, in % of the middle."""

    def __init__(self) -> None:
        super().__init__("Falloff", "across the sensor, mm", "down the sensor, mm")
        self.plot.setAspectLocked(True)

    def show_falloff(
        self, profile: Falloff | None, share: Any, size_mm: tuple[float, float], circle_mm: float, palette: Palette
    ) -> None:
        """Draw the map of a profile and the fully lit circle, or say what is missing."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["height_mm", "light_percent"])
        if profile is None:
            self.answer.setText("State clear apertures behind the corrector to see the falloff.")
            return
        self.data.rows = [[h, 100 * s] for h, s in zip(profile.heights_mm, profile.shares, strict=True)]
        width, height = size_mm
        low = min(float(profile.shares.min()), 0.9)
        image = pg.ImageItem(100 * share.T, levels=(100 * low, 100))
        dark, bright = palette.color("metal"), palette.color("light")
        image.setLookupTable(pg.ColorMap([0.0, 1.0], [dark.getRgb(), bright.getRgb()]).getLookupTable(nPts=64))
        image.setRect(-width / 2, -height / 2, width, height)
        self.plot.addItem(image)
        corner = float(profile.shares[-1])
        ring = np.linspace(0, 2 * np.pi, 120)
        if corner < 1:
            self.plot.plot(circle_mm / 2 * np.cos(ring), circle_mm / 2 * np.sin(ring), pen=pg.mkPen(palette.ink))
        reach = f"fully lit to {number(circle_mm, 1)} mm (ring)" if corner < 1 else "fully lit to the corners"
        self.answer.setText(
            f"Corner: {number(100 * corner, 0)} % of the light; {reach}. "
            f"Shades from {number(100 * low, 0)} % (dark) to 100 % (bright)."
        )
