"""Build a Debian package that needs no network: the wheel and all it runs with, in one environment under /usr/lib.

The interpreter is the system's; times are those of ``SOURCE_DATE_EPOCH``, so that two builds are equal.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

from distributions import needed

from wyntaxis.system_libraries import ALWAYS, ON_X

PYTHON, HOME = "python3.11", "usr/lib/wyntaxis"
SITE = f"{HOME}/lib/{PYTHON}/site-packages"
LEFT_OUT = ("__pycache__", "tests", "test")
"""Folders that a program at work never reads; left out of NumPy and SciPy alone, whose tests are apart."""
LAUNCHER = f"#!/{HOME}/bin/{PYTHON}\nimport sys\n\nfrom wyntaxis.cli import main\n\nsys.exit(main())\n"
COMPILE = f'#!/bin/sh\nset -e\n[ "$1" != configure ] || /usr/bin/{PYTHON} -m compileall -q -j 0 /{HOME}/lib || true\n'
TIDY = f"#!/bin/sh\nset -e\nfind /{HOME} -name __pycache__ -type d -prune -exec rm -rf {{}} +\n"


def copy_distributions(root: Path) -> None:
    """Copy every distribution that the program runs with, but itself."""
    for name, distribution in needed().items():
        if name == "wyntaxis":
            continue
        for file in distribution.files or []:
            parts = file.parts
            if ".." in parts or "__pycache__" in parts or (name in ("numpy", "scipy") and set(LEFT_OUT) & set(parts)):
                continue
            source = Path(str(distribution.locate_file(file)))
            if source.is_file():
                target = root / SITE / file
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(source, target)
                if os.access(source, os.X_OK):
                    target.chmod(0o755)


def unpack_wheel(wheel: Path, root: Path) -> None:
    """Unpack the program: its modules into the environment, its shared files where the system looks for them."""
    with zipfile.ZipFile(wheel) as packed:
        for entry in packed.infolist():
            _, found, shared = entry.filename.partition(".data/data/share/")
            target = root / "usr/share" / shared if found else root / SITE / entry.filename
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(packed.read(entry))
    manual = root / "usr/share/man/man1/wyntaxis.1"
    subprocess.run(["gzip", "-9n", str(manual)], check=True)


def build(folder: Path) -> Path:
    """Build the package from the wheel in a folder, into that folder."""
    wheel = max(folder.glob("wyntaxis-*.whl"), key=lambda path: path.stat().st_mtime)
    version = wheel.name.split("-")[1]
    machine = subprocess.run(
        ["dpkg", "--print-architecture"], capture_output=True, text=True, check=True
    ).stdout.strip()
    moment = int(os.environ.get("SOURCE_DATE_EPOCH", "0"))
    with tempfile.TemporaryDirectory() as place:
        root = Path(place) / "root"
        copy_distributions(root)
        unpack_wheel(wheel, root)
        home = root / HOME
        (home / "bin").mkdir(parents=True)
        (home / "bin" / PYTHON).symlink_to(f"/usr/bin/{PYTHON}")
        (home / "pyvenv.cfg").write_text("home = /usr/bin\ninclude-system-site-packages = false\n", "utf-8")
        launcher = root / "usr/bin/wyntaxis"
        launcher.parent.mkdir(parents=True)
        launcher.write_text(LAUNCHER, "utf-8")
        launcher.chmod(0o755)
        documents = root / "usr/share/doc/wyntaxis"
        documents.mkdir(parents=True)
        shutil.copyfile("LICENSE", documents / "copyright")
        size = sum(path.lstat().st_size for path in root.rglob("*") if path.is_file()) // 1024
        control = root / "DEBIAN"
        control.mkdir()
        libraries = sorted({*ALWAYS.values(), *ON_X.values()})
        (control / "control").write_text(
            f"Package: wyntaxis\nVersion: {version}\nArchitecture: {machine}\nSection: science\nPriority: optional\n"
            f"Maintainer: The Wyntaxis developers <wyntaxis@example.org>\nInstalled-Size: {size}\n"
            f"Depends: {PYTHON}, {', '.join(libraries)}\n"
            "Description: Documents, computes and measures a deep-sky imaging rig\n"
            " It documents the rig, computes what must be true of it, measures it from frames and logs, says what\n"
            " disagrees, and plays the night through by day. It needs no network.\n",
            "utf-8",
        )
        for name, text in (("postinst", COMPILE), ("prerm", TIDY)):
            (control / name).write_text(text, "utf-8")
            (control / name).chmod(0o755)
        for path in sorted(root.rglob("*"), reverse=True):
            if not path.is_symlink():
                path.chmod(0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644)
            os.utime(path, (moment, moment), follow_symlinks=False)
        target = folder / f"wyntaxis_{version}_{machine}.deb"
        subprocess.run(["dpkg-deb", "--root-owner-group", "-Zxz", "-z3", "--build", str(root), str(target)], check=True)
    return target


if __name__ == "__main__":
    build(Path(sys.argv[1]))
