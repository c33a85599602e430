"""The system's libraries that a window and PDF need, with the packages of Debian and Ubuntu that hold them.

Nothing but the standard library: it is read before anything is installed.
"""

from __future__ import annotations

import ctypes

ALWAYS = {
    "libEGL.so.1": "libegl1",
    "libGL.so.1": "libgl1",
    "libxkbcommon.so.0": "libxkbcommon0",
    "libdbus-1.so.3": "libdbus-1-3",
    "libfontconfig.so.1": "libfontconfig1",
    "libglib-2.0.so.0": "libglib2.0-0",
    "libpango-1.0.so.0": "libpango-1.0-0",
    "libpangoft2-1.0.so.0": "libpangoft2-1.0-0",
    "libharfbuzz.so.0": "libharfbuzz0b",
}
ON_X = {
    "libxcb-cursor.so.0": "libxcb-cursor0",
    "libxcb-icccm.so.4": "libxcb-icccm4",
    "libxcb-image.so.0": "libxcb-image0",
    "libxcb-keysyms.so.1": "libxcb-keysyms1",
    "libxcb-render-util.so.0": "libxcb-render-util0",
    "libxcb-shape.so.0": "libxcb-shape0",
    "libxkbcommon-x11.so.0": "libxkbcommon-x11-0",
}


def missing(libraries: dict[str, str]) -> dict[str, str]:
    """Return the libraries that cannot be loaded, with their packages."""
    found = {}
    for library, package in libraries.items():
        try:
            ctypes.CDLL(library)
        except OSError:
            found[library] = package
    return found


def no_window(reason: str, lacking: dict[str, str]) -> str:
    """Return the line for a window that cannot be made: why, and what to install where something is missing."""
    text = f"the window cannot be made: {reason}"
    if lacking:
        text += f"; missing: {', '.join(lacking)}; install with: sudo apt-get install {' '.join(lacking.values())}"
    return text
