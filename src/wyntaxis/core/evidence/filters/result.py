"""What flats tell: the wheel's repeatability, dust and where it lies, levels and falloff, and which old flats serve."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from wyntaxis.core.evidence.filters.dust import FlatLight, Shadow, light_of
from wyntaxis.core.evidence.filters.flats import FlatSet, night_of
from wyntaxis.core.evidence.filters.serve import Comparison, compared
from wyntaxis.core.evidence.filters.shift import PairShift, pair_shift
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.train.surfaces import DustSurface
from wyntaxis.core.wording import plus_minus

MAX_PAIRS = 12
SURE = 2.0
SEEN_PX = 1.0
"""A shift that flats must be able to show, at twice their uncertainty, before they prove that there is none."""
TILES = 40
USUAL_BIAS_ADU = 500.0
"""A bias that nobody measured may be so high."""
MISFIT = 1.5
"""Where a light's model leaves more than so many times the cells' scatter, the table says so."""
SAME_PLACE_SHARE = 0.15
"""Two filters' shadows within this share of their width, and as wide to it, are of one grain."""
NEAREST_PUPIL_MM = 150.0
"""An exit pupil whose distance is unknown lies at this distance or farther."""


@dataclass(frozen=True)
class FlatOptics:
    """What flats are told of the rig: pixel in µm, focal ratio with its standard uncertainty as a share, the exit
    pupil's distance before the sensor in mm, obstruction, bias in ADU (None where it is not known), the converter's
    bits, the surfaces that dust can lie on, the light that the train leaves the corner (as a share), and whether the
    wheel turns one way.
    """

    pixel_um: float | None = None
    focal_ratio: float | None = None
    ratio_share: float = 0.0
    pupil_mm: float | None = None
    obstruction: float = 0.0
    bias_adu: float | None = None
    bits: int | None = None
    surfaces: tuple[DustSurface, ...] = ()
    corner_share: float | None = None
    one_way: bool | None = None


@dataclass(frozen=True)
class Level:
    """How a set is lit: its median level as a share of the converter's end, the corner's light as a share of the
    middle's, how far the light's middle lies off as a share of half the diagonal, and its brightness in ADU a second
    against that of the brightest filter. ``why`` tells why there is no middle, and where the
    model of the light does not fit.
    """

    flats: FlatSet
    level_share: float
    corner: Estimate
    centre_off_share: float | None
    brightness: float | None
    why: str = ""


@dataclass(frozen=True)
class Repeat:
    """How a filter comes back: the pair of flats that differs most; ``turned`` tells that another filter was between
    them, None where nobody told; ``one_way`` whether the wheel turned one way only.
    """

    filter: str
    name: str
    pair: PairShift
    pairs: int
    turned: bool | None
    one_way: bool | None
    binning: int = 1
    set_name: str = ""
    unseen: str = ""
    """Why a wheel that stops elsewhere would not be seen in these flats; empty where it would be."""

    def shift_um(self, pixel_um: float | None) -> Estimate | None:
        """Return how far the dust moved in µm on the sensor, by its unbinned pixel."""
        shift = self.pair.shift_px
        return None if shift is None or pixel_um is None else shift.times(pixel_um * self.binning)


@dataclass(frozen=True)
class Dust:
    """A grain: its shadow, the filters through which it is seen, its distance before the sensor in mm, and the surface
    there, None with ``why``.
    """

    shadow: Shadow
    filters: tuple[str, ...]
    distance_mm: Estimate | None
    surface: DustSurface | None
    why: str = ""


@dataclass(frozen=True)
class Serve:
    """Whether a filter's old flats serve in place of the new ones."""

    filter: str
    old: str
    new: str
    comparison: Comparison
    changed: tuple[str, ...]


@dataclass(frozen=True)
class FilterResult:
    """Flats, measured."""

    sets: tuple[FlatSet, ...]
    optics: FlatOptics
    levels: tuple[Level, ...] = ()
    repeats: tuple[Repeat, ...] = ()
    dust: tuple[Dust, ...] = ()
    serves: tuple[Serve, ...] = ()
    not_used: tuple[UnusedFile, ...] = ()
    one_way: frozenset[str] = field(default_factory=frozenset)
    lights: tuple[FlatLight, ...] = ()
    """The light and the shadows of each set."""
    names: FilterNames = DEFAULT_FILTER_NAMES

    def one_way_shift_px(self, *, one_way: bool) -> Estimate | None:
        """Return the mean shift in px of pairs taken with the wheel turning one way only, or both; None for none."""
        entries = [r.pair.shift_px for r in self.repeats if r.one_way is one_way and r.pair.shift_px is not None]
        if not entries:
            return None
        mean = sum(shift.value for shift in entries) / len(entries)
        return Estimate(mean, math.hypot(*(shift.standard for shift in entries)) / len(entries))

    def dust_of(self, place: int) -> tuple[tuple[int | None, Dust], ...]:
        """Return the grains that one set shows, each with its place among :attr:`dust`, None for one that is gone."""
        entry, found = self.sets[place], []
        for shadow in self.lights[place].shadows:
            known = next((k for k, grain in enumerate(self.dust) if _is_same(grain.shadow, shadow)), None)
            grain = self.dust[known] if known is not None else None
            found.append((known, grain or _placed(shadow, (entry.filter,), self.optics, entry.binning)))
        return tuple(found)


def measured(
    sets: Sequence[FlatSet],
    optics: FlatOptics,
    not_used: Sequence[UnusedFile] = (),
    *,
    names: FilterNames = DEFAULT_FILTER_NAMES,
    one_way: frozenset[str] = frozenset(),
    watch: Callable[[int, int], None] = lambda _done, _of: None,
) -> FilterResult:
    """Return what flats tell.

    Parameters
    ----------
    sets
        Flats by folder, filter, rotation, focal length and night.
    optics
        What the rig says.
    not_used
        Files that were left out, with the reason.
    names
        When two filters are one.
    one_way
        Names of the sets that were taken with the wheel turning one way only, where any was named.
    watch
        Told of pieces of work done and to do; may raise to end it.

    Returns
    -------
    FilterResult
        With what could not be had told in words.
    """
    lights: list[FlatLight] = []
    for index, entry in enumerate(sets):
        watch(index, len(sets))
        lights.append(light_of(entry.mean(), entry.binned, optics.obstruction))
    watch(len(sets), len(sets))
    result = FilterResult(
        tuple(sets), optics, not_used=tuple(not_used), one_way=one_way, lights=tuple(lights), names=names
    )
    repeats = [
        repeat
        for key in dict.fromkeys(names.key(entry.filter) for entry in sets)
        for repeat in _repeats(result, [k for k, e in enumerate(sets) if names.key(e.filter) == key], lights)
    ]
    return replace(
        result,
        levels=tuple(_levels(sets, lights, optics)),
        repeats=tuple(repeats),
        dust=tuple(_dust(sets, [light.shadows for light in lights], optics, names)),
        serves=tuple(_serves(sets, names)),
    )


# Levels


def _levels(sets: Sequence[FlatSet], lights: Sequence[FlatLight], optics: FlatOptics) -> Iterator[Level]:
    rates = [_rate(entry) for entry in sets]
    brightest = max((rate for rate in rates if rate is not None), default=None)
    for entry, rate, light in zip(sets, rates, lights, strict=True):
        share = float(np.mean([flat.level_adu / flat.end_adu for flat in entry.flats]))
        smooth = light.smooth
        brightness = rate / brightest if rate is not None and brightest else None
        why = "" if smooth.falls else "the light hardly falls off, so its centre cannot be measured"
        if light.misfit > MISFIT:
            model = (
                f"the model of its light leaves {light.misfit:.1f} × the noise, which is in the corner’s uncertainty"
            )
            why = f"{why}; {model}" if why else model
        corner = light.corner
        if optics.bias_adu is None:
            level = float(np.mean([flat.level_adu for flat in entry.flats]))
            by_bias = abs(1 - corner.value) * USUAL_BIAS_ADU / max(level, 1.0)
            corner = Estimate(corner.value, math.hypot(corner.standard, by_bias))
            unknown = "the bias is not known, which is in the corner’s uncertainty"
            why = f"{why}; {unknown}" if why else unknown
        yield Level(entry, share, corner, smooth.off_centre if smooth.falls else None, brightness, why)


def _rate(entry: FlatSet) -> float | None:
    """Return the light in ADU a second over the bias; None where the exposure is not told."""
    rates = [
        float(np.median(flat.plane)) / flat.header.exposure_s
        for flat in entry.flats
        if flat.header.exposure_s is not None and flat.header.exposure_s > 0
    ]
    return sum(rates) / len(rates) if rates else None


# Repeatability


def _turning(shadows: Sequence[Shadow], optics: FlatOptics, binning: int) -> list[bool | None]:
    """Return of each shadow whether it lies on a filter; None where no documented surface lies there."""
    surfaces = [_placed(shadow, (), optics, binning).surface for shadow in shadows]
    return [None if surface is None else surface.is_filter for surface in surfaces]


def _unseen(pair: PairShift, optics: FlatOptics, binning: int) -> str:
    """Return why a wheel that stops :data:`SEEN_PX` off would not be seen, empty where a shadow shows it."""
    if not pair.shadows:
        return pair.why
    places = _turning([entry.shadow for entry in pair.shadows], optics, binning)
    turning = [entry for entry, is_filter in zip(pair.shadows, places, strict=True) if is_filter]
    if not turning and None in places:
        return "it is not known whether their shadows lie on a filter, which turns with the wheel"
    if not turning:
        return "every shadow that can be registered lies on glass that does not turn with the wheel"
    known_px = min(max(entry.u_x, entry.u_y) for entry in turning)
    if SURE * known_px > SEEN_PX:
        return f"its shadows are registered to {plus_minus(0.0, known_px, 1)} px only"
    return ""


def _repeats(result: FilterResult, places: Sequence[int], lights: Sequence[FlatLight]) -> Iterator[Repeat]:
    """Yield how a filter comes back within each of its sets; between two of one night where no set has two flats."""
    entries = False
    for place in places:
        entry = result.sets[place]
        pairs = list(_pairs_within(entry))
        if not pairs:
            continue
        entries = True
        turned = True if len(entry.visits) > 1 else None
        turning = _turning(lights[place].shadows, result.optics, entry.binning)
        found = [pair_shift(planes, lights[place], entry.binned, turning) for planes in pairs]
        yield Repeat(
            entry.filter,
            entry.title,
            _worst(found),
            len(found),
            turned,
            _one_way(result, entry),
            entry.binning,
            entry.name,
            _unseen(_worst(found), result.optics, entry.binning),
        )
    if entries:
        return
    for first, second in itertools.pairwise(places):
        one, other = result.sets[first], result.sets[second]
        alike = one.size_px == other.size_px and one.binned == other.binned and one.rotation_deg == other.rotation_deg
        if alike and night_of(one.flats[0]) == night_of(other.flats[0]):
            turning = _turning(lights[first].shadows, result.optics, one.binning)
            pair = pair_shift((one.mean(), other.mean()), lights[first], one.binned, turning)
            yield Repeat(
                one.filter,
                f"{one.title} and {other.title}",
                pair,
                1,
                None,
                _one_way(result, other),
                one.binning,
                other.name,
                _unseen(pair, result.optics, one.binning),
            )


def _pairs_within(entry: FlatSet) -> Iterator[tuple[Any, Any]]:
    """Yield pairs of planes with a turn of the wheel between, where the order tells one; else one after another."""
    if len(entry.visits) > 1:
        for before, after in itertools.islice(itertools.pairwise(entry.visits), MAX_PAIRS):
            yield entry.mean(before), entry.mean(after)
        return
    for place in range(min(len(entry.flats) - 1, MAX_PAIRS)):
        yield entry.mean([place]), entry.mean([place + 1])


def _worst(pairs: Sequence[PairShift]) -> PairShift:
    """Return the pair whose dust moved farthest for certain; of none, the one whose ratio scatters most."""
    moved = [pair for pair in pairs if pair.moved and pair.shift_px is not None]
    if moved:
        return max(moved, key=lambda pair: pair.shift_px.value if pair.shift_px is not None else 0.0)
    return max(pairs, key=lambda pair: (pair.shift_px is not None, pair.ratio_rms / pair.shot_rms))


def _one_way(result: FilterResult, entry: FlatSet) -> bool | None:
    if result.one_way:
        return entry.name in result.one_way
    return result.optics.one_way


# Dust


def _dust(
    sets: Sequence[FlatSet], shadows: Sequence[tuple[Shadow, ...]], optics: FlatOptics, names: FilterNames
) -> Iterator[Dust]:
    """Yield each grain once, with the filters through which it is seen, of each filter's newest flats."""
    newest = {names.key(entry.filter): place for place, entry in enumerate(sets)}
    grains: list[tuple[Shadow, list[str], int]] = []
    for place in newest.values():
        for shadow in shadows[place]:
            same = next((grain for grain in grains if _is_same(grain[0], shadow)), None)
            if same is not None:
                same[1].append(sets[place].filter)
            else:
                grains.append((shadow, [sets[place].filter], sets[place].binning))
    for shadow, filters, binning in sorted(grains, key=lambda grain: -grain[0].depth):
        yield _placed(shadow, tuple(dict.fromkeys(filters)), optics, binning)


def _is_same(one: Shadow, other: Shadow) -> bool:
    wide = max(one.outer_px.value, other.outer_px.value)
    apart = math.hypot(one.x - other.x, one.y - other.y)
    return apart < SAME_PLACE_SHARE * wide and abs(one.outer_px.value - other.outer_px.value) < SAME_PLACE_SHARE * wide


def _placed(shadow: Shadow, filters: tuple[str, ...], optics: FlatOptics, binning: int) -> Dust:
    """Return a grain with its distance, ``x = w N/(1 + w N/P)``, and the surface there."""
    if optics.pixel_um is None or optics.focal_ratio is None:
        return Dust(shadow, filters, None, None, "the rig has no pixel size or no focal ratio")
    factor = optics.pixel_um * binning * optics.focal_ratio / 1000
    # Seen from an exit pupil at a finite distance, a shadow is wider than its beam.
    far = shadow.outer_px.value * factor
    bent = 1 / (1 + far / (optics.pupil_mm or math.inf))
    value = far * bent
    unknown = 0.0 if optics.pupil_mm else far * (1 - 1 / (1 + far / NEAREST_PUPIL_MM)) / math.sqrt(3)
    standard = math.hypot(shadow.outer_px.standard * factor * bent**2, optics.ratio_share * value * bent, unknown)
    distance = Estimate(value, standard)
    if not optics.surfaces:
        return Dust(shadow, filters, distance, None, "the train documents no surface there")
    near = min(optics.surfaces, key=lambda s: (s.away_mm(value), abs(s.middle_mm - value)))
    if near.away_mm(value) > SURE * standard:
        return Dust(shadow, filters, distance, None, f"no documented surface lies there; the nearest is {near.title}")
    return Dust(shadow, filters, distance, near)


# Old flats


def _serves(sets: Sequence[FlatSet], names: FilterNames) -> Iterator[Serve]:
    """Yield of each filter with several sets whether each older one serves in place of the newest."""
    for key in dict.fromkeys(names.key(entry.filter) for entry in sets):
        own = [entry for entry in sets if names.key(entry.filter) == key]
        new = own[-1]
        for old in own[:-1]:
            if old.size_px != new.size_px or old.binned != new.binned:
                continue
            entries = compared(old.mean(), new.mean(), new.binned)
            yield Serve(new.filter, set_name(old), set_name(new), entries, tuple(_changes(old, new)))


def set_name(entry: FlatSet) -> str:
    """Return what a set is called beside others of its filter: its folder or night, else its first file."""
    return entry.name or entry.flats[0].file


def _changes(old: FlatSet, new: FlatSet) -> Iterator[str]:
    """Yield what the headers say has changed between two sets."""
    if old.rotation_deg is not None and new.rotation_deg is not None and abs(old.rotation_deg - new.rotation_deg) > 0.5:
        yield f"rotation {old.rotation_deg:g}° then, {new.rotation_deg:g}° now"
    if old.focal_length_mm and new.focal_length_mm and abs(old.focal_length_mm / new.focal_length_mm - 1) > 0.01:
        yield f"focal length {old.focal_length_mm:g} mm then, {new.focal_length_mm:g} mm now"
    gains = (old.flats[0].header.gain, new.flats[0].header.gain)
    if None not in gains and gains[0] != gains[1]:
        yield f"gain {gains[0]:g} then, {gains[1]:g} now"
