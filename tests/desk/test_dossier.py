"""The Dossier sheet, driven in the real window: pages, exports, history, differences, figures, the one file."""

import json
import zipfile

import pypdf
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog

from tests.desk.test_connect_sheets import sheet_of  # noqa: F401 (a fixture)
from tests.desk.test_light_sheets import texts
from wyntaxis.core.history.states import read_history
from wyntaxis.core.rig.store import load
from wyntaxis.desk.ledger_row import value_text


@pytest.fixture
def sheet(sheet_of):  # noqa: F811
    """The sheet, with a single short chapter chosen, so that pages come quickly."""
    found = sheet_of("dossier")
    choose(found, "site")
    return found


def choose(sheet, *keys):
    """Choose some chapters."""
    for row in range(sheet.chapters.count()):
        item = sheet.chapters.item(row)
        on = item.data(Qt.ItemDataRole.UserRole) in keys
        item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)


def paged(sheet, qtbot):
    """Wait for the pages of what is chosen."""
    sheet.make_preview()
    qtbot.waitUntil(lambda: sheet.preview.count > 0 and not sheet.job.running)


def written(sheet, qtbot):
    qtbot.waitUntil(lambda: not sheet.exports.job.running)


def test_pages_come_are_turned_and_stay_quiet_without_a_chapter(sheet, qtbot):
    paged(sheet, qtbot)
    assert "1 of 20 chapters" in sheet.state.text()
    preview = sheet.preview
    assert preview.place.text() == f"page 1 of {preview.count}"
    assert "Tarnfell triplet, reduced" in preview.page.accessibleDescription()
    QTest.keyClick(preview, Qt.Key.Key_PageDown)
    assert preview.page.page == 1
    assert "Latitude" in preview.page.accessibleDescription()
    assert not preview.forth_button.isEnabled()
    QTest.keyClick(preview, Qt.Key.Key_PageUp)
    assert preview.page.page == 0
    image = preview.page.grab().toImage()
    assert image.pixelColor(30, 30).lightness() > 200
    sheet.window().set_palette_by_name("night")
    assert preview.page.grab().toImage().pixelColor(30, 30).lightness() < 60, "paper is dark by night"
    choose(sheet)
    assert sheet.state.text() == "Choose at least one chapter."
    assert sheet.keys() == []


def test_exports_by_suffix_and_refusals(sheet, qtbot, tmp_path, monkeypatch):
    for name in ("d.html", "d.csv", "d.pdf"):
        sheet.exports.export(tmp_path / name)
        written(sheet, qtbot)
        assert (tmp_path / name).stat().st_size > 100
    assert len(pypdf.PdfReader(tmp_path / "d.pdf").pages) == 2
    sheet.lamp.setCurrentIndex(1)
    sheet.exports.export_card(tmp_path / "card.pdf")
    written(sheet, qtbot)
    assert "red lamp" in pypdf.PdfReader(tmp_path / "card.pdf").pages[0].extract_text()
    reported = []
    sheet.session.refused.connect(reported.append)
    sheet.exports.export(tmp_path / "d.doc")
    sheet.exports.export_card(tmp_path / "d.csv")
    sheet.exports.export(tmp_path / "no" / "such" / "d.html")
    written(sheet, qtbot)
    sheet.private.setChecked(True)
    sheet.exports.export_zip(tmp_path / "all.zip")
    written(sheet, qtbot)
    with zipfile.ZipFile(tmp_path / "all.zip") as packed:
        assert not any("PG-00417" in packed.read(name).decode() for name in packed.namelist())
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a: (str(tmp_path / "copy"), "Rigs (*.json)"))
    sheet.window().menus.by_name["Save a private copy …"].trigger()
    assert "PG-00417" not in (tmp_path / "copy.rig.json").read_text("utf-8")
    assert [
        "no kind of dossier" in reported[0],
        "written as .pdf or .html" in reported[1],
        "cannot be saved" in reported[2],
    ] == [True] * 3
    assert len(reported) == 3
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *_a: (str(tmp_path / "asked"), "HTML in one file (*.html)")
    )
    choose(sheet, "wiring", "site")
    sheet.exports.ask_export()
    written(sheet, qtbot)
    page = (tmp_path / "asked.html").read_text("utf-8")
    assert "PG-00417" not in page
    assert "Latitude" not in page


def test_the_history_tells_why_compares_and_takes_back(sheet, qtbot, tmp_path):
    session, path = sheet.session, tmp_path / "a.rig.json"
    sheet.history_section.open()
    panel = sheet.history_panel
    assert "begins with the first save" in panel.state.text()
    session.save(path)
    before = session.document
    session.set_value(("train", 3, "length_mm"), 12.2, "Ring: length")
    qtbot.keyClicks(panel.reason, "corners bent")
    session.save(path)
    assert panel.reason.text() == "", "a reason is for one save"
    rows = texts(panel.table)
    assert [row[1:3] for row in rows] == [["Ring: length", "corners bent"], ["the history begins", ""]]
    panel.table.selectRow(1)
    panel.compare_button.click()
    differ = sheet.differences_panel
    qtbot.waitUntil(lambda: differ.found is not None and not differ.job.running)
    assert texts(differ.values)[0][:3] == ["ring 12.9: length", "12.9", "12.2"]
    assert texts(differ.values)[0][4] == "corners bent"
    assert "Flats: spacing: ring 12.9 → 12.2" in differ.invalidated_text.text()
    assert any(row[0].startswith("The sensor is in place") for row in texts(differ.flips))
    panel.back_button.click()
    assert session.document == before
    assert session.history.undo_label.startswith("As on 2")
    session.undo()
    assert session.rig.train[3].length_mm == 12.2
    assert [entry.reason for entry in read_history(path).entries] == [None, "corners bent"]


def test_a_damaged_history_is_told_and_loses_nothing(sheet, tmp_path):
    session, path = sheet.session, tmp_path / "a.rig.json"
    session.save(path)
    place = tmp_path / "a.history.jsonl"
    place.write_bytes(place.read_bytes() + b'{"format":"wyntaxis-his')
    sheet.history_section.open()
    assert "1 line of the history cannot be used: torn" in sheet.history_panel.state.text()
    place.write_bytes(b"my own notes\n")
    sheet.history_panel.refresh()
    assert "is no history of a rig" in sheet.history_panel.state.text()
    session.set_value(("name",), "Another", "Name")
    notes = session.save(path)
    assert "history was not written" in notes[0]
    assert load(path).rig.name == "Another"


def test_a_swap_is_tried_before_it_is_made(sheet, qtbot):
    session = sheet.session
    sheet.differences_section.open()
    panel, before = sheet.differences_panel, session.rig
    titles = [panel.part.itemText(place) for place in range(panel.part.count())]
    panel.part.setCurrentIndex(titles.index("ring 12.9"))
    piece = next(place for place, e in enumerate(session.stock.shelf.parts) if e.part.kind == "spacer")
    panel.piece.setCurrentIndex(piece)
    panel.try_swap()
    qtbot.waitUntil(lambda: panel.found is not None and not panel.job.running)
    assert session.rig == before, "trying changes nothing"
    assert panel.state.text().startswith("If it were made: ")
    assert "Flats" in panel.invalidated_text.text()
    assert "Darks" not in panel.invalidated_text.text()
    panel.swap_button.click()
    assert session.rig.train[3].id == "ring"
    assert session.rig.train[3].length_mm == session.stock.shelf.parts[piece].part.length_mm
    session.undo()
    assert session.rig == before


def test_variants_and_files_are_compared(sheet, qtbot, tmp_path):
    session, path = sheet.session, tmp_path / "other.rig.json"
    sheet.differences_section.open()
    panel = sheet.differences_panel
    place = next(i for i in range(panel.against.count()) if panel.against.itemText(i).startswith("train: "))
    panel.against.setCurrentIndex(place)
    panel.against.activated.emit(place)
    qtbot.waitUntil(lambda: panel.found is not None and not panel.job.running)
    assert "Solved scale" in panel.invalidated_text.text()
    session.save(path)
    panel.found = None
    panel.compare_with_file(path)
    qtbot.waitUntil(lambda: panel.found is not None and not panel.job.running)
    assert panel.state.text() == "Nothing differs."
    reported = []
    session.refused.connect(reported.append)
    panel.compare_with_file(tmp_path / "gone.rig.json")
    qtbot.waitUntil(lambda: bool(reported))
    assert "cannot be read" in reported[0]


def test_figures_that_differ_are_noted_taken_and_forgotten(sheet):
    session = sheet.session
    session.set_value(("sources",), None, "Forget what others give")
    before = session.rig
    sheet.figures_section.open()
    panel, reported = sheet.figures_panel, []
    session.refused.connect(reported.append)
    panel.value.setCurrentIndex(panel.paths.index("train[0].required_back_focus_mm"))
    panel.note()
    panel.figure.setText("61,2 mm")
    panel.note()
    assert ["type the other figure" in reported[0], "say who gives" in reported[1]] == [True, True]
    panel.source.setText("a dealer")
    panel.note()
    assert texts(panel.table) == [["Aldous 0.76x: required distance", "61.5", "61.2", "mm", "a dealer", ""]]
    row = session.evaluation.rows["back_focus_error_mm"]
    assert "61.2 mm (a dealer)" in row.conflicting[0].words
    assert "figures 61.2 to 61.5 mm" in value_text(row, whole=False)
    panel.table.selectRow(0)
    panel.take()
    assert "say why" in reported[2]
    panel.reason.setText("flat to the corner")
    panel.take()
    assert session.rig.train[0].required_back_focus_mm == 61.2
    assert texts(panel.table)[0][1:3] == ["61.2", "61.5"]
    assert "flat to the corner" in texts(panel.table)[0][5]
    panel.table.selectRow(0)
    panel.drop()
    assert texts(panel.table) == []
    while session.history.undo_label != "Forget what others give":
        session.undo()
    assert session.rig == before


def test_everything_in_one_file_is_opened_again(sheet, qtbot, tmp_path, monkeypatch):
    session, window = sheet.session, sheet.window()
    session.save(tmp_path / "a.rig.json")
    sheet.exports.export_zip(tmp_path / "all.zip")
    written(sheet, qtbot)
    assert str(tmp_path / "all.zip") in sheet.written.text()
    out = tmp_path / "new"
    out.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a: str(out))
    saved = session.document
    assert window.files.open_path(tmp_path / "all.zip")
    assert window.session.path == out / "a.rig.json"
    assert window.session.document == saved
    assert json.loads((out / "evidence.json").read_text("utf-8"))["numbers"]
    assert not window.files.unpack(tmp_path / "all.zip", out), "nothing is written over"
