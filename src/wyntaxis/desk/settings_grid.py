"""The settings of one device as rows: what each is to be, how far it may be off, and what was measured of it."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QGridLayout

from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_kinds.declaration import SettingKind
from wyntaxis.core.rig.device_settings import SETTINGS, settings_of
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.desk.card import make_field, value_at
from wyntaxis.desk.findings_panel import verdict_icon
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import GridPanel
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.value_field import Field

CELL_EM, CELLS = 5.5, 6
"""How wide a value's field is at the least, in sizes of the text, and how many must have room beside the label."""
HEADINGS = ("", "is to be", "±", "measured", "± u", "")


class SettingsGrid(GridPanel):
    """A row for each setting that the device's kind has."""

    def __init__(self, session: Session, palette: Palette, sheet: str = "devices", title: str = "Settings") -> None:
        super().__init__(title)
        self._sheet = sheet
        self._session, self.palette_in_use = session, palette
        self._shown: tuple[object, ...] = ()
        self.fields: dict[DocumentPath, Field] = {}
        self._marks: dict[str, PlainLabel] = {}
        self._narrow = False

    def show_device(self, device: Device, index: int) -> None:
        """Show a device's settings; fields are kept where only values have changed."""
        shown = (device.id, device.kind, index)
        if shown != self._shown:
            self._shown = shown
            self._build(device, index)
        self.setVisible(bool(self.fields))
        for path, field in self.fields.items():
            field.show_value(value_at(self._session.rig, path))
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        for key, mark in self._marks.items():
            row = self._session.evaluation.rows.get(f"{device.id}.{key}")
            verdict = row.verdict if row is not None and is_judged(row) else None
            mark.setVisible(verdict is not None)
            if verdict is not None:
                mark.setPixmap(verdict_icon(verdict, self.palette_in_use, size).pixmap(size, size))
                mark.setToolTip(f"{SETTINGS[key].label}: {verdict}")
                mark.setAccessibleName(f"{SETTINGS[key].label}: {verdict}")

    def _build(self, device: Device, index: int) -> None:
        grid = self.fresh_grid()
        for column, text in enumerate(HEADINGS):
            label = PlainLabel(text)
            label.setProperty("role", "faded")
            grid.addWidget(label, 0, column)
        grid.setColumnStretch(1, 3)
        for column in (2, 3, 4):
            grid.setColumnStretch(column, 2)
        self.fields, self._marks = {}, {}
        self._narrow = self.cells_beside(CELL_EM) < CELLS
        for at, kind in enumerate(settings_of(device.kind, self._sheet)):
            row = 2 * at + 2 if self._narrow else at + 1
            self._row(grid, row, kind, ("devices", index, "settings", kind.key))

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        turned = bool(self._shown) and (self.cells_beside(CELL_EM) < CELLS) != self._narrow
        if turned and not any(field.hasFocus() for field in self.fields.values()):
            index = int(str(self._shown[2]))
            self._shown = ()
            if index < len(self._session.rig.devices):
                self.show_device(self._session.rig.devices[index], index)

    def _row(self, grid: QGridLayout, row: int, kind: SettingKind, base: DocumentPath) -> None:
        label = PlainLabel(f"{kind.label}, {kind.unit}" if kind.unit else kind.label)
        if self._narrow:  # above its fields
            grid.addWidget(label, row - 1, 0, 1, 6)
        else:
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(label, row, 0)
        form = "choice" if kind.choices else kind.type
        places = [(DisplayedField(kind.label, ("value",), kind.unit, form, kind.choices), 1)]
        if kind.type == "number":
            places += [
                (DisplayedField(f"{kind.label}, tolerance", ("tolerance",), kind.unit), 2),
                (DisplayedField(f"{kind.label}, measured", ("measured", "value"), kind.unit), 3),
                (DisplayedField(f"{kind.label}, uncertainty", ("measured", "standard_uncertainty"), kind.unit), 4),
            ]
            self._marks[kind.key] = PlainLabel()
            grid.addWidget(self._marks[kind.key], row, 5)
        for spec, column in places:
            field = make_field(spec, base, self._session.refused.emit)
            field.entered.connect(lambda path, value, kind=kind: self._enter(path, value, kind))
            self.fields[field.path] = field
            grid.addWidget(field, row, column)
        label.setBuddy(self.fields[*base, "value"])

    def _enter(self, path: DocumentPath, value: float | None, kind: SettingKind) -> None:
        setting = value_at(self._session.rig, path[:4])
        if value is None and path[-1] == "value" and setting is not None:
            # An emptied value takes its value out, and the whole setting where it was the only value.
            other = setting.measured if path[-2] != "measured" else setting.value
            path = path[:4] if other is None else path[:-1] if path[-2] == "measured" else path
        self._session.set_value(path, value, f"Change {kind.label.lower()}")
