"""What the section is drawn from: the open session, or a rig that was read and is not computed yet."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Quantity
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.train.section import Section


class Drawable(Protocol):
    """What the picture reads."""

    @property
    def rig(self) -> Rig:
        """The rig as it is shown."""

    @property
    def section(self) -> Section:
        """Its section in mm."""

    @property
    def quantities(self) -> Mapping[str, Quantity]:
        """Its numbers by id; none before it is evaluated."""

    @property
    def chosen_part(self) -> str | None:
        """The id of the part that is chosen."""


@dataclass(frozen=True)
class BareRig:
    """A rig as it was read, its parts in their places: nothing is computed, judged or chosen."""

    rig: Rig
    section: Section
    quantities: Mapping[str, Quantity] = field(default_factory=dict)
    chosen_part: str | None = None
