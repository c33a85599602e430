"""The Dossier sheet: the rig on paper beside the choice of chapters, exports, history, differences, makers' figures."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import (
    QBoxLayout,
    QCheckBox,
    QComboBox,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.core.dossier.apart import dossier_apart
from wyntaxis.core.dossier.dossier import CHAPTERS, dossier_of
from wyntaxis.core.dossier.dossier_input import DossierInput, PhotoForm
from wyntaxis.core.dossier.printing import PAPERS, dossier_html
from wyntaxis.core.files.errors import InputError, Progress, shown
from wyntaxis.core.history.states import RigHistory, read_history
from wyntaxis.core.steps import DOSSIER, Step
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.page_preview import PagePreview
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, push_button
from wyntaxis.desk.plain_widgets import PlainLabel, list_item
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.dossier_exports import Chosen, DossierExports

if TYPE_CHECKING:
    from wyntaxis.desk.sheets.differences_panel import DifferencesPanel
    from wyntaxis.desk.sheets.figures_panel import FiguresPanel
    from wyntaxis.desk.sheets.history_panel import HistoryPanel

DELAY_MS = 900
LAMPS = ("by day", "for a red lamp")
NARROW_EM, FEW_ROWS = 48, 6
"""Below so many text heights the chapters stand above the pages, so many of them in sight."""
HISTORY, DIFFERENCES = "History", "Changes, and what they cost"
FIGURES = "Makers’ figures that differ"
EVERYTHING = "a file of everything holds everything: untick “Without site …”, or export a dossier"


@sheet_of(DOSSIER)
class DossierSheet(StepSheet):
    """The rig on paper, and what became of it."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.job, self.exports = Job(self), DossierExports(session, self, self._chosen)
        self._shown_of: object = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.make_preview)
        column = self.add_wide_column()
        column.addLayout(self._buttons())
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        self.written = PlainLabel()
        self.written.setWordWrap(True)
        self.written.hide()
        column.addWidget(self.written)
        column.addWidget(JobBar(self.job, "Making the pages"))
        column.addWidget(JobBar(self.exports.job, "Writing the file"))
        column.addWidget(self._pages())
        self.job.done.connect(self._pages_came)
        self.exports.job.done.connect(self._written)
        for job in (self.job, self.exports.job):
            job.failed.connect(session.refused)
        # What a fold holds is there only once it has been opened.
        self.history_section = CollapsibleSection(HISTORY, self._build_history, lambda: self._refresh("history_panel"))
        self.differences_section = CollapsibleSection(
            DIFFERENCES, self._build_differences, lambda: self._refresh("differences_panel")
        )
        self.figures_section = CollapsibleSection(FIGURES, self._build_figures, lambda: self._refresh("figures_panel"))
        for section_box in (self.history_section, self.differences_section, self.figures_section):
            self.add_wide(section_box)
        self.refresh()

    # Building

    def _buttons(self) -> FlowRow:
        row = FlowRow()
        push_button("Export …", "Write the dossier as PDF, HTML or CSV", self.exports.ask_export, row)
        push_button("Field card …", "Write one page for the night", self.exports.ask_card, row)
        self.lamp = QComboBox()
        self.lamp.addItems(LAMPS)
        self.lamp.setAccessibleName("The field card is read")
        row.addWidget(self.lamp)
        push_button(
            "Everything in one file …", "Write a ZIP that a fresh computer can open again", self.exports.ask_zip, row
        )
        self.paper = QComboBox()
        self.paper.addItems(list(PAPERS))
        self.paper.setAccessibleName("Paper")
        self.paper.currentIndexChanged.connect(lambda _index: self._changed())
        row.addWidget(self.paper)
        self.private = QCheckBox("Without site, serial numbers, hosts")
        self.embeds = QCheckBox("Embed photographs")
        self.embeds.setChecked(True)
        for box in (self.private, self.embeds):
            box.toggled.connect(lambda _on: self._changed())
            row.addWidget(box)
        return row

    def _pages(self) -> QWidget:
        """Return the choice of chapters beside the preview, or above it where there is little room."""
        self.chapters = QListWidget()
        self.chapters.setAccessibleName("Chapters")
        self.chapters.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        for kind in CHAPTERS:
            item = list_item(kind.title)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            item.setData(Qt.ItemDataRole.UserRole, kind.key)
            self.chapters.addItem(item)
        self.chapters.itemChanged.connect(lambda _item: self._changed())
        side = QVBoxLayout()
        side.addWidget(self.chapters)
        marks = FlowRow()
        push_button("All", "Choose every chapter", lambda: self._check_all(on=True), marks)
        push_button("None", "Choose no chapter", lambda: self._check_all(on=False), marks)
        side.addLayout(marks)
        side.addStretch(1)
        self.preview = PagePreview()
        self.preview.set_palette(self._palette)
        self._row = QBoxLayout(QBoxLayout.Direction.LeftToRight)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.addLayout(side)
        self._row.addWidget(self.preview, 1)
        holder = QWidget()
        holder.setLayout(self._row)
        return holder

    def arrange(self) -> None:
        """Put the chapters beside the pages, or above them where the sheet is narrow."""
        super().arrange()
        if not hasattr(self, "_row"):
            return
        viewport = self.viewport()
        width = viewport.width() if viewport is not None else self.width()
        narrow = width < NARROW_EM * self.fontInfo().pixelSize()
        way = QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight
        self._row.setDirection(way)
        row = max(self.chapters.sizeHintForRow(0), 1)
        self.chapters.setFixedWidth(self.chapters.sizeHintForColumn(0) + (30 if narrow else 12))
        self.chapters.setFixedHeight(row * (FEW_ROWS if narrow else self.chapters.count()) + 10)

    def _build_history(self) -> QWidget:
        from wyntaxis.desk.sheets.history_panel import HistoryPanel

        self.history_panel: HistoryPanel = HistoryPanel(self.session, self._palette)
        self.history_panel.compare_asked.connect(self.compare_with)
        return self.history_panel

    def _build_differences(self) -> QWidget:
        from wyntaxis.desk.sheets.differences_panel import DifferencesPanel

        self.differences_panel: DifferencesPanel = DifferencesPanel(self.session, self._palette)
        return self.differences_panel

    def _build_figures(self) -> QWidget:
        from wyntaxis.desk.sheets.figures_panel import FiguresPanel

        self.figures_panel: FiguresPanel = FiguresPanel(self.session, self._palette)
        return self.figures_panel

    def _refresh(self, panel: str) -> None:
        getattr(self, panel).refresh()

    def compare_with(self, index: int) -> None:
        """Show what differs between a save and now."""
        self.differences_section.open()
        self.differences_panel.compare_with_save(index)

    # Choosing

    def keys(self) -> list[str]:
        """Return the chosen chapters' keys."""
        items = [self.chapters.item(row) for row in range(self.chapters.count())]
        return [str(i.data(Qt.ItemDataRole.UserRole)) for i in items if i and i.checkState() is Qt.CheckState.Checked]

    def _check_all(self, *, on: bool) -> None:
        self.chapters.blockSignals(True)
        for row in range(self.chapters.count()):
            item: QListWidgetItem | None = self.chapters.item(row)
            if item is not None:
                item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
        self.chapters.blockSignals(False)
        self._changed()

    def _changed(self) -> None:
        self._shown_of = None
        self._tell()
        self._soon.start(DELAY_MS)

    def _given(self) -> Callable[[], DossierInput]:
        """Return what makes, away from the window, what the dossier is made from: the rig as it stands now."""
        session, path = self.session, self.session.path
        evaluation, shelf, private = session.evaluation, session.stock.shelf.parts, self.private.isChecked()
        photos: PhotoForm = "embedded" if self.embeds.isChecked() else "named"

        def make() -> DossierInput:
            history = RigHistory()
            if path is not None:
                with contextlib.suppress(InputError):  # the History below says what is wrong with it
                    history = read_history(path)
            return DossierInput(evaluation, history, shelf, path.parent if path is not None else None, private, photos)

        return make

    def _chosen(self) -> Chosen:
        paper, lamp = PAPERS[self.paper.currentIndex()], self.lamp.currentIndex() == 1
        return Chosen(self._given(), self.keys(), paper, lamp, self.private.isChecked())

    # The preview

    def make_preview(self) -> None:
        """Make the pages of the chosen chapters, in the background; only while the sheet is in sight."""
        wanted = self.session.evaluation
        if not self.isVisible() or self._shown_of is wanted or self.job.running:
            return
        keys = self.keys()
        if not keys:
            self._tell()
            return
        self._shown_of = wanted
        given, paper = self._given(), PAPERS[self.paper.currentIndex()]

        def work(progress: Progress) -> tuple[object, bytes]:
            html = dossier_html(dossier_of(given(), keys, progress), paper)
            return wanted, dossier_apart(html, lambda: progress(0, 0))

        self.job.start(work)
        self._tell()

    def _pages_came(self, found: tuple[object, bytes]) -> None:
        wanted, data = found
        self.preview.show_pdf(data)
        self._tell()
        if self._shown_of is None or wanted is not self.session.evaluation:
            self._shown_of = None
            self._soon.start(DELAY_MS)

    def _tell(self) -> None:
        keys = self.keys()
        if not keys:
            self.state.setText("Choose at least one chapter.")
            return
        text = f"{len(keys)} of {len(CHAPTERS)} chapters"
        pages = f", {self.preview.count} pages" if self.preview.count and not self.job.running else ""
        left_out = "; site, serial numbers and hosts left out" if self.private.isChecked() else ""
        unsaved = "" if self.session.path is not None else "; not saved yet: the history begins with the first save"
        self.state.setText(f"{text}{pages}{left_out}{unsaved}.")

    # Showing

    def _written(self, path: Path) -> None:
        self.written.setText(f"Written: {shown(path)}")
        self.written.show()

    def showEvent(self, a0: object) -> None:
        super().showEvent(a0)  # type: ignore[arg-type]
        self._soon.start(DELAY_MS)

    def hideEvent(self, a0: object) -> None:
        """Let the pages go that nobody waits for any more."""
        super().hideEvent(a0)  # type: ignore[arg-type]
        self._soon.stop()
        if self.job.running:
            self.job.cancel()
            self._shown_of = None

    def refresh(self) -> None:
        super().refresh()
        for section_box in (self.history_section, self.differences_section, self.figures_section):
            section_box.refresh()
        self._tell()
        self._soon.start(DELAY_MS)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.preview.set_palette(palette)
        for name in ("history_panel", "differences_panel", "figures_panel"):
            panel = getattr(self, name, None)
            if panel is not None:
                panel.set_palette(palette)
