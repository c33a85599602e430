"""How far the focus is by the size of a defocused star, and where it is by frames at several positions."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from wyntaxis.core.arrays import Floats
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import student_factor

Side = Literal["in", "out"]
WAVELENGTH_MM = 550e-6
EDGE_SHIFT = 0.25
"""So many √(λ z) inside the geometric edge light is half as bright: 0.3536 √(λ z / 2), from Fresnel's integrals."""
EDGE_BLUR = 0.41
"""An edge of waves is as soft as one blurred by so many √(λ z), in the standard deviation."""
FWHM_PER_SIGMA = 2.354820045
ROUNDS = 4
STEP_SHARE = 0.1
"""A stated size of a step may be wrong by this share before a line through sizes is doubted."""
CLEARER = 6.0
"""One way to the focus is taken where the other explains the sizes worse by so much in χ²."""
MOST_MISFIT = 9.0


@dataclass(frozen=True)
class SizeAt:
    """The diameter of the discs at one position of the focuser, in px of unbinned frames.

    ``common_px`` is what may be wrong with it by as much in every frame: what waves took off the disc.
    """

    position: float
    diameter_px: Estimate
    common_px: float = 0.0


@dataclass(frozen=True)
class BestFocus:
    """Where the focus is by several frames: the position in steps, and how the disc grows with a step, in px.

    ``misfit`` is what the line leaves over the sizes' own uncertainty.
    """

    position: Estimate
    px_per_step: Estimate
    misfit: float
    one_sided: bool

    def side(self, position: float) -> Side | None:
        """Return which way the counter must go from a position: ``out`` where it must rise; None where it is there."""
        apart = self.position.value - position
        if abs(apart) <= self.position.standard:
            return None
        return "out" if apart > 0 else "in"


def focus_distance(
    diameter_px: Estimate, pixel_um: float, focal_ratio: Estimate, blur_fwhm_px: float | None = None
) -> Estimate:
    """Return how far the sensor is from the focus.

    Parameters
    ----------
    diameter_px
        Outer diameter of the disc, in px.
    pixel_um
        Size of a px, binned as the frame is.
    focal_ratio
        Of the light that reaches the sensor.
    blur_fwhm_px
        How soft the disc's edge is; None where it is unknown, and then nothing is put back.

    Returns
    -------
    Estimate
        In mm along the axis, above 0 on either side: ``z = D · p · N``, with D the disc of geometry.

    Notes
    -----
    Waves leave half the light well inside the geometric edge, by 0.25 √(λ z), some 10 % of the diameter at 3 waves of
    defocus. That is put back as far as the edge is as soft as waves make it: a sharper one was not made by waves, and
    over a softer one the air has averaged. Half of the whole effect stays in the uncertainty. Source: W. J. Smith,
    *Modern Optical Engineering*, for the cone of light; M. Born and E. Wolf, *Principles of Optics*, diffraction at a
    straight edge, in a beam that converges to a focus at the distance z.
    """
    seen = diameter_px.value * pixel_um / 1000 * focal_ratio.value
    distance = seen
    for _ in range(ROUNDS):
        shift = taken_by_waves(distance, focal_ratio.value)
        waves_blur = EDGE_BLUR * math.sqrt(WAVELENGTH_MM * distance) * 1000 / pixel_um
        softness = (blur_fwhm_px or 0.0) / FWHM_PER_SIGMA / max(waves_blur, 1e-9)
        distance = seen + shift * (min(softness, 1 / softness) ** 2 if softness else 0.0)
    of_size = diameter_px.standard / diameter_px.value * seen
    of_ratio = focal_ratio.standard / focal_ratio.value * distance
    return Estimate(distance, math.hypot(of_size, of_ratio, shift / 2))


def taken_by_waves(distance_mm: float, focal_ratio: float) -> float:
    """Return by how much waves may make a disc smaller, as mm of distance."""
    return 2 * EDGE_SHIFT * math.sqrt(WAVELENGTH_MM * distance_mm) * focal_ratio


def best_focus(sizes: Sequence[SizeAt], px_per_step: Estimate | None = None) -> BestFocus | None:
    """Return the position of best focus by a straight line through both branches of the sizes.

    Parameters
    ----------
    sizes
        Of two positions or more, in any order.
    px_per_step
        How much a disc grows with a step, by the size of a step, focal ratio and pixel; None where a step is unknown.

    Returns
    -------
    BestFocus or None
        None where the positions leave open on which side of the focus they lie: of two positions without a known step,
        of three in which both ways explain the sizes alike, or where no line explains them.

    Notes
    -----
    A defocused disc's diameter is ``m · |p − p₀|``. The positions in their order are parted at each place in turn into
    those below the focus and those above; of the lines that keep to their own parting, the best is taken.
    """
    merged = _by_position(sizes)
    if len(merged) < 2:
        return None
    found = []
    for below in range(len(merged) + 1):
        line = _line(merged, below, px_per_step)
        if line is not None:
            found.append(line)
    found.sort(key=lambda one: one[0])
    if not found:
        return None
    chi2, best, freedom = found[0]
    others = [one for one in found[1:] if abs(one[1].position.value - best.position.value) > 2 * best.position.standard]
    if others and others[0][0] - chi2 < CLEARER:
        return None
    if freedom > 0 and chi2 / freedom > MOST_MISFIT**2:
        return None
    return best


def _by_position(sizes: Sequence[SizeAt]) -> list[SizeAt]:
    """Return the sizes by position, those of one position as their weighted mean."""
    entries: dict[float, list[Estimate]] = {}
    for size in sizes:
        entries.setdefault(size.position, []).append(size.diameter_px)
    merged = []
    for position, own in sorted(entries.items()):
        weights = [1 / max(one.standard, 1e-6) ** 2 for one in own]
        mean = sum(w * one.value for w, one in zip(weights, own, strict=True)) / sum(weights)
        common = max(size.common_px for size in sizes if size.position == position)
        merged.append(
            SizeAt(position, Estimate(mean, max(1 / math.sqrt(sum(weights)), min(o.standard for o in own) / 3)), common)
        )
    return merged


def _line(sizes: Sequence[SizeAt], below: int, px_per_step: Estimate | None) -> tuple[float, BestFocus, int] | None:
    """Return the line of sizes of which the first so many lie below the focus: χ², what it says, degrees of freedom."""
    positions = np.array([size.position for size in sizes])
    middle = positions.mean()
    signs = np.where(np.arange(len(sizes)) < below, -1.0, 1.0)
    # D · s = m · p + c: m rises with the position, c = −m · p₀.
    signed = signs * np.array([size.diameter_px.value for size in sizes])
    weights = 1 / np.array([max(size.diameter_px.standard, 1e-6) for size in sizes])
    design = np.stack([positions - middle, np.ones(len(sizes))], axis=1) * weights[:, None]
    wanted = signed * weights
    if px_per_step is not None:
        design = np.vstack([design, [1 / px_per_step.standard, 0.0]])
        wanted = np.append(wanted, px_per_step.value / px_per_step.standard)
    freedom = len(wanted) - 2
    if freedom < 0:
        return None
    solved, *_ = np.linalg.lstsq(design, wanted, rcond=None)
    slope, level = (float(one) for one in solved)
    if slope <= 0:
        return None
    at = middle - level / slope
    lower = positions[below - 1] if below else -math.inf
    upper = positions[below] if below < len(sizes) else math.inf
    chi2 = float(((design @ solved - wanted) ** 2).sum())
    spread = np.linalg.inv(design.T @ design) * max(chi2 / freedom if freedom else 1.0, 1.0)
    toward = np.array([level / slope**2, -1 / slope])
    u = math.sqrt(max(float(toward @ spread @ toward), 0.0))
    # What is wrong with every size alike moves the focus, but for what both branches cancel.
    common = max(size.common_px for size in sizes) * abs(float(signs.mean()))
    u = math.hypot(u, common / slope)
    if not lower - 2 * u <= at <= upper + 2 * u:
        return None
    u_slope = math.sqrt(float(spread[0, 0]))
    misfit = math.sqrt(chi2 / freedom) if freedom else 1.0
    one_sided = below in (0, len(sizes))
    return chi2, BestFocus(Estimate(float(at), u), Estimate(slope, u_slope), misfit, one_sided), freedom


def growth_per_step(step_um: float, pixel_um: float, focal_ratio: float, share: float = STEP_SHARE) -> Estimate:
    """Return by how many px a disc grows with a step: ``step / (N · p)``, with what is uncertain of the step."""
    growth = step_um / (focal_ratio * pixel_um)
    return Estimate(growth, growth * share)


def centre_offset(
    dx: Floats, dy: Floats, standard: Floats, places: Floats, model: float = 0.0
) -> tuple[Estimate, Estimate]:
    """Return by how much the hole lies off the disc's middle on the axis, x and y in px.

    Parameters
    ----------
    dx, dy, standard
        Of each disc, in px, shape (n,).
    places
        Where each lies from the frame's middle, in px, shape (n, 2).
    model
        What vanes and blurred edges leave uncertain of it, in px.

    Returns
    -------
    tuple of Estimate
        Off the axis the hole moves on by itself, in proportion to the distance: with eight discs or more that is
        fitted and taken out.
    """
    count = len(dx)
    if count >= 8 and np.linalg.matrix_rank(places - places.mean(axis=0)) == 2:
        design = np.column_stack([np.ones(count), places])
    else:
        design = np.ones((count, 1))
    found = []
    for values in (dx, dy):
        solved, *_ = np.linalg.lstsq(design, values, rcond=None)
        left = values - design @ solved
        free = count - design.shape[1]
        scatter = math.sqrt(float((left**2).sum()) / free) if free > 0 else 0.0
        each = max(scatter, float(np.median(standard)))
        of_fit = each * student_factor(max(free, 1)) * math.sqrt(float(np.linalg.inv(design.T @ design)[0, 0]))
        found.append(Estimate(float(solved[0]), math.hypot(of_fit, model)))
    return found[0], found[1]
