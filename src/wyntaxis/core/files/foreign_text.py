"""Foreign text as it may be shown: names from files, ports and folders, whatever is in them.

Control characters move a terminal's cursor, bidirectional ones turn a line round, and a file name need not be text at
all. Nothing of that reaches a terminal, a label or JSON: it is shown escaped, as ``\\x1b`` or ``\\u202e``.
"""

from __future__ import annotations

import math
import unicodedata
from typing import Any

MAX_DIGITS = 18

LINE_CHARACTERS = 390
"""The longest line that an error is told in."""

_UNSHOWABLE = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


def plain(text: str, keep: str = "") -> str:
    """Return text with everything escaped that is no visible character.

    Parameters
    ----------
    text
        Any text; a byte of a file name that is no UTF-8 stands in it as a lone surrogate (PEP 383).
    keep
        Characters that stay as they are, such as ``"\\n"`` where the text may have several lines.

    Returns
    -------
    str
        The text, with ``\\x1b`` for a byte or a control character, and ``\\u202e`` for what else cannot be shown.
    """
    kept = text.replace("\n", "") if "\n" in keep else text
    if kept.isprintable():
        return text
    return "".join(char if _is_shown(char) or char in keep else _escaped(char) for char in text)


def _is_shown(char: str) -> bool:
    return char.isprintable() or unicodedata.category(char) not in _UNSHOWABLE


def _escaped(char: str) -> str:
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is no UTF-8
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x100:
        return {"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(char, f"\\x{code:02x}")
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def is_number(text: str) -> bool:
    """Return whether a text is a whole number of ASCII digits that ``int`` takes: not ``²``, nor a mile long."""
    return text.isascii() and text.isdigit() and len(text) <= MAX_DIGITS


def one_line(text: str, most: int = LINE_CHARACTERS) -> str:
    """Return text as one plain line of bounded length: of a long one, beginning and end, where the advice stands."""
    line = plain(" ".join(text.splitlines()) if "\n" in text or "\r" in text else text)
    if len(line) <= most:
        return line
    end = most // 3
    return f"{line[: most - end - 3]} … {line[-end:]}"


def plain_json(value: Any) -> Any:
    """Return a value as strict JSON may hold it: no NaN or infinity, and bytes that are no UTF-8 escaped."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, str):
        return value if value.isascii() else _whole_characters(value)
    if isinstance(value, dict):
        return {plain_json(key): plain_json(entry) for key, entry in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain_json(entry) for entry in value]
    return value


def _whole_characters(text: str) -> str:
    return "".join(_escaped(char) if 0xD800 <= ord(char) <= 0xDFFF else char for char in text)
