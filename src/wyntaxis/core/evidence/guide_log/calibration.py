"""What a guider's calibration measures: the guide scale and focal length, the angle of its axes, the backlash."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.foreign.units import convert
from wyntaxis.core.evidence.guide_log.run import GuideOptics, LogFacts, facts_of
from wyntaxis.core.evidence.guide_log.table import Section
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import student_factor
from wyntaxis.core.optics.guiding import SIDEREAL_ARCSEC_S
from wyntaxis.core.optics.imaging import pixel_scale

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MIN_POINTS = 3
AXES_AGREE = 0.05
"""Axes whose scales differ by more are not taken together: one of them is slowed by play or weight."""
RATE_STANDARD = 0.003
"""What a mount's guide rate is off by, as a share, where it is only stated: a crystal is exact, a gear train is not."""
_WEST, _EAST, _NORTH, _SOUTH = "west", "east", "north", "south"
_WAYS = {
    "w": _WEST, "west": _WEST, "ra+": _WEST, "ra +": _WEST, "ra": _WEST, "right ascension": _WEST, "left": _WEST,
    "e": _EAST, "east": _EAST, "ra-": _EAST, "ra -": _EAST, "right": _EAST, "backward": _EAST,
    "n": _NORTH, "north": _NORTH, "dec+": _NORTH, "dec +": _NORTH, "dec": _NORTH, "declination": _NORTH, "up": _NORTH,
    "s": _SOUTH, "south": _SOUTH, "dec-": _SOUTH, "dec -": _SOUTH, "down": _SOUTH,
}  # fmt: skip


@dataclass(frozen=True)
class CalibrationLeg:
    """One way that the star was sent: for how long in s it had been pulsed at each point, and where it was in px."""

    way: str
    pulsed_s: Floats
    x: Floats
    y: Floats


@dataclass(frozen=True)
class Calibration:
    """What a calibration measured, None where it could not be told, with the reason in ``notes``.

    Scale in arcsec/px, focal length in mm, the angle of right ascension's axis in the image from +x towards +y in
    degrees, by how much the axes miss a right angle in degrees, backlash in ms of pulse.
    """

    file: str
    values: tuple[CalibrationLeg, ...]
    guide_scale_arcsec_px: Estimate | None
    guide_focal_length_mm: Estimate | None
    angle_deg: Estimate | None
    not_square_deg: Estimate | None
    backlash_ms: Estimate | None
    ra_rate_px_s: Estimate | None
    dec_rate_px_s: Estimate | None
    facts: LogFacts
    notes: tuple[str, ...] = ()


def calibration_of(section: Section, file: str, optics: GuideOptics) -> Calibration:
    """Return what a calibration's rows measured.

    Parameters
    ----------
    section
        Rows under headings that tell a way, the star's place and the pulses.
    file
        The file's name.
    optics
        What the rig says: the guide rate, the guide camera's pixel, the declination where the log tells none.

    Returns
    -------
    Calibration
        ``rate × 15.041 × t × cos δ ÷ px`` on either axis; on that of declination without cos δ.
    """
    facts, notes = facts_of(section.facts), list[str]()
    values = _values(section, facts, notes)
    by_way = {quantity_value.way: quantity_value for quantity_value in values}
    moves = {way: _velocity(quantity_value) for way, quantity_value in by_way.items()}
    ra, dec = _axis(moves, _WEST, _EAST), _axis(moves, _NORTH, _SOUTH)
    declination = facts.declination_deg if facts.declination_deg is not None else optics.calibration_declination_deg
    scale = _scale(ra, dec, declination, optics, notes)
    focal = None
    if scale is not None and optics.pixel_um is not None:
        binning = facts.binning or optics.binning
        value = pixel_scale(optics.pixel_um, binning, scale.value)  # the formula is its own inverse
        focal = Estimate(value, value * scale.standard / scale.value)
    angle = None if ra is None else Estimate(math.degrees(math.atan2(ra.vy, ra.vx)) % 360, math.degrees(ra.turn))
    square = None
    if ra is not None and dec is not None:
        between = math.degrees(math.atan2(dec.vy, dec.vx) - math.atan2(ra.vy, ra.vx))
        off = abs((between + 180) % 360 - 180) - 90
        square = Estimate(off, math.degrees(math.hypot(ra.turn, dec.turn)))
    return Calibration(
        file,
        tuple(values),
        scale,
        focal,
        angle,
        square,
        _backlash(by_way, moves, notes),
        None if ra is None else Estimate(ra.speed, ra.standard),
        None if dec is None else Estimate(dec.speed, dec.standard),
        facts,
        tuple(notes),
    )


@dataclass(frozen=True)
class _Velocity:
    """How the star went: in px/s along x and y, the standard errors of its speed in px/s and of its way in radians."""

    vx: float
    vy: float
    standard: float
    turn: float
    scatter: float

    @property
    def speed(self) -> float:
        return math.hypot(self.vx, self.vy)


def _values(section: Section, facts: LogFacts, notes: list[str]) -> list[CalibrationLeg]:
    """Return the ways that were gone, each with the pulses summed up from its own beginning."""
    ways = [_way(text) for text in section.ways]
    pulses = _pulses(section, facts, notes)
    if pulses is None:
        return []
    x, y = section.values["guide.x"], section.values["guide.y"]
    rows = range(min(len(ways), len(x)))
    runs: list[list[int]] = []
    for row in rows:
        if ways[row] is None or not math.isfinite(x[row] + y[row]):
            continue
        if runs and ways[runs[-1][-1]] == ways[row]:
            runs[-1].append(row)
        else:
            runs.append([row])
    values: dict[str, CalibrationLeg] = {}
    for own in runs:
        way = ways[own[0]]
        assert way is not None
        if way in values or len(own) < MIN_POINTS:
            continue  # centring moves after the calibration proper
        place = np.array(own)
        values[way] = CalibrationLeg(way, _summed(pulses, place, section), x[place], y[place])
    return list(values.values())


def _way(text: str) -> str | None:
    plain = " ".join(text.lower().split())
    return _WAYS.get(plain) or next((own for own in (_WEST, _EAST, _NORTH, _SOUTH) if own in plain), None)


def _pulses(section: Section, facts: LogFacts, notes: list[str]) -> Any | None:
    """Return pulses in s as the rows tell them: each by itself, or all up to there."""
    if "guide.pulse" in section.values:
        return section.values["guide.pulse"] * convert(1.0, section.places["guide.pulse"].unit or "ms", "s")
    if "guide.step" in section.values and facts.pulse_ms is not None:
        return section.values["guide.step"] * (facts.pulse_ms / 1000)
    if "guide.time" in section.values:
        notes.append("no column of pulses: the times are taken as the pulses' sum")
        return section.values["guide.time"]
    notes.append("neither pulses nor their length are recorded: name the column, or write it above the rows")
    return None


def _summed(pulses: Any, place: Any, section: Section) -> Any:
    """Return for how long had been pulsed at each row of a value."""
    own = np.nan_to_num(pulses[place])
    each = "guide.pulse" in section.values and np.ptp(own[1:]) <= 1e-6 * max(abs(float(own[-1])), 1e-9)
    if each:
        steps = own.copy()
        total = np.cumsum(steps)
        return total - total[0]
    return np.abs(own - own[0])


def _velocity(quantity_value: CalibrationLeg) -> _Velocity | None:
    """Return how the star went: a line through each coordinate, from where it had begun to move."""
    t, x, y = quantity_value.pulsed_s, quantity_value.x, quantity_value.y
    away = np.hypot(x - x[0], y - y[0])
    reach = float(away.max())
    if reach <= 0 or np.ptp(t) <= 0:
        return None
    moving = np.flatnonzero(away > 0.2 * reach)
    first = max(int(moving[0]) - 1, 0) if len(moving) else 0
    # From where play is taken up; in a value that moves at once that is its first point.
    if first > 0 and away[first] > 0.5 * (away[first + 1] - away[first]):
        first = max(first - 1, 0)
    t, x, y = t[first:], x[first:], y[first:]
    if len(t) < MIN_POINTS or np.ptp(t) <= 0:
        return None
    off = t - t.mean()
    spread = float(off @ off)
    vx, vy = float(off @ x) / spread, float(off @ y) / spread
    left = np.concatenate([x - x.mean() - vx * off, y - y.mean() - vy * off])
    free = max(2 * len(t) - 4, 1)
    scatter = math.sqrt(float(left @ left) / free)
    standard = scatter / math.sqrt(spread) * student_factor(free)
    speed = math.hypot(vx, vy)
    return None if speed <= 0 else _Velocity(vx, vy, standard, standard / speed, scatter)


def _axis(moves: dict[str, _Velocity | None], forth: str, back: str) -> _Velocity | None:
    """Return an axis' way by both of its values, the one turned round."""
    one, other = moves.get(forth), moves.get(back)
    if one is None or other is None:
        return one if other is None else _Velocity(-other.vx, -other.vy, other.standard, other.turn, other.scatter)
    if abs(one.speed - other.speed) > AXES_AGREE * one.speed:
        return one
    # By halves: what a dozen points tell of their own scatter is too little to weigh by.
    vx, vy = (one.vx - other.vx) / 2, (one.vy - other.vy) / 2
    standard = math.hypot(one.standard, other.standard) / 2
    return _Velocity(vx, vy, standard, standard / math.hypot(vx, vy), math.hypot(one.scatter, other.scatter))


def _scale(
    ra: _Velocity | None, dec: _Velocity | None, declination: float | None, optics: GuideOptics, notes: list[str]
) -> Estimate | None:
    rate = SIDEREAL_ARCSEC_S * optics.rate_sidereal
    if not optics.rate_is_stated:
        notes.append(f"guide rate not stated: taken as {optics.rate_sidereal:g} × sidereal")
    found: dict[str, Estimate] = {}
    if ra is not None and declination is None:
        notes.append("the declination is not known: right ascension's steps give no scale")
    elif ra is not None and declination is not None:
        along = rate * math.cos(math.radians(declination))
        found["ra"] = Estimate(along / ra.speed, along / ra.speed * ra.standard / ra.speed)
    if dec is not None and not optics.one_axis:
        found["dec"] = Estimate(rate / dec.speed, rate / dec.speed * dec.standard / dec.speed)
    if not found:
        return None
    if len(found) == 2 and abs(found["ra"].value - found["dec"].value) > AXES_AGREE * found["ra"].value:
        notes.append(
            f"declination's steps give {found['dec'].value:.3g} ″/px, right ascension's {found['ra'].value:.3g}: the "
            "axis that starts later is slowed by play; right ascension's counts"
        )
        del found["dec"]
    weights = [1 / max(own.standard, 1e-9 * own.value) ** 2 for own in found.values()]
    value = sum(w * own.value for w, own in zip(weights, found.values(), strict=True)) / sum(weights)
    return Estimate(value, math.hypot(1 / math.sqrt(sum(weights)), RATE_STANDARD * value))


def _backlash(
    values: dict[str, CalibrationLeg], moves: dict[str, _Velocity | None], notes: list[str]
) -> Estimate | None:
    """Return for how long declination was pulsed back before the star followed, in ms."""
    forth, back = values.get(_NORTH), values.get(_SOUTH)
    if forth is None or back is None:
        notes.append("declination was not sent both ways: no backlash")
        return None
    if list(values).index(_NORTH) > list(values).index(_SOUTH):
        forth, back = back, forth
    speed = moves.get(forth.way)
    if speed is None:
        return None
    along = np.array([speed.vx, speed.vy]) / speed.speed
    begin = np.array([forth.x[-1], forth.y[-1]])
    gone = -(np.stack([back.x, back.y], axis=1) - begin) @ along
    moved = gone > max(3 * speed.scatter, 0.15 * float(gone.max(initial=0.0)))
    if moved.sum() < 2:
        notes.append("the star never followed back: the backlash is longer than the calibration's pulses")
        return None
    # Where it follows, each point tells when it began to: pulsed so long, less what it went since.
    late = back.pulsed_s[moved] - gone[moved] / speed.speed
    own = float(late.std(ddof=1)) / math.sqrt(len(late)) * student_factor(len(late) - 1)
    begun = speed.scatter / speed.speed
    return Estimate(max(float(late.mean()), 0.0) * 1000, 1000 * math.hypot(own, begun))
