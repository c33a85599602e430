"""What flats are told of the rig, and the rows that what they measured stands in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.evidence.filters.repeatability import EXCESS_TARGET, excess_of
from wyntaxis.core.evidence.measured import camera_index
from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.limits import FLAT_RANGE_PERCENT, FLAT_WIDE_PERCENT
from wyntaxis.core.quantities.light import beam_of, openings_of
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized, rows
from wyntaxis.core.quantity_kinds import FOCAL_RATIO
from wyntaxis.core.steps import FILTERS as FILTERS_STEP
from wyntaxis.core.train.illumination import falloff
from wyntaxis.core.train.surfaces import dust_surfaces

if TYPE_CHECKING:
    from wyntaxis.core.evidence.filters.result import FlatOptics

FALLOFF_TOLERANCE = 15.0
"""Computed and measured corner light may differ by this, in % of the middle's: lenses darken corners by themselves."""
DEEP_PERCENT, TOO_DEEP_PERCENT = 1.0, 5.0

LEVEL = DeviceQuantity("flat_share_percent", "Flat level", "%", 1, FILTERS_STEP)
CORNER = DeviceQuantity("flat_corner_percent", "Light in corner", "%", 1, FILTERS_STEP)
EXCESS = DeviceQuantity("flat_ratio", "Ratio's scatter over noise", "×", 2, FILTERS_STEP)
DEPTH = DeviceQuantity("dust_percent", "Deepest dust shadow", "%", 2, FILTERS_STEP)


@memoized
def computed_corner_share(numbers: Numbers) -> float | None:
    """Return what the train's openings leave of the light in the sensor's corner, as a share; None without a sensor.

    Returns
    -------
    float or None
        0 to 1.
    """
    sensor, found = numbers.rig.sensor, openings_of(numbers)
    if sensor is None or not found:
        return None
    profile = falloff(beam_of(numbers), found, sensor.diagonal_mm)
    middle = float(profile.shares[0])
    return float(profile.shares[-1]) / middle if middle > 0 else None


def flat_optics(numbers: Numbers) -> FlatOptics:
    """Return what flats are told of a rig.

    Returns
    -------
    FlatOptics
        Lengths in µm and mm; what the rig does not tell is left out.
    """
    from wyntaxis.core.evidence.filters.result import FlatOptics

    rig, sensor = numbers.rig, numbers.rig.sensor
    row = numbers.quantity(FOCAL_RATIO)
    ratio = row.best if row is not None else None
    camera = camera_index(rig)
    bias = rig.devices[camera].best("bias_mean_adu") if camera is not None else None
    wheel = next((device for device in rig.devices if device.kind == "filter_wheel"), None)
    return FlatOptics(
        pixel_um=sensor.pixel_um if sensor is not None else None,
        focal_ratio=ratio.value if ratio is not None else None,
        ratio_share=ratio.uncertainty / ratio.value if ratio is not None and ratio.value else 0.0,
        pupil_mm=rig.telescope.exit_pupil_distance_mm,
        obstruction=rig.telescope.obstruction_ratio or 0.0,
        bias_adu=bias,
        bits=sensor.bit_depth if sensor is not None else None,
        surfaces=dust_surfaces(rig),
        corner_share=computed_corner_share(numbers),
        one_way=wheel.truth("one_way") if wheel is not None else None,
    )


@rows
def flat_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield of the flats that were read their levels, falloff, repeatability and deepest shadow, by filter."""
    result = numbers.evidence.of(FILTERS)
    if result is None:
        return
    computed = computed_corner_share(numbers)
    for entry in {level.flats.filter: level for level in result.levels}.values():
        name = entry.flats.filter
        wish = Target(*FLAT_WIDE_PERCENT, *FLAT_RANGE_PERCENT)
        yield LEVEL.row(f"flats.{name}", name, measured=QuantityValue(100 * entry.level_share), target=wish)
        by_train = None if computed is None else QuantityValue(100 * computed, tolerance=FALLOFF_TOLERANCE)
        corner = entry.corner.times(100)
        yield CORNER.row(
            f"flats.{name}", name, computed=by_train, measured=QuantityValue(corner.value, corner.standard)
        )
    for repeat in {repeat.filter: repeat for repeat in result.repeats}.values():
        yield EXCESS.row(f"flats.{repeat.filter}", repeat.filter, measured=excess_of(repeat), target=EXCESS_TARGET)
    if result.levels:
        deepest = max((entry.shadow.depth for entry in result.dust), default=0.0)
        wish = Target(high=TOO_DEEP_PERCENT, inner_high=DEEP_PERCENT)
        yield DEPTH.row("flats", "Flats", measured=QuantityValue(100 * deepest), target=wish)
