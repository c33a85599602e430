"""A frame of stars as a picture: stretched, quick to zoom, its stars marked, and what was refused with the reason."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.fitting import mad_scatter
from wyntaxis.core.wording import number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import plot_text
from wyntaxis.desk.plots import PlotData, PlotPanel

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MAX_SIDE_PX = 2400
"""A larger frame is shown by every so many-th pixel."""
SKY_SIGMA, BRIGHT_SHARE = 2.0, 0.998
TICKS = 256


def stretched(pixels: Any) -> Any:
    """Return a frame's pixels from 0 to 255, the sky dark and faint light raised (inverse hyperbolic sine)."""
    sample = pixels[:: max(pixels.shape[0] // 512, 1), :: max(pixels.shape[1] // 512, 1)].astype(np.float32)
    sky = float(np.median(sample))
    noise = mad_scatter(sample) + 1e-6
    top = max(float(np.quantile(sample, BRIGHT_SHARE)), sky + 20 * noise)
    low = sky - SKY_SIGMA * noise
    shown = np.clip((pixels.astype(np.float32) - low) / (top - low), 0, 1)
    return (np.arcsinh(10 * shown) / np.arcsinh(10.0) * 255).astype(np.uint8)


def read_picture(path: Path) -> tuple[Any, int]:
    """Return a frame's pixels as shown, and by how many px it was thinned out; :class:`InputError` for what is none."""
    from wyntaxis.core.evidence.sensor.strips import open_frame

    with open_frame(path, raw=False) as frame:
        thin = -(-max(frame.width, frame.height) // MAX_SIDE_PX)
        rows = [frame.rows(start, end)[(-start) % thin :: thin, ::thin] for start, end in frame.strips(1)]
    return stretched(np.concatenate(rows)), thin


class FramePicture(PlotPanel):
    """The chosen frame with its stars: rings as wide as their half-flux diameter, crosses at what is no star."""

    def __init__(self) -> None:
        super().__init__("Frame", "x, px", "y, px")
        self.plot.setAspectLocked(True)
        self.plot.getViewBox().invertY(True)
        self._shown: object = None

    def show_frame(self, frame: FrameStars | None, picture: tuple[Any, int] | None, palette: Palette) -> None:
        """Draw a frame; without its pixels only the stars."""
        self.plot.clear()
        self.dress(palette)
        self.data = PlotData(["x_px", "y_px", "hfd_px", "elongation", "snr", "saturated"])
        if frame is None:
            self.answer.setText("Choose a frame in the table, or click on it in the plot.")
            return
        if picture is not None:
            pixels, thin = picture
            item = pg.ImageItem(pixels.T, levels=(0, 255))
            # By day the sky is dark ink and stars are paper; by night the sky is the dark ground.
            ends = [palette.color(name) for name in (("ink", "field") if palette.name == "day" else ("paper", "ink"))]
            table = pg.ColorMap([0.0, 1.0], [end.getRgb() for end in ends]).getLookupTable(nPts=TICKS)
            item.setLookupTable(table)
            item.setRect(-0.5, -0.5, pixels.shape[1] * thin, pixels.shape[0] * thin)
            self.plot.addItem(item)
        s, used = frame.shapes, frame.used
        faint = ~used & ~s.saturated
        styles = (
            (used, "holds", 1.4, Qt.PenStyle.SolidLine),
            (faint, "tight", 1.2, Qt.PenStyle.DotLine),
            (s.saturated, "fails", 3.0, Qt.PenStyle.SolidLine),
        )
        for mask, color, width, style in styles:
            pen = pg.mkPen(palette.color(color), width=width, style=style)
            self._rings(s.x[mask], s.y[mask], 2.0 * s.hfd[mask], pen)
        refused = [
            {
                "pos": (spot.x, spot.y),
                "data": spot.why,
                "symbol": "x",
                "size": 9,
                "pen": pg.mkPen(palette.color("unproven")),
            }
            for spot in frame.refused
        ]
        item = pg.ScatterPlotItem(hoverable=True, tip=lambda x, y, data: plot_text(data))
        item.addPoints(refused)
        self.plot.addItem(item)
        self.data.rows = [
            [float(v) for v in row] for row in zip(s.x, s.y, s.hfd, s.elongation, s.snr, s.saturated, strict=True)
        ]
        shown = f", the {len(s.x)} brightest are marked" if len(s.x) < frame.count else ""
        others = len(frame.refused)
        self.answer.setText(
            f"{frame.file}: {frame.count} stars{shown}. Rings count, dotted ones are too faint to, thick ones are "
            f"saturated ({frame.saturated}); crosses are no stars ({others}): point at one for the reason."
            + (f" HFD {number(frame.hfd_px.value, 2)} px." if frame.hfd_px is not None else "")
        )

    def _rings(self, x: Floats, y: Floats, size: Floats, pen: Any) -> None:
        if not len(x):
            return
        item = pg.ScatterPlotItem(x=x, y=y, size=np.maximum(size, 4.0), pxMode=False, pen=pen, brush=pg.mkBrush(None))
        item.setAcceptedMouseButtons(Qt.MouseButton.NoButton)
        self.plot.addItem(item)
