"""The bench's frames as a table whose cells can be corrected; the files stay as they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QTableWidgetItem

from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.sensor.sorting import corrected
from wyntaxis.core.rig.plan import FrameCorrection
from wyntaxis.core.wording import short
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.tables import TextTable

KINDS = ("light", "dark", "flat", "bias", "other")
_COLUMNS = (
    ("Kind", "kind", ""),
    ("Gain", "gain", ""),
    ("Offset", "offset", ""),
    ("Exposure\ns", "exposure_s", "s"),
    ("Temperature\n°C", "temperature_c", "°C"),
    ("Filter", "filter", ""),
)
FIRST = 1


class FramesTable(TextTable):
    """``entered`` carries a frame's path, a key and the value typed, None to take the correction out."""

    entered = pyqtSignal(str, str, object)
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        headings = ("Frame", *(title for title, _, _ in _COLUMNS), "Not used, because")
        super().__init__("Bench frames", headings, left=(0, 1, 6, 7), stretch=7, widest_em=18)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )
        self._paths: list[str] = []
        self.itemChanged.connect(self._changed)

    def show_frames(
        self,
        headers: FolderHeaders | None,
        corrections: Mapping[str, FrameCorrection],
        rejected: Mapping[str, UnusedFile],
        palette: Palette,
    ) -> None:
        """Fill the table; a corrected cell is bold, a frame that is not used tells why."""
        self.blockSignals(True)
        frames = list(headers.frames) if headers is not None else []
        self._paths = [frame.path for frame in frames]
        entries = [corrected(frame, corrections.get(frame.path)) for frame in frames]
        self.show_rows(
            [
                [frame.path, *(_text(frame, key) for _, key, _ in _COLUMNS), rejected[frame.path].why]
                if frame.path in rejected
                else [frame.path, *(_text(frame, key) for _, key, _ in _COLUMNS), ""]
                for frame in entries
            ],
            palette=palette,
        )
        for row, frame in enumerate(frames):
            correction = corrections.get(frame.path)
            for column in range(self.columnCount()):
                item = self.item(row, column)
                if item is None:
                    continue
                if not FIRST <= column < FIRST + len(_COLUMNS):
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    continue
                own = correction is not None and getattr(correction, _COLUMNS[column - FIRST][1]) is not None
                font = item.font()
                font.setBold(own)
                item.setFont(font)
        self.blockSignals(False)

    def path_at(self, row: int) -> str | None:
        """Return the path of the frame in a row."""
        return self._paths[row] if 0 <= row < len(self._paths) else None

    def _changed(self, item: QTableWidgetItem) -> None:
        path = self.path_at(item.row())
        if path is None or not FIRST <= item.column() < FIRST + len(_COLUMNS):
            return
        _, key, unit = _COLUMNS[item.column() - FIRST]
        try:
            value = _value(key, unit, item.text())
        except ValueError as error:
            self.forget_shown()
            self.refused.emit(f"{path}: {error}")
            return
        self.forget_shown()
        self.entered.emit(path, key, value)


def _text(frame: FrameHeader, key: str) -> str:
    value = getattr(frame, key) if key != "temperature_c" else frame.temperature_c
    if value is None:
        return "–"
    return short(value, 3) if isinstance(value, float) else str(value)


def _value(key: str, unit: str, text: str) -> Any:
    plain = text.strip()
    if not plain or plain == "–":
        return None
    if key == "kind":
        if plain.lower() not in KINDS:
            raise ValueError(f"“{plain[:40]}” is none of {', '.join(KINDS)}")
        return plain.lower()
    return plain if key == "filter" else parse_number(plain, unit)
