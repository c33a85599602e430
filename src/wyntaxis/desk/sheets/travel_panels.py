"""What to set because of focus runs: each advice with its arithmetic, applied with one click."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QPushButton, QWidget

from wyntaxis.core.evidence.focus.advice import Advice, advice_of, value_text
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.edit import Change
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session


def _reported_now(value: float | bool | str | None) -> str:
    if value is None:
        return "not stated"
    return f"now {value:g}" if isinstance(value, float) else f"now {value}"


class AdvicePanel(Panel):
    """A row for each setting: what it should be, why, and a button that sets it."""

    def __init__(self, session: Session) -> None:
        super().__init__("What to set")
        self._session = session
        self._shown: object = None
        self._rows: QWidget | None = None
        self.buttons: dict[str, QPushButton] = {}

    def show_for(self, result: FocusResult | None, index: int | None) -> None:
        """Show what a result advises for the focuser at a place among the devices."""
        found = list(advice_of(result)) if result is not None and index is not None else []
        self.setVisible(bool(found))
        device = self._session.rig.devices[index] if index is not None else None
        now = {}
        for advice in found:
            setting = device.settings.get(advice.key) if device is not None else None
            now[advice.key] = setting.value if setting is not None else None
        shown = ([(advice.key, advice.value, advice.arithmetic) for advice in found], now, index)
        if shown == self._shown or index is None:
            return
        self._shown = shown
        grid = self._fresh_rows()
        self.buttons = {}
        for row, advice in enumerate(found):
            kind, is_set = SETTINGS[advice.key], now[advice.key] == advice.value
            name = PlainLabel(kind.label)
            name.setWordWrap(True)
            grid.addWidget(name, 2 * row, 0, Qt.AlignmentFlag.AlignVCenter)
            value = PlainLabel(value_text(advice))
            value.setProperty("role", "heading")
            grid.addWidget(value, 2 * row, 1, Qt.AlignmentFlag.AlignVCenter)
            why = PlainLabel("; ".join(advice.arithmetic))
            why.setProperty("role", "faded")
            why.setWordWrap(True)
            grid.addWidget(why, 2 * row + 1, 0, 1, 3)
            tip = f"{kind.label}: {value_text(advice)}; {_reported_now(now[advice.key])}"
            button = push_button("Set", tip, partial(self._apply, index, advice))
            button.setAccessibleName(f"Set {kind.label}, {kind.unit}" if kind.unit else f"Set {kind.label}")
            button.setEnabled(not is_set)
            button.setText("Is set" if is_set else "Set")
            grid.addWidget(button, 2 * row, 2)
            self.buttons[advice.key] = button

    def _fresh_rows(self) -> QGridLayout:
        """Take the rows of before out, and return an empty grid whose rows are as high as their wrapped texts."""
        if self._rows is not None:
            self.column.removeWidget(self._rows)
            self._rows.hide()
            self._rows.deleteLater()
        self._rows = QWidget()
        self._rows.setProperty("role", "card")
        grid = QGridLayout(self._rows)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setColumnStretch(0, 1)
        grid.setVerticalSpacing(2)
        self.column.addWidget(self._rows)
        return grid

    def _apply(self, index: int, advice: Advice) -> None:
        path = ("devices", index, "settings", advice.key, "value")
        self._session.apply(Change.of(f"Set {SETTINGS[advice.key].label.lower()}", path, advice.value))
