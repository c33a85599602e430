"""What a change kills: calibration frames, offsets, focus, guiding, scales and programs' records, each by its rule.

Camera, gain, offset, set temperature, mode: darks and bias; filter, rotation, spacing, dust: flats; filter or spacing:
focus offsets and best position; guide camera, its angle, guide telescope, guide rate: guide calibration; focal length,
pixel, spacing behind a reducer: the solved scale; a program's version: its plug-ins; and every program's record.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from wyntaxis.core.evidence.scale.image_scale import SOLVING_ERROR_PX
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.optics.thinlens import magnification_at
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.quantities.spacing import corrector_lens_mm
from wyntaxis.core.quantity_kinds import PIXEL_SCALE
from wyntaxis.core.rig.dependencies import (
    Dependencies,
    camera_facts,
    guide_facts,
    identity_facts,
    mount_facts,
    pixel_facts,
    setting_facts,
    spacing_facts,
    telescope_facts,
)
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import FrameKind
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import differences, out_of_date_measurements
from wyntaxis.core.wording import number


@dataclass(frozen=True)
class Invalidated:
    """Something that no longer serves after a change: what, by which rule, and which facts changed."""

    what: str
    title: str
    rule: str
    because: tuple[str, ...]

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis differ --json`` prints it."""
        return {"what": self.what, "title": self.title, "rule": self.rule, "because": list(self.because)}


@dataclass(frozen=True)
class InvalidationRule:
    """One rule: what is invalid once one of some facts changes; it speaks where the rig before had such a thing."""

    what: str
    title: str
    rule: str
    facts: Callable[[Rig], Dependencies]
    applies: Callable[[Rig], bool] = lambda _rig: True
    more: Callable[[Rig, Rig], tuple[str, ...]] = lambda _before, _after: ()
    """Further changes that invalidate it, in words with their sizes."""


def _device(rig: Rig, kind: str) -> Device | None:
    return next((device for device in rig.devices if device.kind == kind), None)


def _binning(rig: Rig) -> Dependencies:
    return {"camera: binning": rig.sensor.binning if rig.sensor is not None else None}


def _exposing(rig: Rig) -> Dependencies:
    camera = _device(rig, "camera")
    own = setting_facts(camera, "gain", "offset", "set_temperature_c", "readout_mode")
    return camera_facts(rig) | identity_facts(camera) | own | _binning(rig)


def _dark(rig: Rig) -> Dependencies:
    found = _exposing(rig)
    if rig.plan is None:
        return found | {"exposure": None}
    own = {"exposure": rig.plan.exposure_s}
    steps = {step.exposure_s for step in rig.plan.steps if step.exposure_s is not None} - {rig.plan.exposure_s}
    more = ", ".join(f"{seconds:g} s" for seconds in sorted(steps))
    return found | own | {"exposures of the night's steps": more[:1000] or None}


def _filters(rig: Rig) -> Dependencies:
    wheel = _device(rig, "filter_wheel")
    found: Dependencies = {}
    for place, slot in enumerate(wheel.slots if wheel is not None else (), start=1):
        found[f"filter {place}"] = slot.name or "empty"
        found[f"filter {place}: glass"] = slot.thickness_mm
    for part in rig.train:
        if part.kind in ("filter_wheel", "filter_drawer"):
            found |= {f"{part.id}: glass {i}": glass.thickness_mm for i, glass in enumerate(part.glass, start=1)}
    return found


def _rotation(rig: Rig) -> Dependencies:
    framing = rig.framing.position_angle_deg if rig.framing is not None else None
    return {"position angle": framing} | setting_facts(_device(rig, "rotator"), "position_deg")


def _dust(rig: Rig) -> Dependencies:
    """Whoever takes the train apart lets other dust in."""
    return {"train: parts": ", ".join(part.id for part in rig.train)[:1000]}


def _declared(rig: Rig, frames: FrameKind) -> Dependencies:
    """Return what frames rest on of each kind of device, as it declares: which copy it is, and how it is set."""
    found: Dependencies = {}
    for kind in DEVICE_KINDS.values():
        for named, keys in kind.invalidates:
            if named == frames:
                device = _device(rig, kind.id)
                found |= identity_facts(device) | setting_facts(device, *keys)
    return found


def _flat(rig: Rig) -> Dependencies:
    own = telescope_facts(rig) | camera_facts(rig) | _binning(rig) | _declared(rig, "flats")
    return own | _filters(rig) | _rotation(rig) | spacing_facts(rig) | _dust(rig)


def _focuser(rig: Rig) -> Dependencies:
    device = _device(rig, "focuser")
    return identity_facts(device) | setting_facts(device, "reversed", "step_um")


def _focus(rig: Rig) -> Dependencies:
    own = telescope_facts(rig) | camera_facts(rig) | _declared(rig, "focus")
    return own | _filters(rig) | spacing_facts(rig)


def _offsets(rig: Rig) -> Dependencies:
    return telescope_facts(rig) | _filters(rig) | spacing_facts(rig) | _focuser(rig)


def _guide(rig: Rig) -> Dependencies:
    found = guide_facts(rig) | mount_facts(rig) | _declared(rig, "guide_calibration")
    settings = rig.guiding.settings
    found["guiding: rate"] = settings.rate_sidereal if settings is not None else None
    found["guiding: pulses go by"] = settings.pulse_route if settings is not None else None
    places = [place for place, part in enumerate(rig.train) if part.id == rig.guiding.taps]
    if places:
        prism = rig.train[places[0]].prism
        found["guide prism: angle"] = prism.angle_deg if prism is not None else None
        found["guide prism: beside the sensor's"] = prism.beside if prism is not None else None
        turning = {device.part for device in rig.devices if device.kind == "rotator"}
        if any(part.kind == "rotator" or part.id in turning for part in rig.train[: places[0] + 1]):
            # The rotator turns the guide camera with everything behind it.
            found |= setting_facts(_device(rig, "rotator"), "position_deg")
    return found


def _scale(rig: Rig) -> Dependencies:
    return telescope_facts(rig) | pixel_facts(rig) | _binning(rig)


def _scale_by_spacing(before: Rig, after: Rig) -> tuple[str, ...]:
    """Return by how much another spacing behind a reducer changes the scale, where that is more than the scale's u.

    ``Δm = Δd / f_r``. The solved scale's own u counts, else what the usual solving error makes at the sensor's corner.
    """
    then, now = numbers_of(before), numbers_of(after)
    old, new, lens = then.back_focus, now.back_focus, corrector_lens_mm(then.evaluator)
    if old is None or new is None or lens is None or old.corrector.magnification != new.corrector.magnification:
        return ()
    change = (new.stated_mm + new.error_mm) - (old.stated_mm + old.error_mm)
    share = abs(change / lens) / magnification_at(old.stated_mm + old.error_mm, lens)
    solved = then.evaluator.measured(PIXEL_SCALE)
    if solved is not None and solved.uncertainty > 0:
        allowed = solved.uncertainty / solved.value
    elif before.sensor is not None:
        allowed = SOLVING_ERROR_PX / (math.hypot(before.sensor.width_px, before.sensor.height_px) / 2)
    else:
        return ()
    if share <= allowed:
        return ()
    built = [f"{number(own.stated_mm + own.error_mm, 2)} mm" for own in (old, new)]
    return (
        f"distance behind the reducer {built[0]} → {built[1]}: {number(100 * share, 3)} % of the scale, its "
        f"uncertainty {number(100 * allowed, 3)} %",
    )


def _has_filters(rig: Rig) -> bool:
    wheel = _device(rig, "filter_wheel")
    return wheel is not None and len([slot for slot in wheel.slots if slot.name.strip()]) > 1


RULES: tuple[InvalidationRule, ...] = (
    InvalidationRule(
        "darks",
        "Darks",
        "darks serve one camera, gain, offset, set temperature, mode, binning and exposure",
        _dark,
        lambda rig: rig.camera is not None,
    ),
    InvalidationRule(
        "bias",
        "Bias frames",
        "bias frames serve one camera, gain, offset, set temperature, mode and binning",
        _exposing,
        lambda rig: rig.camera is not None,
    ),
    InvalidationRule(
        "flats",
        "Flats",
        "flats serve one filter, rotation, spacing and binning, and the dust that is there",
        _flat,
        lambda rig: rig.camera is not None,
    ),
    InvalidationRule(
        "filter_offsets",
        "Filter offsets",
        "a filter's focus offset depends on its glass, the spacing behind the corrector, and the focuser's step",
        _offsets,
        _has_filters,
    ),
    InvalidationRule(
        "best_focus",
        "Best focus",
        "the position of best focus depends on telescope, camera, filters, spacing and focuser",
        _focus,
        lambda rig: rig.camera is not None,
    ),
    InvalidationRule(
        "guide_calibration",
        "Guide calibration",
        "a calibration is valid for one guide camera, its angle, one guide telescope, one mount, its guide rate and "
        "its pulse route",
        _guide,
        lambda rig: rig.guiding.kind != "none",
    ),
    InvalidationRule(
        "solved_scale",
        "Solved scale",
        "a solved scale depends on focal length, pixel, binning and the spacing behind a reducer",
        _scale,
        lambda rig: rig.camera is not None,
        _scale_by_spacing,
    ),
)
"""Every rule, in the order in which they are told."""


def invalidations(before: Rig, after: Rig) -> tuple[Invalidated, ...]:
    """Return what a change of the rig kills, without the programs' records.

    Parameters
    ----------
    before, after
        The rig, each as one train.

    Returns
    -------
    tuple of Died
        By the rules' order.
    """
    found = []
    for rule in RULES:
        if rule.applies(before):
            because = (*differences(rule.facts(before), rule.facts(after)), *rule.more(before, after))
            if because:
                found.append(Invalidated(rule.what, rule.title, rule.rule, because))
    return (*found, *_plug_ins(before, after))


def _plug_ins(before: Rig, after: Rig) -> Iterator[Invalidated]:
    """Yield the plug-ins of each program whose version changed."""
    then = {record.id: record.version for record in before.records}
    for record in after.records:
        was = then.get(record.id)
        if was and record.version and was != record.version:
            yield Invalidated(
                "plug_ins", f"Plug-ins of {record.name}", PLUG_IN_RULE, (f"version {was} → {record.version}",)
            )


PLUG_IN_RULE = "plug-ins fit one version of their program: test each after an update"
RECORD_RULE = "a program keeps its recorded value until it is typed again"
OUT_OF_DATE_RULE = "a measurement is out of date when what it depends on has changed"


def records_to_retype(before: Evaluation, after: Evaluation) -> Iterator[Invalidated]:
    """Yield of each program's record what agreed, or was told by nobody, before a change and differs after it."""
    then = {(row.item.id, cell.record): cell.state for row in before.matrix.rows for cell in row.cells}
    names = {record.id: record.name for record in after.rig.records}
    entries: dict[str, list[str]] = {}
    for row in after.matrix.rows:
        for cell in row.differing:
            if then.get((row.item.id, cell.record)) != "differs":
                unit = f" {row.item.unit}" if row.item.unit else ""
                words = f"{row.item.label}: has {cell.text}{unit}, now {row.text}{unit}"
                entries.setdefault(cell.record, []).append(words)
    for record, lines in entries.items():
        yield Invalidated("record", f"Record of {names.get(record, record)}", RECORD_RULE, tuple(lines))


def newly_out_of_date(before: Rig, after: Rig) -> Iterator[Invalidated]:
    """Yield the measured values that a change makes out of date."""
    then = {entry.path for entry in out_of_date_measurements(before)}
    for entry in out_of_date_measurements(after):
        if entry.path not in then:
            yield Invalidated("measured", entry.row_id, OUT_OF_DATE_RULE, entry.what)
