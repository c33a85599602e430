"""What the night's work takes: as the rehearsal uses it, as stated, and as measured by frames' times."""

from __future__ import annotations

from typing import get_args

from wyntaxis.core.rehearsal.setting import NightSetting
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.core.rig.plan import TimedWork, WorkTime
from wyntaxis.core.wording import plus_minus, short
from wyntaxis.desk.card import make_field
from wyntaxis.desk.panel import GridPanel
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.value_field import Field

HEADINGS = ("", "used\ns", "stated\ns", "measured\ns")
LABELS = {work: work.replace("_", " ").capitalize() for work in get_args(TimedWork)} | {
    "guide": "Start guiding",
    "calibrate_guiding": "Calibrate guiding",
    "dither": "Dither and settling",
    "wheel": "Filter change",
    "focus": "Focus run",
    "restart": "Restart of the computer",
    "connect": "Connect all devices",
}


class WorkTimes(GridPanel):
    """A row for each kind of work; what is typed goes into the plan, an empty field takes it out again."""

    def __init__(self, session: Session) -> None:
        super().__init__("What the work takes")
        self._session = session
        self.fields: dict[str, Field] = {}
        self.used: dict[str, PlainLabel] = {}
        self._measured: dict[str, PlainLabel] = {}

    def show_times(self, setting: NightSetting | None) -> None:
        """Show the times by which a rig's night is simulated; nothing without a plan."""
        plan = self._session.rig.plan
        self.setVisible(plan is not None and setting is not None)
        if plan is None or setting is None:
            return
        if not self.fields:
            self._build()
        times = {str(work): own for work, own in plan.times.items()}
        for work, field in self.fields.items():
            own = times.get(work)
            field.show_value(own.value if own is not None else None)
            self.used[work].setText(short(setting.work_s(work), 1))
            self._measured[work].setText(_measured_text(own))

    def _build(self) -> None:
        grid = self.fresh_grid()
        for column, text in enumerate(HEADINGS):
            heading = PlainLabel(text)
            heading.setProperty("role", "faded")
            grid.addWidget(heading, 0, column)
        for row, (work, label) in enumerate(LABELS.items(), start=1):
            spec = DisplayedField(label, ("value",), "s")
            field = make_field(spec, ("plan", "times", work), self._session.refused.emit)
            field.entered.connect(self._enter)
            name = PlainLabel(label)
            name.setBuddy(field)
            self.fields[work], self.used[work], self._measured[work] = field, PlainLabel(), PlainLabel()
            for column, widget in enumerate((name, self.used[work], field, self._measured[work])):
                grid.addWidget(widget, row, column)
        grid.setColumnStretch(4, 1)

    def _enter(self, path: DocumentPath, value: object) -> None:
        """Put a time into the plan; an empty one takes the work's entry out, where nothing was measured either."""
        plan, work = self._session.rig.plan, str(path[2])
        own = {str(key): time for key, time in plan.times.items()}.get(work) if plan is not None else None
        whole = value is None and (own is None or own.measured is None)
        self._session.set_value(path[:3] if whole else path, value, f"Change what this takes: {LABELS[work]}")


def _measured_text(own: WorkTime | None) -> str:
    if own is None or own.measured is None:
        return "–"
    return plus_minus(own.measured.value, own.measured.standard_uncertainty or 0.0, 1)
