"""What is done on the drawing and becomes an edit or a choice: parts, lengths, what comes next, devices and cables."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wyntaxis.desk.drawing_area import DrawingArea
    from wyntaxis.desk.workplace import Workplace


class DrawingActions:
    """Passes what is done on a window's drawing to its session."""

    def __init__(self, window: Workplace, drawing: DrawingArea) -> None:
        self._window = window
        band, wiring = drawing.section, drawing.wiring
        band.part_chosen.connect(self._choose_part)
        band.length_entered.connect(self._enter_length)
        band.refused.connect(window.refuse)
        band.next_chosen.connect(self._add_next)
        band.guiding_chosen.connect(self._set_guiding)
        band.shelf_part_dropped.connect(lambda *drop: window.session and window.session.drop_from_shelf(*drop))
        band.part_dropped.connect(lambda *drop: window.session and window.session.move_to(*drop))
        wiring.device_chosen.connect(self._choose_device)
        wiring.plugged.connect(lambda *line: window.session and window.session.plug(*line))

    def begin_with_parts(self) -> None:
        """Begin part by part: the drawing asks what comes next."""
        self._window.show_step("light_path")
        self._window.band.setFocus()
        self._window.band.ask_next()

    def _choose_part(self, part_id: str) -> None:
        if self._window.session is not None:
            self._window.session.choose_part(part_id)

    def _choose_device(self, device_id: str) -> None:
        """Turn the Devices sheet to the device that was chosen in the drawing."""
        if self._window.session is not None:
            self._window.session.choose_device(device_id)

    def _enter_length(self, part_id: str, length_mm: float) -> None:
        session, notice = self._window.session, self._window.notice
        if session is not None and session.set_length(part_id, length_mm) and not notice.asking:
            notice.put_away()

    def _add_next(self, kind: str, shelf_id: str, guide: bool) -> None:
        """Put the part that was chosen for the open end in."""
        if self._window.session is not None:
            self._window.session.add_next(kind, shelf_id, guide=guide)
            self._window.leave_start()

    def _set_guiding(self, kind: str) -> None:
        """Begin the guide path."""
        if self._window.session is not None and self._window.session.set_guiding(kind):
            self._window.show_step("guide_branch")
