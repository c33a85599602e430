"""The wiring's drawing: blocks that keep apart, lines that keep to the gaps, and the same on screen and paper."""

import itertools

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.canvas import Box, Lettering, elided
from wyntaxis.core.dossier.svg import PaperCanvas, Svg
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.store import validated
from wyntaxis.core.wiring import Block, Wire, Wiring, wiring
from wyntaxis.core.wiring_drawing import EDGE_PX, Sizes, draw_wiring, laid_out


class Recorder:
    """A canvas that notes what is drawn; each letter is 5 px wide."""

    def __init__(self):
        self.drawn = []

    def line(self, points, stroke):
        self.drawn.append(("line", tuple(points), stroke))

    def shape(self, points, fill, stroke):
        self.drawn.append(("shape", tuple(points), fill))

    def circle(self, at, radius, fill, stroke):
        self.drawn.append(("circle", at, radius))

    def words(self, at, text, lettering):
        self.drawn.append(("words", text, lettering.color))
        return Box(at[0], at[1], self.width_of(text, lettering), 10)

    def width_of(self, text, lettering):
        return 5.0 * len(text)

    def mark(self, box, verdict, ground):
        self.drawn.append(("mark", verdict, box))


def entries_of(devices):
    heads = (Block("pc", "Computer", "head", "computer", None), Block("hub", "Hub", "head", "hub", None))
    own = [Block(f"d{k}", f"Device {k}", "device", "camera", None) for k in range(devices)]
    wires = [Wire("data", "hub", block.id, "usb", ("480 Mbit/s",), None, "") for block in own]
    wires += [Wire("power", "mains", block.id, "power", ("1.0 A",), Verdict.FAILS, "") for block in own]
    return Wiring((*heads, *own, Block("mains", "Mains", "supply", "mains", None)), tuple(wires))


def overlap(one, other):
    return one.left < other.right and other.left < one.right and one.top < other.bottom and other.top < one.bottom


@pytest.mark.parametrize("devices", [0, 1, 2, 5, 6, 7, 12, 13, 25])
@pytest.mark.parametrize("most", [6, 1000])
def test_blocks_keep_apart_and_on_the_sheet(devices, most):
    rows = 2 + max(-(-devices // most), 1)
    sizes = Sizes(760, 112 * (rows - 1) + 60, 12, 11, most)
    boxes = laid_out(entries_of(devices), sizes).boxes
    assert len(boxes) == devices + 3
    assert not [pair for pair in itertools.combinations(boxes.values(), 2) if overlap(*pair)]
    assert min(box.left for box in boxes.values()) >= EDGE_PX - 1e-6
    assert max(box.right for box in boxes.values()) <= sizes.width - EDGE_PX + 1e-6
    assert max(box.bottom for box in boxes.values()) == pytest.approx(sizes.height - EDGE_PX)
    assert min(box.top for box in boxes.values()) == EDGE_PX


@pytest.mark.parametrize("devices", [4, 9])
def test_lines_end_at_their_blocks_and_run_level_in_the_gaps_alone(devices):
    sizes = Sizes(760, 400, 12, 11, 6)
    layout = laid_out(entries_of(devices), sizes)
    assert len(layout.ways) == 2 * devices
    for wire, way in layout.ways:
        start, end = layout.boxes[wire.start], layout.boxes[wire.end]
        assert way[0][1] in (start.top, start.bottom)
        assert way[-1][1] in (end.top, end.bottom)
        level = way[1][1]
        assert not [box for box in layout.boxes.values() if box.top <= level <= box.bottom], (wire, level)
    middle = layout.boxes["d1"].middle
    assert layout.block_at(*middle) == "d1"
    assert layout.block_at(1.0, 1.0) is None
    wire, way = layout.ways[0]
    assert layout.wire_at(way[1][0] + 3, way[1][1] - 3, 4.0) == wire
    assert layout.wire_at(1.0, 1.0, 0.5) is None


def test_what_is_chosen_and_what_fails_stand_out():
    entries, canvas = entries_of(2), Recorder()
    draw_wiring(canvas, entries, laid_out(entries, Sizes(760, 240, 12, 11)), "d1")
    strokes = [stroke for name, _, stroke in canvas.drawn if name == "line" and len(canvas.drawn[0][1]) == 4]
    colors = {stroke.color for stroke in strokes}
    assert {"accent", "fails", "ink"} <= colors  # the chosen device's data line, the failing power, the others
    assert [fill for name, _, fill in canvas.drawn if name == "shape"].count("chosen") == 1
    assert [verdict for name, verdict, _ in canvas.drawn if name == "mark"] == [Verdict.FAILS, Verdict.FAILS]


def test_the_example_is_drawn_on_paper_with_the_words_that_the_screen_shows():
    evaluation = evaluate(validated(EXAMPLE | {"devices": [{"id": "grand", "kind": "camera", "name": "A & <B>"}]}))
    entries, svg, canvas = wiring(evaluation), Svg(760, 240, "Wiring"), Recorder()
    layout = laid_out(entries, Sizes(760, 240, 12, 11))
    draw_wiring(canvas, entries, layout)
    draw_wiring(PaperCanvas(svg), entries, layout)
    words = [text for name, text, _ in canvas.drawn if name == "words"]
    assert "A & <B>" in words
    assert "A &amp; &lt;B&gt;" in svg.markup()
    assert svg.markup().count("<text") >= len(words)


def test_a_long_text_is_cut_where_its_room_ends():
    canvas = Recorder()
    assert elided(canvas, "camera", 30, Lettering()) == "camera"
    assert elided(canvas, "camera", 29, Lettering()) == "came…"
    assert elided(canvas, "camera", 4, Lettering()) == ""
