"""The parts of the rig document along the light: telescope, train, sensor.

Lengths are in mm, pixels in µm, masses in g.
"""

import math
from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from wyntaxis.core.rig.base import Id, Length, Mass, Note, PositiveLength, StrictModel, Text, Thread, not_vanishing
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.display import Display
from wyntaxis.core.rig.own_settings import OwnSettings, check_names

PART_KINDS: tuple[str, ...] = (
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
)
PART_KINDS += tuple(kind.id for kind in DEVICE_KINDS.values() if kind.is_part and kind.id not in PART_KINDS)
if TYPE_CHECKING:
    PartKind = str
else:
    PartKind = Literal[PART_KINDS]
MAGNIFYING_KINDS: frozenset[str] = frozenset({"corrector", "extender"})
FILTER_KINDS: frozenset[str] = frozenset({"filter_wheel", "filter_drawer"})
PINNABLE_KINDS: frozenset[str] = frozenset({"spacer", "adapter"})


class Joint(StrictModel):
    """One end of a part: how it screws or slides onto its neighbour.

    ``shoulder`` false: nothing stops the part at a repeatable place. Left out, a thread is taken to have one.
    """

    thread: Annotated[Thread, Display("thread")]
    gender: Annotated[Literal["male", "female", "slip"], Display("gender")]
    depth_mm: Annotated[Length | None, Display("depth", "mm")] = None
    shoulder: bool | None = None


class Glass(StrictModel):
    """A plane-parallel plate in the beam.

    ``counted``: the plate is already inside a length that a maker gave, so it adds nothing to the required back focus.
    ``counted_in`` says inside which: ``flange`` (the camera's flange-to-sensor figure, the default) or
    ``back_focus`` (the corrector's required distance: then it still shifts the focus of a guide branch before it).
    """

    name: Annotated[Text, Display("Glass")] = "glass"
    thickness_mm: Annotated[PositiveLength, Display("Thickness", "mm")]
    thickness_tolerance_mm: Length | None = None
    index: Annotated[Annotated[float, Field(ge=1, le=5)], Display("Index", "n")]
    counted: Annotated[bool, Display("Counted already")] = False
    counted_in: Literal["flange", "back_focus"] | None = None

    @model_validator(mode="after")
    def _counted_in_needs_counted(self) -> Self:
        if self.counted_in is not None and not self.counted:
            raise ValueError('"counted_in" needs "counted": true')
        return self


class Adjustable(StrictModel):
    """The range of a part whose length can be set, and where it is set."""

    min_mm: Annotated[Length, Display("Shortest", "mm")]
    max_mm: Annotated[Length, Display("Longest", "mm")]
    set_mm: Annotated[Length, Display("Set at", "mm")]

    @model_validator(mode="after")
    def _set_inside_range(self) -> Self:
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

    from_front_mm: Annotated[Length, Display("from front", "mm")]
    edge_from_axis_mm: Annotated[Length, Display("edge to axis", "mm")]
    height_mm: Annotated[PositiveLength, Display("height", "mm")]
    width_mm: Annotated[PositiveLength, Display("width", "mm")]
    beside: Annotated[Literal["long_side", "short_side"], Display("beside the sensor's")] = "long_side"
    angle_deg: Annotated[Annotated[float, Field(ge=-360, le=360)] | None, Display("angle from top", "°")] = None


class ScrewPlace(StrictModel):
    """Where a screw is: its azimuth in the stored image (row 0 below), from the right toward the top, and the hour at
    which one sees it from behind the camera; left out, that is told from the azimuth.
    """

    azimuth_deg: Annotated[Annotated[float, Field(ge=-360, le=360)], Display("azimuth", "°")]
    clock: Annotated[Annotated[int, Field(ge=1, le=12)] | None, Display("seen at", "o’clock")] = None


class TiltScrews(StrictModel):
    """The screws of a tilt plate: how far from the axis, how far a turn goes, and where each is.

    ``push_pull``: the push screw turned in moves the camera away from the telescope; ``spring``: a screw turned in
    draws it nearer. ``mirrored``: the stored image is a mirror image of what one sees from behind.
    """

    radius_mm: Annotated[PositiveLength, Display("radius", "mm")]
    pitch_mm: Annotated[PositiveLength, Display("pitch", "mm")]
    drive: Annotated[Literal["push_pull", "spring"], Display("are")] = "push_pull"
    mirrored: Annotated[bool, Display("image mirrored")] = False
    at: Annotated[Annotated[tuple[ScrewPlace, ...], Field(strict=False, min_length=3, max_length=8)], Display("")]

    @model_validator(mode="after")
    def _screws_span_a_plane(self) -> Self:
        if len({round(place.azimuth_deg % 360, 3) for place in self.at}) < len(self.at):
            raise ValueError("two screws are at one azimuth")
        return self


class Sensor(StrictModel):
    """A camera's sensor: pixels unbinned, and the binning it is used with."""

    width_px: Annotated[
        Annotated[int, Field(ge=1, le=200_000)],
        Display("Pixels across", "px", "pixel", tolerance=0.0, decimals=0, place=1),
    ]
    height_px: Annotated[
        Annotated[int, Field(ge=1, le=200_000)],
        Display("Pixels down", "px", "pixel", tolerance=0.0, decimals=0, place=1),
    ]
    pixel_um: Annotated[
        Annotated[float, Field(gt=0, le=1000), AfterValidator(not_vanishing)], Display("Pixel", "µm", "pixel")
    ]
    bit_depth: Annotated[Annotated[int, Field(ge=1, le=64)] | None, Display("Bit depth", "bit")] = None
    binning: Annotated[
        Annotated[int, Field(ge=1, le=64)], Display("Binning", "", "pixel", tolerance=0.0, decimals=0, place=1)
    ] = 1

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
    kind: Annotated[PartKind, Display("Kind")]
    name: Annotated[Text | None, Display("Name")] = None
    length_mm: Annotated[Length, Display("Length", "mm")]
    length_tolerance_mm: Annotated[Length | None, Display("Tolerance ±", "mm")] = None
    length_basis: Annotated[Literal["stated", "measured"], Display("Length is")] = "stated"
    adjustable: Annotated[Adjustable | None, Display("")] = None
    glass: Annotated[Annotated[tuple[Glass, ...], Field(strict=False)], Display("")] = ()
    magnification: Annotated[
        Annotated[float, Field(gt=0, le=100), AfterValidator(not_vanishing)] | None,
        Display("Magnification", "×", kinds=MAGNIFYING_KINDS),
    ] = None
    required_back_focus_mm: Annotated[
        PositiveLength | None, Display("Required distance", "mm", kinds=MAGNIFYING_KINDS)
    ] = None
    back_focus_tolerance_mm: Annotated[Length | None, Display("Its tolerance ±", "mm", kinds=MAGNIFYING_KINDS)] = None
    image_circle_mm: Annotated[PositiveLength | None, Display("Image circle", "mm", kinds=MAGNIFYING_KINDS)] = None
    prism: Annotated[Prism | None, Display("Prism")] = None
    screws: Annotated[TiltScrews | None, Display("Screws")] = None
    sensor: Annotated[Sensor | None, Display("")] = None
    clear_aperture_mm: Annotated[PositiveLength | None, Display("Clear aperture", "mm")] = None
    mass_g: Annotated[Mass | None, Display("Mass", "g")] = None
    front: Annotated[Joint | None, Display("Front")] = None
    rear: Annotated[Joint | None, Display("Rear")] = None
    pinned: Annotated[bool, Display("Pinned in the search", kinds=PINNABLE_KINDS)] = False
    no_filter: Annotated[bool, Display("No filter in the beam", kinds=FILTER_KINDS)] = False
    """Of a wheel or drawer that states no glass: none is in the beam, so that nothing is missing."""
    keep_with_next: Annotated[bool, Display("Keep with the next")] = False
    mark: Annotated[Text | None, Display("Index mark")] = None
    own_settings: OwnSettings = ()
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
    def _keys_fit_the_kind(self) -> Self:
        check_names(self.own_settings)
        if self.kind not in MAGNIFYING_KINDS:
            for key in ("magnification", "required_back_focus_mm", "back_focus_tolerance_mm"):
                if getattr(self, key) is not None:
                    raise ValueError(f'"{key}" belongs to a corrector or an extender, not to kind "{self.kind}"')
        if self.no_filter and self.kind not in FILTER_KINDS:
            raise ValueError(f'"no_filter" belongs to a filter_wheel or filter_drawer, not to kind "{self.kind}"')
        if self.prism is not None and self.kind != "off_axis_guider":
            raise ValueError(f'"prism" belongs to an off_axis_guider, not to kind "{self.kind}"')
        if self.prism is not None and self.prism.from_front_mm > self.optical_length_mm:
            raise ValueError(
                f"prism.from_front_mm {self.prism.from_front_mm:g} lies behind the part, "
                f"which is {self.optical_length_mm:g} mm long"
            )
        if self.screws is not None and self.kind != "tilt_plate":
            raise ValueError(f'"screws" belongs to a tilt_plate, not to kind "{self.kind}"')
        if self.sensor is not None and self.kind != "camera":
            raise ValueError(f'"sensor" belongs to a camera, not to kind "{self.kind}"')
        return self


class Focuser(StrictModel):
    """The telescope's focuser: where focus falls behind it, how far it goes, what it carries.

    ``focal_plane_mm`` counts from its racked-in face to the focal plane of the bare telescope.
    """

    focal_plane_mm: Annotated[Length | None, Display("focal plane behind it", "mm")] = None
    travel_mm: Annotated[Length | None, Display("travel", "mm")] = None
    load_rating_g: Annotated[Mass | None, Display("load rating", "g")] = None
    moment_rating_n_m: Annotated[
        Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)] | None, Display("moment", "N·m")
    ] = None


class Telescope(StrictModel):
    """The telescope, before any corrector."""

    id: Id
    name: Annotated[Text | None, Display("Name")] = None
    focal_length_mm: Annotated[PositiveLength, Display("Focal length", "mm")]
    focal_length_tolerance_mm: Annotated[Length | None, Display("Tolerance ±", "mm")] = None
    aperture_mm: Annotated[PositiveLength, Display("Aperture", "mm", "focal_length", decimals=1)]
    obstruction_ratio: Annotated[
        Annotated[float, Field(ge=0, lt=1)], Display("Obstruction ratio", "", "setting", tolerance=0.01)
    ] = 0.0
    required_back_focus_mm: Annotated[PositiveLength | None, Display("Required distance, bare", "mm")] = None
    """From its rear to the sensor, where no corrector behind it states one."""
    back_focus_tolerance_mm: Annotated[Length | None, Display("Its tolerance ±", "mm")] = None
    image_circle_mm: Annotated[PositiveLength | None, Display("Image circle", "mm")] = None
    exit_pupil_distance_mm: Annotated[PositiveLength | None, Display("Exit pupil before image", "mm")] = None
    rear: Annotated[Joint | None, Display("Rear")] = None
    mass_g: Annotated[Mass | None, Display("Mass", "g")] = None
    focuser: Annotated[Focuser | None, Display("Focuser", always=True)] = None
    note: Note | None = None

    @property
    def title(self) -> str:
        return self.name or self.id
