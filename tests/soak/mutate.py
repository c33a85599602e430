"""Hostile input that still looks like what it was: seeded changes of documents, texts and FITS headers."""

from __future__ import annotations

import copy
import gzip
import json
from collections.abc import Iterator
from random import Random
from typing import Any

WORDS = (
    "",
    "²",
    "①",
    "٣",
    "\u202egnp.exe",
    "\x1b[31mred",
    "<img src='/dev/zero'>",
    "../../etc/passwd",
    "k" * 5000,
    "1e400",
    "5e-324",
    "-0",
    "NaN",
    "Infinity",
    "0x10",
    "1_000",
    "1,5",
    "true",
    "null",
    "=cmd()",
    "{{7*7}}",
    "%s%n",
    "\u0000",
    "é" * 70,
    "*" * 60,
    "a.b[c=d]",
)
LONGEST = 1 << 20
NUMBERS = (0, -1, 1, 5e-324, 1e-7, 1e6, 1e12, 1e300, -1e300, 2**31, 2**63, 2**64, 10**400, 0.1, 360, 90, 89.9999)
SHAPES: tuple[Any, ...] = (None, True, False, [], {}, [[]], [None] * 50, {"": 1}, [1, "a", None])


def hostile_value(random: Random) -> Any:
    """Return a value that a careful reader has to think of."""
    return copy.deepcopy(random.choice((random.choice(WORDS), random.choice(NUMBERS), random.choice(SHAPES))))


def places_in(node: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Yield the path of every value of a document."""
    if path:
        yield path
    entries = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in entries:
        yield from places_in(value, (*path, key))


def changed_document(document: Any, random: Random) -> bytes:
    """Return a document with one to three values replaced, taken out, doubled, renamed or buried, as JSON."""
    document = copy.deepcopy(document)
    for _ in range(random.choice((1, 1, 1, 2, 3))):
        places = list(places_in(document))
        if not places:
            break
        *way, last = random.choice(places)
        node = document
        for step in way:
            node = node[step]
        match random.randrange(7):
            case 0 | 1 | 2:
                node[last] = hostile_value(random)
            case 3:
                del node[last]
            case 4:
                node[last] = [node[last]] * random.choice((2, 30, 300))
            case 5 if isinstance(node, dict):
                node[random.choice(WORDS)[:4000]] = node.pop(last)
            case _:
                for _ in range(random.choice((1, 5, 200))):
                    node[last] = {"a": node[last]} if random.random() < 0.5 else [node[last]]
    text = json.dumps(document, ensure_ascii=random.random() < 0.5)
    if random.random() < 0.1:
        text = text.replace('"name"', '"name": 1, "name"', 1)
    data = text.encode("utf-8", "surrogatepass")
    return changed_bytes(data, random) if random.random() < 0.2 else data


def changed_bytes(data: bytes, random: Random) -> bytes:
    """Return bytes with some flipped, cut, repeated or put in."""
    found = bytearray(data)
    for _ in range(random.choice((1, 2, 8))):
        at = random.randrange(len(found) + 1)
        match random.randrange(5):
            case 0 if found:
                found[min(at, len(found) - 1)] = random.randrange(256)
            case 1:
                del found[at : at + random.choice((1, 10, 1000))]
            case 2:
                piece = found[at : at + random.choice((1, 40, 400))]
                found[at:at] = piece * random.choice((1, 10))
            case 3:
                found[at:at] = random.choice((b"\x00", b"\xff\xfe", b"\r", b"\n\n", b'"', b"\xef\xbb\xbf", b"[" * 400))
            case _:
                found = found[: random.randrange(len(found) + 1)]
    return bytes(found)


def changed_text(data: bytes, random: Random) -> bytes:
    """Return a text with lines or cells replaced by hostile ones, or other separators; some in other codes."""
    text = data.decode("utf-8", "replace")
    lines = text.split("\n")
    for _ in range(random.choice((1, 2, 5))):
        at = random.randrange(len(lines))
        value = str(hostile_value(random))
        match random.randrange(6):
            case 0:
                lines[at] = value
            case 1:
                for separator in (",", ";", "=", ":", "\t"):
                    if separator in lines[at]:
                        cells = lines[at].split(separator)
                        cells[random.randrange(len(cells))] = value
                        lines[at] = separator.join(cells)
                        break
            case 2:
                lines[at:at] = [lines[at][: LONGEST // 500]] * random.choice((2, 500))
            case 3:
                lines[at] = (lines[at] * random.choice((2, 200)))[:LONGEST]
            case 4:
                lines = [line.replace(",", random.choice(";|\t ")) for line in lines]
            case _:
                del lines[at]
                lines = lines or [""]
    found = "\n".join(lines)
    code = random.choice(("utf-8", "utf-8", "utf-8", "utf-16", "latin-1", "utf-8-sig"))
    encoded = found.encode(code, "replace")
    return changed_bytes(encoded, random) if random.random() < 0.2 else encoded


_CARDS = ("NAXIS", "NAXIS1", "NAXIS2", "BITPIX", "BZERO", "BSCALE", "EXPTIME", "GAIN", "IMAGETYP", "FILTER", "XBINNING")
_CARDS += ("CCD-TEMP", "SET-TEMP", "XPIXSZ", "CTYPE1", "CRVAL1", "CD1_1", "CD2_2", "A_ORDER", "WCSAXES", "PCOUNT")
_VALUES = ("1000000000", "-1", "0", "'x'", "1e400", "5E-324", "T", "99999999999999999999", "'\u00b2'", "''", "NaN", "3")


def changed_fits(data: bytes, random: Random) -> bytes:
    """Return a FITS file with cards replaced, put in or taken out, blocks cut or repeated, or packed."""
    end = next((at for at in range(0, len(data), 80) if data[at : at + 8] == b"END     "), len(data))
    cards = [data[at : at + 80] for at in range(0, end, 80)]
    rest = data[end:]
    for _ in range(random.choice((1, 1, 2, 4))):
        card = f"{random.choice(_CARDS):<8}= {random.choice(_VALUES):>20}".encode("latin-1", "replace").ljust(80)[:80]
        at = random.randrange(len(cards)) if cards else 0
        match random.randrange(5):
            case 0 | 1 if cards:
                name = card[:8]
                same = [i for i, known in enumerate(cards) if known[:8] == name]
                cards[same[0] if same else at] = card
            case 2:
                cards.insert(at, card)
            case 3 if cards:
                del cards[at]
            case _:
                rest = rest[80:] if random.random() < 0.3 else rest[: random.randrange(len(rest) + 1)]
    head = b"".join(cards)
    short = -(len(head) + 80) % 2880
    found = head + b"END".ljust(80 + short) + rest[80 + (-(end + 80)) % 2880 :]
    if random.random() < 0.15:
        found = changed_bytes(found, random)
    return gzip.compress(found, 1) if random.random() < 0.1 else found
