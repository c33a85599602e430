"""Panels of the Tilt & curvature sheet: what is wrong, the spacing that makes it flat, and what to turn."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.evidence.field.causes import causes
from wyntaxis.core.evidence.field.result import FieldResult
from wyntaxis.core.evidence.field.shares import screws_for_all, screws_in, turn_in
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.train.flat_spacers import wanting
from wyntaxis.core.train.spacers import SpacerResult, find_spacers, pieces_text
from wyntaxis.core.wording import number, plus_minus, sentence, signed
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.session import Session

MAX_SETS = 3


class CausesPanel(Panel):
    """What is it? A verdict with its evidence, and what to do next."""

    def __init__(self) -> None:
        super().__init__("What is it?")
        self.text = self.add_text()

    def show_result(self, result: FieldResult | None) -> None:
        """Tell what sweeps say; out of sight without one."""
        found = causes(result) if result is not None else ()
        self.setVisible(bool(found))
        lines = []
        for cause in found:
            lines.append(f"{cause.words[:1].upper()}{cause.words[1:]}.")
            lines += [f"    {line}" for line in cause.evidence]
            if cause.next:
                lines.append(f"    Next: {cause.next}.")
        self.text.setText("\n".join(lines))


class ScrewsPanel(Panel):
    """Which screws of the tilt plate to turn, in plain words, and what is left then."""

    def __init__(self, session: Session) -> None:
        super().__init__("What to turn")
        self._session = session
        self._describe: Callable[[int], object] = lambda _count: None
        self.text = self.add_text()
        row = FlowRow()
        self.three = push_button("It has three screws", "Describe three screws", lambda: self._describe(3), row)
        self.four = push_button("It has four screws", "Describe four screws", lambda: self._describe(4), row)
        self.buttons = QWidget()
        self.buttons.setLayout(row)
        self.column.addWidget(self.buttons)

    def show_result(self, result: FieldResult | None, *, has_plate: bool, describe: Callable[[int], object]) -> None:
        """Tell what to turn; out of sight without a sweep."""
        self._describe = describe
        self.setVisible(result is not None and bool(result.sweeps))
        if result is None:
            return
        screws, advice, whole = result.optics.screws, screws_in(result), screws_for_all(result)
        is_share = turn_in(result) is not None
        self.buttons.setVisible(has_plate and screws is None)
        if not has_plate:
            self.text.setText("The train has no tilt plate: put one in on the Light path sheet, if there is one.")
        elif screws is None:
            self.text.setText("The tilt plate’s screws are not described yet.")
        elif advice is None:
            whose = "No tilt of the camera’s side is certain" if is_share else "No tilt is certain"
            self.text.setText(f"{whose}: leave the screws as they are.")
        else:
            lines = ["For the camera’s share of the tilt:"] if is_share else []
            lines += [sentence(turn.words) for turn in advice.turns]
            moves = ", ".join(f"{signed(turn.move_um, 0)} µm" for turn in advice.turns)
            lines.append(f"They move by {moves} along the light; the middle stays where it is.")
            lines.append(f"Left of it after these turns: {number(advice.left_um, 1)} µm from middle to corner.")
            if is_share and whole is not None:
                lines.append("For all of the tilt, as long as the camera stays at this angle:")
                lines += [sentence(turn.words) for turn in whole.turns]
            self.text.setText("\n".join(lines))


class FlatPanel(Panel):
    """The spacing that makes the field flat, and what of the shelf brings the sensor there."""

    def __init__(self, session: Session) -> None:
        super().__init__("The spacing that makes it flat")
        self._session = session
        self._found: SpacerResult | None = None
        self._searched_for: object = None
        self.result: FieldResult | None = None
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(session.refused)
        self.text = self.add_text()
        self.column.addWidget(JobBar(self.job, "Searching the shelf"))
        self.sets = self.add_text()
        row = FlowRow()
        self.search_button = push_button("Search the shelf", "Find pieces for this spacing", self.search, row)
        self.put_button = push_button("Put the best set in", "Change the train to this set", self.put_in, row)
        self.column.addLayout(row)

    def show_result(self, result: FieldResult | None) -> None:
        """Tell the spacing; out of sight where no sweep tells one."""
        self.result = result
        flat = result.flat if result is not None else None
        self.setVisible(flat is not None and bool(flat.points))
        if flat is None:
            return
        at = flat.flat_at_mm
        key = (at, self._session.rig.train)
        if key != self._searched_for:
            self._found, self._searched_for = None, key
        if at is None:
            self.text.setText(f"Not known: {flat.why}.")
        else:
            built = result.optics.built_mm if result is not None else None
            beside = (
                "" if built is None else f"; built {number(built, 2)} mm, change by {signed(at.value - built, 2)} mm"
            )
            self.text.setText(f"Flat at {plus_minus(at.value, at.standard, 2)} mm{beside}.")
        self.search_button.setVisible(at is not None)
        found = self._found
        self.put_button.setVisible(found is not None and bool(found.sets))
        self.sets.setVisible(found is not None)
        if found is not None:
            lines = [f"{pieces_text(found, entry)}: {signed(entry.error_mm, 3)} mm" for entry in found.sets[:MAX_SETS]]
            self.sets.setText("\n".join(lines) if lines else f"Nothing on the shelf fits. {found.buy}".strip())

    def search(self) -> None:
        """Search the shelf for pieces that bring the sensor there."""
        flat = self.result.flat.flat_at_mm if self.result is not None else None
        if flat is None:
            return
        rig, parts = self._session.rig, self._session.stock.shelf.parts
        try:
            wanted = wanting(rig, flat.value)
        except ValueError as error:
            self._session.refused.emit(str(error))
            return

        def work(progress: Progress) -> SpacerResult:
            def stopped() -> bool:
                progress(0, 0)  # ends the work when it was cancelled
                return False

            return find_spacers(wanted, parts, should_stop=stopped)

        self.job.start(work)

    def _came_in(self, found: SpacerResult) -> None:
        self._found = found
        self.show_result(self.result)

    def put_in(self) -> None:
        """Change the train to the best set."""
        if self._found is None or not self._found.sets:
            return
        self._session.apply_spacers(self._found, self._found.sets[0])
