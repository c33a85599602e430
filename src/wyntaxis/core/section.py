"""The section of an evaluated rig: its geometry, with the verdicts, the devices, and what was measured of it."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.field.kind import FIELD
from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import FIELD_CURVATURE, FIELD_TILT, FOCAL_RATIO, GUIDE_PATH_ERROR
from wyntaxis.core.records.presence import presence
from wyntaxis.core.train.section import DeviceMark, DustMark, FocusSurface, Judged, Section, lay_out


def section(evaluation: Evaluation) -> Section:
    """Lay an evaluated rig out in mm, with all that is told of it."""
    allowed = evaluation.quantity(GUIDE_PATH_ERROR).target
    judged = Judged(
        focal_ratio=evaluation.value(FOCAL_RATIO),
        guide_allowed_mm=allowed.high if allowed else None,
        verdicts=_verdicts(evaluation),
        devices=_devices(evaluation),
        surface=focus_surface(evaluation),
        dust=tuple(dust_marks(evaluation)),
    )
    return lay_out(evaluation.rig, judged)


def _devices(evaluation: Evaluation) -> dict[str, tuple[DeviceMark, ...]]:
    """Return the devices that each part is, or carries, by part id."""
    at: dict[str, tuple[DeviceMark, ...]] = {}
    for device in evaluation.rig.devices:
        if device.part is not None:
            found = presence(evaluation, device)
            at[device.part] = (*at.get(device.part, ()), DeviceMark(found.verdict, found.why))
    return at


def _verdicts(evaluation: Evaluation) -> dict[str, Verdict]:
    """Return the gravest verdict that a finding lays at a part, by part id."""
    marks: dict[str, Verdict] = {}
    for finding in evaluation.findings:
        if finding.verdict in (Verdict.FAILS, Verdict.TIGHT):
            for target in finding.parts(evaluation.rig):
                if marks.get(target) is not Verdict.FAILS:
                    marks[target] = finding.verdict
    return marks


def focus_surface(evaluation: Evaluation) -> FocusSurface | None:
    """Return the surface of best focus that was measured: by the sweeps in hand, else as the rig keeps it.

    Parameters
    ----------
    evaluation
        An evaluated rig.

    Returns
    -------
    FocusSurface or None
        In µm and mm; None where nothing was measured.
    """
    sensor, result = evaluation.rig.sensor, evaluation.evidence.of(FIELD)
    last = result.last if result is not None else None
    if sensor is None:
        return None
    tilt, curvature = (last.tilt_um, last.curvature_um) if last is not None else (None, None)
    if tilt is None or curvature is None:
        kept = [evaluation.rig.measured.get(kind.id) for kind in (FIELD_TILT, FIELD_CURVATURE)]
        if kept[0] is None or kept[1] is None:
            return None
        return FocusSurface(kept[0].value, kept[1].value, sensor.diagonal_mm / 2)
    return FocusSurface(tilt.value, curvature.value, sensor.diagonal_mm / 2)


def dust_marks(evaluation: Evaluation) -> Iterator[DustMark]:
    """Yield where the dust lies that flats showed, each surface once; what lies on none where it was measured.

    Parameters
    ----------
    evaluation
        An evaluated rig.

    Yields
    ------
    DustMark
        In mm before the sensor.
    """
    result = evaluation.evidence.of(FILTERS)
    by_place: dict[tuple[str, int], list[float]] = {}
    for grain in result.dust if result is not None else ():
        if grain.distance_mm is not None:
            distance = grain.distance_mm.value
            place = (grain.surface.title, 0) if grain.surface is not None else ("", round(distance))
            by_place.setdefault(place, []).append(distance)
    for (surface, _), distances in by_place.items():
        yield DustMark(sum(distances) / len(distances), len(distances), surface)
