"""The wiring on paper: computer and hubs above, devices in the middle, supplies below, lines with what they carry."""

from __future__ import annotations

from wyntaxis.core.dossier.svg import FAINT, PAPER, SHADE, Svg
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.wiring import Block, wiring

WIDTH, BLOCK_PX, ROW_PX = 760.0, 42.0, 150.0
MOST_IN_ROW = 5
"""More devices than this stand in two rows, or three."""
MARKS = {"fails": "✕", "tight": "◆", "unproven": "◌", "holds": "✓"}


def wiring_svg(evaluation: Evaluation) -> str:
    """Return the wiring of an evaluated rig as an SVG element; a line of words where there are no devices.

    Returns
    -------
    str
        Markup.
    """
    entries = wiring(evaluation)
    if not evaluation.rig.devices:
        return "<p>No devices are listed yet.</p>"
    devices = entries.row("device")
    rows = [entries.row("head")]
    count = -(-len(devices) // MOST_IN_ROW) or 1
    each = -(-len(devices) // count)
    rows += [devices[at : at + each] for at in range(0, len(devices), each)]
    rows.append(entries.row("supply"))
    rows = [row for row in rows if row]
    places = {}
    svg = Svg(WIDTH, 30 + ROW_PX * len(rows) - (ROW_PX - BLOCK_PX) + 20, "Wiring")
    for line, row in enumerate(rows):
        pitch = WIDTH / len(row)
        for index, block in enumerate(row):
            places[block.id] = (pitch * (index + 0.5), 30 + ROW_PX * line, min(pitch - 16, 190.0))
    for number, wire in enumerate(entries.wires):
        if wire.start not in places or wire.end not in places:
            continue
        (x0, y0, _), (x1, y1, _) = places[wire.start], places[wire.end]
        shift = 10 if wire.carries == "power" else -10
        start = (x0 + shift, y0 + (BLOCK_PX if y1 > y0 else 0))
        end = (x1 + shift, y1 + (0 if y1 > y0 else BLOCK_PX))
        middle = (start[1] + end[1]) / 2 + 6 * (number % 5 - 2)
        dash = "2 3" if wire.carries == "power" else "7 4" if wire.form in ("network", "wireless") else ""
        svg.polyline([start, (start[0], middle), (end[0], middle), end], width=1.1, dash=dash)
        # At the device's own end, where no other line's words stand.
        near = end
        for place, words in enumerate(wire.labels[:2]):
            below = near[1] > middle
            at = near[1] - 5 - 10 * place if below else near[1] + 11 + 10 * place
            svg.text((near[0] + (3 if shift > 0 else -3), at), words, size=8.5, anchor="start" if shift > 0 else "end")
    for row in rows:
        for block in row:
            _block(svg, block, *places[block.id])
    svg.text((6, svg.height - 4), "full: data · dashed: network · dotted: power", size=8.5, color=FAINT)
    return svg.markup()


def _block(svg: Svg, block: Block, x: float, y: float, width: float) -> None:
    svg.rect(x - width / 2, y, width, BLOCK_PX, fill=SHADE if block.row == "head" else PAPER, line=1.2)
    room = int(width / 6.6)
    title = block.title if len(block.title) <= room else block.title[: max(room - 1, 1)] + "…"
    svg.text((x, y + 17), title, size=11, anchor="middle", bold=True)
    mark = MARKS.get(str(block.verdict), "") if block.verdict is not None else ""
    svg.text((x, y + 32), f"{block.symbol.replace('_', ' ')} {mark}".strip(), size=9, anchor="middle", color=FAINT)
