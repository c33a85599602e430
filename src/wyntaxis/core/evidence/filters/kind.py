"""Flats as evidence: read, measured, and the wheel's error kept as a measured value."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.headers.names import FilterNames, own_filter_names
from wyntaxis.core.evidence.kinds import FILTER_WHEEL, EvidenceKind, Keeping
from wyntaxis.core.evidence.measured import Estimate, Origin
from wyntaxis.core.files.errors import InputError, Progress, in_one_line
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.result import FilterResult, FlatOptics

STOP_ERROR = "stop_error_um"
MAX_FLATS = 400
"""More flats at once would not fit into memory beside the rest."""


def read(
    paths: Sequence[Path],
    optics: FlatOptics,
    progress: Progress = lambda _done, _of: None,
    names: FilterNames | None = None,
    one_way: frozenset[str] = frozenset(),
) -> FilterResult:
    """Read flats and measure them.

    Parameters
    ----------
    paths
        Folders and FITS frames; what is no flat is left out.
    optics
        What the rig says.
    progress
        Told of frames read, then of sets measured; may cancel.
    names
        When two filters are one; None for the usual aliases with the imager's own.
    one_way
        Names of the folders taken with the wheel turning one way only.

    Returns
    -------
    FilterResult
        Levels, repeatability, dust, and whether old flats serve.

    Raises
    ------
    InputError
        In one line, for a path that is not there, a folder without a frame, or too many.
    """
    from wyntaxis.core.evidence.filters.flats import read_flats, sets_of
    from wyntaxis.core.evidence.filters.result import measured

    names = names or own_filter_names()
    flats, left = read_flats(paths, optics.bias_adu or 0.0, optics.bits, progress)
    if len(flats) > MAX_FLATS:
        raise InputError(f"holds {len(flats)} flats; name {MAX_FLATS} at most", paths[0] if len(paths) == 1 else None)
    if not flats and not left:
        raise InputError("holds no FITS frame", paths[0] if len(paths) == 1 else None)
    with in_one_line("these flats cannot be measured", paths[0] if len(paths) == 1 else None):
        return measured(sets_of(flats, names), optics, left, names=names, one_way=one_way, watch=progress)


def _values(_rig: Rig, result: FilterResult) -> dict[str, Estimate]:
    """Return the largest shift of the dust in µm on the sensor: by how much the wheel stops off."""
    entries = [repeat.shift_um(result.optics.pixel_um) for repeat in result.repeats]
    largest = max((shift for shift in entries if shift is not None), key=lambda shift: shift.value, default=None)
    return {} if largest is None else {STOP_ERROR: largest}


def _origin(result: FilterResult, _key: str) -> Origin:
    return Origin(f"flats through {', '.join(dict.fromkeys(repeat.filter for repeat in result.repeats))}")


FILTERS = EvidenceKind(
    "filters",
    read,
    _values,
    Keeping("Keep the wheel’s error", "flats", _origin, "no pair of flats shows how far off the wheel stops"),
    FILTER_WHEEL,
)
"""What flats tell of wheel, dust and light; the wheel's error is kept in the rig."""
