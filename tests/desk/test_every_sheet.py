"""What must be true of every sheet: it can be named, read, reached by keyboard, and drawn in awkward circumstances."""

import json

import pytest
from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QToolButton,
    QWidget,
)

from tests.cases import further
from tests.desk.pictures import looked_at
from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.ports.tree import read_ports
from wyntaxis.core.findings.registry import in_order
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.store import validated
from wyntaxis.core.steps import GROUPS, steps
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import DAY, NIGHT, contrast
from wyntaxis.desk.session import Session
from wyntaxis.simulators.usb import make_tree

KEYS = [step.key for step in steps()]
CONTROLS = (QLineEdit, QComboBox, QCheckBox, QPushButton, QToolButton, QAbstractItemView)
LONG = "A name that goes on and on, as names of parts from three makers screwed together do " * 2


def controls(sheet: QWidget):
    """Every control of a sheet that a user sees, without what Qt puts inside of others."""
    inner = (QComboBox, QAbstractItemView)
    for kind in CONTROLS:
        for widget in sheet.findChildren(kind):
            parent = widget.parentWidget()
            inside = isinstance(parent, inner) or (parent is not None and isinstance(parent.parentWidget(), inner))
            inside |= (
                "qt_" in widget.objectName() or "Private" in type(parent).__name__ or "plot" in repr(parent).lower()
            )
            if widget.isVisibleTo(sheet) and not inside:
                yield widget


def settle():
    for _ in range(4):
        QApplication.processEvents()


@pytest.fixture
def crowded(window):
    """The demo with long names, every device kind, a second record and the simulated ports."""
    session = window.session
    assert session.set_value(("name",), LONG[:190], "Long name")
    assert session.set_value(("devices", 0, "name"), LONG[:120], "Long device")
    assert session.set_value(("records", 0, "name"), LONG[:120], "Long record")
    return window


def test_every_control_has_a_name(window):
    for key in KEYS:
        window.show_step(key)
        settle()
        unnamed = [
            widget
            for widget in controls(window.sheets[key])
            if not (widget.accessibleName() or getattr(widget, "text", str)())
        ]
        assert unnamed == [], key


def test_no_button_is_cut_at_any_text_size(window):
    window.resize(1280, 800)
    for larger in (0, 5):
        window.change_text(larger)
        for key in KEYS:
            window.show_step(key)
            settle()
            cut = [
                button.text()
                for button in window.sheets[key].findChildren(QPushButton)
                if button.isVisibleTo(window.sheets[key])
                and button.width() < button.sizeHint().width() - 1
                and len(button.text()) > 1
            ]
            assert cut == [], key


@pytest.mark.parametrize(
    "palette, size", [("day", (1024, 700)), *further(("night", (1280, 800)), ("day", (2560, 1440)))]
)
def test_a_crowded_rig_is_drawn_at_every_size(crowded, palette, size):
    crowded.resize(*size)
    crowded.set_palette_by_name(palette)
    for key in KEYS:
        crowded.show_step(key)
        settle()
        picture = crowded.grab().toImage()
        assert (picture.width(), picture.height()) == size
        sheet = crowded.sheets[key]
        # Wrapped texts have the height that they need, so that none is cut.
        for label in sheet.findChildren(QLabel):
            if label.isVisibleTo(sheet) and label.wordWrap() and label.text():
                assert label.height() >= label.heightForWidth(label.width()) - 2, (key, label.text()[:60])


@pytest.mark.parametrize("rig", ["tarnfell-triplet-reduced", *further("tarnfell-triplet-native", "meadow-newtonian")])
def test_no_sheet_scrolls_sideways(window, rig):
    window.session.history.mark_saved()
    window.files.open_demo(rig)
    for size in ((1024, 700), (1280, 800)):
        window.resize(*size)
        for key in KEYS:
            window.show_step(key)
            settle()
            assert window.sheets[key].horizontalScrollBar().maximum() == 0, (size, key)


def test_an_empty_rig_is_drawn_and_says_something(make_window):
    window = make_window()
    window.files.open_new()
    for key in KEYS:
        window.show_step(key)
        settle()
        sheet = window.sheets[key]
        assert sum(len(label.text()) for label in sheet.findChildren(QLabel) if label.isVisibleTo(sheet)) > 30, key
        assert not window.notice.isVisible(), key


def test_tab_leads_through_the_sheet_and_out_again(window):
    window.activateWindow()
    for key in KEYS:
        window.show_step(key)
        settle()
        sheet = window.sheets[key]
        wanted = [w for w in controls(sheet) if w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus]
        reached, start = set(), wanted[0] if wanted else sheet
        widget = start
        for _ in range(3000):
            widget = widget.nextInFocusChain()
            reached.add(id(widget))
            if widget is start:
                break
        assert {id(w) for w in wanted} <= reached, key


def test_every_edit_of_the_demo_is_undone_to_the_letter(window):
    """A walk over many kinds of edit, then back: the document is what it was."""
    session = window.session
    before = session.document
    edits = [
        (("devices", 0, "settings", "gain", "value"), 120.0),
        (("devices", 0, "settings", "gain"), None),
        (("devices", 2, "slots", 0, "name"), "Lum"),
        (("devices", 3), None),
        (("supplies", 0, "rated_a"), 20.0),
        (("records", 0, "values", "main_camera.gain"), 5.0),
        (("records", 1, "entries", 0), None),
        (("records", 2), None),
        (("plan", "actions"), ["park"]),
        (("plan", "sky_e_s", "L"), 2.0),
        (("corrections", "a.fits"), {"kind": "dark"}),
        (("corrections", "a.fits", "gain"), 10.0),
        (("site", "seeing_fwhm_arcsec"), 3.0),
        (("framing", "position_angle_deg"), 45.0),
        (("guiding", "settings", "settle_px"), 1.0),
    ]
    for path, value in edits:
        assert session.set_value(path, value, "Edit"), path
    for key in KEYS:
        window.show_step(key)
    for _ in edits:
        session.undo()
    assert session.document == before
    for _ in edits:
        session.redo()
    assert session.rig.corrections["a.fits"].gain == 10


def test_remedies_mend_what_they_are_for(make_window, tmp_path):
    """Every remedy with a button, on a rig with faults of all kinds, takes its finding away or makes it better."""
    document = clean_document()
    document["train"][3]["length_mm"] = 12.9
    document["guiding"]["settings"]["calibration_pulse_ms"] = 1500
    document["stated"] = {"effective_focal_length_mm": {"value": 676, "source": "profile"}}
    settings = document["devices"][0]["settings"]
    settings["offset"]["value"] = 1
    settings |= {
        "bias_mean_adu": {"measured": {"value": 12.0}},
        "bias_noise_adu": {"measured": {"value": 3.0}},
        "least_offset": {"measured": {"value": 4}},
        "dark_current_e_s": {"measured": {"value": 0.02}},
        "dark_doubling_c": {"measured": {"value": 6.0}},
        "read_noise_e": {"value": 1.0, "measured": {"value": 2.5, "standard_uncertainty": 0.01}},
        "cooling_reach_c": {"measured": {"value": 30.0}},
    }
    document["plan"]["ambient_c"] = 22
    document["devices"][3]["connection"]["port"] = "/dev/ttyUSB0"
    tree = clean_tree()
    next(one for one in tree if one["name"] == "2-1").update(name="1-3", speed=480)
    window = make_window()
    session = Session(validated(document))
    window.attach(session)
    session.look_at(PORTS, read_ports(make_tree(tmp_path / "root", tree)))
    with_button = [f for f in session.evaluation.findings if f.remedy.change is not None and f.verdict == "fails"]
    assert {f.id for f in with_button} >= {
        "spacing.main",
        "guiding.calibration",
        "legs.agree",
        "camera.offset",
        "camera.read_noise",
        "camera.setpoint",
        "cooling.reach",
        "ports.serial_name",
        "ports.traffic",
    }
    for finding in with_button:
        entries = (finding.id, finding.subject)
        now = next((f for f in session.evaluation.findings if (f.id, f.subject) == entries), None)
        if now is None or now.remedy.change is None:
            continue  # mended by another's remedy
        assert session.apply(now.remedy.change), entries
        after = next((f for f in session.evaluation.findings if (f.id, f.subject) == entries), None)
        if finding.id == "camera.offset":
            continue  # the bias was measured at the old offset: new frames must prove the new one
        if after is not None and after.verdict == "fails":
            assert after.verdict.severity < now.verdict.severity, entries
        session.undo()
    session.history.mark_saved()


def test_each_step_has_its_group_and_each_finding_its_step(window):
    assert list(dict.fromkeys(step.group for step in steps())) == list(GROUPS)
    for one in in_order():
        assert one.step in steps(), one.id
        goes_by_what_it_compares = one.id in ("legs.agree", "flats.level")
        assert one.listed.at_quantity == goes_by_what_it_compares
    assert {kind.step for kind in QUANTITY_KINDS.values()} <= set(steps())


def test_both_palettes_stay_legible():
    for palette in (DAY, NIGHT):
        for ink in ("ink", "faded", "accent", "holds", "tight", "fails", "unproven"):
            for ground in ("paper", "panel", "field", "chosen"):
                assert contrast(getattr(palette, ink), getattr(palette, ground)) >= 4.5, (palette.name, ink, ground)


def test_a_rig_file_with_everything_opens_saves_and_opens_again(make_window, tmp_path, qtbot):
    path = tmp_path / "all.rig.json"
    document = clean_document()
    document["corrections"] = {"night/a.fits": {"kind": "flat", "left_out": True}}
    path.write_text(json.dumps(document), "utf-8")
    window = make_window()
    assert window.files.open_path(path)
    assert window.session.apply(Change.of("Gain", ("devices", 0, "settings", "gain", "value"), 130.0))
    window.files.save()
    qtbot.waitUntil(lambda: not window.files.saving.running)
    assert window.files.open_path(path)
    assert window.session.rig.devices[0].number("gain") == 130
    assert window.session.rig.corrections["night/a.fits"].left_out
    assert json.loads((tmp_path / "all.rig.json~").read_text("utf-8"))["devices"][0]["settings"]["gain"]["value"] == 100


class _Windows(QObject):
    """Notes every window that is shown."""

    def __init__(self):
        super().__init__()
        self.shown = []

    def eventFilter(self, a0, a1):
        if a1.type() == QEvent.Type.Show and isinstance(a0, QWidget) and a0.isWindow():
            self.shown.append(type(a0).__name__)
        return False


@pytest.mark.parametrize("name", ["tarnfell-triplet-reduced", *further(None, "meadow-newtonian")])
def test_no_sheet_flashes_a_window_of_its_own(make_window, name):
    window = make_window()
    watch = _Windows()
    app = QApplication.instance()
    app.installEventFilter(watch)
    try:
        if name is None:
            window.files.open_new()
        else:
            window.files.open_demo(name)
        for key in KEYS:
            window.show_step(key)
            QApplication.processEvents()
            for section_box in window.sheets[key].findChildren(CollapsibleSection):
                section_box.open()
            if hasattr(window.sheets[key], "pictures"):
                for picture in window.sheets[key].pictures.all:
                    looked_at(picture)
        window.change_text(3)
        window.set_palette_by_name("night")
        QApplication.processEvents()
    finally:
        app.removeEventFilter(watch)
    assert watch.shown == []
