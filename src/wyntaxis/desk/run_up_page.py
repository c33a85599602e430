"""Tonight's run-up: one step at a time in large type, by keys alone."""

from __future__ import annotations

import datetime
import time
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QPushButton, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.findings.conditions import overall
from wyntaxis.core.rig.out_of_date import CALIBRATION
from wyntaxis.core.run_up import Outcome, RunUpStep, confirmed, longest, run_up, ticked
from wyntaxis.core.wording import short
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session

LONGEST_MINUTES = 240.0
"""A step that was in sight for longer than this was left alone: its time says nothing."""
STATES = {"done": "Done.", "not_now": "Not now.", "failed": "Failed: noted as an incident.", None: "Open."}
MARKS = {"done": "●", "not_now": "–", "failed": "×", None: "○"}


class RunUpPage(QWidget):
    """The step in sight, with its number, how to see that it is right, and what to press."""

    refused = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self.steps: tuple[RunUpStep, ...] = ()
        self.place = 0
        """The step in sight; after the last one the summary is."""
        self._since = time.monotonic()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Tonight’s run-up, one step at a time")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(24, 8, 24, 14)
        self.view, body = QScrollArea(), QWidget()
        self.view.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.view.setWidgetResizable(True)
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        self.progress, self.title, self.numbers = PlainLabel(), PlainLabel(), PlainLabel()
        self.right, self.earlier, self.cures, self.state = PlainLabel(), PlainLabel(), PlainLabel(), PlainLabel()
        roles = ("answer", "huge", "big", "large", "big", "big", "big")
        labels = (self.progress, self.title, self.state, self.numbers, self.earlier, self.right, self.cures)
        for label, role in zip(labels, roles, strict=True):
            label.setProperty("role", role)
            label.setWordWrap(True)
            column.addWidget(label)
        column.addStretch(1)
        self.view.setWidget(body)
        outer.addWidget(self.view, 1)
        self.next_one = PlainLabel()
        self.next_one.setProperty("role", "faded")
        outer.addWidget(self.next_one)
        row = FlowRow()
        self.buttons: dict[str, QPushButton] = {}
        for key, text, tip in (
            ("done", "Done (Space)", "The step is done; the next one follows"),
            ("not_now", "Not now (N)", "Go on without it; it stays open"),
            ("failed", "Failed (F)", "Note an incident, and stay at the step"),
            ("confirm", "Still holds (C)", "Confirm that what was measured in an earlier set-up still holds"),
            ("before", "Back (↑)", "The step before"),
            ("after", "Next (↓)", "The next step"),
            ("leave", "Leave (Esc)", "Back to the sheets; what is done is kept in the rig"),
        ):
            button = push_button(text, tip, partial(self.do, key), row)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.setProperty("role", "answer")
            self.buttons[key] = button
        outer.addLayout(row)

    def show_session(self, session: Session) -> None:
        """Show the run-up of a session's rig as it is now; another rig begins at its first open step."""
        is_other = session is not self._session
        self._session = session
        self.steps = run_up(session.evaluation, datetime.datetime.now(datetime.UTC))
        if is_other:
            self.go_to_open()
        self.place = min(self.place, len(self.steps))
        self._show()

    def go_to_open(self) -> None:
        """Show the first step that is open."""
        self.place = next((k for k, step in enumerate(self.steps) if step.outcome is None), len(self.steps))
        self._since = time.monotonic()
        self._show()

    @property
    def step(self) -> RunUpStep | None:
        """The step in sight; None where the summary is."""
        return self.steps[self.place] if self.place < len(self.steps) else None

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        keys = {
            Qt.Key.Key_Space: "done", Qt.Key.Key_N: "not_now", Qt.Key.Key_F: "failed", Qt.Key.Key_C: "confirm",
            Qt.Key.Key_Up: "before", Qt.Key.Key_Left: "before", Qt.Key.Key_Down: "after", Qt.Key.Key_Right: "after",
            Qt.Key.Key_Escape: "leave",
        }  # fmt: skip
        what = keys.get(Qt.Key(a0.key())) if a0 is not None else None
        scrolls = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}
        bar = self.view.verticalScrollBar()
        if a0 is not None and a0.key() in scrolls and bar is not None:
            bar.setValue(bar.value() + scrolls[Qt.Key(a0.key())] * bar.pageStep())
        elif what is None or (a0 is not None and a0.isAutoRepeat() and what in ("done", "failed", "confirm")):
            super().keyPressEvent(a0)
        else:
            self.do(what)

    def do(self, what: str) -> None:
        """Do what a key or a button says."""
        step, session = self.step, self._session
        if what == "leave":
            self.left.emit()
        elif what in ("before", "after"):
            self._go(self.place + (1 if what == "after" else -1))
        elif step is not None and session is not None:
            try:
                if what == "confirm":
                    session.apply(confirmed(session.rig, step))
                else:
                    self._note(session, step, what)  # type: ignore[arg-type]
            except ValueError as error:
                self.refused.emit(str(error))

    def _note(self, session: Session, step: RunUpStep, outcome: Outcome) -> None:
        minutes = (time.monotonic() - self._since) / 60
        session.apply(ticked(session.rig, step.id, outcome, minutes if minutes < LONGEST_MINUTES else None))
        if outcome != "failed":
            self._go(self.place + 1)

    def _go(self, place: int) -> None:
        self.place = min(max(place, 0), len(self.steps))
        self._since = time.monotonic()
        self._show()

    def _show(self) -> None:
        step = self.step
        marks = " ".join(MARKS[own.outcome] for own in self.steps)
        where = f"Step {self.place + 1} of {len(self.steps)}" if step is not None else "The end"
        self.progress.setText(f"Tonight. {where}   {marks}")
        if step is None:
            self._show_end()
        else:
            self.title.setText(step.title)
            self.numbers.setText("\n".join(step.numbers))
            self.right.setText(f"Right when: {step.right_when}" if not step.right_when.startswith("Your") else "")
            names = ", ".join(self._name(entry.row_id) for entry in step.earlier)
            self.earlier.setText(
                f"From an earlier set-up, not verified: {names}. Measure again, or C where it still holds."
                if names
                else ""
            )
            self.cures.setText("Noted before: " + "; ".join(step.cures) if step.cures else "")
            took = f" Last time it took {short(step.last_minutes)} min." if step.last_minutes else ""
            self.state.setText(STATES[step.outcome] + took)
        after = self.steps[self.place + 1 :]
        self.next_one.setText(f"Next: {after[0].title}" if after else "")
        for label in (self.numbers, self.right, self.earlier, self.cures):
            label.setVisible(bool(label.text()))
        for key in ("done", "not_now", "failed"):
            self.buttons[key].setEnabled(step is not None)
        self.buttons["confirm"].setEnabled(step is not None and bool(step.earlier))
        self.buttons["before"].setEnabled(self.place > 0)
        self.buttons["after"].setEnabled(step is not None)

    def _name(self, row_id: str) -> str:
        row = self._session.evaluation.rows.get(row_id) if self._session is not None else None
        if row is not None:
            return row.kind.label
        return "guide calibration" if row_id == CALIBRATION else row_id.replace("_", " ")

    def _show_end(self) -> None:
        """Show what is done, what is open, and whether the rig is ready."""
        counts = {outcome: sum(step.outcome == outcome for step in self.steps) for outcome in MARKS}
        words = [f"{counts['done']} done"]
        words += [
            f"{counts[key]} {word}" for key, word in (("not_now", "not now"), ("failed", "failed")) if counts[key]
        ]
        words += [f"{counts[None]} open"] if counts[None] else []
        assert self._session is not None
        sentence, _, rest = overall(self._session.evaluation.conditions).partition(": ")
        self.title.setText(sentence)
        self.numbers.setText(rest[:1].upper() + rest[1:])
        self.right.setText(f"Steps of tonight: {', '.join(words)}. What is open of the rig, Ready lists.")
        self.earlier.setText("")
        self.cures.setText("")
        took = ", ".join(f"{step.title.lower()} {short(step.last_minutes or 0)} min" for step in longest(self.steps))
        self.state.setText(f"What took longest: {took}." if took else "")
