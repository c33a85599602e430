"""How close to its star the guider must come before a frame begins."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, rows
from wyntaxis.core.steps import GUIDE_BRANCH

MIN_SETTLE_CENTROIDS = 2.0
"""A settling threshold under two centroid errors is crossed by noise alone."""

GUIDING = "guiding"
SETTLE = DeviceQuantity("settle_px", "Settling limit", "guide px", 2, GUIDE_BRANCH)


@rows
def settle_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the settling threshold that is set, where one is."""
    settings = numbers.rig.guiding.settings
    if settings is not None and settings.settle_px is not None:
        least = Target(low=MIN_SETTLE_CENTROIDS * guide_use(numbers.rig).centroid_px)
        yield SETTLE.row(GUIDING, "Guider", stated=QuantityValue(settings.settle_px), target=least)
