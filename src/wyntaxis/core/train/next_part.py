"""What may come next on a path that does not end in a camera yet: the shelf's pieces that mate, first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Joint, Part
from wyntaxis.core.train.joints import meet

if TYPE_CHECKING:
    from wyntaxis.core.rig.shelf import ShelfPart


@dataclass(frozen=True)
class OpenEnd:
    """Where a path ends without a camera: after which part, and how that ends."""

    after: str
    rear: Joint | None
    index: int


def open_end(rig: Rig, *, guide: bool = False) -> OpenEnd | None:
    """Return where the train, or the guide path, is still open; None where a camera ends it, or there is no path.

    Parameters
    ----------
    rig, guide
        The rig, and whether its guide path is meant.

    Returns
    -------
    OpenEnd or None
        With the place for the next part.
    """
    if guide and rig.guiding.kind == "none":
        return None
    parts = rig.guiding.path if guide else rig.train
    if parts and parts[-1].kind == "camera":
        return None
    if parts:
        return OpenEnd(parts[-1].title, parts[-1].rear, len(parts))
    if not guide:
        return OpenEnd(rig.telescope.title, rig.telescope.rear, 0)
    telescope = rig.guiding.telescope
    return OpenEnd(telescope.title if telescope else "the prism", telescope.rear if telescope else None, 0)


def fitting(shelf: tuple[ShelfPart, ...], end: OpenEnd, used: frozenset[str] = frozenset()) -> list[Part]:
    """Return the shelf's parts that may come next: those that mate, then those whose front nobody has described.

    Parameters
    ----------
    shelf
        The imager's parts.
    end
        Where the path is open. Where its end is not described, nothing is known to mate.
    used
        Names of parts that are in the rig already; they come last.

    Returns
    -------
    list of Part
        Without those that are known not to mate.
    """
    ranked = []
    for entry in shelf:
        mating = meet(end.rear, entry.part.front).mating
        if mating in ("mates", "unknown"):
            ranked.append((mating != "mates", entry.part.title in used, entry.part.title, entry.part))
    return [part for *_, part in sorted(ranked, key=lambda rank: rank[:3])]
