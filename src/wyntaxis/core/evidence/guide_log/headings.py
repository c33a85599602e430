"""What a guide log's headings mean: the axis, the quantity and the unit of each column, whatever its words."""

from __future__ import annotations

import re
from collections.abc import Sequence

from wyntaxis.core.evidence.foreign.columns import Place, TableColumn
from wyntaxis.core.evidence.foreign.keymap import KeyRule

ANGLES = ("″", "′", "°", "mas", "rad", "mrad", "µrad")
LENGTHS, TIMES = (*ANGLES, "px"), ("s", "ms", "min", "h", "d")
PULSES = ("ms", "s", *ANGLES, "px")
ARCSEC_PER = {
    "″": 1.0, "′": 60.0, "°": 3600.0, "mas": 1e-3,
    "rad": 206264.806, "mrad": 206.264806, "µrad": 0.206264806,
}  # fmt: skip
SECONDS_PER = {"s": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0, "d": 86400.0}
COLUMNS = {
    "guide.time": TableColumn("Time", "s", (), choices=TIMES),
    "guide.frame": TableColumn("Frame number", "", ()),
    "guide.ra": TableColumn("Error in right ascension", "″", (), choices=LENGTHS),
    "guide.dec": TableColumn("Error in declination", "″", (), choices=LENGTHS),
    "guide.x": TableColumn("Error along x", "px", (), choices=LENGTHS),
    "guide.y": TableColumn("Error along y", "px", (), choices=LENGTHS),
    "guide.ra_pulse": TableColumn("Correction in right ascension", "ms", (), choices=PULSES),
    "guide.dec_pulse": TableColumn("Correction in declination", "ms", (), choices=PULSES),
    "guide.ra_way": TableColumn("Which way in right ascension", "", ()),
    "guide.dec_way": TableColumn("Which way in declination", "", ()),
    "guide.strength": TableColumn("Star's strength", "", ()),
    "guide.lost": TableColumn("Star lost", "", ()),
    "guide.dither": TableColumn("Dither", "", ()),
    "guide.mark": TableColumn("Event or state", "", ()),
    "guide.way": TableColumn("Calibration: which way", "", ()),
    "guide.step": TableColumn("Calibration: step", "", ()),
    "guide.pulse": TableColumn("Calibration: pulse", "ms", (), choices=TIMES),
}
"""What a log's columns may hold; a unit that no heading tells is taken to be px for errors and ms for pulses."""

_WORD = re.compile(r"Δ|[A-ZΑ-Ω]+(?=[A-Z][a-z])|[A-ZΑ-Ωa-zα-ωµ]?[a-zα-ω]+|[A-ZΑ-Ω]+|[0-9]+|″|′|\"|''|'|°|#")
_UNIT_WORDS = {
    "px": "px", "pix": "px", "pixel": "px", "pixels": "px",
    "arcsec": "″", "arcsecs": "″", "arcsecond": "″", "arcseconds": "″", "asec": "″", "as": "″", "″": "″", '"': "″",
    "''": "″",
    "arcmin": "′", "arcmins": "′", "arcminute": "′", "arcminutes": "′", "amin": "′", "′": "′", "'": "′",
    "mas": "mas", "milliarcsec": "mas", "milliarcseconds": "mas", "deg": "°", "degs": "°", "degree": "°",
    "degrees": "°", "°": "°", "rad": "rad", "radian": "rad", "radians": "rad", "mrad": "mrad", "µrad": "µrad",
    "urad": "µrad",
    "h": "h", "hr": "h", "hrs": "h", "hour": "h", "hours": "h", "d": "d", "day": "d", "days": "d", "jd": "d",
    "mjd": "d",
    "ms": "ms", "msec": "ms", "millisecond": "ms", "milliseconds": "ms",
    "s": "s", "sec": "s", "secs": "s", "second": "s", "seconds": "s", "min": "min", "mins": "min", "minute": "min",
    "minutes": "min",
}  # fmt: skip
_CORRECTION = frozenset(
    [
        "pulse",
        "pulses",
        "corr",
        "correction",
        "corrections",
        "duration",
        "guide",
        "output",
        "move",
        "moved",
        "cmd",
        "applied",
    ]
)
_WAY = frozenset(["direction", "dir", "way", "side"])
_ERROR = frozenset(["raw", "err", "error", "errors", "offset", "distance", "dist", "dev", "deviation", "residual"])
_TIME = frozenset(
    ["time", "t", "elapsed", "timestamp", "date", "utc", "clock", "seconds", "sec", "moment", "hours", "jd", "mjd"]
)
_FOREIGN_UNIT = re.compile(r"[\[(]\s*(µm|μm|um|micron|microns|mm|cm|nm|steps|counts|adu|v|%)\s*[\])]", re.IGNORECASE)
"""Units behind a heading that no error of a guide star can be told in."""
_NO_UNIT = frozenset({"", "-", "–", "none", "n/a", "1", "[]", "()"})
_FRAME = frozenset(["frame", "index", "no", "nr", "number", "#", "count"])
_STRENGTH = frozenset(["snr", "mass", "flux", "strength", "signal", "peak", "brightness"])
_MARK = frozenset(
    ["event", "events", "status", "state", "mark", "marks", "note", "notes", "info", "flag", "message", "remark"]
)
_CALIBRATION_WAY = frozenset(["direction", "axis", "leg", "way", "move"])
_RA, _DEC = frozenset(["ra", "α", "alpha", "ascension"]), frozenset(["dec", "de", "δ", "declination", "decl"])


def words_of(heading: str) -> tuple[str, ...]:
    """Return the words of a heading in small letters: of ``RARawError_px`` ra, raw, error, px.

    A Δ before an axis is a word of its own, and no δ.
    """
    return tuple("delta" if word == "Δ" else word.lower() for word in _WORD.findall(heading.replace("μ", "µ")))


def units_of_row(cells: Sequence[str]) -> tuple[str, ...] | None:
    """Return the units that the cells of a row below the headings are, empty for none; None for a row of another kind.

    Parameters
    ----------
    cells
        Of a row.

    Returns
    -------
    tuple of str or None
        As the columns take them.
    """
    found = []
    for cell in cells:
        plain = cell.strip().strip('[]()"').strip()
        if plain.lower() in _NO_UNIT:
            found.append("")
            continue
        unit = _UNIT_WORDS.get(plain.replace("μ", "µ").lower())
        if unit is None:
            return None
        found.append(unit)
    return tuple(found) if any(found) else None


def unknown_unit(headings: Sequence[str], places: dict[str, Place]) -> str:
    """Return the heading of an error or pulse whose unit cannot be turned into arcsec or time; empty for none."""
    keys = [key for key in places if COLUMNS[key].choices]
    return next((headings[places[key].index] for key in keys if _FOREIGN_UNIT.search(headings[places[key].index])), "")


def unit_of(words: Sequence[str], among: Sequence[str]) -> str | None:
    """Return the unit that the words of a heading tell, the last that fits; None without any."""
    entries = [_UNIT_WORDS[word] for word in words if word in _UNIT_WORDS]
    return next((unit for unit in reversed(entries) if unit in among), None)


def _meaning(words: Sequence[str]) -> tuple[str, int] | None:
    """Return what a heading's words mean, and how good a match it is; None for nothing that is known."""
    own = set(words)
    if "lost" in own:
        return "guide.lost", 2
    if own & {"dither", "dithered", "dithering"}:
        return "guide.dither", 2
    return _meaning_of_axis(words) or _other_meaning(own)


def _meaning_of_axis(words: Sequence[str]) -> tuple[str, int] | None:
    """Return what a heading of right ascension or declination means; a d or Δ before an axis is its error."""
    own = set(words)
    ra = bool(own & _RA) or (own & {"right"} and "ascension" in own)
    if not ra and not own & _DEC:
        return None
    axis = "ra" if ra else "dec"
    if own & _WAY:
        return f"guide.{axis}_way", 2
    if own & _CORRECTION or unit_of(words, ("ms",)) is not None:
        return f"guide.{axis}_pulse", 2 + ("duration" in own or "pulse" in own) - ("distance" in own)
    return f"guide.{axis}", 2 + 2 * ("raw" in own) + bool(own & _ERROR)


def _other_meaning(own: set[str]) -> tuple[str, int] | None:
    if own & {"x", "dx"} or own & {"y", "dy"}:
        return ("guide.x" if own & {"x", "dx"} else "guide.y"), 2 + bool(own & {"dx", "dy"} | own & _ERROR)
    if own & _STRENGTH:
        return "guide.strength", 2 + ("snr" in own)
    if own & _CORRECTION and own & {"pulse", "duration"}:
        return "guide.pulse", 2
    if own & _CALIBRATION_WAY:
        return "guide.way", 2
    if own & {"step", "steps"}:
        return "guide.step", 2
    if own & _TIME:
        return "guide.time", 2 + ("elapsed" in own) + ("time" in own) - ("date" in own)
    if own & _FRAME:
        return "guide.frame", 2
    return ("guide.mark", 1) if own & _MARK else None


def columns_of(headings: Sequence[str], rules: Sequence[KeyRule] = ()) -> dict[str, Place]:
    """Return where each quantity of a log stands: as a key map's rules say, else by the headings' words.

    Parameters
    ----------
    headings
        A table's headings.
    rules
        What a key map says.

    Returns
    -------
    dict of str to Place
        By the keys of :data:`COLUMNS`; the unit is ours where neither tells one, empty for errors without any.
    """
    found: dict[str, Place] = {}
    stripped = [heading.strip() for heading in headings]
    for rule in rules:
        if rule.quantity in COLUMNS and rule.path in stripped:
            found[rule.quantity] = Place(stripped.index(rule.path), rule.unit or COLUMNS[rule.quantity].unit)
    taken = {place.index for place in found.values()}
    ranked: dict[str, tuple[int, int]] = {}
    for index, heading in enumerate(stripped):
        words = words_of(heading)
        meaning = _meaning(words) if index not in taken else None
        if meaning is None or meaning[0] in found:
            continue
        key, worth = meaning
        if key not in ranked or worth > ranked[key][0]:
            ranked[key] = worth, index
    for key, (_, index) in ranked.items():
        words, column = words_of(stripped[index]), COLUMNS[key]
        unit = unit_of(words, column.choices) if column.choices else ""
        usual = "s" if key == "guide.time" else "ms" if column.unit == "ms" else ""
        found[key] = Place(index, usual if unit is None else unit)
    return found


def is_guiding(places: dict[str, Place]) -> bool:
    """Return whether columns are a guided run's: an axis, and a time or a frame number."""
    axes = {"guide.ra", "guide.dec"} & places.keys() or {"guide.x", "guide.y"} <= places.keys()
    return bool(axes) and bool({"guide.time", "guide.frame"} & places.keys()) and not is_calibration(places)


def is_calibration(places: dict[str, Place]) -> bool:
    """Return whether columns are a calibration's: a way, where the star was, and how long was pulsed."""
    star = {"guide.x", "guide.y"} <= places.keys()
    pulsed = bool({"guide.step", "guide.pulse", "guide.time"} & places.keys())
    return star and "guide.way" in places and pulsed and not {"guide.ra", "guide.dec"} & places.keys()
