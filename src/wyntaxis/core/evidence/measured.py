"""What a measurement yields: a value with its standard uncertainty, and how the rig keeps it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import utc_stamp

DEFAULT_SETPOINT_C = -10.0
"""Where dark current is told when the rig states no set temperature."""


@dataclass(frozen=True)
class Estimate:
    """A measured value and its standard uncertainty."""

    value: float
    standard: float = 0.0

    def times(self, factor: float) -> Estimate:
        return Estimate(self.value * factor, self.standard * abs(factor))


def estimate_json(estimate: Estimate | None) -> dict[str, float] | None:
    """Return an estimate as JSON holds it; None for none.

    Parameters
    ----------
    estimate
        A measured value with its standard uncertainty.

    Returns
    -------
    dict[str, float] or None
        Value and standard uncertainty, in the unit of the estimate.
    """
    return None if estimate is None else {"value": estimate.value, "standard_uncertainty": estimate.standard}


def figure(estimate: Estimate | None, factor: float = 1.0) -> dict[str, float] | None:
    """Return a measured figure as the commands on evidence print it: value and standard uncertainty; None for none.

    Parameters
    ----------
    estimate, factor
        The figure, and what it is multiplied by.

    Returns
    -------
    dict or None
        In the figure's unit.
    """
    return None if estimate is None else {"value": estimate.value * factor, "u": estimate.standard * factor}


def device_index(rig: Rig, kind: str) -> int | None:
    """Return the place of the first device of a kind among the rig's devices; None without one."""
    return next((place for place, device in enumerate(rig.devices) if device.kind == kind), None)


def camera_index(rig: Rig, device_id: str | None = None) -> int | None:
    """Return the place of a camera among the devices: of that id, else of the main camera; None without one.

    Parameters
    ----------
    rig
        The rig.
    device_id
        Which camera, by id; the main one by default.

    Returns
    -------
    int or None
        Its place; None without one.
    """
    cameras = [(i, device) for i, device in enumerate(rig.devices) if device.kind in CAMERAS]
    if device_id is not None:
        return next((i for i, device in cameras if device.id == device_id), None)
    return next((i for i, device in cameras if device.kind == "camera"), cameras[0][0] if cameras else None)


def measured_values(
    index: int, values: dict[str, Estimate], method: str, source: str, file: str | None, note: str
) -> Iterator[tuple[DocumentPath, Any]]:
    """Yield, as edits of a rig, the measured values of a device that estimates by setting key make.

    Parameters
    ----------
    index
        Its place among the devices.
    values
        The values of the rig.
    method
        How it was measured.
    source
        What the values name as their source.
    file
        The file it rests on, without folders.
    note
        What is to be said besides.

    Yields
    ------
    tuple[DocumentPath, Any]
        Path and value of each value.
    """
    evidence = (
        {"method": method, "date": utc_stamp()} | ({"file": file} if file else {}) | ({"note": note} if note else {})
    )
    for key, estimate in values.items():
        yield (
            ("devices", index, "settings", key, "measured"),
            {
                "value": float(f"{estimate.value:.6g}"),
                "standard_uncertainty": float(f"{estimate.standard:.3g}"),
                "source": source,
                "evidence": evidence,
            },
        )
