"""What a program of a role holds: the quantities that are typed into it on the first evening."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

from wyntaxis.core.records.quantities import OWN, Comparable
from wyntaxis.core.rig.devices import Device, Record
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.programs import Program, ProgramRole

OPTICS = frozenset({"effective_focal_length_mm", "aperture_mm", "telescope.name"})
SENSOR = frozenset({"pixel_um", "width_px", "height_px", "binning"})
GUIDING = frozenset({"guide_focal_length_mm", "guide_pixel_um"})
NAMES = frozenset({"observer"})
CAPTURE_KINDS = frozenset({"camera", "filter_wheel", "rotator", "flat_panel"})
CONNECTION = frozenset(
    {"port", "baud", "driver", "driver_version", "serial_number", "host", "tcp_port", "usb_id", "mode"}
)
"""Settings of devices that only what drives them needs."""


@dataclass(frozen=True)
class RoleNeeds:
    """What a role needs: quantities by id, all of these topics, and the settings of devices of these kinds."""

    ids: frozenset[str] = frozenset()
    prefixes: tuple[str, ...] = ()
    kinds: frozenset[str] = frozenset()
    connections: bool = False


ROLES: dict[ProgramRole, RoleNeeds] = {
    "capture": RoleNeeds(OPTICS | SENSOR | NAMES, ("site.",), CAPTURE_KINDS),
    "guiding": RoleNeeds(GUIDING, ("guiding.",), frozenset({"guide_camera"})),
    "plate_solving": RoleNeeds(frozenset({"effective_focal_length_mm", "pixel_scale_arcsec_px"}) | SENSOR),
    "focusing": RoleNeeds(kinds=frozenset({"focuser"})),
    "device_server": RoleNeeds(connections=True),
    "automation": RoleNeeds(frozenset(), ("site.",), frozenset({"mount", "dome", "roof", "cover"})),
    "planetarium": RoleNeeds(OPTICS | SENSOR, ("site.",)),
    "polar_alignment": RoleNeeds(frozenset({"effective_focal_length_mm", "pixel_um", "site.latitude_deg"})),
    "weather": RoleNeeds(frozenset(), ("site.",), frozenset({"weather", "safety_monitor"})),
}
"""By role what its page lists."""


def page_quantities(program: Program, rig: Rig, known: Mapping[str, Comparable]) -> Iterator[str]:
    """Yield the ids of what a program's page lists, in the order of the matrix.

    Parameters
    ----------
    program
        With its roles; the devices that it drives itself count whatever its roles.
    rig, known
        The rig, and what can be compared of it; what the rig does not say is left out.

    Yields
    ------
    str
        Ids of quantities.
    """
    needs = [ROLES[role] for role in program.roles]
    devices = {device.id: device for device in rig.devices}
    for key, item in known.items():
        if item.value is None:
            continue
        if key.startswith(f"program.{program.id}.{OWN}."):
            yield key
            continue
        device = devices.get(item.device or key.partition(".")[0])
        if any(_is_needed(need, key, device, program.drives) for need in needs):
            yield key


def _is_needed(need: RoleNeeds, key: str, device: Device | None, drives: Collection[str]) -> bool:
    if device is None:
        return key in need.ids or key.startswith(need.prefixes or ("\0",))
    is_connection = key.rpartition(".")[2] in CONNECTION and f".{OWN}." not in key
    if is_connection:
        return need.connections and (not drives or device.id in drives)
    return device.kind in need.kinds and (not drives or device.id in drives)


def page_record(program: Program, rig: Rig) -> Record:
    """Return the record that holds what a program has now; an empty one where the rig has none for it."""
    found = next((record for record in rig.own_records if record.program == program.id), None)
    return found or Record(id=f"{program.id}-page"[:60], name=program.name, program=program.id)
