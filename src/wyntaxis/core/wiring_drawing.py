"""The wiring drawn: programs, computer and hubs above, devices below them, then supplies; lines with what they carry.

Window and dossier draw it with the same code, each on its own canvas.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise

from wyntaxis.core.canvas import (
    CHAIN_DASHES,
    DASHES,
    WIDE_PX,
    Box,
    Canvas,
    Lettering,
    Point,
    Stroke,
    elided,
)
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import Figure
from wyntaxis.core.wiring import Block, Wire, Wiring

EDGE_PX, GAP_PX = 12.0, 10.0
LINES: Mapping[str, tuple[float, ...]] = {
    "talk": (1.0, 3.0),
    "network": DASHES,
    "wireless": (2.0, 3.0),
    "serial": CHAIN_DASHES,
}
"""How each kind of line is drawn; USB and power in full."""
WIDEST_EM, HEAD_EM = 9.5, 10.0
BLOCK_LINES = 2.35
"""How high a block is, in lines of small text."""
NEAREST, SPREAD = 0.12, 0.4
"""Where the first level of lines runs between two rows, and over how much of the room the others spread."""
SMALL = Lettering()
FADED = Lettering(color="faded")
ON_PAPER = Lettering(color="faded", ground="paper")

FIGURES = {
    "battery": Figure(
        (
            ((0.0, 0.5), (0.35, 0.5)),
            ((0.35, 0.15), (0.35, 0.85)),
            ((0.55, 0.35), (0.55, 0.65)),
            ((0.55, 0.5), (1.0, 0.5)),
        )
    ),
    "program": Figure(
        (((0.08, 0.15), (0.92, 0.15), (0.92, 0.85), (0.08, 0.85), (0.08, 0.15)), ((0.08, 0.33), (0.92, 0.33)))
    ),
    "mains": Figure((((0.25, 0.5), (0.37, 0.33), (0.5, 0.5), (0.63, 0.67), (0.75, 0.5)),), ring=0.42),
}
"""Figures of supplies, by IEC 60617 where it has a symbol, and of programs."""


@dataclass(frozen=True)
class Sizes:
    """The room that a drawing has, and how large its text is, in px: a line of small text, and the em of the usual."""

    width: float
    height: float
    line: float
    em: float
    most_in_row: int = 1000
    """More devices than this stand in two rows, or three."""


@dataclass(frozen=True)
class WiringLayout:
    """Where each block lies, by id, and the way of each line."""

    boxes: Mapping[str, Box]
    ways: tuple[tuple[Wire, tuple[Point, ...]], ...]
    line: float

    def block_at(self, x: float, y: float) -> str | None:
        """Return the id of the block at a point."""
        return next((block_id for block_id, box in self.boxes.items() if box.contains(x, y)), None)

    def wire_at(self, x: float, y: float, within: float) -> Wire | None:
        """Return the line that passes a point within so many px."""
        for wire, way in self.ways:
            for (x1, y1), (x2, y2) in pairwise(way):
                box = Box(min(x1, x2), min(y1, y2), abs(x2 - x1), abs(y2 - y1)).grown(within)
                if box.contains(x, y):
                    return wire
        return None


def laid_out(entries: Wiring, sizes: Sizes) -> WiringLayout:
    """Give each block its place, and each line its way."""
    tall = BLOCK_LINES * sizes.line
    devices = entries.row("device")
    count = max(-(-len(devices) // sizes.most_in_row), 1)
    each = max(-(-len(devices) // count), 1)
    rows = [devices[at : at + each] for at in range(0, len(devices), each)] or [[]]
    programs = [entries.row("program")] if entries.row("program") else []
    lanes = [*programs, entries.row("head"), *rows, entries.row("supply")]
    pitch = (sizes.height - tall - 2 * EDGE_PX) / (len(lanes) - 1)
    head = len(programs)
    width, step, start = _row_of_devices(sizes, each, staggered=count > 1)
    boxes: dict[str, Box] = {}
    for lane, blocks in enumerate(lanes):
        top, is_device = EDGE_PX + lane * pitch, head < lane < len(lanes) - 1
        room = sizes.width - 2 * EDGE_PX
        wide = width if is_device else min((room + GAP_PX) / max(len(blocks), 1) - GAP_PX, HEAD_EM * sizes.em)
        apart = step if is_device else wide + 3 * sizes.em
        # The devices of a second row stand under the gaps of the first, so that lines pass between them.
        left = start + (step / 2 if (lane - head) % 2 == 0 else 0.0) if is_device else EDGE_PX
        if lane == head and len(devices) > 1:
            # A gap between two devices lies under the first head: its supply comes up there.
            left = max(start + step - (step - width) / 2 - wide / 2, EDGE_PX)
        for place, block in enumerate(blocks):
            boxes[block.id] = Box(left + place * apart, top, wide, tall)
    return WiringLayout(boxes, tuple(_routes(entries, boxes, pitch - tall)), sizes.line)


def _row_of_devices(sizes: Sizes, count: int, *, staggered: bool) -> tuple[float, float, float]:
    """Return how wide the devices of a row are, how far apart they begin, and where the first does."""
    room, places = sizes.width - 2 * EDGE_PX, count + (0.5 if staggered else 0.0)
    width = min((room + GAP_PX) / places - GAP_PX, WIDEST_EM * sizes.em)
    step = min((room - width) / max(places - 1, 1), width + 3 * sizes.em)
    return width, step, EDGE_PX + (room - width - step * (places - 1)) / 2


def _routes(entries: Wiring, boxes: Mapping[str, Box], gap: float) -> Iterator[tuple[Wire, tuple[Point, ...]]]:
    """Yield each line's way: out of its start, along a level of its own in the gap to the next row, into its end."""
    for carries, below in (("data", True), ("talk", True), ("power", False)):
        wires = [wire for wire in entries.wires if wire.carries == carries and {wire.start, wire.end} <= set(boxes)]
        sources = list(dict.fromkeys(wire.start for wire in wires))
        for wire in wires:
            start, end = boxes[wire.start], boxes[wire.end]
            if abs(start.top - end.top) < 1:  # a hub on the computer, a supply or a program on another
                left, right = sorted((start, end), key=lambda box: box.left)
                y = left.middle[1]
                yield wire, ((left.right, y), (right.left, y))
                continue
            share = NEAREST + SPREAD * (sources.index(wire.start) + 1) / (len(sources) + 1)
            leaves, enters = (start.bottom, end.top) if below else (start.top, end.bottom)
            level = leaves + (gap if below else -gap) * share
            out, into = start.middle[0], end.middle[0] + {"data": 0, "talk": -GAP_PX}.get(carries, GAP_PX / 2)
            yield wire, ((out, leaves), (out, level), (into, level), (into, enters))


def draw_wiring(canvas: Canvas, entries: Wiring, layout: WiringLayout, chosen: str = "") -> None:
    """Draw lines, their labels and the blocks; what is chosen is marked."""
    for wire, way in layout.ways:
        _wire(canvas, wire, way, is_chosen=bool(chosen) and chosen in (wire.start, wire.end))
    for wire, way in layout.ways:
        _labels(canvas, wire, way, layout.line)
    for block in entries.blocks:
        if block.id in layout.boxes:
            _block(canvas, block, layout.boxes[block.id], layout.line, is_chosen=bool(chosen) and block.id == chosen)


def _is_severe(wire: Wire) -> bool:
    return wire.verdict is not None and wire.verdict.severity >= 2


def _wire(canvas: Canvas, wire: Wire, way: tuple[Point, ...], *, is_chosen: bool) -> None:
    color = str(wire.verdict) if _is_severe(wire) else "accent" if is_chosen else "ink"
    width = WIDE_PX * (1.5 if is_chosen else 1.0) if wire.carries == "power" else (1.8 if is_chosen else 1.0)
    canvas.line(way, Stroke(color, width, LINES.get(wire.form, ())))
    if len(way) == 4 and abs(way[1][0] - way[2][0]) > 1:  # lines that meet are joined by a dot (IEC 60617)
        canvas.circle(way[1], 2.2, color, None)


def _labels(canvas: Canvas, wire: Wire, way: tuple[Point, ...], line: float) -> None:
    """Write a line's labels beside its last stretch, with its mark where it is not in order."""
    if len(way) == 2:
        middle = (way[0][0] + way[1][0]) / 2
        for label in wire.labels[-1:]:
            canvas.words((middle, way[0][1] - line * 0.6), label, ON_PAPER)
        return
    (_, first), (x, last) = way[2], way[3]
    up = -1 if last > first else 1
    y, right = last + up * line * 0.75, x
    for label in reversed(wire.labels) if up < 0 else wire.labels:
        right = max(right, canvas.words((x, y), label, ON_PAPER).right)
        y += up * line
    if wire.verdict is not None and _is_severe(wire):
        size = line * 0.75
        mark = Box(right + 5, last + up * line * 0.75 - size / 2, size, size)
        canvas.shape(mark.grown(1).corners, "paper", None)
        canvas.mark(mark, wire.verdict, "paper")


def _block(canvas: Canvas, block: Block, box: Box, line: float, *, is_chosen: bool) -> None:
    outline = Stroke("accent" if is_chosen else "ink", WIDE_PX * (1.5 if is_chosen else 1.0))
    canvas.shape(box.corners, "chosen" if is_chosen else "panel", outline)
    icon = Box(box.left + 5, box.top + 4, line, line)
    draw_symbol(canvas, block.symbol, icon)
    if block.verdict is not None:
        canvas.mark(Box(box.right - line * 0.8 - 4, box.top + 4, line * 0.8, line * 0.8), block.verdict, "panel")
    left = Lettering(align="left")
    kind = elided(canvas, block.symbol.replace("_", " "), box.width - line * 2 - 14, left)
    canvas.words((icon.right + 4, icon.middle[1]), kind, Lettering(align="left", color="faded"))
    name = elided(canvas, plain(block.title), box.width - 10, left)
    canvas.words((box.left + 5, box.bottom - line * 0.65), name, left)


def draw_symbol(canvas: Canvas, kind: str, box: Box) -> None:
    """Draw the figure of a kind of device or supply into a square; an empty square where it has none."""
    stroke, declared = Stroke("ink", 1.1), DEVICE_KINDS.get(kind)
    figure = FIGURES.get(kind, declared.figure if declared is not None else Figure())
    if figure == Figure():
        canvas.shape(box.grown(-2).corners, None, stroke)
    if figure.ring is not None:
        canvas.circle(box.middle, figure.ring * box.width, None, stroke)
    for line in figure.lines:
        canvas.line([(box.left + x * box.width, box.top + y * box.height) for x, y in line], stroke)
