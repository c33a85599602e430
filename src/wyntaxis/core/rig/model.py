"""The rig document, version 1, as pydantic models.

The models are frozen: an edit makes a new rig (see :mod:`wyntaxis.core.rig.edit`), so undo is a list of rigs.
Lengths are in mm, pixels in µm, masses in g, angles in degrees unless the name says otherwise.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, ValidationError, model_validator

from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.base import (
    SMALLEST,
    Id,
    Length,
    Mass,
    Note,
    PositiveLength,
    StrictModel,
    Text,
    Thread,
    not_vanishing,
)
from wyntaxis.core.rig.devices import Device, Record, Supply
from wyntaxis.core.rig.plan import (
    FrameCorrection,
    Framing,
    GuideSettings,
    MeasuredValue,
    Mount,
    Plan,
    Site,
    StatedValue,
)

FORMAT = "wyntaxis-rig"
VERSION = 1
MOST_MAGNIFICATION = 1000.0
"""Of all correctors together; far beyond any telescope."""

PartKind = Literal[
    "corrector",
    "extender",
    "spacer",
    "adapter",
    "tilt_plate",
    "focuser",
    "rotator",
    "off_axis_guider",
    "filter_wheel",
    "filter_drawer",
    "window",
    "camera",
]
PART_KINDS: tuple[PartKind, ...] = PartKind.__args__  # type: ignore[attr-defined]
MAGNIFYING_KINDS: frozenset[str] = frozenset({"corrector", "extender"})


class Joint(StrictModel):
    """One end of a part: how it screws or slides onto its neighbour.

    ``shoulder`` false: nothing stops the part at a repeatable place. Left out, a thread is taken to have one.
    """

    thread: Thread
    gender: Literal["male", "female", "slip"]
    depth_mm: Length | None = None
    shoulder: bool | None = None


class Glass(StrictModel):
    """A plane-parallel plate in the beam.

    ``counted``: the plate is already inside a length that a maker gave, so it adds nothing to the required back focus.
    ``counted_in`` says inside which: ``flange`` (the camera's flange-to-sensor figure, the default) or
    ``back_focus`` (the corrector's required distance: then it still shifts the focus of a guide branch before it).
    """

    name: Text = "glass"
    thickness_mm: PositiveLength
    thickness_tolerance_mm: Length | None = None
    index: Annotated[float, Field(ge=1, le=5)]
    counted: bool = False
    counted_in: Literal["flange", "back_focus"] | None = None

    @model_validator(mode="after")
    def _counted_in_needs_counted(self) -> Glass:
        if self.counted_in is not None and not self.counted:
            raise ValueError('"counted_in" needs "counted": true')
        return self


class Adjustable(StrictModel):
    """The range of a part whose length can be set, and where it is set."""

    min_mm: Length
    max_mm: Length
    set_mm: Length

    @model_validator(mode="after")
    def _set_inside_range(self) -> Adjustable:
        if self.min_mm > self.max_mm:
            raise ValueError(f"min_mm {self.min_mm:g} is above max_mm {self.max_mm:g}")
        if not self.min_mm <= self.set_mm <= self.max_mm:
            raise ValueError(f"set_mm {self.set_mm:g} is outside the range {self.min_mm:g} to {self.max_mm:g} mm")
        return self


class Prism(StrictModel):
    """The pick-off prism of an off-axis guider; distances from the part's front face and from the axis.

    ``beside`` tells at which side of the sensor it stands: beside a long side, it has half the height to clear.
    ``angle_deg`` tells where it stands as the frame shows it, from the frame's top toward its left; left out, it stands
    above a long side or left of a short one.
    """

    from_front_mm: Length
    edge_from_axis_mm: Length
    height_mm: PositiveLength
    width_mm: PositiveLength
    beside: Literal["long_side", "short_side"] = "long_side"
    angle_deg: Annotated[float, Field(ge=-360, le=360)] | None = None


class Sensor(StrictModel):
    """A camera's sensor: pixels unbinned, and the binning it is used with."""

    width_px: Annotated[int, Field(ge=1, le=200_000)]
    height_px: Annotated[int, Field(ge=1, le=200_000)]
    pixel_um: Annotated[float, Field(gt=0, le=1000), AfterValidator(not_vanishing)]
    bit_depth: Annotated[int, Field(ge=1, le=64)] | None = None
    binning: Annotated[int, Field(ge=1, le=64)] = 1

    @property
    def width_mm(self) -> float:
        return self.width_px * self.pixel_um / 1000

    @property
    def height_mm(self) -> float:
        return self.height_px * self.pixel_um / 1000

    @property
    def diagonal_mm(self) -> float:
        return math.hypot(self.width_mm, self.height_mm)

    @property
    def corner_px(self) -> float:
        """How far the corner is from the middle, in binned pixels."""
        return math.hypot(self.width_px, self.height_px) / 2 / self.binning


class Part(StrictModel):
    """One part of the train or of the guide path; ``length_mm`` is its optical length along the axis."""

    id: Id
    kind: PartKind
    name: Text | None = None
    length_mm: Length
    length_tolerance_mm: Length | None = None
    length_basis: Literal["stated", "measured"] = "stated"
    adjustable: Adjustable | None = None
    glass: Annotated[tuple[Glass, ...], Field(strict=False)] = ()
    magnification: Annotated[float, Field(gt=0, le=100), AfterValidator(not_vanishing)] | None = None
    required_back_focus_mm: PositiveLength | None = None
    back_focus_tolerance_mm: Length | None = None
    image_circle_mm: PositiveLength | None = None
    prism: Prism | None = None
    sensor: Sensor | None = None
    clear_aperture_mm: PositiveLength | None = None
    mass_g: Mass | None = None
    front: Joint | None = None
    rear: Joint | None = None
    pinned: bool = False
    keep_with_next: bool = False
    note: Note | None = None

    @property
    def title(self) -> str:
        """What to call the part: its name, or its id in words where it has none."""
        return self.name or self.id.replace("_", " ")

    @property
    def optical_length_mm(self) -> float:
        """The length that counts: where it is set, for an adjustable part."""
        return self.adjustable.set_mm if self.adjustable else self.length_mm

    @model_validator(mode="after")
    def _keys_fit_the_kind(self) -> Part:
        if self.kind not in MAGNIFYING_KINDS:
            for key in ("magnification", "required_back_focus_mm", "back_focus_tolerance_mm"):
                if getattr(self, key) is not None:
                    raise ValueError(f'"{key}" belongs to a corrector or an extender, not to kind "{self.kind}"')
        if self.prism is not None and self.kind != "off_axis_guider":
            raise ValueError(f'"prism" belongs to an off_axis_guider, not to kind "{self.kind}"')
        if self.prism is not None and self.prism.from_front_mm > self.optical_length_mm:
            raise ValueError(
                f"prism.from_front_mm {self.prism.from_front_mm:g} lies behind the part, "
                f"which is {self.optical_length_mm:g} mm long"
            )
        if self.sensor is not None and self.kind != "camera":
            raise ValueError(f'"sensor" belongs to a camera, not to kind "{self.kind}"')
        return self


class Focuser(StrictModel):
    """The telescope's focuser: where focus falls behind it, how far it goes, what it carries.

    ``focal_plane_mm`` counts from its racked-in face to the focal plane of the bare telescope.
    """

    focal_plane_mm: Length | None = None
    travel_mm: Length | None = None
    load_rating_g: Mass | None = None
    moment_rating_n_m: Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)] | None = None


class Telescope(StrictModel):
    """The telescope, before any corrector."""

    id: Id
    name: Text | None = None
    focal_length_mm: PositiveLength
    focal_length_tolerance_mm: Length | None = None
    aperture_mm: PositiveLength
    obstruction_ratio: Annotated[float, Field(ge=0, lt=1)] = 0.0
    image_circle_mm: PositiveLength | None = None
    exit_pupil_distance_mm: PositiveLength | None = None
    rear: Joint | None = None
    focuser: Focuser | None = None
    note: Note | None = None

    @property
    def title(self) -> str:
        return self.name or self.id


class Guiding(StrictModel):
    """How the rig guides: through a prism in the train, through a telescope of its own, or not at all."""

    kind: Literal["off_axis", "separate", "none"]
    taps: Id | None = None
    telescope: Telescope | None = None
    path: Annotated[tuple[Part, ...], Field(strict=False)] = ()
    settings: GuideSettings | None = None

    @model_validator(mode="after")
    def _keys_fit_the_kind(self) -> Guiding:
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


class Variant(StrictModel):
    """Another train over the same parts.

    In ``train``, a text is the id of a part of the rig's own train, an object is a part of this variant alone.
    Telescope, guiding and framing are the rig's where the variant has none of its own; stated and measured legs are
    its own.
    """

    name: Text
    train: Annotated[tuple[Id | Part, ...], Field(strict=False, max_length=200)]
    telescope: Telescope | None = None
    guiding: Guiding | None = None
    framing: Framing | None = None
    stated: dict[str, StatedValue] = Field(default_factory=dict)
    measured: dict[str, MeasuredValue] = Field(default_factory=dict)


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
    corrections: Annotated[dict[Text, FrameCorrection], Field(max_length=5000)] = Field(default_factory=dict)
    variants: Annotated[tuple[Variant, ...], Field(strict=False, max_length=50)] = ()
    note: Note | None = None

    @model_validator(mode="after")
    def _parts_fit_together(self) -> Rig:
        for section in ("stated", "measured"):
            for key, leg in getattr(self, section).items():
                if key not in QUANTITY_KINDS:
                    raise ValueError(f"{section}: {json.dumps(key[:60])} is no quantity id; see wyntaxis numbers")
                if leg.value < SMALLEST and not QUANTITY_KINDS[key].may_be_zero:
                    raise ValueError(f"{section}.{key}.value: must be at least {SMALLEST:g}, got {leg.value:g}")
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

    def parts(self) -> Iterator[tuple[tuple[str | int, ...], Part]]:
        """Yield every part with its path within the file."""
        for index, part in enumerate(self.train):
            yield ("train", index), part
        for index, part in enumerate(self.guiding.path):
            yield ("guiding", "path", index), part

    def find(self, part_id: str) -> tuple[tuple[str | int, ...], Part] | None:
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
    if not 1 / MOST_MAGNIFICATION <= product <= MOST_MAGNIFICATION:
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


def _devices_stand(rig: Rig) -> None:
    """Each list has its ids once, and a device's supply is one of the rig's."""
    lists = {
        "devices": [device.id for device in rig.devices],
        "supplies": [supply.id for supply in rig.supplies],
        "records": [record.id for record in rig.records],
    }
    for name, ids in lists.items():
        for index, entry_id in enumerate(ids):
            if entry_id in ids[:index]:
                raise ValueError(f'{name}[{index}].id: "{entry_id}" stands twice; give each its own')
    supplies = {supply.id for supply in rig.supplies}
    for index, device in enumerate(rig.devices):
        supply = device.power.supply if device.power else None
        if supply is not None and supply not in supplies:
            raise ValueError(f'devices[{index}].power.supply names "{supply}", which is no supply of the rig')


def variant_rig(rig: Rig, name: str | None) -> Rig:
    """Return the rig of one variant as a rig without variants; without a name, the rig's own train.

    Raises
    ------
    ValueError
        If no variant has that name, or its parts do not make a rig.
    """
    if name is None or name == rig.name:
        return rig.model_copy(update={"variants": ()})
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
    own |= {"name": found["name"], "train": [parts[e] if isinstance(e, str) else e for e in found["train"]]}
    for key in ("telescope", "guiding", "framing"):
        if found.get(key) is not None:
            own[key] = found[key]
    for key in ("stated", "measured"):
        own[key] = found.get(key, {})
    taps = own.get("guiding", {}).get("taps")
    if found.get("guiding") is None and taps is not None and taps not in {part["id"] for part in own["train"]}:
        own["guiding"] = {"kind": "none"}  # the prism stays at home with its guider
    return Rig.model_validate(own)


def bare_train(rig: Rig) -> Rig:
    """Return a rig without what has no bearing on its train: quick to copy and to validate."""
    return rig.model_copy(update={"devices": (), "supplies": (), "records": (), "corrections": {}})


def _variants_stand(rig: Rig) -> None:
    names, bare = {rig.name}, bare_train(rig)
    known = names | {variant.name for variant in rig.variants}
    for index, record in enumerate(rig.records if rig.variants else ()):
        if record.variant is not None and record.variant not in known:
            raise ValueError(f'records[{index}].variant names "{record.variant}", which is no train of the rig')
    for index, variant in enumerate(rig.variants):
        if variant.name in names:
            raise ValueError(f'variants[{index}].name: "{variant.name}" stands twice; name each train differently')
        names.add(variant.name)
        try:
            variant_rig(bare, variant.name)
        except ValidationError as error:
            fault = error.errors(include_url=False)[0]
            detail = str(fault.get("ctx", {}).get("error", fault["msg"]))
            raise ValueError(f"variants[{index}]: {detail}") from None
        except ValueError as error:
            raise ValueError(f"variants[{index}].{error}") from None


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of the rig file."""
    schema = Rig.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Wyntaxis rig, version 1"
    return schema
