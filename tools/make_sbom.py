"""Write which distributions the program runs with, as locked, as CycloneDX 1.6; the same lock gives the same text."""

from __future__ import annotations

import json
import re
import sys
import uuid
from pathlib import Path

from distributions import needed, plain_name

_PIN = re.compile(r"^([A-Za-z0-9._-]+)(?:\[[^\]]*\])?==([^ \\;]+)")
_HASH = re.compile(r"--hash=sha256:([0-9a-f]{64})")
NAMESPACE = uuid.UUID("5f0c8e4e-6d0c-5b6e-9d5e-77796e746178")


def locked(lock: str) -> dict[str, tuple[str, list[str]]]:
    """Return version and SHA-256 of the files of each distribution that a lock pins, by plain name."""
    found: dict[str, tuple[str, list[str]]] = {}
    name = ""
    for line in lock.splitlines():
        pin = _PIN.match(line)
        if pin:
            name = plain_name(pin[1])
            found[name] = (pin[2], [])
        if name:
            found[name][1].extend(_HASH.findall(line))
    return found


def component(name: str, version: str, hashes: list[str], licence: str) -> dict[str, object]:
    """Return one distribution as CycloneDX names it."""
    purl = f"pkg:pypi/{name}@{version}"
    entries: dict[str, object] = {"type": "library", "bom-ref": purl, "name": name, "version": version, "purl": purl}
    if licence:
        entries["licenses"] = [{"license": {"name": licence}}]
    files = [
        {
            "type": "distribution",
            "url": f"https://pypi.org/project/{name}/{version}/",
            "hashes": [{"alg": "SHA-256", "content": digest}],
        }
        for digest in sorted(hashes)
    ]
    if files:
        entries["externalReferences"] = files
    return entries


def main() -> int:
    """Print the document."""
    pins = locked(Path(sys.argv[1]).read_text("utf-8"))
    found = needed()
    own = found.pop("wyntaxis")
    parts = []
    for name, distribution in found.items():
        version, hashes = pins[name]
        information = distribution.metadata
        licence = information.get("License-Expression") or information.get("License") or ""
        parts.append(component(name, version, hashes, licence.splitlines()[0][:80] if licence else ""))
    purl = f"pkg:pypi/wyntaxis@{own.version}"
    bom: dict[str, object] = {
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "version": 1,
        "metadata": {
            "component": {
                "type": "application",
                "bom-ref": purl,
                "name": "wyntaxis",
                "version": own.version,
                "purl": purl,
                "licenses": [{"license": {"id": "GPL-3.0-or-later"}}],
            }
        },
        "components": parts,
        "dependencies": [{"ref": purl, "dependsOn": [part["bom-ref"] for part in parts]}],
    }
    bom["serialNumber"] = f"urn:uuid:{uuid.uuid5(NAMESPACE, json.dumps(bom, sort_keys=True))}"
    print(json.dumps(bom, indent=2, ensure_ascii=False))
    return 0


if __name__ == "__main__":
    sys.exit(main())
