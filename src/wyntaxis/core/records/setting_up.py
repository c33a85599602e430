"""A carried rig's set-up: what it makes not verified again, and which conditions of the imager's own are met."""

from __future__ import annotations

import datetime

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import calibration_from_earlier_setup, from_earlier_setup
from wyntaxis.core.rig.setup import OwnCondition
from wyntaxis.core.wording import utc_stamp

NIGHT = datetime.timedelta(hours=18)
MONTH = datetime.timedelta(days=31)
STANDS = {"permanent": "stands permanently", "covered": "stays outside under a cover", "carried": "is carried"}
"""How a rig stands, in words."""
MOST_DONE = 4000
"""So many entries of what was done are kept, some two hundred nights."""


def is_met(rig: Rig, condition: OwnCondition, now: datetime.datetime) -> bool:
    """Return whether a condition of the imager's own is met at a moment: ticked since it last came up.

    A night's comes up after 18 hours, a month's after 31 days, others at each set-up of a carried rig; after a swap it
    is ticked by hand again.
    """
    setup = rig.setup
    if setup is None:
        return False
    own_entries = [own for own in setup.done if own.condition == condition.id and own.outcome in (None, "done")]
    dates = [moment for own in own_entries if (moment := moment_of(own.date))]
    last = max(dates, default=None)
    if last is None:
        return False
    if condition.when == "night":
        return now - last <= NIGHT
    if condition.when == "monthly":
        return now - last <= MONTH
    begun = moment_of(setup.date or "") if setup.kind == "carried" else None
    return begun is None or last >= begun


def moment_of(text: str) -> datetime.datetime | None:
    """Return a moment of a rig file with its zone, UTC where it names none; None for what is no moment."""
    try:
        found = datetime.datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=datetime.UTC)


def started(rig: Rig) -> Change:
    """Return the edit that begins a set-up now.

    Raises
    ------
    ValueError
        For a rig that stands where it is.
    """
    if rig.setup is not None and rig.setup.kind != "carried":
        raise ValueError(f"the rig {STANDS[rig.setup.kind]}: it is not set up; say that it is carried first")
    entries: JsonObject = {"kind": "carried", "date": utc_stamp()}
    if rig.setup is not None and rig.setup.done:
        entries["done"] = [own.model_dump(mode="json", exclude_unset=True) for own in rig.setup.done]
    return Change("Begin a set-up", ((("setup",), entries),))


def done(rig: Rig, condition_id: str, minutes: float | None = None) -> Change:
    """Return the edit that ticks a condition of the imager's own now.

    Raises
    ------
    ValueError
        For a condition that there is none of.
    """
    known = [own.id for own in rig.conditions]
    if condition_id not in known:
        raise ValueError(f"there is no condition {condition_id[:40]}; there are: {', '.join(known) or 'none'}")
    entry: JsonObject = {"condition": condition_id, "date": utc_stamp()}
    if minutes is not None:
        entry["minutes"] = minutes
    return done_entries(rig, entry, "Tick a condition")


def done_entries(rig: Rig, entry: JsonObject, label: str) -> Change:
    """Return the edit that adds an entry to what was done; the oldest go where there are very many."""
    if rig.setup is None:
        # By their own places: what another program ticks at the same time is not replaced.
        return Change(label, ((("setup", "kind"), "permanent"), (("setup", "done", 0), entry)))
    have = len(rig.setup.done)
    if have < MOST_DONE:
        return Change(label, ((("setup", "done", have), entry),))
    kept = [own.model_dump(mode="json", exclude_unset=True) for own in rig.setup.done[-MOST_DONE // 2 :]]
    return Change(label, ((("setup", "done"), [*kept, entry]),))


def setup_json(rig: Rig, now: datetime.datetime) -> JsonObject:
    """Return how a rig stands, what its set-up leaves to be measured again, and its own conditions."""
    setup = rig.setup
    again = calibration_from_earlier_setup(rig)
    return {
        "kind": setup.kind if setup is not None else None,
        "date": setup.date if setup is not None else None,
        "not_verified": [entry.row_id for entry in (*from_earlier_setup(rig), *([again] if again else []))],
        "conditions": [
            {
                "id": own.id,
                "text": own.text,
                "when": own.when,
                "required": own.required,
                "done": is_met(rig, own, now),
            }
            for own in rig.conditions
        ],
    }
