"""The Devices sheet: every device with its driver, connection, power and settings; supplies; and the night's plan."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import PURPOSES
from wyntaxis.core.rig.devices import (
    ACTIONS,
    SWITCHES,
    Device,
    Outlet,
    Slot,
    Storage,
    Supply,
)
from wyntaxis.core.rig.display import DisplayedField, displayed_fields
from wyntaxis.core.steps import DEVICES, Step
from wyntaxis.core.worklist import findings_of
from wyntaxis.desk.card import Card
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.device_tile import DeviceTile, Tile, tile_of
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.rows_editor import RowsEditor
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.own_settings import OwnSettingsEditor
from wyntaxis.desk.sheets.specs import NIGHT

BOX_EM = 7
"""How wide a tick box with its word is, in sizes of the text."""
EDGES_PX = 70
"""What the sheet's and the editor's edges take of a card's width."""
TILE_EM = 19
"""How wide a card is at the least, in sizes of the text."""


def device_specs(
    parts: tuple[str, ...], supplies: tuple[str, ...], hubs: tuple[str, ...] = ()
) -> tuple[DisplayedField, ...]:
    """Return the fields that every device shows; the parts, supplies and hubs of the rig are its choices."""
    choices: dict[DocumentPath, tuple[str, ...]] = {
        ("part",): parts,
        ("power", "supply"): supplies,
        ("connection", "hub"): hubs,
    }
    return tuple(
        field.with_choices(choices[field.path]) if field.path in choices else field
        for field in displayed_fields(Device)
    )


@sheet_of(DEVICES)
class DevicesSheet(StepSheet):
    """What is told to programs: devices, supplies, plan."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._chosen: str | None = None
        column = self.add_wide_column()
        row = FlowRow()
        self.kinds = QComboBox()
        self.kinds.setAccessibleName("Kind of device to add")
        for kind in DEVICE_KINDS.values():
            self.kinds.addItem(kind.label, kind.id)
        row.addWidget(self.kinds)
        self.add_button = push_button("Add device", "Add a device of the kind chosen", self.add, row)
        self.remove_button = push_button("Remove", "Take the chosen device out of the rig", self.remove, row)
        column.addLayout(row)
        self.empty = PlainLabel(
            "No devices yet. Add the camera, the filter wheel, the focuser, the mount, the guide camera and the "
            "computer: what they are set to is then compared with what the programs hold."
        )
        self.empty.setWordWrap(True)
        column.addWidget(self.empty)
        self.groups = {title: _Group(title) for title in PURPOSES}
        for group in self.groups.values():
            group.chosen.connect(self.choose)
            column.addWidget(group)
        self._column = column
        self.editor = Panel("")
        self.card = Card(3)
        self.card.entered.connect(session.set_value)
        self.card.refused.connect(session.refused)
        self.settings = SettingsGrid(session, palette)
        self.rest = CollapsibleSection("Identity, driver, lines", lambda: self.card, self._show_rest)
        self.slots = RowsEditor(session, "Slots", displayed_fields(Slot), "slot", lambda: {"name": ""})
        self.storage = RowsEditor(
            session, "Disks and cards", displayed_fields(Storage), "disk", lambda: {"name": "disk"}
        )
        self.outlets = RowsEditor(session, "Relays", displayed_fields(Outlet), "relay", lambda: {"name": "relay"})
        self.supplies = RowsEditor(session, "Supplies", displayed_fields(Supply), "supply", self._fresh_supply)
        self.supply_outlets = RowsEditor(
            session, "Outlets", displayed_fields(Outlet), "outlet", lambda: {"name": "outlet"}
        )
        self.own = OwnSettingsEditor(session)
        session.device_changed.connect(self._device_chosen)
        for widget in (self.settings, self.own, self.slots, self.storage, self.outlets, self.rest):
            self.editor.column.addWidget(widget)
        self.inputs.addWidget(self.supplies)
        self.inputs.addWidget(self.supply_outlets)
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

    def _device_chosen(self, device_id: str) -> None:
        """Turn to a device that was chosen in the drawing."""
        if any(device.id == device_id for device in self.session.rig.devices):
            self._chosen = device_id
            if self.isVisible():
                self.refresh()
                group = self._group_of(device_id)
                if group is not None:
                    self.ensureWidgetVisible(self.editor if self.editor.isVisible() else group)

    def _group_of(self, device_id: str) -> _Group | None:
        kind = next((device.kind for device in self.session.rig.devices if device.id == device_id), "")
        return self.groups[DEVICE_KINDS[kind].purpose] if kind in DEVICE_KINDS else None

    def add(self) -> None:
        """Add a device of the kind chosen, at the part that it is, where the train has one."""
        rig, kind = self.session.rig, self.kinds.currentData()
        used = {device.id for device in rig.devices}
        device_id, number = str(kind), 2
        while device_id in used:
            device_id, number = f"{kind}_{number}", number + 1
        device: JsonObject = {"id": device_id, "kind": kind, "name": str(kind).replace("_", " ")}
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

    def _fresh_supply(self) -> JsonObject:
        used, number = {supply.id for supply in self.session.rig.supplies}, 1
        while f"supply_{number}" in used:
            number += 1
        return {"id": f"supply_{number}", "name": f"supply {number}"}

    # Showing

    def refresh(self) -> None:
        super().refresh()
        rig, chosen = self.session.rig, self.chosen
        self.empty.setVisible(not rig.devices)
        self.remove_button.setEnabled(chosen is not None)
        self._show_tiles(chosen[1].id if chosen else "")
        if chosen is None:
            self.editor.hide()
        else:
            index, device = chosen
            self._place_editor(device.id)
            self.editor.show()
            self.editor.heading.setText(f"{device.title} ({device.kind.replace('_', ' ')})")
            self.settings.show_device(device, index)
            self.own.show_settings(device.title, ("devices", index), device.own_settings)
            self.slots.setVisible(device.kind == "filter_wheel")
            self.storage.setVisible(device.kind == "computer")
            self.outlets.setVisible(device.kind in SWITCHES)
            self.rest.refresh()
            if device.kind == "filter_wheel":
                name = f"Slots of {device.title}, in order"
                self.slots.show_list(name, ("devices", index, "slots"), len(device.slots), rig)
            if device.kind == "computer":
                name = f"Disks and cards of {device.title}"
                self.storage.show_list(name, ("devices", index, "storage"), len(device.storage), rig)
            if device.kind in SWITCHES:
                self.outlets.show_list(
                    f"Relays of {device.title}", ("devices", index, "outlets"), len(device.outlets), rig
                )
        self.supplies.show_list("Supplies", ("supplies",), len(rig.supplies), rig)
        boxes = [(at, own) for at, own in enumerate(rig.supplies) if own.outlets or own.kind == "power_box"]
        self.supply_outlets.setVisible(bool(boxes))
        if boxes:
            at, own = boxes[0]
            self.supply_outlets.show_list(f"Outlets of {own.title}", ("supplies", at, "outlets"), len(own.outlets), rig)
        self.plan_card.show_object("Plan of the night", ("plan",), NIGHT, rig)
        self.actions_panel.refresh()

    def _show_rest(self) -> None:
        """Show what folds away of the chosen device."""
        chosen, rig = self.chosen, self.session.rig
        if chosen is None:
            return
        index, device = chosen
        parts = tuple(part.id for _, part in rig.parts())
        supplies = tuple(supply.id for supply in rig.supplies)
        hubs = tuple(own.id for own in rig.devices if own.kind in ("hub", "computer") and own.id != device.id)
        self.card.show_object("", ("devices", index), device_specs(parts, supplies, hubs), rig)
        self._fit_card()

    def _place_editor(self, device_id: str) -> None:
        """Put the editor under the group that the chosen device is in."""
        group = self._group_of(device_id)
        if group is None:
            return
        at = self._column.indexOf(group) + 1
        if self._column.indexOf(self.editor) != at:
            self._column.removeWidget(self.editor)
            self._column.insertWidget(self._column.indexOf(group) + 1, self.editor)

    def _show_tiles(self, chosen: str) -> None:
        evaluation = self.session.evaluation
        viewport = self.viewport()
        width = (viewport.width() if viewport is not None else self.width()) - 24
        columns = max(int(width // (TILE_EM * self.fontInfo().pixelSize())), 1)
        for title in PURPOSES:
            kinds = [kind.id for kind in DEVICE_KINDS.values() if kind.purpose == title]
            own = [device for kind in kinds for device in self.session.rig.devices if device.kind == kind]
            tiles = [tile_of(evaluation, device) for device in own]
            self.groups[title].show_tiles(tiles, chosen, columns, self._palette)

    def resizeEvent(self, a0: object) -> None:
        super().resizeEvent(a0)
        self._show_tiles(self.chosen[1].id if self.chosen else "")
        self._fit_card()

    def _fit_card(self) -> None:
        viewport = self.viewport()
        self.card.fit_to_width((viewport.width() if viewport is not None else self.width()) - EDGES_PX)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.settings.palette_in_use = palette
        self.refresh()


class _Group(QWidget):
    """The cards of the devices that serve one purpose; ``chosen`` carries a device's id."""

    chosen = pyqtSignal(str)

    def __init__(self, title: str) -> None:
        super().__init__()
        self.tiles: list[DeviceTile] = []
        self._laid_out: tuple[int, tuple[int, ...]] = (0, ())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 2)
        column.setSpacing(3)
        heading = PlainLabel(title)
        heading.setProperty("role", "faded")
        column.addWidget(heading)
        self._beside = QHBoxLayout()
        self._beside.setSpacing(6)
        column.addLayout(self._beside)
        self._stacks: list[QVBoxLayout] = []
        self.setAccessibleName(f"Devices: {title}")

    def show_tiles(self, tiles: list[Tile], chosen: str, columns: int, palette: Palette) -> None:
        """Show a card for each device, so many beside one another."""
        self.setVisible(bool(tiles))
        heights = tuple(len(tile.lines) + bool(tile.where) for tile in tiles)
        while len(self.tiles) > len(tiles):
            spare = self.tiles.pop()
            spare.setParent(None)
            spare.deleteLater()
        while len(self.tiles) < len(tiles):
            fresh = DeviceTile()
            fresh.chosen.connect(self.chosen)
            self.tiles.append(fresh)
        if (columns, heights) != self._laid_out:
            self._laid_out = (columns, heights)
            self._stack(columns, heights)
        for widget, tile in zip(self.tiles, tiles, strict=True):
            widget.show_tile(tile, palette, is_chosen=tile.device_id == chosen)

    def _stack(self, columns: int, heights: tuple[int, ...]) -> None:
        """Stack the cards in columns, each on the lowest."""
        for stack in self._stacks:
            while stack.count():
                stack.takeAt(0)
        while len(self._stacks) < columns:
            self._stacks.append(QVBoxLayout())
            self._stacks[-1].setSpacing(6)
            self._beside.addLayout(self._stacks[-1])
        for at in range(len(self._stacks)):
            self._beside.setStretch(at, 1 if at < columns else 0)
        filled = [0] * columns
        for widget, height in zip(self.tiles, heights, strict=True):
            at = min(range(columns), key=filled.__getitem__)
            self._stacks[at].addWidget(widget)
            filled[at] += height + 3
        for stack in self._stacks[:columns]:
            stack.addStretch(1)


class _ActionsPanel(Panel):
    """What the run does besides exposing; each needs its devices."""

    def __init__(self, session: Session) -> None:
        super().__init__("The run also")
        self._session = session
        self._grid = QGridLayout()
        self._beside = 0
        self.boxes: dict[str, QCheckBox] = {}
        for action in ACTIONS:
            box = QCheckBox(action.replace("_", " "))
            box.setAccessibleName(f"The run also: {action.replace('_', ' ')}")
            box.clicked.connect(lambda _on: self._enter())
            self.boxes[action] = box
        self.column.addLayout(self._grid)
        self._place(2)

    def _place(self, beside: int) -> None:
        """Put so many boxes beside one another."""
        self._beside = beside
        for at, box in enumerate(self.boxes.values()):
            self._grid.addWidget(box, at // beside, at % beside)

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        beside = min(max(int(self.width() // (BOX_EM * self.fontInfo().pixelSize())), 1), len(self.boxes))
        if beside != self._beside:
            self._place(beside)

    def refresh(self) -> None:
        """Show the plan's actions."""
        plan = self._session.rig.plan
        for action, box in self.boxes.items():
            box.setChecked(plan is not None and action in plan.actions)

    def _enter(self) -> None:
        chosen = [action for action, box in self.boxes.items() if box.isChecked()]
        if not self._session.set_value(("plan", "actions"), chosen or None, "Change what the run does"):
            self.refresh()
