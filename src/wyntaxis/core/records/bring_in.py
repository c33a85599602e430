"""From a program's file to a record in the rig: through a key map, with what the record rests on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.files.errors import InputError, shown
from wyntaxis.core.files.fits import sha256_of_file
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.records.mapping import apply_map
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import utc_stamp

if TYPE_CHECKING:
    from wyntaxis.core.evidence.foreign.keymap import KeyMap
    from wyntaxis.core.evidence.foreign.readers import ForeignFile


def record_of(numbers: Numbers, path: Path, file: ForeignFile, chosen: KeyMap) -> tuple[Change, tuple[str, ...]]:
    """Return the edit that keeps a file's values as a record, and a line for each rule that found nothing.

    A record of the same name is replaced, with its side and its device list kept.

    Raises
    ------
    InputError
        When the map finds nothing at all in the file.
    """
    found = apply_map(chosen.rules, file.values, comparables(numbers))
    if not found.values:
        first = f": {found.faults[0]}" if found.faults else ""
        raise InputError(f"the key map “{chosen.name}” finds nothing in it{first}", path)
    evidence = {
        "method": "key_map",
        "file": shown(Path(path.name))[:200],
        "sha256": sha256_of_file(path),
        "date": utc_stamp(),
        "note": f"key map {chosen.name}",
    }
    values: JsonObject = {key: list(v) if isinstance(v, tuple) else v for key, v in found.values.items()}
    index, kept = record_place(numbers.rig, chosen.name)
    forms = dict(kept.get("forms", {}))
    for rule in chosen.rules:  # the unit that the file is in is the one that the program wants typed
        if rule.unit is not None and rule.quantity in values:
            forms[rule.quantity] = forms.get(rule.quantity, {}) | {"unit": rule.unit}
    record = kept | {"name": chosen.name, "values": values, "evidence": evidence} | ({"forms": forms} if forms else {})
    return Change.of(f"Bring {path.name} in", ("records", index), record), found.faults


def record_place(rig: Rig, name: str) -> tuple[int, JsonObject]:
    """Return where a record of a name stands, or is to stand, and what of it is kept."""
    for index, record in enumerate(rig.records):
        if record.name == name:
            return index, record.model_dump(mode="json", exclude_unset=True)
    used = {record.id for record in rig.records}
    stem = "".join(char if char.isalnum() else "_" for char in name.lower()).strip("_")[:40] or "record"
    number, record_id = 2, stem
    while record_id in used:
        record_id, number = f"{stem}_{number}", number + 1
    return len(rig.records), {"id": record_id}
