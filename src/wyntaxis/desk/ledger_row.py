"""A ledger row: a quantity's values drawn as marks on one scale with the allowed band, so agreement is seen first."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFont, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.core.ledger import allowed_width
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.wording import counted, number, short, signed
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel, Pressed, tip
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.pieces import Pieces
from wyntaxis.desk.value_field import ValueField

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Quantity, QuantityValue, Verdict

Mapper = Callable[[float], float]

LEGEND = "▽ stated   △ computed   ● measured, each with ±2u;   shaded: allowed"
MAX_CONFLICTING, FIGURES = 2, "figures"
PAD_SHARE = 0.12
RULER_PX = 8.0
"""How far below the top of its room the scale's line lies."""


class LedgerScale(QWidget):
    """The painted part of a row: label, best value, verdict, and the tolerance scale with its marks."""

    def __init__(self, quantity: Quantity, palette: Palette) -> None:
        super().__init__()
        self.quantity = quantity
        self.palette_in_use = palette
        self.chosen = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._pieces = Pieces()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # nothing beneath need be painted

    def _fonts(self) -> tuple[QFont, QFont]:
        small = QFont(self.font())
        small.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.82)))
        return self.font(), small

    def sizeHint(self) -> QSize:
        _text, small = self._fonts()
        height = 1.4 * self.fontInfo().pixelSize() + 2.2 * small.pixelSize() + 16
        return QSize(320, round(height))

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        text, small = self._fonts()
        sheet = DraftingPainter(painter, self.palette_in_use, text, small, self._pieces)
        painter.fillRect(self.rect(), sheet.palette.color("chosen" if self.chosen else "paper"))
        line = sheet.height_of()
        self._paint_words(sheet, line)
        self._paint_scale(sheet, QRectF(10, line + 6, self.width() - 20, self.height() - line - 8))
        sheet.line(0, self.height() - 0.5, self.width(), self.height() - 0.5, sheet.pen("rule"))
        self._pieces.finish()

    def _paint_words(self, sheet: DraftingPainter, line: float) -> None:
        row, y = self.quantity, line / 2 + 3
        right = self.width() - 6.0
        if is_judged(row):  # a number that claims nothing stands without a verdict
            verdict = row.verdict
            extent = QRectF(
                -sheet.width_of(verdict) - 1.2 * line, -line, sheet.width_of(verdict) + 1.3 * line, 2 * line
            )
            sheet.piece(verdict, right, y, extent, partial(_draw_verdict, verdict, line))
        verdict_left = right - sheet.width_of("unproven") - line * 1.5
        best = row.best
        value = "–" if best is None else number_text(row, best.value, row.kind.decimals)
        value += f" {row.kind.unit}" if row.kind.unit and best is not None else ""
        box = sheet.write((verdict_left, y), value, bold=True, align="right")
        label = row.kind.label
        if sheet.width_of(label) > box.left() - 16:
            room = round(box.left() - 16)
            label = QFontMetrics(sheet.text).elidedText(label, Qt.TextElideMode.ElideRight, room)
        extent = QRectF(-2, -line, sheet.width_of(label) + 4, 2 * line)
        sheet.piece(("label", label), 8, y, extent, lambda on: on.write((0, 0), label, align="left"))

    def _paint_scale(self, sheet: DraftingPainter, box: QRectF) -> None:
        row = self.quantity
        if not row.values:
            words = "Not available: enter the missing parts or values."
            sheet.write((box.left(), box.center().y()), words, align="left", small=True, color="faded")
            return
        ruler = _Ruler.of(row, box.width(), box.height())
        extent = QRectF(-4, -2, box.width() + 8, box.height() + 4)
        sheet.piece(ruler, box.left(), box.top(), extent, ruler.draw)
        for name, quantity_value in row.values.items():
            _mark(sheet, name, quantity_value, lambda value: box.left() + ruler.at(value), box.top() + RULER_PX)
        left, right = (sheet.width_of(text, small=True) for text in ruler.ends)
        self._paint_values(sheet, box.adjusted(left + 8, 0, -right - 8, 0))

    def _paint_values(self, sheet: DraftingPainter, box: QRectF) -> None:
        """Write the values below the scale, as much of them as there is room for."""
        text = value_text(self.quantity, whole=False)
        if sheet.width_of(text, small=True) > box.width():  # what is allowed goes before what others give
            text = "   ".join(part for part in text.split("   ") if not part.startswith(FIGURES))
        while text and sheet.width_of(text, small=True) > box.width():
            text = text.rpartition("   ")[0]
        sheet.write((box.center().x(), _below(sheet, box.bottom())), text, small=True)


@dataclass(frozen=True)
class _Ruler:
    """A row's scale without its marks: from where to where, what is shaded on it, and its size in px."""

    low: float
    high: float
    ends: tuple[str, str]
    bands: tuple[tuple[float, float, int], ...]
    width: float
    height: float

    @classmethod
    def of(cls, row: Quantity, width: float, height: float) -> _Ruler:
        low, high = scale_range(row)
        decimals = max(row.kind.decimals - 1, 0) if high - low > 1 else row.kind.decimals
        return cls(low, high, (number(low, decimals), number(high, decimals)), tuple(bands_of(row)), width, height)

    def at(self, value: float) -> float:
        """Return where a value lies, in px from the left; one beyond the scale lies at its end."""
        return (min(max(value, self.low), self.high) - self.low) / (self.high - self.low) * self.width

    def draw(self, sheet: DraftingPainter) -> None:
        """Draw it with its upper left corner at the origin."""
        for low, high, alpha in self.bands:
            left, right = self.at(low), self.at(high)
            band = QRectF(left, RULER_PX - 7, max(right - left, 1.0), 14)
            sheet.painter.fillRect(band, sheet.palette.color("holds", alpha))
        sheet.line(0, RULER_PX, self.width, RULER_PX, sheet.pen("faded"))
        y = _below(sheet, self.height)
        for x, text, align in zip((0.0, self.width), self.ends, ("left", "right"), strict=True):
            sheet.write((x, y), text, small=True, color="faded", align=align)


def _below(sheet: DraftingPainter, bottom: float) -> float:
    """Return the middle of the line of text that ends at a height."""
    return bottom - sheet.height_of(small=True) / 2 - 1


def _draw_verdict(verdict: Verdict, line: float, sheet: DraftingPainter) -> None:
    """Write a verdict that ends at the origin, with its mark before it."""
    box = sheet.write((0, 0), verdict, align="right", color=verdict)
    mark = QRectF(box.left() - line * 1.05, -line * 0.4, line * 0.8, line * 0.8)
    draw_verdict(sheet.painter, mark, verdict, sheet.palette.verdict(verdict), sheet.palette.color("paper"))


def bands_of(row: Quantity) -> list[tuple[float, float, int]]:
    """Return what is shaded as allowed, (low, high, strength): the target, else what the values allow each other.

    That is the same width by which they are judged, about the computed value or the measured one.
    """
    target = row.target
    if target is not None:
        bands = [(target.low, target.high, 60)]
        if math.isfinite(target.inner_low) or math.isfinite(target.inner_high):
            bands.append((max(target.low, target.inner_low), min(target.high, target.inner_high), 70))
        return bands
    middle = row.computed or row.measured
    others = [quantity_value for quantity_value in row.values.values() if quantity_value is not middle]
    if middle is None or not others:
        return []
    width = min(allowed_width(middle, other) for other in others)
    return [(middle.value - width, middle.value + width, 60)]


def number_text(row: Quantity, value: float, decimals: int) -> str:
    """Return a value of a row; an error carries its sign."""
    return signed(value, decimals) if row.kind.has_sign else number(value, decimals)


def value_text(row: Quantity, *, whole: bool = True) -> str:
    """Return the values in words, with the target where there is one: ``computed 0.716 ± 0.059   allowed ±0.400``.

    Makers' figures that differ stand in ``whole`` with who gives them; else by their spread, right behind the values.
    """
    decimals = row.kind.decimals + 1
    parts = []
    for name, quantity_value in row.values.items():
        spread = f" ± {number(quantity_value.uncertainty, decimals)}" if quantity_value.uncertainty else ""
        parts.append(f"{name} {number_text(row, quantity_value.value, decimals)}{spread}")
    if not whole:
        spreads = [(short(own.low), short(own.high), own.unit) for own in row.conflicting[:MAX_CONFLICTING]]
        parts += [f"{FIGURES} {low} to {high} {unit}".rstrip() for low, high, unit in spreads]
    target = row.target
    if target is not None and (math.isfinite(target.low) or math.isfinite(target.high)):
        low, high = number(target.low, decimals), number(target.high, decimals)
        if target.low == -target.high:
            parts.append(f"allowed ±{high}")
        elif math.isinf(target.high):
            parts.append(f"allowed from {low}")
        else:
            parts.append(f"allowed {low} to {high}" if math.isfinite(target.low) else f"allowed up to {high}")
    if row.assumed:
        count = len(row.assumed)
        parts.append(f"depends on {counted(count, 'assumed value')}")
    if whole:
        parts += [f"figures differ: {own.words}" for own in row.conflicting[:MAX_CONFLICTING]]
    if row.out_of_date is not None:
        measured, changed = (text[:10] or "?" for text in (row.out_of_date.measured_on, row.out_of_date.changed_on))
        parts.append(f"out of date: measured {measured}, changed {changed}")
    return "   ".join(parts)


def scale_range(row: Quantity) -> tuple[float, float]:
    """Return the ends of a row's scale: the target and every value with ±2u, and some air."""
    ends = [
        quantity_value.value + sign * max(2 * quantity_value.uncertainty, quantity_value.tolerance)
        for quantity_value in row.values.values()
        for sign in (-1, 1)
    ]
    if row.target is not None:
        target = row.target
        ends += filter(math.isfinite, (target.low, target.inner_low, target.inner_high, target.high))
    low, high = min(ends), max(ends)
    pad = abs(high) * 0.01 or 1.0 if high - low <= 1e-12 * max(abs(high), 1e-09) else PAD_SHARE * (high - low)
    return low - pad, high + pad


def _mark(sheet: DraftingPainter, name: str, quantity_value: QuantityValue, at: Mapper, y: float) -> None:
    """Draw a value's mark: stated above the line, computed below, measured on it."""
    x, spread = at(quantity_value.value), 2 * quantity_value.uncertainty
    painter = sheet.painter
    painter.setPen(sheet.pen(width=1.2))
    painter.setBrush(sheet.palette.color("paper"))
    height = {"stated": -3.5, "computed": 3.5, "measured": 0.0}[name]
    if spread:
        painter.drawLine(
            QPointF(at(quantity_value.value - spread), y + height),
            QPointF(at(quantity_value.value + spread), y + height),
        )
    if name == "measured":
        painter.setBrush(sheet.palette.color("ink"))
        painter.drawEllipse(QPointF(x, y), 3.6, 3.6)
        return
    sign = -1 if name == "stated" else 1
    painter.setBrush(sheet.palette.color("accent" if name == "computed" else "paper"))
    painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 5, y + sign * 8.5), QPointF(x + 5, y + sign * 8.5)]))


class LedgerRow(Pressed):
    """A quantity of the ledger. Chosen, it opens fields for its stated and measured value."""

    chosen = pyqtSignal(str)
    value_entered = pyqtSignal(tuple, object, str)

    def __init__(self, quantity: Quantity, palette: Palette) -> None:
        super().__init__()
        self.scale = LedgerScale(quantity, palette)
        self.clicked.connect(lambda _checked: self.setFocus(Qt.FocusReason.OtherFocusReason))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.scale)
        self._fields: list[ValueField] = []
        self._editor: QWidget | None = None
        self.scale.installEventFilter(self)
        self._describe()

    @property
    def quantity(self) -> Quantity:
        return self.scale.quantity

    def show_quantity(self, quantity: Quantity, values: dict[tuple[str, ...], float | str | None]) -> None:
        """Show the row's quantity as it stands now."""
        for field in self._fields:
            field.show_value(values.get(tuple(str(step) for step in field.path)))
        if quantity != self.scale.quantity:
            self.scale.quantity = quantity
            self._describe()
            self.scale.update()

    def set_chosen(self, chosen: bool, values: dict[tuple[str, ...], float | str | None]) -> None:
        """Open or close the row's fields."""
        self.scale.chosen = chosen
        self.setChecked(chosen)
        if chosen and self._editor is None and self.quantity.id in QUANTITY_KINDS:
            self._editor = self._build_editor(values)
            layout = self.layout()
            assert layout is not None
            layout.addWidget(self._editor)
        elif not chosen and self._editor is not None:
            self._editor.deleteLater()
            self._editor, self._fields = None, []
        self.scale.update()

    def _build_editor(self, values: dict[tuple[str, ...], float | str | None]) -> QWidget:
        row = self.quantity
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(10, 2, 6, 5)
        layout.setSpacing(2)
        for section, spread_key, spread_label in (
            ("stated", "tolerance", "±"),
            ("measured", "standard_uncertainty", "u"),
        ):
            line = QHBoxLayout()
            label = PlainLabel(f"{section}")
            label.setMinimumWidth(label.fontMetrics().horizontalAdvance("measured "))
            line.addWidget(label)
            specs = [("value", row.kind.unit, 74, ""), (spread_key, row.kind.unit, 60, spread_label)]
            for key, unit, width, text in specs:
                if text:
                    line.addWidget(PlainLabel(text))
                field = ValueField(
                    (section, row.id, key), f"{section} {key.replace('_', ' ')} of {row.kind.label}", unit
                )
                field.setMinimumWidth(width)
                self._add(field, line, values)
            line.addWidget(PlainLabel(row.kind.unit))
            source = ValueField((section, row.id, "source"), f"source of the {section} {row.kind.label}", kind="text")
            source.setPlaceholderText("where it stands")
            self._add(source, line, values)
            line.setStretchFactor(source, 1)
            layout.addLayout(line)
        return box

    def _add(self, field: ValueField, line: QHBoxLayout, values: dict[tuple[str, ...], float | str | None]) -> None:
        field.show_value(values.get(tuple(str(step) for step in field.path)))
        field.entered.connect(self._entered)
        self._fields.append(field)
        line.addWidget(field)

    def _entered(self, path: DocumentPath, value: object) -> None:
        # Taking a value's value away takes the whole value away; a ± or a source alone says nothing.
        target = path[:2] if path[-1] == "value" and value is None else path
        self.value_entered.emit(target, value, f"Change the {path[0]} {self.quantity.kind.label.lower()}")

    def fields(self) -> list[ValueField]:
        """Return the open fields of the row."""
        return self._fields

    def _describe(self) -> None:
        row = self.quantity
        self.setAccessibleName(f"{row.kind.label}: {row.verdict}" if is_judged(row) else row.kind.label)
        self.setAccessibleDescription(value_text(row))
        self.setToolTip(tip(f"{row.kind.label}\n{value_text(row) or 'not available'}"))

    def eventFilter(self, a0: object, a1: QEvent | None) -> bool:
        if a1 is not None and a1.type() == QEvent.Type.MouseButtonPress and isinstance(a1, QMouseEvent):
            self.setFocus(Qt.FocusReason.MouseFocusReason)
        return False

    def focusInEvent(self, a0: QFocusEvent | None) -> None:
        super().focusInEvent(a0)
        self.chosen.emit(self.quantity.id)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_F2) and self._fields:
            self._fields[0].setFocus()
            self._fields[0].selectAll()
        elif a0 is not None and a0.key() == Qt.Key.Key_Down:
            self.focusNextChild()
        elif a0 is not None and a0.key() == Qt.Key.Key_Up:
            self.focusPreviousChild()
        else:
            super().keyPressEvent(a0)
