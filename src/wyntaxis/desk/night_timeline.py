"""The night's timeline: a lane for each device, waits hatched, retries ticked, what struck and what nobody handled."""

from __future__ import annotations

import math
from datetime import timedelta
from itertools import pairwise
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip

from wyntaxis.core.rehearsal.outcome import SPAN_WORDS, NightEvent, NightOutcome, NightSpan, SpanKind
from wyntaxis.core.wording import number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import Picture

if TYPE_CHECKING:
    from wyntaxis.core.rehearsal.night_sky import NightSky
    from wyntaxis.core.rig.night_plan import NightStep

HOUR_S = 3600.0
LANE_EM, LEFT_EM, RIGHT_EM, TOP_EM, BOTTOM_EM = 1.9, 9.0, 1.8, 1.5, 2.6
MAX_LANES = 12
AXIS_EM, LEAST_TEXT_PX = 1.8, 10.0
"""What the hours take below the lanes; a lane's name is not written smaller than this."""
LEAST_PX = 3.0
"""How wide a step stands at the least."""
MERGED_PX = 1.5
"""Spans of one kind that stand nearer than this are drawn as one."""
_HATCHED = {
    "waiting": Qt.BrushStyle.BDiagPattern,
    "retrying": Qt.BrushStyle.DiagCrossPattern,
    "endless": Qt.BrushStyle.FDiagPattern,
}
_COLORS: dict[SpanKind, str] = {
    "exposing": "holds", "download": "metal", "moving": "accent", "focusing": "tight", "cooling": "glass",
    "settling": "rule", "waiting": "faded", "retrying": "fails",
    "endless": "fails",
}  # fmt: skip


def clock_words(seconds: float) -> str:
    """Return a time from the plan's beginning as hours and minutes."""
    minutes = round(seconds / 60)
    return f"{minutes // 60}:{minutes % 60:02d}"


def step_words(place: int, step: NightStep) -> str:
    """Return a step of the plan in words: what it does, its limit, attempts, and what follows."""
    lines = [f"step {place + 1}: {step.do.replace('_', ' ')}" + (f" {step.filter}" if step.filter else "")]
    if step.frames is not None:
        lines[0] += f", {step.frames} frames"
    if step.do != "wait_dark":
        limit = f"limit {step.limit_s:g} s" if step.limit_s is not None else "no time limit"
        lines.append(f"{limit}, {step.attempts} attempts, then {step.then.replace('_', ' ')}")
    return "\n".join(lines)


class NightTimeline(Picture):
    """Lanes of devices over the hours of one night; ``fits`` squeezes them into the height that there is.

    Where it is told the plan's steps, they stand in a lane above: ``step_chosen`` tells which one is clicked or reached
    by the arrow keys, ``step_moved`` by how many places one is to move (0: taken out), ``step_added`` that one is to
    be put in behind it.
    """

    step_chosen = pyqtSignal(int)
    step_moved = pyqtSignal(int)
    step_added = pyqtSignal()
    fault_asked = pyqtSignal(str, float, QPoint)
    """A fault is to be placed: at which device's lane, empty for none, when in s, and where on the screen."""

    def __init__(self, *, fits: bool = False) -> None:
        super().__init__()
        self._fits = fits
        self._steps: tuple[NightStep, ...] = ()
        self.step = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Timeline of the night")
        self.outcome: NightOutcome | None = None
        self._sky: NightSky | None = None
        self._palette: Palette | None = None
        self.lanes: list[str] = []

    def show_night(
        self, outcome: NightOutcome | None, sky: NightSky | None, palette: Palette, steps: tuple[NightStep, ...] = ()
    ) -> None:
        """Show a night, with the plan's steps above it."""
        self.outcome, self._sky, self._palette, self._steps = outcome, sky, palette, steps
        self.lanes = []
        if outcome is not None:
            busy = dict.fromkeys(span.device for span in outcome.spans)
            active_faults = dict.fromkeys(
                e.device for e in outcome.events if e.device and (e.kind == "fault" or e.unhandled)
            )
            self.lanes = list({**busy, **active_faults})[:MAX_LANES]
            self.setAccessibleDescription(self.words())
        self.updateGeometry()
        self.update()

    def show_step(self, place: int) -> None:
        """Light a step of the plan; none for -1."""
        self.step = place
        self.setAccessibleDescription(self.words())
        self.update()

    def time_words(self, at_s: float) -> str:
        """Return a time from the plan's beginning: by the clock where site and date tell it."""
        return f"{clock_words(at_s)} h" if self._sky is None else self._sky.time_words(at_s)

    def words(self) -> str:
        """Return what the timeline shows, in a sentence."""
        if self.outcome is None:
            return ""
        own = self.outcome
        text = f"{own.frames_kept} of {own.frames_planned} frames kept, ends at {self.time_words(own.ends_s)}"
        first = own.first_unhandled
        if 0 <= self.step < len(self._steps):
            text = f"step {self.step + 1}, {self._steps[self.step].do.replace('_', ' ')}; {text}"
        return text + (f"; first unhandled: {first.what} at {self.time_words(first.t_s)}" if first is not None else "")

    # Places

    @property
    def _em(self) -> float:
        return float(self.fontInfo().pixelSize())

    def sizeHint(self) -> QSize:
        lanes = max(len(self.lanes), 1) + bool(self._steps)
        return QSize(300, round(self._em * (TOP_EM + BOTTOM_EM + LANE_EM * lanes)))

    def minimumSizeHint(self) -> QSize:
        return QSize(200, 30) if self._fits else self.sizeHint()

    @property
    def _until_s(self) -> float:
        sky = self._sky.dark_until_s if self._sky is not None else 0.0
        own = self.outcome.ends_s if self.outcome is not None else 0.0
        return max(sky, own, HOUR_S)

    def x_of(self, seconds: float) -> float:
        """Return where a time stands, in px."""
        left = LEFT_EM * self._em
        return left + (self.width() - left - RIGHT_EM * self._em) * min(max(seconds, 0.0) / self._until_s, 1.0)

    def seconds_at(self, x: float) -> float:
        """Return the time in s that stands at so many px from the left."""
        left, right = self.x_of(0.0), self.x_of(self._until_s)
        return self._until_s * min(max((x - left) / max(right - left, 1.0), 0.0), 1.0)

    def lane_at(self, y: float) -> str:
        """Return the device whose lane lies at a height in px; empty for none."""
        index = int((y / self._em - TOP_EM) // self._lane_em) - bool(self._steps)
        return self.lanes[index] if 0 <= index < len(self.lanes) else ""

    def contextMenuEvent(self, a0: QContextMenuEvent | None) -> None:
        """Ask for a fault to be placed: at the mouse, or, by the menu key, where the chosen step begins."""
        if a0 is None or self.outcome is None:
            return
        at = a0.pos()
        if a0.reason() is QContextMenuEvent.Reason.Keyboard:
            block = next((box for place, box in self.stage_blocks() if place == self.step), None)
            at = (block.center() if block is not None else QPointF(self.rect().center())).toPoint()
        self.fault_asked.emit(self.lane_at(at.y()), self.seconds_at(at.x()), self.mapToGlobal(at))

    @property
    def _lane_em(self) -> float:
        """How high a lane is, in text heights."""
        if not self._fits or not self.lanes:
            return LANE_EM
        return max((self.height() / self._em - TOP_EM - AXIS_EM) / (len(self.lanes) + bool(self._steps)), 0.4)

    def lane_box(self, index: int) -> QRectF:
        top = self._em * (TOP_EM + self._lane_em * (index + bool(self._steps)))
        left = LEFT_EM * self._em
        return QRectF(left, top, self.width() - left - RIGHT_EM * self._em, self._lane_em * self._em)

    # Drawing

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        """Draw."""
        if self._palette is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = self._palette
        painter.fillRect(self.rect(), palette.color("field"))
        if self.outcome is None:
            painter.setPen(palette.color("faded"))
            painter.drawText(self.rect(), int(Qt.AlignmentFlag.AlignCenter), "The night has not been simulated yet.")
            return
        self._draw_dark(painter, palette)
        if self._steps:
            self._draw_plan(painter, palette)
        for index, device in enumerate(self.lanes):
            self._draw_lane(painter, palette, index, device)
        self._draw_axis(painter, palette)

    def _draw_dark(self, painter: QPainter, palette: Palette) -> None:
        if self._sky is None:
            return
        height = self.lane_box(len(self.lanes) - 1).bottom() if self.lanes else self.height()
        left, right = self.x_of(self._sky.dark_from_s), self.x_of(self._sky.dark_until_s)
        shade = palette.color("ink", 16)
        painter.fillRect(QRectF(left, TOP_EM * self._em, right - left, height - TOP_EM * self._em), shade)
        painter.setPen(palette.color("faded"))
        if not self._sky.targets:
            painter.drawText(QPointF(left + 3, self._em * 1.1), "dark")
        self._draw_targets(painter, palette, height)
        for start, end in self._sky.up if not self._sky.targets else ():
            pen = QPen(palette.color("accent"), 2)
            painter.setPen(pen)
            painter.drawLine(QPointF(self.x_of(start), TOP_EM * self._em), QPointF(self.x_of(end), TOP_EM * self._em))
        if self._sky.meridian_s is not None and 0 < self._sky.meridian_s < self._until_s:
            x = self.x_of(self._sky.meridian_s)
            painter.setPen(QPen(palette.color("faded"), 1, Qt.PenStyle.DashDotLine))
            painter.drawLine(QPointF(x, TOP_EM * self._em), QPointF(x, height))
            room = painter.fontMetrics().horizontalAdvance("meridian")
            painter.drawText(QPointF(x - room - 4, self._em * 1.1), "meridian")

    def _draw_targets(self, painter: QPainter, palette: Palette, height: float) -> None:
        """Draw where each target is begun, with its name where there is room for it."""
        begun = self.outcome.begun if self.outcome is not None else ()
        for (at, name), (end, _) in pairwise([*begun, (self._until_s, "")]):
            x, room = self.x_of(at), self.x_of(end) - self.x_of(at) - 6
            painter.setPen(QPen(palette.color("accent"), 1))
            painter.drawLine(QPointF(x, 0.2 * self._em), QPointF(x, height))
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(room))
            if room > 3 * self._em:
                painter.drawText(QPointF(x + 3, self._em * 1.1), shown)

    def stage_blocks(self) -> list[tuple[int, QRectF]]:
        """Return of each step that came to work its place in the plan and its block, in order of time."""
        if self.outcome is None or not self._steps:
            return []
        lane = self.lane_box(-1)
        return [
            (
                stage.place,
                QRectF(
                    self.x_of(stage.from_s), lane.top() + 2, self._width(stage.from_s, stage.to_s), lane.height() - 4
                ),
            )
            for stage in self.outcome.stages
        ]

    def _width(self, from_s: float, to_s: float) -> float:
        return max(self.x_of(to_s) - self.x_of(from_s), LEAST_PX)

    def _draw_plan(self, painter: QPainter, palette: Palette) -> None:
        """Draw the plan's steps as blocks, named where there is room, the chosen one lit."""
        lane, metrics = self.lane_box(-1), painter.fontMetrics()
        painter.setPen(palette.color("ink"))
        box = QRectF(6, lane.top(), LEFT_EM * self._em - 10, lane.height())
        self._name(painter, box, "plan")
        painter.setPen(QPen(palette.color("rule"), 1))
        painter.drawLine(lane.bottomLeft(), lane.bottomRight())
        chosen: QRectF | None = None
        for place, block in self.stage_blocks():
            if place >= len(self._steps):
                continue
            painter.fillRect(block, palette.color("ink", 40 if place % 2 else 22))
            painter.setPen(QPen(palette.color("faded"), 0.8))
            painter.drawRect(block)
            step = self._steps[place]
            name = step.filter or step.do.replace("_", " ")
            if metrics.horizontalAdvance(name) < block.width() - 4:
                painter.setPen(palette.color("ink"))
                painter.drawText(block, int(Qt.AlignmentFlag.AlignCenter), name)
            if place == self.step:
                chosen = block
        if chosen is not None:
            painter.setPen(QPen(palette.color("accent"), 2.5))
            painter.drawRect(chosen)
        if self.hasFocus():
            painter.setPen(QPen(palette.color("accent"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(lane.adjusted(-1, 0, 1, 0))

    def _name(self, painter: QPainter, box: QRectF, name: str) -> None:
        """Write a lane's name: smaller where the lane is low, not at all where it would be too small to read."""
        size = min(self._em, 0.95 * box.height())
        if size < LEAST_TEXT_PX:
            return
        painter.save()
        font = painter.font()
        font.setPixelSize(round(size))
        painter.setFont(font)
        text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, round(box.width()))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft), text)
        painter.restore()

    def _draw_lane(self, painter: QPainter, palette: Palette, index: int, device: str) -> None:
        lane = self.lane_box(index)
        painter.setPen(palette.color("ink"))
        self._name(painter, QRectF(6, lane.top(), LEFT_EM * self._em - 10, lane.height()), device)
        painter.setPen(QPen(palette.color("rule"), 1))
        painter.drawLine(lane.bottomLeft(), lane.bottomRight())
        assert self.outcome is not None
        for kind, left, right in self._merged([span for span in self.outcome.spans if span.device == device]):
            inset = min(3.0, lane.height() / 8)
            bar = QRectF(left, lane.top() + inset, max(right - left, 1.0), lane.height() - 2 * inset)
            color = palette.color(_COLORS[kind])
            if kind in _HATCHED:
                painter.fillRect(bar, QBrush(color, _HATCHED[kind]))
                painter.setPen(QPen(color, 1))
                painter.drawRect(bar)
            else:
                painter.fillRect(bar, color)
        for event in self.outcome.events:
            if event.device == device:
                self._draw_event(painter, palette, lane, event)

    def _merged(self, spans: list[NightSpan]) -> list[tuple[SpanKind, float, float]]:
        """Return bars in px: what lies close together of one kind is one."""
        bars: list[tuple[SpanKind, float, float]] = []
        for span in sorted(spans, key=lambda span: span.from_s):
            left, right = self.x_of(span.from_s), self.x_of(span.to_s)
            if bars and bars[-1][0] == span.kind and left - bars[-1][2] < MERGED_PX:
                bars[-1] = (span.kind, bars[-1][1], max(right, bars[-1][2]))
            else:
                bars.append((span.kind, left, right))
        return bars

    def _draw_event(self, painter: QPainter, palette: Palette, lane: QRectF, event: NightEvent) -> None:
        x = self.x_of(event.t_s)
        if event.unhandled:
            painter.setPen(QPen(palette.color("fails"), 2.5))
            size = lane.height() / 4
            middle = lane.center().y()
            painter.drawLine(QPointF(x - size, middle - size), QPointF(x + size, middle + size))
            painter.drawLine(QPointF(x - size, middle + size), QPointF(x + size, middle - size))
        elif event.kind == "fault":
            painter.setPen(QPen(palette.color("fails"), 2))
            painter.drawLine(QPointF(x, lane.top() + 1), QPointF(x, lane.bottom() - 1))
        elif event.kind == "retry":
            painter.setPen(QPen(palette.color("ink"), 1))
            painter.drawLine(QPointF(x, lane.bottom() - 7), QPointF(x, lane.bottom() - 1))
        elif event.kind == "branch":
            painter.setPen(QPen(palette.color("tight"), 2))
            painter.drawLine(QPointF(x, lane.top() + 1), QPointF(x + 5, lane.top() + 7))

    def _draw_axis(self, painter: QPainter, palette: Palette) -> None:
        bottom = self.lane_box(len(self.lanes) - 1).bottom() if self.lanes else 0.0
        painter.setPen(palette.color("ink"))
        for at_s, label in self.hour_marks():
            x = self.x_of(at_s)
            painter.drawLine(QPointF(x, bottom), QPointF(x, bottom + 4))
            box = QRectF(x - 3 * self._em, bottom + 4, 6 * self._em, self._em * 1.4)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignHCenter), label)
        if self._sky is not None and self._sky.begins is not None:
            box = QRectF(6, bottom + 4, (LEFT_EM - 3) * self._em, self._em * 1.4)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignRight), "UTC")

    def hour_marks(self) -> list[tuple[float, str]]:
        """Return where the axis is marked, in s from the plan's beginning, and with what: whole hours of the clock."""
        hours = round(self._until_s / HOUR_S)
        room = self.fontMetrics().horizontalAdvance("00:00") * 1.4
        across = max(self.x_of(self._until_s) - self.x_of(0.0), 1.0)
        step = max(1, math.ceil(hours * room / across))
        begins = self._sky.begins if self._sky is not None else None
        if begins is None:
            return [(hour * HOUR_S, f"{hour} h") for hour in range(0, hours + 1, step)]
        first = begins.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
        times = [first + timedelta(hours=hour) for hour in range(0, hours + 1, step)]
        marks = [((at - begins).total_seconds(), f"{at:%H:%M}") for at in times]
        return [mark for mark in marks if mark[0] <= self._until_s]

    def step_at(self, at: QPointF) -> int:
        """Return the place of the plan's step that stands somewhere; -1 for none."""
        hits = [place for place, block in self.stage_blocks() if block.adjusted(-1, -2, 1, 2).contains(at)]
        return hits[-1] if hits else -1

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        """Choose the step under the mouse."""
        place = self.step_at(a0.position()) if a0 is not None else -1
        if place >= 0:
            self.step_chosen.emit(place)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        """Go from step to step by the arrows; with Alt move the chosen one, Delete takes it out, Insert puts one in."""
        if a0 is None or not self._steps:
            super().keyPressEvent(a0)
            return
        key, by = a0.key(), {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(a0.key()), 0)
        if by and a0.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.step_moved.emit(by)
        elif by:
            self.step_chosen.emit(min(max(self.step + by, 0), len(self._steps) - 1))
        elif key == Qt.Key.Key_Delete and self.step >= 0:
            self.step_moved.emit(0)
        elif key == Qt.Key.Key_Insert:
            self.step_added.emit()
        else:
            super().keyPressEvent(a0)

    def mouseMoveEvent(self, a0: QMouseEvent | None) -> None:
        """Tell what stands under the mouse."""
        if a0 is not None:
            QToolTip.showText(a0.globalPosition().toPoint(), self.reported_at(a0.position()), self)

    def reported_at(self, at: QPointF) -> str:
        """Return what stands at a place: the device, what it does then, and events close by."""
        place, device = self.step_at(at), self.lane_at(at.y())
        if place >= 0 and place < len(self._steps):
            return step_words(place, self._steps[place])
        if self.outcome is None or not device:
            return ""
        spans = [
            s
            for s in self.outcome.spans
            if s.device == device and self.x_of(s.from_s) - 1 <= at.x() <= self.x_of(s.to_s) + 1
        ]
        lines = [device]
        if spans:
            span = spans[0]
            took = number((span.to_s - span.from_s) / 60, 1)
            lines.append(f"{SPAN_WORDS[span.kind]}, from {self.time_words(span.from_s)}, {took} min")
        near = [e for e in self.outcome.events if e.device == device and abs(self.x_of(e.t_s) - at.x()) < 4]
        lines += [f"{self.time_words(event.t_s)}: {event.what}" for event in near[:5]]
        return "\n".join(lines)
