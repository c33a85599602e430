"""What can stand in the middle of the window: sheets, start page, comparison, all numbers, incidents, the guide."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QWidget

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.records.incidents import above_each_symptom
from wyntaxis.core.steps import step_named
from wyntaxis.desk.palette import DAY, Palette

if TYPE_CHECKING:
    from wyntaxis.core.guide import Place
    from wyntaxis.desk.chooser_page import ChooserPage
    from wyntaxis.desk.compare import ComparePage
    from wyntaxis.desk.guide_page import GuidePage
    from wyntaxis.desk.incidents_page import IncidentsPage
    from wyntaxis.desk.live_page import LivePage
    from wyntaxis.desk.numbers_page import NumbersPage
    from wyntaxis.desk.run_up_page import RunUpPage
    from wyntaxis.desk.session import Session
    from wyntaxis.desk.sheets.base import StepSheet
    from wyntaxis.desk.start_page import StartPage


class Pages(QStackedWidget):
    """Shows one page at a time; each is imported and made when it is first asked for."""

    step_asked = pyqtSignal(str)
    parts_asked = pyqtSignal()
    demo_asked = pyqtSignal(str)
    refused = pyqtSignal(str)
    sheet_made = pyqtSignal(object)
    rig_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.addWidget(QWidget())
        self._session: Session | None = None
        self._palette: Palette = DAY
        self.sheets: dict[str, StepSheet] = {}
        """The sheets shown so far, by step."""
        self.start_page: StartPage | None = None
        self.comparison: ComparePage | None = None
        self.numbers: NumbersPage | None = None
        self.incidents: IncidentsPage | None = None
        self.run_up: RunUpPage | None = None
        self.live: LivePage | None = None
        self.chooser: ChooserPage | None = None
        self.guide: GuidePage | None = None
        self._behind_guide: QWidget | None = None

    def attach(self, session: Session) -> None:
        """Begin anew with another session: the pages of the one before go."""
        for sheet in self.sheets.values():
            self.removeWidget(sheet)
            sheet.deleteLater()
        if self.start_page is not None:
            self.removeWidget(self.start_page)
            self.start_page.deleteLater()
            self.start_page = None
        self._session = session
        self.sheets = _Sheets(self._make_sheet)

    def _make_sheet(self, key: str) -> StepSheet:
        from wyntaxis.desk.sheets.base import make_sheet

        assert self._session is not None
        sheet = make_sheet(self._session, step_named(key), self._palette)
        self.addWidget(sheet)
        sheet.step_asked.connect(self.step_asked)
        sheet.fit_to_font()
        self.sheet_made.emit(sheet)
        return sheet

    def set_palette(self, palette: Palette) -> None:
        """Show every page in another palette, and at the text size that its font has now."""
        self._palette = palette
        if self.guide is not None:
            self.guide.set_palette(palette)
        for sheet in self.sheets.values():
            sheet.set_palette(palette)
            sheet.fit_to_font()

    def refresh(self, step_key: str) -> None:
        """Draw the page that is shown anew, and where it is none of its own, the step's sheet behind it."""
        if self._session is None:
            return
        shown = self.currentWidget()
        if self.comparison is not None and shown is self.comparison:
            self.comparison.show_session(self._session, self._palette)
        if self.numbers is not None and shown is self.numbers:
            self.numbers.show_session(self._session, self._palette)
        if self.incidents is not None and shown is self.incidents:
            self.incidents.show_session(self._session, self._palette)
        if self.chooser is not None and shown is self.chooser:
            self.chooser.show_session(self._session, self._palette)
        if self.live is not None and shown is self.live:
            self.live.show_session(self._session, self._palette)
        if self.run_up is not None and shown is self.run_up:
            self.run_up.show_session(self._session)
        elif self.shows_start:
            assert self.start_page is not None
            self.start_page.refresh()
        else:
            self.sheets[step_key].refresh()

    def show_sheet(self, key: str) -> None:
        """Show a step's sheet as the rig stands now."""
        sheet = self.sheets[key]
        sheet.refresh()
        self.setCurrentWidget(sheet)

    @property
    def shows_start(self) -> bool:
        """Whether the start page is what is shown."""
        return self.start_page is not None and self.currentWidget() is self.start_page

    def show_start(self) -> None:
        """Show the start page, with the cursor in its first field."""
        from wyntaxis.desk.start_page import StartPage

        if self._session is None:
            return
        if self.start_page is None:
            self.start_page = StartPage(self._session)
            self.start_page.parts_asked.connect(self.parts_asked)
            self.start_page.demo_asked.connect(self.demo_asked)
            self.addWidget(self.start_page)
        self.start_page.refresh()
        self.setCurrentWidget(self.start_page)
        self.start_page.first_field().setFocus()

    def show_comparison(self) -> None:
        """Show all trains of the rig side by side."""
        from wyntaxis.desk.compare import ComparePage

        if self._session is None:
            return
        if self.comparison is None:
            self.comparison = ComparePage()
            self.addWidget(self.comparison)
        self.comparison.show_session(self._session, self._palette)
        self.setCurrentWidget(self.comparison)

    def show_numbers(self) -> None:
        """Show all numbers of the rig in one table, with the cursor in the field that narrows it."""
        from wyntaxis.desk.numbers_page import NumbersPage

        if self._session is None:
            return
        if self.numbers is None:
            self.numbers = NumbersPage()
            self.numbers.step_asked.connect(self.step_asked)
            self.numbers.refused.connect(self.refused)
            self.addWidget(self.numbers)
        self.numbers.show_session(self._session, self._palette)
        self.setCurrentWidget(self.numbers)
        self.numbers.words.setFocus()

    def show_incidents(self) -> None:
        """Show the incidents of the rig, with the cursor in the field that narrows them."""
        from wyntaxis.desk.incidents_page import IncidentsPage

        if self._session is None:
            return
        if self.incidents is None:
            self.incidents = IncidentsPage()
            self.addWidget(self.incidents)
        self.incidents.show_session(self._session, self._palette)
        self.setCurrentWidget(self.incidents)
        self.incidents.words.setFocus()

    def show_run_up(self) -> None:
        """Show tonight's run-up at its first open step."""
        from wyntaxis.desk.run_up_page import RunUpPage

        if self._session is None:
            return
        if self.run_up is None:
            self.run_up = RunUpPage()
            self.run_up.refused.connect(self.refused)
            self.run_up.left.connect(lambda: self.step_asked.emit("ready"))
            self.addWidget(self.run_up)
        self.run_up.show_session(self._session)
        self.run_up.go_to_open()
        self.setCurrentWidget(self.run_up)
        self.run_up.setFocus()

    def show_live(self) -> None:
        """Show the newest frame of a folder."""
        from wyntaxis.desk.live_page import LivePage

        if self._session is None:
            return
        if self.live is None:
            self.live = LivePage()
            self.live.refused.connect(self.refused)
            self.live.left.connect(lambda: self.step_asked.emit("stars"))
            self.addWidget(self.live)
        self.live.show_session(self._session, self._palette)
        self.setCurrentWidget(self.live)
        self.live.setFocus()

    def show_chooser(self) -> None:
        """Show every combination of the shelf."""
        from wyntaxis.desk.chooser_page import ChooserPage

        if self._session is None:
            return
        if self.chooser is None:
            self.chooser = ChooserPage()
            self.chooser.refused.connect(self.refused)
            self.chooser.rig_asked.connect(self.rig_asked)
            self.chooser.left.connect(lambda: self.step_asked.emit("shelf"))
            self.addWidget(self.chooser)
        self.chooser.show_session(self._session, self._palette)
        self.setCurrentWidget(self.chooser)
        self.chooser.words.setFocus()

    @property
    def needs_all(self) -> bool:
        """Whether the page that is shown needs the whole window: the run-up, the live view, the chooser."""
        return self.currentWidget() is not None and self.currentWidget() in (self.run_up, self.live, self.chooser)

    @property
    def shows_guide(self) -> bool:
        """Whether the guide is what is shown."""
        return self.guide is not None and self.currentWidget() is self.guide

    def show_guide(self, place: Place) -> None:
        """Show the guide at a place; what was shown before comes back when it is left."""
        from wyntaxis.desk.guide_page import GuidePage

        if self.guide is None:
            self.guide = GuidePage()
            self.guide.left.connect(self.leave_guide)
            self.guide.noted = lambda: above_each_symptom(self._session.rig) if self._session is not None else {}
            self.addWidget(self.guide)
        if not self.shows_guide:
            self._behind_guide = self.currentWidget()
        self.guide.set_palette(self._palette)
        try:
            self.guide.show_place(place)
        except InputError as error:
            self.refused.emit(str(error))
            return
        self.setCurrentWidget(self.guide)
        self.guide.pages.setFocus()

    def leave_guide(self) -> None:
        """Go back from the guide to what was shown before."""
        if self.shows_guide:
            self.setCurrentWidget(self._behind_guide)


class _Sheets(dict[str, "StepSheet"]):
    """Sheets by step, each made when it is first asked for."""

    def __init__(self, make: Callable[[str], StepSheet]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, key: str) -> StepSheet:
        sheet = self[key] = self._make(key)
        return sheet
