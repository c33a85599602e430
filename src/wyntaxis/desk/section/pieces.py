"""Pieces of a drawing that are kept as pictures, so that an edit costs only the drawing of what it changed."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QColor, QPainter, QPixmap

CLEAR = QColor(0, 0, 0, 0)
LARGEST_PX, LONGEST_PX = 600_000, 4096
"""In device pixels, in all and along a side: what is larger is drawn each time. Zoomed in, one piece would fill the
memory, most of it unseen.
"""
PHASES = 4
"""Into how many steps a pixel is parted: what moved by less is drawn as before."""


class Pieces:
    """The pieces of one drawing, from one painting of it to the next."""

    def __init__(self) -> None:
        self.kept: dict[Hashable, QPixmap] = {}
        self._used: dict[Hashable, QPixmap] = {}
        self._ratio = 0.0

    def finish(self) -> None:
        """Forget what was not drawn since this was called last."""
        self.kept, self._used, self._ratio = self._used, {}, 0.0

    def _ratio_of(self, onto: QPainter) -> float:
        """Return how many device pixels a px has: all that is drawn until the drawing is finished is drawn alike."""
        device = onto.device()
        self._ratio = device.devicePixelRatioF() if device is not None else 1.0
        return self._ratio

    def draw(
        self,
        onto: QPainter,
        key: Hashable,
        x: float,
        y: float,
        extent: QRectF,
        how: Callable[[QPainter], object],
        ground: QColor = CLEAR,
    ) -> None:
        """Draw a piece: as it was drawn before, where its key is the same.

        Parameters
        ----------
        onto
            What it is drawn onto; neither scaled nor turned.
        key
            All that the piece is drawn from.
        x, y
            Where its origin lies, in px.
        extent
            What it may cover about there, in px; beyond that it is cut off.
        how
            Draws it about the origin of the painter that it is given.
        ground
            What it is drawn on; on an opaque one it is drawn much faster.
        """
        ratio = self._ratio or self._ratio_of(onto)
        wide, high = extent.width() * ratio, extent.height() * ratio
        keeps = 0 < wide <= LONGEST_PX and 0 < high <= LONGEST_PX and wide * high <= LARGEST_PX
        if not keeps:  # a window with no room for it asks for less than nothing
            onto.save()
            onto.translate(x, y)
            how(onto)
            onto.restore()
            return
        # In device pixels throughout: at a broken ratio, whole px would fall between them and blur the picture.
        across, down = round(x * ratio * PHASES), round(y * ratio * PHASES)
        left, top = math.floor(extent.left() * ratio), math.floor(extent.top() * ratio)
        whole = (key, ratio, across % PHASES, down % PHASES)
        found = self._used.get(whole) or self.kept.get(whole)
        if found is None:
            origin = QPointF(across % PHASES / PHASES - left, down % PHASES / PHASES - top) / ratio
            size = QSize(math.ceil(wide) + 2, math.ceil(high) + 2)
            found = drawn_picture(size, ratio, origin, how, ground)
        self._used[whole] = found
        onto.drawPixmap(QPointF((across // PHASES + left) / ratio, (down // PHASES + top) / ratio), found)


def drawn_picture(
    size: QSize, ratio: float, origin: QPointF, how: Callable[[QPainter], object], ground: QColor
) -> QPixmap:
    """Return a piece drawn about its origin, in so many device pixels to the px."""
    picture = QPixmap(size)
    picture.setDevicePixelRatio(ratio)
    picture.fill(ground)
    with QPainter(picture) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(origin)
        how(painter)
    return picture
