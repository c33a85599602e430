"""A guided run: when the star was where, in arcsec; what was corrected; when it was lost, dithered or stopped."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.guide_log.events import DITHER, LOST, SETTLED, STOPPED
from wyntaxis.core.evidence.guide_log.headings import ARCSEC_PER
from wyntaxis.core.evidence.guide_log.strength import is_ratio, saturation_notes
from wyntaxis.core.evidence.guide_log.table import DAY_S, Section
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.optics.guiding import SIDEREAL_ARCSEC_S

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints

MIN_ROWS = 8
"""Fewer frames of the star tell nothing."""
BREAK_INTERVALS, BREAK_S = 12.0, 60.0
"""A pause of more usual intervals, and of more seconds, breaks a run into stretches."""
NEW_RUN_S = 6 * 3600.0
"""A longer pause begins another run."""
ONE_SIDED_SHARE = 0.15
"""Who corrects one way only answers hardly any errors of the other sign: seeing makes a few."""
SCALES_AGREE = 0.05
"""The log's scale and the rig's may differ by this share before it is said."""
_FIGURE = re.compile(r"[+-]?[0-9]+(?:[.,][0-9]+)?")


@dataclass(frozen=True)
class LogFacts:
    """What lines beside the rows tell, None where they do not."""

    scale_arcsec_px: float | None = None
    exposure_s: float | None = None
    declination_deg: float | None = None
    hour_angle_h: float | None = None
    pier_side: str | None = None
    binning: int | None = None
    focal_length_mm: float | None = None
    pulse_ms: float | None = None
    date: str | None = None
    unguided: bool = False
    """Whether it is said that nothing was corrected."""


@dataclass(frozen=True)
class GuideRun:
    """A guided run.

    ``time_s`` (n,) counts from its first frame, without what clocks were set by; ``ra`` and ``dec`` (n,) are errors in
    arcsec, NaN where the star was lost; ``ra_moved`` and ``dec_moved`` (n,) what was corrected after each frame, in
    arcsec, without a sign that can be trusted, None where the log does not tell. ``stretch`` (n,) numbers the stretches
    between pauses; ``dithers`` and ``settled`` hold rows.
    """

    name: str
    file: str
    time_s: Floats
    ra: Floats
    dec: Floats
    ra_moved: Floats | None
    dec_moved: Floats | None
    lost: Flags
    stretch: Ints
    dithers: tuple[int, ...] = ()
    settled: tuple[int, ...] = ()
    strength: Floats | None = None
    """Of the star in each frame, (n,), as the log has it; and whether that is a signal-to-noise ratio."""
    has_ratio: bool = False
    start_s: float | None = None
    """When it began, in s since 1970, where the log tells a date."""
    facts: LogFacts = field(default_factory=LogFacts)
    notes: tuple[str, ...] = ()

    @property
    def has_corrections(self) -> bool:
        """Whether the log tells what was corrected in declination."""
        return self.dec_moved is not None

    @property
    def seconds(self) -> float:
        """How long it lasted, pauses left out."""
        own, time = self.stretch, self.time_s
        return float(sum(np.ptp(time[own == number]) for number in np.unique(own)))

    @property
    def interval_s(self) -> float:
        """The usual time from one frame to the next."""
        steps = np.diff(self.time_s)
        steps = steps[steps > 0]
        return float(np.median(steps)) if len(steps) else 0.0


@dataclass(frozen=True)
class GuideOptics:
    """What a log is told of the rig; None where it does not say."""

    scale_arcsec_px: float | None = None
    """Of the guide camera."""
    pixel_um: float | None = None
    binning: int = 1
    main_scale_arcsec_px: float | None = None
    rate_sidereal: float = 0.5
    rate_is_stated: bool = False
    declination_deg: float | None = None
    """Where is guided; and below, where the calibration was made."""
    calibration_declination_deg: float | None = None
    stop_limit_arcsec: float | None = None
    settle_arcsec: float | None = None
    settle_s: float = 0.0
    star_fwhm_arcsec: float | None = None
    one_axis: bool = False


_SEXAGESIMAL = re.compile(r"([+-]?)([0-9]{1,3})[:°hd\s]+([0-9]{1,2})(?:[:′'m\s]+([0-9]{1,2}(?:[.,][0-9]+)?))?")
_AXIS_WORDS = frozenset({"declination", "dec"})
_PLAIN_WORDS = frozenset(
    ["target", "star", "object", "mount", "scope", "telescope", "current", "jnow", "j", "deg", "degrees", "position"]
)
"""Words beside "dec" that leave it a declination; of a guider's settings, such as its aggressiveness, others stand."""


def facts_of(entries: dict[str, str]) -> LogFacts:
    """Return what lines beside the rows tell, by their words."""
    values: JsonObject = {}
    for key, text in entries.items():
        words = frozenset(re.findall(r"[a-z]+", key))
        figure = _FIGURE.search(text)
        value = float(figure[0].replace(",", ".")) if figure else None
        found = _optics_fact(words, text, value) or _pointing_fact(words, text) or _guider_fact(words, text, value)
        if found is not None and found[1] is not None:
            values.setdefault(*found)
    return LogFacts(**values)


_Fact = tuple[str, Any]
"""What a line is about, and its value; None where that makes no sense."""


def _optics_fact(words: frozenset[str], text: str, value: float | None) -> _Fact | None:
    own = text.lower()
    if "scale" in words and not words & {"full", "max", "min"} and value is not None:
        scale = value * (0.001 if "mas" in own else 60.0 if "arcmin" in own else 1.0)
        return "scale_arcsec_px", scale if 0 < scale < 1000 else None
    if "exposure" in words and value is not None and value > 0:
        return "exposure_s", value / 1000 if "ms" in own else value
    return None


def _pointing_fact(words: frozenset[str], text: str) -> _Fact | None:
    own = text.lower()
    if words & _AXIS_WORDS:
        declination = _angle(text) if words <= _AXIS_WORDS | _PLAIN_WORDS else None
        return "declination_deg", declination if declination is not None and abs(declination) <= 90 else None
    if "hour" in words and "angle" in words:
        hours = _angle(text)
        if hours is None or abs(hours) > 24:
            return "hour_angle_h", None
        return "hour_angle_h", hours / 15 if "°" in text or "deg" in own else hours
    if "pier" in words:
        return "pier_side", next((side for side in ("west", "east") if side in own), text.strip()[:20])
    return None


def _guider_fact(words: frozenset[str], text: str, value: float | None) -> _Fact | None:
    own = text.lower()
    if words & {"binning", "bin"} and value is not None and 1 <= value <= 64:
        return "binning", round(value)
    if "focal" in words and value is not None and value > 0:
        return "focal_length_mm", value
    if "pulse" in words and not words & _LIMIT_WORDS and value is not None and value > 0:
        return "pulse_ms", value if "ms" in own or value > 20 else value * 1000
    if words & {"guiding", "guided", "corrections", "output"} and own.strip() in _OFF_WORDS:
        return "unguided", True
    return ("date", text[:40]) if "date" in words else None


_LIMIT_WORDS = frozenset({"max", "maximum", "min", "minimum", "limit", "least", "ra", "backlash", "compensation"})
_OFF_WORDS = frozenset({"off", "no", "false", "disabled", "none", "unguided"})


def _angle(text: str) -> float | None:
    """Return an angle in degrees or a time in hours, also with minutes and seconds; None for what has another unit."""
    parts = _SEXAGESIMAL.search(text)
    if parts is not None:
        minus, whole, minutes, seconds = parts.groups()
        size = float(whole) + float(minutes) / 60 + float((seconds or "0").replace(",", ".")) / 3600
        return -size if minus == "-" else size
    plain = re.fullmatch(r"\s*([+-]?[0-9]+(?:[.,][0-9]+)?)\s*(?:°|deg|degs|degrees?|h|hours?)?\s*", text.lower())
    return float(plain[1].replace(",", ".")) if plain else None


def runs_of_section(section: Section, file: str, name: str, optics: GuideOptics) -> list[GuideRun]:
    """Return the runs that a section holds: more than one where a pause of hours lies between.

    Parameters
    ----------
    section
        Rows under one line of headings.
    file, name
        The file's name, and what the run is called.
    optics
        What the rig says: the guide camera's scale turns px into arcsec.

    Returns
    -------
    list of GuideRun
        In their order.

    Raises
    ------
    InputError
        In one line, where the rows do not make a run.
    """
    facts = facts_of(section.facts)
    notes: list[str] = []
    time, start, broken = _times(section, facts, notes)
    good = np.isfinite(time)
    if good.sum() < MIN_ROWS:
        raise InputError(f"holds {int(good.sum())} rows with a time; a guided run needs {MIN_ROWS} or more")
    ra, dec = _errors(section, facts, optics, notes)
    lost = ~(np.isfinite(ra) & np.isfinite(dec))
    for one, other in ((ra, dec), (dec, ra)):
        if not np.isfinite(other).any():  # only one axis is told
            lost = ~np.isfinite(one)
    rows = [row for row, event in section.events if event == LOST and row < len(lost)]
    lost[rows] = True
    strength = section.values.get("guide.strength")
    if strength is not None and np.nanmax(strength, initial=-np.inf) > 0:
        lost |= strength[: len(lost)] <= 0  # no light is no star, whatever the errors say
    if (~lost)[good].sum() < MIN_ROWS:
        raise InputError(f"holds fewer than {MIN_ROWS} frames of the star, too few to measure the guiding")
    notes += saturation_notes(section, strength, lost)
    moved = [_moved(section, axis, facts, optics, own, notes) for axis, own in (("ra", ra), ("dec", dec))]
    _hold_scales(facts, optics, notes)
    breaks = broken | np.isin(np.arange(len(time)), [row for row, event in section.events if event == STOPPED])
    stretch = np.cumsum(breaks)
    ra, dec = np.where(lost, np.nan, ra), np.where(lost, np.nan, dec)
    parts = _nights(time, good)
    runs = []
    for number, part in enumerate(parts):
        place = np.full(len(time), -1)
        place[part] = np.arange(len(part))
        events = {
            kind: tuple(int(place[row]) for row, event in section.events if event == kind and _at(place, row) >= 0)
            for kind in (DITHER, SETTLED)
        }
        if len(part) < MIN_ROWS:
            continue
        runs.append(
            GuideRun(
                name if len(parts) == 1 else f"{name}, part {number + 1}",
                file,
                time[part] - time[part[0]],
                ra[part],
                dec[part],
                None if moved[0] is None else moved[0][part],
                None if moved[1] is None else moved[1][part],
                lost=lost[part],
                stretch=stretch[part] - stretch[part[0]],
                dithers=_apart(events[DITHER]),
                settled=events[SETTLED],
                strength=None if strength is None else strength[part],
                has_ratio=is_ratio(section),
                start_s=None if start is None else start + float(time[part[0]]),
                facts=facts,
                notes=tuple(notes),
            )
        )
    return runs


def _at(place: Ints, row: int) -> int:
    return int(place[row]) if 0 <= row < len(place) else -1


def _apart(rows: Sequence[int]) -> tuple[int, ...]:
    """Return the rows of dithers, of those that are told in one go (a line, and a mark on rows behind it) the first."""
    found: list[int] = []
    last = -10
    for row in sorted(set(rows)):
        if row > last + 1:
            found.append(row)
        last = row
    return tuple(found)


def _nights(time: Floats, good: Flags) -> list[Any]:
    """Return the rows of each run: apart where the time goes on by hours."""
    rows = np.flatnonzero(good)
    cuts = np.flatnonzero(np.diff(time[rows]) > NEW_RUN_S) + 1
    return [part for part in np.split(rows, cuts) if len(part)]


def _times(section: Section, facts: LogFacts, notes: list[str]) -> tuple[Any, float | None, Any]:
    """Return times going on, in s from the first; the moment of the first; and where a stretch begins anew."""
    frames = section.values.get("guide.frame")
    if "guide.time" not in section.values:
        exposure = facts.exposure_s
        if exposure is None or frames is None:
            raise InputError("has no times: name the column, or write the exposure above the rows (exposure = 2 s)")
        notes.append(f"no column of times: frames counted, {exposure:g} s each")
        time = frames * exposure
    else:
        time = section.values["guide.time"].copy()
    finite = np.flatnonzero(np.isfinite(time))
    if not len(finite):
        return time, None, np.zeros(len(time), bool)
    dated = not section.clock and abs(time[finite[0]]) > 1e8
    start = float(time[finite[0]]) if dated else None
    own = time[finite]
    if section.clock:
        own = own + DAY_S * np.cumsum(np.concatenate([[0], np.diff(own) < -DAY_S / 2]))
    steps = np.diff(own)
    ahead = steps[steps > 0]
    usual = float(np.median(ahead)) if len(ahead) else 1.0
    longest = max(BREAK_INTERVALS * usual, BREAK_S)
    back = steps < 0
    jumped = (steps > longest) & (steps < NEW_RUN_S)
    goes_on = np.zeros(len(steps), bool)
    if frames is not None:
        # Where frames are counted on, a jump of the time is the clock's, not a pause.
        goes_on = jumped & (np.diff(frames[finite]) == 1)
    if back.any() or goes_on.any():
        notes.append(
            f"the clock was set {int(back.sum() + goes_on.sum())} times in between: counted on with the usual "
            f"{usual:.3g} s there"
        )
    steps = np.where(back | goes_on, usual, steps)
    broken = np.zeros(len(time), bool)
    broken[finite[1:][jumped & ~goes_on]] = True
    even = np.full(len(time), np.nan)
    even[finite] = np.concatenate([[0.0], np.cumsum(steps)])
    return even, start, broken


def _errors(section: Section, facts: LogFacts, optics: GuideOptics, notes: list[str]) -> tuple[Floats, Floats]:
    """Return the errors on both axes in arcsec."""
    keys = ("guide.ra", "guide.dec")
    if not any(key in section.values for key in keys):
        keys = ("guide.x", "guide.y")
        notes.append("only x and y are recorded: taken as right ascension and declination")
    arrays = []
    for key in keys:
        values = section.values.get(key)
        if values is None:
            arrays.append(np.full(section.rows, np.nan))
            notes.append(f"only one axis is recorded: {section.headings[section.places[_other(keys, key)].index]}")
            continue
        arrays.append(values * _arcsec(section.places[key].unit, section.headings, facts, optics, notes))
    return arrays[0], arrays[1]


def _other(keys: Sequence[str], key: str) -> str:
    return keys[1] if key == keys[0] else keys[0]


def _hold_scales(facts: LogFacts, optics: GuideOptics, notes: list[str]) -> None:
    """Note where the log uses another scale than the rig makes."""
    entries, own = facts.scale_arcsec_px, optics.scale_arcsec_px
    if entries is None or own is None or abs(entries / own - 1) <= SCALES_AGREE:
        return
    notes.append(
        f"the log uses {entries:.4g} ″/px, the rig makes {own:.4g}: {entries / own:.3g} times; binning or reducer?"
    )


def _arcsec(unit: str, headings: Sequence[str], facts: LogFacts, optics: GuideOptics, notes: list[str]) -> float:
    """Return what one of a column's unit is in arcsec."""
    if unit in ARCSEC_PER:
        return ARCSEC_PER[unit]
    scale = optics.scale_arcsec_px or facts.scale_arcsec_px
    if scale is None:
        raise InputError("its errors are in px, and no scale is known: give the rig a guide camera, or write the scale")
    text = "taken as" if not unit else "are"
    line = f"errors {text} guide px, {scale:.4g} ″ each" + ("" if optics.scale_arcsec_px else ", as the log says")
    if line not in notes:
        notes.append(line)
    return scale


def _moved(
    section: Section, axis: str, facts: LogFacts, optics: GuideOptics, errors: Floats, notes: list[str]
) -> Floats | None:
    """Return what was corrected after each frame in arcsec, by its sign or direction; None where neither is told."""
    values = section.values.get(f"guide.{axis}_pulse")
    if values is None:
        return None
    unit = section.places[f"guide.{axis}_pulse"].unit
    if unit in ("ms", "s"):
        declination = facts.declination_deg if facts.declination_deg is not None else optics.declination_deg
        along = math.cos(math.radians(declination or 0.0)) if axis == "ra" else 1.0
        factor = SIDEREAL_ARCSEC_S * optics.rate_sidereal * along * (0.001 if unit == "ms" else 1.0)
    elif unit == "px":
        scale = optics.scale_arcsec_px or facts.scale_arcsec_px
        if scale is None:
            return None
        factor = scale
    else:
        factor = ARCSEC_PER[unit]
    moved = np.nan_to_num(values) * factor
    ways = section.values.get(f"guide.{axis}_way")
    if ways is not None and np.isfinite(ways).any():
        moved = np.abs(moved) * np.nan_to_num(ways)
    elif _lacks_sign(moved, errors):
        name = "right ascension" if axis == "ra" else "declination"
        notes.append(f"corrections in {name} have neither sign nor direction: they are not counted")
        return None
    return moved[: len(errors)] if np.any(moved) else None


def _lacks_sign(moved: Floats, errors: Floats) -> bool:
    """Return whether corrections are told by their size alone: all of one sign, though they answer errors of both."""
    if not (np.all(moved >= 0) or np.all(moved <= 0)):
        return False
    answered = errors[(moved[: len(errors)] != 0) & np.isfinite(errors)]
    if len(answered) < MIN_ROWS:
        return False
    above = float(np.mean(answered > 0))
    return min(above, 1 - above) > ONE_SIDED_SHARE
