"""A rig's incidents: found by words, by symptom, or by what a finding is about; the newest first."""

from __future__ import annotations

from collections.abc import Sequence

from wyntaxis.core.rig.incidents import SYMPTOMS, Incident
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import counted

MOST_SHOWN = 5
"""How many incidents stand above a symptom of the guide."""


def title_of(rig: Rig, incident: Incident) -> str:
    """Return what an incident is of, as people call it; empty where it is of nothing."""
    things = {device.id: device.title for device in rig.devices} | {own.id: own.title for own in rig.programs}
    about = incident.about
    return things.get(about, about.replace("_", " ")) if about is not None else ""


def matching(rig: Rig, words: Sequence[str] = ()) -> tuple[Incident, ...]:
    """Return the incidents that hold all of some words, in any case and anywhere.

    Parameters
    ----------
    rig
        The rig.
    words
        Parts of words; all incidents where there are none.

    Returns
    -------
    tuple of Incident
        The newest first.
    """
    wanted = [word.casefold() for text in words for word in text.split()]
    found = [incident for incident in rig.incidents if all(word in _text(rig, incident) for word in wanted)]
    return tuple(sorted(found, key=lambda incident: incident.date, reverse=True))


def _text(rig: Rig, incident: Incident) -> str:
    texts = (incident.date, title_of(rig, incident), incident.about, incident.symptom, incident.tried, incident.cure)
    return " ".join(text for text in texts if text).casefold()


def incidents_about(rig: Rig, subject: str) -> tuple[Incident, ...]:
    """Return the incidents of a device, a program or a step by its id, the newest first."""
    return tuple(incident for incident in matching(rig) if incident.about == subject)


def of_symptom(rig: Rig, symptom: str) -> tuple[Incident, ...]:
    """Return the incidents of a shipped symptom, those with a cure first, then the newest first."""
    found = [own for own in matching(rig) if own.symptom.strip().casefold() == symptom]
    return tuple(sorted(found, key=lambda own: not own.cure))


def above_each_symptom(rig: Rig) -> dict[str, tuple[str, ...]]:
    """Return what is noted of each shipped symptom, by the section of the guide's page "By symptom", a line each."""
    found = {symptom: of_symptom(rig, symptom) for symptom in SYMPTOMS}
    return {
        symptom.replace(" ", "-"): tuple(in_a_line(own) for own in incidents[:MOST_SHOWN])
        for symptom, incidents in found.items()
        if incidents
    }


def in_a_line(incident: Incident) -> str:
    """Return an incident in one line: the day, what was seen, and what cured it."""
    text = f"{incident.date[:10]}: {incident.symptom}"
    if incident.cure:
        text += f"; cured by: {incident.cure}"
    elif incident.tried:
        text += f"; tried without a cure: {incident.tried}"
    return text + (f"; {counted(incident.frames_lost, 'frame')} lost" if incident.frames_lost else "")
