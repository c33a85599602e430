"""The pictures of a step: small tabs over the one that is shown; each is made and drawn when it is first looked at."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Generic, TypeVar

from PyQt6.QtCore import Qt, pyqtBoundSignal, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QTabBar, QVBoxLayout, QWidget

from wyntaxis.desk.plain_widgets import PlainLabel

P = TypeVar("P", bound=QWidget)


class PicturePanel(QWidget):
    """What can be shown as a picture: it says why it could not be saved, and takes the room that it is given."""

    refused = pyqtSignal(str)

    def fill_room(self) -> None:
        """Grow and shrink with the drawing area, in place of the height that it has within a sheet."""

    def fit(self) -> None:
        """Take the shape that what was drawn has."""


def side_by_side(*panels: PicturePanel) -> QWidget:
    """Return a widget with pictures beside each other; one that is hidden leaves its room to the others."""
    body = QWidget()
    row = QHBoxLayout(body)
    row.setContentsMargins(0, 0, 0, 0)
    for panel in panels:
        row.addWidget(panel, 1)
    return body


class StepPicture(QWidget, Generic[P]):
    """One picture of a step.

    Parameters
    ----------
    title
        What its tab says.
    make, draw
        Make the picture's widget, once, and draw what there is on it.
    above
        Its controls: they stand beside the tabs while it is shown.
    """

    asked = pyqtSignal(object)
    """It is to be shown."""

    def __init__(
        self,
        title: str,
        make: Callable[[], P],
        draw: Callable[[P], None],
        refused: pyqtBoundSignal,
        above: Sequence[QWidget] = (),
    ) -> None:
        super().__init__()
        self.title, self.above = title, tuple(above)
        self._make, self._draw, self._refused = make, draw, refused
        self._plot: P | None = None
        self._panels: list[PicturePanel] = []
        self._is_stale = True
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)

    @property
    def plot(self) -> P:
        """The picture's widget, made when it is first asked for."""
        if self._plot is None:
            made = self._make()
            below = made.findChildren(PicturePanel, options=Qt.FindChildOption.FindDirectChildrenOnly)
            self._panels = [made] if isinstance(made, PicturePanel) else below
            for panel in self._panels:
                panel.refused.connect(self._refused)
                panel.fill_room()
            layout = self.layout()
            assert layout is not None
            layout.addWidget(made)
            self._plot = made
            made.ensurePolished()
            for panel in self._panels:
                panel.ensurePolished()  # what is drawn takes its size from the font
        return self._plot

    def open(self) -> None:
        """Show it in place of the step's other pictures."""
        self.asked.emit(self)

    def refresh(self) -> None:
        """Redraw it; one that is out of sight waits until it is looked at."""
        self._is_stale = True
        if self.isVisible():
            self._bring()

    def _bring(self) -> None:
        self._is_stale = False
        self._draw(self.plot)
        for panel in self._panels:
            panel.fit()

    def showEvent(self, a0: QShowEvent | None) -> None:
        super().showEvent(a0)
        if self._is_stale:
            self._bring()


class StepPictures(QWidget):
    """The pictures of one step, or in one sentence what is to be read before there are any."""

    fold_asked = pyqtSignal()
    filled_changed = pyqtSignal()
    """There is a picture now, or none any more."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setAccessibleName(f"Pictures: {title}")
        self.all: list[StepPicture[QWidget]] = []
        self.tabs = QTabBar()
        self.tabs.setExpanding(False)
        self.tabs.setDrawBase(False)
        self.tabs.setElideMode(Qt.TextElideMode.ElideNone)
        self.tabs.setAccessibleName(f"Which picture: {title}")
        self.tabs.currentChanged.connect(self._turn)
        self._controls, self._stack = QStackedWidget(), QStackedWidget()
        self._controls.addWidget(QWidget())
        self.nothing = PlainLabel()
        self.nothing.setWordWrap(True)
        self.nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.nothing.setProperty("role", "answer")
        self._stack.addWidget(self.nothing)
        top = QHBoxLayout()
        top.addWidget(self.tabs)
        top.addWidget(self._controls, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 4, 12, 4)
        column.setSpacing(4)
        column.addLayout(top)
        column.addWidget(self._stack, 1)

    def add(self, picture: StepPicture[P]) -> StepPicture[P]:
        """Put a picture at the end of the tabs."""
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(8, 0, 0, 0)
        for widget in picture.above:
            row.addWidget(widget)
        row.addStretch(1)
        self.all.append(picture)  # type: ignore[arg-type]  # what it is drawn on matters to its owner alone
        self._controls.addWidget(holder)
        self._stack.addWidget(picture)
        self.tabs.addTab(picture.title)
        self.tabs.setTabToolTip(len(self.all) - 1, f"{picture.title} (F9 shows the next picture)")
        picture.asked.connect(self.show_picture)
        return picture

    def show_available(self, available: Iterable[StepPicture[QWidget]], nothing: str) -> None:
        """Offer these pictures alone; where there are none, say what is to be done instead."""
        shown, was_empty = set(map(id, available)), self.current is None
        self.nothing.setText(nothing)
        for place, picture in enumerate(self.all):
            self.tabs.setTabVisible(place, id(picture) in shown)
        self.tabs.setVisible(bool(shown))
        self.tabs.updateGeometry()  # tabs that come and go do not ask for their room by themselves
        if was_empty or not self.tabs.isTabVisible(self.tabs.currentIndex()):
            first = next((place for place, picture in enumerate(self.all) if id(picture) in shown), -1)
            if first >= 0:
                self.tabs.setCurrentIndex(first)
        self._turn()
        if was_empty != (self.current is None):
            self.filled_changed.emit()

    @property
    def current(self) -> StepPicture[QWidget] | None:
        """The picture that is shown; None where there is none yet."""
        place = self.tabs.currentIndex()
        return self.all[place] if place >= 0 and self.tabs.isTabVisible(place) else None

    def show_picture(self, picture: StepPicture[QWidget]) -> None:
        """Show one of them, where there is something to show."""
        place = next(place for place, own in enumerate(self.all) if own is picture)
        if self.tabs.isTabVisible(place):
            self.tabs.setCurrentIndex(place)

    def go(self, by: int) -> None:
        """Show the picture that lies some places after the one shown, around the ends."""
        offered = [place for place in range(len(self.all)) if self.tabs.isTabVisible(place)]
        if offered:
            at = offered.index(self.tabs.currentIndex()) if self.tabs.currentIndex() in offered else 0
            self.tabs.setCurrentIndex(offered[(at + by) % len(offered)])

    def refresh(self) -> None:
        """Redraw what is shown; the others wait until they are looked at."""
        for picture in self.all:
            picture.refresh()

    def _turn(self, _place: int = 0) -> None:
        current = self.current
        self._stack.setCurrentWidget(self.nothing if current is None else current)
        self._controls.setCurrentIndex(0 if current is None else 1 + self.tabs.currentIndex())

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.fold_asked.emit()
        else:
            super().keyPressEvent(a0)
