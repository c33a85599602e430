"""What a change kills: calibration frames, offsets, focus, guiding, scales and programs' records, each by its rule.

Camera, gain, offset, set temperature, mode: darks and bias; filter, rotation, spacing, dust: flats; filter or spacing:
focus offsets and best position; guide camera, its angle, guide telescope: guide calibration; focal length, pixel: the
solved scale and every program's record.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.resting import (
    Resting,
    camera_facts,
    differences,
    guide_facts,
    identity_facts,
    mount_facts,
    pixel_facts,
    setting_facts,
    spacing_facts,
    stale_legs,
    telescope_facts,
)


@dataclass(frozen=True)
class Died:
    """Something that no longer serves after a change: what, by which rule, and which facts changed."""

    what: str
    title: str
    rule: str
    because: tuple[str, ...]

    def as_json(self) -> dict[str, Any]:
        """Return it as ``wyntaxis differ --json`` prints it."""
        return {"what": self.what, "title": self.title, "rule": self.rule, "because": list(self.because)}


@dataclass(frozen=True)
class DeathRule:
    """One rule: what dies when one of some facts changes; it speaks where the rig before had such a thing."""

    what: str
    title: str
    rule: str
    facts: Callable[[Rig], Resting]
    applies: Callable[[Rig], bool] = lambda _rig: True


def _device(rig: Rig, kind: str) -> Device | None:
    return next((device for device in rig.devices if device.kind == kind), None)


def _binning(rig: Rig) -> Resting:
    return {"camera: binning": rig.sensor.binning if rig.sensor is not None else None}


def _exposing(rig: Rig) -> Resting:
    camera = _device(rig, "camera")
    own = setting_facts(camera, "gain", "offset", "set_temperature_c", "readout_mode")
    return camera_facts(rig) | identity_facts(camera) | own | _binning(rig)


def _dark(rig: Rig) -> Resting:
    return _exposing(rig) | {"exposure": rig.plan.exposure_s if rig.plan is not None else None}


def _filters(rig: Rig) -> Resting:
    wheel = _device(rig, "filter_wheel")
    found: Resting = {}
    for place, slot in enumerate(wheel.slots if wheel is not None else (), start=1):
        found[f"filter {place}"] = slot.name or "empty"
        found[f"filter {place}: glass"] = slot.thickness_mm
    for part in rig.train:
        if part.kind in ("filter_wheel", "filter_drawer"):
            found |= {f"{part.id}: glass {i}": glass.thickness_mm for i, glass in enumerate(part.glass, start=1)}
    return found


def _rotation(rig: Rig) -> Resting:
    framing = rig.framing.position_angle_deg if rig.framing is not None else None
    return {"position angle": framing} | setting_facts(_device(rig, "rotator"), "position_deg")


def _dust(rig: Rig) -> Resting:
    """Whoever takes the train apart lets other dust in."""
    return {"train: parts": ", ".join(part.id for part in rig.train)[:1000]}


def _flat(rig: Rig) -> Resting:
    own = telescope_facts(rig) | camera_facts(rig) | _binning(rig)
    return own | _filters(rig) | _rotation(rig) | spacing_facts(rig) | _dust(rig)


def _focuser(rig: Rig) -> Resting:
    device = _device(rig, "focuser")
    return identity_facts(device) | setting_facts(device, "reversed", "step_um")


def _focus(rig: Rig) -> Resting:
    return telescope_facts(rig) | camera_facts(rig) | _filters(rig) | spacing_facts(rig) | _focuser(rig)


def _offsets(rig: Rig) -> Resting:
    return telescope_facts(rig) | _filters(rig) | spacing_facts(rig) | _focuser(rig)


def _guide(rig: Rig) -> Resting:
    found = guide_facts(rig) | mount_facts(rig)
    places = [place for place, part in enumerate(rig.train) if part.id == rig.guiding.taps]
    if places:
        prism = rig.train[places[0]].prism
        found["guide prism: angle"] = prism.angle_deg if prism is not None else None
        if any(part.kind == "rotator" for part in rig.train[: places[0]]):
            # The rotator turns the guide camera with everything behind it.
            found |= setting_facts(_device(rig, "rotator"), "position_deg")
    return found


def _scale(rig: Rig) -> Resting:
    return telescope_facts(rig) | pixel_facts(rig) | _binning(rig)


def _has_filters(rig: Rig) -> bool:
    wheel = _device(rig, "filter_wheel")
    return wheel is not None and len([slot for slot in wheel.slots if slot.name.strip()]) > 1


RULES: tuple[DeathRule, ...] = (
    DeathRule(
        "darks",
        "Darks",
        "darks serve one camera, gain, offset, set temperature, mode, binning and exposure",
        _dark,
        lambda rig: rig.camera is not None,
    ),
    DeathRule(
        "bias",
        "Bias frames",
        "bias frames serve one camera, gain, offset, set temperature, mode and binning",
        _exposing,
        lambda rig: rig.camera is not None,
    ),
    DeathRule(
        "flats",
        "Flats",
        "flats serve one filter, rotation, spacing and binning, and the dust that is there",
        _flat,
        lambda rig: rig.camera is not None,
    ),
    DeathRule(
        "filter_offsets",
        "Filter offsets",
        "a filter's focus offset rests on its glass, the spacing behind the corrector, and the focuser's step",
        _offsets,
        _has_filters,
    ),
    DeathRule(
        "best_focus",
        "Best focus",
        "the position of best focus rests on telescope, camera, filters, spacing and focuser",
        _focus,
        lambda rig: rig.camera is not None,
    ),
    DeathRule(
        "guide_calibration",
        "Guide calibration",
        "a calibration serves one guide camera, its angle, one guide telescope and one mount",
        _guide,
        lambda rig: rig.guiding.kind != "none",
    ),
    DeathRule(
        "solved_scale",
        "Solved scale",
        "a solved scale rests on focal length, pixel and binning",
        _scale,
        lambda rig: rig.camera is not None,
    ),
)
"""Every rule, in the order in which they are told."""


def deaths(before: Rig, after: Rig) -> tuple[Died, ...]:
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
            because = differences(rule.facts(before), rule.facts(after))
            if because:
                found.append(Died(rule.what, rule.title, rule.rule, because))
    return tuple(found)


RECORD_RULE = "a program goes on with what it has on file until somebody types it anew"
STALE_RULE = "a measurement is stale when what it rests on has changed"


def records_to_retype(before: Evaluation, after: Evaluation) -> Iterator[Died]:
    """Yield of each program's record what agreed, or was told by nobody, before a change and differs after it."""
    then = {(row.item.id, cell.record): cell.state for row in before.matrix.rows for cell in row.cells}
    names = {record.id: record.name for record in after.rig.records}
    told: dict[str, list[str]] = {}
    for row in after.matrix.rows:
        for cell in row.differing:
            if then.get((row.item.id, cell.record)) != "differs":
                unit = f" {row.item.unit}" if row.item.unit else ""
                words = f"{row.item.label}: has {cell.text}{unit}, now {row.text}{unit}"
                told.setdefault(cell.record, []).append(words)
    for record, lines in told.items():
        yield Died("record", f"Record of {names.get(record, record)}", RECORD_RULE, tuple(lines))


def grown_stale(before: Rig, after: Rig) -> Iterator[Died]:
    """Yield the measured legs that a change makes stale."""
    then = {entry.path for entry in stale_legs(before)}
    for entry in stale_legs(after):
        if entry.path not in then:
            yield Died("measured", entry.row_id, STALE_RULE, entry.what)
