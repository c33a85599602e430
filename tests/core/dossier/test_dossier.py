"""The rig on paper: chapters, what is drawn, printed and left out; and everything in one file, there and back."""

import datetime
import hashlib
import io
import json
import os
import re
import socket
import zipfile
from html.parser import HTMLParser
from pathlib import Path

import pypdf
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from tinyhtml5.parser import HTMLParser as HTMLTree

from tests.rigs import clean_document
from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.dossier import bundle
from wyntaxis.core.dossier.blocks import Lines, Photo, Picture, Table, Words
from wyntaxis.core.dossier.bundle import bundle_bytes, left_out_photos, read_bundle, take_in, unpack
from wyntaxis.core.dossier.card import card_of
from wyntaxis.core.dossier.charts import Chart, Series, chart_svg, ticks
from wyntaxis.core.dossier.dossier import CHAPTERS, as_csv, chosen, dossier_of
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.printing import card_html, card_pdf, dossier_html, pdf_of
from wyntaxis.core.dossier.private import scrubbed, without_private
from wyntaxis.core.dossier.section_picture import differing_svg, section_svg
from wyntaxis.core.dossier.summary_text import summary_text
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, load_maps
from wyntaxis.core.files.errors import CancelledError, InputError
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.history.recording import save
from wyntaxis.core.history.states import read_history
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.shelf import Shelf, load_own_shelf
from wyntaxis.core.rig.store import load, validated

VOID = {"meta", "col", "img", "br", "line", "rect", "circle", "polyline", "polygon", "path"}


@pytest.fixture(scope="module")
def rig():
    return load(demo.rig_path("tarnfell-triplet-reduced")).rig


@pytest.fixture(scope="module")
def made(rig):
    return dossier_of(DossierInput(evaluate(rig)))


@pytest.fixture(scope="module")
def html(made):
    return dossier_html(made)


class Checked(HTMLParser):
    """A parser that holds what is opened against what is closed, and notes ids, links and what would be fetched."""

    def __init__(self, text):
        super().__init__()
        self.open, self.faults, self.ids, self.links, self.fetched, self.tags = [], [], [], [], [], set()
        self.feed(text)
        self.faults += [f"{tag} is left open" for tag in self.open]

    def handle_starttag(self, tag, attrs):
        reported = dict(attrs)
        self.tags.add(tag)
        self.ids += [reported["id"]] if "id" in reported else []
        self.links += [reported["href"]] if "href" in reported else []
        self.fetched += [reported[key] for key in ("src", "data", "action") if key in reported]
        self.faults += [f"{key} of {tag}" for key in reported if key.startswith("on")]
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag):
        if tag in VOID:
            return
        if not self.open or self.open.pop() != tag:
            self.faults.append(f"{tag} closed out of turn")


def texts(found):
    """All words of a dossier."""
    for chapter in found.chapters:
        for block in chapter.blocks:
            match block:
                case Table():
                    yield from (block.title, *(cell for row in block.rows for cell in row))
                case Lines():
                    yield from (block.title, *block.lines)
                case Words():
                    yield from (block.title, block.text)
                case Picture():
                    yield from (block.markup, block.caption)
                case Photo():
                    yield from (block.file, block.caption)


def table_of(found, chapter, title):
    blocks = next(own for own in found.chapters if own.key == chapter).blocks
    return next(block for block in blocks if isinstance(block, Table) and block.title.startswith(title))


# Chapters


NOT_MADE = {"photographs", "measured", "incidents"}
"""Chapters of what the demo rig does not hold."""


def test_every_chapter_tells_what_the_rig_holds(made, rig):
    assert {chapter.key for chapter in made.chapters} == {kind.key for kind in CHAPTERS} - NOT_MADE
    parts = table_of(made, "light_path", "Parts")
    assert [row[1] for row in parts.rows[1:6]] == [part.title for part in rig.train]
    assert parts.rows[2][3] == "17.5 ± 0.1"
    devices = table_of(made, "wiring", "Devices")
    camera = next(row for row in devices.rows if row[1] == "camera")
    assert camera[3] == "PG-00417, 3f2a:0261"
    typed = table_of(made, "typing", "capture program")
    focal = next(row for row in typed.rows if row[0] == "Effective focal length")
    assert focal[1:5] == ("513.76", "mm", "676", "✕ differs")
    assert typed.rows.index(focal) in typed.bold
    numbers = table_of(made, "numbers", "Light path")
    assert any(row[0] == "Back focus error" and "0.716" in row[1] and row[2] == "✕ fails" for row in numbers.rows)
    reported = list(texts(made))
    assert any("61.500 + 0.684 = 62.184 mm" in text for text in reported)
    assert any("ring 12.9 (12.9 mm" in text for text in reported)


def test_settings_tell_why_and_since_when(tmp_path, rig):
    path = tmp_path / "a.rig.json"
    rig = edit.apply(rig, edit.Change.of("Bare", ("sources",), None))
    save(rig, path, ("Begun",))
    place = ("devices", 0, "settings", "gain", "value")
    later = edit.apply(rig, edit.Change.of("Gain", place, 140))
    save(later, path, ("Gain",), "less clipping")
    noted = edit.apply(
        later, edit.Change.of("Why", ("sources", "devices[0].settings.offset.value"), {"reason": "tried"})
    )
    found = dossier_of(DossierInput(evaluate(noted), read_history(path)), ["settings", "history"])
    rows = {row[0]: row for row in table_of(found, "settings", "Pellucid Grand").rows}
    assert rows["Gain"][1].startswith("140")
    assert rows["Gain"][3].startswith("less clipping (since 2")
    assert rows["Offset"][3] == "tried"
    assert table_of(found, "history", "").rows[0][2] == "less clipping"


def test_evidence_has_its_age():
    import datetime

    document = clean_document()
    document["measured"] = {
        "effective_focal_length_mm": {
            "value": 513.7,
            "standard_uncertainty": 0.2,
            "evidence": {"method": "solved_frame", "file": "m.fits", "date": "2026-11-01T20:00:00Z"},
        }
    }
    found = dossier_of(DossierInput(evaluate(validated(document)), today=datetime.date(2026, 11, 26)), ["numbers"])
    row = next(row for row in table_of(found, "numbers", "Scales").rows if row[0] == "Effective focal length")
    assert "measured 513.70 ± 0.20 mm" in row[1]
    assert "measured by solved frame m.fits, 25 days old" in row[3]


def test_chapters_are_chosen_and_making_can_be_cancelled(rig):
    given_ = DossierInput(evaluate(rig))
    assert [chapter.key for chapter in dossier_of(given_, ["typing", "glance"]).chapters] == ["glance", "typing"]
    assert chosen(None) == CHAPTERS
    for wrong, words in ((["nothing"], "there is no chapter"), ([], "at least one")):
        with pytest.raises(InputError, match=words):
            chosen(wrong)

    def stop(done, _of):
        if done == 2:
            raise CancelledError

    with pytest.raises(CancelledError):
        dossier_of(given_, watch=stop)


def test_an_empty_rig_and_one_without_anything_make_a_dossier():
    telescope = {"id": "t", "focal_length_mm": 500, "aperture_mm": 80}
    bare = {"format": "wyntaxis-rig", "version": 1, "name": "x", "telescope": telescope, "train": []}
    found = dossier_of(DossierInput(evaluate(validated(bare))))
    assert "light_path" in {chapter.key for chapter in found.chapters}
    assert Checked(dossier_html(found)).faults == []
    assert card_of(DossierInput(evaluate(validated(bare)))).start


# HTML


def test_the_html_is_whole_and_fetches_nothing(html):
    strict = HTMLTree()
    strict.parse(html)
    assert strict.errors == [], "valid by the HTML standard's parser"
    checked = Checked(html)
    assert checked.faults == []
    assert len(checked.ids) == len(set(checked.ids))
    assert all(link.startswith("#") and link[1:] in checked.ids for link in checked.links)
    assert all(source.startswith("data:") for source in checked.fetched)
    assert "script" not in checked.tags
    assert re.findall(r"url\((?!\"data:)", html) == []
    assert "default-src 'none'" in html


EVIL = "\"></title><script>alert(1)</script><img src=x onerror=alert(1)>'}}{{ 7*7 }}</style>"


def test_foreign_text_is_never_markup():
    document = clean_document()
    document["name"] = EVIL
    document["note"] = EVIL
    for thing in (document["telescope"], *document["train"], *document["devices"], *document["supplies"]):
        thing["name"] = EVIL
    document["train"][0]["mark"] = EVIL
    document["records"] = [{"id": "p", "name": EVIL, "values": {"telescope.name": EVIL}}]
    evaluation = evaluate(validated(document))
    for text in (dossier_html(dossier_of(DossierInput(evaluation))), card_html(card_of(DossierInput(evaluation)))):
        checked = Checked(text)
        assert checked.faults == []
        assert not {"script", "img"} & checked.tags
        assert "{{ 7*7 }}" in text.replace("&#39;", "'"), "and is no template"


# PDF


def test_the_pdf_is_tagged_searchable_and_carries_its_fonts(rig, monkeypatch):
    def reached(*_a):
        raise AssertionError("the network was reached for")

    monkeypatch.setattr(socket.socket, "connect", reached)
    few = dossier_of(DossierInput(evaluate(rig)), ["glance", "light_path", "typing"])
    reader = pypdf.PdfReader(io.BytesIO(pdf_of(dossier_html(few, "Letter"))))
    root = reader.trailer["/Root"]
    assert root["/MarkInfo"]["/Marked"]
    assert "/StructTreeRoot" in root
    assert root["/Lang"] == "en"
    assert [float(side) for side in reader.pages[0].mediabox[2:]] == [612, 792]
    text = "\n".join(page.extract_text() for page in reader.pages)
    for words in ("Tarnfell triplet, reduced", "Back focus error", "What to type where", "Pellucid Grand"):
        assert words in text
    fonts = [own.get_object() for page in reader.pages for own in page["/Resources"]["/Font"].values()]
    assert fonts
    for font in fonts:
        (inner,) = font["/DescendantFonts"]
        assert {"/FontFile", "/FontFile2", "/FontFile3"} & set(inner.get_object()["/FontDescriptor"].get_object())
    assert re.search(r"What to type where[ .]*\d+", reader.pages[0].extract_text()), "the contents have page numbers"


def test_nothing_outside_is_read_for_a_pdf(tmp_path):
    secret = tmp_path / "secret.txt"
    secret.write_text("the secret words", "utf-8")
    at = f"file://{secret}"
    html = f'<link rel="stylesheet" href="{at}"><img src="{at}"><a href="{at}" rel=attachment>x</a>'
    data = pdf_of(f'<style>@import "http://127.0.0.1:9/x.css";</style>{html}<p>plain</p>')
    assert b"secret words" not in data
    assert pypdf.PdfReader(io.BytesIO(data)).attachments == {}


def test_a_card_is_one_page_by_day_and_by_lamp():
    document = clean_document()
    steps = ("connect", "cool", "unpark", "slew", "solve", "focus", "guide", "park", "warm_up", "disconnect")
    document["plan"]["steps"] = [{"do": do} for do in steps]
    crowded = load(demo.rig_path("tarnfell-triplet-reduced")).rig
    for rig in (validated(document), crowded):
        card = card_of(DossierInput(evaluate(rig)))
        for lamp in (False, True):
            pages = pypdf.PdfReader(io.BytesIO(card_pdf(card, "Letter", lamp=lamp))).pages
            assert len(pages) == 1
            assert "Cool to" in pages[0].extract_text()
    assert card.end[-1] in ("Outlets off", "Disconnect")
    assert any("0.72 mm too far" in title for title in card.still_open)


def test_a_summary_is_a_page_of_text_without_whose_and_where():
    document = private_document()
    document["train"][3]["length_mm"] = 12.9  # 0.72 mm too long
    document["train"][0]["note"] = "PG-1"
    text = summary_text(evaluate(validated(document)))
    lines = text.splitlines()
    assert len(lines) < 66
    assert any(line.startswith("     12.9 mm  ") for line in lines), "with lengths"
    assert "  Back focus built: 62.900 ± 0.059 mm, fails" in lines
    assert any("0.72 mm too far" in line for line in lines)
    for secret in ("Eldridge", "Tarnfell", "PG-1", "hut-box", "/home", "47.3", "11.1"):
        assert secret.casefold() not in text.casefold(), secret


def test_a_card_has_targets_exposures_and_own_conditions():
    document = clean_document()
    document["plan"]["steps"] = [{"do": "connect"}, {"do": "slew"}] + [
        {"do": "sequence", "filter": name, "frames": 1, "exposure_s": 240, "block": "rounds", "repeat": 5}
        for name in "LR"
    ]
    document["plan"]["targets"] = [
        {
            "name": "Lantern knot",
            "ra_deg": 63.5,
            "dec_deg": 40,
            "angle_deg": 20,
            "start": "22:30",
            "min_altitude_deg": 30,
        }
    ]
    document["conditions"] = [
        {"id": "level", "text": "Levelled"}, {"id": "mask", "text": "The mask is off", "before_dark": False},
    ]  # fmt: skip
    card = card_of(DossierInput(evaluate(validated(document))))
    assert card.targets[0].startswith("Lantern knot: 04h14m00.00s +40°00′00.0″, ")
    assert card.targets[0].endswith("angle 20°, from 22:30, over 30°")
    assert card.exposures == ("L, R: 1 frame of 240 s × 5 times",), "equal things once"
    assert card.start == ("Levelled", "Connect every device", "Slew to the object", "The mask is off")
    assert ("Calibration pulse", "445 ms") in card.settings
    assert ("Plate solver", "1.49 to 1.64 ″/px") in card.settings
    document["supplies"] = [{"id": "battery", "name": "Hut battery", "kind": "power_box", "voltage_v": 12.8}]
    document["devices"][0]["power"]["outlet"] = "A1"
    again = card_of(DossierInput(evaluate(validated(document)), today=datetime.date(2026, 12, 2)))
    assert ("Hut battery: outlets", "A1 Pellucid Grand") in again.settings
    dark, moon, own = again.tonight
    assert dark.startswith("Dark ")
    assert dark.endswith(" h")
    assert "% lit" in moon
    assert own.startswith("Lantern knot: meridian ")
    assert "° away" in own
    for paper in ("A5", "A6"):
        for lamp in (False, True):
            pages = pypdf.PdfReader(io.BytesIO(card_pdf(again, paper, lamp=lamp))).pages
            assert len(pages) == 1
            assert "Lantern knot" in pages[0].extract_text()
    private = card_of(DossierInput(evaluate(validated(document)), private=True))
    assert private.tonight == ()


def test_what_does_not_fit_on_small_paper_is_left_out_by_rank():
    document = clean_document()
    document["conditions"] = [{"id": f"c{k}", "text": f"Condition {k} " + "of many words " * 4} for k in range(16)]
    document["train"][3]["length_mm"] = 12.9
    card = card_of(DossierInput(evaluate(validated(document))))
    assert card.still_open
    text = pypdf.PdfReader(io.BytesIO(card_pdf(card, "A6"))).pages[0].extract_text()
    assert "Still open" not in text
    assert "Condition 0" in text


# Private


def private_document():
    document = clean_document()
    document["name"] = "Tarnfell hill, main"
    document["observer"] = "Jo Eldridge"
    document["site"]["name"] = "Tarnfell"
    document["devices"][0]["connection"] |= {"host": "hut-box.lan", "port": "/dev/serial/by-id/usb-PG-1-if00"}
    document["devices"][0]["note"] = "bought for Tarnfell by jo eldridge, kept in /home/jo/rigs"
    document["records"] = [
        {
            "id": "p", "name": "Planner at Tarnfell",
            "values": {"site.name": "Tarnfell", "site.latitude_deg": 47.3, "observer": "Jo Eldridge", "pixel_um": 3.9},
            "entries": [{"name": "camera", "serial_number": "PG-1"}],
        }
    ]  # fmt: skip
    return document


SECRETS = ("tarnfell", "eldridge", "hut-box", "pg-1", "pp-1", "r7-1", "g-1", "47.3000", "11.1000", "/home/jo")


def test_a_private_dossier_holds_none_of_the_private_texts(tmp_path):
    rig = validated(private_document())
    path = tmp_path / "a.rig.json"
    save(rig, path, ("Tarnfell",), "for Jo Eldridge")
    given_ = DossierInput(evaluate(rig), read_history(path), folder=tmp_path, private=True)
    found = dossier_of(given_)
    assert {"site", "history"}.isdisjoint({chapter.key for chapter in found.chapters})
    for text in (dossier_html(found), as_csv(found), card_html(card_of(given_))):
        plain = re.sub(r"base64,[A-Za-z0-9+/=]+", "", text).lower()
        for secret in SECRETS:
            assert secret not in plain, secret
    open_one = "".join(texts(dossier_of(DossierInput(evaluate(rig), read_history(path))))).lower()
    assert all(secret in open_one for secret in SECRETS if secret not in ("/home/jo",))
    bare, _ = without_private(rig)
    seen = [evaluate(own).rows["depth_of_focus_seeing_um"].best for own in (rig, bare)]
    assert seen[0] == seen[1], "the seeing is no secret"


def test_private_texts_that_are_also_kinds_or_ids_leave_the_rig_whole():
    document = private_document()
    document["devices"][0]["identity"]["serial_number"] = "camera"
    document["devices"][2]["identity"]["serial_number"] = "A&B <c>"
    document["train"][0]["name"] = "lent by A&B <c>"
    document["train"][3]["name"] = "the camera's ring"
    found = dossier_of(DossierInput(evaluate(validated(document)), private=True), ["glance", "light_path"])
    page = dossier_html(found)
    assert Checked(page).faults == []
    assert "A&amp;B" not in page
    assert "lent by (left out)" in page
    assert "the (left out)&#39;s ring" in page


PRIVATE_TEXTS = [
    ("/dev/serial/by-id/usb-Glide_500-if00", "/dev/serial/by-id/(left out)"),
    ("/dev/serial/by-path/pci-0000:00:14.0", "/dev/serial/by-path/(left out)"),
    ("pictures/jo-eldridge_front.jpg", "pictures/(left out)_front.jpg"),
    ("pictures/JoEldridge.png", "pictures/(left out).png"),
    ("by J. Eldridge", "by J. (left out)"),
    ("/mnt/hut-box/lights", "/mnt/(left out)/lights"),
    ("hut-box.lan:7624", "(left out):7624"),
    ("//pier/share/x.fits", "//(left out)/share/x.fits"),
    ("tcp://elsewhere:11", "tcp://(left out)"),
    ("pilot@pier.example wrote it", "(left out) wrote it"),
    ("at 192.168.1.20", "at (left out)"),
    ("usb-PG-1-if00", "usb-(left out)-if00"),
    ("PG-12 and PG-1", "PG-12 and (left out)"),
    ("serial number 500", "serial number (left out)"),
    # Numbers, versions and other words stay as they are.
    ("5000 Mbit/s", "5000 Mbit/s"),
    ("500 Mbit/s, full well 50000 e⁻", "500 Mbit/s, full well 50000 e⁻"),
    ("serial 5000", "serial 5000"),
    ("version 2.1.0.4", "version 2.1.0.4"),
    ("Tarnfells", "Tarnfells"),
    ("61.5 + 0.68 = 62.18 mm // 2", "61.5 + 0.68 = 62.18 mm // 2"),
]


@pytest.mark.parametrize(("text", "shown"), PRIVATE_TEXTS)
def test_private_texts_are_found_as_whole_words_and_numbers_are_never_touched(text, shown):
    document = private_document()
    document["devices"][1]["identity"]["serial_number"] = "500"
    _, secrets = without_private(validated(document))
    assert scrubbed(text, secrets) == shown


def test_nothing_private_in_ports_records_and_photographs_of_a_private_dossier(tmp_path):
    document = private_document()
    document["devices"][1]["identity"]["serial_number"] = "500"
    document["devices"][1]["connection"] = {"kind": "usb", "port": "/dev/serial/by-id/usb-Maker_500-if00"}
    document["devices"][1]["settings"] = {"full_well_e": {"value": 50000}}
    document["records"][0]["values"] |= {"focuser.port": "/dev/serial/by-id/usb-Maker_500-if00"}
    document["photos"] = [{"file": "Jo_Eldridge-at-hut-box.png", "caption": "the pier of Jo Eldridge, 20231234"}]
    document["devices"][2]["identity"]["serial_number"] = "20231234"
    document["note"] = "bought with 20231234, 500 mm away"
    for suffix in (".html", ".csv", ".pdf"):
        path, out = tmp_path / "a.rig.json", tmp_path / f"out{suffix}"
        path.write_text(json.dumps(document), "utf-8")
        assert main(["dossier", str(path), "--out", str(out), "--private"]) == 0
        if suffix == ".pdf":
            reported = "".join(page.extract_text() for page in pypdf.PdfReader(out).pages)
        else:
            reported = re.sub(r"base64,[A-Za-z0-9+/=]+", "", out.read_text("utf-8"))
        for secret in ("usb-Maker", "Eldridge", "hut-box", "20231234"):
            assert secret.lower() not in reported.lower(), (suffix, secret)
        assert "(left out)0" not in reported


def test_nothing_turns_a_line_round_on_paper(tmp_path):
    document = clean_document() | {"name": "evil\u202egnp.rig", "note": "a\u2066b"}
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(document), "utf-8")
    for name in ("a.html", "a.csv", "card.html", "a.pdf"):
        arguments = ["dossier", str(path), "--out", str(tmp_path / name)]
        assert main([*arguments, "--card"] if name == "card.html" else arguments) == 0
        data = (tmp_path / name).read_bytes()
        assert "\u202e".encode() not in data
        if name == "a.pdf":
            title = pypdf.PdfReader(tmp_path / name).metadata.title
            assert "\u202e" not in title
            assert "\\u202e" in title


# Drawings


def test_the_section_and_what_changed_in_it(rig):
    text = section_svg(evaluate(rig))
    for words in ("12.9", "M48x0.75", "62.90 built, 62.18 required: +0.72 mm", "Prism: 14 mm", "position angle"):
        assert words in text
    other = edit.remove_part(rig, ("train",), 3)
    changed = differing_svg(evaluate(rig), evaluate(other))
    assert 'stroke-dasharray="6 4"' in changed, "what was taken out is dashed"
    put_in = differing_svg(evaluate(other), evaluate(rig))
    assert 'stroke-width="3"' in put_in, "what was put in is bold"
    assert 'stroke-dasharray="6 4"' not in put_in


@settings(deadline=None)
@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e6))
def test_ticks_are_round_and_inside(low, span):
    found = ticks(low, low + span)
    assert 2 <= len(found) <= 13
    assert all(low - 1e-6 * span <= tick <= low + span + 1e-6 * span for tick in found)


def test_a_chart_with_nothing_or_one_point_is_drawn():
    for series in (Series("", (), ()), Series("a", (1.0,), (2.0,)), Series("b", (1.0, float("nan")), (2.0, 3.0))):
        chart = Chart("t", "x, s", "y, px", (series,), level=0.0)
        assert chart.is_empty == (not series.x)
        assert chart_svg(chart).count("<svg") == 1


# Photographs


def test_photographs_come_from_the_rigs_folder_alone(tmp_path):
    (tmp_path / "home").mkdir()
    Image.new("RGB", (3000, 1000), "teal").save(tmp_path / "home" / "front.png")
    Image.new("RGB", (10, 10)).save(tmp_path / "outside.png")
    (tmp_path / "home" / "broken.png").write_bytes(b"\x89PNG broken")
    (tmp_path / "home" / "link.png").symlink_to(tmp_path / "outside.png")
    document = clean_document()
    names = ("front.png", "../outside.png", str(tmp_path / "outside.png"), "link.png", "broken.png", "gone.png")
    document["photos"] = [{"file": name, "caption": f"view {i}"} for i, name in enumerate(names)]
    evaluation = evaluate(validated(document))
    found = dossier_of(DossierInput(evaluation, folder=tmp_path / "home"), ["photographs"]).chapters[0].blocks
    assert isinstance(found[0], Photo)
    assert found[0].data.startswith("data:image/jpeg;base64,")
    why = [block.text for block in found[1:]]
    assert all("outside the rig's folder" in text for text in why[:3])
    assert "no picture that can be read" in why[3]
    assert "cannot be read" in why[4]
    named = (
        dossier_of(DossierInput(evaluation, folder=tmp_path / "home", photos="named"), ["photographs"])
        .chapters[0]
        .blocks
    )
    assert [block.file for block in named] == list(names)


# Everything in one file


def packed(tmp_path, **more):
    document = clean_document() | more
    document["photos"] = [{"file": "pictures/front.png"}, {"file": "../out.png"}]
    (tmp_path / "pictures").mkdir(parents=True, exist_ok=True)
    Image.new("RGB", (20, 10)).save(tmp_path / "pictures" / "front.png")
    Image.new("RGB", (20, 10)).save(tmp_path.parent / "out.png")
    path = tmp_path / "my rig.rig.json"
    rig = validated(document)
    save(rig, path, ("Begun",), "why not")
    shelf = Shelf.model_validate({"parts": [{"part": {"id": "mine", "kind": "spacer", "length_mm": 4}}]})
    maps = KeyMaps(maps=(KeyMap(name="planner", form="json"),))
    return bundle_bytes(evaluate(rig), rig, "my rig", shelf, maps, "<p>paper</p>", path), rig


def test_everything_goes_into_one_file_and_comes_out_again(tmp_path):
    data, rig = packed(tmp_path / "here")
    place = tmp_path / "all.zip"
    place.write_bytes(data)
    out = tmp_path / "new computer"
    out.mkdir()
    found = unpack(place, out)
    assert load(found.rig).rig == rig
    assert read_history(found.rig).entries == read_history(tmp_path / "here" / "my rig.rig.json").entries
    assert sorted(p.relative_to(out).as_posix() for p in out.rglob("*") if p.is_file()) == [
        "dossier.html", "evidence.json", "key-maps.json", "my rig.history.jsonl", "my rig.rig.json",
        "pictures/front.png", "shelf.json",
    ]  # fmt: skip
    evidence = json.loads((out / "evidence.json").read_text("utf-8"))
    assert {row["id"] for row in evidence["numbers"]} >= {"back_focus_error_mm"}
    own = [tmp_path / name for name in ("own-shelf.json", "own-maps.json")]
    assert take_in(found, *own) == (1, 1)
    assert load_own_shelf(own[0]).find("mine") is not None
    assert load_maps(own[1]).named("planner") is not None
    assert take_in(found, *own) == (0, 0)
    with pytest.raises(InputError, match="is there already"):
        unpack(place, out)


def rezipped(data, change):
    """The ZIP with its files changed."""
    with zipfile.ZipFile(io.BytesIO(data)) as old:
        files = {name: old.read(name) for name in old.namelist()}
    change(files)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as new:
        for name, own in files.items():
            new.writestr(name, own)
    return out.getvalue()


PNG = b"\x89PNG\r\n\x1a\n" + bytes(20)


def listed(files, name, data, *more):
    """Add files to a ZIP and to its list, as somebody who means harm would."""
    contents = json.loads(files["contents.json"])
    for own in (name, *more):
        files[own] = data
        contents["files"][own] = hashlib.sha256(data).hexdigest()
    files["contents.json"] = json.dumps(contents).encode()


HOSTILE = [
    (lambda files: files.update({"../evil.rig.json": b"{}"}), "which is no file of a rig"),
    (lambda files: files.update({"/etc/x": b"{}"}), "which is no file of a rig"),
    (lambda files: files.update({"photographs/../../x.png": b""}), "which is no file of a rig"),
    (lambda files: files.update({"a\\b.rig.json": b"{}"}), "which is no file of a rig"),
    (lambda files: files.update({"run.py": b"import os"}), "which is no file of a rig"),
    *(
        (lambda files, name=f"photographs/{name}": listed(files, name, b"x"), "which is no file of a rig")
        for name in (
            ".config/autostart/x.desktop",
            ".bashrc",
            ".hidden/a.png",
            "shelf.json",
            "a.png.sh",
            "a\u202egnp.png",
            "a\nb.png",
            "a:b.png",
            " a.png",
            "x/.png",
            "nul\0.png",
            "photograph",
        )
    ),
    (lambda files: listed(files, "photographs/A.png", PNG, "photographs/a.png"), "two files that would both be"),
    (lambda files: listed(files, "photographs/a.png", PNG, "photographs/a.png/b.png"), "two files that would both be"),
    (lambda files: listed(files, "photographs/a.png", b"#!/bin/sh"), "which is no picture"),
    (lambda files: listed(files, "photographs/a.jpg", PNG), "which is no picture"),
    (lambda files: listed(files, ".x.rig.json", b"{}"), "which is no file of a rig"),
    (lambda files: files.update({"shelf.json": b"{}"}), "is not as it was packed"),
    (lambda files: files.update({"second.rig.json": b"{}"}), "is not as it was packed"),
    (lambda files: files.pop("shelf.json"), "is missing in it"),
    (lambda files: files.pop("contents.json"), "is no file that Wyntaxis packed"),
    (lambda files: files.update({"contents.json": b'{"format": "wyntaxis-bundle", "files": 3}'}), "Wyntaxis packed"),
]


@pytest.mark.parametrize(("change", "words"), HOSTILE)
def test_a_hostile_zip_writes_nothing(tmp_path, change, words):
    data, _ = packed(tmp_path / "here")
    place, out = tmp_path / "all.zip", tmp_path / "out"
    out.mkdir()
    place.write_bytes(rezipped(data, change))
    with pytest.raises(InputError, match=words):
        unpack(place, out)
    assert list(out.iterdir()) == []


def test_a_zip_is_unpacked_whole_or_not_at_all(tmp_path, monkeypatch):
    data, rig = packed(tmp_path / "here")
    place, out = tmp_path / "all.zip", tmp_path / "out"
    place.write_bytes(data)
    written = []

    def full(content, path, **more):
        written.append(path)
        if len(written) > 3:
            raise InputError("cannot be saved: no space left on device", path)
        return write_atomically(content, path, **more)

    for folder in (out, tmp_path / "there"):
        if folder.name == "there":
            folder.mkdir()
            (folder / "mine.txt").write_text("mine", "utf-8")
        with monkeypatch.context() as patched:
            patched.setattr(bundle, "write_atomically", full)
            with pytest.raises(InputError, match="no space left on device; nothing was left there"):
                unpack(place, folder)
        left = [one.name for one in folder.rglob("*")] if folder.exists() else []
        assert left == (["mine.txt"] if folder.name == "there" else [])
        assert load(unpack(place, folder).rig).rig == rig
        written.clear()
    assert not [one for one in tmp_path.rglob(".*") if "unpacking" in one.name]
    # What fails while all is moved goes back.
    real, third = os.rename, tmp_path / "third"
    third.mkdir()
    (third / "mine.txt").write_text("mine", "utf-8")

    def broken(source, target):
        if Path(target).name == "shelf.json" and Path(target).parent == third:
            raise OSError(28, "No space left on device")
        real(source, target)

    monkeypatch.setattr(bundle.os, "rename", broken)
    with pytest.raises(InputError, match="no space left on device"):
        unpack(place, third)
    assert [one.name for one in third.iterdir()] == ["mine.txt"]


def test_padding_is_not_unpacked_and_a_long_history_is(tmp_path):
    data, _ = packed(tmp_path / "here")
    place = tmp_path / "a.zip"
    line = json.dumps({"sequence": 1, "edits": [{"op": "replace", "path": "/train/3/length_mm", "value": 0}]})
    history = "\n".join(line.replace("0", str(number)) for number in range(20000)).encode()
    for content, is_taken in ((PNG + bytes(90 * 1024 * 1024), False), (history, True)):
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(data)) as old:
            files = {name: old.read(name) for name in old.namelist()}
        name = "my rig.history.jsonl" if is_taken else "photographs/a.png"
        listed(files, name, content)
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
            for own, content_of in files.items():
                new.writestr(own, content_of)
        place.write_bytes(out.getvalue())
        if is_taken:
            assert read_bundle(place)[name] == content
        else:
            with pytest.raises(InputError, match="which is padding"):
                read_bundle(place)


def test_photographs_that_a_zip_may_not_hold_are_left_out_of_it(tmp_path):
    document = clean_document()
    document["photos"] = [{"file": "notes.txt"}, {"file": ".hidden.png"}, {"file": "front.png"}, {"file": "gone.png"}]
    for own in ("notes.txt", ".hidden.png", "front.png"):
        (tmp_path / own).write_bytes(PNG)
    path = tmp_path / "a.rig.json"
    save(validated(document), path)
    rig = load(path).rig
    assert left_out_photos(rig, path) == ["notes.txt", ".hidden.png"]
    place = tmp_path / "all.zip"
    place.write_bytes(bundle_bytes(evaluate(rig), rig, "a", Shelf(parts=()), KeyMaps(maps=()), "", path))
    assert [name for name in read_bundle(place) if name.startswith("photographs/")] == ["photographs/front.png"]


def test_a_zip_bomb_and_what_is_no_zip_are_refused(tmp_path):
    place = tmp_path / "bomb.zip"
    with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED) as bomb:
        for index in range(9):
            with bomb.open(f"photographs/{index}.png", "w", force_zip64=True) as file:
                for _ in range(48):
                    file.write(bytes(1024 * 1024))
    with pytest.raises(InputError, match="far more than a rig"):
        read_bundle(place)
    place.write_bytes(b"PK\x03\x04 no zip")
    with pytest.raises(InputError, match="no ZIP file"):
        read_bundle(place)


@pytest.fixture(scope="module")
def whole_zip(tmp_path_factory):
    return packed(tmp_path_factory.mktemp("zip") / "here")[0]


@settings(deadline=None, max_examples=40)
@given(st.floats(0, 1), st.binary(min_size=1, max_size=20))
def test_a_damaged_zip_is_one_line(whole_zip, tmp_path_factory, where, junk):
    at = int(where * (len(whole_zip) - 1))
    place = tmp_path_factory.getbasetemp() / "damaged.zip"
    place.write_bytes(whole_zip[:at] + junk + whole_zip[at + len(junk) :])
    try:
        files = read_bundle(place)
    except InputError:
        return
    assert any(name.endswith(".rig.json") for name in files), "what was damaged is nothing that is read"


# The commands


def test_the_commands(tmp_path, capsys, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(private_document()), "utf-8")
    for name in ("d.html", "d.csv", "d.zip", "card.html"):
        more = ["--card", "--lamp", "red"] if name == "card.html" else []
        assert main(["dossier", str(path), "--out", str(tmp_path / name), *more, "--json"]) == 0
        assert json.loads(capsys.readouterr().out)["bytes"] == (tmp_path / name).stat().st_size
    runs = str(demo.rig_path("tarnfell-triplet-reduced").parent / "focus")
    page = tmp_path / "curves.html"
    assert main(["dossier", str(path), "--out", str(page), "--chapters", "curves,measured", "--focus", runs]) == 0
    assert page.read_text("utf-8").count("Focus curve, ") >= 2
    assert "best position" in page.read_text("utf-8").partition("Measured from files")[2]
    assert main(["dossier", str(path), "--out", str(tmp_path / "p.pdf"), "--card", "--private"]) == 0
    assert len(pypdf.PdfReader(tmp_path / "p.pdf").pages) == 1
    assert main(["dossier", str(path), "--out", str(tmp_path / "c.html"), "--chapters", "glance,typing"]) == 0
    assert "What to type where" in (tmp_path / "c.html").read_text("utf-8")
    capsys.readouterr()
    assert main(["unpack", str(tmp_path / "d.zip"), "--out", str(tmp_path / "new"), "--take", "--json"]) == 0
    reported = json.loads(capsys.readouterr().out)
    assert load(tmp_path / "new" / "a.rig.json").rig == load(path).rig
    assert reported["rig"].endswith("a.rig.json")


@pytest.mark.parametrize(
    "arguments",
    [
        ["--out", "x.doc"],
        ["--out", "x.csv", "--card"],
        ["--out", "x.html", "--lamp", "red"],
        ["--out", "x.rig.json"],
        ["--out", "x.rig.json", "--private", "--card"],
        ["--out", "a.rig.json", "--private"],
        ["--out", "x.html", "--chapters", "nothing"],
        ["--out", "no/such/folder/x.html"],
    ],
)
def test_what_cannot_be_written_is_one_line(tmp_path, capsys, monkeypatch, arguments):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "a.rig.json").write_text(json.dumps(clean_document()), "utf-8")
    assert main(["dossier", "a.rig.json", *arguments]) == 2
    assert capsys.readouterr().err.count("\n") == 1
    assert [p.name for p in tmp_path.iterdir()] == ["a.rig.json"]
