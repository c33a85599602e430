"""Power: what flows from each supply while devices rest and work, and when a battery is empty.

Wiring, findings, plan and rehearsal count by this one model. A device draws its amperes at the voltage of the supply
that it hangs on. A converter, a supply of another voltage than the one that feeds it, takes the same watts from that
one; what has nearly the same voltage is taken as passed through, and takes the same amperes.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from math import fsum

from wyntaxis.core.limits import USABLE_SHARE
from wyntaxis.core.rig.devices import Device, Supply
from wyntaxis.core.rig.model import Rig

HOUR_S = 3600.0
CONVERTER_RATIO = 1.2
"""A supply whose voltage differs from the feeding one's by more than this factor converts it; 13.8 V on a box of 12 V
is passed through."""


@dataclass(frozen=True)
class SupplyLoad:
    """A supply, and by device id what hangs on it: in A as a rule and at the most, at this supply's own voltage."""

    supply: Supply
    draws: dict[str, tuple[float, float]] = field(repr=False)
    stays_on: frozenset[str] = frozenset()
    """Devices that outlets do not switch."""

    def amperes(self, working: frozenset[str], *, powered: bool) -> float:
        """Return what flows while some devices work, in A."""
        return fsum(
            peak if device in working else usual
            for device, (usual, peak) in self.draws.items()
            if powered or device in self.stays_on
        )


@dataclass
class SupplyUse:
    """What was drawn from a supply in a night: Ah so far, the highest current in A and when in s."""

    load: SupplyLoad
    drawn_ah: float = 0.0
    peak_a: float = 0.0
    peak_s: float = 0.0
    over_text: bool = False

    @property
    def title(self) -> str:
        """The supply's name."""
        return self.load.supply.title

    @property
    def capacity_ah(self) -> float | None:
        """What it holds; None for one that is no battery, or does not say."""
        return self.load.supply.capacity_ah if self.load.supply.kind == "battery" else None

    @property
    def usable_ah(self) -> float | None:
        """What may be drawn of it without harm."""
        share = self.load.supply.usable_share or USABLE_SHARE
        return None if self.capacity_ah is None else self.capacity_ah * share

    @property
    def buffers(self) -> bool:
        """Whether it is a battery that another supply keeps full: it gives only while that one does not."""
        return self.load.supply.kind == "battery" and self.load.supply.fed_by is not None

    def until_drawn(self, charge_ah: float, amperes: float) -> float:
        """Return how long a current takes until so many Ah are drawn, in s; without end where nothing flows."""
        return HOUR_S * max(charge_ah - self.drawn_ah, 0.0) / amperes if amperes > 0 else math.inf


def currents_of(device: Device) -> tuple[float, float] | None:
    """Return what a device draws as a rule and at the most, in A; one stands for the other, None without either."""
    power = device.power
    usual, peak = (power.current_a, power.peak_a) if power is not None else (None, None)
    if usual is None and peak is None:
        return None
    usual = (peak or 0.0) if usual is None else usual
    return usual, usual if peak is None else peak


def is_converter(supply: Supply, above: Supply | None) -> bool:
    """Return whether a supply converts the voltage of the one that feeds it, and so keeps its own.

    Parameters
    ----------
    supply, above
        The supply, and the one that feeds it; None where nothing does.

    Returns
    -------
    bool
        False where one of the voltages is not stated.
    """
    if above is None or supply.voltage_v is None or above.voltage_v is None:
        return False
    ratio = supply.voltage_v / above.voltage_v
    return max(ratio, 1 / ratio) > CONVERTER_RATIO


def taken_from_above(supply: Supply, above: Supply) -> float:
    """Return how many amperes a supply takes from the one that feeds it, for each that it gives.

    Parameters
    ----------
    supply, above
        The supply, and the one that feeds it.

    Returns
    -------
    float
        ``V / (V_above · efficiency)`` for a converter, 1 where the current is passed through. An efficiency that is not
        stated is counted as 1.
    """
    if not is_converter(supply, above) or supply.voltage_v is None or above.voltage_v is None:
        return 1.0
    return supply.voltage_v / above.voltage_v / (supply.efficiency or 1.0)


def without_mains(rig: Rig) -> tuple[Device, ...]:
    """Return the devices that stand still without the mains: no battery lies between these and them.

    One whose supply is not stated is taken to hang on the mains.
    """
    supplies = {supply.id: supply for supply in rig.supplies}
    found = []
    for device in rig.devices:
        at = supplies.get(device.power.supply or "") if device.power is not None else None
        seen: set[str] = set()
        while at is not None and at.kind != "battery" and at.id not in seen:
            seen.add(at.id)
            at = supplies.get(at.fed_by or "")
        if at is None or at.kind != "battery":
            found.append(device)
    return tuple(found)


def loads_of(rig: Rig) -> tuple[SupplyLoad, ...]:
    """Return every supply with what hangs on it, also by supplies that it feeds.

    Parameters
    ----------
    rig
        The rig; a device that states no current counts as drawing none.

    Returns
    -------
    tuple of SupplyLoad
        Currents in A; of a supply of another voltage as much as the same power takes.
    """
    supplies = {supply.id: supply for supply in rig.supplies}
    draws: dict[str, dict[str, tuple[float, float]]] = {supply.id: {} for supply in rig.supplies}
    stays: set[str] = set()
    for device in rig.devices:
        currents = currents_of(device)
        at = supplies.get(device.power.supply or "") if device.power is not None else None
        if at is None or currents is None:
            continue
        usual, peak = currents
        if device.kind == "computer" or at.kind != "power_box":
            stays.add(device.id)
        factor = 1.0
        while True:
            draws[at.id][device.id] = (usual * factor, peak * factor)
            above = supplies.get(at.fed_by or "")
            if above is None:
                break
            factor *= taken_from_above(at, above)
            at = above
    return tuple(SupplyLoad(supply, draws[supply.id], frozenset(stays)) for supply in rig.supplies if draws[supply.id])
