"""Guide logs as evidence: read from text tables, measured, and kept as measured values of the guiding."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import EvidenceKind, Keeping, Value
from wyntaxis.core.evidence.measured import Estimate, Origin
from wyntaxis.core.files.errors import InputError, Progress, in_one_line
from wyntaxis.core.files.opening import is_folder
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantity_kinds import (
    GUIDE_AUTOCORRELATION,
    GUIDE_AUTOCORRELATION_DEC,
    GUIDE_DRIFT_DEC,
    GUIDE_DRIFT_RA,
    GUIDE_LOST,
    GUIDE_OVER_LIMIT,
    GUIDE_PERIOD,
    GUIDE_RMS,
    GUIDE_RMS_DEC,
    GUIDE_RMS_RA,
    GUIDE_SCALE,
    GUIDE_SETTLE,
    POLAR_DRIFT,
    POLAR_ERROR,
    QuantityKind,
)
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import utc_stamp

if TYPE_CHECKING:
    from wyntaxis.core.evidence.foreign.keymap import KeyRule
    from wyntaxis.core.evidence.guide_log.calibration import Calibration
    from wyntaxis.core.evidence.guide_log.result import GuideResult
    from wyntaxis.core.evidence.guide_log.run import GuideOptics, GuideRun
    from wyntaxis.core.evidence.headers.headers import UnusedFile

LOGS = (".csv", ".tsv", ".txt", ".log", ".dat")
MAX_LOGS = 200


def read(
    paths: Sequence[Path],
    optics: GuideOptics,
    progress: Progress = lambda _done, _of: None,
    rules: Callable[[Path], Sequence[KeyRule]] = lambda _path: (),
    before: GuideResult | None = None,
    *,
    without_gusts: bool = False,
) -> GuideResult:
    """Read guide logs, put their runs with those that are there, and measure them.

    Parameters
    ----------
    paths
        Text files, or folders of some.
    optics
        What the rig says.
    progress
        Told of bytes read; may cancel.
    rules
        Which columns a table's values stand in, where its headings do not tell.
    before
        Runs that stay, but for those of files that are read anew.
    without_gusts
        Whether gusts are left out of all numbers.

    Returns
    -------
    GuideResult
        Runs, and the newest calibration.

    Raises
    ------
    InputError
        In one line, for a path that is not there, a log that cannot be read, or none at all.
    """
    from wyntaxis.core.evidence.guide_log.result import GuideResult, measured
    from wyntaxis.core.evidence.headers.headers import UnusedFile

    files = _files(paths)
    runs: list[GuideRun] = []
    calibrations: list[Calibration] = []
    not_used: list[UnusedFile] = []
    alone = len(files) == 1
    for path in files:
        try:
            found, scales, left = read_log(path, optics, rules(path), progress)
        except InputError as error:
            if alone:
                raise
            not_used.append(UnusedFile(path.name, error.reason))
            continue
        runs += found
        calibrations += scales
        not_used += left
    if not runs and not calibrations and not_used:
        raise InputError(not_used[0].why, files[0] if alone else None)
    with in_one_line("these logs cannot be measured", files[0] if alone else None):
        new = measured(
            _named_apart(runs, before, files),
            calibrations,
            optics,
            not_used,
            lambda: progress(0, 0),
            without_gusts=without_gusts,
        )
    if before is None:
        return new
    names = {path.name for path in files}
    kept = tuple(own for own in before.runs if own.run.file not in names)
    return GuideResult((*kept, *new.runs), new.calibration or before.calibration, optics, new.not_used, without_gusts)


def _files(paths: Sequence[Path]) -> list[Path]:
    files: list[Path] = []
    for path in paths:
        if is_folder(path):
            found = sorted(own for own in path.rglob("*") if own.is_file() and own.suffix.lower() in LOGS)
            if not found:
                raise InputError(f"holds no guide log ({', '.join(LOGS)})", path)
            files += found
        else:
            files.append(path)
    if not files:
        raise InputError("name a guide log")
    if len(files) > MAX_LOGS:
        raise InputError(f"these are {len(files)} logs; give {MAX_LOGS} at most", paths[0])
    return files


def read_log(
    path: Path, optics: GuideOptics, rules: Sequence[KeyRule] = (), progress: Progress = lambda _a, _b: None
) -> tuple[list[GuideRun], list[Calibration], list[UnusedFile]]:
    """Return the runs and calibrations of one log, and its sections that were not used.

    Raises
    ------
    InputError
        In one line, for what is no guide log.
    """
    from wyntaxis.core.evidence.guide_log.calibration import calibration_of
    from wyntaxis.core.evidence.guide_log.run import runs_of_section
    from wyntaxis.core.evidence.guide_log.table import read_sections
    from wyntaxis.core.evidence.headers.headers import UnusedFile

    sections = read_sections(path, rules, progress)
    guided = [own for own in sections if not own.is_calibration]
    runs: list[GuideRun] = []
    calibrations: list[Calibration] = []
    not_used: list[UnusedFile] = []
    number = 0
    for section in sections:
        if section.is_calibration:
            calibrations.append(calibration_of(section, path.name, optics))
            continue
        number += 1
        name = path.stem if len(guided) == 1 else f"{path.stem}, run {number}"
        try:
            runs += runs_of_section(section, path.name, name, optics)
        except InputError as error:
            not_used.append(UnusedFile(f"{path.name} line {section.line}", error.reason))
    return runs, calibrations, not_used


def _named_apart(runs: Sequence[GuideRun], before: GuideResult | None, files: Sequence[Path]) -> list[GuideRun]:
    fresh = {path.name for path in files}
    taken = {own.name for own in (before.runs if before else ()) if own.run.file not in fresh}
    named = []
    for run in runs:
        name, count = run.name, 2
        while name in taken:
            name, count = f"{run.name} ({count})", count + 1
        taken.add(name)
        named.append(replace(run, name=name))
    return named


def _numbers(rig: Rig, result: GuideResult) -> dict[str, Estimate]:
    """Return what logs measure of the rig, by quantity id.

    Parameters
    ----------
    rig
        The rig.
    result
        Runs and calibration, measured.

    Returns
    -------
    dict[str, Estimate]
        Of the run that counts: scatter in arcsec, the drift of the errors themselves in arcsec/min, period and settling
        in s; and the guide scale of the calibration.
    """
    found: dict[QuantityKind, Estimate | None] = {}
    own = result.last
    if own is not None:
        found |= {GUIDE_RMS_RA: own.rms_ra, GUIDE_RMS_DEC: own.rms_dec, GUIDE_RMS: own.rms, GUIDE_PERIOD: own.period_s}
        found |= {GUIDE_DRIFT_RA: own.drift_ra.own if own.drift_ra is not None else None}
        if own.drift_dec is not None:
            found |= {GUIDE_DRIFT_DEC: own.drift_dec.own}
            if own.drift_dec.is_free:  # unknown corrections hide the drift
                found |= {POLAR_DRIFT: own.drift_dec.rate}
        found[POLAR_ERROR] = result.polar.error_arcmin if result.polar is not None else None
        found[GUIDE_AUTOCORRELATION] = own.alike_ra
        if own.run.dec_moved is not None:
            found[GUIDE_AUTOCORRELATION_DEC] = own.alike_dec
        if own.settling is not None:
            found[GUIDE_SETTLE] = own.settling.p95_s
        rows = len(own.run.lost)
        found[GUIDE_LOST] = share_percent(own.lost_share, rows)
        if own.over_limit_share is not None:
            found[GUIDE_OVER_LIMIT] = share_percent(own.over_limit_share, int(own.used.sum()))
    if result.calibration is not None and rig.guiding.kind != "none":
        found[GUIDE_SCALE] = scale_for_rig(rig, result.calibration)
    return {kind.id: estimate for kind, estimate in found.items() if estimate is not None}


def scale_for_rig(rig: Rig, calibration: Calibration) -> Estimate | None:
    """Return the guide scale that a calibration measured, for the binning that the rig guides with.

    Parameters
    ----------
    rig
        The rig.
    calibration
        Measured, perhaps at another binning.

    Returns
    -------
    Estimate or None
        In arcsec/px.
    """
    scale, camera = calibration.guide_scale_arcsec_px, rig.guiding.camera
    if scale is None or calibration.facts.binning is None or camera is None or camera.sensor is None:
        return scale
    factor = camera.sensor.binning / calibration.facts.binning
    return Estimate(scale.value * factor, scale.standard * factor)


def share_percent(share: float, of: int) -> Estimate:
    """Return a share of frames in percent, with the standard error of counting, of one frame at least."""
    return Estimate(100 * share, 100 * max((share * (1 - share) / max(of, 1)) ** 0.5, 1 / max(of, 1)))


def _origin(result: GuideResult, key: str) -> Origin:
    own, calibration = result.last, result.calibration
    if key == GUIDE_SCALE.id and calibration is not None:
        return Origin(f"guide calibration in {calibration.file}", calibration.file)
    return Origin(f"guide log {own.name}", own.run.file) if own is not None else Origin("guide log")


def _calibration_of(rig: Rig, result: GuideResult) -> list[Value]:
    """Return the calibration as a value of the rig, where the rig guides and the logs hold one."""
    calibration = result.calibration
    if calibration is None or rig.guiding.kind == "none":
        return []
    starts = [run.run.start_s for run in result.runs if run.run.file == calibration.file]
    return [(("guiding", "calibration"), _calibration_kept(rig, calibration, starts[0] if starts else None))]


def _calibration_kept(rig: Rig, found: Calibration, start_s: float | None) -> JsonObject:
    """Return a calibration as the rig holds it: when, where in the sky and how it was made."""
    begun = None
    if start_s is not None:
        begun = datetime.datetime.fromtimestamp(start_s, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    facts, camera = found.facts, rig.guiding.camera
    binning = facts.binning or (camera.sensor.binning if camera is not None and camera.sensor is not None else None)
    declination = facts.declination_deg
    if declination is None and rig.framing is not None:
        declination = rig.framing.dec_deg
    entries = {
        "date": facts.date or begun or utc_stamp(),
        "declination_deg": declination,
        "camera_angle_deg": rig.framing.position_angle_deg if rig.framing is not None else None,
        "pier_side": facts.pier_side if facts.pier_side in ("east", "west") else None,
        "binning": binning,
        "angle_deg": None if found.angle_deg is None else round(found.angle_deg.value, 3),
        "not_square_deg": None if found.not_square_deg is None else round(found.not_square_deg.value, 3),
        "backlash_ms": None if found.backlash_ms is None else round(found.backlash_ms.value, 1),
        "file": found.file[:200],
    }
    return {key: value for key, value in entries.items() if value is not None}


GUIDE_LOG = EvidenceKind(
    "guide_log",
    read,
    _numbers,
    Keeping("Keep the guide log", "guide_log", _origin, "the logs give no number to keep", _calibration_of),
)
"""What guide logs found, kept in the rig as measured values of the guiding."""
