"""The pieces of a frame's corners, edges and middle: cut out in the background, kept until another frame is shown."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from wyntaxis.core.arrays import Numbers
from wyntaxis.core.files.errors import Progress
from wyntaxis.desk.background import Job

Spots = Sequence[tuple[float, float] | None]
Pieces = tuple[Numbers, int]
"""The pieces as one picture, and a piece's side in px."""


class CornerPieces(QObject):
    """Fetches pieces of frames; ``came`` tells that those which were asked for last are there."""

    came = pyqtSignal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.job = Job(self)
        self.job.done.connect(self._keep)
        self._held: tuple[str, Pieces] | None = None

    def of(self, path: Path | None, spots: Spots) -> Pieces | None:
        """Return the pieces of a frame; None while they are being fetched, and for no frame."""
        if path is None:
            return None
        if self._held is not None and self._held[0] == str(path):
            return self._held[1]

        def work(_progress: Progress) -> tuple[str, Pieces]:
            from wyntaxis.desk.plots_field import pieces_of

            return str(path), pieces_of(path, spots)

        self.job.start(work)
        return None

    def forget(self) -> None:
        """Let the pieces go: other frames have come."""
        self._held = None

    def _keep(self, found: tuple[str, Pieces]) -> None:
        self._held = found
        self.came.emit()
