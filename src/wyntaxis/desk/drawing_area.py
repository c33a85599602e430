"""The drawing band across the top: the drawing that the work at hand needs, or folded to a strip."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QWidget

from wyntaxis.core.rehearsal.kind import REHEARSAL
from wyntaxis.core.steps import REHEARSAL as REHEARSAL_STEP
from wyntaxis.core.steps import SHELF, Step
from wyntaxis.desk.drawing_shape import NIGHT_SHARE, DrawingShape
from wyntaxis.desk.evidence_view import EvidenceView
from wyntaxis.desk.night_timeline import NightTimeline
from wyntaxis.desk.section.section_view import SectionView
from wyntaxis.desk.section.strip import StripPicture
from wyntaxis.desk.window_state import WindowState
from wyntaxis.desk.wiring.wiring_view import WiringView

if TYPE_CHECKING:
    from wyntaxis.desk.palette import Palette
    from wyntaxis.desk.session import Session
    from wyntaxis.desk.step_pictures import StepPictures


class DrawingArea(QStackedWidget):
    """Holds the drawings; shows the one of the step's group, or the strip.

    ``shared`` tells that the band wants another height.
    """

    shared = pyqtSignal()

    def __init__(self, settings: WindowState) -> None:
        super().__init__()
        self._shape = DrawingShape(settings)
        self._session: Session | None = None
        self._palette: Palette | None = None
        self._was_empty = False
        self.step: Step = SHELF
        self.section, self.wiring, self.strip = SectionView(), WiringView(), StripPicture()
        self.night = NightTimeline(fits=True)
        self.evidence = EvidenceView()
        for page in (self.section, self.wiring, self.strip, self.night, self.evidence):
            self.addWidget(page)
        for strip in (self.strip, self.evidence.strip):
            strip.part_chosen.connect(self.section.part_chosen)
            strip.expand_asked.connect(self.toggle_collapsed)
        self.evidence.fold_asked.connect(self.toggle_collapsed)
        self.evidence.filled_changed.connect(self.shared)

    @property
    def is_collapsed(self) -> bool:
        """Whether the strip is shown."""
        return self._shape.is_collapsed(self.step)

    def toggle_collapsed(self) -> None:
        """Fold the drawing to a strip, or unfold it; remembered for the group."""
        if self._shape.turn(self.step):
            self._turn()

    def show_step(self, step: Step) -> None:
        """Show the drawing that a step needs."""
        self.step = step
        self.evidence.show_step(step)
        self._turn()

    def _turn(self) -> None:
        opened: dict[str, QWidget] = {"Connect": self.wiring, "Measure": self.evidence}
        page = self.strip if self.is_collapsed else opened.get(self.step.group, self.section)
        if self._shows_night:
            page = self.night
        self.setCurrentWidget(page)
        self.refresh()
        self.shared.emit()

    @property
    def _shows_night(self) -> bool:
        """Whether the night that was played stands in place of the strip."""
        played = self._session.evidence.of(REHEARSAL) if self._session is not None else None
        return self.step is REHEARSAL_STEP and played is not None

    def wanted_height(self, window_px: int, text_scale: float) -> int:
        """Return the height that the band is to have, in px."""
        if self._shows_night:
            return min(self.night.sizeHint().height(), round(NIGHT_SHARE * window_px))
        is_empty = self._session is not None and not self._session.rig.train
        if self.step.group == "Measure":
            is_empty = self.evidence.is_empty
        programs = self._session is not None and bool(self._session.rig.programs)
        return self._shape.height(self.step, window_px, text_scale, is_empty=is_empty, has_programs=programs)

    def keep_height(self, height: int) -> None:
        """Remember the height that the user gave the band, for the group."""
        self._shape.keep_height(self.step, height)

    def show_pictures(self, step: Step, pictures: StepPictures) -> None:
        """Take a step's pictures, to be shown while it is."""
        self.evidence.add(step, pictures)
        self.evidence.show_step(self.step)
        self.shared.emit()

    def take_keyboard(self) -> None:
        """Put the keyboard onto what is shown: the section, the wiring, the strip, the night, or a step's pictures."""
        shown = self.currentWidget()
        if shown is self.evidence:
            self.evidence.take_keyboard()
        elif shown is not None:
            shown.setFocus()

    def show_next_picture(self, by: int = 1) -> None:
        """Show the picture of the step that lies some places after the one shown."""
        if self.currentWidget() is self.evidence:
            self.evidence.go(by)

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self._session = session
        session.night_changed.connect(self._show_night)
        for page in (self.section, self.wiring, self.strip, self.evidence):
            page.show_session(session)

    def refresh(self) -> None:
        """Draw what is shown anew."""
        session = self._session
        if session is None:
            return
        if self._shows_night != (self.currentWidget() is self.night):
            self._turn()
            return
        self.strip.show_step(self.step)
        for page in (self.section, self.wiring, self.strip, self.evidence):
            if page is self.currentWidget():
                page.refresh()
        self._show_night()
        if self._was_empty != (not session.rig.train):
            self._was_empty = not session.rig.train
            self.shared.emit()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette = palette
        for page in (self.section, self.wiring, self.strip, self.evidence):
            page.set_palette(palette)
        self._show_night()

    def _show_night(self) -> None:
        played = self._session.evidence.of(REHEARSAL) if self._session is not None else None
        if self._session is not None and self._palette is not None and self._shows_night and played is not None:
            own = played.setting
            lanes = len(self.night.lanes)
            self.night.show_night(self._session.night or played.good, own.sky, self._palette, own.every)
            if len(self.night.lanes) != lanes:
                self.shared.emit()
