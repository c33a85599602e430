"""Flats as JSON, and as rows of texts for tables."""

from __future__ import annotations

import math
from typing import Any

from wyntaxis.core.evidence.filters.result import Dust, FilterResult, Level, Repeat, Serve
from wyntaxis.core.evidence.measured import figure
from wyntaxis.core.wording import number, plus_minus


def filters_json(result: FilterResult) -> dict[str, Any]:
    """Return flats as ``wyntaxis filters --json`` prints them.

    Parameters
    ----------
    result
        Flats, measured.

    Returns
    -------
    dict
        Plain values; figures with their standard uncertainty, null with ``why`` beside where there is none.
    """
    return {
        "levels": [_level(entry) for entry in result.levels],
        "repeatability": [_repeat(entry, result) for entry in result.repeats],
        "one_way": {
            "on_px": figure(result.one_way_shift_px(one_way=True)),
            "off_px": figure(result.one_way_shift_px(one_way=False)),
        },
        "dust": [_dust(entry) for entry in result.dust],
        "serve": [_serve(entry) for entry in result.serves],
        "corner_share_by_the_train": result.optics.corner_share,
        "not_used": [{"file": entry.path, "why": entry.why} for entry in result.not_used],
    }


def _level(entry: Level) -> dict[str, Any]:
    flats = entry.flats
    entries = {
        "filter": flats.filter,
        "set": flats.name,
        "flats": len(flats.flats),
        "begun": flats.time.isoformat() if flats.time is not None else None,
        "rotation_deg": flats.rotation_deg,
        "focal_length_mm": flats.focal_length_mm,
        "level_share": entry.level_share,
        "corner_share": entry.corner_share,
        "centre_off_share": entry.centre_off_share,
        "brightness": entry.brightness,
    }
    return entries | ({"why": entry.why} if entry.why else {})


def _repeat(entry: Repeat, result: FilterResult) -> dict[str, Any]:
    pair = entry.pair
    entries = {
        "filter": entry.filter,
        "set": entry.name,
        "shift_px": figure(pair.shift_px),
        "shift_um": figure(entry.shift_um(result.optics.pixel_um)),
        "shift_x_px": pair.x if pair.shift_px is not None else None,
        "shift_y_px": pair.y if pair.shift_px is not None else None,
        "moved": bool(pair.moved),
        "shadows": len(pair.shadows),
        "shadows_moved": pair.moved,
        "ratio_rms": pair.ratio_rms,
        "shot_rms": pair.shot_rms,
        "cell_px": pair.cell_px,
        "pairs": entry.pairs,
        "turned_between": entry.turned,
        "one_way": entry.one_way,
    }
    return entries | ({"why": pair.why} if pair.why else {})


def _dust(entry: Dust) -> dict[str, Any]:
    shadow = entry.shadow
    entries = {
        "x_px": shadow.x,
        "y_px": shadow.y,
        "outer_px": figure(shadow.outer_px),
        "inner_px": shadow.inner_px or None,
        "depth": shadow.depth,
        "distance_mm": figure(entry.distance_mm),
        "lies_at": entry.surface.part_id if entry.surface is not None else None,
        "surface": entry.surface.title if entry.surface is not None else None,
        "filters": list(entry.filters),
    }
    return entries | ({"why": entry.why} if entry.why else {})


def _serve(entry: Serve) -> dict[str, Any]:
    entries = entry.comparison
    found = {
        "filter": entry.filter,
        "old": entry.old,
        "new": entry.new,
        "verdict": str(entries.verdict),
        "where": [
            {"x_px": place.x, "y_px": place.y, "share": place.share, "across_px": place.across_px, "words": place.words}
            for place in entries.places
        ],
        "worst_share": entries.worst,
        "corner_change": entries.corner,
        "slope_across": entries.plane,
        "noise": entries.noise,
        "changed": list(entry.changed),
    }
    return found | ({"why": entries.why} if entries.why else {})


def one_way_text(result: FilterResult) -> str:
    """Return in a sentence how the wheel stops turning one way and both; empty where only one was taken.

    Parameters
    ----------
    result
        Flats, measured.

    Returns
    -------
    str
        With units.
    """
    on, off = result.one_way_shift_px(one_way=True), result.one_way_shift_px(one_way=False)
    if on is None or off is None:
        return ""
    return (
        f"Turning one way it stops {plus_minus(on.value, on.standard, 2)} px off, both ways "
        f"{plus_minus(off.value, off.standard, 2)} px."
    )


LEVEL_HEADINGS = ("filter", "set", "flats", "level %", "corner %", "middle off %", "brightness", "rotation °", "begun")
REPEAT_HEADINGS = (
    "filter",
    "set",
    "shift px",
    "shift µm",
    "toward °",
    "ratio ‰",
    "noise ‰",
    "shadows moved",
    "turned",
    "one way",
)
DUST_HEADINGS = ("x px", "y px", "outer px", "inner px", "depth %", "before sensor mm", "lies at", "through")
SERVE_HEADINGS = ("filter", "old", "new", "verdict", "worst %", "corner %", "where")


def level_row(entry: Level) -> list[str]:
    """Return one set's light as the cells under :data:`LEVEL_HEADINGS`.

    Parameters
    ----------
    entry
        One set.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """
    flats = entry.flats
    return [
        flats.filter,
        flats.name or "–",
        str(len(flats.flats)),
        number(100 * entry.level_share, 1),
        number(100 * entry.corner_share, 1),
        "–" if entry.centre_off_share is None else number(100 * entry.centre_off_share, 1),
        "–" if entry.brightness is None else number(entry.brightness, 2),
        "–" if flats.rotation_deg is None else number(flats.rotation_deg, 1),
        "–" if flats.time is None else flats.time.strftime("%Y-%m-%d %H:%M"),
    ]


def repeat_row(entry: Repeat, pixel_um: float | None) -> list[str]:
    """Return how one filter comes back as the cells under :data:`REPEAT_HEADINGS`.

    Parameters
    ----------
    entry
        One filter of one set.
    pixel_um
        The sensor's pixel in µm, None where nobody told.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """
    pair = entry.pair
    shift, um = pair.shift_px, entry.shift_um(pixel_um)
    words = {True: "yes", False: "no", None: "not known"}
    return [
        entry.filter,
        entry.name,
        "–" if shift is None else plus_minus(shift.value, shift.standard, 2),
        "–" if um is None else plus_minus(um.value, um.standard, 2),
        number(math.degrees(math.atan2(pair.y, pair.x)) % 360, 0) if pair.moved else "–",
        number(1000 * pair.ratio_rms, 2),
        number(1000 * pair.shot_rms, 2),
        f"{pair.moved} of {len(pair.shadows)}",
        words[entry.turned],
        words[entry.one_way],
    ]


def dust_row(entry: Dust) -> list[str]:
    """Return one grain as the cells under :data:`DUST_HEADINGS`.

    Parameters
    ----------
    entry
        A grain of dust.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """
    shadow, distance = entry.shadow, entry.distance_mm
    return [
        number(shadow.x, 0),
        number(shadow.y, 0),
        plus_minus(shadow.outer_px.value, shadow.outer_px.standard, 0),
        number(shadow.inner_px, 0) if shadow.inner_px else "–",
        number(100 * shadow.depth, 2),
        "–" if distance is None else plus_minus(distance.value, distance.standard, 1),
        entry.surface.title if entry.surface is not None else entry.why,
        ", ".join(entry.filters),
    ]


def serve_row(entry: Serve) -> list[str]:
    """Return one comparison as the cells under :data:`SERVE_HEADINGS`.

    Parameters
    ----------
    entry
        Old and new flats of one filter.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """
    entries = entry.comparison
    where = "; ".join(f"{place.words} ({place.x:.0f}, {place.y:.0f} px)" for place in entries.places[:3])
    return [
        entry.filter,
        entry.old,
        entry.new,
        str(entries.verdict),
        number(100 * entries.worst, 2),
        number(100 * entries.corner, 2),
        "; ".join(part for part in (where, entries.why, *entry.changed) if part) or "–",
    ]
