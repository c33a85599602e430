"""What differs between now and another state of the rig, drawn and listed; and what a swap would cost beforehand."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSize
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QComboBox, QFileDialog, QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.core.differences.differences import Differences, differences_between, swap, with_reasons
from wyntaxis.core.dossier.section_picture import differing_svg
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.history.states import read_history
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit, store
from wyntaxis.core.rig.model import Rig, variant_rig
from wyntaxis.core.wording import counted, number
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import Picture, PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

NOTHING, SAVED, FILE = "choose what to compare with", "the rig as last saved", "another rig file …"
VALUE_HEADINGS = ("value", "before", "after", "when", "why")
NUMBER_HEADINGS = ("number", "before", "after", "unit")
MOST_TEXT, MOST_LINES = 40, 3


class SvgPicture(Picture):
    """A drawing as SVG, to its own proportions; on a paper ground, dimmed by night."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._renderer = QSvgRenderer(self)
        self._palette: Palette | None = None
        self.setAccessibleName(name)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def show_svg(self, markup: str, palette: Palette) -> None:
        """Show a drawing; by night its ink is light."""
        self._palette = palette
        if palette.name == "night":
            markup = markup.replace("#222222", palette.ink).replace("#777777", palette.faded)
            markup = markup.replace("#ffffff", palette.paper).replace("#e8e8e8", palette.panel)
        self._renderer.load(QByteArray(markup.encode()))
        self.updateGeometry()
        self.update()

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, a0: int) -> int:
        size = self._renderer.defaultSize()
        return round(a0 * size.height() / size.width()) if size.width() > 0 else 0

    def sizeHint(self) -> QSize:
        return QSize(400, self.heightForWidth(max(self.width(), 400)))

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        """Draw."""
        painter = QPainter(self)
        if self._palette is not None:
            painter.fillRect(self.rect(), self._palette.color("field"))
        self._renderer.render(painter)


class DifferencesPanel(QWidget):
    """Now against another state, or a swap that is tried."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self.session, self._palette = session, palette
        self.found: Differences | None = None
        self._again: Callable[[], None] | None = None
        self.job = Job(self)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = FlowRow()
        row.addWidget(PlainLabel("Now against"))
        self.against = QComboBox()
        self.against.setAccessibleName("Compare the rig with")
        self.against.activated.connect(lambda _index: self._compare())
        row.addWidget(self.against)
        column.addLayout(row)
        row = FlowRow()
        row.addWidget(PlainLabel("What would it cost to put"))
        self.piece = QComboBox()
        self.piece.setAccessibleName("A piece of the shelf")
        row.addWidget(self.piece)
        row.addWidget(PlainLabel("in the place of"))
        self.part = QComboBox()
        self.part.setAccessibleName("A part of the rig")
        row.addWidget(self.part)
        push_button("Try", "Show what would change and what would die; nothing is changed", self.try_swap, row)
        self.swap_button = push_button("Swap", "Make the swap that was tried, as one edit", self.make_swap, row)
        column.addLayout(row)
        column.addWidget(JobBar(self.job, "Comparing"))
        self.job.done.connect(self._came)
        self.job.failed.connect(session.refused)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        self.picture = SvgPicture("What changed in the light path: taken out dashed, put in bold")
        column.addWidget(self.picture)
        self.invalidated = Panel("No longer valid")
        self.invalidated_text = self.invalidated.add_text()
        column.addWidget(self.invalidated)
        self.values = TextTable("Values that differ", VALUE_HEADINGS, left=(0, 1, 2, 3, 4), stretch=4, widest_em=18)
        self.flips = TextTable(
            "Findings that turned", ("finding", "before", "after"), left=(0, 1, 2), stretch=0, widest_em=40
        )
        self.numbers = TextTable("Numbers that differ", NUMBER_HEADINGS, left=(0, 3), stretch=0, widest_em=30)
        for table in (self.values, self.flips, self.numbers):
            column.addWidget(table)
        self._tried: tuple[str, str] | None = None
        self._show()

    # Asking

    def refresh(self) -> None:
        """Offer what there is to compare with; a comparison in sight is made anew."""
        choices = [NOTHING]
        if self.session.path is not None:
            choices.append(SAVED)
        shown = self.session.rig.name
        choices += [f"train: {name}" for name in self._trains() if name != shown]
        choices.append(FILE)
        _fill(self.against, choices)
        _fill(self.piece, [entry.part.title for entry in self.session.stock.shelf.parts])
        _fill(self.part, [part.title for _, part in self.session.rig.parts()])
        self.swap_button.setEnabled(self._tried is not None)
        if self._again is not None:
            self._again()

    def _trains(self) -> list[str]:
        document = self.session.document
        return [document.name, *(variant.name for variant in document.variants)]

    def _compare(self) -> None:
        choice = self.against.currentText()
        if choice == SAVED:
            self._start(self._against_saved)
        elif choice.startswith("train: "):
            name = choice.removeprefix("train: ")
            self._start(lambda: self._against_train(name))
        elif choice == FILE:
            start = self.session.path.parent if self.session.path is not None else home()
            chosen, _ = QFileDialog.getOpenFileName(self, "Compare with a rig", str(start), "Rigs (*.rig.json *.json)")
            if chosen:
                self.compare_with_file(Path(chosen))

    def _start(self, again: Callable[[], None]) -> None:
        self._tried, self._again = None, again
        again()

    def _against_saved(self) -> None:
        path, variant, now = self.session.path, self.session.variant, self.session.rig
        if path is None:
            return
        self._work(lambda: differences_between(variant_rig(store.load(path).rig, variant), now))

    def _against_train(self, name: str) -> None:
        document, now = self.session.document, self.session.rig
        self._work(lambda: differences_between(now, variant_rig(document, name)))

    def compare_with_file(self, path: Path) -> None:
        """Compare with another rig file: its own train against the one shown."""

        def again() -> None:
            now = self.session.rig
            self._work(lambda: differences_between(variant_rig(store.load(path).rig, None), now))

        self._start(again)

    def compare_with_save(self, index: int) -> None:
        """Compare an entry of the history with now, each value with the save that changed it last."""

        def again() -> None:
            path, variant, now = self.session.path, self.session.variant, self.session.rig
            if path is None:
                return

            def work() -> Differences:
                history = read_history(path)
                return with_reasons(
                    differences_between(variant_rig(history.rig_at(index), variant), now), history, index
                )

            self._work(work)

        self._start(again)

    def _swapped(self, part_id: str, piece_id: str) -> Rig:
        entry = self.session.stock.shelf.find(piece_id)
        if entry is None:
            raise InputError("that piece is no longer on the shelf")
        return edit.apply(self.session.rig, swap(self.session.rig, part_id, entry.part))

    def try_swap(self) -> None:
        """Show what a swap would change, and what would die with it."""
        parts, pieces = [part for _, part in self.session.rig.parts()], self.session.stock.shelf.parts
        if not 0 <= self.part.currentIndex() < len(parts) or not 0 <= self.piece.currentIndex() < len(pieces):
            self.session.refused.emit("choose a part of the rig and a piece of the shelf first")
            return
        tried = parts[self.part.currentIndex()].id, pieces[self.piece.currentIndex()].part.id
        now = self.session.rig

        def again() -> None:
            self._work(lambda: differences_between(now, self._swapped(*tried)))

        self._start(again)
        self._tried, self._again = tried, None
        self.swap_button.setEnabled(True)

    def make_swap(self) -> None:
        """Make the swap that was tried, as one edit."""
        if self._tried is None:
            return
        part_id, piece_id = self._tried
        entry = self.session.stock.shelf.find(piece_id)
        if entry is None:
            self.session.refused.emit("that piece is no longer on the shelf")
            return
        try:
            change = swap(self.session.rig, part_id, entry.part)
        except InputError as error:
            self.session.refused.emit(str(error))
            return
        self._tried = None
        self.session.apply(change)

    def _work(self, make: Callable[[], Differences]) -> None:
        def work(progress: Progress) -> tuple[Differences, str]:
            progress(0, 0)
            found = make()
            progress(0, 0)
            return found, differing_svg(evaluate(found.before), evaluate(found.after))

        self.job.start(work)

    # Showing

    def _came(self, result: tuple[Differences, str]) -> None:
        self.found, markup = result
        self._markup = markup
        self._show()

    def _show(self) -> None:
        found = self.found
        shown = found is not None and not found.nothing
        for widget in (self.picture, self.invalidated, self.values, self.flips, self.numbers):
            widget.setVisible(shown)
        if found is None:
            self.state.setText(
                "Darks, flats, offsets, calibrations and programs' records that a change invalidates are listed here."
            )
            return
        if found.nothing:
            self.state.setText("Nothing differs.")
            return
        tried = "If it were made: " if self._tried is not None else ""
        counts = ", ".join(
            counted(len(of), noun)
            for of, noun in ((found.values, "value"), (found.numbers, "number"), (found.flips, "finding"))
        )
        self.state.setText(
            f"{tried}different are {counts}; {counted(len(found.invalidated), 'measurement')} out of date."
        )
        self.picture.show_svg(self._markup, self._palette)
        lines = [f"{own.title}: {_few(own.because)} ({own.rule})" for own in found.invalidated]
        self.invalidated_text.setText("\n".join(lines) or "It invalidates nothing.")
        self.values.show_rows(
            [
                [value.label, _short(value.change.before), _short(value.change.after),
                 value.by.date[:10] if value.by else "", (value.by.reason or value.by.words) if value.by else ""]
                for value in found.values
            ],
            palette=self._palette,
        )  # fmt: skip
        marks = [flip.after or Verdict.HOLDS for flip in found.flips]
        self.flips.show_rows(
            [[f.finding.title, str(f.before or "–"), str(f.after or "–")] for f in found.flips],
            verdicts=marks,
            palette=self._palette,
        )
        rows = []
        for change in found.numbers:
            decimals = change.row.kind.decimals + 1
            cells = ["–" if own is None else number(own, decimals) for own in (change.before, change.after)]
            rows.append([change.row.kind.label, *cells, change.row.kind.unit])
        self.numbers.show_rows(rows, palette=self._palette)
        for table in (self.values, self.flips, self.numbers):
            table.setVisible(table.rowCount() > 0)

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette = palette
        self._show()


def _fill(box: QComboBox, choices: list[str]) -> None:
    """Offer choices, keeping the one that is chosen."""
    if [box.itemText(place) for place in range(box.count())] == choices:
        return
    kept = box.currentText()
    box.blockSignals(True)
    box.clear()
    box.addItems(choices)
    box.setCurrentIndex(max(box.findText(kept), 0) if choices else -1)
    box.blockSignals(False)


def _few(lines: tuple[str, ...]) -> str:
    return ", ".join(lines[:MOST_LINES]) + (" …" if len(lines) > MOST_LINES else "")


def _short(value: object) -> str:
    text = "–" if value is None else value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= MOST_TEXT else text[: MOST_TEXT - 1] + "…"
