"""What a measured value rests on: which parts and settings it was measured with, and whether these are still the same.

A change kills what was measured before it: camera, gain, offset, temperature and mode the bench's numbers; spacing and
filters the focus and the field; the guide train the guide scale; focal length and pixel the solved scale.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import CAMERAS, SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig, variant_rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Part
from wyntaxis.core.rig.plan import DependencyValue, MeasuredValue
from wyntaxis.core.wording import utc_stamp

Dependencies = dict[str, DependencyValue]
OFFSET_KEY = "focus_offset_steps"
SPACING_ERROR = "spacing_error_by_scale_mm"
SCALES = frozenset(
    ["effective_focal_length_mm", "pixel_scale_arcsec_px", "field_width_deg", "field_height_deg", "field_diagonal_deg"]
)


@dataclass(frozen=True)
class RecordedMeasurement:
    """One measured value of a rig: where it stands, the row that shows it, its key, and the device or slot it is of."""

    path: DocumentPath
    row_id: str
    key: str
    value: MeasuredValue
    device: Device | None = None
    slot: int | None = None


def recorded_measurements(rig: Rig) -> Iterator[RecordedMeasurement]:
    """Yield every measured value of a rig's own train and devices."""
    for key, value in rig.measured.items():
        yield RecordedMeasurement(("measured", key), key, key, value)
    for place, device in enumerate(rig.devices):
        for key, setting in device.settings.items():
            if setting.measured is not None:
                path: DocumentPath = ("devices", place, "settings", key, "measured")
                yield RecordedMeasurement(path, f"{device.id}.{key}", key, setting.measured, device)
        for number, slot in enumerate(device.slots):
            if slot.focus_offset_measured is not None:
                path = ("devices", place, "slots", number, "focus_offset_measured")
                row = f"{device.id}.slot{number}.{OFFSET_KEY}"
                yield RecordedMeasurement(path, row, OFFSET_KEY, slot.focus_offset_measured, device, number)


# What each rests on


def telescope_facts(rig: Rig) -> Dependencies:
    """Return what of the telescope and its glass a measurement rests on, by name."""
    telescope = rig.telescope
    found: Dependencies = {
        "telescope: name": telescope.name,
        "telescope: focal length": telescope.focal_length_mm,
        "telescope: aperture": telescope.aperture_mm,
    }
    for part in rig.train:
        if part.kind in MAGNIFYING_KINDS or part.magnification is not None:
            found[f"{part.id}: magnification"] = part.magnification
    return found


def pixel_facts(rig: Rig) -> Dependencies:
    """Return the pixel that a scale rests on."""
    sensor = rig.sensor
    return {"camera: pixel": sensor.pixel_um if sensor is not None else None}


def camera_facts(rig: Rig) -> Dependencies:
    """Return what tells the main camera from another, by name."""
    camera, sensor = rig.camera, rig.sensor
    found: Dependencies = {"camera: name": camera.name if camera is not None else None}
    if sensor is not None:
        found |= {
            "camera: pixel": sensor.pixel_um,
            "camera: width": sensor.width_px,
            "camera: height": sensor.height_px,
        }
    return found


def _behind_corrector(rig: Rig) -> tuple[Part, ...]:
    """Return the parts behind the last corrector, or the whole train where there is none."""
    places = [place for place, part in enumerate(rig.train) if part.kind in MAGNIFYING_KINDS]
    return rig.train[places[-1] + 1 :] if places else rig.train


def _length(part: Part) -> float:
    adjustable = part.adjustable
    return adjustable.set_mm if adjustable is not None and adjustable.set_mm is not None else part.length_mm


def spacing_facts(rig: Rig) -> Dependencies:
    """Return the parts behind the corrector and their lengths, by name."""
    parts = _behind_corrector(rig)
    found: Dependencies = {"spacing: parts": ", ".join(part.id for part in parts)[:1000]}
    found |= {f"spacing: {part.id}": _length(part) for part in parts if part.kind != "focuser"}
    return found


def guide_facts(rig: Rig) -> Dependencies:
    """Return what of the guide train a measurement rests on, by name."""
    guiding, camera = rig.guiding, rig.guiding.camera
    sensor = camera.sensor if camera is not None else None
    found: Dependencies = {
        "guiding: kind": guiding.kind,
        "guide camera: name": camera.name if camera is not None else None,
        "guide camera: pixel": sensor.pixel_um if sensor is not None else None,
        "guide camera: binning": sensor.binning if sensor is not None else None,
    }
    if guiding.telescope is not None:
        found["guide telescope: name"] = guiding.telescope.name
        found["guide telescope: focal length"] = guiding.telescope.focal_length_mm
    elif guiding.kind == "off_axis":
        found |= telescope_facts(rig)
    for part in guiding.path:
        if part.magnification is not None:
            found[f"{part.id}: magnification"] = part.magnification
    return found


def mount_facts(rig: Rig) -> Dependencies:
    """Return which mount it is."""
    mount = rig.mount
    return {"mount: name": mount.name, "mount: kind": mount.kind} if mount is not None else {"mount: name": None}


def identity_facts(device: Device | None) -> Dependencies:
    """Return a device's model and serial number, by name."""
    if device is None:
        return {}
    identity = device.identity
    model, serial = (identity.model, identity.serial_number) if identity is not None else (None, None)
    return {f"{device.id}: model": model, f"{device.id}: serial number": serial}


def setting_facts(device: Device | None, *keys: str) -> Dependencies:
    """Return some of a device's settings as stated, by their labels."""
    found: Dependencies = {}
    for key in keys if device is not None else ():
        setting = device.settings.get(key) if device is not None else None
        value = setting.value if setting is not None else None
        found[f"{SETTINGS[key].label.lower()}"] = value
    return found


def _of_camera(rig: Rig, device: Device | None, key: str) -> Dependencies:
    """Return what a number of the bench or the cooler rests on."""
    found = identity_facts(device)
    if device is not None and device.kind == "camera":
        found |= camera_facts(rig)
    if SETTINGS[key].sheet == "cooling":
        return found
    found |= setting_facts(device, "gain", "readout_mode")
    if key.startswith(("bias", "pile_up", "least_offset")):
        found |= setting_facts(device, "offset")
    if key.startswith(("dark", "glow", "hot")):
        found |= setting_facts(device, "set_temperature_c")
    return found


def _of_focuser(rig: Rig, device: Device | None, key: str) -> Dependencies:
    found = identity_facts(device) | setting_facts(device, "reversed")
    if key == "step_um":
        found |= telescope_facts(rig)
    elif key == "position":
        found |= telescope_facts(rig) | spacing_facts(rig) | camera_facts(rig)
    elif key == "temperature_slope_steps_c":
        found |= telescope_facts(rig)
    return found


def _of_slot(rig: Rig, quantity_value: RecordedMeasurement) -> Dependencies:
    assert quantity_value.device is not None
    assert quantity_value.slot is not None
    slot = quantity_value.device.slots[quantity_value.slot]
    # Filters are told by their own names, so that another slot's change leaves this one as it is.
    return spacing_facts(rig) | {
        f"filter {quantity_value.slot + 1}: name": slot.name,
        f"filter {quantity_value.slot + 1}: glass": slot.thickness_mm,
    }


_RULES: dict[str, tuple[Callable[[Rig], Dependencies], ...]] = {
    **dict.fromkeys(SCALES, (telescope_facts, pixel_facts, spacing_facts)),
    "corrector_magnification": (telescope_facts,),
    "back_focus_required_mm": (telescope_facts,),
    "field_tilt_um": (telescope_facts, spacing_facts, camera_facts),
    "field_curvature_um": (telescope_facts, spacing_facts, camera_facts),
    "star_fwhm_arcsec": (telescope_facts, spacing_facts, camera_facts),
    "star_elongation": (telescope_facts, spacing_facts, camera_facts),
    "guide_scale_arcsec_px": (guide_facts,),
    "flexure_arcsec_s": (guide_facts, mount_facts),
    "polar_error_arcmin": (mount_facts,),
    "polar_drift_arcsec_min": (mount_facts,),
}
_GUIDED = (
    "guide_rms",
    "guide_drift",
    "guide_period",
    "guide_autocorrelation",
    "guide_settle",
    "guide_lost",
    "guide_over",
)


def dependencies(rig: Rig, quantity_value: RecordedMeasurement) -> Dependencies:
    """Return what of a rig one of its measured values rests on, by name.

    Parameters
    ----------
    rig, value
        The rig, and a value of it.

    Returns
    -------
    dict
        Empty for a value that nothing of the rig bears on.
    """
    found = _dependencies(rig, quantity_value)
    # As a file holds them: a count is a number like others.
    return {name: float(v) if isinstance(v, int) and not isinstance(v, bool) else v for name, v in found.items()}


def _dependencies(rig: Rig, quantity_value: RecordedMeasurement) -> Dependencies:
    if quantity_value.slot is not None:
        return _of_slot(rig, quantity_value)
    if quantity_value.device is not None:
        kind = SETTINGS[quantity_value.key]
        if quantity_value.device.kind in CAMERAS and kind.sheet in ("sensor", "cooling"):
            return _of_camera(rig, quantity_value.device, quantity_value.key)
        if quantity_value.device.kind == "focuser":
            return _of_focuser(rig, quantity_value.device, quantity_value.key)
        return identity_facts(quantity_value.device)
    rules = _RULES.get(quantity_value.key, ())
    if quantity_value.key.startswith(_GUIDED):
        rules = (guide_facts, mount_facts)
    found: Dependencies = {}
    for rule in rules:
        found |= rule(rig)
    return found


# An edit notes what its new measurements rest on, and what older ones rested on before it


def record_dependencies(before: Rig, after: Rig) -> Rig:
    """Return an edited rig whose new measured values know what they rest on, and older ones since when that changed.

    Parameters
    ----------
    before, after
        The rig before and after an edit.

    Returns
    -------
    Rig
        The same where no measured value is touched.
    """
    after = _record_own_dependencies(before, after)
    for place, variant in enumerate(after.variants):
        if not variant.measured:
            continue
        older = next((own for own in before.variants if own.name == variant.name), None)
        if older == variant and before.train == after.train and before.telescope == after.telescope:
            continue
        try:
            was = variant_rig(before, variant.name) if older is not None else before
            own = _record_own_dependencies(was, variant_rig(after, variant.name))
        except ValueError:
            continue
        if own.measured != variant.measured:
            variants = list(after.variants)
            variants[place] = variant.model_copy(update={"measured": own.measured})
            after = after.model_copy(update={"variants": tuple(variants)})
    return after


def _record_own_dependencies(before: Rig, after: Rig) -> Rig:
    values = list(recorded_measurements(after))
    if not values:
        return after
    older = {quantity_value.path: quantity_value for quantity_value in recorded_measurements(before)}
    new: dict[DocumentPath, MeasuredValue] = {}
    for quantity_value in values:
        was, now = older.get(quantity_value.path), dependencies(after, quantity_value)
        if not now:
            continue
        fresh = was is None or (was.value.value, was.value.evidence) != (
            quantity_value.value.value,
            quantity_value.value.evidence,
        )
        entries: JsonObject = {}
        if fresh:
            if quantity_value.value.rests_on is None or (
                was is not None and quantity_value.value.rests_on == was.value.rests_on
            ):
                entries = {"rests_on": now, "changed": None, "confirmed": None}
        else:
            assert was is not None
            then = quantity_value.value.rests_on or dependencies(before, was)
            if then != now and dependencies(before, was) != now:
                entries = {"rests_on": then, "changed": utc_stamp()}
            elif then == now and quantity_value.value.changed is not None:
                entries = {"changed": None}
        if entries and any(getattr(quantity_value.value, key) != value for key, value in entries.items()):
            new[quantity_value.path] = quantity_value.value.model_copy(update=entries)
    return _with_measurements(after, new) if new else after


def _with_measurements(rig: Rig, values: Mapping[DocumentPath, MeasuredValue]) -> Rig:
    """Return a rig with some measured values in place of those that stand there."""
    measured, devices = dict(rig.measured), list(rig.devices)
    for path, value in values.items():
        bare = value.model_copy()
        for key in ("changed", "confirmed"):
            if getattr(bare, key) is None:
                bare.__pydantic_fields_set__.discard(key)
        if path[0] == "measured":
            measured[str(path[1])] = bare
            continue
        place = int(path[1])
        device = devices[place]
        if path[2] == "settings":
            key = str(path[3])
            setting = device.settings[key].model_copy(update={"measured": bare})
            devices[place] = device.model_copy(update={"settings": {**device.settings, key: setting}})
        else:
            slots = list(device.slots)
            number = int(path[3])
            slots[number] = slots[number].model_copy(update={"focus_offset_measured": bare})
            devices[place] = device.model_copy(update={"slots": tuple(slots)})
    return rig.model_copy(
        update={
            **({"measured": measured} if measured != rig.measured else {}),
            **({"devices": tuple(devices)} if tuple(devices) != rig.devices else {}),
        }
    )
