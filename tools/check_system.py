"""Say plainly which system package is missing before anything is installed or started.

Needs nothing but the standard library. ``--screen`` also checks what a window on an X screen needs;
``--packages`` prints only the missing packages' names; ``--install`` installs them where it may: as root, with apt-get.
"""

import ctypes
import importlib.util
import os
import shutil
import subprocess
import sys

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
    """Return the libraries that cannot be loaded, with their Debian packages."""
    found = {}
    for library, package in libraries.items():
        try:
            ctypes.CDLL(library)
        except OSError:
            found[library] = package
    return found


def install(packages: list[str]) -> bool:
    """Install system packages, as root and with apt-get; return whether that was done."""
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        return False
    print(f"installing system packages: {' '.join(packages)}", file=sys.stderr)
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    for words in (["update", "-qq"], ["install", "-y", "-qq", "--no-install-recommends", *packages]):
        done = subprocess.run(["apt-get", *words], env=quiet, capture_output=True, text=True, check=False)
        if done.returncode:
            print(done.stderr.strip(), file=sys.stderr)
            return False
    return True


def lacking_here() -> dict[str, str]:
    """Return what is missing, with the packages that hold it."""
    wanted = dict(ALWAYS)
    if "--screen" in sys.argv and os.environ.get("DISPLAY") and not os.environ.get("WAYLAND_DISPLAY"):
        wanted |= ON_X
    lacking = missing(wanted)
    if importlib.util.find_spec("ensurepip") is None:
        lacking["Python's venv module"] = f"python{sys.version_info.major}.{sys.version_info.minor}-venv"
    return lacking


def main() -> int:
    """Print what is missing; return 1 if anything is."""
    lacking = lacking_here()
    if "--packages" in sys.argv:
        print(" ".join(lacking.values()))
        return 0
    if lacking and "--install" in sys.argv and install(sorted(set(lacking.values()))):
        importlib.invalidate_caches()
        lacking = lacking_here()
    for library, package in lacking.items():
        print(f"missing: {library}, in the system package {package}", file=sys.stderr)
    if lacking:
        print(f"install with: sudo apt-get install {' '.join(lacking.values())}", file=sys.stderr)
    return 1 if lacking else 0


if __name__ == "__main__":
    sys.exit(main())
