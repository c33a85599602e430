"""The kernel's ports as evidence: only looked at, and read anew each time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:
    from wyntaxis.core.evidence.ports.tree import PortTree


def _links(rig: Rig, tree: PortTree) -> dict[str, Estimate]:
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
    from wyntaxis.core.evidence.ports.match import is_camera, match_devices

    found = [match for match in match_devices(rig, tree) if match.usb is not None and is_camera(match.device)]
    return {
        f"{match.device.id}.link_mbit": Estimate(match.usb.speed_mbit)
        for match in found
        if match.usb is not None and match.usb.speed_mbit is not None
    }


def read(root: Path) -> PortTree:
    """Read the tree of ports; see :func:`~wyntaxis.core.evidence.ports.tree.read_ports`."""
    from wyntaxis.core.evidence.ports.tree import read_ports

    return read_ports(root)


PORTS = EvidenceKind("ports", read, _links)
