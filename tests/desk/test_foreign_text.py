"""Names full of markup, control and bidirectional characters: nowhere read as markup, nowhere shown raw."""

import json

import pytest
from PyQt6.QtCore import QAbstractListModel, Qt
from PyQt6.QtWidgets import QAbstractItemView, QComboBox, QLabel, QWidget

from tests.core.evidence.test_headers import write
from wyntaxis import demo
from wyntaxis.core.evidence.cooling.kind import COOLING
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.files.foreign_text import one_line, plain, plain_json
from wyntaxis.core.rig.store import validated
from wyntaxis.core.steps import steps
from wyntaxis.desk.plain_widgets import tip
from wyntaxis.desk.session import Session
from wyntaxis.simulators.bench import make_demo_runs
from wyntaxis.simulators.usb import make_demo_tree

EVIL = "<img src='/dev/zero'>\u202egnp&<b>"
ROLES = (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.DisplayRole)


def evil_rig():
    """The demo rig with every name of its own changed to one that no name should be."""
    document = json.loads(demo.rig_path("tarnfell-triplet-reduced").read_text("utf-8"))
    number = 0

    def change(node):
        nonlocal number
        if isinstance(node, dict):
            for key, value in node.items():
                if key in (
                    "name",
                    "model",
                    "serial_number",
                    "driver",
                    "source",
                    "mode",
                    "port",
                    "host",
                    "observer",
                ) and (isinstance(value, str)):
                    number += 1
                    node[key] = f"{EVIL}{number}"
                else:
                    change(value)
        elif isinstance(node, list):
            for entry in node:
                change(entry)

    change(document)
    for record in document["records"]:
        record.pop("variant", None)
    return validated(document)


def texts_of(window):
    """Every text that a widget of the window shows, or would in a tooltip, with where it stands."""
    for widget in window.findChildren(QWidget):
        yield f"{type(widget).__name__} tip", widget.toolTip()
        if isinstance(widget, QLabel):
            assert widget.textFormat() != Qt.TextFormat.AutoText, widget.text()
            if widget.textFormat() == Qt.TextFormat.RichText:
                yield "rich label", widget.text()
            else:
                assert "\u202e" not in widget.text()
        if isinstance(widget, QComboBox):
            assert all("\u202e" not in widget.itemText(row) for row in range(widget.count()))
        model = widget.model() if isinstance(widget, QAbstractItemView) else None
        for row in range(model.rowCount() if model else 0):
            for column in range(1 if isinstance(model, QAbstractListModel) else model.columnCount()):
                index = model.index(row, column)
                shown = [str(model.data(index, role) or "") for role in ROLES]
                assert "\u202e" not in shown[1], shown
                yield f"{type(widget).__name__} item", shown[0]


def test_names_full_of_markup_on_every_sheet(make_window, tmp_path):
    window = make_window()
    window.attach(Session(evil_rig(), stock=window.stock()))
    session = window.session
    session.look_at(PORTS, PORTS.read(make_demo_tree(tmp_path / "sys", "tarnfell")))
    (tmp_path / "frames").mkdir()
    write(tmp_path / "frames" / f"{EVIL.replace('/', '_')}.fits", FILTER=" <img src=x>", OBJECT="<b>")
    session.look_at(HEADERS, HEADERS.read(tmp_path / "frames"))
    runs = COOLING.read(make_demo_runs(tmp_path), -10.0)
    session.look_at(COOLING, runs)
    seen = 0
    for step in steps():
        window.show_step(step.key)
        window.margin.all_box.setChecked(True)
        for where, text in texts_of(window):
            seen += "&lt;" in text
            assert "<img" not in text, (where, text)
            assert "<b>" not in text, (where, text)
            assert "\u202e" not in text, (where, text)
    assert seen > 20, "the names were not shown at all"
    assert "\u202e" not in window.windowTitle()
    session.history.mark_saved()


def test_a_plots_legend_takes_no_markup(qtbot, tmp_path):
    from dataclasses import replace

    from wyntaxis.desk.palette import DAY
    from wyntaxis.desk.plots_cooling import CoolingPlot

    plot = CoolingPlot()
    qtbot.addWidget(plot)
    log = COOLING.read(make_demo_runs(tmp_path)[:1], -10.0).logs[0]
    plot.show_runs([replace(log, name=EVIL)], None, DAY)
    (label,) = (label for _, label in plot.legend.items)
    assert label.item.toPlainText().startswith("<img"), "read as text, so that the markup is seen"
    assert "&lt;img" in label.text
    assert "\u202e" not in label.text


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("plain é ″/px – e⁻", "plain é ″/px – e⁻"),
        ("a\x1b[31mb", "a\\x1b[31mb"),
        ("a\nb\tc", "a\\nb\\tc"),
        ("\u202egnp", "\\u202egnp"),
        ("bad\udcff", "bad\\xff"),
        ("\u200b\ufeff\u2028", "\\u200b\\ufeff\\u2028"),
        ("\U000e0041", "\\U000e0041"),
        ("no\u00a0break\u202fhere", "no\u00a0break\u202fhere"),
    ],
)
def test_what_cannot_be_shown_is_escaped(text, shown):
    assert plain(text) == shown
    assert plain(shown) == shown
    shown.encode("utf-8")


def test_a_line_is_bounded_and_keeps_its_end():
    assert one_line("a\nb\r\nc") == "a b c"
    long = one_line("k" * 5000 + "; take it out")
    assert len(long) <= 400
    assert long.endswith("; take it out")


def test_json_is_strict():
    entries = plain_json({"a": float("nan"), "b": [float("inf"), 1.5, "x\udcff"], "c\udc80": (1, None, True)})
    assert entries == {"a": None, "b": [None, 1.5, "x\\xff"], "c\\x80": [1, None, True]}
    json.dumps(entries, allow_nan=False).encode("utf-8")


def test_a_tooltip_is_left_alone_where_nothing_could_be_markup():
    assert tip("3 < 4") != "3 < 4"
    assert tip("a & b\nc") == "a & b\nc"
    assert tip("<b>") == "<p>&lt;b&gt;</p>"
