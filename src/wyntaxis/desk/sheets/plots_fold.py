"""The fold of plots at the foot of the Light path sheet; the plotting library is loaded when it is first opened."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QToolButton, QVBoxLayout, QWidget

from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session

if TYPE_CHECKING:
    from wyntaxis.desk.plots import FalloffPlot, StackUpPlot


class PlotsFold(QWidget):
    """A heading that opens to the tolerance stack and the falloff."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self._session, self._palette = session, palette
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.heading = QToolButton()
        self.heading.setText("Plots: tolerance stack, light falloff")
        self.heading.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.heading.setArrowType(Qt.ArrowType.RightArrow)
        self.heading.setCheckable(True)
        self.heading.toggled.connect(self._toggle)
        column.addWidget(self.heading)
        self._body: QWidget | None = None
        self.stack: StackUpPlot | None = None
        self.falloff: FalloffPlot | None = None

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette = palette
        self.refresh()

    def _toggle(self, opened: bool) -> None:
        self.heading.setArrowType(Qt.ArrowType.DownArrow if opened else Qt.ArrowType.RightArrow)
        if opened and self._body is None:
            self._build()
        if self._body is not None:
            self._body.setVisible(opened)
        self.refresh()

    def _build(self) -> None:
        from wyntaxis.desk.plots import FalloffPlot, StackUpPlot

        self._body = QWidget()
        grid = QGridLayout(self._body)
        grid.setContentsMargins(0, 0, 0, 0)
        self.stack, self.falloff = StackUpPlot(), FalloffPlot()
        for place, panel in enumerate((self.stack, self.falloff)):
            panel.refused.connect(self._session.refused)
            grid.addWidget(panel, 0, place)
        layout = self.layout()
        assert layout is not None
        layout.addWidget(self._body)

    def refresh(self) -> None:
        """Draw the plots of the rig as it stands, where the fold is open."""
        if self.stack is None or self.falloff is None or not self.heading.isChecked():
            return
        from wyntaxis.core.findings.light import beam_of
        from wyntaxis.core.optics.illumination import falloff, falloff_map, openings
        from wyntaxis.core.optics.stackup import stack_up

        reckoning = self._session.reckoning
        path = reckoning.back_focus
        self.stack.show_stack(stack_up(path) if path else None, self._palette)
        sensor, found = reckoning.rig.sensor, openings(reckoning.rig)
        if sensor is None or not found:
            self.falloff.show_falloff(None, None, (1.0, 1.0), 0.0, self._palette)
            return
        beam, size = beam_of(reckoning), (sensor.width_mm, sensor.height_mm)
        profile = falloff(beam, found, sensor.diagonal_mm)
        circle = min(beam.fully_lit_circle(opening.diameter_mm, opening.distance_mm) for opening in found)
        self.falloff.show_falloff(profile, falloff_map(profile, *size), size, circle, self._palette)
