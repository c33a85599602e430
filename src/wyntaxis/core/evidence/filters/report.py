"""How flats are told: light, the wheel, dust, and whether old ones serve."""

from __future__ import annotations

import math

from wyntaxis.core.evidence.filters.repeatability import repeat_verdict
from wyntaxis.core.evidence.filters.result import Dust, FilterResult, Level, Repeat, Serve
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.wording import counted, listed, plus_minus, sentence


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


def _toward(repeat: Repeat) -> float | None:
    """Return the direction of a shift in degrees, counted from x to y; None where nothing moved for certain."""
    pair = repeat.pair
    return math.degrees(math.atan2(pair.y, pair.x)) % 360 if pair.moved else None


def _moved(repeat: Repeat) -> str:
    return f"{repeat.pair.moved} of {len(repeat.pair.shadows)}"


def _yes_or_unknown(value: bool | None) -> bool | str:
    return "not known" if value is None else value


def _where(serve: Serve) -> str | None:
    found = serve.comparison
    places = "; ".join(f"{place.words} ({place.x:.0f}, {place.y:.0f} px)" for place in found.places[:3])
    return "; ".join(part for part in (places, found.why, *serve.changed) if part) or None


def _places(serve: Serve) -> list[JsonObject]:
    return [
        {"x_px": place.x, "y_px": place.y, "share": place.share, "across_px": place.across_px, "words": place.words}
        for place in serve.comparison.places
    ]


LevelColumn = Column[Level]
LEVELS = Table[FilterResult, Level](
    "levels",
    "Light of each filter",
    lambda result: result.levels,
    (
        text("filter", lambda level: level.flats.filter, "filter"),
        text("set", lambda level: level.flats.name or None),
        LevelColumn("flats", "", 0, lambda level: len(level.flats.flats), "flats"),
        LevelColumn("level", "%", 1, lambda level: level.level_share, "level_share", factor=100),
        LevelColumn("corner", "%", 1, lambda level: level.corner, factor=100),
        LevelColumn("middle off", "%", 1, lambda level: level.centre_off_share, "centre_off_share", factor=100),
        LevelColumn("brightness", "", 2, lambda level: level.brightness, "brightness"),
        LevelColumn("rotation", "°", 1, lambda level: level.flats.rotation_deg, "rotation_deg"),
        text("begun", lambda level: level.flats.time, "begun"),
        fact("corner_share", lambda level: level.corner.value),
        fact("corner_share_u", lambda level: level.corner.standard),
        fact("set", lambda level: level.flats.name),
        fact("focal_length_mm", lambda level: level.flats.focal_length_mm),
        fact("why", lambda level: level.why, optional=True),
    ),
)
RepeatColumn = Column[tuple[Repeat, float | None]]
REPEATS = Table[FilterResult, tuple[Repeat, float | None]](
    "repeatability",
    "Does the wheel stop where it did?",
    lambda result: [(repeat, result.optics.pixel_um) for repeat in result.repeats],
    (
        text("filter", lambda row: row[0].filter, "filter"),
        text("set", lambda row: row[0].name, "set"),
        RepeatColumn("shift", "px", 2, lambda row: row[0].pair.shift_px, "shift_px"),
        RepeatColumn("shift", "µm", 2, lambda row: row[0].shift_um(row[1]), "shift_um"),
        RepeatColumn("toward", "°", 0, lambda row: _toward(row[0])),
        RepeatColumn("ratio", "‰", 2, lambda row: row[0].pair.ratio_rms, "ratio_rms", factor=1000),
        RepeatColumn("noise", "‰", 2, lambda row: row[0].pair.shot_rms, "shot_rms", factor=1000),
        RepeatColumn("shadows moved", "", 0, lambda row: _moved(row[0])),
        text("turned", lambda row: _yes_or_unknown(row[0].turned)),
        text("one way", lambda row: _yes_or_unknown(row[0].one_way)),
        fact("shift_x_px", lambda row: row[0].pair.x if row[0].pair.shift_px is not None else None),
        fact("shift_y_px", lambda row: row[0].pair.y if row[0].pair.shift_px is not None else None),
        fact("moved", lambda row: bool(row[0].pair.moved)),
        fact("shadows", lambda row: len(row[0].pair.shadows)),
        fact("shadows_moved", lambda row: row[0].pair.moved),
        fact("cell_px", lambda row: row[0].pair.cell_px),
        fact("pairs", lambda row: row[0].pairs),
        fact("turned_between", lambda row: row[0].turned),
        fact("one_way", lambda row: row[0].one_way),
        fact("why", lambda row: row[0].pair.why or row[0].unseen, optional=True),
    ),
    lambda row: repeat_verdict(row[0]),
)
DustColumn = Column[Dust]
DUST = Table[FilterResult, Dust](
    "dust",
    "Where the dust lies",
    lambda result: result.dust,
    (
        DustColumn("x", "px", 0, lambda dust: dust.shadow.x, "x_px"),
        DustColumn("y", "px", 0, lambda dust: dust.shadow.y, "y_px"),
        DustColumn("outer", "px", 0, lambda dust: dust.shadow.outer_px, "outer_px"),
        DustColumn("inner", "px", 0, lambda dust: dust.shadow.inner_px or None, "inner_px"),
        DustColumn("depth", "%", 2, lambda dust: dust.shadow.depth, "depth", factor=100),
        DustColumn("before sensor", "mm", 1, lambda dust: dust.distance_mm, "distance_mm"),
        text("lies at", lambda dust: dust.surface.title if dust.surface is not None else dust.why),
        text("through", lambda dust: ", ".join(dust.filters)),
        fact("lies_at", lambda dust: dust.surface.part_id if dust.surface is not None else None),
        fact("surface", lambda dust: dust.surface.title if dust.surface is not None else None),
        fact("filters", lambda dust: dust.filters),
        fact("why", lambda dust: dust.why, optional=True),
    ),
)
ServeColumn = Column[Serve]
SERVES = Table[FilterResult, Serve](
    "serve",
    "Are the old flats still valid?",
    lambda result: result.serves,
    (
        text("filter", lambda serve: serve.filter, "filter"),
        text("old", lambda serve: serve.old, "old"),
        text("new", lambda serve: serve.new, "new"),
        text("verdict", lambda serve: serve.comparison.verdict.words),
        fact("verdict", lambda serve: serve.comparison.verdict),
        ServeColumn("worst", "%", 2, lambda serve: serve.comparison.worst, "worst_share", factor=100),
        ServeColumn("corner", "%", 2, lambda serve: serve.comparison.corner, "corner_change", factor=100),
        text("where", _where),
        fact("where", _places),
        fact("slope_across", lambda serve: serve.comparison.plane),
        fact("noise", lambda serve: serve.comparison.noise),
        fact("changed", lambda serve: serve.changed),
        fact("why", lambda serve: serve.comparison.why, optional=True),
    ),
    lambda serve: serve.comparison.verdict,
)


def _facts(result: FilterResult) -> JsonObject:
    return {
        "one_way": {
            "on_px": result.one_way_shift_px(one_way=True),
            "off_px": result.one_way_shift_px(one_way=False),
        },
        "corner_share_by_the_train": result.optics.corner_share,
    }


def _lines(result: FilterResult) -> list[str]:
    compared = one_way_text(result)
    return [compared] if compared else []


def _answer(result: FilterResult) -> str:
    parts = []
    shifts = [(pair.shift_px, repeat.filter) for repeat in result.repeats if (pair := repeat.pair).shift_px is not None]
    if shifts:
        shift, name = max(shifts, key=lambda entry: entry[0].value)
        parts.append(f"the wheel stops up to {plus_minus(shift.value, shift.standard, 2)} px off ({name})")
    if result.dust:
        places = {dust.surface.title for dust in result.dust if dust.surface is not None}
        parts.append(
            f"{counted(len(result.dust), 'dust shadow')}" + (f" on {listed(sorted(places))}" if places else "")
        )
    for words, names in _served(result).items():
        parts.append(f"old flats {words}: {listed(names)}")
    return sentence("; ".join(parts))


SERVED = {
    Verdict.HOLDS: "still valid",
    Verdict.TIGHT: "nearly out of date",
    Verdict.FAILS: "no longer valid",
    Verdict.UNPROVEN: "not verified",
}


def _served(result: FilterResult) -> dict[str, list[str]]:
    """Return the filters whose old flats were compared, by what came of it."""
    found: dict[str, list[str]] = {}
    for serve in result.serves:
        found.setdefault(SERVED[serve.comparison.verdict], []).append(serve.filter)
    return found


REPORT = Report[FilterResult](
    (LEVELS, REPEATS, DUST, SERVES), not_used=lambda result: result.not_used, answer=_answer, facts=_facts, lines=_lines
)
"""How flats are told."""
