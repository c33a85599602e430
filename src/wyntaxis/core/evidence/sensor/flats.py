"""What the level of a flat is told against, and how its light falls off."""

from __future__ import annotations

from typing import Any

import numpy as np

from wyntaxis.core.evidence.sensor.strips import HIGHEST_CODE
from wyntaxis.core.fitting import weighted_fit


def converter_end(highest_code: int, step: int, stated: int | None) -> tuple[int, int]:
    """Return a converter's bits, as stated or else the fewest usual ones that give such a code, and where it ends.

    Parameters
    ----------
    highest_code
        The highest code that occurs, in ADU.
    step
        The step between codes.
    stated
        The converter's bits, where they are stated.

    Returns
    -------
    tuple[int, int]
        Bits, and the highest code in ADU.
    """
    if step > 1:  # few bits stored multiplied fill the whole range
        return 16 - (step.bit_length() - 1), HIGHEST_CODE + 1 - step
    usual = next(bits for bits in (8, 10, 12, 14, 16) if highest_code < 1 << bits)
    bits = stated if stated is not None and usual <= stated <= 16 else usual
    return bits, (1 << bits) - 1


def falloff(signal: Any) -> tuple[float, float]:
    """Return the corners' level and how far the light's centre lies from the middle, both in %.

    The corners are told of the middle's level, the centre of half the diagonal.

    Parameters
    ----------
    signal
        Levels by tile over the frame, (rows, columns).

    Returns
    -------
    tuple of float
        Corners in % of the middle, centre in % of half the diagonal.
    """
    down, across = signal.shape
    edge = max(1, min(down, across) // 8)
    corners = [signal[:edge, :edge], signal[:edge, -edge:], signal[-edge:, :edge], signal[-edge:, -edge:]]
    middle = signal[down // 2 - edge // 2 : down // 2 + edge, across // 2 - edge // 2 : across // 2 + edge]
    share = 100 * float(np.mean([np.median(c) for c in corners])) / max(float(np.median(middle)), 1e-9)
    y, x = np.mgrid[-1 : 1 : down * 1j, -1 : 1 : across * 1j]
    x, y = x * across, y * down
    design = np.stack([np.ones(signal.size), x.ravel(), y.ravel(), (x**2 + y**2).ravel()], axis=1)
    _, a, b, c = weighted_fit(design, signal.ravel()).parameters
    if c >= 0 or share > 99:
        return share, 0.0  # no falloff to have a centre
    return share, 100 * float(np.hypot(a, b) / (-2 * c) / np.hypot(across, down))
