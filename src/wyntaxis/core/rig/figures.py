"""Makers' figures that differ: a value may have several sources; the chosen one says why."""

from __future__ import annotations

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import marked_field, parse_path, value_at
from wyntaxis.core.rig.model import Rig, Sourced
from wyntaxis.core.wording import short, utc_stamp


def conflicting_paths(rig: Rig) -> tuple[str, ...]:
    """Return the paths of values for which somebody gives another figure."""
    return tuple(path for path, entries in rig.sources.items() if entries.others)


def conflict_words(rig: Rig, text: str) -> str:
    """Return a disputed value in words: the chosen figure and the others, each with who gives it, and the reason."""
    entries, field = rig.sources[text], marked_field(rig, text)
    unit = f" {field.unit}" if field.unit else ""
    chosen = f"{field.title} {short(float(field.value))}{unit}"
    if entries.source:
        chosen += f" ({entries.source})"
    others = ", ".join(f"{short(other.value)}{unit} ({other.source})" for other in entries.others)
    return f"{chosen} against {others}" + (f"; taken because {entries.reason}" if entries.reason else "")


def spread_of(rig: Rig, text: str) -> tuple[float, float]:
    """Return the lowest and the highest figure that is given for a value, the chosen one among them."""
    figures = [float(value_at(rig, parse_path(text))), *(other.value for other in rig.sources[text].others)]
    return min(figures), max(figures)


def add_figure(rig: Rig, text: str, value: float, source: str) -> Change:
    """Return the edit that notes what somebody else gives for a value.

    Parameters
    ----------
    rig, text
        The rig, and the path of a number in it.
    value, source
        The figure in the value's unit, and who gives it.

    Returns
    -------
    Change
        One edit.

    Raises
    ------
    InputError
        Without a source, or for a figure that is noted already.
    """
    if not source.strip():
        raise InputError("say who gives this figure")
    entries = rig.sources.get(text, Sourced())
    if any(other.value == value and other.source == source.strip() for other in entries.others):
        raise InputError(f"{short(value)} by {source.strip()} is noted already")
    entry = entries.model_dump(mode="json", exclude_none=True)
    entry["others"] = [*entry.get("others", []), {"value": value, "source": source.strip()}]
    return _set(rig, text, entry, "Note another figure")


def give_reason(rig: Rig, text: str, source: str, reason: str) -> Change:
    """Return the edit that says where a value comes from, and why it is this one; neither takes the note away."""
    entry = rig.sources.get(text, Sourced()).model_dump(mode="json", exclude_none=True)
    for key, words in (("source", source), ("reason", reason)):
        entry.pop(key, None)
        if words.strip():
            entry[key] = words.strip()
    if entry.get("reason"):
        entry["date"] = utc_stamp()
    return _set(rig, text, entry if entry.get("others") or len(entry.keys() - {"others", "date"}) else None, "Say why")


def choose_figure(rig: Rig, text: str, place: int, reason: str) -> Change:
    """Return the edit that takes one of the other figures, with the reason; the one taken so far joins the others.

    Raises
    ------
    InputError
        For a place where there is no figure, or without a reason.
    """
    entries = rig.sources.get(text, Sourced())
    if not 0 <= place < len(entries.others):
        raise InputError("there is no such figure")
    if not reason.strip():
        raise InputError("say why this figure is taken")
    path = parse_path(text)
    others = [other.model_dump(mode="json") for other in entries.others]
    taken = others.pop(place)
    others.append({"value": float(value_at(rig, path)), "source": entries.source or "as it was"})
    entry = {"source": taken["source"], "reason": reason.strip(), "date": utc_stamp(), "others": others}
    change = _set(rig, text, entry, "Take another figure")
    return Change(change.label, ((path, taken["value"]), *change.values))


def drop_figure(rig: Rig, text: str, place: int) -> Change:
    """Return the edit that forgets one of the other figures."""
    entries = rig.sources.get(text, Sourced())
    if not 0 <= place < len(entries.others):
        raise InputError("there is no such figure")
    entry = entries.model_dump(mode="json", exclude_none=True)
    del entry["others"][place]
    return _set(rig, text, entry if entry["others"] or entries.source or entries.reason else None, "Forget a figure")


def _set(rig: Rig, text: str, entry: dict[str, object] | None, label: str) -> Change:
    return Change.of(label, ("sources", text), entry)
