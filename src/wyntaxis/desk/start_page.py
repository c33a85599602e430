"""The start page: what a newcomer has in hand, and the rig that is drafted from it."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.drafting.draft import Sources, draft, read_sources
from wyntaxis.core.drafting.rig_draft import Draft
from wyntaxis.core.evidence.foreign.keymap import KeyMaps, load_maps
from wyntaxis.core.evidence.ports.tree import PortTree, read_ports
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.places import home, own_maps_path
from wyntaxis.core.rig.marks import parse_path, value_at
from wyntaxis.desk.actions import DEMOS
from wyntaxis.desk.background import Job
from wyntaxis.desk.not_entered import NotEnteredPanel
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

NO_MAPS = KeyMaps(format="wyntaxis-key-maps", version=1)


class StartPage(QScrollArea):
    """Drafts a rig; ``parts_asked`` begins one part by part, ``demo_asked`` carries a demo rig."""

    parts_asked = pyqtSignal()
    demo_asked = pyqtSignal(str)

    def __init__(self, session: Session, maps_path: Path | None = None) -> None:
        super().__init__()
        self.session = session
        self.maps_path = maps_path or own_maps_path()
        self.drafted: Draft | None = None
        self.setWidgetResizable(True)
        self.setAcceptDrops(True)
        self.setAccessibleName("Start page")
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(12, 8, 12, 10)
        column.setSpacing(8)
        title = PlainLabel("A new rig")
        title.setProperty("role", "title")
        column.addWidget(title)
        purpose = PlainLabel(
            "Start from the files you already have. Every value keeps its source; values found in no source are marked "
            "as assumed. Enter them to get verdicts. You can read several sources one after another, and undo takes a "
            "whole draft back."
        )
        purpose.setProperty("role", "faded")
        purpose.setWordWrap(True)
        column.addWidget(purpose)
        self.job = Job(self)
        self._label = ""
        self.job.done.connect(self._taken)
        self.job.failed.connect(session.refused)
        self.ways = Panel("Which files do you have?")
        self._add_ways()
        self.bar = JobBar(self.job, "reading")
        self.ways.column.addWidget(self.bar)
        column.addWidget(self.ways)
        self.not_entered = NotEnteredPanel(session)
        column.addWidget(self.not_entered)
        self.open_panel = Panel("What the sources leave open")
        self.open_words = self.open_panel.add_text()
        column.addWidget(self.open_panel)
        self.sources_panel = Panel("What was taken, and from where")
        self.table = TextTable("Drafted values", ("Value", "Is", "From"), left=(0, 1, 2), stretch=2)
        self.sources_panel.column.addWidget(self.table)
        column.addWidget(self.sources_panel)
        column.addStretch(1)
        self.setWidget(body)
        self.refresh()

    def _add_ways(self) -> None:
        self.frames_button = self._way(
            "From frames",
            "a folder of FITS files, or drop it here",
            "Choose a folder …",
            self.ask_folder,
            self.draft_simulated_frames,
        )
        self.ports_button = self._way(
            "From the ports",
            "the devices that are plugged in now",
            "Read the ports",
            self.draft_ports,
            self.draft_simulated_ports,
        )
        self.program_button = self._way(
            "From a program’s file", "a settings file that a key map suits", "Choose a file …", self.ask_file
        )
        self.parts_button = self._way(
            "From parts", "telescope, corrector, camera, guiding, one after another", "Begin", self.parts_asked.emit
        )
        row = QHBoxLayout()
        row.addWidget(PlainLabel("Or look at a demo rig"))
        row.addStretch(1)
        for name, title in DEMOS.items():
            push_button(title, f"Open the demo rig {title}", partial(self.demo_asked.emit, name), row)
        self.ways.column.addLayout(row)

    def _way(
        self,
        title: str,
        words: str,
        button: str,
        work: Callable[[], object],
        simulated: Callable[[], object] | None = None,
    ) -> QWidget:
        row = QHBoxLayout()
        label = PlainLabel(f"{title}: {words}")
        label.setWordWrap(True)
        row.addWidget(label, 1)
        made = push_button(button, f"{title}: {words}", work, row)
        if simulated is not None:
            push_button("Load simulated data", f"{title}: the demo's, simulated", simulated, row)
        self.ways.column.addLayout(row)
        return made

    def first_field(self) -> QWidget:
        """Return what is to have the keyboard first."""
        return self.frames_button

    # Drafting

    def ask_folder(self) -> None:
        """Ask for a folder of frames, and draft from it."""
        chosen = QFileDialog.getExistingDirectory(self, "A folder of frames", str(home()))
        if chosen:
            self.draft_paths([Path(chosen)])

    def ask_file(self) -> None:
        """Ask for programs' files, and draft from them."""
        chosen, _ = QFileDialog.getOpenFileNames(self, "A program's settings file", str(home()))
        if chosen:
            self.draft_paths([Path(name) for name in chosen])

    def draft_paths(self, paths: Sequence[Path]) -> None:
        """Draft from frames and programs' files, in the background."""
        self._start(f"Draft from {paths[0].name}", lambda maps, progress: read_sources(paths, None, maps, progress))

    def draft_ports(self, read: Callable[[], PortTree] = read_ports) -> None:
        """Draft from the ports, in the background."""
        self._start("Draft from the ports", lambda maps, progress: read_sources((), read(), maps, progress))

    def draft_simulated_frames(self) -> None:
        """Draft from simulated frames of the demo's rig."""

        def read(maps: KeyMaps, progress: Progress) -> Sources:
            from wyntaxis.simulators.bench import make_demo_lights

            with tempfile.TemporaryDirectory() as folder:
                make_demo_lights(Path(folder))
                return read_sources([Path(folder)], None, maps, progress)

        self._start("Draft from simulated frames", read)

    def draft_simulated_ports(self) -> None:
        """Draft from the simulated ports of the demo."""

        def read() -> PortTree:
            from wyntaxis.simulators.usb import make_demo_tree

            with tempfile.TemporaryDirectory() as folder:
                return read_ports(make_demo_tree(Path(folder), "tarnfell"))

        self.draft_ports(read)

    def _start(self, label: str, read: Callable[[KeyMaps, Progress], Sources]) -> None:
        self._label = label
        rig, maps_path = self.session.document, self.maps_path

        def work(progress: Progress) -> tuple[object, Draft]:
            try:
                maps = load_maps(maps_path)
            except InputError:
                maps = NO_MAPS  # the Programs sheet tells of a broken one
            return rig, draft(read(maps, progress), rig)

        self.job.start(work)

    def _taken(self, outcome: tuple[object, Draft]) -> None:
        before, drafted = outcome
        if before is not self.session.document:
            self.session.refused.emit("the rig was edited while it was being drafted: draft once more")
            return
        self.drafted = drafted
        self.session.take_draft(drafted, self._label)
        self.refresh()

    # Showing

    def refresh(self) -> None:
        """Show what was drafted, what is open, and what nobody gave yet."""
        drafted, rig = self.drafted, self.session.document
        self.not_entered.refresh()
        known = drafted is not None and all(path in rig.origin for path in drafted.taken[:1])
        self.sources_panel.setVisible(known)
        open_lines = [f"• {question.text}" for question in drafted.questions] if drafted is not None else []
        open_lines += [f"• not used: {entry.file}: {entry.why}" for entry in drafted.not_used] if drafted else []
        self.open_panel.setVisible(known and bool(open_lines))
        self.open_words.setText("\n".join(open_lines))
        if drafted is not None and known:
            rows = [[path, _value(drafted, path), drafted.rig.origin[path]] for path in drafted.taken]
            self.table.show_rows(rows)

    def dragEnterEvent(self, a0: QDragEnterEvent | None) -> None:
        data = a0.mimeData() if a0 is not None else None
        if a0 is not None and data is not None and data.hasUrls():
            a0.acceptProposedAction()

    def dropEvent(self, a0: QDropEvent | None) -> None:
        data = a0.mimeData() if a0 is not None else None
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data is not None else []
        if a0 is not None and paths:
            a0.acceptProposedAction()
            self.draft_paths(paths)


def _value(drafted: Draft, path: str) -> str:
    value = value_at(drafted.rig, parse_path(path))
    return (
        f"{value:g}"
        if isinstance(value, (int, float)) and not isinstance(value, bool)
        else getattr(value, "name", str(value))
    )
