"""What was looked at or measured outside the rig file, by kind: each kind reads, measures, and may be kept in the rig.

A kind is one folder of this package, whose module ``kind`` declares it; its module ``report`` declares its tables and
its JSON. Commands, sheets and files are made from these two.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Generic, TypeVar, cast

from wyntaxis.core.evidence.measured import Estimate, Origin, camera_index, device_index, measured_value
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig

R = TypeVar("R")
Value = tuple[DocumentPath, Any]
"""A path of the rig file and what stands there."""


@dataclass(frozen=True)
class Holder:
    """The device that holds what a kind measures: where it is among the devices, and what is said without one."""

    place: Callable[[Rig], int | None]
    missing: str


def _add(device: str) -> str:
    return f"the rig has no {device} among its devices: add one on the Devices sheet"


MAIN_CAMERA = Holder(camera_index, _add("camera"))
FOCUSER = Holder(partial(device_index, kind="focuser"), _add("focuser"))
FILTER_WHEEL = Holder(partial(device_index, kind="filter_wheel"), _add("filter wheel"))


@dataclass(frozen=True)
class Keeping(Generic[R]):
    """How what was measured is kept in the rig, as one edit.

    ``origin`` says by a number's key what it rests on; ``more`` gives what is written besides the measured values;
    ``nothing`` is said where there is nothing to keep.
    """

    label: str
    method: str
    origin: Callable[[R, str], Origin]
    nothing: str
    more: Callable[[Rig, R], Iterable[Value]] = lambda _rig, _result: ()


@dataclass(frozen=True)
class EvidenceKind(Generic[R]):
    """One kind of evidence.

    ``read`` makes a result of paths, with progress and cancel, and fails with one line. ``numbers`` gives what a result
    measures of a rig: by setting key where a device holds it, else by quantity id; it raises ValueError with the reason
    where a result says nothing of this rig. ``keeping`` is None for a kind that is read again each time.
    """

    key: str
    read: Callable[..., R]
    numbers: Callable[[Rig, R], Mapping[str, Estimate]]
    keeping: Keeping[R] | None = None
    holder: Holder | None = None

    def measures(self, rig: Rig, result: R) -> dict[str, Estimate]:
        """Return the measured values by quantity id, or by ``device.setting``; empty where the rig has no such device.

        Parameters
        ----------
        rig : Rig
            What was measured.
        result
            As ``read`` returned it.

        Returns
        -------
        dict of Estimate
            Each in the unit of its quantity or setting.
        """
        place = self.holder.place(rig) if self.holder is not None else None
        if self.holder is not None and place is None:
            return {}
        try:
            found = self.numbers(rig, result)
        except ValueError:
            return {}
        return {key if place is None else f"{rig.devices[place].id}.{key}": value for key, value in found.items()}

    def keep(self, rig: Rig, result: R) -> Change:
        """Return the edit that writes what was measured into the rig, each value with what it rests on.

        Raises
        ------
        ValueError
            In one line, without the device that holds it, where nothing was measured, or for a kind that is not kept.
        """
        keeping = self.keeping
        if keeping is None:
            raise ValueError("this is read again each time, so there is nothing to keep")
        place = self.holder.place(rig) if self.holder is not None else None
        if self.holder is not None and place is None:
            raise ValueError(self.holder.missing)
        values: list[Value] = []
        for key, estimate in self.numbers(rig, result).items():
            path: DocumentPath = ("measured", key)
            if place is not None:
                path = ("devices", place, "settings", key, "measured")
            values.append((path, measured_value(estimate, keeping.method, keeping.origin(result, key))))
        values += keeping.more(rig, result)
        if not values:
            raise ValueError(keeping.nothing)
        return Change(keeping.label, tuple(values))


@dataclass(frozen=True)
class Evidence:
    """What is held of each kind. ``memo`` keeps what was computed of it between edits that do not touch it."""

    held: Mapping[str, Any] = field(default_factory=dict)
    memo: JsonObject = field(default_factory=dict, compare=False, repr=False)

    def of(self, kind: EvidenceKind[R]) -> R | None:
        """Return what is held of a kind, None where nothing is."""
        return cast("R | None", self.held.get(kind.key))

    def having(self, kind: EvidenceKind[R], result: R | None) -> Evidence:
        """Return the evidence with another result of one kind, or without any."""
        rest = {key: held for key, held in self.held.items() if key != kind.key}
        return Evidence(rest if result is None else rest | {kind.key: result}, self.memo)
