"""What could be built of the shelf: every combination in one table, sorted, narrowed, and opened as a rig."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QCheckBox, QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.chooser import Combination, choices_of, combinations
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.shelf import Shelf, load_shelf
from wyntaxis.core.sky.objects import find_object
from wyntaxis.core.wording import counted, number
from wyntaxis.demo import CHOOSING_SHELF
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

NUMBERS = (
    ("effective_focal_length_mm", "Focal length,\nmm", 0), ("focal_ratio", "Focal\nratio", 2),
    ("pixel_scale_arcsec_px", "Pixel scale,\n″/px", 2), ("field_width_deg", "Field,\n°", 2),
    ("sampling_usual", "Px in a FWHM\nof 3″", 1), ("back_focus_error_mm", "Distance\nerror, mm", 2),
    ("guide_to_main_ratio", "Guide px\nin main px", 2), ("object_share_percent", "Object,\n% of field", 0),
    ("data_mb_h", "Data,\nMB an hour", 0), ("cost", "Cost", 0),
)  # fmt: skip
PIECES = ("Telescope", "Corrector", "Camera", "Guide")
MATES = {True: "yes", None: "not verified", False: "no"}
MARKS = {True: Verdict.HOLDS, None: Verdict.UNPROVEN, False: Verdict.FAILS}
MATES_COLUMN = len(PIECES)
WIDEST_EM = 26


class ChooserPage(QWidget):
    """The table of combinations; a double click or Enter opens the rig of a row."""

    rig_asked = pyqtSignal(object)
    refused = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self._palette: Palette | None = None
        self._asked: tuple[Shelf, str] | None = None
        self._own: Shelf | None = None
        self.found: list[Combination] = []
        self.shown: list[Combination] = []
        """The rows in the table, from the top."""
        self._sorted_by: tuple[int, bool] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        heading = PlainLabel("Choose a train")
        heading.setProperty("role", "title")
        self.hint = PlainLabel()
        self.hint.setProperty("role", "faded")
        self.hint.setWordWrap(True)
        self.job = Job(self)
        self.bar = JobBar(self.job, "Comparing")
        self.job.done.connect(self._came)
        self.job.failed.connect(self.refused)
        self.state = PlainLabel()
        self.state.setProperty("role", "faded")
        headings = (*PIECES, "Mates", *(words for _, words, _ in NUMBERS), "Pieces, or what is in the way")
        self.table = TextTable("Combinations", headings, left=(0, 1, 2, 3, 4, len(headings) - 1), widest_em=WIDEST_EM)
        self.table.fills = True
        self.table.itemActivated.connect(lambda _item: self.open_chosen())
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionsClickable(True)
        header.sectionClicked.connect(self.sort_by)
        column.addWidget(heading)
        column.addWidget(self.hint)
        column.addLayout(self._fields())
        column.addWidget(self.bar)
        column.addWidget(self.state)
        column.addWidget(self.table, 1)

    def _fields(self) -> FlowRow:
        """Return the row of what narrows the table, and of what is done with it."""
        fields = FlowRow()
        self.words, self.object_name = QLineEdit(), QLineEdit()
        self.words.setPlaceholderText("telescope, corrector, camera")
        self.words.setAccessibleName("Words that the rows shown hold")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda _text: self._narrow())
        self.object_name.setPlaceholderText("object, such as NGC 7243")
        self.object_name.setAccessibleName("Object that is to be in the field")
        self.object_name.editingFinished.connect(self.start)
        self.mating = QCheckBox("Only what mates")
        self.mating.setChecked(True)
        self.mating.toggled.connect(lambda _on: self._narrow())
        for field in (self.words, self.object_name):
            field.setMinimumWidth(field.fontMetrics().horizontalAdvance(field.placeholderText()) + 40)
        for widget in (self.words, self.object_name, self.mating):
            fields.addWidget(widget)
        push_button("Open as a rig", "Open the chosen combination as a new rig", self.open_chosen, fields)
        push_button("Copy", "Copy the rows shown as text, with tabs between the columns", self.copy, fields)
        self.example_button = push_button(
            "Show the example shelf", "Compare invented telescopes and cameras", self.show_example, fields
        )
        push_button("Leave (Esc)", "Back to the sheets", self.left.emit, fields)
        return fields

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(a0)

    def show_session(self, session: Session, palette: Palette) -> None:
        """Show the combinations of a session's shelf as it is now."""
        self._palette = palette
        if session is not self._session or session.stock.shelf is not self._own:
            self._session, self._own = session, session.stock.shelf
            self.start(shelf=self._own)
        else:
            self._narrow()

    def show_example(self) -> None:
        """Compare what the example shelf holds."""
        self.start(shelf=load_shelf(CHOOSING_SHELF))

    def start(self, *, shelf: Shelf | None = None) -> None:
        """Compare every combination, in the background."""
        if self._session is None:
            return
        own = shelf or (self._asked[0] if self._asked is not None else self._session.stock.shelf)
        name = self.object_name.text().strip()
        if self._asked == (own, name):
            return
        self._asked = (own, name)
        target = find_object(name) if name else None
        if name and target is None:
            self.refused.emit(f"“{name[:40]}” is not in the catalogue: the object is left out")
        self.hint.setText(
            "Enter or a double click opens a combination as a rig, a click on a heading sorts. What you own is "
            "compared: telescopes and cameras come onto the shelf with its file."
        )
        try:
            choices = choices_of(own)
        except InputError as error:
            self.found = []
            reason = f"{error.reason[:1].upper()}{error.reason[1:]}"
            self.state.setText(f"{reason}. “Show the example shelf” shows what a full one gives.")
            self._narrow(say=False)
            return
        self.state.setText(f"Comparing {counted(choices.count, 'combination')} …")

        def work(progress: Progress) -> list[Combination]:
            return combinations(choices, target, progress)

        self.job.start(work)

    def _came(self, found: list[Combination]) -> None:
        self.found = found
        self._narrow()

    def sort_by(self, column: int) -> None:
        """Sort by a column; a second time, the other way round."""
        turned = self._sorted_by is not None and self._sorted_by[0] == column and not self._sorted_by[1]
        self._sorted_by = (column, turned)
        self._narrow()

    def _narrow(self, *, say: bool = True) -> None:
        """Show the rows that were asked for, in the order that was asked for."""
        if self._palette is None:
            return
        words = self.words.text().casefold().split()
        shown = [
            own
            for own in self.found
            if (own.mates or not self.mating.isChecked())
            and all(word in " ".join(self._names(own)).casefold() for word in words)
        ]
        header = self.table.horizontalHeader()
        assert header is not None
        if self._sorted_by is not None:
            column, turned = self._sorted_by
            shown.sort(key=lambda own: self._key(own, column), reverse=turned)
            way = Qt.SortOrder.DescendingOrder if turned else Qt.SortOrder.AscendingOrder
            header.setSortIndicatorShown(True)
            header.setSortIndicator(column, way)
        self.shown = shown
        marks = {(place, MATES_COLUMN): MARKS[own.mates] for place, own in enumerate(shown)}
        self.table.show_rows([self._cells(own) for own in shown], cell_verdicts=marks, palette=self._palette)
        for place, (key, _, _) in enumerate(NUMBERS, start=MATES_COLUMN + 1):
            self.table.setColumnHidden(place, not any(key in own.numbers for own in shown))
        if say and not self.job.running:
            mate = sum(own.mates is True for own in self.found)
            self.state.setText(f"{len(shown)} of {counted(len(self.found), 'combination')}; {mate} mate.")

    @staticmethod
    def _names(own: Combination) -> list[str]:
        return [own.telescope, own.corrector or "–", own.camera, own.guide or "–"]

    def _cells(self, own: Combination) -> list[str]:
        numbers = [number(own.numbers[key], places) if key in own.numbers else "–" for key, _, places in NUMBERS]
        return [*self._names(own), MATES[own.mates], *numbers, own.why or ", ".join(own.pieces) or "–"]

    def _key(self, own: Combination, column: int) -> tuple[bool, float, str]:
        place = column - MATES_COLUMN - 1
        if 0 <= place < len(NUMBERS):
            value = own.numbers.get(NUMBERS[place][0])
            return value is None, value or 0.0, ""
        return False, 0.0, self._cells(own)[column]

    def open_chosen(self) -> None:
        """Ask for the rig of the chosen row to be opened."""
        place = self.table.currentRow()
        if 0 <= place < len(self.shown):
            self.rig_asked.emit(self.shown[place].rig)
        else:
            self.refused.emit("choose a combination in the table first")

    def copy(self) -> None:
        """Copy the rows shown."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.table.as_text())
