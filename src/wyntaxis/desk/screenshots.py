"""Takes the pictures of every main view for the documentation, from the demo data."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QApplication, QScrollArea

from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.desk.sheets.dossier import DossierSheet
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.field import FieldSheet
from wyntaxis.desk.sheets.footprint import FootprintSheet
from wyntaxis.desk.sheets.ports import PortsSheet
from wyntaxis.desk.sheets.proofs import NextMeasurementsSheet
from wyntaxis.desk.sheets.rehearsal import RehearsalSheet
from wyntaxis.desk.sheets.shelf import ShelfSheet
from wyntaxis.desk.sheets.stars import StarsSheet
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState

VIEWS = (
    ("light-path", "tarnfell-triplet-reduced", "light_path", "day"),
    ("scales", "tarnfell-triplet-reduced", "scales", "day"),
    ("footprint", "tarnfell-triplet-reduced", "footprint", "day"),
    ("devices", "tarnfell-triplet-reduced", "devices", "day"),
    ("records", "tarnfell-triplet-reduced", "records", "day"),
    ("ports", "tarnfell-triplet-reduced", "ports", "day"),
    ("sensor", "tarnfell-triplet-reduced", "sensor", "day"),
    ("cooling", "tarnfell-triplet-reduced", "cooling", "day"),
    ("filters", "tarnfell-triplet-reduced", "filters", "day"),
    ("stars", "tarnfell-triplet-reduced", "stars", "day"),
    ("travel", "tarnfell-triplet-reduced", "travel", "day"),
    ("field", "tarnfell-triplet-reduced", "field", "day"),
    ("guide-log", "tarnfell-triplet-reduced", "guide_log", "day"),
    ("ready-night", "tarnfell-triplet-reduced", "ready", "night"),
    ("proofs", "tarnfell-triplet-reduced", "proofs", "day"),
    ("rehearsal", "tarnfell-triplet-reduced", "rehearsal", "day"),
    ("dossier", "tarnfell-triplet-reduced", "dossier", "day"),
    ("shelf-search", "tarnfell-triplet-reduced", "shelf", "day"),
    ("start", "tarnfell-triplet-reduced", "light_path", "day"),
)
WAIT_SECONDS = 90
PICTURE_DATE = "2026-11-26"


def _search(window: MainWindow) -> None:
    """Search the starter shelf and bring the sets found into sight."""
    sheet = window.sheets["shelf"]
    assert isinstance(sheet, ShelfSheet)
    sheet.table.setCurrentIndex(sheet.model.index(0, 0))
    sheet.search()
    wait_until(lambda: not sheet.searching)
    _to_the_end(sheet)


def wait_until(ready: Callable[[], bool]) -> None:
    """Let the window work until something is ready, for a while at most."""
    until = time.monotonic() + WAIT_SECONDS
    while not ready() and time.monotonic() < until:
        settle()
        time.sleep(0.01)


def _read_catalogue(window: MainWindow) -> None:
    sheet = window.sheets["footprint"]
    assert isinstance(sheet, FootprintSheet)
    wait_until(lambda: sheet.catalogue_read)


def _draft(window: MainWindow) -> None:
    """Draft a rig from the simulated's frames and ports."""
    window.files.open_new()
    page = window.stack.start_page
    assert page is not None
    for work in (page.draft_simulated_frames, page.draft_simulated_ports):
        work()
        wait_until(lambda: not page.job.running)


def _to_the_end(sheet: QScrollArea) -> None:
    """Scroll a sheet to its end."""
    settle()
    bar = sheet.verticalScrollBar()
    if bar is not None:
        bar.setValue(bar.maximum())


def _read_ports(window: MainWindow) -> None:
    sheet = window.sheets["ports"]
    assert isinstance(sheet, PortsSheet)
    sheet.read_simulated()
    wait_until(lambda: window.session is not None and window.session.evidence.of(PORTS) is not None)


def _measured(window: MainWindow, step: str) -> EvidenceSheet[Any]:
    """Let a sheet measure what is simulated, and keep it."""
    sheet = window.sheets[step]
    assert isinstance(sheet, EvidenceSheet)
    sheet.add_simulated()
    wait_until(lambda: sheet.result is not None and not sheet.job.running)
    sheet.keep()
    settle()
    return sheet


def _measure_night(window: MainWindow) -> None:
    sheet = _measured(window, "stars")
    assert isinstance(sheet, StarsSheet)
    sheet.table.selectRow(6)
    wait_until(lambda: not sheet.picture_job.running)


def _read_focus_runs(window: MainWindow) -> None:
    _measured(window, "travel")


def _sweep_field(window: MainWindow) -> None:
    sheet = _measured(window, "field")
    assert isinstance(sheet, FieldSheet)
    wait_until(lambda: not sheet.pieces.job.running)


def _read_logs(window: MainWindow) -> None:
    _measured(window, "guide_log")


def _try_out(window: MainWindow) -> None:
    """Keep a measurement, change the ring that it rests on, and rank what is to be measured."""
    session, sheet = window.session, window.sheets["proofs"]
    assert isinstance(sheet, NextMeasurementsSheet)
    assert session is not None
    quantity_value = {"value": 21.0, "standard_uncertainty": 2.0, "source": "sweep as built"}
    quantity_value["evidence"] = {"method": "field_sweep", "date": "2026-11-12T21:40:00Z"}
    session.set_value(("measured", "field_tilt_um"), quantity_value, "Keep the field")
    ring = next(place for place, part in enumerate(session.rig.train) if part.id == "ring")
    session.set_value(("train", ring, "length_mm"), 12.2, "Change the ring")
    sheet.try_out()
    wait_until(lambda: bool(sheet.found) and not sheet.job.running)


def _play_night(window: MainWindow) -> None:
    """Play the night of a fixed date and choose the first of the faults."""
    sheet = window.sheets["rehearsal"]
    assert isinstance(sheet, RehearsalSheet)
    sheet.date.setText(PICTURE_DATE)
    sheet.play()
    wait_until(lambda: sheet.result is not None and not sheet.job.running)
    sheet.table.selectRow(1)
    wait_until(lambda: not sheet.remedy_job.running)


def _make_pages(window: MainWindow) -> None:
    """Wait for the dossier's pages, and turn to the light path."""
    sheet = window.sheets["dossier"]
    assert isinstance(sheet, DossierSheet)
    wait_until(lambda: sheet.preview.count > 0)
    sheet.preview.turn(2)


PREPARE: dict[str, Callable[[MainWindow], object]] = {
    "shelf-search": _search,
    "start": _draft,
    "footprint": _read_catalogue,
    "ports": _read_ports,
    "sensor": lambda window: _measured(window, "sensor"),
    "cooling": lambda window: _measured(window, "cooling"),
    "stars": _measure_night,
    "travel": _read_focus_runs,
    "filters": lambda window: _measured(window, "filters"),
    "field": _sweep_field,
    "ready-night": _read_ports,
    "rehearsal": _play_night,
    "guide-log": _read_logs,
    "dossier": _make_pages,
    "proofs": _try_out,
}


def take_all(folder: Path, view: str | None = None) -> int:
    """Write one PNG for each view, or for one of them, into a folder; return the exit code."""
    views = [entry for entry in VIEWS if view in (None, entry[0])]
    if not views:
        print(
            f"wyntaxis: --view: there is no {view}; there are {', '.join(entry[0] for entry in VIEWS)}", file=sys.stderr
        )
        return 2
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        print(f"wyntaxis: {folder}: cannot be made: {error.strerror}; name another folder", file=sys.stderr)
        return 2
    with tempfile.TemporaryDirectory() as state:
        window = MainWindow(WindowState(Path(state)), Path(state), Path(state) / "shelf.json")
        window.build()
        window.show()
        for name, rig, step, palette in views:
            window.set_palette_by_name(palette)
            window.files.open_demo(rig)
            window.show_step(step)
            if name in PREPARE:
                PREPARE[name](window)
            settle()
            focus = QApplication.focusWidget()
            if focus is not None:  # whether a window without a screen is the active one is chance
                focus.clearFocus()
            settle()
            place = folder / f"{name}.png"
            if not window.grab().save(str(place)):
                print(f"wyntaxis: {place}: cannot be written; name another folder", file=sys.stderr)
                return 2
            print(place)
        if window.session is not None:
            window.session.history.mark_saved()  # only the pictures are kept
        window.close()
    return 0


def settle() -> None:
    """Let layouts and repaints come to rest."""
    for _ in range(5):
        QApplication.processEvents()
