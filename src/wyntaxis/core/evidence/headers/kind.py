"""The headers of a folder's frames as evidence: only looked at, and read anew each time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import MAIN_CAMERA, EvidenceKind
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:
    from wyntaxis.core.evidence.headers.folder import FolderHeaders


def _values(_rig: Rig, headers: FolderHeaders) -> dict[str, Estimate]:
    """Return the sensor temperature in °C that is farthest from its own set temperature."""
    from wyntaxis.core.evidence.headers.headers import measured_temperatures

    entries = measured_temperatures(headers.frames)
    if not entries:
        return {}
    _, actual, _ = max(entries, key=lambda entry: abs(entry[1] - entry[0]))
    return {"reached_c": Estimate(actual)}


def read(folder: Path, progress: Progress = lambda _done, _of: None) -> FolderHeaders:
    """Read every header below a folder; see :func:`~wyntaxis.core.evidence.headers.folder.read_folder`."""
    from wyntaxis.core.evidence.headers.folder import read_folder

    return read_folder(folder, progress)


HEADERS = EvidenceKind("headers", read, _values, holder=MAIN_CAMERA)
