"""Plots on paper: axes with units, lines, points, bands; they print well in grey."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from wyntaxis.core.dossier.svg import FAINT, INK, PAPER, SHADE, Svg

WIDTH, HEIGHT = 620.0, 300.0
LEFT, RIGHT, TOP, BOTTOM = 66.0, 16.0, 14.0, 46.0
TICKS = 6
DASHES = ("", "7 4", "2 3", "10 3 2 3")


@dataclass(frozen=True)
class Series:
    """One line or set of points: its name, x and y; ``points`` draws marks and no line, ``hollow`` ones left out."""

    name: str
    x: tuple[float, ...]
    y: tuple[float, ...]
    points: bool = False
    hollow: bool = False

    @property
    def finite(self) -> list[tuple[float, float]]:
        """The pairs that can be drawn."""
        return [(x, y) for x, y in zip(self.x, self.y, strict=True) if math.isfinite(x) and math.isfinite(y)]


@dataclass(frozen=True)
class Chart:
    """A plot: its title, what its axes are with units, its series, and what is written below it."""

    title: str
    x_label: str
    y_label: str
    series: tuple[Series, ...]
    notes: tuple[str, ...] = ()
    level: float | None = None
    """A level drawn across, such as nought."""
    bands: tuple[tuple[float, float], ...] = field(default=())
    """Spans of y that are shaded."""

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing finite to draw."""
        return not any(own.finite for own in self.series)


def ticks(low: float, high: float, count: int = TICKS) -> list[float]:
    """Return round values between two others, about so many."""
    if not high > low:
        return [low]
    raw = (high - low) / max(count - 1, 1)
    base = 10.0 ** math.floor(math.log10(raw))
    step = next((base * nice for nice in (1, 2, 2.5, 5, 10) if base * nice >= raw * 0.999), base * 10)
    first = math.ceil(low / step - 1e-9)
    return [round(k * step, 12) for k in range(first, math.floor(high / step + 1e-9) + 1)]


def chart_svg(chart: Chart) -> str:
    """Return a plot as an SVG element."""
    svg = Svg(WIDTH, HEIGHT, chart.title)
    xs = [x for own in chart.series for x in own.x if math.isfinite(x)]
    ys = [y for own in chart.series for y in own.y if math.isfinite(y)]
    ys += [] if chart.level is None else [chart.level]
    x_low, x_high = _span(xs)
    y_low, y_high = _span(ys, air=0.06)

    def place(x: float, y: float) -> tuple[float, float]:
        return (
            LEFT + (x - x_low) / (x_high - x_low) * (WIDTH - LEFT - RIGHT),
            HEIGHT - BOTTOM - (y - y_low) / (y_high - y_low) * (HEIGHT - TOP - BOTTOM),
        )

    for low, high in chart.bands:
        top, bottom = place(x_low, min(high, y_high))[1], place(x_low, max(low, y_low))[1]
        svg.rect((LEFT, top, WIDTH - LEFT - RIGHT, bottom - top), fill=SHADE, stroke="none")
    for x in ticks(x_low, x_high):
        at = place(x, y_low)
        svg.line(at, (at[0], TOP), width=0.3, color=FAINT)
        svg.text((at[0], at[1] + 14), _tick(x), size=10, anchor="middle")
    for y in ticks(y_low, y_high):
        at = place(x_low, y)
        svg.line(at, (WIDTH - RIGHT, at[1]), width=0.3, color=FAINT)
        svg.text((at[0] - 6, at[1] + 3.5), _tick(y), size=10, anchor="end")
    svg.rect((LEFT, TOP, WIDTH - LEFT - RIGHT, HEIGHT - TOP - BOTTOM), line=0.9)
    if chart.level is not None:
        svg.line(place(x_low, chart.level), place(x_high, chart.level), width=0.8, dash="4 3")
    for number, own in enumerate(chart.series):
        _draw(svg, own, [place(x, y) for x, y in own.finite], number)
    svg.text(((LEFT + WIDTH - RIGHT) / 2, HEIGHT - 10), chart.x_label, size=10.5, anchor="middle")
    svg.text((14, (TOP + HEIGHT - BOTTOM) / 2), chart.y_label, size=10.5, anchor="middle", turn=-90)
    named = [own for own in chart.series if own.name]
    if len(named) > 1:
        for line, own in enumerate(named[:6]):
            y = TOP + 13 + 13 * line
            number = chart.series.index(own)
            if own.points:
                svg.circle((LEFT + 18, y - 3.5), 3, fill=PAPER if own.hollow else INK)
            else:
                svg.line((LEFT + 8, y - 3.5), (LEFT + 28, y - 3.5), width=1.4, dash=DASHES[number % len(DASHES)])
            svg.text((LEFT + 34, y), own.name, size=9.5)
    return svg.markup()


def _draw(svg: Svg, own: Series, at: Sequence[tuple[float, float]], number: int) -> None:
    if own.points:
        for point in at:
            svg.circle(point, 3, fill=PAPER if own.hollow else INK)
    elif len(at) > 1:
        svg.polyline(at, width=1.4, dash=DASHES[number % len(DASHES)])


def _span(values: Sequence[float], air: float = 0.0) -> tuple[float, float]:
    low, high = (min(values), max(values)) if values else (0.0, 1.0)
    if not high > low:
        pad = abs(low) * 0.1 or 1.0
        return low - pad, high + pad
    return low - air * (high - low), high + air * (high - low)


def _tick(value: float) -> str:
    return f"{value:g}".replace("-", "\N{MINUS SIGN}")
