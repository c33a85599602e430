"""What assistive technology is told, read from outside over AT-SPI; PyQt6 does not wrap QAccessible itself."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from wyntaxis.core.steps import steps

READER = Path(__file__).parent / "accessible_tree.py"
READS = "import gi; gi.require_version('Atspi', '2.0')"
TOOLS = ("Xvfb", "dbus-run-session")
SESSION = """
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 & screen=$!
export DISPLAY=:97 QT_LINUX_ACCESSIBILITY_ALWAYS_ON=1
"$LAUNCHER" --launch-immediately 2>/dev/null & bus=$!
sleep 2
"$PROGRAM" -m wyntaxis --demo & window=$!
/usr/bin/python3 "$READER" "$STEPS"
kill $window $bus $screen
"""
LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")


def can_read() -> bool:
    """Return whether the machine has what reads a window from outside."""
    if not all(shutil.which(tool) for tool in TOOLS) or not LAUNCHER.exists():
        return False
    return subprocess.run(["/usr/bin/python3", "-c", READS], capture_output=True, check=False).returncode == 0


@pytest.mark.slow
def test_every_control_in_sight_has_a_name_and_a_role(tmp_path):
    if not can_read():
        pytest.skip("needs xvfb, dbus-run-session, at-spi2-core and python3-pyatspi")
    surroundings = {name: value for name, value in os.environ.items() if name != "QT_QPA_PLATFORM"}
    done = subprocess.run(
        ["dbus-run-session", "--", "sh", "-c", SESSION],
        capture_output=True,
        text=True,
        check=False,
        timeout=300,
        env={
            **surroundings,
            "XDG_STATE_HOME": str(tmp_path),
            "XDG_RUNTIME_DIR": str(tmp_path),
            "LAUNCHER": str(LAUNCHER),
            "PROGRAM": sys.executable,
            "READER": str(READER),
            "STEPS": str(len(steps())),
        },
    )
    entries = done.stdout.splitlines()
    assert [line for line in entries if line.startswith("step ")] == []
    assert [line for line in entries if line.startswith("met ")], done.stdout + done.stderr
