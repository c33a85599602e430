"""Frame headers: reads a folder's FITS headers in the background and shows groups, differences and what is lacking."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog

from wyntaxis.core.evidence.headers.keeping import KEPT, times_change
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.headers.overheads import Overheads, overheads
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import home
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.audit import HeaderAudit
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.past_night import against_plan
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.wording import counted, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable


class FramesPanel(Panel):
    """What the frames themselves say."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__("Frame headers")
        self._session, self.palette_in_use = session, palette
        self.state = self.add_text()
        row = FlowRow()
        self.read_button = push_button(
            "Read a folder …", "Read the headers of all frames below a folder", self.ask, row
        )
        self.save_button = push_button("Save as CSV …", "Save a line for every frame", self.ask_save, row)
        self.keep_button = push_button(
            "Keep the times", "Keep in the plan what download, dither, filter change and focus run took", self.keep, row
        )
        self.forget_button = push_button("Forget", "Leave the frames out again", self.forget, row)
        self.column.addLayout(row)
        self.job = Job(self)
        self.job.done.connect(partial(session.look_at, HEADERS))
        self.job.failed.connect(session.refused)
        self.column.addWidget(JobBar(self.job, "Reading headers"))
        self.job.running_changed.connect(lambda on: self.read_button.setEnabled(not on))
        self.checks = TextTable(
            "Headers against the rig",
            ("Quantity", "Keyword", "Header", "Rig", "Frames", "Off by, and the likely story"),
            left=(0, 1, 5),
            stretch=5,
        )
        self.groups = TextTable("Groups of frames", ("Group", "Frames"), left=(0,))
        self.missing = TextTable("What lights lack", ("Lights", "Frames", "Missing", "Why"), left=(0, 2, 3), stretch=3)
        self.broken = TextTable("Broken files", ("File", "Why"), left=(0, 1), stretch=1)
        for table in self.tables:
            self.column.addWidget(table)
        self.times = self.add_text()

    @property
    def tables(self) -> tuple[TextTable, ...]:
        return self.checks, self.missing, self.groups, self.broken

    def ask(self) -> None:
        """Ask for a folder of frames and read it."""
        chosen = QFileDialog.getExistingDirectory(self, "A folder of frames", str(home()))
        if chosen:
            self.read(Path(chosen))

    def read(self, folder: Path) -> None:
        """Read a folder's headers in the background."""
        self.job.start(lambda progress: HEADERS.read(folder, progress))

    def keep(self) -> None:
        """Keep in the plan what the night's work took by the frames' times, as one edit."""
        found = self._session.evaluation.frames
        if found is None:
            return
        try:
            change = times_change(self._session.rig, overheads(found.frames), Path(found.folder).name)
        except ValueError as error:
            self._session.refused.emit(str(error))
        else:
            self._session.apply(change)

    def forget(self) -> None:
        """Leave the frames out again."""
        self._session.look_at(HEADERS, None)

    def ask_save(self) -> None:
        """Ask where to save the audit."""
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the audit", str(home() / "frames.csv"), "CSV (*.csv)")
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Save every frame as a line of CSV."""
        found = self._session.evaluation.frames
        if found is None:
            return
        try:
            write_atomically(found.as_csv().encode(), path, keep_previous=False)
        except InputError as error:
            self._session.refused.emit(str(error))

    def refresh(self) -> None:
        """Show the audit as it stands against the rig now."""
        found = self._session.evaluation.frames
        self.save_button.setEnabled(found is not None)
        self.forget_button.setEnabled(found is not None)
        times = overheads(found.frames) if found is not None else Overheads(why="no frames have been read")
        self.keep_button.setEnabled(any(action in KEPT for action in times.known))
        lines = times.lines()
        if times.nights:
            lines += against_plan(times, setting_of(self._session.rig, plain_sky()))
        self.times.setText("\n".join(lines))
        self.times.setVisible(found is not None)
        for table in self.tables:
            table.setVisible(found is not None)
        if found is None:
            self.state.setText(
                "Every frame records what its program held. Read a folder, with all below it, to compare its headers "
                "with the rig and to see which lights lack darks, flats or bias. Pixels are not read."
            )
            return
        self._show(found)

    def _show(self, found: HeaderAudit) -> None:
        fails = sum(check.verdict is Verdict.FAILS for check in found.checks)
        lights = sum(lack.lights.count for lack in {id(lack.lights): lack for lack in found.missing}.values())
        self.state.setText(
            f"{counted(found.count, 'frame')} below {found.folder} in {counted(len(found.groups), 'group')}; "
            f"{counted(fails, 'difference')} from the "
            f"rig; {counted(lights, 'light')} without a partner; {counted(len(found.broken), 'broken file')}."
            + (f" {found.skipped}." if found.skipped else "")
        )
        self.checks.show_rows(
            [
                [
                    check.label,
                    check.keyword,
                    f"{_text(check.value)} {check.unit}".rstrip(),
                    f"{_text(check.rig)} {check.unit}".rstrip(),
                    str(check.count),
                    "; ".join(part for part in (check.by, check.story) if part),
                ]
                for check in found.checks
            ],
            verdicts=[check.verdict for check in found.checks],
            palette=self.palette_in_use,
        )
        self.groups.show_rows([[group.title, str(group.count)] for group in found.groups])
        self.missing.show_rows(
            [[lack.lights.title, str(lack.lights.count), lack.kind, lack.reason] for lack in found.missing],
            verdicts=[lack.verdict for lack in found.missing],
            palette=self.palette_in_use,
        )
        self.missing.setVisible(bool(found.missing))
        self.broken.show_rows([[entry.path, entry.why] for entry in found.broken])
        self.broken.setVisible(bool(found.broken))


def _text(value: object) -> str:
    return short(value) if isinstance(value, float) else ", ".join(value) if isinstance(value, tuple) else str(value)
