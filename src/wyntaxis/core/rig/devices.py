"""The parts of the rig document that are told to programs: devices, supplies, and the records that programs keep."""

import re
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from wyntaxis.core.rig.base import Finite, Id, Length, Note, PositiveLength, StrictModel, Text, not_vanishing
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_settings import SETTINGS, check_setting
from wyntaxis.core.rig.display import Display
from wyntaxis.core.rig.own_settings import OwnSettings, check_names
from wyntaxis.core.rig.plan import Evidence, MeasuredValue

if TYPE_CHECKING:
    DeviceKind = str
else:
    DeviceKind = Literal[tuple(DEVICE_KINDS)]
CONNECTION_KINDS = ("usb", "serial", "network", "wireless", "none")
BANDPASSES = ("luminance", "red", "green", "blue", "narrow", "color", "dark", "clear", "other")
SUPPLY_KINDS = ("mains", "battery", "power_box")
STORAGE_KINDS = ("card", "internal", "external", "network")
SIDES = ("server", "client")
ACTIONS = ("cool", "guide", "dither", "refocus", "flip", "park", "warm_up")
MAX_SLOTS = 32
SWITCHES = ("power_box", "relay_switch")

_USB_ID = re.compile(r"[0-9a-f]{4}:[0-9a-f]{4}")


def _usb_id(text: str) -> str:
    if not _USB_ID.fullmatch(text):
        raise ValueError("must be vendor:product in lower-case hexadecimal, such as 1a2b:0c3d")
    return text


def _moment(text: str) -> str:
    try:
        datetime.fromisoformat(text)
    except ValueError:
        raise ValueError("must be a date or a time such as 2026-11-24 or 2026-11-24T21:30:00Z") from None
    return text


UsbId = Annotated[str, AfterValidator(_usb_id)]
Moment = Annotated[str, Field(min_length=4, max_length=40), AfterValidator(_moment)]
Current = Annotated[float, Field(ge=0, le=1000)]
CableLength = Annotated[float, Field(ge=0, le=1000)]
Above = Annotated[float, Field(gt=0, le=1e9), AfterValidator(not_vanishing)]


class Identity(StrictModel):
    """What tells one device from another: the maker's model, the USB vendor:product, the serial number."""

    model: Annotated[Text | None, Display("Model")] = None
    usb_id: Annotated[UsbId | None, Display("USB vendor:product")] = None
    serial_number: Annotated[Text | None, Display("Serial number", topic="connection", place=2)] = None
    firmware: Annotated[Text | None, Display("Firmware")] = None


class Driver(StrictModel):
    """The driver that runs the device, its version, and when it was installed."""

    name: Annotated[Text | None, Display("Driver", topic="driver", key="driver")] = None
    version: Annotated[Text | None, Display("Driver version", topic="driver", key="driver_version")] = None
    installed: Annotated[Moment | None, Display("Driver installed")] = None


class Connection(StrictModel):
    """How the device is reached. ``mode`` is the device's own switch, where it has one; ``plugged_in`` is when."""

    kind: Annotated[Literal["usb", "serial", "network", "wireless", "none"] | None, Display("Connection")] = None
    port: Annotated[Text | None, Display("Port", topic="connection")] = None
    host: Annotated[Text | None, Display("Host", topic="connection")] = None
    tcp_port: Annotated[
        Annotated[int, Field(ge=1, le=65535)] | None,
        Display("TCP port", topic="connection", tolerance=0.0, decimals=0, place=3),
    ] = None
    baud: Annotated[
        Annotated[int, Field(ge=50, le=10_000_000)] | None,
        Display("Baud rate", topic="connection", tolerance=0.0, decimals=0, place=3),
    ] = None
    mode: Annotated[Text | None, Display("Connection mode", topic="connection", place=1)] = None
    plugged_in: Annotated[Moment | None, Display("Plugged in")] = None
    hub: Annotated[Id | None, Display("Plugged into")] = None
    cable_m: Annotated[CableLength | None, Display("Data cable", "m")] = None
    repeater: Annotated[bool | None, Display("Repeater in it")] = None


class Cable(StrictModel):
    """A supply line: its length, the cross-section of one wire, and what its contacts resist, there and back."""

    length_m: Annotated[CableLength | None, Display("length", "m")] = None
    cross_section_mm2: Annotated[Above | None, Display("cross-section", "mm²")] = None
    contact_mohm: Annotated[Annotated[float, Field(ge=0, le=10_000)] | None, Display("contacts", "mΩ")] = None


class Outlet(StrictModel):
    """One outlet or relay of a supply or a switch, by name; ``rated_a`` is what it may give."""

    name: Annotated[Text, Display("Outlet")]
    rated_a: Annotated[Above | None, Display("Rated", "A")] = None
    switched: Annotated[bool | None, Display("Can be switched")] = None


class PowerDraw(StrictModel):
    """What the device draws from which supply, in A: usually, and at its most; by which outlet and cable.

    ``least_v`` is the least voltage that it works at.
    """

    supply: Annotated[Id | None, Display("Powered by")] = None
    outlet: Annotated[Text | None, Display("Outlet")] = None
    current_a: Annotated[Current | None, Display("Typical current", "A")] = None
    peak_a: Annotated[Current | None, Display("Highest current", "A")] = None
    least_v: Annotated[Above | None, Display("Lowest voltage", "V")] = None
    cable: Annotated[Cable | None, Display("Supply cable", always=True)] = None


class Slot(StrictModel):
    """One slot of a filter wheel; a slot without a name is an empty one.

    ``focus_offset_steps`` is what programs move the focuser by against the reference, ``focus_offset_measured`` what
    focus runs gave.
    """

    name: Annotated[Annotated[str, Field(max_length=60)], Display("Name")] = ""
    thickness_mm: Annotated[PositiveLength | None, Display("Thickness", "mm")] = None
    index: Annotated[Annotated[float, Field(ge=1, le=5)] | None, Display("Index", "n")] = None
    bandpass: Annotated[
        Literal["luminance", "red", "green", "blue", "narrow", "color", "dark", "clear", "other"] | None,
        Display("Passes"),
    ] = None
    focus_offset_steps: Annotated[Annotated[float, Field(ge=-1e9, le=1e9)] | None, Display("Focus offset", "steps")] = (
        None
    )
    focus_offset_measured: MeasuredValue | None = None


class Storage(StrictModel):
    """A place where images go, or their second copy, with its free space in GB (10⁹ bytes)."""

    name: Annotated[Text, Display("Name")]
    kind: Annotated[Literal["card", "internal", "external", "network"] | None, Display("Kind")] = None
    free_gb: Annotated[Length | None, Display("Free", "GB")] = None
    holds: Annotated[Literal["images", "copy"] | None, Display("Holds")] = None


class Setting(StrictModel):
    """A setting of a device: what it is to be, how far it may be off, and what was measured of it."""

    value: float | bool | Annotated[str, Field(max_length=200)] | None = None
    tolerance: Annotated[float, Field(ge=0, le=1e9)] | None = None
    source: Note | None = None
    measured: MeasuredValue | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.value is None and self.measured is None:
            raise ValueError('needs a "value" or a "measured" value; take the setting out where there is neither')
        return self


class Device(StrictModel):
    """One device: what it is, how it is driven, reached and fed, and what it is set to.

    ``part`` is the id of the part that it is, or sits at. ``connected`` says whether the programs reach it; left out,
    nobody has looked.
    """

    id: Id
    kind: Annotated[DeviceKind, Display("Kind")]
    name: Annotated[Text | None, Display("Name", topic="setting")] = None
    part: Annotated[Id | None, Display("At part")] = None
    identity: Annotated[Identity | None, Display("", always=True)] = None
    driver: Annotated[Driver | None, Display("", always=True)] = None
    connection: Annotated[Connection | None, Display("", always=True)] = None
    connected: Annotated[bool | None, Display("Connected")] = None
    power: Annotated[PowerDraw | None, Display("", always=True)] = None
    settings: dict[str, Setting] = Field(default_factory=dict)
    slots: Annotated[tuple[Slot, ...], Field(strict=False, max_length=MAX_SLOTS)] = ()
    storage: Annotated[tuple[Storage, ...], Field(strict=False, max_length=32)] = ()
    outlets: Annotated[tuple[Outlet, ...], Field(strict=False, max_length=64)] = ()
    own_settings: OwnSettings = ()
    note: Note | None = None

    @model_validator(mode="after")
    def _keys_fit_the_kind(self) -> Self:
        check_names(self.own_settings)
        for key, setting in self.settings.items():
            check_setting(self.kind, key, setting.value)
            if setting.measured is not None:
                check_setting(self.kind, key, setting.measured.value)
            if SETTINGS[key].type != "number" and (setting.measured is not None or setting.tolerance is not None):
                raise ValueError(f"settings.{key}: only a number has a tolerance or a measured value")
        if self.slots and self.kind != "filter_wheel":
            raise ValueError(f'"slots" belongs to a filter_wheel, not to kind "{self.kind}"')
        if self.storage and self.kind != "computer":
            raise ValueError(f'"storage" belongs to a computer, not to kind "{self.kind}"')
        if self.outlets and self.kind not in SWITCHES:
            raise ValueError(f'"outlets" belongs to a power_box or a relay_switch, not to kind "{self.kind}"')
        return self

    @property
    def title(self) -> str:
        return self.name or self.id

    def number(self, key: str) -> float | None:
        """Return a numeric setting's value, None where it is not stated."""
        setting = self.settings.get(key)
        value = setting.value if setting is not None else None
        return None if value is None or isinstance(value, (str, bool)) else float(value)

    def measured(self, key: str) -> MeasuredValue | None:
        """Return what was measured of a setting, None where nothing was."""
        setting = self.settings.get(key)
        return setting.measured if setting is not None else None

    def best(self, key: str) -> float | None:
        """Return a numeric setting to act on: as measured, else as stated, else as motor and gear make it."""
        measured = self.measured(key)
        if measured is not None:
            return measured.value
        stated = self.number(key)
        return self.geared_step_um if stated is None and key == "step_um" else stated

    @property
    def geared_step_um(self) -> float | None:
        """What a step of a focuser moves by its motor and gear, in µm; None where they do not say it.

        The travel of a turn of the knob, over the motor's steps for it: ``1000 mm_per_turn / (steps_per_turn gear)``.
        """
        steps, travel = self.number("steps_per_turn"), self.number("mm_per_turn")
        gear = self.number("gear_ratio")
        return None if not steps or travel is None else 1000 * travel / (steps * (1.0 if gear is None else gear))

    def truth(self, key: str) -> bool | None:
        """Return a yes-or-no setting's value, None where it is not stated."""
        setting = self.settings.get(key)
        return setting.value if setting is not None and isinstance(setting.value, bool) else None

    @property
    def slot_names(self) -> tuple[str, ...]:
        """The names that a program's list is to hold: the slots in order, empty ones at the end left out."""
        names = [slot.name.strip() for slot in self.slots]
        while names and not names[-1]:
            names.pop()
        return tuple(names)


class Supply(StrictModel):
    """What feeds devices. ``usable_share`` is how much of a battery's capacity may be drawn, ``end_v`` what it gives
    then. One that another supply feeds (``fed_by``) hangs on it by its ``cable``; of another voltage it is a converter,
    and ``efficiency`` the share of the watts that it takes in which it gives out.
    """

    id: Id
    name: Annotated[Text | None, Display("Name")] = None
    kind: Annotated[Literal["mains", "battery", "power_box"] | None, Display("Kind")] = None
    voltage_v: Annotated[Above | None, Display("Voltage", "V")] = None
    rated_a: Annotated[Above | None, Display("Rated", "A")] = None
    capacity_ah: Annotated[Above | None, Display("Capacity", "Ah")] = None
    usable_share: Annotated[Annotated[float, Field(gt=0, le=1)] | None, Display("Usable share")] = None
    end_v: Annotated[Above | None, Display("Voltage near its end", "V")] = None
    fed_by: Annotated[Id | None, Display("Powered by")] = None
    cable: Annotated[Cable | None, Display("Its cable", always=True)] = None
    efficiency: Annotated[Annotated[float, Field(ge=0.1, le=1)] | None, Display("Efficiency")] = None
    outlets: Annotated[tuple[Outlet, ...], Field(strict=False, max_length=64)] = ()

    @property
    def title(self) -> str:
        return self.name or self.id


RecordValue = Finite | bool | Annotated[str, Field(max_length=400)]
RecordList = Annotated[tuple[Annotated[str, Field(max_length=200)], ...], Field(strict=False, max_length=200)]


class RecordEntry(StrictModel):
    """One line of a program's device list: which device it takes in which role."""

    name: Annotated[Text, Display("Name")]
    role: Annotated[DeviceKind | None, Display("Role")] = None
    usb_id: Annotated[UsbId | None, Display("Vendor:product")] = None
    serial_number: Annotated[Text | None, Display("Serial number")] = None
    driver: Annotated[Text | None, Display("Driver")] = None
    port: Annotated[Text | None, Display("Port")] = None
    connected: Annotated[bool | None, Display("Connected")] = None


class TypedForm(StrictModel):
    """How a program wants a number, or a list of slots.

    ``unit`` is the unit that it is typed in; ``binned`` says whether a pixel, or a pixel scale, is told of the binned
    pixel; ``reducer`` whether a focal length counts the reducer (or extender); ``first_slot`` is the number of the
    first slot; ``empty_slots`` says whether empty slots have a line of their own.
    """

    unit: Text | None = None
    binned: bool | None = None
    reducer: Literal["in", "out"] | None = None
    first_slot: Annotated[int, Field(ge=0, le=1)] | None = None
    empty_slots: bool | None = None


class Record(StrictModel):
    """What one program has on file: values by quantity id, and its list of devices.

    ``side`` tells which end of a split program it belongs to, ``pair`` which records are two ends of one.
    ``variant`` is the name of the train that it was made for, the rig's own or a variant's; left out, it is for all.
    """

    id: Id
    name: Annotated[Text, Display("Name")]
    side: Annotated[Literal["server", "client"] | None, Display("Side")] = None
    pair: Annotated[Id | None, Display("Pair: one word for both sides")] = None
    variant: Annotated[Text | None, Display("For the train (all, if empty)")] = None
    values: dict[Annotated[str, Field(min_length=1, max_length=140)], RecordValue | RecordList] = Field(
        default_factory=dict
    )
    forms: Annotated[dict[Annotated[str, Field(min_length=1, max_length=140)], TypedForm], Field(max_length=400)] = (
        Field(default_factory=dict)
    )
    """By quantity how the program wants it typed."""
    version: Annotated[Text | None, Display("Program's version")] = None
    program: Id | None = None
    """The program of the rig whose record it is."""
    typed: Annotated[dict[Annotated[str, Field(min_length=1, max_length=140)], Text], Field(max_length=400)] = Field(
        default_factory=dict
    )
    """By quantity when it was typed into the program, by hand."""
    entries: Annotated[tuple[RecordEntry, ...], Field(strict=False, max_length=200)] = ()
    evidence: Evidence | None = None
    note: Note | None = None
