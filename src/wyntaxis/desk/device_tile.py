"""A device as a small card: what it is, how it is reached and fed, and its settings on their values."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFont, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.records.presence import presence
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.wiring_drawing import draw_symbol
from wyntaxis.core.wording import number, short
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Pressed, tip
from wyntaxis.desk.qt_canvas import QtCanvas, box_of
from wyntaxis.desk.section.drafting import DraftingPainter

PRESENCE_WORDS = {
    Verdict.HOLDS: "connected",
    Verdict.FAILS: "not connected",
    Verdict.UNPROVEN: "connection not verified",
    Verdict.TIGHT: "connection doubtful",
}


@dataclass(frozen=True)
class TileLine:
    """A setting as the card shows it: its label, what is stated, what was measured, and how it stands."""

    label: str
    stated: str
    measured: str
    verdict: Verdict | None


@dataclass(frozen=True)
class Tile:
    """What a device's card says."""

    device_id: str
    title: str
    kind: str
    where: str
    lines: tuple[TileLine, ...]
    verdict: Verdict | None


def tile_of(evaluation: Evaluation, device: Device) -> Tile:
    """Return what the card of a device says: what is stated of it, and nothing else."""
    about = [f.verdict for f in evaluation.findings if f.subject == device.id and not f.accepted]
    there = presence(evaluation, device)
    where = [reached_by(device), PRESENCE_WORDS[there.verdict]] if device.connection is not None else []
    power = device.power
    if power is not None and power.supply is not None:
        feed = next((own.title for own in evaluation.rig.supplies if own.id == power.supply), power.supply)
        draw = f", {short(power.current_a, 2)} A" if power.current_a is not None else ""
        where.append(f"fed by {feed}{f' {power.outlet}' if power.outlet else ''}{draw}")
    lines = [
        _line(evaluation, device, key)
        for key, kind in SETTINGS.items()
        if key in device.settings and kind.sheet == "devices"
    ]
    if device.slots:
        names = " ".join(slot.name.strip() or "–" for slot in device.slots)
        lines.append(TileLine("Slots", names, "", None))
    lines += [
        TileLine(store.name, f"{short(store.free_gb, 0)} GB free" if store.free_gb is not None else "–", "", None)
        for store in device.storage
    ]
    found = worst(about) if about else None
    return Tile(device.id, device.title, device.kind, "; ".join(where), tuple(lines), found)


def _line(evaluation: Evaluation, device: Device, key: str) -> TileLine:
    kind, setting = SETTINGS[key], device.settings[key]
    row = evaluation.rows.get(f"{device.id}.{key}")
    verdict = row.verdict if row is not None and is_judged(row) else None
    unit = f" {kind.unit}" if kind.unit else ""
    value = setting.value
    if isinstance(value, bool):
        stated = "yes" if value else "no"
    elif isinstance(value, (int, float)):
        stated = f"{short(value)}{unit}"
    else:
        stated = plain(value.replace("_", " ")) if value else "–"
    measured = f"{number(setting.measured.value, kind.decimals)}{unit}" if setting.measured is not None else ""
    return TileLine(kind.label, stated, measured, verdict)


def reached_by(device: Device) -> str:
    """Return how a device is reached, in a word or an address."""
    link = device.connection
    if link is None:
        return "–"
    if link.host:
        return f"{link.host}:{link.tcp_port}" if link.tcp_port else link.host
    return link.port or link.kind or "–"


class DeviceTile(Pressed):
    """Paints one card; a click, Enter or Space chooses its device."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.palette_in_use: Palette = DAY
        self.tile: Tile | None = None
        self.is_chosen = False
        self.clicked.connect(lambda _checked: self._choose())
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_tile(self, tile: Tile, palette: Palette, *, is_chosen: bool) -> None:
        """Show a device's card."""
        if (tile, palette, is_chosen) == (self.tile, self.palette_in_use, self.is_chosen):
            return
        grown = (
            self.tile is None or len(tile.lines) != len(self.tile.lines) or bool(tile.where) != bool(self.tile.where)
        )
        self.tile, self.palette_in_use, self.is_chosen = tile, palette, is_chosen
        entries = [
            f"{line.label}: {line.stated}" + (f", measured {line.measured}" if line.measured else "")
            for line in tile.lines
        ]
        stands = f", {tile.verdict}" if tile.verdict is not None else ""
        self.setAccessibleName(f"{tile.title}, {tile.kind.replace('_', ' ')}{stands}")
        self.setAccessibleDescription("; ".join([tile.where, *entries]))
        self.setChecked(is_chosen)
        self.setToolTip(tip("\n".join([tile.title, tile.where, *entries]).strip()))
        if grown:
            self.updateGeometry()
        self.update()

    def _small(self) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.88)))
        return font

    def sizeHint(self) -> QSize:
        line = QFontMetricsF(self._small()).height()
        count = len(self.tile.lines) + bool(self.tile.where) if self.tile is not None else 1
        return QSize(
            round(16 * self.fontInfo().pixelSize()), round(1.7 * QFontMetricsF(self.font()).height() + count * line + 8)
        )

    def minimumSizeHint(self) -> QSize:
        return QSize(120, self.sizeHint().height())

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        tile = self.tile
        if tile is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bold = QFont(self.font())
        bold.setBold(True)
        sheet = DraftingPainter(painter, self.palette_in_use, bold, self._small())
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        ground = "chosen" if self.is_chosen else "panel"
        painter.fillRect(box, sheet.palette.color(ground))
        painter.setPen(
            sheet.pen("accent" if self.is_chosen or self.hasFocus() else "rule", 1.6 if self.hasFocus() else 1.0)
        )
        painter.drawRect(box)
        line, small = sheet.height_of(), sheet.height_of(small=True)
        y = 4 + line * 0.6
        icon = QRectF(8, y - small / 2, small, small)
        draw_symbol(QtCanvas(sheet), tile.kind, box_of(icon))
        right = self.width() - 8.0
        if tile.verdict is not None:
            mark = QRectF(right - small * 0.85, y - small * 0.42, small * 0.85, small * 0.85)
            draw_verdict(painter, mark, tile.verdict, sheet.palette.verdict(tile.verdict), sheet.palette.color(ground))
            right = mark.left() - 6
        title = self._fitted(sheet.text, tile.title, right - icon.right() - 8)
        left = sheet.write((icon.right() + 6, y), title, align="left").right() + 8
        kind = self._fitted(sheet.small, tile.kind.replace("_", " "), right - left)
        sheet.write((left, y), kind, align="left", small=True, color="faded")
        y += line * 0.6 + small * 0.6
        if tile.where:
            entries = self._fitted(sheet.small, tile.where, self.width() - 16)
            sheet.write((8, y), entries, align="left", small=True, color="faded")
            y += small
        for entry in tile.lines:
            self._paint_line(sheet, entry, y, ground)
            y += small

    def _paint_line(self, sheet: DraftingPainter, entry: TileLine, y: float, ground: str) -> None:
        """Paint a setting: its label, what is stated, what was measured, and the mark."""
        small, right = sheet.height_of(small=True), self.width() - 8.0
        if entry.verdict is not None:
            size = small * 0.72
            mark = QRectF(right - size, y - size / 2, size, size)
            draw_verdict(
                sheet.painter, mark, entry.verdict, sheet.palette.verdict(entry.verdict), sheet.palette.color(ground)
            )
        right -= small
        if entry.measured:
            text = f"● {entry.measured}"
            right = sheet.write((right, y), text, align="right", small=True).left() - 10
        room = right - 8 - min(sheet.width_of(entry.label, small=True), (self.width() - 16) * 0.55) - 10
        stated = self._fitted(sheet.small, entry.stated, max(room, 20.0))
        left = sheet.write((right, y), stated, align="right", small=True).left()
        label = self._fitted(sheet.small, entry.label, left - 18)
        sheet.write((8, y), label, align="left", small=True, color="faded")

    @staticmethod
    def _fitted(font: QFont, text: str, room: float) -> str:
        return QFontMetricsF(font).elidedText(plain(text), Qt.TextElideMode.ElideRight, max(room, 0.0))

    def _choose(self) -> None:
        if self.tile is not None:
            self.chosen.emit(self.tile.device_id)

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        self._choose()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if (
            a0 is not None
            and self.tile is not None
            and a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
        ):
            self.chosen.emit(self.tile.device_id)
        else:
            super().keyPressEvent(a0)

    def focusInEvent(self, a0: QFocusEvent | None) -> None:
        super().focusInEvent(a0)
        self.update()

    def focusOutEvent(self, a0: QFocusEvent | None) -> None:
        super().focusOutEvent(a0)
        self.update()
