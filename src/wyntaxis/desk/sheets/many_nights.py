"""Many random nights with this plan, and with one that would be drafted: simulated in the background, and drawn."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QWidget

from wyntaxis.core.files.errors import Progress
from wyntaxis.core.rehearsal.drafted import drafted_watch
from wyntaxis.core.rehearsal.night_sky import sky_of
from wyntaxis.core.rehearsal.parallel import many_nights_in_parallel
from wyntaxis.core.rehearsal.play import ManyNights
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session

if TYPE_CHECKING:
    from wyntaxis.desk.plots_night import ManyNightsPlot

NIGHTS = 1000


class ManyNightsSection(QObject):
    """Simulates many nights; ``section`` holds their plot once there are some."""

    def __init__(self, session: Session, palette: Palette, date: Callable[[], datetime.date | None]) -> None:
        super().__init__(session)
        self._session, self._palette, self._date = session, palette, date
        self.found: list[tuple[str, ManyNights]] = []
        self.job = Job(self)
        self.job.done.connect(self._came)
        self.job.failed.connect(session.refused)
        self.section = CollapsibleSection("Plot: many nights", self._build, self._draw)

    def refresh(self) -> None:
        """Show the plot where there is something to draw."""
        self.section.setVisible(bool(self.found))

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette from now on."""
        self._palette = palette

    def play(self) -> None:
        """Play a thousand drawn nights with this plan, and with one that would be drafted, in the background."""
        rig, date = self._session.rig, self._date()

        def work(progress: Progress) -> list[tuple[str, ManyNights]]:
            own = setting_of(rig, sky_of(rig, date))
            bare = (
                rig.plan.model_copy(update={"steps": (), "watch": drafted_watch(rig)}) if rig.plan is not None else None
            )
            plans = [("this plan", own)]
            if bare is not None and (rig.plan is None or rig.plan.watch != bare.watch or rig.plan.steps):
                plans.append(("a drafted one", setting_of(rig.model_copy(update={"plan": bare}), own.sky)))
            found = []
            for index, (name, setting) in enumerate(plans):

                def tell(done: int, of: int, index: int = index) -> None:
                    progress(done + index * of, of * len(plans))

                found.append((name, many_nights_in_parallel(setting, NIGHTS, 1, tell)))
            return found

        self.job.start(work)

    def _came(self, found: list[tuple[str, ManyNights]]) -> None:
        self.found = found
        self.section.setVisible(True)
        self.section.open()
        self.section.refresh()

    def _build(self) -> QWidget:
        from wyntaxis.desk.plots_night import ManyNightsPlot

        self.plot: ManyNightsPlot = ManyNightsPlot()
        self.plot.refused.connect(self._session.refused)
        return self.plot

    def _draw(self) -> None:
        self.plot.show_plans(self.found, self._palette)
