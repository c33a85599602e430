"""A rig that is in order from camera to power supply, with the port tree that belongs to it; tests plant faults."""

import copy
import json
from pathlib import Path

EXAMPLE = json.loads((Path(__file__).parent / "example.rig.json").read_text("utf-8"))


def clean_document():
    """The contract's example with a right ring, and everything that the Connect group looks at in order."""
    rig = copy.deepcopy(EXAMPLE)
    rig["train"][3]["length_mm"] = 12.184
    rig["guiding"]["path"][1]["adjustable"]["set_mm"] = 28.5
    rig["guiding"]["settings"] = {
        "exposure_s": 2,
        "rate_sidereal": 0.5,
        "calibration_pulse_ms": 445,
        "calibration_distance_px": 25,
        "calibration_pulses": 12,
        "settle_px": 0.5,
        "dither_main_px": 5,
    }
    rig["plan"] = {
        "exposure_s": 300,
        "frames": 100,
        "hours": 10,
        "filters": ["L", "R"],
        "actions": ["cool", "guide", "dither", "refocus", "flip", "park"],
    }
    rig["mount"] = {"kind": "equatorial"}
    rig["supplies"] = [
        {"id": "battery", "kind": "battery", "voltage_v": 12.8, "rated_a": 10, "capacity_ah": 60, "usable_share": 0.8}
    ]
    rig["devices"] = [
        {
            "id": "main",
            "kind": "camera",
            "name": "Pellucid Grand",
            "part": "camera",
            "identity": {"usb_id": "3f2a:0261", "serial_number": "PG-1"},
            "driver": {"name": "pellucid", "version": "2.4", "installed": "2026-09-01"},
            "connection": {"kind": "usb", "plugged_in": "2026-09-02T20:00:00+02:00"},
            "power": {"supply": "battery", "current_a": 2, "peak_a": 3},
            "settings": {
                "gain": {"value": 100},
                "offset": {"value": 50},
                "set_temperature_c": {
                    "value": -10,
                    "tolerance": 0.5,
                    "measured": {"value": -9.9, "standard_uncertainty": 0.1},
                },
                "cooler_on": {"value": True},
                "traffic_percent": {"value": 80},
                "data_rate_mb_s": {"value": 190},
            },
        },
        {
            "id": "guide",
            "kind": "guide_camera",
            "name": "Pellucid Petit",
            "part": "guide_camera",
            "identity": {"usb_id": "3f2a:0120", "serial_number": "PP-1"},
            "settings": {"traffic_percent": {"value": 60}, "data_rate_mb_s": {"value": 35}},
        },
        {
            "id": "rondel",
            "kind": "filter_wheel",
            "name": "Rondel 7",
            "part": "wheel",
            "identity": {"usb_id": "7c11:0007", "serial_number": "R7-1"},
            "connection": {"kind": "usb", "mode": "wheel"},
            "slots": [{"name": name} for name in ("L", "R", "G", "B", "Ha", "OIII", "")],
        },
        {
            "id": "glide",
            "kind": "focuser",
            "name": "Glide motor",
            "identity": {"usb_id": "1a5e:7523", "serial_number": "G-1"},
            "connection": {"kind": "serial", "port": "/dev/serial/by-id/usb-Glide-if00", "baud": 9600},
            "settings": {
                "lowest_position": {"value": 0},
                "highest_position": {"value": 10000},
                "position": {"value": 5200},
                "step_um": {"value": 4},
                "reversed": {"value": False},
            },
        },
        {
            "id": "cairn",
            "kind": "mount",
            "name": "Cairn Stout",
            "connected": True,
            "connection": {"kind": "network", "host": "cairn", "tcp_port": 4030},
            "settings": {"park_set": {"value": True}, "flip_margin_min": {"value": 11}},
        },
        {
            "id": "hut",
            "kind": "computer",
            "name": "Hut computer",
            "storage": [
                {"name": "inner disk", "kind": "internal", "free_gb": 300, "holds": "images"},
                {"name": "house", "kind": "network", "holds": "copy"},
            ],
        },
    ]
    rig["records"] = [
        {
            "id": "client",
            "name": "capture program",
            "side": "client",
            "pair": "capture",
            "values": {
                "effective_focal_length_mm": 514,
                "pixel_um": 3.9,
                "site.latitude_deg": 47.31,
                "main.gain": 100,
                "main.offset": 50,
                "main.set_temperature_c": -10,
                "main.driver_version": "2.4",
                "main.traffic_percent": 80,
                "rondel.slots": ["L", "R", "G", "B", "Ha", "OIII"],
                "rondel.mode": "wheel",
                "glide.reversed": False,
                "guiding.dither_main_px": 5,
            },
            "entries": [
                {"name": "Main", "role": "camera", "usb_id": "3f2a:0261", "serial_number": "PG-1", "connected": True},
                {"name": "Guide", "role": "guide_camera", "usb_id": "3f2a:0120", "serial_number": "PP-1"},
            ],
        },
        {
            "id": "server",
            "name": "device server",
            "side": "server",
            "pair": "capture",
            "values": {"main.gain": 100, "rondel.slots": ["L", "R", "G", "B", "Ha", "OIII"]},
        },
    ]
    return rig


CLEAN_TREE = [
    {"name": "usb1", "vendor": "1d6b", "product_id": "0002", "speed": 480, "class": "09", "ports": 6},
    {
        "name": "1-1",
        "vendor": "3f2a",
        "product_id": "0120",
        "serial": "PP-1",
        "speed": 480,
        "version": " 2.00",
        "max_power": 400,
    },
    {
        "name": "1-2",
        "vendor": "05a7",
        "product_id": "0610",
        "speed": 480,
        "class": "09",
        "ports": 4,
        "max_power": 100,
        "attributes": "e0",
        "control": "auto",
    },
    {"name": "1-2.1", "vendor": "7c11", "product_id": "0007", "serial": "R7-1", "speed": 12, "max_power": 100},
    {
        "name": "1-2.2",
        "vendor": "1a5e",
        "product_id": "7523",
        "serial": "G-1",
        "speed": 12,
        "max_power": 98,
        "tty": "ttyUSB0",
        "by_id": "usb-Glide-if00",
    },
    {"name": "usb2", "vendor": "1d6b", "product_id": "0003", "speed": 5000, "class": "09", "ports": 4},
    {
        "name": "2-1",
        "vendor": "3f2a",
        "product_id": "0261",
        "serial": "PG-1",
        "speed": 5000,
        "version": " 3.20",
        "max_power": 800,
    },
]


def clean_tree():
    return copy.deepcopy(CLEAN_TREE)
