"""Groups of like frames, and which light frames lack the darks, flats or bias that go with them."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from wyntaxis.core.evidence.headers.headers import FrameHeader, FrameKind
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames, same_device_name
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.wording import number, short

EXPOSURE_SHARE = 0.02
"""Darks go with lights whose actual exposure is this close: dark current is then off by no more."""
TEMPERATURE_WITHIN_C = 1.0
"""How far the middle of a cooled camera's lights may be from that of their darks; regulation scatters by less."""
MEASURED_WITHIN_C = 2.0
"""A dark serves a light when the sensor was this close: dark current is then off by a quarter at most."""
ROTATION_WITHIN_DEG = 2.0
TURN_BINS = round(360 / ROTATION_WITHIN_DEG)

_NAMES = {"dark": "darks", "flat": "flats", "bias": "bias frames"}
_WANTED: dict[FrameKind, tuple[str, ...]] = {
    "dark": ("camera", "size", "binning", "exposure", "gain", "offset", "temperature"),
    "flat": ("camera", "size", "binning", "filter", "rotation"),
    "bias": ("camera", "size", "binning", "gain", "offset"),
}


@dataclass(frozen=True)
class FrameGroup:
    """Frames alike in all that matters for calibration.

    ``temperature_c`` is the set one, or else the middle of the actual ones; ``measured_c`` are the actual ones, in
    order, and ``is_cooled`` says whether a temperature was set.
    """

    kind: FrameKind
    camera: str | None
    size: tuple[int | None, int | None]
    binning: int | None
    filter: str | None
    exposure_s: float | None
    gain: float | None
    offset: float | None
    temperature_c: float | None
    rotation_deg: float | None
    frames: tuple[FrameHeader, ...]
    measured_c: tuple[float, ...] = ()
    is_cooled: bool = False

    @property
    def count(self) -> int:
        return len(self.frames)

    @property
    def middle_c(self) -> float:
        """The middle of the actual temperatures, in °C; there must be some."""
        return statistics.median(self.measured_c)

    @property
    def title(self) -> str:
        """The group in a few words: ``light, L, 240 s, gain 125, −8 °C``."""
        parts = [str(self.kind)]
        if self.filter and self.kind in ("light", "flat"):
            parts.append(self.filter)
        if self.exposure_s is not None and self.kind != "bias":
            parts.append(f"{short(self.exposure_s, 2)} s")
        if self.gain is not None:
            parts.append(f"gain {short(self.gain)}")
        if self.offset is not None:
            parts.append(f"offset {short(self.offset)}")
        if self.temperature_c is not None:
            parts.append(f"{number(self.temperature_c, 0)} °C")
        if self.is_cooled and self.measured_c and abs(self.middle_c - (self.temperature_c or 0.0)) > MEASURED_WITHIN_C:
            parts.append(f"sensor at {number(self.middle_c, 0)} °C")
        if self.binning not in (None, 1):
            parts.append(f"bin {self.binning}")
        return ", ".join(parts)


@dataclass(frozen=True)
class MissingCalibration:
    """A group of lights without a partner, the nearest that there is, and why that does not go with them."""

    lights: FrameGroup
    kind: FrameKind
    reason: str

    @property
    def verdict(self) -> Verdict:
        """How grave it is: bias frames can be taken later, of the same camera at the same setting."""
        return Verdict.TIGHT if self.kind == "bias" else Verdict.FAILS


def temperature_of(frame: FrameHeader) -> float | None:
    """Return the temperature that a frame is sorted by: as set, or as it was where no setpoint is told.

    Parameters
    ----------
    frame
        A frame's header.

    Returns
    -------
    float or None
        In °C.
    """
    return frame.set_temperature_c if frame.set_temperature_c is not None else frame.temperature_c


def group_frames(frames: Iterable[FrameHeader], names: FilterNames = DEFAULT_FILTER_NAMES) -> list[FrameGroup]:
    """Return the frames in groups, lights first; the exposure of a group is its first frame's.

    Frames of a camera without a set temperature are kept together whatever the night did: they are matched by what the
    sensor had.

    Parameters
    ----------
    frames
        Headers of frames of all kinds.
    names
        Which filters' names are one.

    Returns
    -------
    list of FrameGroup
        Frames of one kind, camera, size, gain, offset, temperature, exposure and filter each.
    """
    found: dict[tuple[object, ...], list[FrameHeader]] = {}
    for frame in frames:
        temperature, rotation = frame.set_temperature_c, frame.rotation_deg
        exposure = None if frame.exposure_s is None else float(f"{frame.exposure_s:.2g}")
        key = (
            frame.kind,
            None if frame.camera is None else " ".join(frame.camera.casefold().split()),
            frame.width_px,
            frame.height_px,
            frame.binning,
            names.key(frame.filter) if frame.filter and frame.kind in ("light", "flat") else None,
            exposure,
            frame.gain,
            frame.offset,
            None if temperature is None else round(temperature),
            None
            if rotation is None
            else round(rotation % 360 / ROTATION_WITHIN_DEG) % round(360 / ROTATION_WITHIN_DEG),
        )
        found.setdefault(key, []).append(frame)
    groups = [_group(members) for members in found.values()]
    order = ("light", "flat", "dark", "bias", "other")
    return sorted(groups, key=lambda g: (order.index(g.kind), g.filter or "", g.exposure_s or 0.0, -g.count))


def _group(frames: list[FrameHeader]) -> FrameGroup:
    first = frames[0]
    measured = tuple(sorted(f.temperature_c for f in frames if f.temperature_c is not None))
    uncooled = first.set_temperature_c is None
    return FrameGroup(
        first.kind,
        first.camera,
        (first.width_px, first.height_px),
        first.binning,
        first.filter if first.kind in ("light", "flat") else None,
        first.exposure_s,
        first.gain,
        first.offset,
        statistics.median(measured) if uncooled and measured else first.set_temperature_c,
        first.rotation_deg,
        tuple(frames),
        measured,
        not uncooled,
    )


def missing_calibration(
    groups: Sequence[FrameGroup], names: FilterNames = DEFAULT_FILTER_NAMES
) -> list[MissingCalibration]:
    """Return every group of lights for which darks, flats or bias are missing, with the reason.

    Parameters
    ----------
    groups
        Frames in groups.
    names
        Which filters' names are one.

    Returns
    -------
    list of MissingCalibration
        What is missing for which lights, and what comes nearest.
    """
    found = []
    for lights in groups:
        if lights.kind != "light":
            continue
        for kind, keys in _WANTED.items():
            candidates = [group for group in groups if group.kind == kind]
            faults = [(_mismatches(lights, group, keys, names), group) for group in candidates]
            if any(not fault for fault, _ in faults):
                continue
            if not candidates:
                found.append(MissingCalibration(lights, kind, f"there are no {_NAMES[kind]} at all"))
                continue
            nearest, group = min(faults, key=lambda pair: len(pair[0]))
            found.append(
                MissingCalibration(
                    lights, kind, f"the nearest {_NAMES[kind]} ({group.count}) differ: {'; '.join(nearest)}"
                )
            )
    return found


def _far_from_any(lights: FrameGroup, group: FrameGroup) -> str:
    """Return in words how the sensor's temperatures of lights and darks differ; empty where the darks serve.

    What the sensor had decides where both tell it, whatever was set: a cooler that was off leaves the setting as it is.
    """
    there = group.measured_c or ((group.temperature_c,) if group.temperature_c is not None else ())
    if not there:
        return ""
    span = f"{number(there[0], 1)} to {number(there[-1], 1)} °C" if len(there) > 1 else f"{number(there[0], 1)} °C"
    if lights.is_cooled and group.is_cooled:
        middle = statistics.median(there)
        if abs(lights.middle_c - middle) > TEMPERATURE_WITHIN_C + 1e-9:
            return f"the sensor at {span}, not {number(lights.middle_c, 1)} °C"
    far = [t for t in lights.measured_c if min(abs(t - dark) for dark in there) > MEASURED_WITHIN_C + 1e-9]
    if not far:
        return ""
    return f"{span}, {len(far)} of {len(lights.measured_c)} lights are more than {short(MEASURED_WITHIN_C)} °C away"


def _tells(group: FrameGroup) -> bool:
    """Return whether the sensor's temperature can be believed: no cooler makes it much colder than it was set."""
    if not group.measured_c:
        return False
    return not group.is_cooled or group.middle_c >= (group.temperature_c or 0.0) - MEASURED_WITHIN_C


def _mismatches(lights: FrameGroup, group: FrameGroup, keys: tuple[str, ...], names: FilterNames) -> list[str]:
    """Return how a group does not go with lights; what either side does not tell is no mismatch."""
    tests = {
        "camera": (lights.camera, group.camera, 0.0, "camera {}, not {}"),
        "binning": (lights.binning, group.binning, 0.0, "binning {}, not {}"),
        "filter": (lights.filter, group.filter, 0.0, "filter {}, not {}"),
        "exposure": (lights.exposure_s, group.exposure_s, EXPOSURE_SHARE * (lights.exposure_s or 0), "{} s, not {} s"),
        "gain": (lights.gain, group.gain, 0.0, "gain {}, not {}"),
        "offset": (lights.offset, group.offset, 0.0, "offset {}, not {}"),
        "temperature": (lights.temperature_c, group.temperature_c, TEMPERATURE_WITHIN_C, "{} °C, not {} °C"),
        "rotation": (lights.rotation_deg, group.rotation_deg, ROTATION_WITHIN_DEG, "rotated to {}°, not {}°"),
    }
    found = []
    for key in keys:
        if key == "size":
            if None not in lights.size and None not in group.size and lights.size != group.size:
                found.append(f"{group.size[0]} × {group.size[1]} px, not {lights.size[0]} × {lights.size[1]}")
            continue
        if key == "temperature" and lights.measured_c and ((_tells(group) and _tells(lights)) or not lights.is_cooled):
            far = _far_from_any(lights, group)
            found += [far] if far else []
            continue
        wanted, has, within, words = tests[key]
        if wanted is None or has is None or wanted == has:
            continue
        if isinstance(wanted, str) or isinstance(has, str):
            same = names.same if key == "filter" else same_device_name
            if not same(str(wanted), str(has)):
                found.append(words.format(has, wanted))
            continue
        apart = abs(has - wanted)
        if key == "rotation":
            apart = min(apart % 360, 360 - apart % 360)
        if apart > within + 1e-9:
            found.append(words.format(short(has, 2), short(wanted, 2)))
    return found
