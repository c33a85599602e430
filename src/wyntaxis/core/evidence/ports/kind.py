"""The kernel's ports as evidence: only looked at, and read anew each time."""

from __future__ import annotations

from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.ports.match import is_camera, match_devices
from wyntaxis.core.evidence.ports.tree import PortTree, read_ports
from wyntaxis.core.rig.model import Rig


def measures(rig: Rig, tree: PortTree) -> dict[str, Estimate]:
    """Return the link of each camera of the rig that is on the bus, in Mbit/s, by ``device.link_mbit``.

    Parameters
    ----------
    rig
        The rig.
    tree
        The ports that were read.

    Returns
    -------
    dict[str, Estimate]
        Estimates by id, each in its own unit.
    """
    found = [match for match in match_devices(rig, tree) if match.usb is not None and is_camera(match.device)]
    return {
        f"{match.device.id}.link_mbit": Estimate(match.usb.speed_mbit)
        for match in found
        if match.usb is not None and match.usb.speed_mbit is not None
    }


PORTS = EvidenceKind("ports", read_ports, measures)
