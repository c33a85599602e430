"""A rig file to give to others: the whole document without site, serial numbers, hosts, people and photographs."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pydantic import ValidationError

from wyntaxis.core.dossier.private import NOTE_KEYS, Secrets, without_private
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import document_of

PLACES_ASSUMED = ("site.latitude_deg", "site.longitude_deg")
_WORD_KINDS = ("literal_error", "enum", "union_tag_invalid")
_NAMES = ("name", "text")
MAX_ROUNDS = 50


def private_rig(document: Rig) -> Rig:
    """Return a whole rig, with its variants, that says neither where it is nor whose.

    Parameters
    ----------
    document
        The rig as its file holds it.

    Returns
    -------
    Rig
        Without site, targets, framing, observer, serial numbers, hosts and photographs. Texts and ids that name one of
        them say "left out"; every number is as it was. Where the seeing needs a site, its place is 0° and assumed.

    Raises
    ------
    InputError
        If the rig would not be whole without what is private.
    """
    bare, secrets = without_private(document)
    found = document_of(bare)
    found.pop("photos", None)
    if "site" in found:
        found["assumed"] = [*found.get("assumed", []), *PLACES_ASSUMED]
    new_ids = {own: f"item-{number}" for number, own in enumerate(_private_ids(found, secrets), 1)}
    scrubbed = _scrubbed(found, secrets, new_ids, "")
    assert isinstance(scrubbed, dict)
    return _whole(scrubbed, found)


def _private_ids(node: JsonValue, secrets: Secrets) -> Iterator[str]:
    """Yield the ids that hold a private text."""
    if isinstance(node, dict):
        own = node.get("id")
        if isinstance(own, str) and secrets.scrub(own) != own:
            yield own
        for value in node.values():
            yield from _private_ids(value, secrets)
    elif isinstance(node, list):
        for value in node:
            yield from _private_ids(value, secrets)


def _scrubbed(node: JsonValue, secrets: Secrets, new_ids: dict[str, str], key: str) -> JsonValue:
    """Return a part of a document in which no text holds a private one."""
    if isinstance(node, dict):
        return {
            str(_scrubbed(name, secrets, new_ids, "")): _scrubbed(value, secrets, new_ids, name)
            for name, value in node.items()
        }
    if isinstance(node, list):
        return [_scrubbed(value, secrets, new_ids, key) for value in node]
    if not isinstance(node, str):
        return node
    is_note = key in NOTE_KEYS or key in _NAMES
    for own, other in () if is_note else new_ids.items():
        node = re.sub(rf"(?<![\w-]){re.escape(own)}(?![\w-])", other, node)
    return secrets.scrub(node, is_note=is_note)


def _whole(scrubbed: JsonObject, before: JsonObject) -> Rig:
    """Return the rig of a document; words that are kinds, such as "camera", are as before, whatever else they name."""
    for _ in range(MAX_ROUNDS):
        try:
            return Rig.model_validate(scrubbed)
        except ValidationError as error:
            kinds = [entry for entry in error.errors() if entry["type"] in _WORD_KINDS]
            if not kinds or not all(_put_back(scrubbed, before, entry["loc"]) for entry in kinds):
                raise InputError(
                    "the rig is not whole without what is private: give what bears the name of its site, host or "
                    "owner a name of its own"
                ) from None
    raise InputError("the rig is not whole without what is private")


def _put_back(scrubbed: JsonValue, before: JsonValue, place: tuple[int | str, ...]) -> bool:
    """Put the word at a place back, or the kind below it; return whether something was put back."""
    for step in place:
        if not isinstance(scrubbed, dict | list) or not isinstance(before, dict | list):
            return False
        try:
            inner, own = scrubbed[step], before[step]  # type: ignore[index]
        except (KeyError, IndexError, TypeError):
            continue  # a place names the alternatives of a union too
        if isinstance(inner, str):
            scrubbed[step] = own  # type: ignore[index]
            return bool(inner != own)
        scrubbed, before = inner, own
    if isinstance(scrubbed, dict) and isinstance(before, dict) and scrubbed.get("kind") != before.get("kind"):
        scrubbed["kind"] = before["kind"]
        return True
    return False
