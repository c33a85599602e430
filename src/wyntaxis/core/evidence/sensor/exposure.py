"""Exposure: how long until the sky buries the read noise, what that does to bright stars, and the level of flats.

Sources: total noise ``√((sky + D) t + σ_r²)``, Janesick, *Photon Transfer*; sky-limited exposure for an added share p:
``t = σ_r² / (((1 + p)² − 1)(sky + D))``. Sky and dark current in e⁻/s/px.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.ledger import Verdict
from wyntaxis.core.limits import FLAT_RANGE_PERCENT, FLAT_WIDE_PERCENT

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

DEFAULT_SHARE = 0.05


def judge_flat_level(percent: float) -> Verdict:
    """Return how flats of a level in % of saturation stand: as the finding tells them, and as tables mark them.

    Parameters
    ----------
    percent
        The level in % of saturation.

    Returns
    -------
    Verdict
        Holds from 30 to 60 %, tight from 20 to 70 %.
    """
    if FLAT_RANGE_PERCENT[0] <= percent <= FLAT_RANGE_PERCENT[1]:
        return Verdict.HOLDS
    return Verdict.TIGHT if FLAT_WIDE_PERCENT[0] <= percent <= FLAT_WIDE_PERCENT[1] else Verdict.FAILS


def sky_limited_exposure(read_noise_e: float, sky_e_s: float, dark_e_s: float, share: float = DEFAULT_SHARE) -> float:
    """Return the exposure in s in which read noise adds no more than a share to the total noise; inf without light.

    Parameters
    ----------
    read_noise_e
        The read noise in e⁻.
    sky_e_s, dark_e_s
        Sky and dark current in e⁻/s/px.
    share
        By which share read noise may raise the total noise.

    Returns
    -------
    float
        The exposure in s: ``σ_r² / ((s + d) ((1 + share)² − 1))``.
    """
    rate = sky_e_s + dark_e_s
    return read_noise_e**2 / (((1 + share) ** 2 - 1) * rate) if rate > 0 else math.inf


def added_share(exposure_s: Floats | float, read_noise_e: float, sky_e_s: float, dark_e_s: float) -> Floats | float:
    """Return which share read noise adds to the total noise at exposures in s.

    Parameters
    ----------
    exposure_s
        Exposures in s, a number or an array.
    read_noise_e, sky_e_s, dark_e_s
        The read noise in e⁻, sky and dark current in e⁻/s/px.

    Returns
    -------
    float or array
        The share: ``√(1 + σ_r² / ((s + d) t)) − 1``.
    """
    rate = (sky_e_s + dark_e_s) * np.asarray(exposure_s, dtype=float)
    return np.sqrt(1 + read_noise_e**2 / rate) - 1


def total_noise(exposure_s: float, read_noise_e: Any, sky_e_s: float, dark_e_s: float) -> Floats:
    """Return the noise of one pixel in one exposure, of sky, dark current and reading.

    Parameters
    ----------
    exposure_s
        The exposure in s.
    read_noise_e
        Read noises in e⁻, a number or an array.
    sky_e_s, dark_e_s
        Sky and dark current in e⁻/s/px.

    Returns
    -------
    float or array
        The noise in e⁻: ``√((s + d) t + σ_r²)``, shot noise by Poisson's law.
    """
    return np.sqrt((sky_e_s + dark_e_s) * exposure_s + np.asarray(read_noise_e, dtype=float) ** 2)


def peak_share(sampling_px_per_fwhm: float) -> float:
    """Return the share of a Gaussian star's light in its middle pixel, centred on it: ``erf(√(ln 2) / s)²``.

    Parameters
    ----------
    sampling_px_per_fwhm
        The star's FWHM in px.

    Returns
    -------
    float
        Of 1.
    """
    return math.erf(math.sqrt(math.log(2)) / sampling_px_per_fwhm) ** 2


def saturating_star_e_s(
    exposure_s: Floats | float, full_well_e: float, sky_e_s: float, dark_e_s: float, sampling_px_per_fwhm: float
) -> Floats | float:
    """Return the light of the faintest star that fills its middle pixel, in e⁻/s of the whole star; 0 in full sky.

    Parameters
    ----------
    exposure_s
        Exposures in s, a number or an array.
    full_well_e, sky_e_s, dark_e_s
        The well in e⁻, sky and dark current in e⁻/s/px.
    sampling_px_per_fwhm
        The star's FWHM in px.

    Returns
    -------
    float or array
        In e⁻/s.
    """
    times = np.asarray(exposure_s, dtype=float)
    room = np.maximum(full_well_e - (sky_e_s + dark_e_s) * times, 0.0)
    return room / (peak_share(sampling_px_per_fwhm) * times)
