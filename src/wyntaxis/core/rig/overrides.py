"""What a variant of a rig sets otherwise: settings of devices, the plan, and records of programs."""

from __future__ import annotations

from collections.abc import Mapping

from wyntaxis.core.json_values import JsonObject

OVERRIDES = ("devices", "plan", "records")


def overridden(own: JsonObject, variant: JsonObject) -> frozenset[str]:
    """Put what a variant sets otherwise into the document of its rig.

    Parameters
    ----------
    own
        The document; it is changed.
    variant
        The variant's own document.

    Returns
    -------
    frozenset of str
        How the paths begin of what the rig's own marks (assumed, origin, sources) hold no longer for.

    Raises
    ------
    ValueError
        For settings of a device that the rig has not.
    """
    marks: set[str] = set()
    places = {device["id"]: place for place, device in enumerate(own.get("devices", []))}
    for device_id, settings in variant.get("devices", {}).items():
        if device_id not in places:
            raise ValueError(f'devices names "{device_id}", which is no device of the rig')
        place = places[device_id]
        device = dict(own["devices"][place])
        device["settings"] = {**device.get("settings", {}), **settings}
        own["devices"] = [*own["devices"][:place], device, *own["devices"][place + 1 :]]
        marks |= {f"devices[{place}].settings.{key}" for key in settings}
    if variant.get("plan"):
        own["plan"] = {**(own.get("plan") or {}), **variant["plan"]}
        marks |= {f"plan.{key}" for key in variant["plan"]}
    if variant.get("records"):
        theirs = {record["id"]: record for record in variant["records"]}
        kept = [theirs.pop(record["id"], record) for record in own.get("records", [])]
        own["records"] = [*kept, *theirs.values()]
    return frozenset(marks)


def keep_marks(own: JsonObject, of_own: Mapping[str, str], marks: frozenset[str]) -> None:
    """Leave a variant's document the marks that hold for it, at its own paths; ``marks`` are set otherwise."""

    def holds(text: str) -> bool:
        path = of_own.get(text)
        return path is not None and not any(path == one or path.startswith((f"{one}.", f"{one}[")) for one in marks)

    if "assumed" in own:
        own["assumed"] = [of_own[text] for text in own["assumed"] if holds(text)]
    for key in ("origin", "sources"):
        if key in own:
            own[key] = {of_own[text]: entries for text, entries in own[key].items() if holds(text)}
