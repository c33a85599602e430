"""The fold of plots at the foot of the Light path sheet; the plotting library is loaded when it is first opened."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QGridLayout, QWidget

from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session

if TYPE_CHECKING:
    from wyntaxis.desk.plots import FalloffPlot, StackUpPlot


class CollapsiblePlots(CollapsibleSection):
    """A heading that opens to the tolerance stack and the falloff."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__("Plots: tolerance stack, light falloff", self._make, self._draw)
        self._session, self._palette = session, palette
        self.stack: StackUpPlot | None = None
        self.falloff: FalloffPlot | None = None

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette = palette
        self.refresh()

    def _make(self) -> QWidget:
        from wyntaxis.desk.plots import FalloffPlot, StackUpPlot

        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 0, 0, 0)
        self.stack, self.falloff = StackUpPlot(), FalloffPlot()
        for place, panel in enumerate((self.stack, self.falloff)):
            panel.refused.connect(self._session.refused)
            grid.addWidget(panel, 0, place)
        return body

    def _draw(self) -> None:
        """Draw the plots of the rig as it stands."""
        assert self.stack is not None
        assert self.falloff is not None
        from wyntaxis.core.quantities.light import beam_of
        from wyntaxis.core.train.illumination import falloff, falloff_map, openings
        from wyntaxis.core.train.stackup import stack_up

        evaluation = self._session.evaluation
        path = evaluation.back_focus
        self.stack.show_stack(stack_up(path) if path else None, self._palette)
        sensor, found = evaluation.rig.sensor, openings(evaluation.rig)
        if sensor is None or not found:
            self.falloff.show_falloff(None, None, (1.0, 1.0), 0.0, self._palette)
            return
        beam, size = beam_of(evaluation), (sensor.width_mm, sensor.height_mm)
        profile = falloff(beam, found, sensor.diagonal_mm)
        circle = min(beam.fully_lit_circle(opening.diameter_mm, opening.distance_mm) for opening in found)
        self.falloff.show_falloff(profile, falloff_map(profile, *size), size, circle, self._palette)
