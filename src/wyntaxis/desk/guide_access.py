"""The guide beside the work: shown at the step, at a finding, or with the cursor in its search."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.guide import Place
    from wyntaxis.desk.pages import Pages
    from wyntaxis.desk.workplace import Workplace


class GuideAccess:
    """Shows the guide in the pages of a window, and puts it away."""

    def __init__(self, window: Workplace, pages: Pages) -> None:
        self._window, self._pages = window, pages

    def show(self, place: Place | None = None) -> None:
        """Show the guide at a place, at the step where none is given."""
        from wyntaxis.core.guide import place_of_step

        self._pages.show_guide(place or place_of_step(self._window.step))

    def show_finding(self, finding: Finding) -> None:
        """Show what the guide says of a finding."""
        from wyntaxis.core.guide import place_of_finding

        self.show(place_of_finding(finding))

    def toggle(self) -> None:
        """Show the guide at the step, or put it away."""
        if self._pages.shows_guide:
            self._pages.leave_guide()
        else:
            self.show()

    def search(self) -> None:
        """Show the guide with the cursor in its search field."""
        self.show()
        if self._pages.guide is not None:
            self._pages.guide.words.setFocus()
