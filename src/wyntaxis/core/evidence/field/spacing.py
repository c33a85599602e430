"""The spacing at which the field is flat: a straight line through the curvatures measured at several spacings."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import student_factor, weighted_fit
from wyntaxis.core.wording import number

MIN_APART_MM = 0.05
"""Spacings nearer to one another than this are one."""
SURE = 2.0


@dataclass(frozen=True)
class FlatSpacing:
    """Where the bowl vanishes, in mm behind the corrector, and by how many µm at the corner it grows with each mm.

    ``points`` are spacing in mm and curvature at the corner in µm. ``why`` tells why there is none.
    """

    points: tuple[tuple[float, Estimate], ...] = ()
    flat_at_mm: Estimate | None = None
    slope_um_mm: Estimate | None = None
    why: str = ""


def flat_spacing(points: Sequence[tuple[float, Estimate]]) -> FlatSpacing:
    """Return where curvatures at several spacings cross zero.

    Parameters
    ----------
    points
        Spacing in mm and curvature at the corner in µm of each sweep.

    Returns
    -------
    FlatSpacing
        With the reason where it cannot be had. Source: weighted straight line; the zero's uncertainty by the
        propagation of both parameters' (JCGM 100:2008, 5.2).
    """
    entries = tuple(sorted(points, key=lambda point: point[0]))
    if not entries:
        return FlatSpacing(why="no sweep has its spacing recorded: two sweeps at two spacings are needed")
    spacings = np.array([spacing for spacing, _ in entries])
    if float(np.ptp(spacings)) < MIN_APART_MM:
        return FlatSpacing(entries, why=f"all sweeps are at {number(entries[0][0], 2)} mm: it takes two spacings")
    values = np.array([entry.value for _, entry in entries])
    weights = 1 / np.maximum([entry.standard for _, entry in entries], 1e-6) ** 2
    middle = float((weights * spacings).sum() / weights.sum())
    design = np.stack([np.ones_like(spacings), spacings - middle], axis=1)
    fit = weighted_fit(design, values, weights)
    (base, slope), covariance = fit.parameters, fit.inverse
    if fit.free > 0 and fit.variance > 1:
        covariance = fit.covariance * student_factor(fit.free) ** 2
    steep = Estimate(float(slope), math.sqrt(covariance[1, 1]))
    if abs(slope) < SURE * steep.standard:
        return FlatSpacing(
            entries, None, steep, "the curvature hardly changes between these spacings: take them farther"
        )
    off = -base / slope
    standard = math.sqrt(covariance[0, 0] + off**2 * covariance[1, 1] + 2 * off * covariance[0, 1]) / abs(slope)
    return FlatSpacing(entries, Estimate(middle + float(off), float(standard)), steep)
