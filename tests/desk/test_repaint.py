"""Only what an edit changes is drawn, and what is kept is what would be drawn anew."""

import random

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QObject, QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from tests.cases import further
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.train.section import lay_out
from wyntaxis.desk.findings_list import MAX_EM, FindingsList
from wyntaxis.desk.ledger_row import LedgerScale
from wyntaxis.desk.palette import DAY, NIGHT
from wyntaxis.desk.paragraphs import Paragraphs
from wyntaxis.desk.section import pieces
from wyntaxis.desk.section.drawable import BareRig
from wyntaxis.desk.section.fitting import stepped
from wyntaxis.desk.section.picture import SectionPicture
from wyntaxis.desk.section.pieces import PHASES, Pieces
from wyntaxis.desk.tables import TextTable

CUT, CORNERS = 100, 8
"""What is cut off differs by more, from faded text to paper, in a line of pixels: hatching, which begins anew in each
piece, differs by less, and rounding in a corner here and there.
"""


class Painted(QObject):
    """Notes which widgets are painted, and how much of each."""

    def __init__(self, app):
        super().__init__()
        self.seen = []
        app.installEventFilter(self)

    def eventFilter(self, a0, a1):
        if a1.type() == QEvent.Type.Paint:
            self.seen.append((a0, a1.rect()))
        return False

    def of(self, kind):
        return [widget for widget, _ in self.seen if isinstance(widget, kind)]


@pytest.fixture
def painted(qapp):
    watch = Painted(qapp)
    yield watch
    qapp.removeEventFilter(watch)


def settled():
    for _ in range(3):
        QApplication.processEvents()


def at_once(_kept, onto, _key, x, y, _extent, how, _ground=None):
    """Draw a piece where it stands, and keep nothing."""
    onto.save()
    onto.translate(x, y)
    how(onto)
    onto.restore()


def redrawn(window, shown=None):
    """Return what a band that has kept nothing draws of the open rig."""
    band = SectionPicture(window)
    band.setFont(window.band.font())
    band.set_palette(window.palette_in_use)
    band.resize(window.band.size())
    band.show_rig(shown or window.session)
    band.zoom_factor, band.panned = window.band.zoom_factor, QPointF(window.band.panned)
    image = band.grab().toImage()
    band.deleteLater()
    return image


def cut_off(one, other):
    """Return how many values of two pictures, a pixel's channel each, differ by more than hatching does."""
    arrays = []
    for image in (one, other):
        own = image.convertToFormat(QImage.Format.Format_RGB32)
        arrays.append(np.frombuffer(own.constBits().asarray(own.sizeInBytes()), np.uint8).astype(int))
    return (abs(arrays[0] - arrays[1]) > CUT).sum()


@pytest.mark.parametrize("scale", [1.0, *further(2.0)])
@pytest.mark.parametrize("size", [(1280, 800), (1024, 700), *further(((1920, 1080),))])
@pytest.mark.parametrize("demo", ["tarnfell-triplet-reduced", "meadow-newtonian"])
def test_pieces_cut_nothing_off(window, monkeypatch, demo, size, scale):
    monkeypatch.setattr(pieces, "PHASES", 256)  # where a piece stands is then no matter
    window.files.open_demo(demo)
    window.resize(*size)
    window.text_scale = scale
    window.apply_look()
    settled()
    bare = BareRig(window.session.rig, lay_out(window.session.rig))
    rows = window.findChildren(LedgerScale)

    def drawn():
        return [redrawn(window), redrawn(window, bare), *(row.grab().toImage() for row in rows)]

    of_pieces = drawn()
    monkeypatch.setattr(Pieces, "draw", at_once)
    for one, other in zip(of_pieces, drawn(), strict=True):
        assert cut_off(one, other) <= CORNERS


def an_edit(window, chance):
    session = window.session
    part = chance.choice([part.id for part in (*session.rig.train, *session.rig.guiding.path)])
    place = (*session.rig.find(part)[0], "clear_aperture_mm")
    return chance.choice(
        [
            lambda: session.set_length(part, round(chance.uniform(3, 40), 2)),
            lambda: session.set_length(part, session.rig.find(part)[1].optical_length_mm + 0.01),
            lambda: session.choose_part(part),
            lambda: session.set_value(place, chance.choice([20, 36]), "Opening"),
            lambda: session.set_value(("assumed",), [f"train[{chance.randrange(4)}].length_mm"], "Assumed"),
            lambda: session.move_part(part, chance.choice([-1, 1])),
            session.undo,
            lambda: window.band.zoom(chance.choice([1.25, 0.8])),
            lambda: window.resize(chance.choice([1280, 1100]), chance.choice([800, 700])),
            lambda: window.set_palette_by_name(chance.choice(["day", "night"])),
        ]
    )


@pytest.mark.parametrize("seed", [1, *further(0, 2)])
def test_whatever_is_done_the_drawing_is_what_it_would_be_drawn_anew(window, seed):
    chance = random.Random(seed)
    for _ in range(30):
        an_edit(window, chance)()
        settled()
        assert window.band.kept_picture[1].toImage() == redrawn(window)


SEEN = {
    "opening": (("train", 3, "clear_aperture_mm"), 30.0, 33.0),
    "length": (("train", 3, "length_mm"), 12.9, 12.8),
    "nobody gave it": (("assumed",), [], ["train[3].length_mm"]),
    "glass": (("train", 2, "glass", 0, "thickness_mm"), 2.0, 3.0),
    "prism": (("train", 1, "prism", "height_mm"), 8.0, 9.0),
    "spreads or collects": (("train", 0, "magnification"), 0.76, 1.2),
    "sensor": (("train", 4, "sensor", "height_px"), 3000, 4000),
    "allowed": (("train", 0, "back_focus_tolerance_mm"), 0.4, 0.5),
    "name": (("name",), "One", "Another"),
    "guide part": (("guiding", "path", 0, "length_mm"), 16.0, 17.0),
    "connected": (("devices", 0, "connected"), True, False),
}


def test_what_is_seen_of_the_rig_is_drawn_anew_when_it_changes(window):
    for name, (path, *values) in SEEN.items():
        pictures = []
        for value in values:
            assert window.session.set_value(path, value, "Change"), name
            settled()
            pictures.append(window.band.kept_picture[1].toImage())
            assert pictures[-1] == redrawn(window), name
        assert pictures[0] != pictures[1], name


def test_zoomed_in_what_is_large_is_not_kept(window):
    for factor in (1.0, 3.0, 10.0, 40.0):
        window.band.fit()
        window.band.zoom(factor)
        settled()
        kept = window.band.pieces.kept.values()
        assert all(own.width() * own.height() <= 1.05 * pieces.LARGEST_PX for own in kept)
        assert sum(own.width() * own.height() for own in kept) < 2e6
        assert window.band.kept_picture[1].toImage() == redrawn(window)


def test_a_part_of_a_hundred_metres_is_drawn_too(window):
    window.session.set_length("ring", 100_000)
    for factor in (1.0, 40.0):
        window.band.zoom(factor)
        settled()
        assert all(max(own.width(), own.height()) <= pieces.LONGEST_PX + 2 for own in window.band.pieces.kept.values())
        assert window.band.kept_picture[1].toImage() == redrawn(window)


def test_a_small_edit_leaves_the_drawing_where_it_is(window):
    views = set()
    for length in (12.90, 12.91, 12.93, 12.96):
        window.session.set_length("ring", length)
        settled()
        views.add(window.band.view())
    assert len(views) == 1


def test_a_mark_of_what_nobody_gave_goes_from_its_cell(window, painted):
    window.session.set_value(("assumed",), ["train[3].length_mm"], "Assumed")
    settled()
    table = window.sheets["light_path"].table
    model, changed = table.model(), []
    model.dataChanged.connect(lambda first, _last: changed.append(model.data(first)))
    assert model.data(model.index(3, 3)) == "12.9 ?"
    window.session.set_length("ring", 12.9)
    assert "12.9" in changed


def test_an_edit_of_one_length_draws_only_what_stands_differently(window, monkeypatch):
    made = []
    settled()
    draw = pieces.drawn_picture
    monkeypatch.setattr(pieces, "drawn_picture", lambda *given: made.append(1) or draw(*given))
    window.session.set_length("ring", 12.91)
    settled()
    band_and_rows = len(window.band.pieces.kept)
    assert 0 < len(made) < band_and_rows / 2


def test_an_edit_paints_only_the_rows_and_cells_that_read_differently(window, painted):
    settled()
    painted.seen.clear()
    before = {scale: scale.quantity for scale in window.findChildren(LedgerScale)}
    window.session.set_length("ring", 12.91)
    settled()
    rows = set(painted.of(LedgerScale))
    assert rows
    assert all(before[scale] != scale.quantity for scale in rows)
    viewport = window.sheets["light_path"].table.viewport()
    cells = [rect for widget, rect in painted.seen if widget is viewport]
    assert all(rect.width() < viewport.width() / 4 for rect in cells)
    painted.seen.clear()
    kept = window.band.kept_picture
    window.session.set_value(("note",), "nothing of this is drawn", "Note")
    settled()
    assert not painted.of((LedgerScale, FindingsList))
    assert window.band.kept_picture is kept


def test_the_wiring_is_not_drawn_anew_for_what_it_does_not_show(window, painted):
    window.show_step("devices")
    settled()
    wiring = window.drawing.wiring
    painted.seen.clear()
    window.session.set_length("ring", 12.91)
    settled()
    assert wiring not in painted.of(type(wiring))
    window.session.set_value(("devices", 0, "name"), "Another name", "Name")
    settled()
    assert wiring in painted.of(type(wiring))


@pytest.mark.parametrize("ratio", [1.0, 1.25, 2.0])
def test_a_piece_is_drawn_once_for_each_key_and_place_within_a_pixel(qapp, ratio):
    kept, drawn, box = Pieces(), [], QRectF(0, 0, 8, 8)
    image = QImage(round(100 * ratio), round(100 * ratio), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.fill(QColor("white"))

    def draw(key, x, y):
        with QPainter(image) as painter:
            kept.draw(painter, key, x, y, box, lambda on: drawn.append(key) or on.fillRect(box, QColor("black")))

    step, further = 1 / PHASES / ratio, 10 + 36 / ratio
    draw("a", 10, 10)
    draw("a", 10 + 7 / ratio, 10 - 3 / ratio)  # whole device pixels away
    draw("a", 10 + 0.4 * step, 10)
    assert drawn == ["a"]
    draw("b", 10, 10)
    draw("a", 10 + step, 10)
    assert drawn == ["a", "b", "a"]
    kept.finish()
    draw("b", further, 10)
    assert drawn == ["a", "b", "a"]
    kept.finish()
    draw("b", further, 10)  # was drawn in the last round
    draw("a", further, 10)  # was not
    assert drawn == ["a", "b", "a", "a"]
    inside, outside = QPointF(further + 4, 14) * ratio, QPointF(further + 11, 14) * ratio
    assert image.pixelColor(inside.toPoint()) == QColor("black")
    assert image.pixelColor(outside.toPoint()) == QColor("white")


@pytest.mark.parametrize("wide, high", [(-5, 8), (8, -5), (0, 8), (float("nan"), 8), (5000, 8), (900, 900)])
def test_a_piece_without_room_or_too_large_is_drawn_at_once(qapp, wide, high):
    kept, drawn, image = Pieces(), [], QImage(20, 20, QImage.Format.Format_RGB32)
    for _ in range(2):
        with QPainter(image) as painter:
            kept.draw(painter, "key", 5, 5, QRectF(0, 0, wide, high), lambda _on: drawn.append(1))
    assert drawn == [1, 1]


@pytest.mark.parametrize("size", [(40, 200), (200, 20), (10, 10), (1, 1), (300, 60)])
def test_a_band_with_hardly_any_room_is_drawn(window, size):
    for scale in (1.0, 2.0):
        window.text_scale = scale
        window.apply_look()
        band = SectionPicture(window)
        band.setMinimumHeight(0)
        band.show_rig(window.session)
        band.resize(*size)
        assert band.grab().width() == size[0]
        row = next(iter(window.findChildren(LedgerScale)))
        row.resize(*size)
        row.grab()
        band.deleteLater()


@pytest.mark.parametrize("scale", [0.2, 1.0, 3.3333, 14.0])
def test_a_scale_is_stepped_down_by_two_percent_at_the_most(scale):
    assert scale / 1.02 < stepped(scale) <= scale * (1 + 1e-9)
    assert stepped(stepped(scale) * 1.0001) == stepped(scale)


@pytest.mark.parametrize("palette", [DAY, NIGHT])
def test_an_opaque_colour_stands_for_a_transparent_one(palette):
    image = QImage(1, 1, QImage.Format.Format_RGB32)
    image.fill(palette.color("paper"))
    with QPainter(image) as painter:
        painter.fillRect(0, 0, 1, 1, palette.color("light", 150))
    blended, mixed = image.pixelColor(0, 0), palette.over("light", 150, palette.color("paper"))
    for own in ("red", "green", "blue"):
        assert abs(getattr(blended, own)() - getattr(mixed, own)()) <= 1
    assert mixed.alpha() == 255


def test_a_tables_cell_is_set_anew_only_where_it_reads_differently(qtbot):
    table = TextTable("Table", ("One", "Two"), stretch=1)
    qtbot.addWidget(table)
    table.show_rows([["a", "b"], ["c", "d"]], verdicts=[Verdict.HOLDS, Verdict.FAILS], palette=DAY)
    items = [table.item(row, column) for row in range(2) for column in range(2)]
    changed = []
    table.model().dataChanged.connect(lambda first, *_: changed.append((first.row(), first.column())))
    table.show_rows([["a", "b"], ["c", "e"]], verdicts=[Verdict.HOLDS, Verdict.FAILS], palette=DAY)
    assert [table.item(0, 0), table.item(0, 1), table.item(1, 0)] == items[:3]
    assert (set(changed), table.item(1, 1).text()) == ({(1, 1)}, "e")
    table.show_rows([["a", "b"], ["c", "e"]], verdicts=[Verdict.TIGHT, Verdict.FAILS], palette=DAY)
    assert "tight" in table.item(0, 0).data(11)
    table.show_rows([["a", "b"]], verdicts=[Verdict.TIGHT], palette=NIGHT)
    assert table.rowCount() == 1


def test_paragraphs_are_set_one_by_one_and_never_read_as_markup(qtbot):
    text = Paragraphs("Arithmetic")
    qtbot.addWidget(text)
    text.resize(200, 10)
    text.show()
    text.show_lines(["<b>one</b>", "two", "three"])
    three = text.height()
    blocks = [text.document().findBlockByNumber(number) for number in range(3)]
    assert [block.text() for block in blocks] == ["<b>one</b>", "two", "three"]
    changes = []
    text.document().contentsChange.connect(lambda at, gone, come: changes.append((at, gone, come)))
    text.show_lines(["<b>one</b>", "2", "three"])
    assert changes == [(blocks[1].position(), 3, 1)]
    assert (text.toPlainText(), text.lines) == ("<b>one</b>\n2\nthree", ("<b>one</b>", "2", "three"))
    assert text.height() == three
    text.show_lines(["a word and another " * 12])
    assert text.height() > three
    assert text.document().blockCount() == 1
    text.show_lines(())
    assert text.toPlainText() == ""
    assert blocks[0].blockFormat().textIndent() <= 0


def as_high_as_its_entries(found):
    entries = sum(found.sizeHintForRow(row) for row in range(found.count()))
    return min(entries + 6, round(found.fontInfo().pixelSize() * MAX_EM))


def test_the_list_of_findings_follows_its_width(window):
    window.show_step("cooling")
    found, heights = window.margin.list, set()
    for width in (260, 700):
        window.below.setSizes([170, 1100 - width, width])
        settled()
        heights.add(found.height())
        assert found.height() == as_high_as_its_entries(found)
    assert len(heights) == 2


def test_the_list_of_findings_is_as_high_as_its_entries_whatever_they_become(window):
    found = window.margin.list
    for width in (1280, 900):
        window.resize(width, 800)
        for step in ("light_path", "cooling", "scales", "travel", "ready", "field", "guide_log"):
            window.show_step(step)
            for length in (12.9, 12.2):
                window.session.set_length("ring", length)
                settled()
                assert found.height() == as_high_as_its_entries(found), step


def test_paragraphs_leave_the_wheel_and_tab_to_what_they_stand_in(window):
    text, at = window.margin.arithmetic, QPointF(20, 10)
    settled()
    size = text.document().size()
    for keys in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier):
        none, phase = Qt.MouseButton.NoButton, Qt.ScrollPhase.NoScrollPhase
        turn = QWheelEvent(at, text.mapToGlobal(at), QPoint(), QPoint(0, -240), none, keys, phase, False)
        QApplication.sendEvent(text.viewport(), turn)
        assert not turn.isAccepted()
    assert (text.document().size(), text.verticalScrollBar().value()) == (size, 0)
    text.setFocus()
    QTest.keyClick(text, Qt.Key.Key_Tab)
    assert QApplication.focusWidget() is not text
