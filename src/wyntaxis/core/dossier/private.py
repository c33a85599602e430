"""A rig without what tells where it is and whose: site, serial numbers, hosts, people."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape
from typing import Any

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import document_of, validated

LEFT_OUT = "left out"
SHORTEST = 3
"""Names shorter than this are not looked for inside other texts."""
_SECRET_KEYS = frozenset({"serial_number", "host", "observer"})
_SITE_WORDS = ("site.", "latitude", "longitude", "elevation", "serial", "host", "observer")
_HOME = re.compile(r"(?<![\w.])(?:/(?:home|Users|root)/[^\s\"',;]*|~/[^\s\"',;]*)")


def without_private(rig: Rig) -> tuple[Rig, tuple[str, ...]]:
    """Return a rig without site, serial numbers, hosts and people, and the texts that nothing made of it may hold.

    Parameters
    ----------
    rig
        The rig; its seeing stays, as the depth of focus rests on it.

    Returns
    -------
    tuple
        The rig, and the private texts, the longest first: where one of them stands inside another text, such as a site
        in the rig's name, :func:`scrubbed` leaves it out of what is made of this rig.
    """
    document = document_of(rig)
    secrets = tuple(sorted(set(_secrets(document)), key=len, reverse=True))
    seeing = {key: value for key, value in (document.pop("site", None) or {}).items() if key.startswith("seeing")}
    document = _stripped(document)
    if seeing:
        # A place of no meaning: whatever is told of a site is left out of what is made of this rig.
        document["site"] = {"latitude_deg": 0.0, "longitude_deg": 0.0, **seeing}
    for key in ("framing", "corrections"):
        document.pop(key, None)
    marks = ("site", "framing", "observer", "corrections")
    for key in ("assumed", "origin", "sources"):
        told = document.get(key)
        if isinstance(told, list):
            document[key] = [text for text in told if not text.startswith(marks) and "serial" not in text]
        elif isinstance(told, dict):
            document[key] = {t: v for t, v in told.items() if not t.startswith(marks) and "serial" not in t}
    return validated(document), secrets


def _secrets(document: dict[str, Any]) -> Iterator[str]:
    """Yield every text that is private by its key."""
    site = document.get("site") or {}
    for text in (site.get("name"), document.get("observer")):
        if isinstance(text, str) and len(text.strip()) >= SHORTEST:
            yield text.strip()
    yield from _by_key(document)
    for record in document.get("records", []):
        for key, value in record.get("values", {}).items():
            if any(word in key for word in _SITE_WORDS) and isinstance(value, str) and len(value.strip()) >= SHORTEST:
                yield value.strip()


def _by_key(node: Any) -> Iterator[str]:
    if isinstance(node, dict):
        for key, value in node.items():
            if key in _SECRET_KEYS and isinstance(value, str) and len(value.strip()) >= SHORTEST:
                yield value.strip()
            yield from _by_key(value)
    elif isinstance(node, list):
        for value in node:
            yield from _by_key(value)


def _stripped(node: Any) -> Any:
    """Return a part of a document without private keys; texts stay, as ids and kinds are texts too."""
    if isinstance(node, dict):
        return {
            key: _stripped(value)
            for key, value in node.items()
            if str(key).rpartition(".")[2] not in _SECRET_KEYS
            and not (isinstance(key, str) and key.startswith("site."))
            and not (isinstance(value, int | float) and any(word in str(key) for word in ("latitude", "longitude")))
        }
    return [_stripped(value) for value in node] if isinstance(node, list) else node


def scrubbed(text: str, secrets: tuple[str, ...]) -> str:
    """Return a text without private ones, whatever their case, and without people's folders."""
    for secret in secrets:
        if secret.lower() in text.lower():
            text = re.sub(re.escape(secret), f"({LEFT_OUT})", text, flags=re.IGNORECASE)
    return _HOME.sub(f"({LEFT_OUT})", text)


def scrubbed_markup(markup: str, secrets: tuple[str, ...]) -> str:
    """Return a drawing without private texts: only its words are looked at, as they stand in markup."""
    told = tuple(dict.fromkeys([*secrets, *(escape(secret) for secret in secrets)]))
    return re.sub(r">([^<]+)<", lambda found: f">{scrubbed(found[1], told)}<", markup)
