"""A plot that is made when its heading is first opened."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Generic, Protocol, TypeVar

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from wyntaxis.desk.collapsible_section import CollapsibleSection


class _Signal(Protocol):
    def connect(self, slot: Callable[..., object]) -> object: ...

    def emit(self, text: str) -> None: ...


P = TypeVar("P", bound=QWidget)


class PlotSection(CollapsibleSection, Generic[P]):
    """``make`` makes the plot, ``draw`` draws it; ``above`` are the controls that stand over it."""

    def __init__(
        self,
        title: str,
        make: Callable[[], P],
        draw: Callable[[P], None],
        refused: _Signal,
        above: Sequence[QWidget] = (),
    ) -> None:
        super().__init__(title, self._made, self.draw)
        self._make, self._draw, self._refused, self._above = make, draw, refused, above
        self._plot: P | None = None

    @property
    def plot(self) -> P:
        """The plot; the section must have been opened once."""
        if self._plot is None:
            raise ValueError("the plot is made when the section is first opened")
        return self._plot

    def draw(self) -> None:
        """Draw the plot, where it is made."""
        if self._plot is not None:
            self._draw(self._plot)

    def _made(self) -> QWidget:
        plot: Any = self._make()
        plot.refused.connect(self._refused)
        self._plot = plot
        if not self._above:
            return self.plot
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        for widget in self._above:
            row.addWidget(widget)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.plot)
        return body
