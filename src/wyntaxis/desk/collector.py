"""When Python looks for garbage: in the interface thread only, and all of it only while nobody works.

Python collects wherever the next object is made. In a job's thread, that would destroy widgets beside the thread that
draws them; within a drawing it would destroy them beneath the painter; and a look through all that lives takes longer
than an edit may. So its own collections are off, and this makes them between events.
"""

from __future__ import annotations

import gc
import time

from PyQt6.QtCore import QEvent, QObject, QTimer
from PyQt6.QtGui import QWindow

TURN_MS = 200
YOUNG_OBJECTS, YOUNG_PER_MIDDLE = 700, 10
"""From how many new objects on the youngest are looked through, and how often before those that have lived on are."""
IDLE_S, LONG_IDLE_S = 3.0, 60.0
"""How long nobody has worked before all that came since the last such look is looked through, and all there is."""
INPUT = frozenset(
    {
        QEvent.Type.KeyPress,
        QEvent.Type.MouseButtonPress,
        QEvent.Type.MouseButtonRelease,
        QEvent.Type.MouseMove,
        QEvent.Type.Wheel,
        QEvent.Type.TouchUpdate,
    }
)


class Collector(QObject):
    """Collects between events, from :meth:`start` to :meth:`stop`."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.looks = [0, 0, 0, 0]
        """How often it looked through the youngest, those that lived on, all since the last such look, and all."""
        self.last_input = time.monotonic()
        self._middle_since_whole = 0
        self._whole_since_all = 0
        self.timer = QTimer(self)
        self.timer.setInterval(TURN_MS)
        self.timer.timeout.connect(self.turn)

    def start(self, window: QWindow | None = None) -> None:
        """Take over from Python; what lives now is taken to live on. Work on the window puts long looks off."""
        gc.disable()
        gc.freeze()
        if window is not None:
            window.installEventFilter(self)
        self.timer.start()

    def stop(self) -> None:
        """Hand back to Python."""
        self.timer.stop()
        gc.unfreeze()
        gc.enable()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() in INPUT:
            self.last_input = time.monotonic()
        return False

    def turn(self) -> None:
        """Make the collection that is due, if any."""
        idle_s = time.monotonic() - self.last_input
        young, middle, _old = gc.get_count()
        if idle_s > LONG_IDLE_S and self._whole_since_all:
            gc.unfreeze()
            self._collect(2, counted_as=3)
            gc.freeze()
            self._whole_since_all = self._middle_since_whole = 0
        elif idle_s > IDLE_S and self._middle_since_whole:
            self._collect(2)
            gc.freeze()  # what lived on is not looked through again until nobody works for long
            self._middle_since_whole = 0
            self._whole_since_all += 1
        elif middle >= YOUNG_PER_MIDDLE:
            self._collect(1)
            self._middle_since_whole += 1
        elif young >= YOUNG_OBJECTS:
            self._collect(0)

    def _collect(self, generation: int, counted_as: int | None = None) -> None:
        gc.collect(generation)
        self.looks[generation if counted_as is None else counted_as] += 1
