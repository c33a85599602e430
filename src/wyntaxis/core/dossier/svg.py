"""Vector drawings as SVG text: lines, shapes and words, nothing that could run or be fetched."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape

from wyntaxis.core.canvas import Box, Lettering, Point, Stroke
from wyntaxis.core.ledger import Verdict

INK, FAINT, PAPER = "#222222", "#777777", "#ffffff"
GLASS, LIGHT, SHADE = "#dfe8ee", "#f4f0e0", "#e8e8e8"


TEXT_PX, SMALL_PX = 11.0, 9.0
LETTER_EM = 0.58
"""How wide a letter is on average, of the size of its text: paper is set by another program, which tells no widths."""
COLORS = {"ink": INK, "faded": FAINT, "paper": PAPER, "panel": SHADE, "chosen": GLASS, "accent": INK}
"""Colours by what they are for; verdicts are in ink, and told by their mark."""
ANCHORS = {"left": "start", "centre": "middle", "right": "end"}
MARKS = {Verdict.FAILS: "✕", Verdict.TIGHT: "◆", Verdict.UNPROVEN: "◌", Verdict.HOLDS: "✓"}


class PaperCanvas:
    """The canvas of the core's drawings on paper; a :class:`~wyntaxis.core.canvas.Canvas`."""

    def __init__(self, svg: Svg) -> None:
        self._svg = svg

    def line(self, points: Sequence[Point], stroke: Stroke) -> None:
        self._svg.polyline(points, width=stroke.width, dash=_dashed(stroke), color=COLORS.get(stroke.color, INK))

    def shape(self, points: Sequence[Point], fill: str | None, stroke: Stroke | None) -> None:
        line, width = _outline(stroke)
        self._svg.polygon(points, fill=_filled(fill), stroke=line, line=width)

    def circle(self, at: Point, radius: float, fill: str | None, stroke: Stroke | None) -> None:
        line, width = _outline(stroke)
        self._svg.circle(at, radius, fill=_filled(fill), stroke=line, line=width)

    def words(self, at: Point, text: str, lettering: Lettering) -> Box:
        size, width = SMALL_PX if lettering.small else TEXT_PX, self.width_of(text, lettering)
        left = {"left": at[0], "centre": at[0] - width / 2, "right": at[0] - width}[lettering.align]
        box = Box(left, at[1] - 0.6 * size, width, 1.2 * size)
        if lettering.ground is not None:
            self.shape(Box(box.left - 2, box.top, box.width + 4, box.height).corners, lettering.ground, None)
        anchor, color = ANCHORS[lettering.align], COLORS.get(lettering.color, INK)
        self._svg.text((at[0], at[1] + 0.35 * size), text, size=size, anchor=anchor, bold=lettering.bold, color=color)
        return box

    def width_of(self, text: str, lettering: Lettering) -> float:
        return LETTER_EM * (SMALL_PX if lettering.small else TEXT_PX) * len(text)

    def mark(self, box: Box, verdict: Verdict, ground: str) -> None:
        self.words(box.middle, MARKS[verdict], Lettering(small=False, bold=True))


def _dashed(stroke: Stroke) -> str:
    return " ".join(f"{dash:g}" for dash in stroke.dashes)


def _outline(stroke: Stroke | None) -> tuple[str, float]:
    return ("none", 0.0) if stroke is None else (COLORS.get(stroke.color, INK), stroke.width)


def _filled(fill: str | None) -> str:
    return "none" if fill is None else COLORS.get(fill, INK)


class Svg:
    """A drawing being made, in its own units; y counts down."""

    def __init__(self, width: float, height: float, title: str) -> None:
        self.width, self.height, self.title = width, height, title
        self._parts: list[str] = []

    def line(self, start: Point, end: Point, *, width: float = 1.0, dash: str = "", color: str = INK) -> None:
        """Draw a line; ``dash`` is its pattern."""
        pattern = f' stroke-dasharray="{dash}"' if dash else ""
        self._parts.append(
            f'<line x1="{_n(start[0])}" y1="{_n(start[1])}" x2="{_n(end[0])}" y2="{_n(end[1])}" stroke="{color}" '
            f'stroke-width="{_n(width)}"{pattern}/>'
        )

    def rect(
        self, box: tuple[float, float, float, float], *, fill: str = "none", stroke: str = INK, line: float = 1.0,
        dash: str = "",
    ) -> None:  # fmt: skip
        """Draw a rectangle of left, top, width, height."""
        left, top, width, height = box
        pattern = f' stroke-dasharray="{dash}"' if dash else ""
        self._parts.append(
            f'<rect x="{_n(left)}" y="{_n(top)}" width="{_n(max(width, 0.0))}" height="{_n(max(height, 0.0))}" '
            f'fill="{fill}" stroke="{stroke}" stroke-width="{_n(line)}"{pattern}/>'
        )

    def polygon(self, points: Sequence[Point], *, fill: str = "none", stroke: str = "none", line: float = 1.0) -> None:
        """Draw a closed shape."""
        self._parts.append(
            f'<polygon points="{_points(points)}" fill="{fill}" stroke="{stroke}" stroke-width="{_n(line)}"/>'
        )

    def polyline(self, points: Sequence[Point], *, width: float = 1.5, dash: str = "", color: str = INK) -> None:
        """Draw a line through points."""
        pattern = f' stroke-dasharray="{dash}"' if dash else ""
        self._parts.append(
            f'<polyline points="{_points(points)}" fill="none" stroke="{color}" stroke-width="{_n(width)}"{pattern}/>'
        )

    def circle(self, at: Point, radius: float, *, fill: str = PAPER, stroke: str = INK, line: float = 1.0) -> None:
        """Draw a circle."""
        self._parts.append(
            f'<circle cx="{_n(at[0])}" cy="{_n(at[1])}" r="{_n(radius)}" fill="{fill}" stroke="{stroke}" '
            f'stroke-width="{_n(line)}"/>'
        )

    def text(
        self, at: Point, words: str, *, size: float = 11.0, anchor: str = "start", turn: float = 0.0,
        bold: bool = False, color: str = INK,
    ) -> None:  # fmt: skip
        """Write words; ``turn`` in degrees, clockwise."""
        turned = f' transform="rotate({_n(turn)} {_n(at[0])} {_n(at[1])})"' if turn else ""
        weight = ' font-weight="bold"' if bold else ""
        self._parts.append(
            f'<text x="{_n(at[0])}" y="{_n(at[1])}" font-family="B612" font-size="{_n(size)}" '
            f'text-anchor="{anchor}" fill="{color}"{weight}{turned}>{escape(_printable(words))}</text>'
        )

    def label(self, at: Point, words: str, *, size: float = 11.0) -> None:
        """Write words on a ground of paper, so that they stay readable over what is drawn."""
        width = 0.6 * size * len(words)
        self.rect((at[0] - 2, at[1] - size + 1, width + 4, size + 3), fill=PAPER, stroke="none")
        self.text(at, words, size=size)

    def hatch(self, left: float, top: float, width: float, height: float, *, step: float = 6.0, rising: bool) -> None:
        """Hatch a rectangle at 45° (ISO 128-50): each neighbour the other way."""
        if width <= 0 or height <= 0:
            return
        offset, strokes = -height, []
        while offset < width:
            start, end = max(offset, 0.0), min(offset + height, width)
            if end > start:
                low, high = (height - (start - offset), height - (end - offset))
                if not rising:
                    low, high = height - low, height - high
                strokes.append(f"M{_n(left + start)} {_n(top + low)}L{_n(left + end)} {_n(top + high)}")
            offset += step
        self._parts.append(f'<path d="{"".join(strokes)}" stroke="{FAINT}" stroke-width="0.5" fill="none"/>')

    def dimension(self, start: float, end: float, y: float, words: str, *, bold: bool = False) -> None:
        """Draw a dimension line with its ticks (ISO 129-1), its figure above it, or turned where it is narrow."""
        self.line((start, y), (end, y), width=0.7)
        for x in (start, end):
            self.line((x - 3, y + 3), (x + 3, y - 3), width=0.9)
        middle = (start + end) / 2
        if end - start >= 7.0 * len(words):
            self.text((middle, y - 4), words, size=11.5, anchor="middle", bold=bold)
        else:
            self.text((middle + 3, y - 5), words, size=11.5, turn=-55, bold=bold)

    def markup(self) -> str:
        """Return the drawing as an SVG element."""
        text = escape(self.title, quote=True)
        return (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_n(self.width)} {_n(self.height)}" '
            f'style="width: {_n(min(self.width / 6.4, 100))}%" role="img" aria-label="{text}">'
            f"<title>{escape(self.title)}</title>{''.join(self._parts)}</svg>"
        )


def _n(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".") if "." in f"{value:.2f}" else f"{value:.2f}"


def _points(points: Iterable[Point]) -> str:
    return " ".join(f"{_n(x)},{_n(y)}" for x, y in points)


def _printable(words: str) -> str:
    """Return words without the control characters that XML has no place for."""
    return "".join(
        char for char in words if char >= " " and char not in "\ufffe\uffff" and not "\ud800" <= char <= "\udfff"
    )
