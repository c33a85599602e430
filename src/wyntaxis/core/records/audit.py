"""Frame headers against the rig: focal length, pixel, gain, offset, temperature and the rest, frame by frame."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import untracked
from wyntaxis.core.records.compare import compare_value
from wyntaxis.core.records.quantities import Comparable, Value, comparables
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.wording import short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.headers.folder import FolderHeaders
    from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
    from wyntaxis.core.evidence.headers.names import FilterNames
    from wyntaxis.core.evidence.headers.partners import FrameGroup, MissingCalibration

EXPOSURE_OFF_SHARE = 0.002
"""An actual exposure that is this much off the asked one is told."""


@dataclass(frozen=True)
class Check:
    """One value that frames have of one quantity, against the rig's, and how many frames have it."""

    quantity: str
    keyword: str
    label: str
    unit: str
    value: Value
    rig: Value
    verdict: Verdict
    by: str
    story: str
    count: int
    example: str


@dataclass(frozen=True)
class ExposureOff:
    """Frames whose actual exposure is not the asked one, in s."""

    asked_s: float
    actual_s: float
    count: int


@dataclass(frozen=True)
class HeaderAudit:
    """The whole audit of one folder."""

    folder: str
    count: int
    groups: tuple[FrameGroup, ...]
    checks: tuple[Check, ...]
    missing: tuple[MissingCalibration, ...]
    exposures: tuple[ExposureOff, ...]
    broken: tuple[UnusedFile, ...]
    frames: tuple[FrameHeader, ...]
    skipped: str = ""
    """What was passed over, in a sentence."""
    by_frame: Mapping[str, tuple[Check, ...]] = field(default_factory=dict)
    """By path: the checks that a frame does not pass."""

    def verdict_of(self, frame: FrameHeader) -> tuple[Verdict, str]:
        """Return how one frame stands, and why in a line: its header against the rig, and its missing partners."""
        off = self.by_frame.get(frame.path, ())
        verdicts = [check.verdict for check in off]
        why = [f"{c.keyword} {_plain_text(c.value)}, rig {_plain_text(c.rig)}" for c in off]
        for lack in self._lacks.get(frame.path, ()):
            verdicts.append(lack.verdict)
            why.append(f"no matching {lack.kind}")
        return (worst(verdicts) if verdicts else Verdict.HOLDS), "; ".join(why)

    @cached_property
    def _lacks(self) -> dict[str, list[MissingCalibration]]:
        lacks: dict[str, list[MissingCalibration]] = {}
        for lack in self.missing:
            for frame in lack.lights.frames:
                lacks.setdefault(frame.path, []).append(lack)
        return lacks

    def as_json(self) -> dict[str, object]:
        """Return the audit as ``wyntaxis headers --json`` prints it."""
        return {
            "folder": self.folder,
            "frames": self.count,
            "skipped": self.skipped or None,
            "broken": [{"file": entry.path, "why": entry.why} for entry in self.broken],
            "groups": [
                {
                    "title": group.title,
                    "kind": group.kind,
                    "count": group.count,
                    "camera": group.camera,
                    "filter": group.filter,
                    "exposure_s": group.exposure_s,
                    "gain": group.gain,
                    "offset": group.offset,
                    "temperature_c": group.temperature_c,
                    "binning": group.binning,
                    "width_px": group.size[0],
                    "height_px": group.size[1],
                    "rotation_deg": group.rotation_deg,
                }
                for group in self.groups
            ],
            "checks": [
                {
                    "quantity": check.quantity,
                    "keyword": check.keyword,
                    "unit": check.unit,
                    "value": check.value,
                    "rig": list(check.rig) if isinstance(check.rig, tuple) else check.rig,
                    "verdict": str(check.verdict),
                    "by": check.by or None,
                    "story": check.story or None,
                    "count": check.count,
                    "example": check.example,
                }
                for check in self.checks
            ],
            "exposures_off": [
                {"asked_s": exposure.asked_s, "actual_s": exposure.actual_s, "count": exposure.count}
                for exposure in self.exposures
            ],
            "lacking": [
                {
                    "lights": lack.lights.title,
                    "count": lack.lights.count,
                    "lacks": lack.kind,
                    "reason": lack.reason,
                    "files": [frame.path for frame in lack.lights.frames],
                }
                for lack in self.missing
            ],
        }

    def as_csv(self) -> str:
        """Return every frame as CSV, one line each, with what its group lacks."""
        from wyntaxis.core.evidence.headers.headers import FrameHeader

        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        names = [column.name for column in fields(FrameHeader)]
        writer.writerow([*names, "lacks", "verdict", "why"])
        for frame in self.frames:
            values = ["" if v is None else v for v in (getattr(frame, name) for name in names)]
            verdict, why = self.verdict_of(frame)
            writer.writerow(
                [*values, " ".join(lack.kind for lack in self._lacks.get(frame.path, ())), str(verdict), why]
            )
        blank = [""] * (len(names) - 2)
        for entry in self.broken:
            writer.writerow([entry.path, "broken", *blank, "", str(Verdict.FAILS), entry.why])
        return text.getvalue()


def _plain_text(value: Value) -> str:
    return ", ".join(value) if isinstance(value, tuple) else short(value) if isinstance(value, float) else str(value)


def audit(numbers: Numbers, headers: FolderHeaders) -> HeaderAudit:
    """Compare the headers of a folder with a rig."""
    from wyntaxis.core.evidence.headers.partners import group_frames, missing_calibration

    groups = group_frames(headers.frames, headers.names)
    entries: dict[str, list[Check]] = {}
    checks = tuple(_checks(numbers, headers.frames, headers.names, entries))
    return HeaderAudit(
        headers.folder,
        len(headers.frames),
        tuple(groups),
        checks,
        tuple(missing_calibration(groups, headers.names)),
        tuple(_exposures(numbers, headers.frames)),
        headers.broken,
        headers.frames,
        headers.skipped,
        {path: tuple(found) for path, found in entries.items()},
    )


def audit_of(numbers: Numbers) -> HeaderAudit | None:
    """Return the audit of the headers that were read, None where none were.

    Of the same headers it is made anew only when something of the rig that they tell has changed.
    """
    headers, memo = numbers.evidence.of(HEADERS), numbers.evidence.memo
    if headers is None:
        return None
    devices = [(d.id, d.kind, d.title) for d in numbers.rig.devices]
    key = (id(headers), dict(comparables(numbers)), untracked(numbers.rig.plan), devices)
    known: tuple[object, HeaderAudit] | None = memo.get("audit")
    if known is None or known[0] != key:
        known = memo["audit"] = (key, audit(numbers, headers))
    return known[1]


def _exposures(numbers: Numbers, frames: tuple[FrameHeader, ...]) -> Iterator[ExposureOff]:
    planned = numbers.rig.plan.exposure_s if numbers.rig.plan else None
    counted: Counter[tuple[float, float]] = Counter()
    for frame in frames:
        asked, actual = frame.asked_s, frame.exposure_s
        if asked is None and planned is not None and frame.kind == "light":
            asked = planned
        if asked and actual is not None and EXPOSURE_OFF_SHARE < abs(actual / asked - 1) < 0.05:
            counted[asked, actual] += 1
    for (asked, actual), count in counted.most_common(20):
        yield ExposureOff(asked, actual, count)


def _camera(numbers: Numbers, frame: FrameHeader) -> Device | None:
    """Return the camera device that took a frame: by its name, else the main camera."""
    from wyntaxis.core.evidence.headers.names import same_device_name

    cameras = [device for device in numbers.rig.devices if device.kind in ("camera", "guide_camera")]
    named = [device for device in cameras if frame.camera and same_device_name(frame.camera, device.title)]
    return next(iter(named or cameras), None)


_OTHER_NAMES = {
    "observer": "that is another observer",
    "telescope.name": "that is another telescope",
    "site.name": "that is another site",
}
_SIMPLE: tuple[tuple[str, str, str, Callable[[FrameHeader], float | None]], ...] = (
    ("effective_focal_length_mm", "FOCALLEN", "light flat", lambda frame: frame.focal_length_mm),
    ("pixel_scale_arcsec_px", "WCS", "light", lambda frame: frame.scale_arcsec_px),
    ("aperture_mm", "APTDIA", "light flat", lambda frame: frame.aperture_mm),
    ("site.latitude_deg", "SITELAT", "light", lambda frame: frame.latitude_deg),
    ("site.longitude_deg", "SITELONG", "light", lambda frame: frame.longitude_deg),
    ("site.elevation_m", "SITEELEV", "light", lambda frame: frame.elevation_m),
)
_BY_CAMERA: tuple[tuple[str, str, Callable[[FrameHeader], float | None]], ...] = (
    ("gain", "GAIN", lambda frame: frame.gain),
    ("offset", "OFFSET", lambda frame: frame.offset),
    ("set_temperature_c", "SET-TEMP", lambda frame: frame.set_temperature_c),
)


def _checks(
    numbers: Numbers, frames: tuple[FrameHeader, ...], names: FilterNames, entries: dict[str, list[Check]]
) -> Iterator[Check]:
    """Yield one check for every distinct value of every quantity, the most frequent first within its quantity.

    ``told`` gains by path the checks that a frame does not pass.
    """
    known = comparables(numbers)
    seen: dict[tuple[str, str, float | str, int], list[FrameHeader]] = {}
    for frame in frames:
        for key, keyword, value in _values(numbers, known, frame):
            binning = frame.binning or 1 if key == "pixel_um" else 1
            seen.setdefault((key, keyword, value, binning), []).append(frame)
    order = {key: index for index, key in enumerate(known)}
    for (key, keyword, value, _), members in sorted(
        seen.items(), key=lambda entry: (order.get(entry[0][0], len(order)), -len(entry[1]), str(entry[0][2]))
    ):
        check = _check(numbers, known[key], keyword, value, members, names)
        if check.verdict is not Verdict.HOLDS:
            for frame in members:
                entries.setdefault(frame.path, []).append(check)
        yield check


def _values(
    numbers: Numbers, known: Mapping[str, Comparable], frame: FrameHeader
) -> Iterator[tuple[str, str, float | str]]:
    for key, keyword, kinds, read in _SIMPLE:
        value = read(frame)
        if value is not None and frame.kind in kinds.split() and known.get(key) and known[key].value is not None:
            binning = frame.binning or 1
            if key == "pixel_scale_arcsec_px" and numbers.rig.sensor is not None:
                value *= numbers.rig.sensor.binning / binning  # told for the binning in use
            yield key, keyword, float(f"{value:.6g}")
    for key, keyword, name in (
        ("telescope.name", "TELESCOP", frame.telescope),
        ("observer", "OBSERVER", frame.observer),
        ("site.name", "SITENAME", frame.site),
    ):
        if name is not None and frame.kind in ("light", "flat") and known[key].value is not None:
            yield key, keyword, name
    yield from _values_of_devices(numbers, known, frame)


def _values_of_devices(
    numbers: Numbers, known: Mapping[str, Comparable], frame: FrameHeader
) -> Iterator[tuple[str, str, float | str]]:
    device = _camera(numbers, frame)
    main = device is None or device.kind == "camera"
    if frame.pixel_um is not None and main and known["pixel_um"].value is not None:
        binning = frame.binning or 1
        yield "pixel_um", f"XPIXSZ at binning {binning}", float(f"{frame.pixel_um:.6g}")
    if device is not None:
        if frame.camera is not None and device.name is not None:
            yield f"{device.id}.name", "INSTRUME", frame.camera
        for key, keyword, read in _BY_CAMERA:
            value = read(frame)
            if value is not None and known[f"{device.id}.{key}"].value is not None:
                yield f"{device.id}.{key}", keyword, value
    for wheel in numbers.rig.devices:
        key = f"{wheel.id}.slots"
        if wheel.kind == "filter_wheel" and main and frame.filter and frame.kind in ("light", "flat"):
            if known[key].value:
                yield key, "FILTER", frame.filter
            break


def _check(
    numbers: Numbers,
    item: Comparable,
    keyword: str,
    value: float | str,
    members: list[FrameHeader],
    names: FilterNames,
) -> Check:
    from wyntaxis.core.evidence.headers.names import same_device_name

    wanted = item.value
    assert wanted is not None
    verdict, by, story = Verdict.HOLDS, "", ""
    if isinstance(wanted, tuple):
        if value not in wanted:
            near = next((name for name in wanted if names.same(name, str(value))), None)
            verdict = Verdict.HOLDS if near else Verdict.FAILS
            story = f"the wheel writes it {near}" if near else "no slot of the wheel has this filter"
    elif item.id == "observer" or item.id.endswith(".name"):
        if not same_device_name(str(value), str(wanted)):
            what = {"observer": "observer", "telescope.name": "telescope", "site.name": "site"}.get(item.id, "camera")
            verdict, story = (
                Verdict.FAILS,
                f"that is another {what}" if what != "camera" else "no camera of the rig has this name",
            )
    else:
        cell = compare_value(numbers.rig, item, "", value)
        if cell.state == "differs":
            verdict, by, story = Verdict.FAILS, cell.by, cell.story
        binning = members[0].binning or 1
        if item.id == "pixel_um" and verdict is Verdict.FAILS and isinstance(wanted, float | int) and binning > 1:
            binned = wanted * binning
            if abs(float(value) - binned) <= item.tolerance * binning:
                verdict, story = Verdict.TIGHT, f"XPIXSZ is the binned size, {short(wanted)} µm × {binning}"
    return Check(
        item.id, keyword, item.label, item.unit, value, wanted, verdict, by, story, len(members), members[0].path
    )
