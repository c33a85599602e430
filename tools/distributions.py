"""Which installed distributions the program needs to run: from what each declares, beginning with its own."""

from __future__ import annotations

import re
from importlib import metadata

from packaging.requirements import Requirement


def plain_name(name: str) -> str:
    """Return a distribution's name as indexes compare it (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def needed(extras: str = "raw") -> dict[str, metadata.Distribution]:
    """Return the program's distribution and all that it needs, by plain name; with what its extras need."""
    found: dict[str, metadata.Distribution] = {}
    done: set[tuple[str, str]] = set()
    waiting = [("wyntaxis", extras)]
    while waiting:
        name, wanted = waiting.pop()
        if (name, wanted) in done:
            continue
        done.add((name, wanted))
        found[name] = metadata.distribution(name)
        for line in found[name].requires or []:
            requirement = Requirement(line)
            asked = [extra for extra in wanted.split(",") if _holds(requirement, extra)]
            if asked:
                waiting.append((plain_name(requirement.name), ",".join(sorted(requirement.extras))))
    return dict(sorted(found.items()))


def _holds(requirement: Requirement, extra: str) -> bool:
    return requirement.marker is None or requirement.marker.evaluate({"extra": extra})
