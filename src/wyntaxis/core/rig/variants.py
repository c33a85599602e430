"""Edits of a variant, turned into edits of the document that holds it."""

from __future__ import annotations

from typing import Any

from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.model import Rig, Variant, variant_rig


def variant_index(document: Rig, name: str | None) -> int | None:
    """Return the index of the variant of that name; None for the rig's own train."""
    return next((index for index, variant in enumerate(document.variants) if variant.name == name), None)


def document_path(document: Rig, name: str | None, path: DocumentPath) -> DocumentPath:
    """Return where a place of a variant's rig stands in the document.

    A shared part leads to the rig's own train, so that an edit of it shows in every variant that uses it.
    """
    index = variant_index(document, name)
    if index is None:
        return path
    variant, here = document.variants[index], ("variants", index)
    match path:
        case ("train", int(place), *rest) if place < len(variant.train):
            entry = variant.train[place]
            if isinstance(entry, str):
                own = next(i for i, part in enumerate(document.train) if part.id == entry)
                return ("train", own, *rest)
            return (*here, *path)
        case ("telescope" | "guiding" as section, *_):
            own_section = getattr(variant, section) is not None
            whole = len(path) == 1
            return (*here, *path) if own_section or whole or _dropped_guiding(document, variant, section) else path
        case ("train" | "stated" | "measured" | "name" | "framing", *_):
            return (*here, *path)
        case ("devices", int(place), "settings", str(key), *rest) if place < len(document.devices):
            device_id = document.devices[place].id
            if key in variant.devices.get(device_id, {}):
                return (*here, "devices", device_id, key, *rest)
        case ("plan", str(key), *_) if key in variant.plan:
            return (*here, *path)
        case ("records", int(place), *rest):
            return _record_path(document, variant, here, place, path, rest)
    return path


def _record_path(
    document: Rig, variant: Variant, here: DocumentPath, place: int, path: DocumentPath, rest: list[str | int]
) -> DocumentPath:
    """Return where a record of a variant's rig stands: its own take the places of the rig's, others come behind."""
    own = [record.id for record in variant.records]
    shared = [record.id for record in document.records]
    if place < len(shared):
        return (*here, "records", own.index(shared[place]), *rest) if shared[place] in own else path
    added = [at for at, record_id in enumerate(own) if record_id not in shared]
    at = place - len(shared)
    return (*here, "records", added[at], *rest) if at < len(added) else path


def _dropped_guiding(document: Rig, variant: Variant, section: str) -> bool:
    """Return whether the rig's guiding does not hold in the variant, because its prism stays at home."""
    return section == "guiding" and variant_rig(document, variant.name).guiding != document.guiding


def train_entries(document: Rig, name: str | None, train: list[JsonObject]) -> list[Any]:
    """Return a train as a variant holds it: unchanged parts of the rig's own train by their id."""
    if variant_index(document, name) is None:
        return train
    own = {part.id: part.model_dump(mode="json", exclude_unset=True) for part in document.train}
    return [part["id"] if own.get(part["id"]) == part else part for part in train]


def new_variant(document: Rig, shown: Rig, name: str) -> JsonObject:
    """Return a variant that begins as a copy of the train shown."""
    own = {part.id for part in document.train}
    train = [part.id if part.id in own else part.model_dump(mode="json", exclude_unset=True) for part in shown.train]
    variant: JsonObject = {"name": name, "train": train}
    for section in ("telescope", "guiding", "framing"):
        if getattr(shown, section) != getattr(document, section):
            variant[section] = getattr(shown, section).model_dump(mode="json", exclude_unset=True)
    return variant


def own_settings_of(document: Rig, index: int) -> tuple[tuple[DocumentPath, JsonValue], ...]:
    """Return the values of an edit after which a variant holds the devices' settings and the plan as its own.

    Parameters
    ----------
    document, index
        The whole rig, and which variant.

    Returns
    -------
    tuple
        Path and value: copies of what the variant shares until then, so that nothing of it changes.
    """
    shown = variant_rig(document, document.variants[index].name)
    devices = {
        device.id: {key: own.model_dump(mode="json", exclude_unset=True) for key, own in device.settings.items()}
        for device in shown.devices
        if device.settings
    }
    plan = shown.plan.model_dump(mode="json", exclude_unset=True) if shown.plan is not None else {}
    return ((("variants", index, "devices"), devices), (("variants", index, "plan"), plan))


def free_name(document: Rig, stem: str) -> str:
    """Return the stem, or the stem with the first number that makes it a name not yet used."""
    used = {document.name, *(variant.name for variant in document.variants)}
    name, number = stem, 2
    while name in used:
        name, number = f"{stem} {number}", number + 1
    return name


def differences(one: Rig, other: Rig) -> tuple[list[str], list[str]]:
    """Return which parts come out and which go in from one rig to the other, by title."""
    first, second = {part.id: part for _, part in one.parts()}, {part.id: part for _, part in other.parts()}
    out = [part.title for key, part in first.items() if key not in second]
    into = [part.title for key, part in second.items() if key not in first]
    return out, into
