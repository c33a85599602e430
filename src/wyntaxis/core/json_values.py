"""What a JSON document holds."""

from __future__ import annotations

from typing import Any

JsonValue = Any
"""A value of a JSON document, of any of its kinds: what it is, whoever reads it finds out."""
JsonObject = dict[str, JsonValue]
"""An object of a JSON document, or one on the way into it: keys and values."""
