"""The main window: section band on top, worklist, sheet and margin below.

It comes up at once as an empty drafting sheet; what is on it is imported, built and loaded right after that.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QByteArray, QEvent, Qt, QTimer
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QResizeEvent,
)
from PyQt6.QtWidgets import QApplication, QWidget

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.files.places import state_folder
from wyntaxis.desk.palette import PALETTES, Palette, style_sheet
from wyntaxis.desk.rig_files import RigFiles
from wyntaxis.desk.window_state import WindowState
from wyntaxis.desk.workplace import Workplace

if TYPE_CHECKING:
    from wyntaxis.core.steps import Step
    from wyntaxis.desk.drawing_area import DrawingArea
    from wyntaxis.desk.guide_access import GuideAccess
    from wyntaxis.desk.listed_findings import ListedFindings
    from wyntaxis.desk.pages import Pages
    from wyntaxis.desk.session import Session
    from wyntaxis.desk.sheets.base import StepSheet
    from wyntaxis.desk.stock import ShelfStock

TEXT_SCALES = (0.8, 0.9, 1.0, 1.15, 1.3, 1.5, 1.75, 2.0)
MAX_PX = 16777215
"""What Qt takes for no limit of a widget's height."""


class MainWindow(Workplace):
    """Shows one session at a time."""

    drawing: DrawingArea
    stack: Pages
    guide: GuideAccess
    listed: ListedFindings
    built = False

    def __init__(
        self, settings: WindowState | None = None, folder: Path | None = None, shelf_path: Path | None = None
    ) -> None:
        super().__init__()
        self.settings = settings or WindowState(folder)
        self.folder = folder or state_folder()
        self.session: Session | None = None
        self.files = RigFiles(self)
        self.shelf_path = shelf_path
        self._stock: ShelfStock | None = None
        self._on_first_paint: Callable[[], None] | None = None
        self.palette_in_use: Palette = PALETTES.get(self.settings.word("palette", "day"), PALETTES["day"])
        self.text_scale = self.settings.number("text_scale", 1.0, TEXT_SCALES[0], TEXT_SCALES[-1])
        self._may_close = False
        self._refused_value = ""
        self.setMinimumSize(800, 560)
        self.setWindowTitle("Wyntaxis, opening …")
        self.resize(1280, 800)
        geometry = self.settings.state("geometry")
        if geometry is not None:
            self.restoreGeometry(QByteArray(geometry))

    # Building

    def start(self, load: Callable[[], None], before: Callable[[], None]) -> None:
        """Show the window, let it paint once, do what comes before building, then build, and load the rig."""

        def begin() -> None:
            before()
            QTimer.singleShot(0, go_on)

        def go_on() -> None:
            self.build()
            load()
            self.files.offer_left_behind()

        self._on_first_paint = begin
        self.show()

    def dragEnterEvent(self, a0: QDragEnterEvent | None) -> None:
        from wyntaxis.desk.dropped_files import paths_of

        if a0 is not None and paths_of(a0):
            a0.acceptProposedAction()

    def dropEvent(self, a0: QDropEvent | None) -> None:
        from wyntaxis.desk.dropped_files import paths_of

        if a0 is not None and (paths := paths_of(a0)):
            a0.acceptProposedAction()
            self.dropped.take(paths)

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        if self.built:
            super().paintEvent(a0)
            return
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        painter.setPen(self.palette_in_use.color("rule"))
        painter.drawLine(0, self.height() // 3, self.width(), self.height() // 3)
        if self._on_first_paint is not None:
            QTimer.singleShot(0, self._on_first_paint)
            self._on_first_paint = None

    def build(self) -> None:
        """Build everything on the window, once."""
        if self.built:
            return
        from wyntaxis.core.steps import step_named
        from wyntaxis.desk.journal import Journal
        from wyntaxis.desk.menus import Menus
        from wyntaxis.desk.palette_clock import PaletteClock

        self.built = True
        self.journal = Journal(self.folder)
        self.journal.failed.connect(self.refuse)
        self.step: Step = step_named(self.settings.word("step", ""))
        self._build_widgets()
        self._connect_widgets()
        self.palette_clock = PaletteClock(self)
        self.menus = Menus(self, self.files)
        self.files.kept.connect(self.menus.fill_recent)
        state = self.settings.state("below")
        if state is not None:
            self.below.restoreState(QByteArray(state))
        self.drawing.show_step(self.step)
        self.apply_look()

    def _build_widgets(self) -> None:
        from PyQt6.QtWidgets import QSplitter, QVBoxLayout

        from wyntaxis.desk.drawing_area import DrawingArea
        from wyntaxis.desk.findings_panel import FindingsPanel
        from wyntaxis.desk.notice import NoticeStrip
        from wyntaxis.desk.pages import Pages
        from wyntaxis.desk.worklist_view import WorklistView

        self.notice = NoticeStrip()
        self.drawing = DrawingArea(self.settings)
        self.band = self.drawing.section
        self.worklist = WorklistView()
        self.margin = FindingsPanel()
        self.stack = Pages()
        self.stack.sheet_made.connect(self._sheet_made)
        self.below = QSplitter(Qt.Orientation.Horizontal)
        for widget in (self.worklist, self.stack, self.margin):
            self.below.addWidget(widget)
        self.below.setStretchFactor(1, 1)
        self.below.setCollapsible(1, False)
        self.below.setSizes([214, 762, 300])
        self.split = QSplitter(Qt.Orientation.Vertical)
        self.split.addWidget(self.drawing)
        self.split.addWidget(self.below)
        self.split.setStretchFactor(1, 1)
        self.split.setCollapsible(0, False)
        self.split.setCollapsible(1, False)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.notice)
        column.addWidget(self.split, 1)
        self.setCentralWidget(body)

    def _connect_widgets(self) -> None:
        from wyntaxis.desk.drawing_actions import DrawingActions
        from wyntaxis.desk.dropped_files import DroppedFiles
        from wyntaxis.desk.guide_access import GuideAccess
        from wyntaxis.desk.listed_findings import ListedFindings
        from wyntaxis.desk.whole_page import WholePage

        self.drawn = DrawingActions(self, self.drawing)
        self.guide = GuideAccess(self, self.stack)
        self.listed = ListedFindings(self, self.margin)
        self.whole_page = WholePage(self.stack, self.drawing, self.worklist, self.margin)
        self.setAcceptDrops(True)
        self.dropped = DroppedFiles(self, lambda path: self.files.guard(lambda: self.files.open_path(path)))
        self.split.splitterMoved.connect(lambda at, _index: self.drawing.keep_height(at))
        self.drawing.shared.connect(self._share_height)
        self.stack.step_asked.connect(self.show_step)
        self.stack.parts_asked.connect(self.drawn.begin_with_parts)
        self.stack.demo_asked.connect(lambda name: self.files.guard(lambda: self.files.open_demo(name)))
        self.stack.rig_asked.connect(lambda rig: self.files.guard(lambda: self.files.open_made(rig)))
        self.stack.refused.connect(self.refuse)
        self.worklist.step_chosen.connect(self.show_step)
        self.margin.all_asked.connect(self.refresh)
        self.margin.remedy_asked.connect(lambda change: self.session and self.session.apply(change))
        self.margin.accept_asked.connect(lambda reason: self.session and self.session.accept(reason))
        self.margin.guide_asked.connect(self.guide.show_finding)
        self.margin.withdraw_asked.connect(lambda: self.session and self.session.withdraw())

    def _sheet_made(self, sheet: StepSheet) -> None:
        """Let a sheet that is newly made take the drawing area for its own picture."""
        sheet.use_drawing(self.drawing)

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        if self.built and a0 is not None and a0.oldSize().height() != a0.size().height():
            self._share_height()

    def _share_height(self) -> None:
        """Give the drawing the height that it needs, or was given; folded, just that of the strip."""
        height = self.drawing.wanted_height(self.height(), self.text_scale)
        folded = self.drawing.is_collapsed
        self.drawing.setMinimumHeight(height if folded else round(120 * self.text_scale))
        self.drawing.setMaximumHeight(height if folded else MAX_PX)
        self.split.setSizes([height, max(self.height() - height, 300)])

    # Looks

    def apply_look(self) -> None:
        """Apply palette and text size to everything."""
        self.setStyleSheet(style_sheet(self.palette_in_use, self.text_scale))
        self.drawing.set_palette(self.palette_in_use)
        self.worklist.set_palette(self.palette_in_use)
        self.worklist.fit_to_font()
        self.margin.set_palette(self.palette_in_use)
        self._share_height()
        self.worklist.setMinimumWidth(round(170 * self.text_scale))
        self.margin.setMinimumWidth(round(210 * min(self.text_scale, 1.5)))
        self.stack.set_palette(self.palette_in_use)
        if self.session is not None:
            self.refresh()

    def set_palette_by_name(self, name: str) -> None:
        """Change to the day or the night palette."""
        self.palette_in_use = PALETTES[name]
        self.settings.put("palette", name)
        self.apply_look()

    def change_text(self, steps: int) -> None:
        """Make the text larger or smaller by steps; 0 brings the base size back."""
        nearest = min(range(len(TEXT_SCALES)), key=lambda i: abs(TEXT_SCALES[i] - self.text_scale))
        index = TEXT_SCALES.index(1.0) if steps == 0 else min(max(nearest + steps, 0), len(TEXT_SCALES) - 1)
        self.text_scale = TEXT_SCALES[index]
        self.settings.put("text_scale", self.text_scale)
        self.apply_look()

    # Sessions

    def attach(self, session: Session) -> None:
        """Show a session in place of the one before."""
        from wyntaxis.core.rig.blank import is_blank

        self.build()
        self.session = session
        self.stack.attach(session)
        self.drawing.evidence.forget()
        session.changed.connect(self.refresh)
        session.changed.connect(self._forget_refusal)
        session.chosen_changed.connect(self.refresh)
        session.saved_changed.connect(self.refresh)
        session.refused.connect(self.refuse)
        session.asked.connect(self.notice.ask)
        session.about_to_edit.connect(self._finish_field)
        self.journal.follow(session)
        self.notice.put_away_for_another_rig()
        if session.chosen_part is None and session.rig.train:
            finding = session.chosen_finding
            about = finding.parts(session.rig) - {finding.subject} if finding else set()
            session.choose_part(min(about, default=session.rig.train[0].id))
        if session.chosen_finding is not None:
            session.choose_finding(session.chosen_finding)
        self.drawing.show_session(session)
        self.show_step(self.step.key)
        self.refresh()
        if self.palette_clock.is_on and session.rig.site is not None:
            self.palette_clock.look()
        if session.path is None and is_blank(session.document):
            self.show_start()

    @property
    def sheets(self) -> dict[str, StepSheet]:
        """The sheets shown so far, by step; each is made when it is first asked for."""
        return self.stack.sheets

    def stock(self) -> ShelfStock:
        """Return the shelf that all rigs share, read when it is first asked for."""
        if self._stock is None:
            from wyntaxis.desk.stock import ShelfStock

            self._stock = ShelfStock(self.shelf_path)
            self._stock.refused.connect(self.refuse)
            if self._stock.broken:
                self.refuse(self._stock.broken)
        return self._stock

    def finish_typing(self) -> bool:
        """Take what is being typed in a field as entered; return False where it is refused: it stays there, marked."""
        from wyntaxis.desk.value_field import ValueField, is_text_input

        focus = QApplication.focusWidget()
        if isinstance(focus, ValueField):
            return focus.finish()
        if focus is not None and is_text_input(focus) and self.isAncestorOf(focus):
            focus.clearFocus()
            return not bool(focus.property("invalid"))
        return True

    def _forget_refusal(self) -> None:
        """Take the refusal of a value away, now that the rig has changed."""
        if self._refused_value:
            self.notice.close_message(self._refused_value)
            self._refused_value = ""

    def _finish_field(self) -> None:
        """Take what is typed in a field as entered before the document changes: its place is still as shown."""
        from wyntaxis.desk.value_field import ValueField

        focus = QApplication.focusWidget()
        if isinstance(focus, ValueField) and self.isAncestorOf(focus):
            focus.finish()

    def event(self, a0: QEvent | None) -> bool:
        """Leave keys that change a text to the text that is being edited."""
        from wyntaxis.desk.value_field import is_edited_text

        if (
            self.built
            and isinstance(a0, QKeyEvent)
            and a0.type() == QEvent.Type.ShortcutOverride
            and is_edited_text(QApplication.focusWidget())
            and self.menus.spares_text(QKeySequence(a0.keyCombination()))
        ):
            a0.accept()
            return True
        return super().event(a0)

    def closeEvent(self, a0: QCloseEvent | None) -> None:
        if a0 is None:
            return
        if not self._may_close and not self.finish_typing():
            a0.ignore()  # what was typed is refused, and stays to be corrected
            return
        if not self._may_close and self.session is not None and self.session.dirty:
            a0.ignore()
            self.files.guard(self._close_now)
            return
        self.files.saving.wait()
        if not self.built:
            a0.accept()
            return
        self.journal.finish()
        self.settings.put("geometry", bytes(self.saveGeometry().data()))
        self.settings.put("below", bytes(self.below.saveState().data()))
        self.settings.put("step", self.step.key)
        self.settings.write()
        a0.accept()

    def _close_now(self) -> None:
        self._may_close = True
        self.close()

    # Showing

    def refresh(self) -> None:
        """Draw everything anew from the session."""
        from wyntaxis.core.worklist import tallies

        session = self.session
        if session is None:
            return
        self.drawing.refresh()
        self.stack.refresh(self.step.key)
        self.worklist.show_tallies(tallies(session.evaluation))
        self.listed.refresh()
        place = session.path.name if session.path else "not saved yet"
        self.setWindowTitle(plain(f"{session.rig.name} ({place})[*] – Wyntaxis"))
        self.setWindowModified(session.dirty)
        self.menus.refresh()

    def show_step(self, key: str) -> None:
        """Show a step's sheet."""
        from wyntaxis.core.steps import step_named

        self.step = step_named(key)
        self.drawing.show_step(self.step)
        self.worklist.show_current(self.step)
        if self.session is None:
            return
        self.stack.show_sheet(self.step.key)
        self.listed.step_shown()

    def go_steps(self, by: int) -> None:
        """Show the step that lies some places after (or before) the one shown, around the ends."""
        from wyntaxis.core.steps import steps

        self.show_step(steps()[(steps().index(self.step) + by) % len(steps())].key)

    def go_findings(self, by: int) -> None:
        """Go to the next finding that does not hold, or the one before, over all steps."""
        self.listed.go_on(by)

    def go_anywhere(self) -> None:
        """Show the list of all places to go to, with a field that narrows it."""
        from wyntaxis.desk.go_to import GoTo

        self.places = GoTo(self, self.menus)
        self.places.open()

    def show_start(self) -> None:
        """Show the start page: drafting from what is in hand, and what nobody gave yet."""
        from wyntaxis.core.steps import LIGHT_PATH

        if self.session is None:
            return
        self.step = LIGHT_PATH
        self.drawing.show_step(self.step)
        self.worklist.show_current(None)
        self.stack.show_start()

    def leave_start(self) -> None:
        """Go from the start page, where it is shown, to the sheet of the step."""
        if self.stack.shows_start:
            self.show_step(self.step.key)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        """Let Esc take a notice away, wherever the keyboard is."""
        if a0 is None or a0.key() != Qt.Key.Key_Escape or not self.built or not self.notice.escape():
            super().keyPressEvent(a0)

    def refuse(self, message: str) -> None:
        """Say in the strip why an edit or a file was not taken; what was typed stays where it was typed."""
        from wyntaxis.desk.value_field import Entering, ValueField

        if Entering.now is not None or isinstance(QApplication.focusWidget(), ValueField):
            self._refused_value = message
        Entering.refuse()
        self.band.mark_refused()
        self.notice.tell(message, error=True)

    def tell_fault(self, message: str, trace: str) -> None:
        """Say in the strip that something failed inside, with its trace to copy."""
        if self.built:
            self.notice.tell_with_details(message, trace)
