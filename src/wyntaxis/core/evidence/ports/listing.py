"""The port tree as plain values, for JSON and tables."""

from __future__ import annotations

from collections.abc import Mapping

from wyntaxis.core.evidence.ports.tree import PortTree


def tree_json(tree: PortTree, names: Mapping[str, str]) -> dict[str, object]:
    """Return the tree as ``wyntaxis ports --json`` prints it; ``names`` are the rig's device ids by port.

    Parameters
    ----------
    tree
        The ports that were read.
    names
        The rig's device ids by port.

    Returns
    -------
    dict[str, object]
        Plain values: Mbit/s, mA, MB.
    """
    return {
        "root": tree.root,
        "usbfs_memory_mb": tree.usbfs_memory_mb,
        "devices": [
            {
                "port": usb.name,
                "depth": depth,
                "parent": usb.parent,
                "usb_id": usb.usb_id,
                "serial_number": usb.serial_number,
                "maker": usb.maker,
                "model": usb.model,
                "speed_mbit": usb.speed_mbit,
                "version": usb.version,
                "control": usb.control,
                "status": usb.status,
                "max_power_ma": usb.max_power_ma,
                "hub": usb.is_hub,
                "node": usb.node.path if usb.node else None,
                "device": names.get(usb.name),
            }
            for depth, usb in tree.in_order()
        ],
        "serial": [{"name": port.name, "by_id": port.by_id, "port": port.usb_name} for port in tree.serial],
    }
