"""A folder of bench frames sorted by their headers, as corrected by the imager; what does not belong is named."""

from __future__ import annotations

import statistics
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.headers import FrameHeader, FrameKind, UnusedFile
from wyntaxis.core.evidence.headers.partners import temperature_of
from wyntaxis.core.rig.plan import FrameCorrection

TEMPERATURE_WITHIN_C = 1.0


def number_reported(value: float | None) -> str:
    """Return a setting as a note tells it.

    Parameters
    ----------
    value
        A gain, an offset, an exposure.

    Returns
    -------
    str
        The number, or that the header does not record it.
    """
    return "not recorded" if value is None else f"{value:g}"


def in_pairs(names: Sequence[str]) -> list[tuple[str, str]]:
    """Return names two by two; an odd one at the end has no partner."""
    return list(zip(names[0 : len(names) - 1 : 2], names[1::2], strict=True))


@dataclass(frozen=True)
class BenchSet:
    """Frames taken alike: kind, gain, offset, exposure in s, temperature in °C, filter; paths in the order taken."""

    kind: FrameKind
    gain: float | None
    offset: float | None
    exposure_s: float
    temperature_c: float | None
    filter: str | None
    frames: tuple[FrameHeader, ...]

    @property
    def paths(self) -> tuple[str, ...]:
        return tuple(frame.path for frame in self.frames)

    def pairs(self) -> list[tuple[str, str]]:
        """Return the frames two by two; an odd one at the end has no partner."""
        return in_pairs(self.paths)

    @property
    def setting_text(self) -> str:
        """Gain and offset in words."""
        return f"gain {number_reported(self.gain)}, offset {number_reported(self.offset)}"


@dataclass(frozen=True)
class Sorted:
    """Everything in a folder: the sets to measure, the size and mosaic of the frames, and what was left out."""

    sets: tuple[BenchSet, ...]
    size: tuple[int, int]
    mosaic: str | None
    rejected: tuple[UnusedFile, ...]

    def of(self, kind: FrameKind) -> list[BenchSet]:
        return [entry for entry in self.sets if entry.kind == kind]


def corrected(frame: FrameHeader, correction: FrameCorrection | None) -> FrameHeader:
    """Return a header with the imager's corrections in it.

    Parameters
    ----------
    frame
        A header.
    correction
        The imager's correction; None for none.

    Returns
    -------
    FrameHeader
        With the corrections in it.
    """
    if correction is None:
        return frame
    changes: dict[str, object] = {}
    for key, value in correction.model_dump(exclude_none=True).items():
        if key == "temperature_c":
            changes |= {"set_temperature_c": value, "temperature_c": value}
        elif key != "left_out":
            changes[key] = value
    return replace(frame, **changes)  # type: ignore[arg-type]


def sort_frames(
    headers: FolderHeaders, corrections: Mapping[str, FrameCorrection], *, binning: int | None = None
) -> Sorted:
    """Sort a folder's frames into sets; the most common size is that of the bench.

    Returns
    -------
    Sorted
        Sets of frames taken alike, and what belongs to none.

    Raises
    ------
    ValueError
        When no frame is a bias, dark, flat or light of a readable size.

    Parameters
    ----------
    headers
        The headers of a folder's frames.
    corrections
        The imager's corrections by path.
    binning
        The binning that the frames must have.
    """
    rejected = [UnusedFile(entry.path, entry.why) for entry in headers.broken]
    left_out = {path for path, correction in corrections.items() if correction.left_out}
    frames = [corrected(frame, corrections.get(frame.path)) for frame in headers.frames]
    rejected += [UnusedFile(frame.path, "left out by hand") for frame in frames if frame.path in left_out]
    frames = [frame for frame in frames if frame.path not in left_out]
    kept: list[FrameHeader] = []
    for frame in frames:
        if frame.kind == "other":
            rejected.append(
                UnusedFile(frame.path, "its header does not say what kind of frame it is (IMAGETYP): correct it")
            )
        elif frame.width_px is None or frame.height_px is None:
            rejected.append(UnusedFile(frame.path, "its header does not give its size"))
        else:
            kept.append(frame)
    if not kept:
        raise ValueError("holds no frame of a known kind: correct IMAGETYP of the frames, or name another folder")
    size, _ = Counter((frame.width_px or 0, frame.height_px or 0) for frame in kept).most_common(1)[0]
    belonging = []
    for frame in kept:
        reason = _why_rejected(frame, size, binning)
        if reason:
            rejected.append(UnusedFile(frame.path, reason))
        else:
            belonging.append(frame)
    mosaic = next((frame.mosaic for frame in belonging if frame.mosaic), None)
    return Sorted(tuple(_sets(belonging)), size, mosaic, tuple(rejected))


def _why_rejected(frame: FrameHeader, size: tuple[int, int], binning: int | None) -> str:
    if (frame.width_px, frame.height_px) != size:
        return f"has {frame.width_px} × {frame.height_px} px, the others {size[0]} × {size[1]}"
    if binning is not None and frame.binning is not None and frame.binning != binning:
        return f"binning {frame.binning}, not {binning}"
    wanted, actual = frame.set_temperature_c, frame.temperature_c
    if (
        frame.kind == "dark"
        and wanted is not None
        and actual is not None
        and abs(actual - wanted) > TEMPERATURE_WITHIN_C
    ):
        return f"temperature off: {actual:.1f} °C where {wanted:.1f} °C was set"
    if frame.kind == "dark" and not frame.exposure_s:
        return "its header gives no exposure (EXPTIME): correct it"
    return ""


def _sets(frames: Iterable[FrameHeader]) -> list[BenchSet]:
    found: dict[tuple[object, ...], list[FrameHeader]] = {}
    for frame in frames:
        temperature = temperature_of(frame)
        exposure = 0.0 if frame.kind == "bias" else frame.exposure_s or 0.0
        key = (
            frame.kind,
            frame.gain,
            frame.offset,
            float(f"{exposure:.4g}"),
            None if temperature is None or frame.kind != "dark" else round(temperature),
            frame.filter if frame.kind in ("flat", "light") else None,
        )
        found.setdefault(key, []).append(frame)
    sets = []
    for members in found.values():
        first = members[0]
        warmth = [t for frame in members if (t := _actual(frame)) is not None]
        sets.append(
            BenchSet(
                first.kind,
                first.gain,
                first.offset,
                0.0 if first.kind == "bias" else first.exposure_s or 0.0,
                statistics.fmean(warmth) if warmth else None,
                first.filter,
                tuple(members),
            )
        )
    return sorted(sets, key=lambda s: (s.kind, s.gain or 0, s.offset or 0, s.exposure_s, s.temperature_c or 0))


def _actual(frame: FrameHeader) -> float | None:
    """Return the temperature that a sensor had: the actual one, or the set one where that is not told."""
    return frame.temperature_c if frame.temperature_c is not None else frame.set_temperature_c


def settings_in(sets: Sequence[BenchSet]) -> list[tuple[float | None, float | None]]:
    """Return the pairs of gain and offset that occur, in order.

    Parameters
    ----------
    sets
        Sets of frames taken alike.

    Returns
    -------
    list[tuple[float or None, float or None]]
        Gain and offset.
    """
    return sorted({(entry.gain, entry.offset) for entry in sets}, key=lambda pair: (pair[0] or 0.0, pair[1] or 0.0))
