"""How the pixels' size tells on the size of stars that hardly span them: what to correct, and what stays uncertain.

Source: stars drawn by GalSim 2.8 with photons collected over each pixel, anywhere between pixels: Gaussian,
Kolmogorov, and Moffat of β 2.5 and 3.5, of 0.9 to 4.5 px. Widths are corrected by the middle of the four profiles, less
and less from 1.8 px on; the share is half of what the farthest is off after it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

LEAST_PX = 1.25
"""Stars that measure less are smaller than can be told: pixels hold no more of them."""
_MEASURED_PX = (LEAST_PX, 1.42, 1.59, 1.77, 1.9, 2.1, 2.5, 3.1, 4.0)
_TOO_LARGE = (1.146, 1.094, 1.062, 1.043, 1.025, 1.01, 1.0, 1.0, 1.0)
_STAYS = (0.065, 0.045, 0.035, 0.026, 0.022, 0.02, 0.016, 0.011, 0.01)
_PER_PX_BELOW = 0.8
HFD_STAYS, HFD_SMALL_PX, HFD_PER_PX_BELOW = 0.01, 1.7, 0.18
"""Half-flux diameters are off by at most twice this share, and by so much a px more where they are smaller."""


def corrected_fwhm(measured: Floats) -> Floats:
    """Return widths in px without what the pixels add to those of small stars."""
    return measured / np.interp(measured, _MEASURED_PX, _TOO_LARGE)


def fwhm_share(width_px: float) -> float:
    """Return the standard uncertainty of a corrected width in px that the star's unknown profile leaves, as a share."""
    corrected = corrected_fwhm(np.array(_MEASURED_PX))
    return float(np.interp(width_px, corrected, _STAYS)) + _PER_PX_BELOW * max(float(corrected[0]) - width_px, 0.0)


def hfd_share(diameter_px: float) -> float:
    """Return the standard uncertainty of a half-flux diameter in px that the unknown profile leaves, as a share."""
    return HFD_STAYS + HFD_PER_PX_BELOW * max(HFD_SMALL_PX - diameter_px, 0.0)
