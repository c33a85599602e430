"""The Devices sheet: every device with its driver, connection, power and settings; supplies; and the night's plan."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout

from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.records.presence import presence
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.devices import (
    ACTIONS,
    DEVICE_KINDS,
    Device,
    Slot,
    Storage,
    Supply,
)
from wyntaxis.core.rig.shown import ShownField, shown_fields
from wyntaxis.core.steps import DEVICES, Step
from wyntaxis.core.wording import short
from wyntaxis.core.worklist import findings_of
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.rows_editor import RowsEditor
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.specs import NIGHT
from wyntaxis.desk.tables import TextTable

_PRESENCE_WORDS = {Verdict.HOLDS: "yes", Verdict.FAILS: "no", Verdict.UNPROVEN: "unproven", Verdict.TIGHT: "doubtful"}


def device_specs(parts: tuple[str, ...], supplies: tuple[str, ...]) -> tuple[ShownField, ...]:
    """Return the fields that every device shows; the parts and supplies of the rig are its choices."""
    choices: dict[DocumentPath, tuple[str, ...]] = {("part",): parts, ("power", "supply"): supplies}
    return tuple(
        field.with_choices(choices[field.path]) if field.path in choices else field for field in shown_fields(Device)
    )


@sheet_of(DEVICES)
class DevicesSheet(StepSheet):
    """What is told to programs: devices, supplies, plan."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._chosen: str | None = None
        self.table = TextTable(
            "Devices",
            ("Device", "Kind", "At part", "Driver", "Reached by", "Connected", "Draws\nA"),
            left=(0, 1, 2, 3, 4, 5),
        )
        self.table.itemSelectionChanged.connect(self._selected)
        column = self.add_wide_column()
        row = QHBoxLayout()
        self.kinds = QComboBox()
        self.kinds.setAccessibleName("Kind of device to add")
        for kind in DEVICE_KINDS:
            self.kinds.addItem(kind.replace("_", " "), kind)
        row.addWidget(self.kinds)
        self.add_button = push_button("Add device", "Add a device of the kind chosen", self.add, row)
        self.remove_button = push_button("Remove", "Take the chosen device out of the rig", self.remove, row)
        row.addStretch(1)
        column.addLayout(row)
        self.empty = PlainLabel(
            "No devices yet. Add the camera, the filter wheel, the focuser, the mount, the guide camera and the "
            "computer: what they are set to is then compared with what the programs hold."
        )
        self.empty.setWordWrap(True)
        column.addWidget(self.empty)
        column.addWidget(self.table)
        self.card = self.add_card(3)
        self.settings = SettingsGrid(session, palette)
        self.slots = RowsEditor(session, "Slots", shown_fields(Slot), "slot", lambda: {"name": ""})
        self.storage = RowsEditor(session, "Disks and cards", shown_fields(Storage), "disk", lambda: {"name": "disk"})
        self.supplies = RowsEditor(session, "Supplies", shown_fields(Supply), "supply", self._fresh_supply)
        for widget in (self.settings, self.slots, self.storage, self.supplies):
            self.inputs.addWidget(widget)
        self.plan_card = self.add_card(2)
        self.actions_panel = _ActionsPanel(session)
        self.inputs.addWidget(self.actions_panel)
        self.inputs.addStretch(1)
        self.refresh()

    # Choosing, adding, removing

    @property
    def chosen(self) -> tuple[int, Device] | None:
        """The device whose card is shown, with its place in the list."""
        devices = self.session.rig.devices
        found = next(((i, d) for i, d in enumerate(devices) if d.id == self._chosen), None)
        return found or ((0, devices[0]) if devices else None)

    def choose(self, device_id: str) -> None:
        """Show a device's card, and the gravest finding about it in the margin."""
        self._chosen = device_id
        about = [f for f in findings_of(self.session.evaluation, self.step) if f.subject == device_id]
        if about:
            self.session.choose_finding(max(about, key=lambda f: f.verdict.severity))
        self.refresh()

    def _selected(self) -> None:
        row = self.table.currentRow()
        devices = self.session.rig.devices
        if 0 <= row < len(devices) and devices[row].id != (self.chosen[1].id if self.chosen else None):
            self.choose(devices[row].id)

    def add(self) -> None:
        """Add a device of the kind chosen, at the part that it is, where the train has one."""
        rig, kind = self.session.rig, self.kinds.currentData()
        used = {device.id for device in rig.devices}
        device_id, number = str(kind), 2
        while device_id in used:
            device_id, number = f"{kind}_{number}", number + 1
        device: dict[str, Any] = {"id": device_id, "kind": kind, "name": str(kind).replace("_", " ")}
        part = self._part_for(str(kind))
        if part is not None:
            device |= {"part": part[0], "name": part[1]}
        self._chosen = device_id
        self.session.set_value(("devices", len(rig.devices)), device, f"Add {device['name']}")

    def _part_for(self, kind: str) -> tuple[str, str] | None:
        rig, taken = self.session.rig, {device.part for device in self.session.rig.devices}
        if kind == "guide_camera":
            camera = rig.guiding.camera
            return (camera.id, camera.title) if camera is not None and camera.id not in taken else None
        found = next((part for part in rig.train if part.kind == kind and part.id not in taken), None)
        return (found.id, found.title) if found is not None else None

    def remove(self) -> None:
        """Take the chosen device out."""
        chosen = self.chosen
        if chosen is not None:
            self.session.set_value(("devices", chosen[0]), None, f"Remove {chosen[1].title}")

    def _fresh_supply(self) -> dict[str, Any]:
        used, number = {supply.id for supply in self.session.rig.supplies}, 1
        while f"supply_{number}" in used:
            number += 1
        return {"id": f"supply_{number}", "name": f"supply {number}"}

    # Showing

    def refresh(self) -> None:
        super().refresh()
        rig, chosen = self.session.rig, self.chosen
        self.empty.setVisible(not rig.devices)
        self.table.setVisible(bool(rig.devices))
        self.remove_button.setEnabled(chosen is not None)
        self._show_table(chosen[0] if chosen else -1)
        self.card.setVisible(chosen is not None)
        self.settings.setVisible(chosen is not None)
        self.slots.setVisible(chosen is not None and chosen[1].kind == "filter_wheel")
        self.storage.setVisible(chosen is not None and chosen[1].kind == "computer")
        if chosen is not None:
            index, device = chosen
            parts = tuple(part.id for _, part in rig.parts())
            supplies = tuple(supply.id for supply in rig.supplies)
            title = f"{device.title} ({device.kind.replace('_', ' ')})"
            self.card.show_object(title, ("devices", index), device_specs(parts, supplies), rig)
            self.settings.show_device(device, index)
            if device.kind == "filter_wheel":
                name = f"Slots of {device.title}, in order"
                self.slots.show_list(name, ("devices", index, "slots"), len(device.slots), rig)
            if device.kind == "computer":
                name = f"Disks and cards of {device.title}"
                self.storage.show_list(name, ("devices", index, "storage"), len(device.storage), rig)
        self.supplies.show_list("Supplies", ("supplies",), len(rig.supplies), rig)
        self.plan_card.show_object("Plan of the night", ("plan",), NIGHT, rig)
        self.actions_panel.refresh()

    def _show_table(self, chosen: int) -> None:
        evaluation, rows, verdicts = self.session.evaluation, [], []
        for device in self.session.rig.devices:
            driver, link, power = device.driver, device.connection, device.power
            part = self.session.rig.find(device.part) if device.part else None
            about = [f.verdict for f in evaluation.findings if f.subject == device.id]
            there = presence(evaluation, device)
            rows.append(
                [
                    device.title,
                    device.kind.replace("_", " "),
                    part[1].title if part else device.part or "–",
                    f"{driver.name or ''} {driver.version or ''}".strip() if driver else "–",
                    _reached_by(device) if link else "–",
                    _PRESENCE_WORDS[there.verdict],
                    short(power.current_a, 2) if power and power.current_a is not None else "–",
                ]
            )
            verdicts.append(worst(about))
        self.table.blockSignals(True)
        self.table.show_rows(rows, verdicts=verdicts, palette=self._palette)
        if chosen >= 0:
            self.table.setCurrentCell(chosen, 0)
        self.table.blockSignals(False)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.settings.palette_in_use = palette
        self.refresh()


def _reached_by(device: Device) -> str:
    link = device.connection
    if link is None:
        return "–"
    if link.host:
        return f"{link.host}:{link.tcp_port}" if link.tcp_port else link.host
    return link.port or link.kind or "–"


class _ActionsPanel(Panel):
    """What the run does besides exposing; each needs its devices."""

    def __init__(self, session: Session) -> None:
        super().__init__("The run also")
        self._session = session
        row = QHBoxLayout()
        self.boxes: dict[str, QCheckBox] = {}
        for action in ACTIONS:
            box = QCheckBox(action.replace("_", " "))
            box.setAccessibleName(f"The run also: {action.replace('_', ' ')}")
            box.clicked.connect(lambda _on: self._enter())
            self.boxes[action] = box
            row.addWidget(box)
        row.addStretch(1)
        self.column.addLayout(row)

    def refresh(self) -> None:
        """Show the plan's actions."""
        plan = self._session.rig.plan
        for action, box in self.boxes.items():
            box.setChecked(plan is not None and action in plan.actions)

    def _enter(self) -> None:
        chosen = [action for action, box in self.boxes.items() if box.isChecked()]
        if not self._session.set_value(("plan", "actions"), chosen or None, "Change what the run does"):
            self.refresh()
