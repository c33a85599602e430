"""Say plainly which system package is missing before anything is installed or started.

Needs nothing but the standard library. ``--screen`` also checks what a window on an X screen needs;
``--packages`` prints only the missing packages' names; ``--install`` installs them where it may: as root, with apt-get.
"""

import importlib.util
import os
import shutil
import subprocess
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from wyntaxis.system_libraries import ALWAYS, ON_X, missing


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
