"""The rig document, version 1, as pydantic models.

The models are frozen: an edit makes a new rig (see :mod:`wyntaxis.core.rig.edit`), so undo is a list of rigs.
Lengths are in mm, pixels in µm, masses in g, angles in degrees unless the name says otherwise.
"""

import json
import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal, Self

from pydantic import Field, ValidationError, model_validator

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.base import (
    SMALLEST,
    DocumentPath,
    Finite,
    Id,
    Note,
    StrictModel,
    Text,
)
from wyntaxis.core.rig.devices import Device, Record, Setting, Supply
from wyntaxis.core.rig.incidents import Incident
from wyntaxis.core.rig.marks import of_variant, parse_path, value_at
from wyntaxis.core.rig.overrides import keep_marks, overridden
from wyntaxis.core.rig.parts import Part, Sensor, Telescope
from wyntaxis.core.rig.plan import (
    FrameCorrection,
    Framing,
    GuideCalibration,
    GuideSettings,
    MeasuredValue,
    Mount,
    Plan,
    Site,
    StatedValue,
)
from wyntaxis.core.rig.programs import Program
from wyntaxis.core.rig.setup import OwnCondition, Setup

FORMAT = "wyntaxis-rig"
VERSION = 1
MarkedPath = Annotated[str, Field(min_length=1, max_length=300)]
MAX_MAGNIFICATION = 1000.0
"""Of all correctors together; far beyond any telescope."""


class Guiding(StrictModel):
    """How the rig guides: through a prism in the train, through a telescope of its own, or not at all."""

    kind: Literal["off_axis", "separate", "none"]
    taps: Id | None = None
    telescope: Telescope | None = None
    path: Annotated[tuple[Part, ...], Field(strict=False)] = ()
    settings: GuideSettings | None = None
    calibration: GuideCalibration | None = None

    @model_validator(mode="after")
    def _keys_fit_the_kind(self) -> Self:
        if self.kind == "off_axis" and self.taps is None:
            raise ValueError('kind "off_axis" needs "taps", the id of the off_axis_guider in the train')
        if self.kind == "separate" and self.telescope is None:
            raise ValueError('kind "separate" needs its own "telescope"')
        if self.kind != "off_axis" and self.taps is not None:
            raise ValueError(f'"taps" belongs to kind "off_axis", not to "{self.kind}"')
        if self.kind != "separate" and self.telescope is not None:
            raise ValueError(f'"telescope" belongs to kind "separate", not to "{self.kind}"')
        if self.kind == "none" and self.path:
            raise ValueError('kind "none" has no "path"')
        _camera_comes_last(self.path, "path")
        return self

    @property
    def camera(self) -> Part | None:
        return _camera_of(self.path)


class Accepted(StrictModel):
    """A finding that the imager knows and lives with, why, and since when.

    ``value`` is what its number was then: the acceptance lapses when the number is another.
    """

    finding: Id
    subject: Annotated[str, Field(min_length=1, max_length=200)]
    reason: Note
    date: Text | None = None
    value: float | Annotated[str, Field(max_length=400)] | None = None


class OtherFigure(StrictModel):
    """What somebody else gives for a value: the figure in the value's own unit, and who says so."""

    value: Finite
    source: Note


class Sourced(StrictModel):
    """Where a value comes from, why it is this one and since when; and what others give for it."""

    source: Note | None = None
    reason: Note | None = None
    date: Text | None = None
    others: Annotated[tuple[OtherFigure, ...], Field(strict=False, max_length=20)] = ()


class Photo(StrictModel):
    """A photograph of the rig: a picture file in the rig file's folder or below, and what it shows."""

    file: Annotated[str, Field(min_length=1, max_length=300)]
    caption: Note | None = None


class Variant(StrictModel):
    """Another train over the same parts.

    In ``train``, a text is the id of a part of the rig's own train, an object is a part of this variant alone.
    Telescope, guiding and framing are the rig's where the variant has none of its own; stated and measured values are
    its own. What is set otherwise with this train stands in ``devices`` (settings by the id of their device), ``plan``
    (some of its keys) and ``records`` (by their ids).
    """

    name: Text
    train: Annotated[tuple[Id | Part, ...], Field(strict=False, max_length=200)]
    telescope: Telescope | None = None
    guiding: Guiding | None = None
    framing: Framing | None = None
    stated: dict[str, StatedValue] = Field(default_factory=dict)
    measured: dict[str, MeasuredValue] = Field(default_factory=dict)
    devices: dict[Id, dict[str, Setting]] = Field(default_factory=dict)
    plan: dict[str, Any] = Field(default_factory=dict)
    records: Annotated[tuple[Record, ...], Field(strict=False, max_length=100)] = ()

    @property
    def sets_otherwise(self) -> bool:
        """Whether devices, plan or records differ with this train."""
        return bool(self.devices or self.plan or self.records)


class Rig(StrictModel):
    """A rig: the whole document."""

    format: Literal["wyntaxis-rig"]
    version: Literal[1]
    name: Text
    observer: Text | None = None
    site: Site | None = None
    telescope: Telescope
    train: Annotated[tuple[Part, ...], Field(strict=False, max_length=200)]
    guiding: Guiding = Field(default_factory=lambda: Guiding(kind="none"))
    mount: Mount | None = None
    plan: Plan | None = None
    framing: Framing | None = None
    stated: dict[str, StatedValue] = Field(default_factory=dict)
    measured: dict[str, MeasuredValue] = Field(default_factory=dict)
    devices: Annotated[tuple[Device, ...], Field(strict=False, max_length=100)] = ()
    supplies: Annotated[tuple[Supply, ...], Field(strict=False, max_length=50)] = ()
    records: Annotated[tuple[Record, ...], Field(strict=False, max_length=100)] = ()
    programs: Annotated[tuple[Program, ...], Field(strict=False, max_length=30)] = ()
    setup: Setup | None = None
    conditions: Annotated[tuple[OwnCondition, ...], Field(strict=False, max_length=200)] = ()
    incidents: Annotated[tuple[Incident, ...], Field(strict=False, max_length=2000)] = ()
    corrections: Annotated[dict[Text, FrameCorrection], Field(max_length=5000)] = Field(default_factory=dict)
    variants: Annotated[tuple[Variant, ...], Field(strict=False, max_length=50)] = ()
    assumed: Annotated[tuple[MarkedPath, ...], Field(strict=False, max_length=5000)] = ()
    """Paths of values that nobody gave; see :mod:`wyntaxis.core.rig.marks`."""
    origin: Annotated[dict[MarkedPath, Text], Field(max_length=5000)] = Field(default_factory=dict)
    """Where a drafted value comes from, by its path."""
    sources: Annotated[dict[MarkedPath, Sourced], Field(max_length=2000)] = Field(default_factory=dict)
    """Of values by their paths: their source and reason, and what others give."""
    photos: Annotated[tuple[Photo, ...], Field(strict=False, max_length=100)] = ()
    accepted: Annotated[tuple[Accepted, ...], Field(strict=False, max_length=500)] = ()
    note: Note | None = None

    @model_validator(mode="after")
    def _parts_fit_together(self) -> Self:
        for section in ("stated", "measured"):
            for key, quantity_value in getattr(self, section).items():
                if key not in QUANTITY_KINDS:
                    raise ValueError(f"{section}: {json.dumps(key[:60])} is no quantity id; see wyntaxis numbers")
                if quantity_value.value < SMALLEST and not QUANTITY_KINDS[key].may_be_zero:
                    raise ValueError(
                        f"{section}.{key}.value: must be at least {SMALLEST:g}, got {quantity_value.value:g}"
                    )
        _ids_are_unique(self)
        _devices_stand(self)
        _camera_comes_last(self.train, "train")
        _magnify_within_reason(self.train, "train")
        _magnify_within_reason(self.guiding.path, "guiding.path")
        if self.guiding.taps is not None:
            tapped = next((part for part in self.train if part.id == self.guiding.taps), None)
            if tapped is None:
                raise ValueError(f'guiding.taps names "{self.guiding.taps}", which is no part of the train')
            if tapped.prism is None:
                raise ValueError(f'guiding.taps names "{tapped.id}", which has no prism')
        _variants_stand(self)
        _marks_stand(self)
        return self

    @property
    def own_records(self) -> tuple[Record, ...]:
        """The records that are for this train: those made for it, and those made for all."""
        return tuple(record for record in self.records if record.variant in (None, self.name))

    @property
    def camera(self) -> Part | None:
        """The main camera, the last part of the train, or None while there is none."""
        return _camera_of(self.train)

    @property
    def sensor(self) -> Sensor | None:
        return self.camera.sensor if self.camera else None

    def parts(self) -> Iterator[tuple[DocumentPath, Part]]:
        """Yield every part with its path within the file."""
        for index, part in enumerate(self.train):
            yield ("train", index), part
        for index, part in enumerate(self.guiding.path):
            yield ("guiding", "path", index), part

    def find(self, part_id: str) -> tuple[DocumentPath, Part] | None:
        """Return the part of that id with its path, or None."""
        return next(((path, part) for path, part in self.parts() if part.id == part_id), None)


def _camera_of(parts: tuple[Part, ...]) -> Part | None:
    return parts[-1] if parts and parts[-1].kind == "camera" else None


def _camera_comes_last(parts: tuple[Part, ...], where: str) -> None:
    for index, part in enumerate(parts[:-1]):
        if part.kind == "camera":
            raise ValueError(f'{where}[{index}]: the camera "{part.id}" must be the last part of its path')


def _magnify_within_reason(parts: tuple[Part, ...], where: str) -> None:
    product = math.prod(part.magnification for part in parts if part.magnification is not None)
    if not 1 / MAX_MAGNIFICATION <= product <= MAX_MAGNIFICATION:
        raise ValueError(f"{where}: the magnifications multiply to {product:g}; check them")


def _ids_are_unique(rig: Rig) -> None:
    seen: dict[str, str] = {rig.telescope.id: "telescope"}
    places: list[tuple[str, str]] = [(f"train[{i}]", part.id) for i, part in enumerate(rig.train)]
    if rig.guiding.telescope is not None:
        places.append(("guiding.telescope", rig.guiding.telescope.id))
    places += [(f"guiding.path[{i}]", part.id) for i, part in enumerate(rig.guiding.path)]
    for place, part_id in places:
        if part_id in seen:
            raise ValueError(f'{place}.id: "{part_id}" is already the id of {seen[part_id]}')
        seen[part_id] = place


def _marks_stand(rig: Rig) -> None:
    """Each mark lies at a value of the rig."""
    for index, text in enumerate(rig.assumed):
        try:
            value = value_at(rig, parse_path(text))
        except (ValueError, LookupError):
            value = None
        if value is None:
            raise ValueError(f'assumed[{index}] names "{text}", which is no value of this rig')
    for text, sourced in rig.sources.items():
        try:
            value = value_at(rig, parse_path(text))
        except (ValueError, LookupError):
            value = None
        if value is None or (sourced.others and (isinstance(value, bool) or not isinstance(value, int | float))):
            what = "number" if sourced.others else "value"
            raise ValueError(f'sources names "{text}", which is no {what} of this rig')


def _devices_stand(rig: Rig) -> None:
    """Each list has its ids once, and a device's supply is one of the rig's."""
    lists = {
        "devices": [device.id for device in rig.devices],
        "supplies": [supply.id for supply in rig.supplies],
        "records": [record.id for record in rig.records],
        "programs": [program.id for program in rig.programs],
        "conditions": [condition.id for condition in rig.conditions],
    }
    for name, ids in lists.items():
        for index, entry_id in enumerate(ids):
            if entry_id in ids[:index]:
                raise ValueError(f'{name}[{index}].id: "{entry_id}" is there twice; give each its own')
    _supplies_stand(rig)
    _hubs_stand(rig)
    _programs_stand(rig)


def _programs_stand(rig: Rig) -> None:
    """Check that programs drive devices of the rig, and records belong to programs of it.

    A program that another needs may be missing: that is a finding.
    """
    devices, programs = {device.id for device in rig.devices}, {program.id for program in rig.programs}
    for index, program in enumerate(rig.programs):
        for number, driven in enumerate(program.drives):
            if driven not in devices:
                raise ValueError(f'programs[{index}].drives[{number}] names "{driven}", which is no device of the rig')
    for index, record in enumerate(rig.records):
        if record.program is not None and record.program not in programs:
            raise ValueError(f'records[{index}].program names "{record.program}", which is no program of the rig')


def _supplies_stand(rig: Rig) -> None:
    supplies = {supply.id for supply in rig.supplies}
    for index, device in enumerate(rig.devices):
        supply = device.power.supply if device.power else None
        if supply is not None and supply not in supplies:
            raise ValueError(f'devices[{index}].power.supply names "{supply}", which is no supply of the rig')
    feeds = {own.id: own.fed_by for own in rig.supplies}
    for index, own in enumerate(rig.supplies):
        if own.fed_by is not None and own.fed_by not in supplies:
            raise ValueError(f'supplies[{index}].fed_by names "{own.fed_by}", which is no supply of the rig')
        seen, at = {own.id}, own.fed_by
        while at is not None:
            if at in seen:
                raise ValueError(f"supplies[{index}].fed_by: the supplies feed each other in a ring")
            seen.add(at)
            at = feeds.get(at)


def _hubs_stand(rig: Rig) -> None:
    devices = {device.id for device in rig.devices}
    for index, device in enumerate(rig.devices):
        hub = device.connection.hub if device.connection else None
        if hub is not None and (hub not in devices or hub == device.id):
            raise ValueError(f'devices[{index}].connection.hub names "{hub}", which is no other device of the rig')
    into = {device.id: device.connection.hub if device.connection else None for device in rig.devices}
    for index, device in enumerate(rig.devices):
        ring = _ring_from(device.id, into)
        if ring:
            raise ValueError(
                f"devices[{index}].connection.hub: {' → '.join(ring)} are plugged into each other in a ring"
            )


def _ring_from(start: str, into: dict[str, str | None]) -> list[str]:
    """Return the way from a device back to itself by what each is plugged into; empty where it leads elsewhere."""
    way = [start]
    at = into.get(start)
    while at is not None and at not in way:
        way.append(at)
        at = into.get(at)
    return [*way, start] if at == start else []


def variant_rig(rig: Rig, name: str | None) -> Rig:
    """Return the rig of one variant as a rig without variants; without a name, the rig's own train.

    Raises
    ------
    ValueError
        If no variant has that name, or its parts do not make a rig.
    """
    if name is None or name == rig.name:
        own_marks = {
            "assumed": tuple(text for text in rig.assumed if not text.startswith("variants")),
            "origin": {text: words for text, words in rig.origin.items() if not text.startswith("variants")},
            "sources": {text: entries for text, entries in rig.sources.items() if not text.startswith("variants")},
        }
        return rig.model_copy(update={"variants": (), **(own_marks if rig.variants else {})})
    own = rig.model_dump(mode="json", exclude_unset=True)
    variants = own.pop("variants", [])
    found = next((variant for variant in variants if variant["name"] == name), None)
    if found is None:
        known = ", ".join(f'"{variant.name}"' for variant in rig.variants) or "none"
        raise ValueError(f'no variant "{name}"; the rig has: {known}')
    parts = {part["id"]: part for part in own["train"]}
    for index, entry in enumerate(found["train"]):
        if isinstance(entry, str) and entry not in parts:
            raise ValueError(f'train[{index}] names "{entry}", which is no part of the rig\'s train')
    index = variants.index(found)
    of_own = of_variant(
        [*own.get("assumed", ()), *own.get("origin", {}), *own.get("sources", {})],
        index,
        found["train"],
        list(parts),
        [key for key in ("telescope", "guiding", "framing") if found.get(key) is not None],
    )
    own |= {"name": found["name"], "train": [parts[e] if isinstance(e, str) else e for e in found["train"]]}
    for key in ("telescope", "guiding", "framing"):
        if found.get(key) is not None:
            own[key] = found[key]
    for key in ("stated", "measured"):
        own[key] = found.get(key, {})
    keep_marks(own, of_own, overridden(own, found))
    taps = own.get("guiding", {}).get("taps")
    if found.get("guiding") is None and taps is not None and taps not in {part["id"] for part in own["train"]}:
        own["guiding"] = {"kind": "none"}  # the prism stays at home with its guider
        own["assumed"] = [text for text in own.get("assumed", ()) if not text.startswith("guiding")]
        own["sources"] = {t: entries for t, entries in own.get("sources", {}).items() if not t.startswith("guiding")}
    return Rig.model_validate(own)


def bare_train(rig: Rig) -> Rig:
    """Return a rig without what has no bearing on its train: quick to copy and to validate."""
    nothing: dict[str, Any] = {"devices": {}, "plan": {}, "records": ()}
    variants = tuple(own.model_copy(update=nothing) if own.sets_otherwise else own for own in rig.variants)
    return rig.model_copy(
        update={
            "variants": variants,
            "devices": (),
            "supplies": (),
            "records": (),
            "programs": (),
            "incidents": (),
            "setup": None,
            "conditions": (),
            "corrections": {},
            "assumed": (),
            "origin": {},
            "sources": {},
            "accepted": (),
        }
    )


def _variants_stand(rig: Rig) -> None:
    names, bare = {rig.name}, bare_train(rig)
    known = names | {variant.name for variant in rig.variants}
    for index, record in enumerate(rig.records if rig.variants else ()):
        if record.variant is not None and record.variant not in known:
            raise ValueError(f'records[{index}].variant names "{record.variant}", which is no train of the rig')
    for index, variant in enumerate(rig.variants):
        if variant.name in names:
            raise ValueError(f'variants[{index}].name: "{variant.name}" is there twice; name each train differently')
        names.add(variant.name)
        try:
            variant_rig(rig if variant.sets_otherwise else bare, variant.name)
        except ValidationError as error:
            fault = error.errors(include_url=False)[0]
            detail = str(fault.get("ctx", {}).get("error", fault["msg"]))
            raise ValueError(f"variants[{index}]: {detail}") from None
        except ValueError as error:
            raise ValueError(f"variants[{index}].{error}") from None


def json_schema() -> JsonObject:
    """Return the JSON Schema of the rig file."""
    schema = Rig.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Wyntaxis rig, version 1"
    return schema
