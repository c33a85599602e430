"""The two palettes, day ink on paper and night for dark-adapted eyes, and the style sheet made from them."""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import lru_cache
from typing import TYPE_CHECKING

from PyQt6.QtGui import QColor

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Verdict


@dataclass(frozen=True)
class Palette:
    """The colours of one palette, as ``#rrggbb``. Text colours keep 4.5:1 on both grounds."""

    name: str
    paper: str
    panel: str
    field: str
    ink: str
    faded: str
    rule: str
    metal: str
    glass: str
    light: str
    light_core: str
    accent: str
    chosen: str
    holds: str
    tight: str
    fails: str
    unproven: str

    def color(self, name: str, alpha: int = 255) -> QColor:
        """Return one of the palette's colours, ``alpha`` from 0 to 255."""
        return _color(getattr(self, name), alpha)

    def over(self, name: str, alpha: int, ground: QColor) -> QColor:
        """Return what a transparent colour looks like on a ground: an opaque one is drawn several times as fast."""
        return _over(self.color(name).rgb(), alpha, ground.rgb())

    def verdict(self, verdict: Verdict) -> QColor:
        """Return the colour of a verdict; its shape and its word go with it everywhere."""
        return self.color(str(verdict))


@lru_cache(maxsize=256)
def _color(code: str, alpha: int) -> QColor:
    color = QColor(code)
    color.setAlpha(alpha)
    return color


@lru_cache(maxsize=64)
def _over(above: int, alpha: int, below: int) -> QColor:
    own, ground, share = QColor(above), QColor(below), alpha / 255
    pairs = zip(own.getRgb()[:3], ground.getRgb()[:3], strict=True)
    return QColor(*(round(share * (one or 0) + (1 - share) * (other or 0)) for one, other in pairs))


DAY = Palette(
    name="day",
    paper="#f6f0e2",
    panel="#ede5d3",
    field="#fffaf0",
    ink="#20242c",
    faded="#5b5a55",
    rule="#b9ae97",
    metal="#8d8674",
    glass="#9fc3c9",
    light="#f0d98a",
    light_core="#e3bd4e",
    accent="#1f4f82",
    chosen="#d6dfe3",
    holds="#1e6239",
    tight="#855000",
    fails="#a3221c",
    unproven="#5a5864",
)

NIGHT = Palette(
    name="night",
    paper="#0d0605",
    panel="#150a08",
    field="#1d0e0b",
    ink="#e0745a",
    faded="#cc7059",
    rule="#4a2119",
    metal="#6e3428",
    glass="#5c2a26",
    light="#38160d",
    light_core="#512312",
    accent="#ff9c7d",
    chosen="#341711",
    holds="#d07850",
    tight="#ef9a52",
    fails="#ff6f5e",
    unproven="#cb7567",
)

PALETTES = {palette.name: palette for palette in (DAY, NIGHT)}


def contrast(one: str, other: str) -> float:
    """Return the contrast ratio of two colours, 1 to 21 (WCAG 2.2, relative luminance)."""
    lighter, darker = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def _luminance(color: str) -> float:
    parts = [int(color[index : index + 2], 16) / 255 for index in (1, 3, 5)]
    red, green, blue = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


_STYLE = """
QWidget {{ background: {paper}; color: {ink}; font-family: "B612"; font-size: {size}px; }}
QMenuBar, QMenu {{ background: {panel}; }}
QMenuBar::item {{ padding: 4px 9px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {chosen}; color: {ink}; }}
QMenu {{ border: 1px solid {rule}; }}
QMenu::item {{ padding: 4px 26px 4px 22px; }}
QMenu::item:disabled {{ color: {faded}; }}
QMenu::separator {{ height: 1px; background: {rule}; margin: 4px 8px; }}
QSplitter::handle {{ background: {rule}; }}
QSplitter::handle:hover {{ background: {accent}; }}
QScrollArea {{ border: none; }}
QTextEdit[role="paragraphs"] {{ background: {paper}; border: none; selection-background-color: {accent};
    selection-color: {paper}; }}
QLineEdit, QComboBox, QPlainTextEdit {{
    background: {field}; border: 1px solid {rule}; border-radius: 2px; padding: 1px 4px;
    selection-background-color: {accent}; selection-color: {paper};
}}
QLineEdit:focus, QComboBox:focus, QCheckBox:focus {{ border: 1px solid {accent}; }}
QLineEdit[assumed="true"] {{ border: 1px dashed {faded}; color: {faded}; }}
QLineEdit[invalid="true"] {{ border: 2px solid {fails}; }}
QLineEdit:read-only {{ color: {faded}; }}
QComboBox QAbstractItemView {{ background: {field}; border: 1px solid {rule}; selection-background-color: {chosen};
    selection-color: {ink}; }}
QToolButton {{ background: {panel}; border: 1px solid {rule}; border-radius: 2px; padding: 3px 8px; }}
QToolButton:focus {{ border: 1px solid {accent}; }}
QCheckBox::indicator {{ width: {tick}px; height: {tick}px; background: {field}; border: 1px solid {metal};
    border-radius: 2px; }}
QCheckBox::indicator:checked {{ background: {accent}; }}
QCheckBox::indicator:focus {{ border-color: {accent}; }}
QProgressBar {{ background: {field}; border: 1px solid {rule}; max-height: 10px; }}
QProgressBar::chunk {{ background: {accent}; }}
QPushButton {{ background: {field}; border: 1px solid {metal}; border-radius: 2px; padding: 4px 12px; }}
QPushButton:hover {{ background: {chosen}; }}
QPushButton:focus {{ border: 2px solid {accent}; padding: 3px 11px; }}
QPushButton:disabled {{ color: {faded}; border-color: {rule}; }}
QTabBar::tab {{ background: {panel}; border: 1px solid {rule}; padding: 2px 10px; margin-right: 3px; }}
QTabBar::tab:selected {{ background: {field}; border: 1px solid {accent}; border-bottom: 3px solid {accent}; }}
QTabBar::tab:focus {{ color: {accent}; }}
QListView {{ background: {paper}; border: none; outline: none; }}
QListView::item {{ padding: 0px; }}
QListView::item:selected {{ background: {chosen}; color: {ink}; }}
QTableView {{ background: {field}; alternate-background-color: {paper}; border: 1px solid {rule};
    gridline-color: {rule}; selection-background-color: {chosen}; selection-color: {ink}; }}
QTableView:focus {{ border: 1px solid {accent}; }}
QHeaderView::section {{ background: {panel}; color: {ink}; border: none; border-right: 1px solid {rule};
    border-bottom: 1px solid {rule}; padding: 1px 4px; }}
QTableCornerButton::section {{ background: {panel}; border: none; }}
QScrollBar:vertical {{ background: {paper}; width: 11px; }}
QScrollBar:horizontal {{ background: {paper}; height: 11px; }}
QScrollBar::handle {{ background: {rule}; border-radius: 3px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QToolTip {{ background: {field}; color: {ink}; border: 1px solid {metal}; }}
QLabel[role="title"] {{ font-size: {title}px; font-weight: bold; }}
QLabel[role="answer"], QPushButton[role="answer"] {{ font-size: {answer}px; }}
QLabel[role="huge"] {{ font-size: {huge}px; font-weight: bold; }}
QLabel[role="large"] {{ font-size: {large}px; }}
QLabel[role="big"] {{ font-size: {big}px; }}
QLabel[role="faded"], QCheckBox[role="faded"] {{ color: {faded}; }}
QLabel[role="heading"] {{ font-weight: bold; }}
QFrame[role="panel"], QFrame[role="panel"] QLabel, QFrame[role="panel"] QCheckBox,
QWidget[role="card"] {{ background: {panel}; }}
QFrame[role="notice"], QFrame[role="notice"] QLabel {{ background: {chosen}; }}
QFrame[role="notice"] {{ border: 1px solid {accent}; }}
QFrame[role="notice"][severity="error"] {{ border: 2px solid {fails}; }}
"""

BASE_TEXT_PX = 13


def style_sheet(palette: Palette, text_scale: float) -> str:
    """Return the style sheet of a palette at a text scale, 1 for the base size."""
    colors = {field.name: getattr(palette, field.name) for field in fields(palette)}
    size = BASE_TEXT_PX * text_scale
    sizes = {"size": 1.0, "title": 1.3, "answer": 1.15, "huge": 3.0, "large": 2.2, "big": 1.5, "tick": 0.85}
    return _STYLE.format(**colors, **{name: round(size * share) for name, share in sizes.items()})
