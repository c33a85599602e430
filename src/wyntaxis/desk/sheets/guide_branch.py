"""The Guide branch sheet: what kind of guiding, the guide path's parts, and whether it reaches focus."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import guiding
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, GUIDE_SCALE, PIXEL_SCALE
from wyntaxis.core.steps import GUIDE_BRANCH, Step
from wyntaxis.core.wording import number
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.light_path import PartsSheet
from wyntaxis.desk.sheets.specs import DRIFT_AND_MOUNT, GUIDE_SETTINGS, telescope_specs
from wyntaxis.desk.tables import TextTable
from wyntaxis.desk.value_field import WIDEST_CHOICE, ChoiceField

KINDS = ("none", "off_axis", "separate")


@sheet_of(GUIDE_BRANCH)
class GuideBranchSheet(PartsSheet):
    """Like the light path's sheet, with the kind of guiding above and a guide telescope's card where there is one."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        self._kind = ChoiceField(("guiding", "kind"), "Kind of guiding", KINDS, optional=False)
        self._taps = ChoiceField(("guiding", "taps"), "Off-axis guider in the train", (), optional=False)
        super().__init__(session, step, palette, guide=True)
        self._taps_label = PlainLabel("through")
        for widget in (PlainLabel("Guiding"), self._kind, self._taps_label, self._taps):
            self.head.addWidget(widget)
        self._palette = palette
        self.telescope_card = self.add_card(3)
        self.settings_card = self.add_card(2)
        self.plan_card = self.add_card(3)
        self.ways = _WaysTable()
        self.add_below(self.ways)
        self.pulse_section = CollapsibleSection("Pulse over declination", self._build_pulse, self._draw_pulse)
        self.rotation_section = CollapsibleSection("Exposure, alt-azimuth", self._build_map, self._draw_map)
        self.add_below(self.pulse_section)
        self.add_below(self.rotation_section)
        self._kind.entered.connect(lambda _path, kind: self.set_kind(kind))
        self._taps.entered.connect(
            lambda path, part_id: session.set_value(path, part_id, "Change the off-axis guider tapped")
        )
        self.refresh()

    def _tappable(self) -> list[tuple[str, str]]:
        return [(part.id, part.title) for part in self.session.rig.train if part.prism is not None]

    def set_kind(self, kind: str) -> None:
        """Change the kind of guiding; the guide path is kept wherever the new kind can hold one."""
        if not self.session.set_guiding(kind):
            self.refresh()

    def _build_pulse(self) -> QWidget:
        from wyntaxis.desk.plots_compute import CalibrationPlot

        self.pulse_plot = CalibrationPlot()
        self.pulse_plot.refused.connect(self.session.refused)
        return self.pulse_plot

    def _draw_pulse(self) -> None:
        settings, use = self.session.rig.guiding.settings, guide_use(self.session.rig)
        self.pulse_plot.show_pulse(
            self.session.evaluation.value(GUIDE_SCALE),
            use.distance_px,
            use.pulses,
            use.rate_sidereal,
            use.declination_deg,
            settings.calibration_pulse_ms if settings is not None else None,
            self._palette,
        )

    def _build_map(self) -> QWidget:
        from wyntaxis.desk.plots_compute import RotationMap

        self.rotation_map = RotationMap()
        self.rotation_map.refused.connect(self.session.refused)
        return self.rotation_map

    def _draw_map(self) -> None:
        rig = self.session.rig
        self.rotation_map.show_map(
            rig.site.latitude_deg if rig.site else None,
            rig.sensor.corner_px if rig.sensor else None,
            guide_use(rig).drift_px,
            rig.plan.exposure_s if rig.plan else None,
            self._palette,
        )

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.pulse_section.refresh()
        self.rotation_section.refresh()

    def _show_ways(self) -> None:
        """Show scale and ratio through the prism and through a guide telescope, at every binning."""
        evaluation, rig = self.session.evaluation, self.session.rig
        camera, main = rig.guiding.camera, evaluation.value(PIXEL_SCALE)
        focal = evaluation.value(FOCAL_LENGTH)
        self.ways.setVisible(camera is not None and camera.sensor is not None and main is not None)
        if camera is None or camera.sensor is None or main is None or focal is None:
            return
        kind, optics = rig.guiding.kind, evaluation.guide_optics
        through = optics.focal_length_mm if optics is not None and optics.shares_main else focal
        ways = [("through a prism", through, kind == "off_axis")]
        if optics is not None and not optics.shares_main:
            ways.append(("telescope of its own", optics.focal_length_mm, True))
        use = guide_use(rig)
        centroid = guiding.CENTROID_ERROR_PX if "centroid_px" in use.usual else (use.centroid_px, use.centroid_px)
        rows = guiding.guide_rows(ways, camera.sensor.pixel_um, camera.sensor.binning, main, centroid)
        self.ways.show_ways(rows, self._palette)

    def refresh(self) -> None:
        super().refresh()
        if not hasattr(self, "telescope_card"):
            return
        self._show_ways()
        rig = self.session.rig
        self.settings_card.setVisible(rig.guiding.kind != "none")
        self.settings_card.show_object("Guide settings", ("guiding", "settings"), GUIDE_SETTINGS, rig)
        self.plan_card.show_object("Plan and mount", (), DRIFT_AND_MOUNT, rig)
        self.pulse_section.setVisible(rig.guiding.kind != "none")
        self.pulse_section.refresh()
        self.rotation_section.refresh()
        guiding = self.session.rig.guiding
        self._kind.show_value(guiding.kind)
        tappable = self._tappable()
        if [self._taps.itemData(i) for i in range(self._taps.count())] != [part_id for part_id, _ in tappable]:
            self._taps.clear()
            for part_id, title in tappable:
                self._taps.addItem(plain(title), part_id)
            widest = max((len(title) for _, title in tappable), default=4)
            self._taps.setMinimumContentsLength(min(widest, WIDEST_CHOICE))
        self._taps.show_value(guiding.taps)
        for widget in (self._taps, self._taps_label):
            widget.setVisible(guiding.kind == "off_axis")
        self.telescope_card.setVisible(guiding.telescope is not None)
        if guiding.telescope is not None:
            specs = telescope_specs(guiding.telescope)
            self.telescope_card.show_object("Guide telescope", ("guiding", "telescope"), specs, self.session.rig)


class _WaysTable(TextTable):
    """Guide scale and ratio for both kinds of guiding and every binning."""

    def __init__(self) -> None:
        headings = (
            "Guiding",
            "Bin",
            "Guide scale\n″/px",
            "Guide px in\nmain px",
            "Centroid error, good\nmain px",
            "poor\nmain px",
        )
        super().__init__("Ways to guide", headings)

    def show_ways(self, rows: list[guiding.GuideRow], palette: Palette) -> None:
        """Fill the table; what is in use is bold, each row's mark judges the centroid error."""
        allowed = guiding.ALLOWED_MAIN_PX
        texts = [
            [
                row.way,
                str(row.binning),
                number(row.scale_arcsec_px, 3),
                number(row.ratio, 2),
                number(row.good_main_px, 2),
                number(row.poor_main_px, 2),
            ]
            for row in rows
        ]
        verdicts = [
            Verdict.HOLDS
            if row.poor_main_px <= allowed
            else Verdict.TIGHT
            if row.good_main_px <= allowed
            else Verdict.FAILS
            for row in rows
        ]
        bold = [index for index, row in enumerate(rows) if row.in_use]
        self.show_rows(texts, verdicts=verdicts, palette=palette, bold=bold)
