"""The Next measurements sheet: which measurement would settle most, what fits into an hour, and what is out of date."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QInputDialog

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.ledger import OutOfDate
from wyntaxis.core.next_measurements import Measurement, MeasurementPlan, hour_plans, next_measurements
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.out_of_date import confirmation, out_of_date_measurements
from wyntaxis.core.steps import PROOFS, Step
from wyntaxis.core.wording import counted, moment, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.tables import TextTable

DELAY_MS = 250
"""So long after an edit the measurements are ranked again."""
NEEDS = {"bench": "bench", "daylight": "daylight", "twilight": "twilight", "stars": "clear sky"}
HEADINGS = ("measurement", "needs", "minutes", "settles", "of these\nout of date", "usual uncertainty", "done at")
OUT_OF_DATE_HEADINGS = ("number", "measured, UTC", "changed, UTC", "what changed")


@sheet_of(PROOFS)
class NextMeasurementsSheet(StepSheet):
    """What to measure next."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.found: tuple[Measurement, ...] = ()
        self.out_of_date: tuple[OutOfDate, ...] = ()
        self._tried: Evaluation | None = None
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(session.refused)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.try_out)
        self._build_ranking()
        self._build_out_of_date()
        self.refresh()

    def _build_ranking(self) -> None:
        column = self.add_wide_column()
        self.sentence = PlainLabel()
        self.sentence.setProperty("role", "heading")
        self.sentence.setWordWrap(True)
        column.addWidget(self.sentence)
        self.table = TextTable("Measurements", HEADINGS, left=(0, 1, 5, 6), widest_em=24)
        self.table.itemSelectionChanged.connect(self._chose)
        self.table.doubleClicked.connect(lambda _index: self.go())
        column.addWidget(self.table)
        row = FlowRow()
        self.go_button = push_button("Go to its step", "Open the step where the chosen one is done", self.go, row)
        self.copy_button = push_button("Copy", "Copy ranking and plans as text", self.copy, row)
        column.addLayout(row)
        self.numbers = Panel("What the chosen one settles")
        self.number_lines = self.numbers.add_text()
        column.addWidget(self.numbers)
        self.plans = Panel("What fits into an hour")
        self.plan_lines = self.plans.add_text()
        column.addWidget(self.plans)

    def _build_out_of_date(self) -> None:
        column = self.add_wide_column()
        self.out_of_date_title = PlainLabel("Measured before a change: not verified until measured again or confirmed")
        self.out_of_date_title.setProperty("role", "heading")
        self.out_of_date_title.setWordWrap(True)
        column.addWidget(self.out_of_date_title)
        self.out_of_date_table = TextTable(
            "Out-of-date measurements", OUT_OF_DATE_HEADINGS, left=(0, 1, 2, 3), stretch=3, widest_em=22
        )
        column.addWidget(self.out_of_date_table)
        row = FlowRow()
        self.confirm_button = push_button(
            "Confirm …", "Say why the chosen measurement still counts", self.ask_reason, row
        )
        column.addLayout(row)

    # Work

    def refresh(self) -> None:
        super().refresh()
        self.out_of_date = out_of_date_measurements(self.session.rig)
        self._show_out_of_date()
        self._soon.start(DELAY_MS)
        self._show()

    def showEvent(self, a0: object) -> None:
        super().showEvent(a0)  # type: ignore[arg-type]
        self._soon.start(0)

    def try_out(self) -> None:
        """Try every kind of measurement out on the rig, in the background; only while the sheet is in sight."""
        evaluation = self.session.evaluation
        if not self.isVisible() or evaluation is self._tried or self.job.running:
            return
        self._tried = evaluation
        self.job.start(lambda progress: self._work(evaluation, progress))
        self._show()

    @staticmethod
    def _work(evaluation: Evaluation, progress: Progress) -> tuple[Measurement, ...]:
        return next_measurements(evaluation, evaluation.shelf, lambda: progress(0, 0))

    def _came_in(self, found: tuple[Measurement, ...]) -> None:
        self.found = found
        self._show()
        if self.session.evaluation is not self._tried:
            self._soon.start(0)

    # Showing

    @property
    def chosen(self) -> Measurement | None:
        """The chosen measurement; the first where none is."""
        row = self.table.currentRow()
        if not self.found:
            return None
        return self.found[row] if 0 <= row < len(self.found) else self.found[0]

    def _show(self) -> None:
        numbers = len({key for measurement in self.found for key in measurement.settles})
        first = self.found[0] if self.found else None
        if first is not None:
            text = (
                f"{first.title} settles most for its time: {len(first.settles)} numbers in "
                f"{short(first.kind.minutes)} min. All of these together settle {numbers}."
            )
        else:
            text = "Trying out what each measurement would settle …"
            if self._tried is not None and not self.job.running:
                text = "No measurement that the application knows would settle more of this rig."
        self.sentence.setText(text)
        self.table.show_rows([self._row(measurement) for measurement in self.found], palette=self._palette)
        self.table.setVisible(bool(self.found))
        for widget in (self.go_button, self.copy_button):
            widget.setEnabled(bool(self.found))
        for panel in (self.numbers, self.plans):
            panel.setVisible(bool(self.found))
        self.plan_lines.setText("\n".join(plan_text(plan) for plan in hour_plans(self.found)))
        self._chose()

    def _row(self, measurement: Measurement) -> list[str]:
        kind = measurement.kind
        return [
            measurement.title,
            NEEDS[kind.needs],
            short(kind.minutes),
            str(len(measurement.settles)),
            str(len(measurement.out_of_date)) if measurement.out_of_date else "–",
            kind.usual,
            kind.step.title,
        ]

    def _chose(self) -> None:
        measurement, rows = self.chosen, self.session.evaluation.rows
        if measurement is None:
            return
        labels = [rows[key].kind.label if key in rows else key for key in measurement.settles]
        self.numbers.heading.setText(f"What “{measurement.title}” settles")
        self.number_lines.setText("; ".join(labels) + ".")

    def _show_out_of_date(self) -> None:
        rows = self.session.evaluation.rows
        shown = [
            [
                rows[entry.row_id].kind.label if entry.row_id in rows else entry.row_id,
                moment(entry.measured_on) if entry.measured_on else "unknown",
                moment(entry.changed_on) if entry.changed_on else "unknown",
                "; ".join(entry.what),
            ]
            for entry in self.out_of_date
        ]
        self.out_of_date_table.show_rows(shown, palette=self._palette)
        for widget in (self.out_of_date_title, self.out_of_date_table, self.confirm_button):
            widget.setVisible(bool(self.out_of_date))

    # Doing

    def go(self) -> None:
        """Open the step where the chosen measurement is done."""
        measurement = self.chosen
        if measurement is not None:
            self.step_asked.emit(measurement.kind.step.key)

    def ask_reason(self) -> None:
        """Ask why the chosen out of date measurement still counts, and confirm it."""
        row = self.out_of_date_table.currentRow()
        if not 0 <= row < len(self.out_of_date):
            self.session.refused.emit("choose a measurement in the table of out-of-date measurements")
            return
        entries, given = QInputDialog.getText(self, "Confirm", "Why does it still count?")
        if given:
            self.confirm(self.out_of_date[row], entries)

    def confirm(self, entry: OutOfDate, reason: str) -> None:
        """Note why a out of date measurement still counts, as one edit."""
        try:
            values = confirmation(self.session.rig, entry.path, reason)
        except ValueError as error:
            self.session.refused.emit(str(error))
            return
        self.session.apply(Change("Confirm a measurement", values))

    def copy(self) -> None:
        """Put ranking and plans on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(f"{self.sentence.text()}\n{self.table.as_text()}\n{self.plan_lines.text()}")

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.refresh()


def plan_text(plan: MeasurementPlan) -> str:
    """Return a plan in a sentence."""
    if not plan.measurements:
        return f"{plan.title}: nothing of these fits."
    steps = "; ".join(
        f"{measurement.title} ({short(measurement.kind.minutes)} min)" for measurement, _ in plan.measurements
    )
    return f"{plan.title}, {short(plan.minutes)} min, settles {counted(plan.settles, 'number')}: {steps}."
