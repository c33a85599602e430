"""The Rehearsal sheet: the night played by day, every fault against the plan, its remedies, and many nights."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QPoint, QTimer
from PyQt6.QtWidgets import QLineEdit, QWidget

from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.drafted import drafted_steps, drafted_watch
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal, rehearse
from wyntaxis.core.rehearsal.night_sky import sky_of
from wyntaxis.core.rehearsal.outcome import SPAN_WORDS, NightOutcome, grade_of
from wyntaxis.core.rehearsal.play import FaultRow
from wyntaxis.core.rehearsal.remedy import NightRemedy, remedies, words_of
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.night_plan import NightWatch
from wyntaxis.core.steps import REHEARSAL as STEP
from wyntaxis.core.steps import Step
from wyntaxis.core.wording import counted, number
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.night_timeline import NightTimeline, clock_words
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.placed_faults import PlacedFaults
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.many_nights import ManyNightsSection
from wyntaxis.desk.sheets.plan_steps import PlanSteps
from wyntaxis.desk.sheets.plan_targets import PlanTargets
from wyntaxis.desk.sheets.work_times import WorkTimes
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.drawing_area import DrawingArea

DELAY_MS = 500
PLAIN = "nothing wrong"
GRADES = {
    "survived": Verdict.HOLDS,
    "degraded": Verdict.TIGHT,
    "lost": Verdict.FAILS,
    "unsafe": Verdict.FAILS,
}
FAULT_HEADINGS = ("fault", "the night is", "frames\nkept", "hours\nlost", "not safe, or not handled")
NO_PLAN = (
    "The rig has no plan in steps yet: the plan that would be drafted is simulated. Draft it to change it: each "
    "step has a time limit, attempts, a pause between them, and what follows when they run out."
)


@sheet_of(STEP)
class RehearsalSheet(StepSheet):
    """The night, played."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.remedy: NightRemedy | None = None
        self.plan = PlanSteps(session, palette)
        self.targets = PlanTargets(session, palette)
        self.many = ManyNightsSection(session, palette, self._sky_date)
        self.placed = PlacedFaults(self)
        self.placed.changed.connect(self._show_placed)
        self.job, self.remedy_job = Job(self), Job(self)
        self.job.done.connect(self._played)
        self.remedy_job.done.connect(self._remedy_found)
        for job in (self.job, self.remedy_job):
            job.failed.connect(session.refused)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.play)
        self._build_top()
        self._build_faults()
        self.add_wide(self.targets.section)
        self.add_wide(self.plan.section)
        self.times = WorkTimes(session)
        self.inputs.addWidget(self.times)
        self.add_wide(self.many.section)
        self.watch_card = self.add_card(2)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.play_button = push_button(
            "Simulate the night", "Simulate it, and each fault by itself", self.play_now, row
        )
        self.draft_button = push_button("Draft a plan", "Write a sensible plan into the rig", self.draft, row)
        self.nights_button = push_button("1,000 nights", "Simulate a thousand random nights", self.many.play, row)
        row.addWidget(PlainLabel("night of"))
        self.date = QLineEdit(datetime.datetime.now(datetime.UTC).date().isoformat())
        self.date.setAccessibleName("Date on which the night begins")
        self.date.editingFinished.connect(self._date_changed)
        row.addWidget(self.date)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, "Simulating faults"))
        column.addWidget(JobBar(self.many.job, "Simulating nights"))
        self.timeline = NightTimeline()
        self._listen()
        column.addWidget(self.timeline)
        column.addWidget(self.plan)
        self.legend = PlainLabel(
            "Choose a step in the timeline’s plan to change it; right-click to place a fault there. Filled: at work. "
            "Hatched: waiting, in red without end; crosswise: retries. Ticks below: attempts. A bar: a fault strikes. "
            "A cross: it is not handled. The line above: the object is up."
        )
        self.legend.setWordWrap(True)
        self.legend.setProperty("role", "faded")
        column.addWidget(self.legend)
        self.outcome_panel = Panel("What comes of it")
        self.lines = self.outcome_panel.add_text()
        column.addWidget(self.outcome_panel)

    def _listen(self) -> None:
        """Let the plan follow what is done in the timeline, and the timeline the step that is chosen."""
        self.timeline.step_chosen.connect(self.plan.choose_step)
        self.timeline.step_moved.connect(self.plan.move_step)
        self.timeline.step_added.connect(self.plan.add_step)
        self.timeline.fault_asked.connect(self._place)
        self.plan.shown.connect(self.timeline.show_step)

    def use_drawing(self, drawing: DrawingArea) -> None:
        """Show the night in the window's drawing area, in place of the sheet's own timeline."""
        self.timeline.hide()
        self.timeline.deleteLater()
        self.timeline = drawing.night
        self._listen()

    def _build_faults(self) -> None:
        column = self.add_wide_column()
        self.table = TextTable("Faults", FAULT_HEADINGS, left=(0, 1, 4), stretch=4, widest_em=20)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        self.cure = Panel("What would cure it")
        self.cure_text = self.cure.add_text()
        row = FlowRow()
        self.cure_button = push_button(
            "Change the plan so, and simulate it again", "Apply the remedy", self.apply_remedy, row
        )
        holder = QWidget()
        holder.setLayout(row)
        self.cure.column.addWidget(holder)
        column.addWidget(self.cure)

    # Playing

    @property
    def result(self) -> Rehearsal | None:
        """What was played."""
        return self.session.evidence.of(REHEARSAL)

    def _sky_date(self) -> datetime.date | None:
        try:
            return datetime.date.fromisoformat(self.date.text().strip())
        except ValueError:
            return None

    def _date_changed(self) -> None:
        if self._sky_date() is None:
            self.session.refused.emit(f"“{self.date.text()[:20]}” is no date: write it as 2026-11-26")
            self.date.setText(datetime.datetime.now(datetime.UTC).date().isoformat())
        self._soon.start(0)

    def play_now(self) -> None:
        """Play the night and every fault, in the background."""
        self.session.look_at(REHEARSAL, None)
        self.play()

    def play(self) -> None:
        """Play, unless the rig as it is has been played."""
        rig, date, held = self.session.rig, self._sky_date(), self.result
        asked = date.isoformat() if date is not None else ""
        same_night = held is not None and held.setting.sky.date in ("", asked)
        if self.job.running or not self.isVisible() or (held is not None and held.is_of(rig) and same_night):
            return
        self.job.start(lambda progress: rehearse(rig, sky_of(rig, date), progress))

    def _played(self, found: Rehearsal) -> None:
        if found.is_of(self.session.rig):
            self.session.look_at(REHEARSAL, found)
            if self.placed.faults:
                self.placed.simulate(found)  # against the plan as it is now
        else:
            self._soon.start(DELAY_MS)

    def showEvent(self, a0: Any) -> None:
        super().showEvent(a0)
        self._soon.start(0)

    def draft(self) -> None:
        """Write a sensible plan into the rig, as one edit."""
        rig = self.session.rig
        if rig.plan is None:
            self.session.refused.emit("Enter the planned exposure first (Devices, plan): the plan depends on it")
            return
        steps = [step.model_dump(mode="json", exclude_unset=True) for step in drafted_steps(rig)]
        watch = drafted_watch(rig).model_dump(mode="json", exclude_none=True)
        self.session.apply(
            Change("Draft the plan of the night", ((("plan", "steps"), steps), (("plan", "watch"), watch)))
        )

    # Remedies

    def _place(self, device: str, at_s: float, where: QPoint) -> None:
        """Ask which fault is to strike then."""
        if self.result is not None:
            self.placed.ask(self.result, device, at_s, where)

    def _show_placed(self) -> None:
        """Show the night with the faults that were placed, as a row of its own; or the night without."""
        self.refresh()
        self.table.selectRow(1 if self.placed.outcome is not None else 0)

    @property
    def _above(self) -> int:
        """How many rows stand above the faults: the night without any, and the one with those that were placed."""
        return 1 + (self.placed.outcome is not None)

    @property
    def chosen(self) -> FaultRow | None:
        """The chosen fault; None for the night without any, and for the one with those that were placed."""
        result, row = self.result, self.table.currentRow() - self._above
        shown = self._rows(result)
        return shown[row] if result is not None and 0 <= row < len(shown) else None

    @staticmethod
    def _rows(result: Rehearsal | None) -> list[FaultRow]:
        """Return the faults that apply, the gravest first."""
        if result is None:
            return []
        order = {"unsafe": 0, "lost": 1, "degraded": 2, "survived": 3}
        return sorted((row for row in result.rows if row.applies), key=lambda row: order[row.grade])

    def _find_remedy(self) -> None:
        row, result = self.chosen, self.result
        self.remedy = None
        self.cure.setVisible(row is not None and row.grade != "survived")
        self.cure_button.setEnabled(False)
        if row is None or result is None or row.grade == "survived":
            return
        self.cure_text.setText("Trying changes of the plan …")
        setting = result.setting
        if not self.remedy_job.running:
            self.remedy_job.start(lambda _progress: (row, remedies(setting, row, result.rows)))

    def _remedy_found(self, found: tuple[FaultRow, NightRemedy | None]) -> None:
        row, remedy = found
        if row is not self.chosen:
            self._find_remedy()
            return
        self.remedy = remedy
        lines = []
        if remedy is not None:
            kept = f"{remedy.outcome.frames_kept} of {remedy.outcome.frames_planned} frames"
            lines.append(
                f"{remedy.words[:1].upper()}{remedy.words[1:]}: then the night is {remedy.grade}, {kept} kept."
            )
        more = words_of(row.fault)
        if more:
            lines.append(f"{more[:1].upper()}{more[1:]}.")
        self.cure_text.setText("\n".join(lines) or "No change of the plan helps.")
        self.cure_button.setEnabled(remedy is not None)

    def apply_remedy(self) -> None:
        """Change the plan so that it cures the chosen fault, as one edit; it is played again."""
        if self.remedy is not None and self.result is not None and self.result.is_of(self.session.rig):
            self.session.apply(self.remedy.change)

    # Showing

    def _chose(self) -> None:
        result, row = self.result, self.chosen
        outcome = row.outcome if row is not None else result.good if result is not None else None
        shows_placed = row is None and self.table.currentRow() == 1 and self.placed.outcome is not None
        if shows_placed and result is not None:
            outcome = self.placed.outcome
        if result is not None:  # while a changed plan is being played anew, the last night stays in sight
            self.timeline.show_night(outcome, result.setting.sky, self._palette, result.setting.every)
            self.session.show_night(outcome)
        self.outcome_panel.setVisible(outcome is not None)
        if outcome is not None:
            without = f"With {self.placed.title}" if shows_placed else "Nothing wrong"
            title = row.fault.title if row is not None else without
            self.outcome_panel.heading.setText(f"{title}: what comes of it")
            self.lines.setText("\n".join(self._lines(outcome)))
        self._find_remedy()

    def _lines(self, outcome: NightOutcome) -> Sequence[str]:
        """Return what is told of the chosen night: of the one with nothing wrong, all in ten lines."""
        from wyntaxis.core.rehearsal.summary import in_short

        result = self.result
        if result is None or outcome is not result.good:
            return outcome_lines(outcome, self.timeline.time_words)
        return in_short(result.setting, outcome, result.rows)

    def refresh(self) -> None:
        super().refresh()
        rig, result = self.session.rig, self.result
        if result is not None and not result.is_of(rig):
            self.session.look_at(REHEARSAL, None)  # the plan is another: what was played no longer counts
            return
        if result is None:
            self._soon.start(DELAY_MS)
        steps = rig.plan.steps if rig.plan is not None else ()
        self.state.setText(self._state(result, has_plan=bool(steps)))
        self._show_faults(result)
        for button in (self.play_button, self.nights_button):
            button.setEnabled(not self.job.running)
        self.plan.refresh()
        self.targets.show_frames(result.good.targets if result is not None and result.setting.targets else ())
        self.many.refresh()
        self.times.show_times(result.setting if result is not None else None)
        self.watch_card.setVisible(rig.plan is not None)
        self.watch_card.show_object("Who watches over the night", ("plan", "watch"), displayed_fields(NightWatch), rig)

    def _show_faults(self, result: Rehearsal | None) -> None:
        rows, verdicts = [], []
        if result is not None:
            good, times = result.good, result.setting.sky.time_words
            rows.append(_row(PLAIN, grade_of(good), good, 0.0, times))
            verdicts.append(GRADES[grade_of(good)])
            if self.placed.outcome is not None:
                with_all = self.placed.outcome
                hours = with_all.hours_lost(good)
                rows.append(_row(f"placed: {self.placed.title}", grade_of(with_all), with_all, hours, times))
                verdicts.append(GRADES[grade_of(with_all)])
            for row in self._rows(result):
                rows.append(_row(row.fault.title, row.grade, row.outcome, row.hours_lost, times))
                verdicts.append(GRADES[row.grade])
        self.table.blockSignals(True)
        self.table.show_rows(rows, verdicts=verdicts, palette=self._palette)
        self.table.blockSignals(False)
        self.table.setVisible(result is not None)
        self._chose()

    def _state(self, result: Rehearsal | None, *, has_plan: bool) -> str:
        text = "" if has_plan else NO_PLAN + " "
        if result is None:
            return text + "The night is being simulated …"
        graded = [row.grade for row in result.rows if row.applies]
        counts = ", ".join(f"{graded.count(grade)} {grade}" for grade in GRADES if grade in graded)
        good, night = result.good, result.setting.sky.date or "the plan’s hours"
        kept = f"{grade_of(good)}, {good.frames_kept} of {good.frames_planned} frames kept"
        return f"{text}Night of {night}: without a fault: {kept}. {len(graded)} faults simulated: {counts}."

    def fit_to_font(self) -> None:
        """Give the date the room that it takes in the text size in use."""
        super().fit_to_font()
        self.date.ensurePolished()
        self.date.setFixedWidth(self.date.fontMetrics().horizontalAdvance("0000-00-000") + 20)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.plan.set_palette(palette)
        self.targets.set_palette(palette)
        self.many.set_palette(palette)
        self.refresh()


def _row(title: str, grade: str, outcome: NightOutcome, hours: float, time_words: Callable[[float], str]) -> list[str]:
    first = outcome.first_unhandled
    why = "; ".join((*outcome.unsafe, *(f"nothing ends: {wait}" for wait in outcome.endless)))
    if not why and first is not None:
        why = f"{time_words(first.t_s)}: {first.what}"
    return [title, grade, str(outcome.frames_kept), number(hours, 1), why]


def outcome_lines(outcome: NightOutcome, time_words: Callable[[float], str]) -> list[str]:
    """Return in lines what came of a night; ``time_words`` tells a time in s from the plan's beginning."""
    kept = f"{outcome.frames_kept} of {outcome.frames_planned} frames kept"
    lines = [f"{kept}; the plan ends at {time_words(outcome.ends_s)}."]
    lines += [f"{counted(count, 'frame')} lost: {why}." for why, count in outcome.lost_why]
    budget = [f"{SPAN_WORDS[kind]} {clock_words(s)} h" for kind, s in outcome.budget.items() if s >= 30]
    lines.append(f"Time: {', '.join(budget)}.")
    first = outcome.first_unhandled
    if first is not None:
        lines.append(f"First unhandled event: {first.what} ({first.device}, {time_words(first.t_s)}).")
    lines += [f"Nothing ends this wait: {wait}." for wait in outcome.endless]
    if outcome.unsafe:
        lines.append(f"Not safe: {', '.join(outcome.unsafe)}.")
    lines += [f"Message sent: {text}." for text in outcome.messages]
    return lines
