"""The headers of a folder's frames as evidence: only looked at, and read anew each time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate, camera_index
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:
    from wyntaxis.core.evidence.headers.headers import FolderHeaders


def measures(rig: Rig, headers: FolderHeaders) -> dict[str, Estimate]:
    """Return the sensor temperature in °C that is farthest from its own set temperature, by ``device.reached_c``.

    Parameters
    ----------
    rig
        The rig.
    headers
        The headers of a folder's frames.

    Returns
    -------
    dict[str, Estimate]
        Estimates by id, each in its own unit.
    """
    from wyntaxis.core.evidence.headers.headers import measured_temperatures

    entries, index = measured_temperatures(headers.frames), camera_index(rig)
    if not entries or index is None:
        return {}
    _, actual, _ = max(entries, key=lambda entry: abs(entry[1] - entry[0]))
    return {f"{rig.devices[index].id}.reached_c": Estimate(actual)}


def read(folder: Path, progress: Progress = lambda _done, _of: None) -> FolderHeaders:
    """Read every header below a folder; see :func:`~wyntaxis.core.evidence.headers.headers.read_folder`."""
    from wyntaxis.core.evidence.headers.headers import read_folder

    return read_folder(folder, progress)


HEADERS = EvidenceKind("headers", read, measures)
