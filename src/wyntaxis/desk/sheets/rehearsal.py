"""The Rehearsal sheet: the night played by day, every fault against the plan, its remedies, and many nights."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import Progress
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.drafted import drafted_steps, drafted_watch
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal, rehearse
from wyntaxis.core.rehearsal.outcome import SPAN_WORDS, NightOutcome, grade_of
from wyntaxis.core.rehearsal.parallel import many_nights_in_parallel
from wyntaxis.core.rehearsal.play import FaultRow, ManyNights
from wyntaxis.core.rehearsal.remedy import NightRemedy, remedies, words_of
from wyntaxis.core.rehearsal.setting import setting_of, sky_of
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.night_plan import NightStep, NightWatch
from wyntaxis.core.steps import REHEARSAL as STEP
from wyntaxis.core.steps import Step
from wyntaxis.core.wording import counted, number, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.card import Card
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.night_timeline import NightTimeline, clock_words
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.plots_night import ManyNightsPlot

DELAY_MS = 500
NIGHTS = 1000
PLAIN = "nothing wrong"
GRADES = {
    "survived": Verdict.HOLDS,
    "degraded": Verdict.TIGHT,
    "lost": Verdict.FAILS,
    "unsafe": Verdict.FAILS,
}
FAULT_HEADINGS = ("fault", "the night is", "frames\nkept", "hours\nlost", "not safe, or not handled")
STEP_HEADINGS = ("step", "filter", "frames", "limit\ns", "attempts", "pause\ns", "reconnects", "then")
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
        self._place = -1
        self.many: list[tuple[str, ManyNights]] = []
        self.job, self.remedy_job, self.many_job = Job(self), Job(self), Job(self)
        self.job.done.connect(self._played)
        self.remedy_job.done.connect(self._remedy_found)
        self.many_job.done.connect(self._many_came)
        for job in (self.job, self.remedy_job, self.many_job):
            job.failed.connect(session.refused)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.play)
        self._build_top()
        self._build_faults()
        self.plan_section = CollapsibleSection("The plan's steps", self._build_plan, self._show_plan)
        self.add_wide(self.plan_section)
        self.many_section = CollapsibleSection("Plot: many nights", self._build_many, self._draw_many)
        self.add_wide(self.many_section)
        self.watch_card = self.add_card(2)
        self.refresh()

    def _build_top(self) -> None:
        column = self.add_wide_column()
        row = FlowRow()
        self.play_button = push_button(
            "Simulate the night", "Simulate it, and each fault by itself", self.play_now, row
        )
        self.draft_button = push_button("Draft a plan", "Write a sensible plan into the rig", self.draft, row)
        self.nights_button = push_button("1,000 nights", "Simulate a thousand random nights", self.play_many, row)
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
        column.addWidget(JobBar(self.many_job, "Simulating nights"))
        self.timeline = NightTimeline()
        self.timeline.step_chosen.connect(self.choose_step)
        self.timeline.step_moved.connect(self.move_step)
        self.timeline.step_added.connect(self.add_step)
        column.addWidget(self.timeline)
        column.addWidget(self._build_step())
        self.legend = PlainLabel(
            "Choose a step in the plan’s lane to change it. Filled: at work. Hatched: waiting, in red without end; "
            "crosswise: retries. Ticks below: attempts. A bar: "
            "a fault strikes. A cross: it is not handled. The line above: the object is up."
        )
        self.legend.setWordWrap(True)
        self.legend.setProperty("role", "faded")
        column.addWidget(self.legend)
        self.outcome_panel = Panel("What comes of it")
        self.lines = self.outcome_panel.add_text()
        column.addWidget(self.outcome_panel)

    def _build_faults(self) -> None:
        column = self.add_wide_column()
        self.table = TextTable("Faults", FAULT_HEADINGS, left=(0, 1, 4), stretch=4, widest_em=20)
        self.table.most_rows = 14
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

    def play_many(self) -> None:
        """Play a thousand drawn nights with this plan, and with one that would be drafted, in the background."""
        rig, date = self.session.rig, self._sky_date()

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

        self.many_job.start(work)

    def _many_came(self, found: list[tuple[str, ManyNights]]) -> None:
        self.many = found
        self.many_section.setVisible(True)
        self.many_section.open()
        self.many_section.refresh()

    # Remedies

    @property
    def chosen(self) -> FaultRow | None:
        """The chosen fault; None for the night without any."""
        result, row = self.result, self.table.currentRow()
        shown = self._rows(result)
        return shown[row - 1] if result is not None and 1 <= row <= len(shown) else None

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
            self.remedy_job.start(lambda _progress: (row, remedies(setting, row)))

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

    # The plan

    def _build_plan(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        self.plan_table = TextTable("Steps of the plan", STEP_HEADINGS, left=(0, 1, 6, 7), widest_em=14)
        self.plan_table.itemSelectionChanged.connect(lambda: self.choose_step(self.plan_table.currentRow()))
        column.addWidget(self.plan_table)
        return holder

    def _build_step(self) -> QWidget:
        """Return the chosen step's card, with what moves it; it stands below the timeline."""
        self.step_panel = QWidget()
        column = QVBoxLayout(self.step_panel)
        column.setContentsMargins(0, 0, 0, 0)
        self.step_card = Card(3)
        self.step_card.entered.connect(self.session.set_value)
        self.step_card.refused.connect(self.session.refused)
        column.addWidget(self.step_card)
        row = FlowRow()
        for text, tip, work in (
            ("Earlier", "Move the step before the one ahead of it (Alt+Left)", lambda: self.move_step(-1)),
            ("Later", "Move the step behind the next one (Alt+Right)", lambda: self.move_step(1)),
            ("Add a step", "Put a step in behind it (Insert)", self.add_step),
            ("Take out", "Take the step out of the plan (Delete)", lambda: self.move_step(0)),
            ("Done", "Choose no step", lambda: self.choose_step(-1)),
        ):
            push_button(text, tip, work, row)
        column.addLayout(row)
        self.step_panel.hide()
        return self.step_panel

    def choose_step(self, place: int) -> None:
        """Choose a step of the plan, in the timeline and in the table; none for -1."""
        if place >= 0 and not self._steps():
            self.session.refused.emit("Draft a plan first: the simulated steps are those that would be drafted")
            return
        self._place = place if place < len(self._steps()) else -1
        self._show_step()

    def _steps(self) -> tuple[NightStep, ...]:
        plan = self.session.rig.plan
        return plan.steps if plan is not None else ()

    def _show_plan(self) -> None:
        rows = [
            [
                step.do.replace("_", " "),
                step.filter or "–",
                str(step.frames) if step.frames is not None else "–",
                short(step.limit_s) if step.limit_s is not None else "none",
                str(step.attempts),
                short(step.pause_s) if step.pause_s else "–",
                "yes" if step.reconnect else "no",
                step.then.replace("_", " "),
            ]
            for step in self._steps()
        ]
        self.plan_table.blockSignals(True)
        self.plan_table.show_rows(rows, palette=self._palette)
        self.plan_table.blockSignals(False)

    def _show_step(self) -> None:
        """Show the chosen step wherever it stands."""
        place, steps = self._place, self._steps()
        self.timeline.show_step(place)
        if self.plan_section.opened:
            self.plan_table.blockSignals(True)
            self.plan_table.setCurrentCell(place, 0)
            self.plan_table.blockSignals(False)
        self.step_panel.setVisible(0 <= place < len(steps))
        if 0 <= place < len(steps):
            title = f"Step {place + 1} of {len(steps)}: {steps[place].do.replace('_', ' ')}"
            base = ("plan", "steps", place)
            self.step_card.show_object(title, base, displayed_fields(NightStep, steps[place]), self.session.rig)

    def _change_steps(self, steps: list[NightStep], label: str) -> None:
        entries = [step.model_dump(mode="json", exclude_unset=True) for step in steps]
        self.session.set_value(("plan", "steps"), entries or None, label)

    def add_step(self) -> None:
        """Put a step in behind the chosen one."""
        steps, place = list(self._steps()), self._place
        at = place + 1 if 0 <= place < len(steps) else len(steps)
        if not steps:
            self.session.refused.emit("draft a plan first: then steps can be put in")
            return
        steps.insert(at, NightStep(do="focus", limit_s=900.0, attempts=2))
        self._place = at
        self._change_steps(steps, "Add a step")

    def move_step(self, by: int) -> None:
        """Move the chosen step, or take it out where it is moved by 0."""
        steps, place = list(self._steps()), self._place
        if not 0 <= place < len(steps) or not 0 <= place + by < len(steps):
            return
        step = steps.pop(place)
        if by:
            steps.insert(place + by, step)
        self._place = min(place + by, len(steps) - 1)
        self._change_steps(steps, "Move a step" if by else "Take a step out")

    # Showing

    def _build_many(self) -> QWidget:
        from wyntaxis.desk.plots_night import ManyNightsPlot

        self.many_plot: ManyNightsPlot = ManyNightsPlot()
        self.many_plot.refused.connect(self.session.refused)
        return self.many_plot

    def _draw_many(self) -> None:
        self.many_plot.show_plans(self.many, self._palette)

    def _chose(self) -> None:
        result, row = self.result, self.chosen
        outcome = row.outcome if row is not None else result.good if result is not None else None
        if result is not None:  # while a changed plan is being played anew, the last night stays in sight
            self.timeline.show_night(outcome, result.setting.sky, self._palette, result.setting.steps)
            self.session.show_night(outcome)
        self.outcome_panel.setVisible(outcome is not None)
        if outcome is not None:
            title = row.fault.title if row is not None else "Nothing wrong"
            self.outcome_panel.heading.setText(f"{title}: what comes of it")
            self.lines.setText("\n".join(outcome_lines(outcome)))
        self._find_remedy()

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
        self.plan_section.setVisible(bool(steps))
        self.plan_section.refresh()
        self._place = min(self._place, len(steps) - 1)
        self._show_step()
        self.many_section.setVisible(bool(self.many))
        self.watch_card.setVisible(rig.plan is not None)
        self.watch_card.show_object("Who watches over the night", ("plan", "watch"), displayed_fields(NightWatch), rig)

    def _show_faults(self, result: Rehearsal | None) -> None:
        rows, verdicts = [], []
        if result is not None:
            good = result.good
            rows.append(_row(PLAIN, grade_of(good), good, 0.0))
            verdicts.append(GRADES[grade_of(good)])
            for row in self._rows(result):
                rows.append(_row(row.fault.title, row.grade, row.outcome, row.hours_lost))
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
        return f"{text}Night of {night}: with nothing wrong {kept}. {len(graded)} faults simulated: {counts}."

    def fit_to_font(self) -> None:
        """Give the date the room that it takes in the text size in use."""
        super().fit_to_font()
        self.date.ensurePolished()
        self.date.setFixedWidth(self.date.fontMetrics().horizontalAdvance("0000-00-000") + 20)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.refresh()


def _row(title: str, grade: str, outcome: NightOutcome, hours: float) -> list[str]:
    first = outcome.first_unhandled
    why = "; ".join((*outcome.unsafe, *(f"nothing ends: {wait}" for wait in outcome.endless)))
    if not why and first is not None:
        why = f"{clock_words(first.t_s)} h: {first.what}"
    return [title, grade, str(outcome.frames_kept), number(hours, 1), why]


def outcome_lines(outcome: NightOutcome) -> list[str]:
    """Return in lines what came of a night."""
    lines = [
        f"{outcome.frames_kept} of {outcome.frames_planned} frames kept; it ends {clock_words(outcome.ends_s)} h in."
    ]
    lines += [f"{counted(count, 'frame')} lost: {why}." for why, count in outcome.lost_why]
    budget = [f"{SPAN_WORDS[kind]} {clock_words(s)} h" for kind, s in outcome.budget.items() if s >= 30]
    lines.append(f"Time: {', '.join(budget)}.")
    first = outcome.first_unhandled
    if first is not None:
        lines.append(f"First unhandled event: {first.what} ({first.device}, {clock_words(first.t_s)} h).")
    lines += [f"Nothing ends this wait: {wait}." for wait in outcome.endless]
    if outcome.unsafe:
        lines.append(f"Not safe: {', '.join(outcome.unsafe)}.")
    lines += [f"Message sent: {text}." for text in outcome.messages]
    return lines
