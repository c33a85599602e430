"""The drawing area of the steps that measure: the train as a strip, over the pictures of the step."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from wyntaxis.desk.drawing_shape import STRIP_PX
from wyntaxis.desk.palette import BASE_TEXT_PX
from wyntaxis.desk.section.strip import StripPicture

if TYPE_CHECKING:
    from wyntaxis.core.steps import Step
    from wyntaxis.desk.palette import Palette
    from wyntaxis.desk.session import Session
    from wyntaxis.desk.step_pictures import StepPictures

LARGE_TEXT = 1.4
"""From this scale of the text on, the strip gives way to the picture."""


class EvidenceView(QWidget):
    """Shows the pictures of one step at a time; Esc asks that they are folded."""

    fold_asked = pyqtSignal()
    filled_changed = pyqtSignal()
    """The step that is shown has a picture now, or none any more."""

    def __init__(self) -> None:
        super().__init__()
        self.strip = StripPicture()
        self._pictures: dict[str, StepPictures] = {}
        self._stack = QStackedWidget()
        self._stack.addWidget(QWidget())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.strip)
        column.addWidget(self._stack, 1)

    def add(self, step: Step, pictures: StepPictures) -> None:
        """Take a step's pictures."""
        self._pictures[step.key] = pictures
        self._stack.addWidget(pictures)
        pictures.fold_asked.connect(self.fold_asked)
        pictures.filled_changed.connect(self.filled_changed)

    def forget(self) -> None:
        """Let all pictures go: another rig is shown."""
        for pictures in self._pictures.values():
            self._stack.removeWidget(pictures)
            pictures.deleteLater()
        self._pictures = {}

    def show_step(self, step: Step) -> None:
        """Show a step's pictures, where its sheet has been made, and mark what it measures."""
        self.strip.show_step(step)
        shown = self._pictures.get(step.key)
        if shown is None:
            self._stack.setCurrentIndex(0)
        else:
            self._stack.setCurrentWidget(shown)

    @property
    def _shown(self) -> StepPictures | None:
        return next((own for own in self._pictures.values() if own is self._stack.currentWidget()), None)

    @property
    def is_empty(self) -> bool:
        """Whether there is no picture of the step yet."""
        return self._shown is None or self._shown.current is None

    def take_keyboard(self) -> None:
        """Put the keyboard onto the tabs, or onto the strip where there is no picture yet."""
        if self._shown is not None and self._shown.current is not None:
            self._shown.tabs.setFocus()
        else:
            self.strip.setFocus()

    def go(self, by: int) -> None:
        """Show the picture that lies some places after the one shown."""
        if self._shown is not None:
            self._shown.go(by)

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self.strip.show_session(session)

    def refresh(self) -> None:
        """Redraw the strip; the pictures are drawn with their sheet."""
        self.strip.refresh()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.strip.set_palette(palette)
        scale = max(self.fontInfo().pixelSize() / BASE_TEXT_PX, 1.0)
        self.strip.setFixedHeight(round(STRIP_PX * scale))
        self.strip.setVisible(scale < LARGE_TEXT)  # the picture needs the room more
