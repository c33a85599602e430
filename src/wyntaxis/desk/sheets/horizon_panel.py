"""The horizon of the site: the object's path over it on a date, and the hours it is up in the dark."""

from __future__ import annotations

import datetime
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import home
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.sky.horizon import NightPath, horizon_csv, night_path, with_horizon
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.plots_sky import HorizonPlot
from wyntaxis.desk.saving import export
from wyntaxis.desk.session import Session

CSV_FILTER = "Horizon (*.csv *.txt *.hrz);;All files (*)"


class HorizonPanel(QWidget):
    """Brings a horizon in, chooses a date, shows the night."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self._session, self._palette = session, palette
        self._shown: tuple[object, ...] | None = None
        self.night: NightPath | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = FlowRow()
        label = PlainLabel("Night of, year-month-day")
        self.date = QLineEdit(datetime.datetime.now(datetime.UTC).date().isoformat())
        self.date.setAccessibleName("Night beginning on the date")
        self.date.setMaximumWidth(8 * self.fontInfo().pixelSize())
        label.setBuddy(self.date)
        self.date.editingFinished.connect(self.refresh)
        row.addWidget(label)
        row.addWidget(self.date)
        push_button("Horizon file …", "Bring a horizon in: azimuth and altitude in degrees, CSV", self.ask_file, row)
        self.write_button = push_button("Write it …", "Write the site's horizon to a CSV file", self.ask_write, row)
        self.forget_button = push_button("Forget it", "Take the horizon out of the site", self.forget, row)
        column.addLayout(row)
        self.plot = HorizonPlot()
        self.plot.refused.connect(session.refused)
        column.addWidget(self.plot)
        self.job = Job(self)
        self.job.done.connect(self._computed)
        self.job.failed.connect(self._failed)

    def set_palette(self, palette: Palette) -> None:
        self._palette = palette
        self._draw()

    def ask_file(self) -> None:
        """Ask for a horizon file and bring it in."""
        chosen, _ = QFileDialog.getOpenFileName(self, "A horizon", str(home()), CSV_FILTER)
        if chosen:
            self.bring_in(Path(chosen))

    def bring_in(self, path: Path) -> None:
        """Bring a horizon file in."""
        try:
            self._session.apply(with_horizon(self._session.rig, path))
        except InputError as error:
            self._session.refused.emit(str(error))

    def ask_write(self) -> None:
        """Ask for a file and write the horizon to it."""
        site = self._session.rig.site
        chosen, _ = QFileDialog.getSaveFileName(self, "Write the horizon", str(home() / "horizon.csv"), CSV_FILTER)
        if chosen and site is not None:
            refusal = export(horizon_csv(site).encode(), Path(chosen))
            if refusal is not None:
                self._session.refused.emit(refusal)

    def forget(self) -> None:
        """Take the horizon out of the site."""
        self._session.apply(
            Change("Forget the horizon", ((("site", "horizon"), None), (("site", "horizon_from"), None)))
        )

    def refresh(self) -> None:
        """Compute the night anew where site, framing or date have changed."""
        rig = self._session.rig
        has = rig.site is not None and bool(rig.site.horizon)
        self.write_button.setEnabled(has)
        self.forget_button.setEnabled(has)
        key = (rig.site, rig.framing and (rig.framing.ra_deg, rig.framing.dec_deg), self.date.text())
        if key == self._shown:
            return
        self._shown = key
        site, framing = rig.site, rig.framing
        if site is None or framing is None:
            self.night = None
            self._draw()
            return
        try:
            date = datetime.date.fromisoformat(self.date.text().strip())
        except ValueError:
            self._failed(f"“{self.date.text()[:20]}” is no date: write year-month-day, as in 2026-11-24")
            return
        self.plot.answer.setText("Computing the night …")
        self.job.start(lambda _progress: night_path(site, framing.ra_deg, framing.dec_deg, date))

    def _computed(self, night: NightPath) -> None:
        self.night = night
        self._draw()

    def _failed(self, line: str) -> None:
        self.night = None
        self._draw()
        self.plot.answer.setText(line)

    def _draw(self) -> None:
        rig = self._session.rig
        self.plot.show_night(self.night, rig.site, rig.framing.name if rig.framing else None, self._palette)
