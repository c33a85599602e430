"""What the main window offers to what works on it: the menus and the rig files know it by this alone."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from PyQt6.QtWidgets import QMainWindow, QWidget

from wyntaxis.desk.palette import Palette

if TYPE_CHECKING:
    from collections.abc import Mapping

    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.guide import Place
    from wyntaxis.core.steps import Step
    from wyntaxis.desk.journal import Journal
    from wyntaxis.desk.notice import NoticeStrip
    from wyntaxis.desk.section.section_view import SectionView
    from wyntaxis.desk.session import Session
    from wyntaxis.desk.stock import ShelfStock
    from wyntaxis.desk.window_state import WindowState


class Foldable(Protocol):
    """A drawing that can be folded to a strip."""

    def toggle_collapsed(self) -> None:
        """Fold it, or unfold it."""

    def take_keyboard(self) -> None:
        """Put the keyboard onto what is shown."""

    def show_next_picture(self, by: int = 1) -> None:
        """Show the picture of the step that lies some places after the one shown."""


class Comparing(Protocol):
    """Pages, of which one shows all trains of the rig side by side."""

    @property
    def shows_start(self) -> bool:
        """Whether the start page is what is shown."""

    def currentWidget(self) -> QWidget | None:
        """Return the page that is shown."""

    def show_comparison(self) -> None:
        """Show that page."""

    def show_numbers(self) -> None:
        """Show the page with all numbers."""

    def show_incidents(self) -> None:
        """Show the page with the incidents."""

    def show_run_up(self) -> None:
        """Show tonight's run-up, one step at a time."""

    def show_live(self) -> None:
        """Show the newest frame of a folder."""

    def show_chooser(self) -> None:
        """Show every combination of the shelf."""


class Listing(Protocol):
    """The findings in the margin."""

    def go_to(self, finding: Finding) -> None:
        """Choose a finding, and show a step that tells it."""


class Clocked(Protocol):
    """The palette's clock."""

    @property
    def is_on(self) -> bool:
        """Whether the palette follows the sun."""

    def turn(self) -> None:
        """Switch it on or off."""

    def look(self) -> None:
        """Take the palette of the hour."""


class Guiding(Protocol):
    """The guide beside the work."""

    def show(self, place: Place | None = None) -> None:
        """Show the guide at a place, at the step where none is given."""

    def toggle(self) -> None:
        """Show the guide at the step, or put it away."""

    def search(self) -> None:
        """Show the guide with the cursor in its search field."""


class Workplace(QMainWindow):
    """A window with at most one session, a section band, a notice strip and a step that is shown."""

    session: Session | None
    settings: WindowState
    folder: Path
    palette_in_use: Palette
    band: SectionView
    drawing: Foldable
    stack: Comparing
    guide: Guiding
    palette_clock: Clocked
    listed: Listing
    notice: NoticeStrip
    journal: Journal
    step: Step

    @property
    def sheets(self) -> Mapping[str, QWidget]:
        """The steps' sheets, each made when it is first asked for."""
        raise NotImplementedError

    def attach(self, session: Session) -> None:
        """Show a session in place of the one before."""
        raise NotImplementedError

    def stock(self) -> ShelfStock:
        """Return the shelf that all rigs share."""
        raise NotImplementedError

    def refuse(self, message: str) -> None:
        """Say why something was not taken."""
        raise NotImplementedError

    def finish_typing(self) -> bool:
        """Take what is being typed in a field as entered; return False where it is refused."""
        raise NotImplementedError

    def show_step(self, key: str) -> None:
        """Show a step's sheet."""
        raise NotImplementedError

    def go_steps(self, by: int) -> None:
        """Show the step that lies some places after (or before) the one shown."""
        raise NotImplementedError

    def go_findings(self, by: int) -> None:
        """Go to the next finding that does not hold, or the one before, over all steps."""
        raise NotImplementedError

    def go_anywhere(self) -> None:
        """Show the list of all places to go to, with a field that narrows it."""
        raise NotImplementedError

    def leave_start(self) -> None:
        """Go from the start page, where it is shown, to the sheet of the step."""
        raise NotImplementedError

    def show_start(self) -> None:
        """Show the start page."""
        raise NotImplementedError

    def set_palette_by_name(self, name: str) -> None:
        """Change to the day or the night palette."""
        raise NotImplementedError

    def change_text(self, steps: int) -> None:
        """Make the text larger or smaller by steps; 0 brings the base size back."""
        raise NotImplementedError
