"""What was measured and is drawn over the section: the surface of best focus, and dust."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.field.kind import CURVATURE, FIELD, TILT
from wyntaxis.core.evidence.filters.kind import FILTERS


@dataclass(frozen=True)
class FocusSurface:
    """The surface of best focus at the sensor, in the plane of its tilt: tilt and curvature at the corner in µm, and
    how far the corner is from the axis in mm.
    """

    tilt_um: float
    bowl_um: float
    half_mm: float

    def at_um(self, share: float) -> float:
        """Return how far behind the middle best focus lies at a share of the corner's distance, −1 to 1, in µm."""
        return self.tilt_um * share + self.bowl_um * share**2


@dataclass(frozen=True)
class DustMark:
    """Where dust lies: its distance before the sensor in mm, how many grains there, and on what."""

    distance_mm: float
    count: int
    title: str


def focus_surface(evaluation: Evaluation) -> FocusSurface | None:
    """Return the surface of best focus that was measured: by the sweeps in hand, else as the rig keeps it.

    Parameters
    ----------
    evaluation
        A reckoned rig.

    Returns
    -------
    FocusSurface or None
        In µm and mm; None where nothing was measured.
    """
    sensor, result = evaluation.rig.sensor, evaluation.evidence.of(FIELD)
    last = result.last if result is not None else None
    if sensor is None:
        return None
    tilt, bowl = (last.tilt_um, last.bowl_um) if last is not None else (None, None)
    if tilt is None or bowl is None:
        kept = [evaluation.rig.measured.get(key) for key in (TILT, CURVATURE)]
        if kept[0] is None or kept[1] is None:
            return None
        return FocusSurface(kept[0].value, kept[1].value, sensor.diagonal_mm / 2)
    return FocusSurface(tilt.value, bowl.value, sensor.diagonal_mm / 2)


def dust_marks(evaluation: Evaluation) -> Iterator[DustMark]:
    """Yield where the dust lies that flats showed, each surface once; what lies on none where it was measured.

    Parameters
    ----------
    evaluation
        A reckoned rig.

    Yields
    ------
    DustMark
        In mm before the sensor.
    """
    result = evaluation.evidence.of(FILTERS)
    by_place: dict[str, list[float]] = {}
    for grain in result.dust if result is not None else ():
        if grain.distance_mm is not None:
            title = grain.surface.title if grain.surface is not None else f"? {grain.distance_mm.value:.0f} mm"
            by_place.setdefault(title, []).append(grain.distance_mm.value)
    for title, distances in by_place.items():
        yield DustMark(sum(distances) / len(distances), len(distances), title)
