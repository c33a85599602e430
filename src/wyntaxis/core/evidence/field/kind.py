"""Field as evidence: sweeps read from frames, measured by zones, and kept as measured values of the rig."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.headers.names import FilterNames, own_filter_names
from wyntaxis.core.evidence.kinds import EvidenceKind, Keeping
from wyntaxis.core.evidence.measured import Estimate, Origin
from wyntaxis.core.files.errors import InputError, Progress, in_one_line
from wyntaxis.core.files.opening import is_folder
from wyntaxis.core.quantity_kinds import BACK_FOCUS_REQUIRED, FIELD_CURVATURE, FIELD_TILT
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import counted

if TYPE_CHECKING:
    from wyntaxis.core.evidence.field.result import FieldOptics, FieldResult
    from wyntaxis.core.evidence.field.sweep import FieldSweep
    from wyntaxis.core.evidence.headers.headers import UnusedFile
    from wyntaxis.core.evidence.stars.frame_stars import FrameStars


def read(
    paths: Sequence[Path],
    optics: FieldOptics,
    progress: Progress = lambda _done, _of: None,
    before: FieldResult | None = None,
    names: FilterNames | None = None,
    spacings: Mapping[Path, float] | None = None,
) -> FieldResult:
    """Read sweeps from frames, put them with those that are there, and measure them.

    Parameters
    ----------
    paths
        Folders and FITS frames, whose headers tell the counter's position; each folder's frames are sweeps.
    optics
        What the rig says.
    progress
        Told of frames read and to read; may cancel.
    before
        Sweeps that stay, but for those that hold a frame that is read anew.
    names
        When two filters are one; None for the usual aliases with the imager's own.
    spacings
        The distance behind the corrector in mm at which a path's frames were taken; else the folder's name may tell.

    Returns
    -------
    FieldResult
        Sweeps with their surfaces, single frames with their stars' shape.

    Raises
    ------
    InputError
        In one line, for a path that is not there, or a folder without a frame.
    """
    from wyntaxis.core.evidence.field.result import measured

    names = names or own_filter_names()
    entries = {path.resolve(): value for path, value in (spacings or {}).items()}
    sweeps: list[FieldSweep] = []
    singles: list[FrameStars] = []
    not_used: list[UnusedFile] = []
    folders = [path for path in paths if is_folder(path)]
    files = [path for path in paths if path not in folders]
    groups = [*([path] for path in folders), *([files] if files else [])]
    for group in groups:
        found, alone, left = _read_group(group, progress, names, entries, several=len(groups) > 1)
        sweeps += found
        singles += alone
        not_used += left
    if not sweeps and not singles and not not_used:
        raise InputError("holds no FITS frame", paths[0] if len(paths) == 1 else None)
    with in_one_line("these sweeps cannot be measured", paths[0] if len(paths) == 1 else None):
        new = measured(_named_apart(sweeps, before), singles, optics, not_used, lambda: progress(0, 0))
    if before is None:
        return new
    fresh = {frame.path for entry in new.sweeps for frame in entry.sweep.frames}
    kept = [e for e in before.sweeps if not fresh & {frame.path for frame in e.sweep.frames}]
    together = sorted([*kept, *new.sweeps], key=lambda e: (e.sweep.time is None, str(e.sweep.time)))
    return replace(new, sweeps=tuple(together), relation=before.relation)


def _read_group(
    group: Sequence[Path], progress: Progress, names: FilterNames, spacings: Mapping[Path, float], *, several: bool
) -> tuple[list[FieldSweep], list[FrameStars], list[UnusedFile]]:
    """Return the sweeps of a folder, or of files that were named, folder by folder."""
    from wyntaxis.core.evidence.field.sweep import SWEEP_STARS, spacing_in_name, sweeps_of
    from wyntaxis.core.evidence.stars.frame_stars import measure_frames

    base = group[0]
    frames, not_used = measure_frames(group, None, progress, most=SWEEP_STARS)
    prefix = f"{base.name}/" if several and is_folder(base) else ""
    by_folder: dict[str, list[FrameStars]] = {}
    for frame in frames:
        named = replace(frame, file=prefix + frame.file, refused=())
        by_folder.setdefault(named.file.rpartition("/")[0], []).append(named)
    sweeps: list[FieldSweep] = []
    singles: list[FrameStars] = []
    left = [replace(entry, path=prefix + entry.path) for entry in not_used]
    for folder, own in by_folder.items():
        name = folder.rpartition("/")[2] or (base.name if is_folder(base) else "")
        found, alone, apart = sweeps_of(own, name, names)
        place = own[0].path.parent.resolve() if own[0].path is not None else None
        spacing = _spacing_of(place, spacings)
        sweeps += [replace(entry, spacing_mm=spacing_in_name(name) if spacing is None else spacing) for entry in found]
        singles += alone
        left += apart
    return sweeps, singles, left


def _spacing_of(place: Path | None, spacings: Mapping[Path, float]) -> float | None:
    """Return the spacing told of a folder, or of one above it."""
    if place is None:
        return None
    return next((spacings[folder] for folder in (place, *place.parents) if folder in spacings), None)


def _named_apart(sweeps: Sequence[FieldSweep], before: FieldResult | None) -> list[FieldSweep]:
    """Return the sweeps in the order in which they were taken, each with a name of its own."""
    timed = all(sweep.time is not None for sweep in sweeps)
    ordered = sorted(sweeps, key=lambda sweep: sweep.time) if timed else list(sweeps)  # type: ignore[arg-type, return-value]
    fresh = {frame.path for sweep in sweeps for frame in sweep.frames}
    taken = {
        entry.sweep.name
        for entry in (before.sweeps if before else ())
        if not fresh & {frame.path for frame in entry.sweep.frames}
    }
    named = []
    for sweep in ordered:
        stem, count = sweep.name or "sweep", 2
        name = stem
        while name in taken:
            name, count = f"{stem} ({count})", count + 1
        taken.add(name)
        named.append(replace(sweep, name=name))
    return named


def _numbers(rig: Rig, result: FieldResult) -> dict[str, Estimate]:
    """Return what sweeps measure of the rig, by quantity id.

    Parameters
    ----------
    rig
        The rig.
    result
        Sweeps, measured.

    Returns
    -------
    dict[str, Estimate]
        Tilt and curvature in µm at the corner; the spacing that makes the field flat in mm, for a rig with a corrector.
    """
    found: dict[str, Estimate] = {}
    last = result.last
    if last is not None:
        entries = {FIELD_TILT: last.tilt_um, FIELD_CURVATURE: last.curvature_um}
        found |= {kind.id: value for kind, value in entries.items() if value is not None}
    flat = result.flat.flat_at_mm
    if flat is not None and flat.value > 0 and any(part.required_back_focus_mm for part in rig.train):
        found[BACK_FOCUS_REQUIRED.id] = flat
    return found


def _origin(result: FieldResult, key: str) -> Origin:
    names = ", ".join(entry.sweep.name for entry in result.sweeps)
    last = result.last
    source = f"curvature of {names}" if key == BACK_FOCUS_REQUIRED.id or last is None else f"field by {last.sweep.name}"
    return Origin(source, note=counted(len(result.sweeps), "sweep"))


FIELD = EvidenceKind(
    "field", read, _numbers, Keeping("Keep the field", "field_sweep", _origin, "the sweeps give no number to keep")
)
"""What sweeps found of tilt, curvature and spacing, kept in the rig as measured values."""
