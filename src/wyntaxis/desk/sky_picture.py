"""The sky as it is painted: grid, objects, and the frames that fall on it."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QFont,
    QFontMetricsF,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)

from wyntaxis.core.canvas import CHAIN_DASHES
from wyntaxis.core.sky.coordinates import declination_text, right_ascension_text
from wyntaxis.core.sky.footprint import Footprint, Position
from wyntaxis.core.sky.gnomonic import to_plane, to_sky
from wyntaxis.core.sky.objects import SkyObject
from wyntaxis.core.sky.view import SkyView
from wyntaxis.core.wording import number, short
from wyntaxis.desk.palette import DAY
from wyntaxis.desk.plain_widgets import Picture
from wyntaxis.desk.section.drafting import DraftingPainter

HANDLE_PX = 7.0
GRID_STEPS_DEG = (0.1, 0.25, 0.5, 1, 2, 5, 10, 15)
MAX_LABELS = 24
SMALLEST_OUTLINE_PX = 3.0
DASHES = ([8.0, 4.0], [2.5, 3.0], CHAIN_DASHES, [14.0, 5.0])


class SkyPicture(Picture):
    """Draws a :class:`SkyView`."""

    def __init__(self) -> None:
        super().__init__()
        self.view = SkyView()
        self.palette_in_use = DAY
        self.message = ""

    # Between the sky and the widget

    @property
    def _scale(self) -> float:
        """Px to a radian of the plane."""
        return min(self.width(), self.height()) / 2 / math.tan(math.radians(self.view.radius_deg))

    def _pixels(self, plane: np.ndarray) -> np.ndarray:
        middle = np.array([self.width() / 2, self.height() / 2])
        pixels: np.ndarray = middle + np.asarray(plane) * np.array([-self._scale, -self._scale])
        return pixels

    def pixel_of(self, position: Position) -> QPointF:
        """Return where a position is drawn; NaN for one behind the observer."""
        x, y = self._pixels(to_plane(self.view.center, *position))
        return QPointF(float(x), float(y))

    def position_of(self, point: QPointF) -> Position:
        """Return the position under a point of the widget."""
        plane = (np.array([point.x() - self.width() / 2, point.y() - self.height() / 2])) / -self._scale
        ra, dec = to_sky(self.view.center, plane)
        return float(ra), float(dec)

    def _polygon(self, corners: list[Position]) -> QPolygonF:
        return QPolygonF([self.pixel_of(corner) for corner in corners])

    def handle(self) -> QPointF | None:
        """Return where the handle that turns the frame is drawn: a little above the frame's top side."""
        frame = self.view.frame
        if frame is None:
            return None
        top_left, top_right, *_ = (self.pixel_of(corner) for corner in frame.corners())
        middle, center = (top_left + top_right) / 2, self.pixel_of(frame.center)
        out = middle - center
        length = math.hypot(out.x(), out.y()) or 1.0
        return middle + out * (18 / length)

    # Drawing

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = self.palette_in_use
        small = QFont(self.font())
        small.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.82)))
        sheet = DraftingPainter(painter, palette, self.font(), small)
        painter.fillRect(self.rect(), palette.color("field"))
        self._draw_grid(sheet)
        self._draw_objects(sheet)
        self._draw_frames(sheet)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(sheet.pen("accent" if self.hasFocus() else "rule", 1.4 if self.hasFocus() else 1.0))
        painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        if self.message:
            sheet.write((self.width() / 2, 16), self.message, align="centre", color="faded")

    def _draw_grid(self, sheet: DraftingPainter) -> None:
        """Draw circles of declination and meridians with their labels at the left and lower edges."""
        view, painter = self.view, sheet.painter
        step = next((s for s in GRID_STEPS_DEG if view.radius_deg / s <= 3.2), GRID_STEPS_DEG[-1])
        ra0, dec0 = view.center
        reach = 1.6 * view.radius_deg
        grid = sheet.pen("rule", 0.8)
        low, high = max(-90.0, dec0 - reach), min(90.0, dec0 + reach)
        wide = reach / max(math.cos(math.radians(min(abs(dec0) + reach, 89.9))), 1e-3)
        turn = np.linspace(-min(wide, 180), min(wide, 180), 90)
        for index in range(math.ceil(low / step), math.floor(high / step) + 1):
            dec = index * step
            points = self._pixels(to_plane(view.center, ra0 + turn, np.full_like(turn, dec)))
            self._trace(painter, grid, points)
            if abs(dec) < 90:
                self._label_declination(sheet, dec, points, near_pole=90 - abs(dec0) < reach)
        along = _ra_step(step, dec0, view.radius_deg)
        up = np.linspace(low, high, 60)
        used = -100.0
        count = min(int(wide / along) + 1, int(180 / along))
        first = round(ra0 / along)
        for index in range(first + count, first - count - 1, -1):
            ra = index * along
            points = self._pixels(to_plane(view.center, np.full_like(up, ra), up))
            self._trace(painter, grid, points)
            seen = points[np.isfinite(points).all(axis=1)]
            if len(seen) < 2:
                continue
            x = float(np.interp(-(self.height() - 8), -seen[:, 1], seen[:, 0]))
            text = right_ascension_text(ra, 0)[:-3]
            width = QFontMetricsF(sheet.small).horizontalAdvance(text)
            if 40 + width / 2 < x < self.width() - width / 2 - 4 and x - used > width + 12:
                sheet.write((x, self.height() - 9), text, align="centre", small=True, color="faded")
                used = x

    def _label_declination(self, sheet: DraftingPainter, dec: float, points: np.ndarray, *, near_pole: bool) -> None:
        """Label a circle of declination at the left edge; around a pole, where it meets the view's own meridian."""
        text = declination_text(dec, 0)[:-3]
        if near_pole:
            at = self.pixel_of((self.view.center[0], dec))
            x, y = at.x() + 4, at.y() + 8
        else:
            seen = points[np.isfinite(points).all(axis=1)]
            x, y = 5.0, float(np.interp(6, seen[::-1, 0], seen[::-1, 1])) - 7 if len(seen) > 1 else -1.0
        if 17 < y < self.height() - 31:
            sheet.write((x, y), text, align="left", small=True, color="faded")

    def _trace(self, painter: QPainter, pen: QPen, points: np.ndarray) -> None:
        painter.setPen(pen)
        far = 4 * max(self.width(), self.height())
        run: list[QPointF] = []
        for x, y in points:
            if math.isfinite(x) and abs(x) < far and abs(y) < far:
                run.append(QPointF(float(x), float(y)))
                continue
            painter.drawPolyline(QPolygonF(run))
            run = []
        painter.drawPolyline(QPolygonF(run))

    def _draw_objects(self, sheet: DraftingPainter) -> None:
        painter = sheet.painter
        taken: list[QRectF] = []
        for target in self.view.objects:
            at = self.pixel_of((target.ra_deg, target.dec_deg))
            if not math.isfinite(at.x()):
                continue
            chosen = self.view.target is not None and target.name == self.view.target.name
            outline = target.outline(48)
            extent = 0.0
            painter.setPen(sheet.pen("accent" if chosen else "faded", 1.6 if chosen else 1.0))
            painter.setBrush(self.palette_in_use.color("glass", 70))
            if len(outline):
                sky = to_sky((target.ra_deg, target.dec_deg), outline)
                points = self._pixels(to_plane(self.view.center, sky[:, 0], sky[:, 1]))
                extent = float(np.ptp(points[:, 0])) / 2
            if len(outline) and float(np.ptp(points, axis=0).max()) / 2 >= SMALLEST_OUTLINE_PX:
                painter.drawPolygon(QPolygonF([QPointF(float(x), float(y)) for x, y in points]))
            else:
                painter.drawLine(at - QPointF(3, 0), at + QPointF(3, 0))
                painter.drawLine(at - QPointF(0, 3), at + QPointF(0, 3))
            self._label(sheet, target, at, extent, chosen, taken)

    def _label(
        self, sheet: DraftingPainter, target: SkyObject, at: QPointF, extent: float, chosen: bool, taken: list[QRectF]
    ) -> None:
        if len(taken) >= MAX_LABELS and not chosen:
            return
        metrics = QFontMetricsF(sheet.small)
        box = QRectF(at.x() + max(extent, 4) + 3, at.y() - metrics.height() / 2, 0, metrics.height())
        box.setWidth(metrics.horizontalAdvance(target.label))
        inside = QRectF(self.rect()).adjusted(40, 4, -4, -20).contains(box)
        if inside and not any(box.intersects(other) for other in taken):
            taken.append(box)
            color = "accent" if chosen else "ink"
            sheet.write((box.left(), box.center().y()), target.label, align="left", small=True, color=color)

    def _draw_frames(self, sheet: DraftingPainter) -> None:
        painter, view = sheet.painter, self.view
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for index, other in enumerate(view.others):
            painter.setPen(sheet.pen("metal", 1.6, DASHES[index % len(DASHES)]))
            painter.drawPolygon(self._polygon(other.corners()))
        for panel in view.panels:
            painter.setPen(sheet.pen("accent", 1.0, [4.0, 3.0]))
            painter.drawPolygon(self._polygon(panel.corners()))
        frame = view.frame
        if frame is None:
            self._write_names(sheet, list(view.others))
            return
        painter.setPen(sheet.pen("accent", 2.2))
        painter.setBrush(self.palette_in_use.color("accent", 18))
        painter.drawPolygon(self._polygon(frame.corners()))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        guide = frame.guide_corners()
        if guide:
            painter.setPen(sheet.pen("accent", 1.4, [5.0, 3.0]))
            painter.drawPolygon(self._polygon(guide))
            middle = sum((self.pixel_of(corner) for corner in guide), QPointF()) / 4
            if frame.optics.guide_is_prism:
                sheet.write((middle.x(), middle.y()), "guide", align="centre", small=True, color="accent")
        self._write_names(sheet, [frame, *view.others])
        center = self.pixel_of(frame.center)
        painter.setPen(sheet.pen("accent", 1.2))
        for dx, dy in ((5, 0), (0, 5)):
            painter.drawLine(center - QPointF(dx, dy), center + QPointF(dx, dy))
        handle = self.handle()
        if handle is not None:
            top = (self.pixel_of(frame.corners()[0]) + self.pixel_of(frame.corners()[1])) / 2
            painter.drawLine(top, handle)
            painter.setBrush(self.palette_in_use.color("field"))
            painter.drawEllipse(handle, HANDLE_PX, HANDLE_PX)
            sheet.write(
                (handle.x() + 12, handle.y()), f"{number(frame.position_angle_deg, 1)}°", align="left", color="accent"
            )
        self._draw_compass(sheet)

    def _write_names(self, sheet: DraftingPainter, frames: list[Footprint]) -> None:
        """Write each frame's name at its lowest, highest, or a side corner: the first that is free of other names."""
        handle = self.handle()
        taken = [QRectF(handle.x() - 12, handle.y() - 12, 76, 24)] if handle is not None else []
        metrics = QFontMetricsF(sheet.small)
        for frame in frames:
            name, color = frame.optics.name, "accent" if frame is self.view.frame else "ink"
            width, height = metrics.horizontalAdvance(name) + 12, metrics.height()
            corners = sorted((self.pixel_of(corner) for corner in frame.corners()), key=QPointF.y, reverse=True)
            middles = [QPointF(corners[0].x(), corners[0].y() + 11), QPointF(corners[-1].x(), corners[-1].y() - 11)]
            outer = sorted((self.pixel_of(c) for other in frames for c in other.corners()), key=QPointF.y)
            middles += [QPointF(corners[0].x(), outer[-1].y() + 11 + row * (height + 3)) for row in range(len(frames))]
            for side in (1, -1):
                at = max(corners, key=QPointF.x) if side > 0 else min(corners, key=QPointF.x)
                middles.append(at + QPointF(side * (width / 2 + 4), 0))
            boxes = [
                QRectF(min(max(at.x(), width / 2), self.width() - width / 2) - width / 2, at.y() - 8, width, height)
                for at in middles
            ]
            edges = [edge for other in frames for edge in self._edges(other)]
            free = [box for box in boxes if not any(box.intersects(other) for other in taken)]
            clear = [box for box in free if not any(_crosses(box, *edge) for edge in edges)]
            box = next(iter(clear), next(iter(free), boxes[0]))
            taken.append(box)
            sheet.write((box.center().x(), box.y() + 8), name, align="centre", small=True, color=color, ground="field")

    def _edges(self, frame: Footprint) -> list[tuple[QPointF, QPointF]]:
        corners = [self.pixel_of(corner) for corner in frame.corners()]
        return list(zip(corners, [*corners[1:], corners[0]], strict=True))

    def _draw_compass(self, sheet: DraftingPainter) -> None:
        """Draw where north and east are at the view's centre, and a bar of a round angle."""
        corner = QPointF(self.width() - 26, 40)
        sheet.line(corner.x(), corner.y(), corner.x(), corner.y() - 20, sheet.pen("ink", 1.2))
        sheet.line(corner.x(), corner.y(), corner.x() - 20, corner.y(), sheet.pen("ink", 1.2))
        sheet.arrow(corner.x(), corner.y() - 20, -90)
        sheet.arrow(corner.x() - 20, corner.y(), 180)
        sheet.write((corner.x(), corner.y() - 29), "N", align="centre", small=True)
        sheet.write((corner.x() - 28, corner.y()), "E", align="centre", small=True)
        size = next((s for s in (5, 2, 1, 0.5, 0.2, 0.1, 0.05) if s <= self.view.radius_deg / 2), 0.02)
        length = math.tan(math.radians(size)) * self._scale
        y = self.height() - 28
        sheet.dimension(self.width() - 14 - length, self.width() - 14, y)
        sheet.write((self.width() - 14 - length / 2, y - 9), f"{short(size)}°", align="centre", small=True)


def _crosses(box: QRectF, start: QPointF, end: QPointF) -> bool:
    """Return whether a line from one point to another, however long, passes through a box: clipped at each side."""
    first, last = 0.0, 1.0
    for at, run, low, high in (
        (start.x(), end.x() - start.x(), box.left(), box.right()),
        (start.y(), end.y() - start.y(), box.top(), box.bottom()),
    ):
        if run == 0:
            if not low <= at <= high:
                return False
            continue
        enters, leaves = sorted(((low - at) / run, (high - at) / run))
        first, last = max(first, enters), min(last, leaves)
    return first <= last


def _ra_step(dec_step: float, dec_deg: float, radius_deg: float) -> float:
    """Return the distance of meridians in degrees: round in minutes of right ascension, some four in sight."""
    wanted = dec_step / max(math.cos(math.radians(min(abs(dec_deg), 89.0))), 0.02)
    minutes = (1, 2, 4, 5, 10, 20, 30, 60, 120, 240, 360)
    return next((m / 4 for m in minutes if m / 4 >= wanted), 90.0)
