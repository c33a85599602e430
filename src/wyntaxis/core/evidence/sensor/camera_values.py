"""What bench frames say of the rig's camera: its measured numbers at its own gain and offset."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.measured import DEFAULT_SETPOINT_C, Estimate
from wyntaxis.core.evidence.sensor.bench_result import BenchResult, FlatLevel
from wyntaxis.core.rig.devices import Device

FLAT_MIDDLE_PERCENT = 45.0


def sensor_values(device: Device, result: BenchResult) -> dict[str, Estimate]:
    """Return the measured numbers of a camera at its own gain and offset, by setting key.

    Parameters
    ----------
    device, result
        The camera, and what its bench gave.

    Returns
    -------
    dict
        By setting key an estimate, in the setting's own unit.

    Raises
    ------
    ValueError
        When no frames were taken at the gain that the rig states.
    """
    gain, offset = device.number("gain"), device.number("offset")
    found, bias = result.gain_at(gain), result.bias_at((gain, offset))
    if gain is not None and found is None and bias is None:
        measured = ", ".join(f"{entry.gain:g}" for entry in result.gains if entry.gain is not None) or "none"
        raise ValueError(f"no frames at the camera's gain {gain:g}; measured: {measured}")
    return dict(_values(device, result))


def _values(device: Device, result: BenchResult) -> Iterator[tuple[str, Estimate]]:
    gain, offset = device.number("gain"), device.number("offset")
    found, bias = result.gain_at(gain), result.bias_at((gain, offset))
    if found is not None:
        transfer = found.transfer
        yield "conversion_gain_e_adu", transfer.conversion_gain
        for key, estimate in (
            ("read_noise_e", transfer.read_noise),
            ("full_well_e", transfer.full_well),
            ("dynamic_range_stops", transfer.dynamic_range),
            ("linearity_percent", transfer.linearity_percent),
        ):
            if estimate is not None:
                yield key, estimate
    if result.unity is not None:
        yield "unity_gain", result.unity
    if bias is not None:
        noise = bias.level.noise_adu
        yield "bias_mean_adu", Estimate(bias.level.mean_adu, noise.value / bias.level.degrees**0.5)
        yield "bias_noise_adu", noise
        yield "pile_up_share", Estimate(bias.histogram.piled_share)
        line = result.offsets.get(bias.gain)
        if line is not None:
            yield "least_offset", Estimate(line.least_offset)
    if result.model is not None:
        setpoint = device.number("set_temperature_c")
        at = DEFAULT_SETPOINT_C if setpoint is None else setpoint
        yield "dark_current_e_s", result.model.current(at)
        yield "dark_at_c", Estimate(at)
        yield "dark_doubling_c", result.model.doubling(at)
    if result.picture is not None:
        yield "hot_share_percent", result.picture.hot_share.times(100)
        yield "glow_e_s", result.picture.glow
    worst = worst_flats(result)
    if worst is not None:
        yield "flat_level_percent", Estimate(worst.level_percent)


def worst_flats(result: BenchResult) -> FlatLevel | None:
    """Return, of the best set of flats of each filter, the one that is farthest from the middle of the range.

    Parameters
    ----------
    result
        What the bench gave.

    Returns
    -------
    FlatLevel or None
        Its level in % of saturation; None without flats.
    """

    def off(flat: FlatLevel) -> float:
        return abs(flat.level_percent - FLAT_MIDDLE_PERCENT)

    best: dict[str, FlatLevel] = {}
    for flat in result.flats:
        if flat.filter not in best or off(flat) < off(best[flat.filter]):
            best[flat.filter] = flat
    return max(best.values(), key=off, default=None)
