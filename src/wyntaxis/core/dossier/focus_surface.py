"""The surface of best focus that the dossier draws: as it was measured, or as the rig keeps it."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.field.kind import FIELD
from wyntaxis.core.quantity_kinds import FIELD_CURVATURE, FIELD_TILT


@dataclass(frozen=True)
class FocusSurface:
    """The surface of best focus at the sensor, in the plane of its tilt: tilt and curvature at the corner in µm, and
    how far the corner is from the axis in mm.
    """

    tilt_um: float
    curvature_um: float
    half_mm: float

    def at_um(self, share: float) -> float:
        """Return how far behind the middle best focus lies at a share of the corner's distance, −1 to 1, in µm."""
        return self.tilt_um * share + self.curvature_um * share**2


def focus_surface(evaluation: Evaluation) -> FocusSurface | None:
    """Return the surface of best focus that was measured: by the sweeps that were read, else as the rig keeps it.

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
