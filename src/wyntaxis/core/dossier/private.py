"""A rig without what tells where it is and whose: site, serial numbers, hosts, people."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from html import escape, unescape

from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import document_of, validated

LEFT_OUT = "left out"
MIN_LETTERS = 3
"""Names shorter than this are not looked for inside other texts."""
MIN_BARE_DIGITS = 6
"""A serial number of digits alone is looked for in notes where it has this many; fewer may be any number."""
_SECRET_KEYS = frozenset({"serial_number", "host", "computer", "observer"})
_SITE_WORDS = ("site.", "latitude", "longitude", "elevation", "serial", "host", "observer")
NOTE_KEYS = frozenset({"symptom", "tried", "cure", "note", "reason", "source", "caption", "sourced", "why"})
_NUMBER = re.compile(r"[-+−]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?")
_SHARED = f"({LEFT_OUT})"

_PRIVATE_NETWORK = r"(?:10|127|192\.168|169\.254|172\.(?:1[6-9]|2\d|3[01]))"

# What tells of people and hosts by its form alone, whatever the rig says elsewhere.
_BY_FORM: tuple[tuple[re.Pattern[str], str], ...] = (
    (re.compile(r"(?<![\w.])(?:/(?:home|Users|root|media|run/media)/[^\s\"',;]*|~/[^\s\"',;]*)"), _SHARED),
    (re.compile(r"(?i)[A-Z]:\\Users\\[^\s\"',;]*"), _SHARED),
    (re.compile(r"(/dev/(?:serial|disk|input)/by-(?:id|path|uuid|label)/)[^\s\"',;<]+"), rf"\g<1>{_SHARED}"),
    (re.compile(r"(/net/)[^/\s\"',;]+"), rf"\g<1>{_SHARED}"),
    (re.compile(r"(\b[a-z][a-z0-9+.-]*://)[^/\s\"',;<]+"), rf"\g<1>{_SHARED}"),
    (re.compile(r"((?<![\w:/\\])(?://|\\\\))[^/\\\s\"',;<]+"), rf"\g<1>{_SHARED}"),
    (re.compile(r"(?<![\w@])[\w.+-]+@[\w.-]+"), _SHARED),
    # Addresses of private networks; others may be a driver's version.
    (
        re.compile(r"(?<![\d.])(?:10|127|192\.168|169\.254|172\.(?:1[6-9]|2\d|3[01]))(?:\.\d{1,3}){2,3}(?![\d.])"),
        _SHARED,
    ),
)


@dataclass(frozen=True)
class Secrets:
    """The private texts of a rig, and how they are found in other texts.

    A text is found as a whole word, in any case, whatever stands between its parts: ``Jo Eldridge`` in
    ``jo-eldridge_front.jpg``, ``PG-1`` in ``usb-PG-1-if00``. Numbers are never touched: a serial number of digits
    alone is left out of notes and where a word says that it is one.

    Parameters
    ----------
    names
        Sites, people, hosts, and serial numbers with letters.
    numbers
        Serial numbers of digits alone.
    """

    names: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()

    @cached_property
    def _named(self) -> re.Pattern[str] | None:
        patterns = [pattern for name in sorted(self.names, key=len, reverse=True) if (pattern := _loosely(name))]
        return re.compile("|".join(f"(?:{one})" for one in patterns), re.IGNORECASE) if patterns else None

    @cached_property
    def _numbered(self) -> re.Pattern[str] | None:
        if not self.numbers:
            return None
        either = "|".join(re.escape(one) for one in self.numbers)
        return re.compile(rf"(?i)((?:serial(?: number| no\.?)?|s/n|sn|no\.|#)\W{{0,3}})(?:{either})(?![\w.,]\d|\w)")

    def scrub(self, text: str, *, is_note: bool = False) -> str:
        """Return a text without private ones; ``is_note`` where no number in it is one of the rig's."""
        for pattern, put in _BY_FORM:
            text = pattern.sub(put, text)
        if self._named is not None:
            text = self._named.sub(_SHARED, text)
        if self._numbered is not None:
            text = self._numbered.sub(rf"\g<1>{_SHARED}", text)
        for number in self.numbers if is_note else ():
            if len(number) >= MIN_BARE_DIGITS:
                text = re.sub(rf"(?<![\w.,]){re.escape(number)}(?![\w.,]*\d|\w)", _SHARED, text)
        return text


def _loosely(name: str) -> str:
    """Return a pattern that finds a name as a whole word, with any signs between its parts; empty for none."""
    parts = re.findall(r"[^\W_]+", name)
    if sum(map(len, parts)) < MIN_LETTERS - 1 or not parts:
        return re.escape(name.strip()) if len(name.strip()) >= MIN_LETTERS else ""
    # Letters may follow a digit at the end, as "PG1" in "PG1A" is another word: no sign of either kind may touch.
    return r"(?<![^\W_])" + r"[\W_]{0,3}".join(re.escape(part) for part in parts) + r"(?![^\W_])"


def without_private(rig: Rig) -> tuple[Rig, Secrets]:
    """Return a rig without site, serial numbers, hosts and people, and the texts that nothing made of it may hold.

    Parameters
    ----------
    rig
        The rig; its seeing stays, as the depth of focus rests on it.

    Returns
    -------
    tuple
        The rig, and the private texts: where one of them stands inside another text, such as a site in the rig's name,
        :func:`scrubbed` leaves it out of what is made of this rig.
    """
    document = document_of(rig)
    secrets = _secrets_of(document)
    seeing = {key: value for key, value in (document.pop("site", None) or {}).items() if key.startswith("seeing")}
    document = _stripped(document, secrets)
    if seeing:
        # A place of no meaning: whatever is told of a site is left out of what is made of this rig.
        document["site"] = {"latitude_deg": 0.0, "longitude_deg": 0.0, **seeing}
    for own in (document, *document.get("variants", [])):
        for key in ("framing", "corrections"):
            own.pop(key, None)
        if isinstance(own.get("plan"), dict):
            own["plan"].pop("targets", None)
    marks = ("site", "framing", "observer", "corrections")
    for key in ("assumed", "origin", "sources"):
        entries = document.get(key)
        if isinstance(entries, list):
            document[key] = [text for text in entries if not text.startswith(marks) and not _is_secret_path(text)]
        elif isinstance(entries, dict):
            document[key] = {t: v for t, v in entries.items() if not t.startswith(marks) and not _is_secret_path(t)}
    return validated(document), secrets


def _is_secret_path(text: str) -> bool:
    return any(word in text for word in ("serial", ".host", "observer"))


def _secrets_of(document: JsonObject) -> Secrets:
    names, numbers = dict[str, None](), dict[str, None]()
    for kind, text in _private_texts(document):
        for own in _forms(kind, text.strip()):
            if _NUMBER.fullmatch(own):
                if len(own) > 1:
                    numbers[own] = None
            elif len(own) >= MIN_LETTERS:
                names[own] = None
    return Secrets(tuple(names), tuple(sorted(numbers, key=len, reverse=True)))


def _forms(kind: str, text: str) -> Iterator[str]:
    """Yield a private text, and the parts of it that tell as much: a person's names, a host without its domain."""
    yield text
    if kind == "observer":
        yield from (word for word in re.findall(r"[^\W\d_]+", text) if len(word) > MIN_LETTERS)
    if kind == "host" and "." in text and not _NUMBER.fullmatch(text):
        yield text.partition(".")[0]


def _private_texts(document: JsonObject) -> Iterator[tuple[str, str]]:
    """Yield every text that is private by its key, with what it is."""
    site = document.get("site") or {}
    if isinstance(site.get("name"), str):
        yield "site", site["name"]
    yield from _by_key(document)


def _by_key(node: JsonValue) -> Iterator[tuple[str, str]]:
    if isinstance(node, dict):
        for key, value in node.items():
            last = str(key).rpartition(".")[2]
            if isinstance(value, str) and (last in _SECRET_KEYS or any(word in str(key) for word in _SITE_WORDS)):
                yield last, value
            yield from _by_key(value)
    elif isinstance(node, list):
        for value in node:
            yield from _by_key(value)


def _stripped(node: JsonValue, secrets: Secrets, key: str = "") -> JsonValue:
    """Return a part of a document without private keys and, in its notes, without private texts and numbers.

    Other texts stay, as ids and kinds are texts too; they are scrubbed where they are shown.
    """
    if isinstance(node, dict):
        return {
            name: _stripped(value, secrets, str(name))
            for name, value in node.items()
            if str(name).rpartition(".")[2] not in _SECRET_KEYS
            and not (isinstance(name, str) and name.startswith("site."))
            and not (isinstance(value, int | float) and any(word in str(name) for word in ("latitude", "longitude")))
        }
    if isinstance(node, str) and key in NOTE_KEYS:
        return secrets.scrub(node, is_note=True)
    return [_stripped(value, secrets, key) for value in node] if isinstance(node, list) else node


def scrubbed(text: str, secrets: Secrets) -> str:
    """Return a text without private ones, whatever their case, and without people's folders and hosts."""
    return secrets.scrub(text)


def scrubbed_markup(markup: str, secrets: Secrets) -> str:
    """Return a drawing without private texts: only its words are looked at."""
    return re.sub(r">([^<]+)<", lambda found: f">{escape(secrets.scrub(unescape(found[1])))}<", markup)
