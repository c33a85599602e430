"""Flats read and put together: binned planes of light, by folder, filter, rotation, focal length and night."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.field.sweep import moment_of
from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.headers.names import FilterNames
from wyntaxis.core.evidence.sensor.flats import converter_end
from wyntaxis.core.evidence.sensor.strips import HIGHEST_CODE, OpenFrame, open_frame
from wyntaxis.core.evidence.stars.frame_stars import star_frames
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.wording import number

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Numbers

LONGEST_PLANE_PX = 1600
"""Planes are binned until their longer side is no more: dust and falloff are coarser than that."""
MIN_SIDE_PX = 32
MIN_LIT_ADU = 50.0
DEFAULT_BITS = 16
ROTATION_SLACK_DEG = 1.0
FOCAL_SLACK = 0.02
NO_FILTER = "no filter"


@dataclass(frozen=True)
class Flat:
    """One flat: its file, header, time, mean level and the converter's end in ADU, and its plane of light in ADU above
    the bias, binned by ``binned`` px.
    """

    file: str
    header: FrameHeader
    time: datetime.datetime | None
    level_adu: float
    end_adu: float
    plane: Numbers
    binned: int
    path: Path | None = None

    @property
    def filter(self) -> str:
        """Its filter's name."""
        return self.header.filter or NO_FILTER


@dataclass(frozen=True)
class FlatSet:
    """Flats of one folder, filter, rotation, focal length and night, in the order in which they were taken.

    ``visits`` are their places, parted where the wheel stood at another filter between. ``turn_known`` tells that the
    order of files tells it.
    """

    name: str
    filter: str
    flats: tuple[Flat, ...]
    visits: tuple[tuple[int, ...], ...]

    @property
    def binned(self) -> int:
        """By how many px the planes are binned."""
        return self.flats[0].binned

    @property
    def binning(self) -> int:
        """The binning that the frames were taken with."""
        return self.flats[0].header.binning or 1

    @property
    def size_px(self) -> tuple[int, int]:
        """Width and height of the frames in px."""
        header = self.flats[0].header
        return header.width_px or 0, header.height_px or 0

    @property
    def time(self) -> datetime.datetime | None:
        """When its first flat was taken."""
        return self.flats[0].time

    @property
    def rotation_deg(self) -> float | None:
        """The rotator's angle."""
        return self.flats[0].header.rotation_deg

    @property
    def focal_length_mm(self) -> float | None:
        """The focal length that the headers hold."""
        return self.flats[0].header.focal_length_mm

    @property
    def title(self) -> str:
        """What to call it: filter, and the folder where there is one."""
        return f"{self.filter}, {self.name}" if self.name else self.filter

    def mean(self, places: Sequence[int] | None = None) -> Any:
        """Return the mean of some flats' planes, each scaled to the same level; in levels of the first."""
        chosen = [self.flats[k] for k in (range(len(self.flats)) if places is None else places)]
        base = float(np.median(chosen[0].plane))
        total = np.zeros(chosen[0].plane.shape, np.float32)
        for flat in chosen:
            total += (flat.plane * np.float32(base / max(float(np.median(flat.plane)), 1e-6))).astype(np.float32)
        return total / np.float32(len(chosen))


def read_flats(
    paths: Sequence[Path], bias_adu: float = 0.0, bits: int | None = None,
    progress: Progress = lambda _done, _of: None,
) -> tuple[list[tuple[str, Flat]], list[UnusedFile]]:  # fmt: skip
    """Read flats, each as a binned plane of light.

    Parameters
    ----------
    paths
        Folders and FITS files; lights, darks and bias are left out.
    bias_adu
        What the camera gives without light, taken off.
    bits
        The converter's bits, where they are stated.
    progress
        Told of each frame; may raise to end the work.

    Returns
    -------
    tuple
        Each flat with the folder that it lies in, and which files were not used, with the reason.

    Raises
    ------
    InputError
        For a path that is not there, or is no frame.
    """
    frames = []
    for path in paths:
        prefix = f"{path.name}/" if len(paths) > 1 and path.is_dir() else ""
        frames += [(file, header, prefix) for file, header in star_frames([path])]
    found: list[tuple[str, Flat]] = []
    left: list[UnusedFile] = []
    for index, (path, header, prefix) in enumerate(frames):
        progress(index, len(frames))
        name = prefix + header.path
        if isinstance(header, UnusedFile):
            left.append(replace(header, path=name))
            continue
        if header.kind not in ("flat", "other"):
            left.append(UnusedFile(name, f"is a {header.kind} by its header, and no flat"))
            continue
        try:
            flat = read_flat(path, header, name, bias_adu, bits)
        except InputError as error:
            left.append(UnusedFile(name, error.reason))
            continue
        found.append((name.rpartition("/")[0], flat))
    progress(len(frames), len(frames))
    return found, left


def read_flat(path: Path, header: FrameHeader, name: str, bias_adu: float, bits: int | None) -> Flat:
    """Return one flat; :class:`InputError` where it cannot be read, or is dark."""
    with open_frame(path) as frame:
        if min(frame.width, frame.height) < MIN_SIDE_PX:
            raise InputError(f"is {frame.width} × {frame.height} px: too small for a flat", path)
        binned = bin_for(frame.width, frame.height, mosaic=header.mosaic is not None)
        plane, highest, step = _plane(frame, binned)
    level = float(np.median(plane))
    _bits, end = converter_end(highest, step, bits or DEFAULT_BITS)
    if level - bias_adu < MIN_LIT_ADU:
        raise InputError(f"is dark: {number(level, 0)} ADU", path)
    if level >= 0.999 * min(end, HIGHEST_CODE):
        raise InputError("is saturated all over", path)
    header = replace(header, width_px=frame.width, height_px=frame.height)
    plane -= np.float32(bias_adu)
    return Flat(name, header, moment_of(header), level, float(end), np.maximum(plane, 1.0), binned, path)


def bin_for(width: int, height: int, *, mosaic: bool) -> int:
    """Return by how many px a frame is binned: whole colour groups of a mosaic."""
    binned = math.ceil(max(width, height) / LONGEST_PLANE_PX)
    return binned + binned % 2 if mosaic else binned


def _plane(frame: OpenFrame, binned: int) -> tuple[Any, int, int]:
    """Return the frame's means over squares of px, read in strips; its highest code, and the step between its codes."""
    across = frame.width // binned
    plane = np.empty((frame.height // binned, across), np.float32)
    highest, divisor = 0, 0
    for start, end in frame.strips(binned):
        rows = frame.rows(start, end)[:, : across * binned]
        highest = max(highest, int(rows.max()))
        divisor = math.gcd(divisor, int(np.gcd.reduce(rows[:: max(1, len(rows) // 8), ::7], axis=None)))
        blocks = rows.reshape((end - start) // binned, binned, across, binned)
        plane[start // binned : end // binned] = blocks.mean(axis=(1, 3), dtype=np.float32)
    return plane, highest, max(divisor, 1)


def sets_of(flats: Sequence[tuple[str, Flat]], names: FilterNames) -> list[FlatSet]:
    """Return flats by folder, filter, rotation, focal length, binning and night, in time.

    Parameters
    ----------
    flats
        Each flat with the folder that it lies in.
    names
        When two filters are one.

    Returns
    -------
    list of FlatSet
        The oldest first, where all tell their time.
    """
    timed = all(flat.time is not None for _, flat in flats)
    ordered = sorted(flats, key=lambda entry: (entry[1].time, entry[1].file)) if timed else list(flats)
    groups: dict[tuple[Any, ...], list[tuple[int, Flat]]] = {}
    sequence: dict[str, int] = {}
    last: dict[str, str] = {}
    for folder, flat in ordered:
        # How often the filter changed in this folder so far: a filter that comes again was turned to again.
        key = names.key(flat.filter)
        if last.get(folder) != key:
            sequence[folder] = sequence.get(folder, 0) + 1
            last[folder] = key
        groups.setdefault((folder, key, *_setup(flat)), []).append((sequence[folder], flat))
    found = []
    many_nights = len({(night_of(flat), folder) for folder, flat in ordered}) > len({folder for folder, _ in ordered})
    many_focals = len({_setup(flat)[1] for _, flat in ordered}) > 1
    for (folder, *_rest), own in groups.items():
        visits: dict[int, list[int]] = {}
        for place, (turn, _flat) in enumerate(own):
            visits.setdefault(turn, []).append(place)
        night = night_of(own[0][1])
        name = str(folder).rpartition("/")[2]
        if many_nights and night:
            name = f"{name} {night}".strip()
        focal = own[0][1].header.focal_length_mm
        if many_focals and focal:
            name = f"{name} {focal:.0f} mm".strip()
        chosen = tuple(flat for _, flat in own)
        found.append(FlatSet(name, chosen[0].filter, chosen, tuple(map(tuple, visits.values()))))
    return sorted(found, key=lambda entry: (entry.time is None, str(entry.time))) if timed else found


def night_of(flat: Flat) -> str:
    """Return the date of the evening before, of flats at dusk and at dawn alike; empty where no time is told."""
    return str((flat.time - datetime.timedelta(hours=12)).date()) if flat.time is not None else ""


def _setup(flat: Flat) -> tuple[object, ...]:
    header = flat.header
    turned = None if header.rotation_deg is None else round(header.rotation_deg / ROTATION_SLACK_DEG / 2)
    focal = None if not header.focal_length_mm else round(math.log(header.focal_length_mm) / FOCAL_SLACK)
    return turned, focal, header.binning or 1, header.width_px, header.height_px, night_of(flat)
