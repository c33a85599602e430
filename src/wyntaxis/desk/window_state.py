"""What the window remembers between sessions, and where its state lives."""

from __future__ import annotations

import base64
import binascii
import contextlib
import json
import os
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import parse_json, read_bytes
from wyntaxis.core.files.places import state_folder
from wyntaxis.core.json_values import JsonObject

RECENT_LIMIT = 9
_SIZE_LIMIT_BYTES = 256 * 1024


class WindowState:
    """Window state in a small JSON file; a file that cannot be read or written costs the memory, never the session."""

    def __init__(self, folder: Path | None = None) -> None:
        self._file = (folder or state_folder()) / "window.json"
        self._values: JsonObject = {}
        with contextlib.suppress(InputError):
            found = parse_json(read_bytes(self._file, _SIZE_LIMIT_BYTES, "it is the window's state"))
            self._values = found if isinstance(found, dict) else {}

    def word(self, key: str, default: str) -> str:
        """Return a remembered word."""
        value = self._values.get(key)
        return value if isinstance(value, str) else default

    def number(self, key: str, default: float, low: float, high: float) -> float:
        """Return a remembered number, brought into its range."""
        value = self._values.get(key)
        if not isinstance(value, (int, float)) or isinstance(value, bool):
            return default
        return float(min(max(value, low), high))

    def state(self, key: str) -> bytes | None:
        """Return a remembered geometry or splitter state."""
        try:
            return base64.b64decode(self.word(key, ""), validate=True) or None
        except (binascii.Error, ValueError):
            return None

    def put(self, key: str, value: str | float | bytes) -> None:
        """Remember a value."""
        self._values[key] = base64.b64encode(value).decode() if isinstance(value, bytes) else value

    def write(self) -> None:
        """Write what is remembered."""
        beside = self._file.with_suffix(f".{os.getpid()}")
        with contextlib.suppress(OSError, ValueError):
            self._file.parent.mkdir(parents=True, exist_ok=True)
            beside.write_text(json.dumps(self._values, indent=1), "utf-8")
            beside.replace(self._file)

    @property
    def recent(self) -> list[Path]:
        """The rigs opened last, the newest first."""
        names = self._values.get("recent")
        found = names if isinstance(names, list) else []
        return [Path(name) for name in found if isinstance(name, str) and name and "\0" not in name][:RECENT_LIMIT]

    def add_recent(self, path: Path) -> None:
        """Put a rig at the head of the recent ones."""
        absolute = path.absolute()
        rest = [other for other in self.recent if other != absolute]
        self._values["recent"] = [str(p) for p in [absolute, *rest][:RECENT_LIMIT]]
