"""What a measurement yields: a value with its standard uncertainty, and how the rig keeps it."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.json_values import JsonObject
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


@dataclass(frozen=True)
class Origin:
    """What a measured value rests on: a few words, the file without its folders, and a note."""

    source: str
    file: str = ""
    note: str = ""


def measured_value(estimate: Estimate, method: str, origin: Origin) -> JsonObject:
    """Return an estimate as the rig file holds a measured value: rounded, with source, method and date.

    Parameters
    ----------
    estimate : Estimate
        In the unit of the quantity or setting.
    method : str
        How it was measured.
    origin : Origin
        What it rests on.

    Returns
    -------
    dict
        The value to six significant digits, its standard uncertainty to three.
    """
    evidence = {"method": method, "file": origin.file[:200], "date": utc_stamp(), "note": origin.note[:200]}
    return {
        "value": float(f"{estimate.value:.6g}"),
        "standard_uncertainty": float(f"{estimate.standard:.3g}"),
        "source": origin.source[:200],
        "evidence": {key: text for key, text in evidence.items() if text},
    }
