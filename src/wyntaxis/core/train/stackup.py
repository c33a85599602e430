"""How likely the tolerances leave the sensor inside its own: worst case, root sum of squares, and draws."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.train.lightpath import BackFocus

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

DRAWS = 100_000
SEED = 20250101
"""Fixed, so that the same rig gives the same figure twice."""


@dataclass(frozen=True)
class StackUp:
    """The back focus error, in mm: its middle, spreads, and draws of it.

    ``inside`` is the probability by the exact law, the same figure as everywhere; None without a tolerance.
    """

    error_mm: float
    worst_case_mm: float
    rss_mm: float
    draws_mm: NDArray[np.float64]
    tolerance_mm: float | None
    inside: float | None


def stack_up(path: BackFocus, draws: int = DRAWS, seed: int = SEED) -> StackUp:
    """Draw every part's length and every plate's thickness uniformly inside its tolerance (JCGM 101:2008)."""
    import numpy as np

    widths = np.array([width for width in path.half_widths_mm if width > 0])
    generator = np.random.default_rng(seed)
    errors = np.full(draws, path.error_mm)
    for width in widths:  # one part at a time: no array of draws × parts
        errors += generator.uniform(-width, width, draws)
    return StackUp(
        error_mm=path.error_mm,
        worst_case_mm=path.worst_case_mm,
        rss_mm=path.error_standard_mm,
        draws_mm=errors,
        tolerance_mm=path.tolerance_mm,
        inside=path.probability_within,
    )
