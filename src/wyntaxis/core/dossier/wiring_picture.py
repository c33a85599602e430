"""The wiring on paper."""

from __future__ import annotations

from wyntaxis.core.dossier.svg import FAINT, SMALL_PX, TEXT_PX, PaperCanvas, Svg
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.wiring import wiring
from wyntaxis.core.wiring_drawing import Sizes, draw_wiring, laid_out

WIDTH, ROW_PX, LINE_PX = 760.0, 112.0, 1.3 * SMALL_PX
MOST_IN_ROW = 6
"""More devices than this stand in two rows, or three."""
LEGEND = "full: USB and power (thick) · dashed: network · dots: wireless · dots and dashes: serial"


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
    rows = 2 + max(-(-len(entries.row("device")) // MOST_IN_ROW), 1)
    height = ROW_PX * (rows - 1) + 60
    layout = laid_out(entries, Sizes(WIDTH, height, LINE_PX, TEXT_PX, MOST_IN_ROW))
    svg = Svg(WIDTH, height + 16, "Wiring")
    draw_wiring(PaperCanvas(svg), entries, layout)
    svg.text((6, svg.height - 4), LEGEND, size=SMALL_PX, color=FAINT)
    return svg.markup()
