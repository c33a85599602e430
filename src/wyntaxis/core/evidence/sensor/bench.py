"""The whole bench: a folder of bias, dark, flat and light frames turned into the camera's measured numbers."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.bench_result import BenchResult, BiasResult, FlatLevel, GainResult, Setting, SkyLevel
from wyntaxis.core.evidence.sensor.dark import DarkModel, DarkPicture, DarkPoint, dark_model, dark_picture, dark_point
from wyntaxis.core.evidence.sensor.flats import converter_end, falloff
from wyntaxis.core.evidence.sensor.offset import OffsetLine, bias_histogram, offset_line
from wyntaxis.core.evidence.sensor.planes import PLANES, plane_name, whole_sensor
from wyntaxis.core.evidence.sensor.reading import Reading
from wyntaxis.core.evidence.sensor.sorting import (
    BenchSet,
    Sorted,
    in_pairs,
    number_reported,
    sort_frames,
)
from wyntaxis.core.evidence.sensor.strips import HIGHEST_CODE, Plane
from wyntaxis.core.evidence.sensor.tiles import TileStats, frame_stats, pair_stats
from wyntaxis.core.evidence.sensor.transfer import BiasLevel, bias_level, photon_transfer, unity_gain
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.fitting import mad_scatter
from wyntaxis.core.rig.plan import FrameCorrection

N = TypeVar("N", str, tuple[str, str])
"""A frame by its name, or a pair of them."""

SATURATED_ADU = 0.5 * HIGHEST_CODE
"""A bias or dark frame this bright is no bias or dark frame."""

STRAY_TIMES, STRAY_SIGMA = 8.0, 3.0
"""A bias frame this far off the others, in their scatter and in the noise of a pixel, is none of them."""
MIN_FRAMES_TO_COMPARE = 4
LEVELS_ALIKE = 0.03
"""Flats without an exposure in their headers are paired where their levels differ by less than this share."""

LEAK_TIMES, LEAK_ADU = 3.0, 5.0
"""A dark this much above the others of its set, in their scatter and in ADU, has seen light."""


def measure_bench(
    headers: FolderHeaders,
    corrections: Mapping[str, FrameCorrection],
    progress: Progress = lambda _done, _of: None,
    bits: int | None = None,
) -> BenchResult:
    """Measure everything that a folder's frames allow; each file is read once, bias frames twice.

    ``bits`` is the converter's depth where the rig states it: flats that reach no saturation are told of its end.

    Parameters
    ----------
    headers
        A folder's headers.
    corrections
        By file, what the imager knows better.
    progress
        Told of how many readings are done; may raise to end the work.
    bits
        The converter's depth.

    Returns
    -------
    BenchResult
        Gains in e⁻/ADU, noise and wells in e⁻, dark current in e⁻/s/px, levels in % of full, with uncertainties.

    Raises
    ------
    InputError
        With one line when no frame of the folder can be used.
    """
    folder = Path(headers.folder)
    try:
        order = sort_frames(headers, corrections)
    except ValueError as error:
        raise InputError(str(error), folder) from None
    bench = _Bench(folder, order, progress, bits)
    if headers.skipped:
        bench.notes.append(headers.skipped)
    return bench.result()


class _Bench:
    """One measurement: what was read so far, and what is to be said of it."""

    def __init__(self, folder: Path, order: Sorted, progress: Progress, bits: int | None) -> None:
        self.folder, self.order, self.bits = folder, order, bits
        self.notes: list[str] = []
        self.rejected: list[UnusedFile] = list(order.rejected)
        self.work = Reading(folder, progress)
        self.planes: tuple[Plane | None, ...] = PLANES if order.mosaic else (None,)
        self.work.of = sum(
            len(entry.pairs()) * len(self.planes) + (entry.kind == "bias")
            if entry.kind in ("bias", "flat")
            else len(entry.frames)
            for entry in order.sets
        )
        self._biases: dict[Setting, dict[Plane | None, BiasLevel]] = {}
        self._bias_results: list[BiasResult] = []
        self.gains: list[GainResult] = []
        self.flats: list[FlatLevel] = []

    def _path(self, name: str) -> Path:
        return self.folder / name

    def result(self) -> BenchResult:
        """Read and compute in the order in which one thing needs another: bias, flats, darks, lights."""
        self._read_biases()
        self._read_flats()
        dark_gain, points, model, picture = self._read_darks()
        skies = self._read_lights(model)
        self.work.progress(self.work.of, self.work.of)  # whatever could not be read is done with too
        offsets = {}
        for gain in dict.fromkeys(result.gain for result in self._bias_results):
            line = self._offset_line([item for item in self._bias_results if item.gain == gain])
            if line is not None:
                offsets[gain] = line
        known = [(element.gain, element.transfer.conversion_gain) for element in self.gains if element.gain is not None]
        whole = [(gain, estimate) for (gain, estimate) in known if gain is not None]
        return BenchResult(
            str(self.folder),
            self.order,
            tuple(self._bias_results),
            tuple(self.gains),
            offsets,
            unity_gain(_first_of_each(whole)),
            model,
            tuple(points),
            dark_gain,
            picture,
            tuple(self.flats),
            tuple(skies),
            max((entry.level.step for entry in self._bias_results), default=1),
            tuple(self.rejected),
            tuple(self.notes),
        )

    @staticmethod
    def _offset_line(found: Sequence[BiasResult]) -> OffsetLine | None:
        entries = [(element.offset, element) for element in found if element.offset is not None]
        levels = [(offset, item.level.mean_adu) for offset, item in entries]
        piled = [entry.histogram.piled_share > 0 for _, entry in entries]
        clean = [candidate.level.noise_adu.value for (_, candidate), bad in zip(entries, piled, strict=True) if not bad]
        if not clean:
            return None
        return offset_line(levels, max(clean), piled)

    def _usable(self, results: Sequence[Any], files: Sequence[N]) -> list[tuple[N, Any]]:
        """Return what could be read with the frame or pair that it is of; what could not is named."""
        kept = []
        for result, own in zip(results, files, strict=True):
            if isinstance(result, InputError):
                names = (own,) if isinstance(own, str) else own
                at_fault = next((name for name in names if self._path(name) == result.path), names[0])
                self.rejected.append(UnusedFile(at_fault, result.reason))
            else:
                kept.append((own, result))
        return kept

    def _pair_jobs(self, pairs: Sequence[tuple[str, str]]) -> list[Callable[[], TileStats]]:
        """Return what reads pairs, all of one colour plane after all of another."""
        return [
            partial(pair_stats, self._path(pair), self._path(other), self.work.watch, plane)
            for plane in self.planes
            for pair, other in pairs
        ]

    def _frame_jobs(self, one: BenchSet) -> list[Callable[[], TileStats]]:
        return [partial(frame_stats, self._path(name), self.work.watch, self.planes[0]) for name in one.paths]

    def _unsaturated(self, entries: Sequence[tuple[N, TileStats]]) -> list[tuple[N, TileStats]]:
        """Leave out frames or pairs that are full of light, and name them."""
        kept = []
        for own, each in entries:
            level = float(np.median(each.mean))
            if level <= SATURATED_ADU:
                kept.append((own, each))
                continue
            name = own if isinstance(own, str) else ", ".join(own)
            self.rejected.append(UnusedFile(name, f"saturated: {level:.0f} ADU in the middle; was the cap on?"))
        return kept

    # Bias

    def _read_biases(self) -> None:
        for entry in self.order.of("bias"):
            pairs = entry.pairs()
            if not pairs:
                self.notes.append(f"one bias frame at {entry.setting_text} has no partner: take at least two")
                continue
            found = self.work.run(self._pair_jobs(pairs))
            kept = self._steady(entry, found[: len(pairs)], pairs)
            if kept is not None:
                pairs = kept
                found = self.work.run(self._pair_jobs(pairs)) if pairs else []
            by_plane: dict[Plane | None, BiasLevel] = {}
            usable: list[tuple[str, str]] = []
            for index, plane in enumerate(self.planes):
                own = found[index * len(pairs) : (index + 1) * len(pairs)]
                if index == 0:
                    usable = [pair for pair, _ in self._unsaturated(self._usable(own, pairs))]
                stats = [each for pair, each in zip(pairs, own, strict=True) if pair in usable and _is_read(each)]
                if stats:
                    by_plane[plane] = bias_level(stats)
            if not by_plane:
                continue
            first = by_plane[self.planes[0]]
            stray = {frame.path for frame in self.rejected}
            stray |= {name for pair in pairs if pair not in usable for name in pair}
            paths = [self._path(name) for name in entry.paths if name not in stray]
            histogram = self.work.run([partial(bias_histogram, paths, first.step, self.work.watch)])[0]
            if isinstance(histogram, InputError):
                continue
            self._biases[entry.gain, entry.offset] = by_plane
            self._bias_results.append(BiasResult(entry.gain, entry.offset, whole_sensor(by_plane), histogram))
        if not self._bias_results:
            self.notes.append("no pair of bias frames: gain, noise, dark current and offset cannot be measured")

    def _steady(
        self, one: BenchSet, stats: Sequence[Any], pairs: Sequence[tuple[str, str]]
    ) -> list[tuple[str, str]] | None:
        """Name bias frames whose level is off the others', and return new pairs without them; None where none is."""
        levels: dict[str, float] = {}
        noise = []
        for pair, each in zip(pairs, stats, strict=True):
            if isinstance(each, InputError):
                return None
            levels[pair[0]] = float(np.median(each.mean + each.shift / 2))
            levels[pair[1]] = float(np.median(each.mean - each.shift / 2))
            noise.append(math.sqrt(float(np.median(each.variance))))
        if len(levels) < MIN_FRAMES_TO_COMPARE:
            return None
        values = np.array(list(levels.values()))
        middle, sigma = float(np.median(values)), float(np.median(noise))
        limit = max(STRAY_TIMES * mad_scatter(values), STRAY_SIGMA * sigma, 1.0)
        stray = [name for name, level in levels.items() if abs(level - middle) > limit]
        if not stray or 2 * len(stray) > len(levels):
            return None
        for name in stray:
            off = levels[name] - middle
            times = f", {abs(off) / sigma:.0f} σ" if sigma > 0 else ""
            self.rejected.append(
                UnusedFile(name, f"its level is {off:+.1f} ADU{times} off the other bias frames': left out")
            )
        rest = [name for name in one.paths if name not in stray]
        return in_pairs(rest)

    def _bias_for(self, one: BenchSet) -> dict[Plane | None, BiasLevel] | None:
        exact = self._biases.get((one.gain, one.offset))
        if exact is not None:
            return exact
        # A header without gain or offset goes with the only bias that there is.
        alike = [
            levels
            for (gain, offset), levels in self._biases.items()
            if None in (gain, one.gain) or (gain == one.gain and None in (offset, one.offset))
        ]
        return alike[0] if len(alike) == 1 else None

    # Flats

    def _read_flats(self) -> None:
        settings = list(dict.fromkeys((entry.gain, entry.offset) for entry in self.order.of("flat")))
        for gain, offset in settings:
            sets = [item for item in self.order.of("flat") if (item.gain, item.offset) == (gain, offset)]
            levels = self._bias_for(sets[0])
            if levels is None:
                self.notes.append(f"flats at {sets[0].setting_text} have no bias frames of the same gain and offset")
                continue
            by_plane: dict[Plane | None, list[tuple[BenchSet, TileStats]]] = {plane: [] for plane in self.planes}
            for element in sets:
                pairs = element.pairs() if element.exposure_s else self._pairs_by_level(element)
                if not pairs:
                    self.notes.append(f"one flat at {element.setting_text} has no partner")
                    continue
                found = self.work.run(self._pair_jobs(pairs))
                for index, plane in enumerate(self.planes):
                    own = found[index * len(pairs) : (index + 1) * len(pairs)]
                    if index == 0:
                        self._usable(own, pairs)
                    by_plane[plane] += [(element, each) for each in own if _is_read(each)]
            self._transfer(gain, offset, by_plane, levels)

    def _pairs_by_level(self, one: BenchSet) -> list[tuple[str, str]]:
        """Pair flats whose headers tell no exposure by their light."""
        stats = self.work.run(self._frame_jobs(one))
        levels = {
            name: float(np.median(each.mean))
            for name, each in zip(one.paths, stats, strict=True)
            if not isinstance(each, InputError)
        }
        pairs, waiting = [], ""
        for name in sorted(levels, key=levels.__getitem__):
            if waiting and levels[name] - levels[waiting] <= LEVELS_ALIKE * levels[name]:
                pairs.append((waiting, name))
                waiting = ""
            else:
                if waiting:
                    self.rejected.append(
                        UnusedFile(waiting, "no other flat has its level, and no exposure is recorded")
                    )
                waiting = name
        if waiting:
            self.rejected.append(UnusedFile(waiting, "no other flat has its level, and no exposure is recorded"))
        return pairs

    def _transfer(
        self,
        gain: float | None,
        offset: float | None,
        by_plane: Mapping[Plane | None, Sequence[tuple[BenchSet, TileStats]]],
        levels: Mapping[Plane | None, BiasLevel],
    ) -> None:
        step = min(level.step for level in levels.values())
        for plane, entries in by_plane.items():
            if not entries or plane not in levels:
                continue
            name = plane_name(self.order.mosaic, plane)
            try:
                found = photon_transfer(
                    [stats for _, stats in entries], levels[plane], [entry.exposure_s for entry, _ in entries], step
                )
            except ValueError as error:
                where = f" in {name}" if name else ""
                self.notes.append(f"gain {number_reported(gain)}{where}: {error}")
                found = None
            if found is not None:
                self.gains.append(GainResult(gain, offset, name, found))
                if found.read_noise_below_e is not None:
                    self.notes.append(
                        f"gain {number_reported(gain)}: read noise below {found.read_noise_below_e:.2f} e⁻; the noise "
                        "in dark is under half a step of the converter, which gives only an upper bound (EMVA 1288 R4)"
                    )
            if plane is self.planes[0]:
                self._levels(entries, levels[plane], found.saturation_adu if found is not None else None)

    def _levels(self, entries: Sequence[tuple[BenchSet, TileStats]], bias: BiasLevel, measured: float | None) -> None:
        """Tell how bright flats are: of the saturation measured, else of where a converter of such codes ends."""
        bits, end = converter_end(max(stats.highest_code for _, stats in entries), bias.step, self.bits)
        saturation = measured if measured is not None else end - bias.mean_adu
        level_of = "saturation" if measured is not None else f"the converter's end, {bits} bits"
        seen: dict[tuple[str | None, float], list[TileStats]] = {}
        group_gain = entries[0][0].gain
        for entry, stats in entries:
            seen.setdefault((entry.filter, entry.exposure_s), []).append(stats)
        for (name, exposure), group in seen.items():
            signal = np.mean([stats.mean for stats in group], axis=0) - bias.tiles
            level = float(np.median(signal))
            corner, centre = falloff(signal)
            self.flats.append(
                FlatLevel(
                    name or "–",
                    group_gain,
                    exposure,
                    100 * level / saturation,
                    corner,
                    centre,
                    2 * len(group),
                    level_of,
                )
            )

    # Darks and lights

    def _read_darks(self) -> tuple[float | None, list[DarkPoint], DarkModel | None, DarkPicture | None]:
        points: list[DarkPoint] = []
        picture, dark_gain, used = None, None, None
        longest: tuple[float, float] = (0.0, 0.0)
        for entry in self.order.of("dark"):
            levels, found = self._bias_for(entry), self._gain_for(entry)
            if levels is None or found is None or entry.temperature_c is None:
                what = "bias frames" if levels is None else "conversion gain" if found is None else "temperature"
                self.notes.append(
                    f"darks of {number_reported(entry.exposure_s)} s at {entry.setting_text} have no {what} to go with"
                )
                continue
            bias, plane = levels[self.planes[0]], self.planes[0]
            entries = self._usable(self.work.run(self._frame_jobs(entry)), entry.paths)
            entries = self._without_leaks(self._unsaturated(entries), bias)
            if not entries:
                continue
            stats = [each for _, each in entries]
            gain = found.transfer.conversion_gain
            points.append(dark_point(stats, bias, gain, entry.exposure_s, entry.temperature_c))
            used, dark_gain = gain, found.gain
            if plane is None and (entry.exposure_s, entry.temperature_c) > longest:
                longest = (entry.exposure_s, entry.temperature_c)
                name, first = entries[0]
                picture = dark_picture(self._path(name), first, bias, gain.value, entry.exposure_s, self.work.watch)
        model = None
        if used is not None and points:
            try:
                model = dark_model(points, used)
            except ValueError as error:
                self.notes.append(str(error))
        return dark_gain, points, model, picture

    def _without_leaks(self, entries: Sequence[tuple[str, TileStats]], bias: BiasLevel) -> list[tuple[str, TileStats]]:
        """Leave out darks that are brighter than the faintest of their set by more than the set's own noise."""
        levels = np.array([float(np.median(s.mean - bias.tiles)) for _, s in entries])
        if len(levels) < 2:
            return list(entries)
        noise = np.array([mad_scatter(s.mean - bias.tiles) for _, s in entries])
        limit = levels.min() + np.maximum(LEAK_ADU, LEAK_TIMES * noise.min())
        kept = []
        for (path, each), level in zip(entries, levels, strict=True):
            if level > limit:
                above = level - levels.min()
                self.rejected.append(
                    UnusedFile(path, f"light leak: {above:.0f} ADU above the faintest dark of its set")
                )
            else:
                kept.append((path, each))
        return kept

    def _gain_for(self, one: BenchSet) -> GainResult | None:
        own = [g for g in self.gains if one.gain is None or g.gain is None or g.gain == one.gain]
        return own[0] if own else None

    def _read_lights(self, model: DarkModel | None) -> list[SkyLevel]:
        found: dict[str, list[Estimate]] = {}
        for entry in self.order.of("light"):
            levels, gain = self._bias_for(entry), self._gain_for(entry)
            if levels is None or gain is None or not entry.exposure_s:
                continue
            bias = levels[self.planes[0]]
            dark = model.current(entry.temperature_c).value if model and entry.temperature_c is not None else 0.0
            factor = gain.transfer.conversion_gain
            for _, stats in self._usable(self.work.run(self._frame_jobs(entry)), entry.paths):
                # Stars lift the mean of a tile, not its neighbours': the median over tiles is the sky.
                signal = float(np.median(stats.mean - bias.tiles))
                rate = signal * factor.value / entry.exposure_s - dark
                if rate > 0:
                    found.setdefault(entry.filter or "–", []).append(
                        Estimate(rate, rate * factor.standard / factor.value)
                    )
        return [
            SkyLevel(name, Estimate(float(np.median([e.value for e in each])), max(e.standard for e in each)))
            for name, each in found.items()
        ]


def _is_read(result: TileStats) -> bool:
    return not isinstance(result, InputError)


def _first_of_each(found: Sequence[tuple[float, Estimate]]) -> list[tuple[float, Estimate]]:
    return list({gain: (gain, estimate) for gain, estimate in reversed(found)}.values())
