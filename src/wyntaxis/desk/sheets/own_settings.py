"""The editor of the imager's own settings, as devices, programs and parts have it."""

from __future__ import annotations

from collections.abc import Sequence

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.display import DisplayedField, displayed_fields
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.own_settings import OwnSetting
from wyntaxis.core.wording import utc_stamp
from wyntaxis.desk.rows_editor import RowsEditor
from wyntaxis.desk.session import Session


class OwnSettingsEditor(RowsEditor):
    """Settings of the imager's own: each with its value, unit, why it is so, and what it may be."""

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Own settings", displayed_fields(OwnSetting), "own setting", self._fresh)
        self._names: set[str] = set()
        self.setToolTip(
            "A number, a text, yes or no. Allowed: the least and the greatest number, or the choices, in commas"
        )

    def show_settings(self, title: str, base: DocumentPath, settings: Sequence[OwnSetting]) -> None:
        """Show those of a device, a program or a part, by its place in the document."""
        self._names = {own.name for own in settings}
        self.show_list(f"Own settings of {title}", (*base, "own_settings"), len(settings), self._session.rig)

    def _enter(self, path: DocumentPath, value: str | None, spec: DisplayedField) -> None:
        """Take a value, and with it the day since when it is so."""
        if spec.path != ("value",) or value is None:
            super()._enter(path, value, spec)
            return
        dated = ((path, value), ((*path[:-1], "date"), utc_stamp()[:10]))
        self._session.apply(Change("Change an own setting", dated))

    def _fresh(self) -> JsonObject:
        name = next(name for k in range(1, 200) if (name := f"setting {k}") not in self._names)
        return {"name": name, "value": "–", "date": utc_stamp()[:10]}
