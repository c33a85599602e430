"""The band folded to a strip: the train in miniature with its marks, and how far off each sensor is."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent

from wyntaxis.core.canvas import DASHES
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.steps import GUIDE_LOG, SHELF, Step
from wyntaxis.core.wording import signed
from wyntaxis.desk.drawing_shape import STRIP_PX
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture
from wyntaxis.desk.section.drafting import DraftingPainter

if TYPE_CHECKING:
    from wyntaxis.core.train.section import PartShape
    from wyntaxis.desk.session import Session

UNDER_TEST = {
    "sensor": ("camera",),
    "cooling": ("camera",),
    "filters": ("filter_wheel", "filter_drawer"),
    "stars": ("camera",),
    "travel": ("focuser",),
    "field": ("tilt_plate", "camera"),
    "guide_log": ("off_axis_guider",),
}
"""Which kinds of part each step measures; the guide log, all of the guide path too."""
TEST_BAR_PX = 3.0
ERRORS = (("back_focus_error_mm", "Main sensor"), ("guide_path_error_mm", "Guide sensor"))


class StripPicture(Picture):
    """Paints the strip; a click on a part chooses it, a double click or Enter unfolds the drawing."""

    part_chosen = pyqtSignal(str)
    expand_asked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.palette_in_use: Palette = DAY
        self._session: Session | None = None
        self._step = SHELF
        self.boxes: list[tuple[QRectF, str]] = []
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Folded drawing: the train in miniature")
        self.setToolTip("F7 or a double click unfolds the drawing")

    def sizeHint(self) -> QSize:
        return QSize(1280, STRIP_PX)

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self._session = session
        self.refresh()

    def show_step(self, step: Step) -> None:
        """Mark what a step measures."""
        if step is not self._step:
            self._step = step
            self.update()

    @property
    def under_test(self) -> frozenset[str]:
        """The parts that the step measures, by id."""
        if self._session is None or self._step.key not in UNDER_TEST:
            return frozenset()
        section, kinds = self._session.section, UNDER_TEST[self._step.key]
        branch = section.branch.parts if section.branch is not None and self._step is GUIDE_LOG else ()
        return frozenset(shape.part.id for shape in section.parts if shape.part.kind in kinds) | frozenset(
            shape.part.id for shape in branch
        )

    def refresh(self) -> None:
        """Draw the rig anew."""
        session = self._session
        if session is not None:
            rows = session.evaluation.quantities
            entries = [f"{title} {signed(rows[key].best.value, 2)} mm" for key, title in ERRORS if rows[key].best]  # type: ignore[union-attr]
            self.setAccessibleDescription(", ".join(entries) or "no distance is required of a sensor")
        self.update()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.palette_in_use = palette
        self.update()

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = QFont(self.font())
        small.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        sheet = DraftingPainter(painter, self.palette_in_use, self.font(), small)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        self.boxes = []
        session = self._session
        if session is None:
            return
        right = self._paint_errors(sheet)
        name = plain(session.rig.name)
        left = sheet.write((10, self.height() / 2), name, align="left").right() + 18
        section = session.section
        main, branch = section.parts, section.branch.parts if section.branch is not None else ()
        room = right - 16 - left - (18 if branch else 0)
        total = sum(shape.length_mm for shape in (*main, *branch))
        if total > 0 and room > 60:
            least = 2.2 * sheet.height_of(small=True)
            wide = least * (len(main) + len(branch))
            scale = max(room - wide, 0.0) / total
            left = self._paint_parts(
                sheet, main, left, scale, least if wide <= room else room / (len(main) + len(branch))
            )
            self._paint_parts(
                sheet, branch, left + 18, scale, least if wide <= room else room / (len(main) + len(branch))
            )
        if self.hasFocus():
            painter.setPen(sheet.pen("accent", 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _paint_parts(
        self, sheet: DraftingPainter, shapes: tuple[PartShape, ...], left: float, scale: float, least: float
    ) -> float:
        height = min(self.height() - 12, 2.3 * sheet.height_of())
        top = (self.height() - height) / 2
        chosen, under_test = self._session.chosen_part if self._session else None, self.under_test
        for shape in shapes:
            box = QRectF(left, top, least + shape.length_mm * scale, height)
            painter = sheet.painter
            is_chosen = shape.part.id == chosen
            painter.setBrush(sheet.palette.color("chosen" if is_chosen else "panel"))
            painter.setPen(sheet.pen("accent" if is_chosen else "ink", 1.2, DASHES if shape.assumed else None))
            painter.drawRect(box)
            number = f"{shape.number}?" if shape.assumed else shape.number
            middle = box.center()
            if shape.verdict is None:
                sheet.write((middle.x(), middle.y()), number, small=True)
            else:
                size = sheet.height_of(small=True) * 0.8
                sheet.write((middle.x(), middle.y() - size * 0.55), number, small=True)
                mark = QRectF(middle.x() - size / 2, middle.y() + size * 0.15, size, size)
                ground = sheet.palette.color("panel")
                draw_verdict(painter, mark, shape.verdict, sheet.palette.verdict(shape.verdict), ground)
            if shape.part.id in under_test:
                painter.fillRect(
                    QRectF(box.left(), box.bottom() + 2, box.width(), TEST_BAR_PX), sheet.palette.color("accent")
                )
            self.boxes.append((box, shape.part.id))
            left = box.right()
        return left

    def _paint_errors(self, sheet: DraftingPainter) -> float:
        """Write each sensor's error at the right, and return where that begins."""
        assert self._session is not None
        rows, right, y = self._session.evaluation.quantities, self.width() - 12.0, self.height() / 2
        for key, title in reversed(ERRORS):
            row = rows[key]
            if row.best is None:
                continue
            doubt = " ?" if row.assumed else ""
            box = sheet.write((right, y), f"{title} {signed(row.best.value, 2)} mm{doubt}", align="right")
            size = sheet.height_of() * 0.75
            mark = QRectF(box.left() - size - 5, y - size / 2, size, size)
            draw_verdict(
                sheet.painter, mark, row.verdict, sheet.palette.verdict(row.verdict), sheet.palette.color("paper")
            )
            right = mark.left() - 18
        return right

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is not None:
            point = QPointF(a0.position())
            found = next((part_id for box, part_id in self.boxes if box.contains(point)), None)
            if found is not None:
                self.part_chosen.emit(found)

    def mouseDoubleClickEvent(self, a0: QMouseEvent | None) -> None:
        self.expand_asked.emit()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.expand_asked.emit()
        else:
            super().keyPressEvent(a0)
