"""The fields of the framing: the centre or object, the position angle, the overlap of panels; typed, shown, entered."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QWidget

from wyntaxis.core.rig.edit import Change
from wyntaxis.core.sky import objects as catalogue
from wyntaxis.core.sky.coordinates import coordinates_text, parse_coordinates
from wyntaxis.core.sky.footprint import DEFAULT_OVERLAP
from wyntaxis.core.sky.objects import SkyObject
from wyntaxis.core.wording import short
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session


class FramingFields(QWidget):
    """What lays the frame on the sky, typed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(4)
        self.center = QLineEdit()
        self.center.setPlaceholderText("NGC 7243, or 22 15 09 +49 54")
        self.angle, self.overlap = QLineEdit(), QLineEdit()
        names = ("Centre or object, J2000", "Position angle, °", "Overlap of panels, %")
        for index, (name, field) in enumerate(zip(names, (self.center, self.angle, self.overlap), strict=True)):
            label = PlainLabel(name)
            label.setBuddy(field)
            field.setAccessibleName(name)
            if index == 0:
                grid.addWidget(label, 0, 0, 1, 2)
                grid.addWidget(field, 1, 0, 1, 2)
            else:
                field.setAlignment(Qt.AlignmentFlag.AlignRight)
                grid.addWidget(label, index + 1, 0)
                grid.addWidget(field, index + 1, 1)
        self.center.returnPressed.connect(self.enter_center)
        self.center.editingFinished.connect(self.enter_center)
        self.angle.editingFinished.connect(self.enter_angle)
        self.overlap.editingFinished.connect(self.enter_overlap)

    def refresh(self) -> None:
        """Show the framing as it is now, but for what is being typed."""
        framing = self._session.rig.framing
        center = "" if framing is None else framing.name or coordinates_text(framing.ra_deg, framing.dec_deg)
        overlap = DEFAULT_OVERLAP if framing is None or framing.overlap is None else framing.overlap
        self._show_text(self.center, center)
        self._show_text(self.angle, "" if framing is None else short(framing.position_angle_deg, 2))
        self._show_text(self.overlap, short(100 * overlap, 1))

    def _show_text(self, field: QLineEdit, text: str) -> None:
        if not field.hasFocus() or not field.isModified():
            field.setText(text)
            field.setCursorPosition(0)

    def _frame_on(self, label: str, **changes: object) -> None:
        framing = self._session.rig.framing
        value = framing.model_dump(mode="json", exclude_unset=True) if framing else {"ra_deg": 0.0, "dec_deg": 0.0}
        value |= changes
        value = {key: item for key, item in value.items() if item is not None}
        self._session.apply(Change.of(label, ("framing",), value))

    def choose_target(self, target: SkyObject) -> None:
        """Lay the frame on an object."""
        self._frame_on(
            "Frame an object", name=target.label, ra_deg=round(target.ra_deg, 6), dec_deg=round(target.dec_deg, 6)
        )

    def enter_center(self) -> None:
        """Take the centre that is typed: an object's name, or coordinates."""
        if not self.center.isModified():
            return
        self.center.setModified(False)
        text = self.center.text().strip()
        if not text:
            self._session.apply(Change.of("Take the framing out", ("framing",), None))
            return
        target = catalogue.find_object(text)
        if target is not None:
            self.choose_target(target)
            return
        try:
            ra, dec = parse_coordinates(text)
        except ValueError as error:
            self._session.refused.emit(f"{error}, or name a catalogued object")
            return
        self._frame_on("Move the frame", name=None, ra_deg=round(ra, 6), dec_deg=round(dec, 6))

    def enter_angle(self) -> None:
        """Take the position angle that is typed."""
        value = self._typed(self.angle, "°")
        if value is not None and self._session.rig.framing is not None:
            self._frame_on("Turn the frame", position_angle_deg=value % 360)

    def enter_overlap(self) -> None:
        """Take the overlap that is typed, in %."""
        value = self._typed(self.overlap, "%")
        if value is not None and self._session.rig.framing is not None:
            self._frame_on("Change the overlap", overlap=value / 100)

    def _typed(self, field: QLineEdit, unit: str) -> float | None:
        if not field.isModified():
            return None
        field.setModified(False)
        try:
            return parse_number(field.text(), unit)
        except ValueError as error:
            self._session.refused.emit(str(error))
            return None
