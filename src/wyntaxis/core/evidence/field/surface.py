"""The surface of best focus: a plane and a bowl through the best positions of zones."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.field.zones import MIN_ZONES, Zone
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import hc3_growth, huber_fit, student_factor

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

ROUNDS = 20
HUBER = 1.5
MIN_OWN = 0.3
"""A residual says this much of its zone's own error at least: one zone that rules a number says nothing of it."""
SURE = 2.0
"""So many standard uncertainties make a direction or a sign certain."""
MODEL_SHARE = 0.015
"""What the sharpest image's profile leaves uncertain of how far zones lie apart, as a share."""
MIN_SPREAD = 0.15
"""Zones that lie closer together than this share of the half diagonal tell no surface."""


@dataclass(frozen=True)
class Surface:
    """Where best focus lies over the field, in steps of the counter.

    ``plane`` is by how much it rises from the middle to as far as the corner is, toward +x and toward +y; ``bowl`` by
    how much the corner lies over the middle; ``covariance`` is that of middle, plane and bowl. ``tilt`` is the plane's
    length with what noise adds to any length taken out, ``azimuth_deg`` its direction from +x toward +y, None where the
    tilt is not certain. ``scatter`` is that of the zones about the surface. ``why`` tells why there is none.
    """

    why: str = ""
    middle: Estimate | None = None
    plane: tuple[float, float] = (0.0, 0.0)
    tilt: Estimate | None = None
    azimuth_deg: Estimate | None = None
    curvature: Estimate | None = None
    covariance: tuple[tuple[float, ...], ...] = ()
    scatter: float = 0.0
    residuals: tuple[float, ...] = ()

    @property
    def plane_standard(self) -> tuple[float, float]:
        """The standard uncertainties of the plane toward +x and toward +y, in steps at the corner's distance."""
        return math.sqrt(self.covariance[1][1]), math.sqrt(self.covariance[2][2])

    def at(self, x: Floats | float, y: Floats | float) -> Floats | float:
        """Return where best focus lies at places told from the middle, in half diagonals; in steps."""
        assert self.middle is not None
        assert self.curvature is not None
        return self.middle.value + self.plane[0] * x + self.plane[1] * y + self.curvature.value * (x**2 + y**2)

    @property
    def vertex(self) -> tuple[float, float] | None:
        """Where the surface is level, from the middle in half diagonals: the bowl's centre if nothing is tilted.

        None where the bowl is not certain.
        """
        if self.curvature is None or abs(self.curvature.value) < SURE * self.curvature.standard:
            return None
        return -self.plane[0] / (2 * self.curvature.value), -self.plane[1] / (2 * self.curvature.value)


def surface_of(zones: Sequence[Zone], size_px: tuple[int, int], shared: Floats | None = None) -> Surface:
    """Fit plane and bowl to the best positions of zones, those that lie far off not counted for much.

    Parameters
    ----------
    zones
        With their best positions in steps.
    size_px
        Width and height of the frames in px.
    shared
        What is uncertain of the zones' best positions together, (zones, frames) in steps.

    Returns
    -------
    Surface
        In steps. Uncertainties are standard ones of so many zones that twice them cover 95 %; residuals are by zone,
        NaN for one that does not count.
    """
    entries = [zone for zone in zones if zone.best_position is not None]
    if len(entries) < MIN_ZONES:
        return Surface(f"{len(entries)} zones have a best position; it takes {MIN_ZONES}")
    half = math.hypot(*size_px) / 2
    x = np.array([zone.x - (size_px[0] - 1) / 2 for zone in entries]) / half
    y = np.array([zone.y - (size_px[1] - 1) / 2 for zone in entries]) / half
    r2 = np.array([zone.radius2 for zone in entries]) / half**2
    if min(x.std(), y.std()) < MIN_SPREAD / 2 or r2.std() < MIN_SPREAD / 4:
        return Surface("the stars are too close together on the frame for a surface")
    best = np.array([zone.best_position.value for zone in entries if zone.best_position is not None])
    own = np.array([zone.best_position.standard for zone in entries if zone.best_position is not None])
    # No zone counts for much more than the usual one: its own error is told by few points.
    weight = 1 / np.hypot(own, np.median(own))
    design = np.stack([np.ones_like(x), x, y, r2], axis=1)
    fit = huber_fit(design, best, weight**2, turn=HUBER, rounds=ROUNDS)
    found, left, inverse = fit.parameters, fit.residuals, fit.inverse
    root = np.sqrt(fit.weights)
    scaled = design * root[:, None]
    growth = hc3_growth(scaled, inverse, root * left, fit.variance, least_own=MIN_OWN)
    covariance = fit.covariance * growth * student_factor(fit.free) ** 2
    counted = [k for k, zone in enumerate(zones) if zone.best_position is not None]
    if shared is not None:
        along = inverse @ (scaled * root[:, None]).T @ shared[counted]
        covariance = covariance + along @ along.T
    standard = np.sqrt(np.diag(covariance))
    tilt, azimuth = _length(found[1:3], covariance[1:3, 1:3])
    every = np.full(len(zones), np.nan)
    every[counted] = left
    return Surface(
        middle=Estimate(float(found[0]), float(standard[0])),
        plane=(float(found[1]), float(found[2])),
        tilt=Estimate(tilt.value, math.hypot(tilt.standard, MODEL_SHARE * tilt.value)),
        azimuth_deg=azimuth,
        curvature=Estimate(float(found[3]), math.hypot(float(standard[3]), MODEL_SHARE * float(found[3]))),
        covariance=tuple(tuple(float(value) for value in row) for row in covariance),
        scatter=float(np.sqrt(np.mean(left**2))),
        residuals=tuple(float(value) for value in every),
    )


def _length(vector: Floats, covariance: Floats) -> tuple[Estimate, Estimate | None]:
    """Return the length of a vector, what its noise adds taken out, and its direction in degrees where it is certain.

    Noise makes any length larger, ``E|v|² = |V|² + u_x² + u_y²``.
    """
    raw = float(np.hypot(*vector))
    noise = float(np.trace(covariance))
    along = vector / raw if raw > 0 else np.array([1.0, 0.0])
    across = np.array([-along[1], along[0]])
    length = math.sqrt(max(raw**2 - noise, 0.0))
    standard = math.sqrt(float(along @ covariance @ along))
    if length < SURE * standard:
        return Estimate(length, max(standard, math.sqrt(noise / 2))), None
    turn = math.degrees(math.sqrt(float(across @ covariance @ across)) / raw)
    return Estimate(length, standard), Estimate(math.degrees(math.atan2(vector[1], vector[0])) % 360, turn)
