"""What dark current, glow and offset of each camera come to in the planned exposures.

Sources: the warmest T with ``D·t ≤ 0.1 · read noise²``; bias mean − 6σ above 0 ADU (EMVA Standard 1288 R4; Janesick,
*Photon Transfer*).
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.evidence.sensor.dark_scaling import dark_current_at, has_dark_temperature
from wyntaxis.core.ledger import COVERAGE_FACTOR, Quantity, QuantityValue, Target, Verdict
from wyntaxis.core.limits import FLAT_RANGE_PERCENT, FLAT_WIDE_PERCENT, MAX_PILED, SETPOINT_SHARE, WANTED_SIGMA
from wyntaxis.core.quantities.cooling import Cooler, coolers
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized_each, rows, setting_target
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.plan import MeasuredValue
from wyntaxis.core.steps import SENSOR

LINEAR_WITHIN_PERCENT, LINEAR_FAILS_PERCENT = 1.0, 3.0
DARK_FAILS = 3.0
"""Dark current of this many times what is allowed governs the noise of the longest exposure."""

BIAS_MARGIN = DeviceQuantity("bias_margin_adu", "Bias above the lowest code", "ADU", 1, SENSOR)
DARK_SIGNAL = DeviceQuantity("dark_signal_e", "Dark signal, longest exposure", "e⁻", 2, SENSOR)
GLOW_SIGNAL = DeviceQuantity("glow_signal_e", "Glow, longest exposure", "e⁻", 2, SENSOR)


def cameras(numbers: Numbers) -> list[tuple[int, Device]]:
    """Return the cameras among the devices, with their places in the list.

    Returns
    -------
    list[tuple[int, Device]]
        Place and device.
    """
    return [(index, device) for index, device in enumerate(numbers.rig.devices) if device.kind in CAMERAS]


def longest_exposure_s(numbers: Numbers) -> float | None:
    """Return the longest exposure planned, in s.

    Returns
    -------
    float or None
        In s; None without a plan.
    """
    plan = numbers.rig.plan
    return (plan.longest_exposure_s or plan.exposure_s) if plan is not None else None


@dataclass(frozen=True)
class Offset:
    """The bias of a camera: its mean and noise in ADU, as measured, and the share of pixels at the lowest code."""

    index: int
    device: Device
    mean: MeasuredValue
    noise: MeasuredValue
    piled_share: float
    least_offset: float | None

    @property
    def margin_adu(self) -> float:
        """Mean − 6σ, in ADU."""

        return self.mean.value - WANTED_SIGMA * self.noise.value


@memoized_each
def offsets(numbers: Numbers) -> Iterator[Offset]:
    """Yield every camera whose bias has been measured.

    Yields
    ------
    Offset
        Bias in ADU.
    """
    for index, device in apart(cameras(numbers)):
        mean, noise = device.measured("bias_mean_adu"), device.measured("bias_noise_adu")
        if mean is None or noise is None or noise.value <= 0:
            continue
        piled, least = device.measured("pile_up_share"), device.measured("least_offset")
        yield Offset(index, device, mean, noise, piled.value if piled else 0.0, least.value if least else None)


@dataclass(frozen=True)
class DarkSignal:
    """What dark current adds to the longest exposure at a camera's set temperature, in e⁻, and what is allowed.

    ``warmest_c`` is the warmest temperature that suffices, where the dark current's law is known.
    """

    index: int
    device: Device
    set_c: float
    current_e_s: float
    exposure_s: float
    read_noise_e: float
    doubling_c: float | None
    cooler: Cooler | None
    is_placed: bool = True
    """Whether it is known at which temperature the current was."""

    @property
    def signal_e(self) -> float:
        """Current × exposure, in e⁻."""
        return self.current_e_s * self.exposure_s

    @property
    def allowed_e(self) -> float:
        """A tenth of the read noise's square, in e⁻."""

        return SETPOINT_SHARE * self.read_noise_e**2

    @property
    def warmest_c(self) -> float | None:
        """The warmest set temperature that suffices, in °C."""
        if not self.doubling_c:
            return None
        return self.set_c + self.doubling_c * math.log2(self.allowed_e / self.signal_e)


@memoized_each
def dark_signals(numbers: Numbers) -> Iterator[DarkSignal]:
    """Yield every camera whose dark current, read noise and set temperature are known, for the longest exposure.

    Yields
    ------
    DarkSignal
        Signals in e⁻.
    """
    longest, cooled = longest_exposure_s(numbers), {cooler.index: cooler for cooler in coolers(numbers)}
    for index, device in apart(cameras(numbers)):
        set_c, dark, noise = device.number("set_temperature_c"), dark_current_at(device), device.best("read_noise_e")
        if set_c is None or dark is None or noise is None or longest is None or dark <= 0:
            continue
        doubling = device.best("dark_doubling_c")
        placed = has_dark_temperature(device, set_c)
        yield DarkSignal(index, device, set_c, dark, longest, noise, doubling, cooled.get(index), placed)


def glow_allowed_e(read_noise_e: float) -> float:
    """Return the glow in e⁻ that drowns in the read noise: a tenth of its square.

    Parameters
    ----------
    read_noise_e
        The read noise in e⁻.

    Returns
    -------
    float
        In e⁻.
    """

    return SETPOINT_SHARE * read_noise_e**2


@rows
def camera_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield bias margin, dark signal and glow of every camera that tells them."""

    for offset in offsets(numbers):
        spread = math.hypot(offset.mean.standard_uncertainty, WANTED_SIGMA * offset.noise.standard_uncertainty)
        margin = QuantityValue(offset.margin_adu, spread, source=offset.mean.source or "")
        clear = Target(low=math.nextafter(0.0, 1.0))
        yield BIAS_MARGIN.row(
            offset.device.id,
            offset.device.title,
            measured=margin,
            target=clear,
            verdict=clear.judge(QuantityValue(margin.value)),
        )
    for dark in dark_signals(numbers):
        wish = Target(high=DARK_FAILS * dark.allowed_e, inner_high=dark.allowed_e)
        verdict = None if dark.is_placed else Verdict.UNPROVEN
        quantity_value = QuantityValue(dark.signal_e)
        yield DARK_SIGNAL.row(dark.device.id, dark.device.title, computed=quantity_value, target=wish, verdict=verdict)
    longest = longest_exposure_s(numbers)
    for _, device in apart(cameras(numbers)):
        glow, noise = device.measured("glow_e_s"), device.best("read_noise_e")
        if glow is None or noise is None or longest is None:
            continue
        signal = QuantityValue(glow.value * longest, glow.standard_uncertainty * longest, source=glow.source or "")
        wish = glow_target(signal, noise)
        # A glow that cannot be told from none holds, however wide its uncertainty.
        verdict = wish.judge(QuantityValue(signal.value))
        yield GLOW_SIGNAL.row(device.id, device.title, measured=signal, target=wish, verdict=verdict)


def glow_target(signal: QuantityValue, read_noise_e: float) -> Target:
    """Return what is wanted of a glow in e⁻: less than a tenth of the read noise's square, or not to be told from 0.

    Parameters
    ----------
    signal
        The glow in the longest exposure, in e⁻, with its standard uncertainty.
    read_noise_e
        The read noise in e⁻.

    Returns
    -------
    Target
        In e⁻.
    """
    allowed = max(glow_allowed_e(read_noise_e), COVERAGE_FACTOR * signal.uncertainty)
    return Target(high=max(read_noise_e**2, allowed), inner_high=allowed)


@setting_target("pile_up_share")
def _few_piled(numbers: Numbers, device: Device) -> Target:

    return Target(high=math.nextafter(MAX_PILED, 0.0))


@setting_target("flat_level_percent")
def _flat_level(numbers: Numbers, device: Device) -> Target:
    return Target(*FLAT_WIDE_PERCENT, *FLAT_RANGE_PERCENT)


@setting_target("linearity_percent")
def _linear(numbers: Numbers, device: Device) -> Target:
    allowed = linearity_allowed_percent(device)
    return Target(high=max(LINEAR_FAILS_PERCENT, allowed), inner_high=allowed)


def linearity_allowed_percent(device: Device) -> float:
    """Return the largest deviation from a straight line that is allowed, in %: as the maker states it, else 1 %.

    Returns
    -------
    float
        In %.
    """
    stated = device.number("linearity_percent")
    return LINEAR_WITHIN_PERCENT if stated is None else stated
