"""What the live view of a folder is given of the rig."""

from __future__ import annotations

from wyntaxis.core.evidence.defocus.live import LiveOptics
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.quantities.focuser import focusers
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import FOCAL_RATIO


def live_optics(numbers: Numbers) -> LiveOptics:
    """Return what the live view needs of a rig: pixel, focal ratio, step and travel of its first focuser."""
    rig = numbers.rig
    row = numbers.quantities.get(FOCAL_RATIO.id)
    ratio = row.best if row is not None else None
    device = next(iter(focusers(numbers)), None)
    step = device.best("step_um") if device is not None else None
    mm_per_turn = device.number("mm_per_turn") if device is not None else None
    return LiveOptics(
        pixel_um=rig.sensor.pixel_um if rig.sensor is not None else None,
        focal_ratio=Estimate(ratio.value, ratio.uncertainty) if ratio is not None else None,
        step_um=step,
        lowest=device.number("lowest_position") if device is not None else None,
        highest=device.number("highest_position") if device is not None else None,
        turn_um=1000 * mm_per_turn if mm_per_turn else None,
    )
