"""Panels of the Scales sheet: every binning of every train, the measured scale, and what field solving is told."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QGridLayout,
    QLineEdit,
    QWidget,
)

from wyntaxis.core.evidence.scale.image_scale import (
    ScaleReading,
    keep_reading,
    read_solved_frame,
    two_star_scale,
    typed_scale,
)
from wyntaxis.core.files.places import home
from wyntaxis.core.quantities.imaging import best_focal_length_mm
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, SPACING_ERROR_BY_SCALE
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.train.sampling import BinningRow, binning_rows
from wyntaxis.core.wording import number, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

FRAME_FILTER = "FITS frames (*.fit *.fits *.fts *.fit.gz *.fits.gz *.fz);;All files (*)"


def all_rows(session: Session) -> list[BinningRow]:
    """Return the rows of every train of the document, by its best focal length."""
    document = session.document
    rows: list[BinningRow] = []
    for name in (None, *(variant.name for variant in document.variants)):
        shown = name == session.variant
        rig = session.rig if shown else variant_rig(document, name)
        rows += binning_rows(rig, best_focal_length_mm(rig))
    return rows


class BinningTable(TextTable):
    """Scale, field and sampling for every binning of every train."""

    def __init__(self) -> None:
        headings = (
            "Train",
            "Bin",
            "Scale\n″/px",
            "Field\n°",
            "px/FWHM,\ngood",
            "px/FWHM,\nusual",
            "px/FWHM,\npoor",
            "To match the usual seeing",
        )
        super().__init__("Binnings and trains", headings, left=(0, 7))

    def show_trains(self, rows: list[BinningRow]) -> None:
        """Fill the table; the binning in use is bold."""

        def maybe(value: float | None) -> str:
            return "–" if value is None else number(value, 2)

        texts = [
            [
                row.train,
                str(row.binning),
                number(row.scale_arcsec_px, 3),
                f"{number(row.width_deg, 2)} × {number(row.height_deg, 2)}",
                maybe(row.sampling_good),
                maybe(row.sampling_usual),
                maybe(row.sampling_poor),
                row.advice,
            ]
            for row in rows
        ]
        self.show_rows(texts, bold=[index for index, row in enumerate(rows) if row.in_use])


class SearchPanel(Panel):
    """What field solving is told, ready to copy."""

    def __init__(self, session: Session) -> None:
        super().__init__("For field solving")
        self._session = session
        self.text = self.add_text()
        row = FlowRow()
        self.button = push_button("Copy", "Copy focal length, pixel size, scale range and field radius", self.copy, row)
        self.column.addLayout(row)

    def refresh(self) -> None:
        """Show the range of the rig as it stands."""
        search = self._session.evaluation.search
        self.button.setEnabled(search is not None)
        if search is None:
            self.text.setText("End the train with a camera whose sensor is given.")
            return
        binned = (
            f"type {number(search.binned_pixel_um, 2)} µm where the program wants the binned pixel, "
            f"{number(search.pixel_um, 2)} µm where it knows the binning of {search.binning}"
            if search.binning > 1
            else f"type {number(search.pixel_um, 2)} µm"
        )
        self.text.setText(
            f"Focal length {number(search.focal_length_mm, 1)} mm; pixel size: {binned}.\n"
            f"Scale {number(search.low_arcsec_px, 3)} to {number(search.high_arcsec_px, 3)} ″/px "
            f"(±{number(100 * search.share, 0)} %), field radius {number(search.radius_deg, 2)}°."
        )

    def copy(self) -> None:
        """Put the range on the clipboard."""
        clipboard, search = QApplication.clipboard(), self._session.evaluation.search
        if clipboard is not None and search is not None:
            clipboard.setText(search.text)


class MeasuredScalePanel(Panel):
    """Brings a measured scale in: from a solved frame, from two stars, or typed."""

    FIELDS = (
        ("first", "Star 1 at x, y in px"),
        ("second", "Star 2 at x, y in px"),
        ("separation", "Separation in ″"),
        ("scale", "Scale in ″/px"),
        ("spread", "± standard uncertainty in ″/px"),
        ("binning", "Binning of the frame"),
    )

    def __init__(self, session: Session) -> None:
        super().__init__("Measured image scale")
        self._session = session
        self.state = self.add_text()
        self.job = Job(self)
        self.job.done.connect(self.keep)
        self.job.failed.connect(session.refused)
        self.job.running_changed.connect(lambda _on: self.refresh())
        row = FlowRow()
        self.frame_button = push_button("From a solved frame …", "Read a FITS frame's WCS", self.ask_frame, row)
        self.forget_button = push_button("Forget it", "Take the measured scale out of the rig", self.forget, row)
        self.column.addLayout(row)
        self.fields: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        grid.setVerticalSpacing(4)
        places = {"first": 0, "second": 1, "separation": 2, "binning": 4, "scale": 5, "spread": 6}
        for key, name in self.FIELDS:
            field = QLineEdit()
            field.setAccessibleName(name)
            field.setMinimumWidth(70)
            label = PlainLabel(name.replace(" in px", ", px").replace(" in ″", ", ″"))
            label.setBuddy(field)
            label.setWordWrap(True)
            grid.addWidget(label, places[key], 0)
            grid.addWidget(field, places[key], 1)
            self.fields[key] = field
        self.fields["binning"].setText("1")
        grid.addWidget(push_button("Keep two stars", "Measure the scale from the two stars", self.keep_stars), 3, 1)
        grid.addWidget(push_button("Keep typed", "Keep the typed scale", self.keep_typed), 7, 1)
        holder = QWidget()
        holder.setProperty("role", "card")
        holder.setLayout(grid)
        grid.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(holder)

    def refresh(self) -> None:
        """Show what is kept."""
        kept = self._session.rig.measured.get("pixel_scale_arcsec_px")
        self.forget_button.setEnabled(kept is not None)
        self.frame_button.setEnabled(not self.job.running)
        if self.job.running:
            self.state.setText("Reading the frame …")
            return
        if kept is None:
            self.state.setText(
                "Not measured yet. A solved frame gives the focal length as it is, and with a reducer the spacing "
                "error "
                "that explains it."
            )
            return
        text = f"{number(kept.value, 4)} ± {number(kept.standard_uncertainty, 4)} ″/px"
        if kept.evidence is not None:
            e = kept.evidence
            words = {"wcs": "solved frame", "two_stars": "two stars", "typed": "typed"}
            details = [
                words.get(e.method, e.method),
                e.file or "",
                f"binning {e.binning}" if e.binning else "",
                e.date or "",
            ]
            if e.sha256:
                details.append(f"SHA-256 {e.sha256[:12]}…")
            text += f" – {', '.join(d for d in details if d)}"
            if e.note:
                text += f". {e.note[:1].upper()}{e.note[1:]}"
        focal = self._session.evaluation.quantity(FOCAL_LENGTH).measured
        if focal is not None:
            text += f". Focal length {number(focal.value, 2)} ± {number(focal.uncertainty, 2)} mm"
        error = self._session.evaluation.quantity(SPACING_ERROR_BY_SCALE).measured
        if error is not None:
            text += f"; spacing error {number(error.value, 2)} ± {number(error.uncertainty, 2)} mm (thin-lens estimate)"
        self.state.setText(text + ".")

    def ask_frame(self) -> None:
        """Ask for a frame and read it."""
        chosen, _ = QFileDialog.getOpenFileName(self, "A solved frame", str(home()), FRAME_FILTER)
        if chosen:
            self.read_frame(Path(chosen))

    def read_frame(self, path: Path) -> None:
        """Read a solved frame in the background and keep what it says."""
        sensor = self._session.rig.sensor
        self.job.start(lambda _progress: read_solved_frame(path, sensor))

    def keep(self, reading: ScaleReading) -> None:
        """Keep a reading in the rig."""
        self._session.apply(keep_reading(self._session.rig, reading))
        self.refresh()

    def keep_stars(self) -> None:
        """Measure the scale from the two stars typed."""
        try:
            first, second = self._pair("first"), self._pair("second")
            separation = self._number("separation", "″")
            binning, sensor = self._binning(), self._session.rig.sensor
            middle = ((sensor.width_px / binning - 1) / 2, (sensor.height_px / binning - 1) / 2) if sensor else None
            self.keep(two_star_scale(first, second, separation, middle_px=middle, binning=binning))
        except ValueError as error:
            self._session.refused.emit(str(error))

    def keep_typed(self) -> None:
        """Keep the scale typed."""
        try:
            spread = self._number("spread", "″/px") if self.fields["spread"].text().strip() else 0.0
            self.keep(typed_scale(self._number("scale", "″/px"), spread, self._binning()))
        except ValueError as error:
            self._session.refused.emit(str(error))

    def forget(self) -> None:
        """Take the measured scale out of the rig."""
        self._session.apply(Change.of("Forget the measured scale", ("measured", "pixel_scale_arcsec_px"), None))
        self.refresh()

    def _number(self, key: str, unit: str) -> float:
        value = parse_number(self.fields[key].text(), unit)
        if value is None:
            raise ValueError(f"{self.fields[key].accessibleName()} is empty")
        return value

    def _binning(self) -> int:
        value = self._number("binning", "")
        if value != int(value) or not 1 <= value <= 64:
            raise ValueError(f"the binning must be a whole number from 1 to 64, got {short(value)}")
        return int(value)

    def _pair(self, key: str) -> tuple[float, float]:
        parts = self.fields[key].text().replace(";", " ").replace(",", " ").split()
        try:
            one, other = (float(part) for part in parts)
        except ValueError:
            raise ValueError(f"{self.fields[key].accessibleName()}: write two numbers, as in 120.5, 88") from None
        return one, other
