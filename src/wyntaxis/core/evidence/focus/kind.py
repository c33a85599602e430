"""Focus runs as evidence: read from frames or tables, measured, and kept as measured values of focuser and wheel."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.headers.names import own_filter_names
from wyntaxis.core.evidence.kinds import FOCUSER, EvidenceKind, Keeping, Value
from wyntaxis.core.evidence.measured import Estimate, Origin, device_index, measured_value
from wyntaxis.core.files.errors import InputError, Progress, in_one_line
from wyntaxis.core.files.opening import is_folder
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import counted

if TYPE_CHECKING:
    from wyntaxis.core.evidence.focus.points import FocusPoint, FocusRun
    from wyntaxis.core.evidence.focus.result import FocusOptics, FocusResult
    from wyntaxis.core.evidence.foreign.keymap import KeyRule
    from wyntaxis.core.evidence.headers.headers import UnusedFile
    from wyntaxis.core.evidence.headers.names import FilterNames
    from wyntaxis.core.evidence.stars.frame_stars import FrameStars

TABLES = (".csv", ".tsv", ".txt")


def read(
    paths: Sequence[Path],
    optics: FocusOptics,
    progress: Progress = lambda _done, _of: None,
    rules: Callable[[Path], Sequence[KeyRule]] = lambda _path: (),
    before: FocusResult | None = None,
    names: FilterNames | None = None,
) -> FocusResult:
    """Read focus runs from frames and tables, put them with those that are there, and measure them.

    Parameters
    ----------
    paths
        Folders and FITS frames, whose headers tell position, temperature, filter and time; tables as text.
    optics
        What the rig says of telescope, camera and filters.
    progress
        Told of frames read and to read; may cancel.
    rules
        Which columns a table's values stand in, where its headings do not tell.
    before
        Runs that stay, but for those that hold a frame that is read anew.
    names
        When two filters are one; None for the usual aliases with the imager's own.

    Returns
    -------
    FocusResult
        Runs, curves, and what they tell together.

    Raises
    ------
    InputError
        In one line, for a path that is not there, a table that cannot be read, or a folder without a frame.
    """
    from wyntaxis.core.evidence.focus.result import measured
    from wyntaxis.core.evidence.focus.table import read_focus_table

    names = names or own_filter_names()
    runs: list[FocusRun] = []
    not_used: list[UnusedFile] = []
    tables = [path for path in paths if not is_folder(path) and path.name.lower().endswith(TABLES)]
    for path in tables:
        found, left = read_focus_table(path, rules(path), names)
        runs += found
        not_used += left
    groups = _frame_groups([path for path in paths if path not in tables])
    for group in groups:
        found, left = runs_of_frames(group, progress, names, several=len(groups) > 1)
        runs += found
        not_used += left
    if not runs and not not_used:
        raise InputError("holds no FITS frame", paths[0] if len(paths) == 1 else None)
    files = {point.file for run in runs for point in run.points}
    kept = [run for run in before.runs if not files & {point.file for point in run.points}] if before else []
    left_out, restored = (before.left_out, before.restored) if before else (frozenset[str](), frozenset[str]())
    with in_one_line("these runs cannot be measured", paths[0] if len(paths) == 1 else None):
        return measured(
            _named_apart(_in_time([*kept, *runs])),
            optics,
            not_used,
            names=names,
            left_out=left_out,
            restored=restored,
            watch=lambda: progress(0, 0),
        )


def _in_time(runs: Sequence[FocusRun]) -> list[FocusRun]:
    """Return the runs as they were taken, where all tell it."""
    times = [run.time for run in runs]
    return sorted(runs, key=lambda run: run.time) if None not in times else list(runs)  # type: ignore[arg-type, return-value]


def _named_apart(runs: Sequence[FocusRun]) -> list[FocusRun]:
    """Return the runs, each with a name of its own."""
    from wyntaxis.core.evidence.focus.points import FocusRun

    named: dict[str, FocusRun] = {}
    for run in runs:
        name, count = run.name, 2
        while name in named:
            name, count = f"{run.name} ({count})", count + 1
        named[name] = FocusRun(name, run.points, run.direction)
    return list(named.values())


def _frame_groups(paths: Sequence[Path]) -> list[list[Path]]:
    """Return each folder by itself, and the frames that were named one by one with those of the same folder."""
    groups: dict[Path, list[Path]] = {}
    for path in paths:
        groups.setdefault(path if is_folder(path) else path.parent / "*", []).append(path)
    return list(groups.values())


def runs_of_frames(
    paths: Sequence[Path], progress: Progress, names: FilterNames, *, several: bool
) -> tuple[list[FocusRun], list[UnusedFile]]:
    """Return the focus runs of a folder's frames, folder by folder, or of some frames; and what was not used.

    Parameters
    ----------
    paths
        A folder, or FITS files of one folder.
    progress
        Told of each frame.
    names
        When two filters are one.
    several
        Whether there are other folders: then the frames are named with theirs.

    Returns
    -------
    tuple
        Runs, and frames left out with the reason.
    """
    from wyntaxis.core.evidence.focus.runs import runs_to_and_fro
    from wyntaxis.core.evidence.headers.headers import UnusedFile
    from wyntaxis.core.evidence.stars.frame_stars import measure_frames

    folder = paths[0] if is_folder(paths[0]) else paths[0].parent
    frames, not_used = measure_frames(paths, None, progress)
    sharpest = sharpest_frames(frames)
    prefix = f"{folder.name}/" if several else ""
    by_folder: dict[str, list[FocusPoint]] = {}
    left = list(not_used)
    for frame in frames:
        point, why = _point(frame, prefix, sharpest.get(_alike(frame)))
        if point is None:
            left.append(UnusedFile(prefix + frame.file, why))
        else:
            place = f"{prefix}{frame.file}".rpartition("/")[0]
            by_folder.setdefault(place, []).append(point)
    runs: list[FocusRun] = []
    for place, points in by_folder.items():
        found, apart = runs_to_and_fro(points, place.rpartition("/")[2], names)
        runs += found
        left += apart
    return runs, left


def _alike(frame: FrameStars) -> tuple[str, str | None, int | None]:
    """Return what frames of one field have in common: folder, filter and binning."""
    header = frame.header
    folder = frame.file.rpartition("/")[0]
    return folder, header.filter if header else None, header.binning if header else None


def sharpest_frames(frames: Sequence[FrameStars]) -> dict[tuple[str, str | None, int | None], FrameStars]:
    """Return of frames that are alike (folder, filter, binning) the one of the smallest stars."""
    found: dict[tuple[str, str | None, int | None], FrameStars] = {}
    for frame in frames:
        size, best = frame.hfd_px, found.get(_alike(frame))
        if size is not None and (best is None or best.hfd_px is None or size.value < best.hfd_px.value):
            found[_alike(frame)] = frame
    return found


def _point(frame: FrameStars, prefix: str, sharp: FrameStars | None) -> tuple[FocusPoint | None, str]:
    """Return a frame as a point of a run, or why it is none."""
    from wyntaxis.core.evidence.focus.points import FocusPoint
    from wyntaxis.core.evidence.focus.table import left_out_if_saturated

    header = frame.header
    if header is None or header.focus_position is None:
        return None, "its header has no focus position as a number (FOCUSPOS)"
    hfd = frame.median(frame.shapes.hfd, among=frame.isolated if sharp is None else frame.apart_in(sharp))
    saturated = int(frame.shapes.saturated.sum())
    point = FocusPoint(
        file=prefix + frame.file,
        position=header.focus_position,
        hfd_px=hfd.value if hfd is not None else None,
        standard_px=hfd.standard if hfd is not None else 0.0,
        why="" if hfd is not None else frame.why_none,
        filter=header.filter,
        temperature_c=header.focus_temperature_c,
        time=_moment(header.date),
        took_s=header.exposure_s,
        binning=header.binning or 1,
        stars=frame.count,
        saturated=saturated,
        path=frame.path,
    )
    return left_out_if_saturated(point), ""


def _moment(text: str | None) -> datetime.datetime | None:
    try:
        moment = datetime.datetime.fromisoformat(text or "")
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)


def _values(_rig: Rig, result: FocusResult) -> dict[str, Estimate]:
    """Return what runs measure of the focuser, by setting key, each in the setting's own unit."""
    model = result.model
    found = {
        "step_um": result.step_um,
        "position": model.best_now,
        "backlash_steps": None
        if model.backlash is None
        else Estimate(abs(model.backlash.value), model.backlash.standard),
        "temperature_slope_steps_c": model.slope,
        "run_scatter_steps": None if model.scatter_steps is None else Estimate(model.scatter_steps),
    }
    return {key: estimate for key, estimate in found.items() if estimate is not None}


def _origin(result: FocusResult, _key: str) -> Origin:
    points = sum(len(run.points) for run in result.runs)
    names = ", ".join(run.name for run in result.runs)
    return Origin(f"focus runs {names}", note=f"{counted(len(result.runs), 'run')}, {counted(points, 'point')}")


def _slot_values(rig: Rig, result: FocusResult) -> list[Value]:
    wheel = device_index(rig, "filter_wheel")
    if wheel is None:
        return []
    names, found = result.names, list[Value]()
    entries = {names.key(entry.name): entry.offset for entry in result.offsets if entry.offset is not None}
    if result.model.reference is not None and entries:
        entries[names.key(result.model.reference)] = Estimate(0.0)
    for place, slot in enumerate(rig.devices[wheel].slots):
        offset = entries.get(names.key(slot.name)) if slot.name.strip() else None
        if offset is not None:
            kept = measured_value(offset, "focus_run", Origin(f"focus runs against {result.model.reference}"))
            found.append((("devices", wheel, "slots", place, "focus_offset_measured"), kept))
    return found


FOCUS = EvidenceKind(
    "focus",
    read,
    _values,
    Keeping("Keep the focus runs", "focus_run", _origin, "the runs give no number to keep", _slot_values),
    FOCUSER,
)
"""What focus runs found, kept in the rig as measured values of the focuser and the filters."""
