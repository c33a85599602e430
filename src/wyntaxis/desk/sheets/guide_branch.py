"""The Guide branch sheet: what kind of guiding, the guide path's parts, and whether it reaches focus."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QLabel

from wyntaxis.core.rig.edit import Change
from wyntaxis.core.worklist import Step
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.light_path import PartsSheet
from wyntaxis.desk.sheets.specs import telescope_specs
from wyntaxis.desk.value_field import ChoiceField

KINDS = ("none", "off_axis", "separate")
NEW_GUIDE_TELESCOPE = {"name": "Guide telescope", "focal_length_mm": 200, "aperture_mm": 50}


class GuideBranchSheet(PartsSheet):
    """Like the light path's sheet, with the kind of guiding above and a guide telescope's card where there is one."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        self._kind = ChoiceField(("guiding", "kind"), "Kind of guiding", KINDS, optional=False)
        self._taps = ChoiceField(("guiding", "taps"), "Off-axis guider in the train", (), optional=False)
        super().__init__(session, step, palette, guide=True)
        self._taps_label = QLabel("through")
        for widget in (QLabel("Guiding"), self._kind, self._taps_label, self._taps):
            self.head.addWidget(widget)
        self.head.addStretch(1)
        self.telescope_card = self.add_card(3)
        self._kind.entered.connect(lambda _path, kind: self._set_kind(kind))
        self._taps.entered.connect(
            lambda path, part_id: session.set_value(path, part_id, "Change the off-axis guider tapped")
        )
        self.refresh()

    def _tappable(self) -> list[tuple[str, str]]:
        return [(part.id, part.title) for part in self.session.rig.train if part.prism is not None]

    def _set_kind(self, kind: str) -> None:
        """Change the kind of guiding; the guide path is kept wherever the new kind can hold one."""
        guiding: dict[str, Any] = {"kind": kind}
        path = [part.model_dump(mode="json", exclude_unset=True) for part in self.session.rig.guiding.path]
        if kind == "off_axis":
            tappable = self._tappable()
            if not tappable:
                self.session.refused.emit(
                    "the train has no off-axis guider with a prism: add one (Part → Add), then choose off axis"
                )
                self.refresh()
                return
            guiding |= {"taps": tappable[0][0], "path": path}
        elif kind == "separate":
            guiding |= {"telescope": {"id": "guide_telescope", **NEW_GUIDE_TELESCOPE}, "path": path}
        if not self.session.apply(Change.of("Change the kind of guiding", ("guiding",), guiding)):
            self.refresh()

    def refresh(self) -> None:
        super().refresh()
        if not hasattr(self, "telescope_card"):
            return
        guiding = self.session.rig.guiding
        self._kind.show_value(guiding.kind)
        tappable = self._tappable()
        if [self._taps.itemData(i) for i in range(self._taps.count())] != [part_id for part_id, _ in tappable]:
            self._taps.clear()
            for part_id, title in tappable:
                self._taps.addItem(title, part_id)
        self._taps.show_value(guiding.taps)
        for widget in (self._taps, self._taps_label):
            widget.setVisible(guiding.kind == "off_axis")
        self.telescope_card.setVisible(guiding.telescope is not None)
        if guiding.telescope is not None:
            specs = telescope_specs(guiding.telescope)
            self.telescope_card.show_object("Guide telescope", ("guiding", "telescope"), specs, self.session.rig)
