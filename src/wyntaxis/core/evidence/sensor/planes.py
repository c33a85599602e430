"""The planes of a colour sensor: each pixel of the mosaic's square is one, and has gain and noise of its own."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from wyntaxis.core.evidence.sensor.strips import Plane
from wyntaxis.core.evidence.sensor.transfer import BiasLevel

PLANES: tuple[Plane, ...] = ((0, 0), (0, 1), (1, 0), (1, 1))


def whole_sensor(by_plane: Mapping[Plane | None, BiasLevel]) -> BiasLevel:
    """Return the bias of a whole colour sensor from its planes; of a sensor without colours, its own.

    Parameters
    ----------
    by_plane
        The bias of each plane, in ADU.

    Returns
    -------
    BiasLevel
        The mean of the planes, in ADU.
    """
    levels = list(by_plane.values())
    if len(levels) == 1:
        return levels[0]
    return BiasLevel(
        np.mean([level.tiles for level in levels], axis=0),
        float(np.mean([level.mean_adu for level in levels])),
        float(np.mean([level.variance_adu2 for level in levels])),
        float(np.sum([level.degrees for level in levels])),
        min(level.step for level in levels),
    )


def plane_name(mosaic: str | None, plane: Plane | None) -> str:
    """Return a colour plane's name: its letter, with a number where the letter stands twice.

    Parameters
    ----------
    mosaic
        The order of colours, such as RGGB; None for a sensor without.
    plane
        A plane's row and column in the mosaic; None for the whole.

    Returns
    -------
    str
        A letter, with a number where it stands twice; empty for a whole sensor.
    """
    if plane is None or mosaic is None:
        return ""
    letters = mosaic.upper()[:4].ljust(4, "?")
    index = 2 * plane[0] + plane[1]
    letter = letters[index]
    return letter if letters.count(letter) == 1 else f"{letter}{letters[: index + 1].count(letter)}"
