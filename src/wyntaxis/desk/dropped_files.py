"""Files dropped anywhere on the window: a rig opens, all else goes to the step that reads it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QDropEvent

if TYPE_CHECKING:
    from wyntaxis.desk.workplace import Workplace

RIG_ENDINGS = (".rig.json", ".zip")


class DroppedFiles:
    """Takes what is dropped on a window where no widget below takes it itself."""

    def __init__(self, window: Workplace, open_rig: Callable[[Path], object]) -> None:
        self._window, self._open_rig = window, open_rig

    def take(self, paths: Sequence[Path]) -> None:
        """Open a rig, or let the step that is shown read files; where it reads none, ask which step is to."""
        window = self._window
        rigs = [path for path in paths if path.name.lower().endswith(RIG_ENDINGS)]
        if len(rigs) > 1:
            window.refuse(f"{len(rigs)} rigs were dropped; drop one at a time")
            return
        if rigs:
            self._open_rig(rigs[0])
            return
        if window.session is None:
            window.refuse("No rig is open: drop a rig file first, or File → New.")
            return
        if self._read_at(window.step.key, paths):
            return
        asked = [(title, self._reading(key, paths)) for key, title in _reading_steps(paths)]
        what = paths[0].name if len(paths) == 1 else f"{len(paths)} files"
        window.notice.ask(f"Which step is to read {what}?", [*asked, ("None", lambda: None)])

    def _reading(self, key: str, paths: Sequence[Path]) -> Callable[[], None]:
        def read() -> None:
            self._window.show_step(key)
            self._read_at(key, paths)

        return read

    def _read_at(self, key: str, paths: Sequence[Path]) -> bool:
        """Let a step's sheet read files; return whether it reads any."""
        from wyntaxis.desk.sheets.reading_sheet import ReadingSheet

        sheet = self._window.sheets[key]
        if not isinstance(sheet, ReadingSheet) or self._window.stack.shows_start:
            return False
        sheet.read(list(paths))
        return True


def _reading_steps(paths: Sequence[Path]) -> list[tuple[str, str]]:
    """Return key and title of the steps that may read files, by what they are called: frames, or tables and logs."""
    from wyntaxis.core.evidence.headers.folder import frame_endings
    from wyntaxis.core.files.opening import is_folder
    from wyntaxis.core.steps import COOLING, FIELD, FILTERS, GUIDE_LOG, SENSOR, STARS, TRAVEL

    frames = any(is_folder(path) or path.name.lower().endswith(frame_endings()) for path in paths)
    chosen = (SENSOR, FILTERS, STARS, TRAVEL, FIELD) if frames else (COOLING, TRAVEL, GUIDE_LOG)
    return [(step.key, step.title) for step in chosen]


def paths_of(event: QDropEvent) -> list[Path]:
    """Return the files that a drag carries; none for what comes from the window itself."""
    data = event.mimeData()
    if data is None or not data.hasUrls():
        return []
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
